"""The board in a real browser: a plan is looked at, a tower moved, a pull made with a live instrument that goes quiet, a stop."""

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from fairsquare.actions import Desk, measuring, pull_plans
from fairsquare.core.pull.job import ChainSet, PlanSaid, WorkPull
from fairsquare.job.facts.measure import NewReading
from fairsquare.stand_ins.vehicles import TEAL, instrument_reading, seed_of
from tests.browser.conftest import sign_in
from tests.browser.test_pages import violations
from tests.conftest import key

JOB = "SL-0003"
PLACES = {point.code: np.array(point.xyz) for point in TEAL.sheet.points}


@pytest.fixture(scope="module", autouse=True)
def planned(demo: list[str], desk: Desk, persons) -> None:
    """The Teal, decided and signed, with one pull of its right rear rail set by a person."""
    lead = persons["lead"]
    hold = desk.view(JOB).state.hold("decision_made")
    desk.sign(lead, key(), JOB, "decision_made", hold.evidence, "signed so that the pulls can be tried")
    chain = ChainSet(hook="at R3R", tower="rear", height_mm=330, force_n=45_000)
    pull_plans.keep_plan(desk, lead, key(), JOB, PlanSaid(school="outward", pulls=(WorkPull(chains=(chain,)),)), 0)


def read(desk: Desk, person, code: str, moved: tuple[float, float, float], *, loaded: bool) -> None:
    setup = desk.view(JOB).setup.number
    xyz = instrument_reading(PLACES[code] + np.array(moved), seed_of(JOB, setup), np.zeros(3))
    measuring.take_readings(
        desk, person, key(), JOB, setup, [NewReading(purpose="point", code=code, xyz=xyz, said=code, loaded=loaded)]
    )


def test_a_pull_on_the_board(page: Page, desk: Desk, persons) -> None:
    sign_in(page)
    page.goto(f"/jobs/{JOB}/pulls")
    expect(page.locator(".holds")).to_contain_text("It holds")
    assert violations(page) == []
    tower = page.locator("[data-tower='rear']")
    tower.focus()
    page.keyboard.press("ArrowDown")
    expect(page.locator("#keep-tower")).to_be_visible()
    expect(page.locator("#tower-words")).to_contain_text("rear:")
    page.goto(f"/jobs/{JOB}/pulls")

    page.click("text=Begin pull 1")
    page.wait_for_url("**/board")
    expect(page.locator(".board-say")).to_contain_text("BEFORE TENSION")
    assert violations(page) == []
    for box in page.locator(".board-cautions input[type=checkbox]").all():
        box.check()
    page.click("text=Light test pull")
    page.click("text=Test pull is good")
    page.check("[name=tick-clamps]")
    page.click(".board-actions .first")
    expect(page.locator(".board-say")).to_contain_text("PULL ON, SLOWLY")
    size = page.locator(".board-figure b").first.evaluate("one => parseFloat(getComputedStyle(one).fontSize)")
    assert size >= 128

    ngozi = persons["technician"]
    code = page.locator(".board-point").first.get_attribute("data-code")
    was = np.array(TEAL.moved[code])
    read(desk, ngozi, code, 0.8 * was, loaded=True)
    point = page.locator(f"[data-code={code}]")
    expect(point.locator(".board-figure")).not_to_contain_text("as last read free")
    expect(page.locator("#quiet")).to_be_visible(timeout=5000)
    expect(page.locator("#quiet")).to_contain_text("NO READING")
    read(desk, ngozi, code, 0.5 * was, loaded=True)
    expect(page.locator("#quiet")).to_be_hidden()
    page.reload()
    expect(page.locator(".board-say")).to_contain_text("PULL ON, SLOWLY"), "it comes back where it was"

    read(desk, ngozi, code, -6.0 * was, loaded=True)
    expect(page.locator(".board-say")).to_contain_text("STOP")
    expect(page.locator(".stop-shape")).to_be_visible()
    page.click("button:has-text('Let go, then read free')")
    expect(page.locator(".board-say")).to_contain_text("READ FREE")
    for other in [one.get_attribute("name").removeprefix("after-") for one in page.locator("[name^=after-]").all()]:
        read(desk, ngozi, other, (1.0, 0.5, 0.5), loaded=False)
        page.fill(f"[name=loaded-{other}]", "+2.5")
        expect(page.locator(f"[name=after-{other}]")).not_to_have_value("")
    page.check("[name=looked]")
    page.check("[name=dolly]")
    page.click("button:has-text('End this pull')")
    page.wait_for_url("**/pulls*")
    page.goto(f"/jobs/{JOB}/board")
    expect(page.locator("svg.cycles")).to_be_visible()
    assert violations(page) == []
    assert desk.view(JOB).facts.pull_events[-1].after.dolly


def test_the_board_upright_and_the_rig(tablet: Page) -> None:
    sign_in(tablet)
    tablet.goto(f"/jobs/{JOB}/pulls")
    wide = tablet.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth")
    assert wide <= 0
    tablet.goto("/rig")
    assert violations(tablet) == []
