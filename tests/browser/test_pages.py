"""Every page in both lights without a violation that axe-core finds; the drawing; the line that drops; the database that dies."""

from pathlib import Path

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from fairsquare.actions import Desk, measuring
from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.stand_ins.vehicles import DUNLIN, instrument_reading, seed_of
from fairsquare.store.jobs import JobDetails
from tests.browser.conftest import sign_in
from tests.conftest import key

AXE = (Path(__file__).parent / "vendor" / "axe.min.js").read_text(encoding="utf-8")
PLACES = {point.code: np.array(point.xyz) for point in DUNLIN.sheet.points}
JOB, LATE, NEW = "SL-0005", "SL-0006", "SL-0007"
PAGES = (
    "/",
    "/?q=nothing-like-it",
    "/jobs/new",
    "/people",
    "/own",
    "/keys",
    "/help",
    "/calculations",
    "/api/docs",
    "/rig",
    "/rig?place=hole&thickness_mm=2&rm_mpa=400&diameter_mm=20&edge_mm=30",
    f"/jobs/{NEW}/pulls",
    f"/jobs/{NEW}/board",
    f"/jobs/{JOB}/pulls",
    f"/jobs/{NEW}/take-in",
    f"/jobs/{NEW}/sheet",
    f"/jobs/{NEW}/measure",
    f"/jobs/{NEW}/walk-round",
    f"/jobs/{NEW}/damage",
    f"/jobs/{NEW}/decide",
    f"/jobs/{NEW}/supplements",
    f"/jobs/{NEW}/parts",
    f"/jobs/{JOB}/walk-round",
    f"/jobs/{JOB}/damage",
    f"/jobs/{JOB}/decide?member=right+front+rail&layer=outer",
    f"/jobs/{JOB}/decide?member=left+sill",
    "/jobs/SL-0003/holds/decision_made",
    f"/jobs/{JOB}/sheet?a=F4L&b=C1R",
    f"/jobs/{JOB}/set-up",
    f"/jobs/{NEW}/set-up",
    f"/jobs/{JOB}/measure?point=F4R",
    f"/jobs/{JOB}/measure?seen=ends",
    f"/jobs/{JOB}/why/F4R",
    f"/jobs/{JOB}/fit",
    f"/jobs/{JOB}/holds/made_safe",
    f"/jobs/{JOB}/holds/fit_accepted",
    f"/jobs/{JOB}/record",
    f"/jobs/{JOB}/sheet?edit=true",
    "/jobs/SL-0003/set-up",
    "/jobs/SL-0003/holds/setup_accepted",
    "/jobs/SL-0003/measure",
    "/jobs/SL-0004/measure",
    "/jobs/SL-0004/measure?seen=gauges&point=F1L",
    "/jobs/SL-0004/measure?seen=readings",
    "/jobs/SL-0004/set-up",
    "/jobs/SL-0004/settings",
    "/jobs/SL-0004/why/F2L",
    "/jobs/SL-0004/sheet/comparative?basis=straight",
    "/jobs/SL-0004/sheet/comparative?basis=mirror",
    "/jobs/SL-0004/sheet/comparative?basis=sister",
    f"/jobs/{LATE}/fit",
    f"/jobs/{LATE}/fit/panels",
    f"/jobs/{LATE}/fit/list",
    f"/jobs/{LATE}/bond",
    f"/jobs/{LATE}/bond/plan",
    f"/jobs/{LATE}/weld",
    f"/jobs/{LATE}/seams/1",
    f"/jobs/{LATE}/seams/1/plan",
    f"/jobs/{LATE}/finish",
    f"/jobs/{LATE}/holds/released",
    f"/jobs/{NEW}/bond",
    f"/jobs/{NEW}/weld",
    "/clocks",
    "/tools",
    "/?closed=1",
    "/nowhere",
)


@pytest.fixture(scope="module", autouse=True)
def just_taken_in(demo: list[str], desk: Desk, persons) -> None:
    """Beside the demo's jobs one that was just taken in and made safe."""
    lead = persons["lead"]
    made = desk.open_job(lead, key(), JobDetails(vehicle="Sandpiper launch trailer", construction="trailer"))
    assert made == NEW
    for item in SAFETY_ITEMS:
        desk.answer_safety(lead, key(), made, item.key, "absent")
    desk.sign(lead, key(), made, "made_safe", desk.view(made).state.hold("made_safe").evidence, "")


def call(code: str, moved=(0.0, 0.0, 0.0)) -> str:
    xyz = instrument_reading(PLACES[code] + np.array(moved), seed_of(JOB, 1), np.zeros(3))
    return f"{code.lower()} {xyz[0]} {xyz[1]} {xyz[2]}"


ALL_RULES = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
OF_COLOURS = {"type": "rule", "values": ["color-contrast", "link-in-text-block"]}
"""All that the other light can make different."""


def violations(page: Page, only: list[str] | dict = ALL_RULES) -> list[str]:
    page.evaluate(AXE)
    lean = {"runOnly": only, "resultTypes": ["violations"], "selectors": False, "preload": False}
    found = page.evaluate("options => axe.run(document, options)", lean)
    return [
        f"{v['id']}: {node['html'][:160]} {node['failureSummary'][:300]}"
        for v in found["violations"]
        for node in v["nodes"]
    ]


@pytest.mark.parametrize("mode", ["light", "shop"])
def test_axe_finds_nothing(page: Page, server: str, desk: Desk, persons, mode) -> None:
    page.goto("/sign-in")
    page.context.add_cookies([{"name": "mode", "value": mode, "url": server}])
    page.reload()
    only = OF_COLOURS if mode == "shop" else ALL_RULES
    found = {"/sign-in": violations(page, only)}
    sign_in(page, "solveig", "north-light-12")
    record = f"/records/{desk.make_record(persons['lead'], key(), JOB)}"
    for path in (*PAGES, record):
        page.goto(path)
        assert page.evaluate("document.documentElement.dataset.bsTheme") == ("dark" if mode == "shop" else "light")
        found[path] = violations(page, only)
    page.goto(f"/jobs/{NEW}/sheet")
    page.fill("[name=table]", "code,length,width,height\nA,nan,2,3\nB,1,2,3\n")
    page.click("text=Show what it says")
    page.wait_for_selector(".lines")
    found["preview"] = violations(page, only)
    assert {path: faults for path, faults in found.items() if faults} == {}


def test_the_drawing_and_the_table_select_in_each_other(page: Page) -> None:
    sign_in(page)
    page.goto(f"/jobs/{JOB}/measure")
    page.click(".readings a:has-text('F4R')")
    page.wait_for_url("**point=F4R")
    expect(page.locator(".structure .pt.chosen")).to_have_count(2)
    page.locator(".view-plan .pt[data-code=F5L]").click()
    page.wait_for_url("**point=F5L")
    expect(page.locator(".readings tr.chosen")).to_have_attribute("data-code", "F5L")
    page.go_back()
    expect(page.locator(".chip")).to_have_text("F4R")


def test_movement_is_drawn_by_the_factor_beside_it(page: Page) -> None:
    sign_in(page)
    page.goto(f"/jobs/{JOB}/measure")

    def reach() -> float:
        return page.evaluate(
            """() => { const p = document.querySelector('.view-plan .pt[data-code=F5R]');
                 const home = p.dataset.way.split(',').map(Number);
                 const at = p.querySelector('.s-mark .s-frame').getAttribute('d').match(/-?[0-9.]+/g).map(Number);
                 return Math.hypot(at[0] + 5.5 - home[0], at[1] + 5.5 - home[1]); }"""
        )

    ten = reach()
    page.locator("[data-factor-slider]").fill("20")
    expect(page.locator(".factor output")).to_have_text("×20")
    assert reach() == pytest.approx(2 * ten, rel=0.02)
    page.reload()
    expect(page.locator(".factor output")).to_have_text("×20")
    assert reach() == pytest.approx(2 * ten, rel=0.02)


def test_zoom_and_fit_by_keys_wheel_and_button(page: Page) -> None:
    sign_in(page)
    page.goto(f"/jobs/{JOB}/measure")
    svg = page.locator("[data-drawing] svg.structure")
    whole = svg.get_attribute("viewBox")
    svg.hover()
    page.mouse.wheel(0, -300)
    expect(svg).not_to_have_attribute("viewBox", whole)
    page.click("[data-zoom=fit]")
    expect(svg).to_have_attribute("viewBox", whole)
    page.locator(".pane-head a").first.focus()
    page.keyboard.press("+")
    expect(svg).not_to_have_attribute("viewBox", whole)
    page.keyboard.press("0")
    expect(svg).to_have_attribute("viewBox", whole)
    page.keyboard.press("/")
    expect(page.locator("#call")).to_be_focused()
    page.keyboard.press("Escape")
    page.keyboard.press("?")
    page.wait_for_url("**/help")
    page.click("text=Single keys are on: switch them off")
    page.keyboard.press("Escape")
    page.locator("h1").click()
    page.keyboard.press("g")
    page.wait_for_timeout(200)
    assert page.url.endswith("/help"), "single keys can be switched off"
    page.click("text=Single keys are off: switch them on")
    page.locator("h1").click()
    page.keyboard.press("g")
    page.wait_for_url("**/")


def test_when_the_connection_drops_what_is_called_is_kept_and_sent_once(page: Page, desk: Desk) -> None:
    sign_in(page)
    page.goto(f"/jobs/{JOB}/measure")
    page.wait_for_load_state("networkidle")
    before = len(desk.view(JOB).facts.readings)
    page.context.set_offline(True)
    for code in ("R2L", "R2R"):
        page.fill("#call", call(code))
        page.press("#call", "Enter")
        expect(page.locator("#kept")).to_contain_text(code.lower())
    expect(page.locator("#line")).to_contain_text("No connection")
    assert page.input_value("#call") == ""
    page.context.set_offline(False)
    expect(page.locator(".tallies")).to_contain_text("18 of 20 points", timeout=15_000)
    expect(page.locator("#kept")).to_be_hidden()
    assert len(desk.view(JOB).facts.readings) == before + 2


def test_the_database_dies_between_two_readings(page: Page, mariadb, desk: Desk) -> None:
    sign_in(page)
    page.goto(f"/jobs/{JOB}/measure?point=R3L")
    before = {r.said for r in desk.view(JOB).facts.readings}
    page.fill("#call", call("R3L"))
    page.press("#call", "Enter")
    expect(page.locator(".chip")).to_have_text("R3L")
    expect(page.locator(".tallies")).to_contain_text("19 of 20 points")
    mariadb.kill()
    page.fill("#call", call("R3R"))
    page.press("#call", "Enter")
    expect(page.locator("#line")).to_contain_text("The database does not answer", timeout=20_000)
    expect(page.locator("#kept")).to_contain_text("r3r")
    mariadb.restart()
    expect(page.locator(".tallies")).to_contain_text("20 of 20 points", timeout=30_000)
    expect(page.locator("#line")).to_be_hidden()
    after = {r.said for r in desk.view(JOB).facts.readings}
    assert after - before == {call("R3L"), call("R3R")}
    page.reload()
    expect(page.locator(".tallies")).to_contain_text("20 of 20 points")


def test_what_the_instrument_sends_shows_by_itself(page: Page, desk: Desk, persons) -> None:
    from fairsquare.job.facts.measure import NewReading

    sign_in(page)
    page.goto(f"/jobs/{JOB}/measure?point=F3L")
    expect(page.locator(".said-words")).to_contain_text("1 reading")
    page.fill("#call", "half a call")
    text = call("F3L", DUNLIN.moved["F3L"])
    xyz = tuple(float(v) for v in text.split()[1:])
    measuring.take_readings(
        desk, persons["technician"], key(), JOB, 1, [NewReading(purpose="point", code="F3L", xyz=xyz, said=text)]
    )
    expect(page.locator(".said-words")).to_contain_text("2 readings")
    assert page.input_value("#call") == "half a call", "the call line is left alone"


def test_a_file_that_is_too_large_is_said_before_it_is_sent(page: Page, tmp_path) -> None:
    sign_in(page)
    page.goto(f"/jobs/{NEW}/sheet")
    large = tmp_path / "large.csv"
    large.write_bytes(b"x" * (9 * 1024 * 1024))
    page.set_input_files("[name=file]", large)
    assert "larger than 8 MB" in page.evaluate("document.querySelector('[name=file]').validationMessage")


def test_calling_faster_than_the_server_answers_loses_nothing(page: Page, desk: Desk, persons) -> None:
    """One who calls without waiting: each call is taken in order, once; a wrong one is kept beside the line."""
    number = desk.view(JOB).setup.number
    before = len(desk.view(JOB).facts.readings)
    sign_in(page)
    page.goto(f"/jobs/{JOB}/measure")
    page.route("**/readings", lambda route: (page.wait_for_timeout(300), route.continue_())[1])
    for text in (call("F2L"), call("F2R"), "f9z 1 2 3", call("F3R")):
        page.keyboard.insert_text(text)
        page.keyboard.press("Enter")
    page.keyboard.insert_text("half of the ne")
    expect(page.locator("#kept")).to_contain_text("f9z 1 2 3", timeout=15_000)
    expect(page.locator("#kept")).to_contain_text("F9Z".lower())
    assert page.input_value("#call") == "half of the ne"
    after = desk.view(JOB).facts.readings[before:]
    assert [(r.code, r.setup) for r in after] == [("F2L", number), ("F2R", number), ("F3R", number)]
    page.click("text=put it back on the call line")
    assert page.input_value("#call") == "f9z 1 2 3"
    expect(page.locator("#kept")).to_be_hidden()
