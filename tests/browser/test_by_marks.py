"""Pulled without an instrument: the Heron's twist and skew by tape, gauges and marks, the Puffin drawn square and bent back."""

from collections.abc import Iterator

import numpy as np
import pytest
from playwright.sync_api import Page, expect

from fairsquare.actions import Desk, measuring
from fairsquare.actions.hearing import reading_of
from fairsquare.core.pull.job import along
from fairsquare.demo.by_hand import ByHand
from fairsquare.job.measure.calls import Context, understand_call
from fairsquare.job.pull.board import board_of, setting_of
from fairsquare.stand_ins.vehicle import SimulatedVehicle
from fairsquare.stand_ins.vehicles import HERON, seed_of
from fairsquare.words.tell import tell
from tests.browser.conftest import sign_in
from tests.browser.test_straightened import keep_best, pull_home, under_tension
from tests.conftest import key
from tests.pulling import decide_all, pulled_by

HERON_JOB, PUFFIN_JOB = "SL-0004", "SL-0001"
STATIONS = ("F3", "F2", "F1", "C1", "C2", "C3", "R1", "R2", "R3")


pytestmark = pytest.mark.usefixtures("demo")


def calls(by_hand: ByHand, stations: tuple[str, ...]) -> Iterator[str]:
    """Yield what is called out to read stations by hand: gauge, heights, offsets, spans along, across and to the middle."""
    for station in stations:
        yield by_hand.gauge(station)
        for side in "LR":
            yield by_hand.height(station + side)
            yield by_hand.offset(station + side)
        index = STATIONS.index(station)
        for other in STATIONS[max(0, index - 1) : index] + (() if station.startswith("C") else ("C2",)):
            yield by_hand.span(other + "L", station + "L")
            yield by_hand.span(other + "R", station + "R")
            if abs(STATIONS.index(other) - index) == 1:
                yield by_hand.span(other + "L", station + "R")
                yield by_hand.span(other + "R", station + "L")


def take(desk: Desk, person, job: str, said: Iterator[str]) -> None:
    """Record calls as they are called out."""
    view, tools = desk.view(job), desk.tools()
    context = Context(
        places={point.code: point.xyz for point in view.facts.sheet.points},
        pin_mm=next(tool.pin_mm for tool in tools if tool.kind == "gauges"),
    )
    taken = [reading_of(understand_call(text, context), text, tools) for text in said]
    measuring.take_readings(desk, person, key(), job, view.setup.number, taken)


def pull_set_by_hand(page: Page, *chains: tuple[str, str, str, str], first: bool) -> None:
    """Type a pull: hook, tower, height and force of each chain."""
    page.click("summary:has-text('Or set the first pull yourself')" if first else "summary:has-text('Change pull')")
    for k, (hook, tower, height, force) in enumerate(chains):
        page.select_option(f"[name=hook-{k}] >> visible=true", hook)
        page.select_option(f"[name=tower-{k}] >> visible=true", tower)
        page.fill(f"[name=height-{k}] >> visible=true", height)
        page.fill(f"[name=force-{k}] >> visible=true", force)
    if not first:
        for k in range(len(chains), 6):
            if page.locator(f"[name=hook-{k}] >> visible=true").count():
                page.select_option(f"[name=hook-{k}] >> visible=true", "")
    page.click("button:has-text('Add the pull')" if first else "button:has-text('Add it as another pull')")
    page.wait_for_url("**/pulls?pull=*")


def pumped_to_the_marks(desk: Desk, job: str, vehicle: SimulatedVehicle, tape: np.random.Generator) -> dict[str, float]:
    """Pump until every watched point that is to move stands at its mark, or one at its limit; return where tape reads them."""
    view = desk.view(job)
    board, setting, sheet = board_of(view.facts), setting_of(view.facts), view.facts.sheet
    work = board.plan.plan.pulls[board.pull - 1]
    wanted = [point for point in board.points if point.advice and point.advice.pull_to_mm is not None]
    seen: dict[str, float] = {}
    for _ in range(400):
        vehicle.step("pulling", board.pull, board.cycle, work, setting, [])
        places = vehicle.places()
        seen = {
            p.watched.code: along(p.watched, sheet, tuple(places[p.watched.code])) + tape.normal(0, 0.5)
            for p in board.points
        }
        passed = any(seen[p.watched.code] > p.advice.must_not_pass_mm for p in wanted)
        if passed or all(seen[p.watched.code] >= p.advice.pull_to_mm for p in wanted):
            break
    return seen


def by_marks(page: Page, desk: Desk, job: str, vehicle: SimulatedVehicle, tape: np.random.Generator) -> None:
    """One pull on the board, by marks, in as many cycles as it takes."""
    for _ in range(6):
        under_tension(page)
        expect(page.locator(".marks").first).to_contain_text("marks ahead of where it stands: home")
        loaded = pumped_to_the_marks(desk, job, vehicle, tape)
        page.click("button:has-text('Let go, then read free')")
        expect(page.locator(".board-say")).to_contain_text("READ FREE")
        view = desk.view(job)
        board, setting = board_of(view.facts), setting_of(view.facts)
        work = board.plan.plan.pulls[board.pull - 1]
        vehicle.step("read_free", board.pull, board.cycle, work, setting, [])
        places, short = vehicle.places(), False
        for point in board.points:
            w = point.watched
            after = along(w, view.facts.sheet, tuple(places[w.code])) + tape.normal(0, 0.5)
            page.fill(f"[name=loaded-{w.code}]", f"{max(loaded[w.code], after):+.1f}")
            page.fill(f"[name=after-{w.code}]", f"{after:+.1f}")
            short = short or after < w.target_mm - w.tolerance_mm
        page.check("[name=looked]")
        page.click("button:has-text('Pull again')" if short else "button:has-text('End this pull')")
        if not short:
            break
    page.wait_for_url("**/pulls*")


def test_the_herons_twist_and_skew_by_tape_gauges_and_a_jack(page: Page, desk: Desk, persons) -> None:
    ngozi = persons["technician"]
    places = HERON.true_places(seed_of(HERON_JOB))
    take(desk, ngozi, HERON_JOB, calls(ByHand(places, 5), ("F3", "R2", "R3")))
    decide_all(desk, persons, HERON_JOB)
    sign_in(page)
    page.goto(f"/jobs/{HERON_JOB}/pulls")
    pull_set_by_hand(page, ("at F2L", "floor pot", "50", "29"), ("at F3R", "gantry", "1200", "18"), first=True)
    expect(page.locator(".pull-list")).to_contain_text("undoes twist")
    pull_set_by_hand(page, ("at F2L", "frame jack", "0", "268"), first=False)
    expect(page.locator(".pull-list > li")).to_have_count(2)
    expect(page.locator(".pull-list")).to_contain_text("at F2L → frame jack")

    vehicle = SimulatedVehicle(HERON.sheet, places, seed_of(HERON_JOB))
    tape = np.random.default_rng(8)
    for number in (1, 2, 1):
        page.goto(f"/jobs/{HERON_JOB}/pulls?pull={number}")
        page.click(f"text=Begin pull {number}")
        by_marks(page, desk, HERON_JOB, vehicle, tape)

    truth = vehicle.places()
    for point in HERON.sheet.points:
        assert np.abs(truth[point.code] - point.xyz).max() < 5.5, f"{point.code} is home, in truth"
    after = ByHand({code: np.array(place) for code, place in truth.items()}, 6)
    take(desk, ngozi, HERON_JOB, calls(after, STATIONS[3:]))
    page.goto(f"/jobs/{HERON_JOB}/measure?seen=readings")
    wanted = len(desk.view(HERON_JOB).facts.readings)
    for said in calls(after, STATIONS[:3]):
        page.fill("#call", said)
        page.press("#call", "Enter")
        expect(page.locator("#call")).to_have_value("")
        wanted += 1
        for _ in range(100):
            if len(desk.view(HERON_JOB).facts.readings) >= wanted:
                break
            page.wait_for_timeout(50)
    assert len(desk.view(HERON_JOB).facts.readings) == wanted
    hold = desk.view(HERON_JOB).state.hold("pulls_done")
    assert not hold.blocked, hold.missing
    judged = desk.view(HERON_JOB).state.picture.judged
    assert {one.state for one in judged.values()} <= {"fair", "close"}
    assert judged["F2L"].deviation[0] == pytest.approx(truth["F2L"][0] - 2240, abs=4)


def off_points(desk: Desk) -> list[str]:
    """Return what demands of the Puffin say of points out of tolerance."""
    hold = desk.view(PUFFIN_JOB).state.hold("pulls_done")
    return [told for one in hold.missing if "out of tolerance" in (told := tell(one.said))]


def test_the_puffin_drawn_square_and_its_rail_bent_back(page: Page, server: str, desk: Desk, persons) -> None:
    decide_all(desk, persons, PUFFIN_JOB)
    sign_in(page)
    with pulled_by(server, PUFFIN_JOB) as tower:
        for _ in range(2):  # what is left after a plan is planned again
            page.goto(f"/jobs/{PUFFIN_JOB}/pulls")
            keep_best(page)
            for number in range(1, page.locator(".pull-list > li").count() + 1):
                pull_home(page, PUFFIN_JOB, number)
            if not off_points(desk):
                break
        truth = tower.places()
    spans = [np.linalg.norm(truth[a] - truth[b]) for a, b in (("T1L", "C1R"), ("T1R", "C1L"))]
    assert abs(spans[0] - spans[1]) < 6, "its front bay is square again"
    assert abs(truth["C2R"][1] + 720) < 3, "the rail is straight between its cross members"
    assert not off_points(desk)
