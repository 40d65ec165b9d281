"""Blows and practice: what a seed stands for, frames changed by hand, and scores against cases worked out on paper."""

import numpy as np
import pytest

from fairsquare.core.errors import Refused
from fairsquare.core.pull.job import ChainSet, PlanSaid, PointCycle, WorkPull, plan_request
from fairsquare.core.pull.plan import plan_pulls
from fairsquare.core.pull.setting import frame_of_setting, usual_setting
from fairsquare.core.structure.blow import left_by, together
from fairsquare.core.structure.of_sheet import ExtraMember, usual_boxes
from fairsquare.core.who import Who
from fairsquare.job.facts.pulls import PullEventFact, PullPlanFact
from fairsquare.job.pull.practice import LARGEST_SEED, Stood, Worked, hidden_blow, lessons, score, worked_of
from fairsquare.stand_ins.rigged import setting_of_vehicle
from fairsquare.stand_ins.to_practise import vehicle_to_practise
from fairsquare.stand_ins.vehicles import DUNLIN, HERON, PUFFIN, VEHICLES
from tests.job.facts import facts, reading

DUNLIN_SETTING = usual_setting(DUNLIN.sheet, usual_boxes(DUNLIN.sheet))
HOME = {point.code: point.xyz for point in DUNLIN.sheet.points}


def off(**by):
    """Return the Dunlin's points, some of them moved."""
    return {code: tuple(np.add(place, by.get(code, (0, 0, 0))).tolist()) for code, place in HOME.items()}


# ── blows and frames ─────────────────────────────────────────────────────────


@pytest.mark.parametrize("vehicle", VEHICLES, ids=lambda one: one.name)
def test_the_demos_blows_leave_each_vehicle_off_where_its_story_says(vehicle) -> None:
    worst = max(vehicle.moved, key=lambda code: np.abs(vehicle.moved[code]).max())
    assert 9 < np.abs(vehicle.moved[worst]).max() < 30
    references = {point.code for point in vehicle.sheet.points if point.reference} - {"C2R"}
    assert all(np.abs(vehicle.moved.get(code, (0, 0, 0))).max() < 1.5 for code in references), (
        "what it was held by stayed"
    )


def test_the_herons_blow_skews_and_twists_it_ahead_of_the_cab_mounts() -> None:
    left, right = (np.array(HERON.moved[f"F2{side}"]) for side in "LR")
    assert (left - right)[0] < -5, "its left rail is short"
    assert (left - right)[2] > 15, "and high"


@pytest.mark.parametrize("vehicle", VEHICLES, ids=lambda one: one.name)
def test_a_plan_brings_the_demos_vehicles_home(vehicle) -> None:
    """All but the Heron, whose skew takes a jack, which a person sets: the search does not pull by machines."""
    setting = setting_of_vehicle(vehicle)
    places = {code: tuple(map(float, place)) for code, place in vehicle.true_places(3).items()}
    school = "reverse" if vehicle.sheet.construction in ("ladder", "trailer") else "outward"
    plan = plan_pulls(plan_request(vehicle.sheet, places, setting, school))
    assert plan.verdict == ("partial" if vehicle is HERON else "complete")


def test_what_a_frame_does_not_carry_leaves_nothing_to_say() -> None:
    skeleton = frame_of_setting(DUNLIN.sheet, DUNLIN_SETTING)
    assert left_by(skeleton, {"F5R": (-100.0, 0.0, 0.0)}) == {}, "an elastic push leaves nothing"
    assert together([{"A": (1.04, 0.0, -2.0)}, {"A": (1.0, 0.0, 2.0), "B": (0.26, 0.0, 0.0)}]) == {
        "A": (2.0, 0.0, 0.0),
        "B": (0.3, 0.0, 0.0),
    }


def test_members_are_taken_out_and_added_and_corners_placed() -> None:
    plain = frame_of_setting(PUFFIN.sheet, usual_setting(PUFFIN.sheet, usual_boxes(PUFFIN.sheet)))
    without = frame_of_setting(PUFFIN.sheet, setting_of_vehicle(PUFFIN))
    assert {m.id for m in plain.members} - {m.id for m in without.members} == {"C2L C2R"}
    braced = DUNLIN_SETTING.model_copy(
        update={
            "corners": {"tower": (1800.0, 560.0, 820.0)},
            "members_in": (
                ExtraMember(i="F3L", j="tower", section="front rail"),
                ExtraMember(i="tower", j="C2L", section="front rail"),
            ),
        }
    )
    frame = frame_of_setting(DUNLIN.sheet, braced)
    assert frame.nodes["tower"] == (1800.0, 560.0, 820.0)
    push = {"F3L": (0.0, 0.0, 20e3)}
    stiff, slack = left_by(frame, push), left_by(frame_of_setting(DUNLIN.sheet, DUNLIN_SETTING), push)
    assert abs(stiff.get("F3L", (0, 0, 0))[2]) < abs(slack["F3L"][2]) / 2, (
        "a brace from the cabin to the rail holds it down"
    )


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"members_out": ("C9L C9R",)}, "members_out"),
        ({"members_in": (ExtraMember(i="F3L", j="nowhere", section="across"),)}, "members_in.0"),
        ({"members_in": (ExtraMember(i="F3L", j="F3R", section="across"),)}, "members_in.0"),
        ({"members_in": (ExtraMember(i="F3L", j="F3L", section="across"),)}, "members_in.0"),
        ({"members_in": (ExtraMember(i="F3L", j="C1R", section="oak"),)}, "boxes"),
        ({"corners": {"F3L": (0.0, 0.0, 0.0)}}, "corners"),
    ],
)
def test_a_change_of_the_frame_that_fits_nothing_is_refused(change, field) -> None:
    with pytest.raises(Refused) as caught:
        frame_of_setting(DUNLIN.sheet, DUNLIN_SETTING.model_copy(update=change))
    assert caught.value.field == field


# ── the hidden blow ──────────────────────────────────────────────────────────


@pytest.mark.parametrize("seed", [0, 1, 17, 4242, LARGEST_SEED])
def test_a_seed_is_one_blow_that_leaves_some_points_off(seed) -> None:
    sheet, setting = vehicle_to_practise(DUNLIN.name)
    blow = hidden_blow(sheet, setting, seed)
    assert blow == hidden_blow(sheet, setting, seed)
    worst = max(abs(part) for by in blow.moved.values() for part in by)
    assert 8 <= worst <= 23
    inward = -np.sign(HOME[blow.code][0])
    assert np.sign(blow.force[0]) == inward, "it strikes from outside"
    assert left_by(frame_of_setting(sheet, setting), {blow.code: blow.force}, steps=12).keys() == blow.moved.keys()


def test_a_frame_without_a_free_end_is_nothing_to_practise_on() -> None:
    sheet, setting = vehicle_to_practise(PUFFIN.name)
    whole = setting.model_copy(
        update={
            "anchors": tuple(
                setting.anchors[0].model_copy(update={"id": c, "code": c}) for c in ("T1L", "T1R", "T2L", "T2R")
            )
        }
    )
    with pytest.raises(Refused, match="nothing to practise"):
        hidden_blow(sheet, whole, 1)
    with pytest.raises(Refused, match="Choose one of"):
        vehicle_to_practise("a boat")


# ── the score ────────────────────────────────────────────────────────────────


def test_a_score_is_what_its_rule_says() -> None:
    start = off(F5R=(-8.0, 0, 0), F4R=(-6.0, 0, 0), F3R=(-4.0, 0, 0), F5L=(-5.0, 0, 0))
    tried = Stood(pull=1, cycle=1, places=start)
    first = Stood(pull=1, cycle=2, places=off(F5R=(-7.9, 0, 0), F4R=(-6.0, 0, 0), F3R=(-4.0, 0, 0), F5L=(-4.9, 0, 0)))
    last = Stood(
        pull=2,
        cycle=1,
        places=off(F5R=(0.5, 0, 0), F4R=(1.0, 0, 0), F3R=(-1.0, 0, 0), F5L=(-4.9, 0, 0), F2R=(4.0, 0, 0)),
    )
    found = score(DUNLIN.sheet, start, [tried, first, last], {"clamp C1R": 1.2, "at F5R → front right": 0.9}, 1)
    assert found.were_off == ("F5L", "F5R", "F4R", "F3R") and found.home == ("F5R", "F4R", "F3R")
    assert found.spoiled == ("F2R",) and found.overloaded == {"clamp C1R": 1.2}
    assert found.for_nothing == ((1, 2),), "the first of all tries how the frame answers"
    assert (found.pulls, found.cycles) == (2, 3)
    assert found.points == 60 * 3 // 4 + 40 - 15 - 10 - 5 - 3
    assert found.left_mm["F2R"] == pytest.approx((4.0, 0.0, 0.0))
    said = " ".join(lessons(found))
    for words in (
        "clamp C1R was loaded to 120%",
        "F2R was fair",
        "pull 1, cycle 2",
        "F5L stayed off",
        "2 pulls where 1",
    ):
        assert words in said


def test_how_it_was_worked_counts_beside_where_it_ended() -> None:
    start = off(F5R=(-8.0, 0, 0), F4R=(-6.0, 0, 0))
    who, chain = (
        Who(name="Keahi", role="apprentice", at="2026-11-29T08:00:00.000000Z"),
        {"height_mm": 200.0, "force_n": 20e3},
    )
    chains = tuple(ChainSet(hook=f"at {code}", tower="front right", **chain) for code in ("F5R", "F4R"))
    found_plan = PlanSaid(school="outward", title="By chains from the towers", pulls=(WorkPull(chains=chains),))
    later = who.model_copy(update={"at": "2026-11-29T09:00:00.000000Z"})
    cycles = [(PointCycle(code="F5R", before_mm=-8, loaded_mm=mm, after_mm=0),) for mm in (4.0, None)]
    job = facts(
        readings=(reading(1, "F5R").model_copy(update={"by": who}),),
        pull_plans=(PullPlanFact(id=1, version=1, plan=found_plan, by=later),),
        pull_events=tuple(
            PullEventFact(id=k, plan=1, pull=1, state="ended", by=later, cycles=own) for k, own in enumerate(cycles)
        ),
    )
    worked = worked_of(job, DUNLIN.sheet, start, chains_enough=1)
    assert worked == Worked(seen=0.5, own=0.0, free=0.5, chains=2, chains_enough=1)
    assert worked.points == 5 + 0 + 5 + 5
    ended = score(DUNLIN.sheet, start, [Stood(pull=1, cycle=1, places=HOME)], {}, 1, worked)
    assert ended.points == 60 + 15, "all home, and no more than that by pressing a button"
    said = " ".join(lessons(ended))
    for words in ("Not every point", "A plan that was found", "loaded and free", "2 chains at once where 1"):
        assert words in said


def test_nothing_pulled_scores_nothing_and_a_clean_run_all() -> None:
    start = off(F5R=(-8.0, 0, 0))
    idle = score(DUNLIN.sheet, start, [], {}, 1)
    assert idle.points == 0 and "Nothing was pulled." in lessons(idle)
    clean = score(DUNLIN.sheet, start, [Stood(pull=1, cycle=1, places=HOME)], {}, 1)
    assert clean.points == 100 and "nothing for nothing" in lessons(clean)[0]
