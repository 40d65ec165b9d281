"""With whatever the shop has: the Heron by keyboard, the Dunlin live with a bump, offline and back, two tablets at once."""

import httpx
import pytest
from playwright.sync_api import Browser, Page, expect

from fairsquare.actions import Desk, measuring
from fairsquare.demo.by_hand import SOUND, ByHand
from fairsquare.demo.people import INSTRUMENT
from fairsquare.stand_ins.client import Line
from fairsquare.stand_ins.instrument import Faults, SimulatedInstrument
from fairsquare.stand_ins.vehicles import DUNLIN, HERON, seed_of
from tests.browser.conftest import sign_in, watched
from tests.browser.test_whole_job import Keys
from tests.conftest import key

LIVE = "SL-0005"
"""The demo's Dunlin, which is set up and read but for its rear rails."""
REFERENCES = [point.code for point in DUNLIN.sheet.points if point.reference]


pytestmark = pytest.mark.usefixtures("demo")


def post_all(server: str, arm_faults: Faults, codes, purpose: str, before=None) -> list[str]:
    """Have a simulated instrument post readings of the live job; return what was refused."""
    with httpx.Client(base_url=server, timeout=20) as client:
        arm = SimulatedInstrument(Line(client, INSTRUMENT.name, INSTRUMENT.password), arm_faults, seed=3)
        for code in codes:
            reading = {**arm.read(LIVE, 1, code), "purpose": purpose}
            arm.line.put_aside(LIVE, 1, [reading], "Simulated arm", key())
            arm.line.send()
        return [why for _, why in arm.line.refused]


def test_the_heron_by_keyboard_from_take_in_to_a_judged_picture(page: Page, desk: Desk) -> None:
    keys = Keys(page)
    keys.sign_in("ngozi", "tide-tables-40")
    keys.enter("a[href='/jobs/new']")
    expect(page.locator("[name=vehicle]")).to_be_focused()
    keys.write("Heron 40 flatbed")
    keys.to("[name=construction]")
    keys.press("b")
    keys.to("[name=hit_where]")
    keys.press("u")
    keys.to("[name=hit_words]")
    keys.write("one wheel dropped off the edge of a slipway")
    keys.enter("form .btn-primary")
    page.wait_for_url("**/take-in")
    job = page.url.split("/")[-2]
    keys.make_safe_and_accept(job, HERON.sheet)
    expect(page.get_by_text("18 points, 8 references")).to_be_visible()

    keys.enter(f"a[href='/jobs/{job}/set-up']")
    page.wait_for_url("**/set-up")
    keys.to("[name=kind]", "Shift+Tab")
    keys.press("ArrowDown")
    expect(page.locator("[name=kind][value=sight]")).to_be_checked()
    keys.enter("form .btn-primary")
    expect(page.get_by_text("Which points stand on sound frame?")).to_be_visible()
    for code in SOUND:
        keys.to(f"[name=sound][value={code}]")
        keys.press("Space")
    keys.to("[name=reason]")
    keys.write("unmarked behind the cab mounts, paint whole")
    keys.enter("form .btn-primary")
    expect(page.get_by_text("Chosen by Ngozi Adeyemi")).to_be_visible()
    keys.enter("a[href$='/measure?seen=readings'].btn-primary")
    page.wait_for_url("**/measure?seen=readings")

    by_hand = ByHand(HERON.true_places(seed_of(job)), 417)
    expect(page.locator("#call")).to_be_focused()
    for call in by_hand.on_sound_frame():
        keys.write(call)
        expect(page.locator("#understood")).to_contain_text("Enter to take")
        keys.press("Enter")
        expect(page.locator(".all-readings tbody tr").first).to_contain_text(call)
    keys.press("Escape")
    keys.enter("a[href$='/holds/setup_accepted'].btn")
    page.wait_for_url("**/holds/setup_accepted")
    keys.press_focused(".hold-page .btn-primary")
    page.wait_for_url("**/set-up")
    keys.press("Escape")
    keys.enter(f"a[href='/jobs/{job}/measure']")
    page.wait_for_url("**/measure")
    expect(page.locator("#call")).to_be_focused()
    for call in by_hand.ahead():
        keys.write(call)
        keys.press("Enter")
    expect(page.locator(".tallies")).to_contain_text("12 of 18 points", timeout=30_000)
    expect(page.locator(".tallies")).to_contain_text("1 to settle")
    page.wait_for_function(
        "() => Object.keys(localStorage).every(k => !k.startsWith('kept:') || localStorage[k] === '[]')"
    )
    view = desk.view(job)
    assert view.state.picture.judged["F2R"].state == "off"
    expect(page.locator("[data-revision]")).to_have_attribute("data-revision", str(view.job.revision))

    keys.press("Escape")
    keys.enter("a[href^='?seen=readings']")
    page.wait_for_url("**seen=readings**")
    expect(page.get_by_text("This reading contradicts the others.")).to_be_visible()
    keys.press("Escape")
    keys.enter(".doubt summary")
    keys.to(".doubt [name=reason]")
    keys.write("the pointer had slipped")
    keys.enter(".doubt .btn-outline-danger")
    expect(page.locator(".tallies")).not_to_contain_text("to settle")
    expect(page.locator(".all-readings")).to_contain_text("kept out by Ngozi Adeyemi: the pointer had slipped")
    keys.press("Escape")
    keys.enter("a[href^='?seen=gauges']")
    page.wait_for_url("**seen=gauges**")
    expect(page.locator(".gauge-row")).to_contain_text("F2L, F2R")
    expect(page.locator(".next-line")).to_contain_text("Next")


def test_the_live_dunlin_with_a_bump_in_the_middle(page: Page, server: str, desk: Desk) -> None:
    sign_in(page)
    page.goto(f"/jobs/{LIVE}/measure")
    expect(page.locator(".tallies")).to_contain_text("16 of 20 points")
    assert post_all(server, Faults(), ["R2L", "R2R"], "point") == []
    expect(page.locator(".tallies")).to_contain_text("18 of 20 points", timeout=3_000)
    assert post_all(server, Faults(loaded_after=0), ["R3L"], "point") == []
    expect(page.locator(".tallies")).to_contain_text("under load", timeout=3_000)
    expect(page.locator(".tallies")).to_contain_text("only under loadR3L")
    refused = post_all(server, Faults(bump_after=0), [*REFERENCES[:2], "R3R"], "reference")
    assert any("references read again are off" in why for why in refused), refused
    expect(page.get_by_text("There is no set-up in force").first).to_be_visible(timeout=6_000)
    page.goto(f"/jobs/{LIVE}/set-up")
    expect(page.get_by_text("references read again are off").first).to_be_visible()


def test_offline_and_back_every_call_once_in_order_with_its_own_time(page: Page, desk: Desk) -> None:
    job = "SL-0004"
    sign_in(page)
    page.goto(f"/jobs/{job}/measure?seen=readings")
    page.wait_for_load_state("domcontentloaded")
    before = len(desk.view(job).facts.readings)
    page.context.set_offline(True)
    calls = ["f3l c1l 2112", "f3r c1r 2108", "f3l c1r 2252"]
    for call in calls:
        page.fill("#call", call)
        page.press("#call", "Enter")
        expect(page.locator("#kept")).to_contain_text(call)
    expect(page.locator("#line")).to_contain_text("No connection")
    page.wait_for_timeout(1500)
    page.context.set_offline(False)
    expect(page.locator(".all-readings tbody tr").first).to_contain_text(calls[-1], timeout=15_000)
    expect(page.locator("#kept")).to_be_hidden()
    taken = desk.view(job).facts.readings[before:]
    assert [r.said for r in taken] == calls
    assert all(r.called_at is not None and r.called_at < r.by.at for r in taken)


def test_two_tablets_on_one_job_at_once(browser: Browser, server: str, desk: Desk) -> None:
    job = "SL-0004"
    before = len(desk.view(job).facts.readings)
    opened = []
    for name, password in (("ngozi", "tide-tables-40"), ("mateus", "slipway-rope-7")):
        context = browser.new_context(viewport={"width": 800, "height": 1280}, has_touch=True, base_url=server)
        tablet, faults = watched(context, server)
        sign_in(tablet, name, password)
        tablet.goto(f"/jobs/{job}/measure?seen=readings")
        opened.append((context, tablet, faults))
    for number in range(4):
        for side, (_, tablet, _) in zip("lr", opened, strict=True):
            tablet.fill("#call", f"r2{side} c3{side} {1842 + number}")
            tablet.press("#call", "Enter")
    for _, tablet, _ in opened:
        for side in "lr":
            expect(tablet.locator(".all-readings")).to_contain_text(f"r2{side} c3{side} 1845", timeout=10_000)
    taken = desk.view(job).facts.readings[before:]
    assert len(taken) == 8
    for side, who in (("l", "Ngozi Adeyemi"), ("r", "Mateus Figueira")):
        own = [r.said for r in taken if r.by.name == who]
        assert own == [f"r2{side} c3{side} {1842 + number}" for number in range(4)]
    for context, _, faults in opened:
        context.close()
        assert faults == []


def test_the_sound_points_follow_what_others_record(page: Page, desk: Desk, persons) -> None:
    job = "SL-0004"
    sign_in(page)
    page.goto(f"/jobs/{job}/set-up")
    page.fill("[name=reason]", "half a sentence that is not")
    shown = page.locator("#picture .verdict-line")
    before = shown.inner_text()
    page.wait_for_function("document.querySelector('[data-live]') && window.htmx")
    view = desk.view(job)
    last = next(r.id for r in reversed(view.facts.readings) if r.taken_back is None)
    measuring.take_back(desk, persons["lead"], key(), job, last)
    expect(shown).not_to_have_text(before)
    expect(page.locator("[name=reason]")).to_have_value("half a sentence that is not")
