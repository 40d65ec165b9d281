"""What slips while it is pulled, and what driving and loading take back afterwards, from facts alone."""

import statistics

import numpy as np
import pytest

from fairsquare.core.axes import apply_pose
from fairsquare.core.pull.job import AfterPull, PlanSaid, PointCycle, plan_request
from fairsquare.core.pull.relaxing import PRIOR
from fairsquare.job.facts.pulls import SettlingFact
from fairsquare.job.pull.settling import (
    SettledPoint,
    expected_settling,
    learned,
    open_settling,
    pulled_ways,
    settled_points,
    stands_free,
    taken_back,
)
from fairsquare.job.pull.slip import SLIP_MM, held_as_planned, slips_now, voided_last
from fairsquare.job.went import JobWent, Past
from fairsquare.stand_ins.vehicles import DUNLIN
from tests.job.facts import changed, facts, movement, reading
from tests.job.test_board import FORWARD, PULL, SETTING, event, pulled, who

PLACES = {point.code: np.array(point.xyz) for point in DUNLIN.sheet.points}
ANCHOR = SETTING.anchors[0]
ON = (event(1, "cautions", watched=(FORWARD,)), event(2, "test"), event(3, "look"), event(4, "pulling"))


def read_under_load(code: str, *moved: tuple[float, float, float], minute: int = 5):
    """Return readings of a point under load, one after the other, after the pull was begun."""
    return tuple(
        reading(900 + k, code, moved=way, loaded=True).model_copy(update={"by": who(minute + k)})
        for k, way in enumerate(moved)
    )


def pulling(*loaded, events=ON):
    job = pulled(*events)
    return changed(job, readings=(*job.readings, *loaded))


def expected_mm(code: str) -> float:
    """Return how far the clamp's stiffness lets it go at the planned force: the movement of a rigid body at its place."""
    moves = held_as_planned(pulled(*ON), PULL)[0].movement
    turned = apply_pose(np.eye(3) + np.cross(np.eye(3), np.array(moves.rotation_rad)), np.zeros(3), PLACES[code][None])
    return float(np.linalg.norm(np.array(moves.translation) + turned[0] - PLACES[code]))


def test_a_clamp_slips_where_it_goes_farther_than_its_stiffness_lets_it() -> None:
    allowed = expected_mm(ANCHOR.code)
    assert 0 < allowed < 20
    for over, slips in ((SLIP_MM - 0.2, False), (SLIP_MM + 0.2, True)):
        now = slips_now(pulling(*read_under_load(ANCHOR.code, (allowed + over, 0.0, 0.0))))
        assert bool(now) == slips, over
        if slips:
            assert (now[0].anchor, now[0].code) == (ANCHOR.id, ANCHOR.code)
            assert now[0].mm == pytest.approx(allowed + over, abs=0.05)
            assert now[0].expected_mm == pytest.approx(allowed, abs=0.05)


def test_only_the_newest_reading_under_load_of_this_cycle_counts() -> None:
    far, near = (40.0, 0.0, 0.0), (0.2, 0.0, 0.0)
    assert slips_now(pulling(*read_under_load(ANCHOR.code, far)))
    assert slips_now(pulling(*read_under_load(ANCHOR.code, far, near))) == ()
    cycle = PointCycle(code="F5R", before_mm=-21.4, loaded_mm=-4.0, after_mm=-10.0)
    again = (event(20, "cautions", cycles=(cycle,), after=AfterPull()), event(21, "pulling"))
    assert slips_now(pulling(*read_under_load(ANCHOR.code, far), events=(*ON, *again))) == ()


def test_nothing_slips_while_no_chain_is_tight_or_nothing_that_holds_was_read() -> None:
    far = (40.0, 0.0, 0.0)
    assert slips_now(facts()) == ()
    assert slips_now(pulling(*read_under_load(ANCHOR.code, far), events=ON[:1])) == ()
    assert slips_now(pulling(*read_under_load("F5R", far))) == ()
    job = pulling(*read_under_load(ANCHOR.code, far))
    unread = tuple(one for one in job.readings if one.loaded or one.code != ANCHOR.code)
    assert slips_now(changed(job, readings=unread)) == (), "where it stood before is not known"


def test_the_move_that_voided_the_last_set_up_is_told_until_there_is_another() -> None:
    job = facts()
    assert voided_last(changed(job, setups=())) is None
    assert voided_last(job) is None
    moved = movement("vehicle")
    voided = changed(job, setups=(job.setups[0].model_copy(update={"voided": moved}),), movements=(moved,))
    assert voided_last(voided) == moved
    second = job.setups[0].model_copy(update={"number": 2})
    assert voided_last(changed(voided, setups=(*voided.setups, second))) is None


# ── what driving and loading take back ───────────────────────────────────────

LET_GO = PointCycle(code="F5R", before_mm=-21.4, loaded_mm=2.0, after_mm=-1.0)
DONE = (*ON, event(5, "ended", cycles=(LET_GO,), after=AfterPull()))


def settled(
    number: int, how: str, stood: tuple[float, float, float], *stands: tuple[float, float, float]
) -> SettlingFact:
    read = {"stands": {"F5R": stands[0]}, "read_by": who(30 + number)} if stands else {}
    return SettlingFact(id=number, how=how, words="", stood={"F5R": stood}, by=who(20 + number), **read)


def test_the_way_of_a_point_is_that_of_the_last_pull_that_let_it_go() -> None:
    assert pulled_ways(pulled(*ON)) == {}, "not let go yet"
    assert pulled_ways(pulled(*DONE)) == {"F5R": FORWARD.way}
    up = FORWARD.model_copy(update={"way": (0.0, 0.0, 1.0)})
    later = (event(6, "cautions", watched=(up,)), event(7, "ended", cycles=(LET_GO,), after=AfterPull()))
    assert pulled_ways(pulled(*DONE, *later)) == {"F5R": up.way}


def test_what_is_taken_back_is_along_the_pull_and_learned_of_driving_and_loading_apart() -> None:
    settlings = (
        settled(1, "driven", (100.0, 50.0, 30.0), (98.0, 57.0, 30.0)),
        settled(2, "driven", (100.0, 50.0, 30.0), (99.0, 50.0, 30.0)),
        settled(3, "loaded", (100.0, 50.0, 30.0), (95.5, 50.0, 30.0)),
    )
    job = pulled(*DONE, settlings=settlings)
    assert [one.mm for one in taken_back(job)] == [{"F5R": 2.0}, {"F5R": 1.0}, {"F5R": 4.5}]
    driven = learned(job, "driven")
    assert (driven.mean_mm, driven.readings) == (pytest.approx(1.5), 2)
    assert driven.spread_mm == pytest.approx(statistics.stdev([2.0, 1.0]))
    assert learned(job, "loaded").spread_mm is None, "of one reading no spread is known"
    assert learned(pulled(*DONE), "driven") is None


def test_a_settling_is_open_until_its_points_are_read_again() -> None:
    stood = (100.0, 50.0, 30.0)
    assert open_settling(pulled(*DONE)) is None
    waiting = settled(1, "driven", stood)
    assert open_settling(pulled(*DONE, settlings=(waiting,))) == waiting
    assert taken_back(pulled(*DONE, settlings=(waiting,))) == ()
    assert open_settling(pulled(*DONE, settlings=(settled(1, "driven", stood, stood),))) is None


def test_where_pulled_points_stand_is_read_free_in_the_set_up_in_force() -> None:
    job = pulled(*DONE)
    assert set(stands_free(job)) == {"F5R"}
    assert stands_free(job)["F5R"] == pytest.approx(tuple(PLACES["F5R"]), abs=1.0)
    assert stands_free(changed(job, setups=())) == {}
    unread = tuple(one for one in job.readings if one.code != "F5R")
    assert stands_free(changed(job, readings=unread)) == {}


def test_what_driving_takes_back_is_a_share_of_the_residual_moments_and_the_shop_learns_it() -> None:
    """The frame played as it was pulled says what would go back; what did go back says which share, in this job and the next."""
    stood = (100.0, 50.0, 30.0)
    job = pulled(*DONE, settlings=(settled(1, "driven", stood, (99.0, 50.0, 30.0)),))
    points = settled_points(job)
    assert {point.code for point in points} <= {"F5R"}
    for point in points:
        assert point.did_mm == pytest.approx(1.0)
    assert settled_points(pulled(*DONE)) == (), "nothing was driven"
    read = (SettledPoint(code="F5R", would_mm=4.0, did_mm=2.0),) * 6
    jobs = [JobWent(number="1", vehicle="Dunlin", construction="unibody", settled=read)]
    shop = Past(jobs).relaxed("unibody")
    assert shop.points == 6
    assert shop.mean == pytest.approx(0.5, abs=0.1)
    assert Past(jobs).relaxed("ladder") == pytest.approx(PRIOR)
    request = plan_request(
        job.sheet, {c: tuple(p) for c, p in PLACES.items()} | {"F5R": (2000.0, -400.0, 400.0)}, SETTING, "outward"
    )
    plan = PlanSaid(
        school="outward",
        pulls=(
            PULL.model_copy(
                update={
                    "chains": tuple(chain.model_copy(update={"force_n": 3 * chain.force_n}) for chain in PULL.chains)
                }
            ),
        ),
    )
    wide, sure = (expected_settling(request, SETTING, plan, 1, share) for share in (PRIOR, shop))
    assert wide
    assert wide.keys() == sure.keys()
    for code, back in wide.items():
        if abs(back.mm) > 0.5:
            assert sure[code].mm == pytest.approx(back.mm * shop.mean / PRIOR.mean)
            assert sure[code].sigma_mm < back.sigma_mm
