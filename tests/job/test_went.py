"""How jobs went: what is learnt of one by hand, and what many say of the next against Bayes' rule on a grid."""

import math

import numpy as np
import pytest

from fairsquare.core.pull.job import PointCycle, Watched
from fairsquare.drawings.went import DotRow, first_and_last, hours_waited, job_by_job
from fairsquare.job.facts.hours import WaitFact, WorkFact
from fairsquare.job.facts.pulls import PullEventFact
from fairsquare.job.plan.operations import OPERATION_KINDS, Times, job_work, kind_of, operations_of
from fairsquare.job.went import JobWent, Past, Sprung, WentHours, job_went, place_of, share_of
from tests.job.facts import facts, reading, who

NOW = "2026-11-26T12:00:00.000000Z"


def went(number=1, construction="unibody", gave=(), hours=()) -> JobWent:
    springs = tuple(
        Sprung(place=place, code="F5R", pull=1, expected_mm=10.0, gave_mm=10.0 * share) for place, share in gave
    )
    worked = tuple(
        WentHours(name=kind, kind=kind, usual_h=usual, sold_h=usual, worked_h=took) for kind, usual, took in hours
    )
    return JobWent(number=f"SL-{number}", vehicle="van", construction=construction, springs=springs, hours=worked)


def on_a_grid(values, first, least):
    """The next of a kind by Bayes' rule, worked out by summing over a fine grid of what the kind may be."""
    scatter = max(least, np.std(values, ddof=1) if len(values) > 1 else 0.0)
    kind = np.linspace(-3, 3, 60_001)
    logs = -0.5 * (kind / first) ** 2 - 0.5 * sum(((value - kind) / scatter) ** 2 for value in values)
    weights = np.exp(logs - logs.max())
    weights /= weights.sum()
    mean = float(weights @ kind)
    return mean, math.sqrt(float(weights @ (kind - mean) ** 2) + scatter**2)


@pytest.mark.parametrize(
    "shares", [(1.3,), (1.3, 1.1), (0.7, 0.8, 0.75, 0.72), tuple(1.0 + 0.02 * k for k in range(12))]
)
def test_what_the_past_says_of_the_next_is_bayes_rule_on_a_grid(shares) -> None:
    past = Past(went(k, gave=(("front", share),)) for k, share in enumerate(shares))
    found = past.share("unibody", "front")
    mean, sigma = on_a_grid([share - 1 for share in shares], 0.25, 0.12)
    assert found.mean == pytest.approx(1 + mean, abs=1e-6)
    assert found.sigma == pytest.approx(min(sigma, math.hypot(0.25, 0.12)), abs=1e-6)
    assert found.jobs == len(shares)
    assert past.share("unibody", "rear") is None
    assert past.share("ladder", "front") is None


def test_one_job_moves_the_next_little_and_many_speak_for_themselves() -> None:
    def times(many):
        return Past(went(k, hours=(("cut", 2.0, 4.0),)) for k in range(many)).hours("cut").mean

    assert 1.0 < times(1) < 2.0
    assert times(1) < times(3) < times(30) < 2.0
    assert times(200) == pytest.approx(2.0, rel=0.01)


def test_shares_and_hours_are_weighed_within_a_job_by_what_was_expected() -> None:
    springs = [
        Sprung(place="front", code="F5R", pull=1, expected_mm=30.0, gave_mm=33.0),
        Sprung(place="front", code="F4R", pull=1, expected_mm=10.0, gave_mm=7.0),
    ]
    assert share_of(springs) == pytest.approx(1.0)
    assert share_of([]) is None
    past = Past([went(hours=(("weld", 1.0, 1.0), ("weld", 3.0, 5.0), ("weld", 2.0, 0.0)))])
    assert past.times("weld") == (pytest.approx(1.5),), "what was not worked on says nothing"


def pulled():
    job = facts()
    watched = tuple(
        Watched(
            code=code, way=(1.0, 0.0, 0.0), target_mm=0.0, tolerance_mm=3.0, was_mm=-9.0, return_mm=mm, learned=learned
        )
        for code, mm, learned in (("F5R", 8.0, 1.0), ("F5L", 6.0, 1.2), ("F4R", 0.2, 1.0))
    )
    cycles = (
        PointCycle(code="F5R", before_mm=-9.0, loaded_mm=10.0, after_mm=0.5),
        PointCycle(code="F5L", before_mm=-7.0, loaded_mm=None, after_mm=0.5),
        PointCycle(code="F4R", before_mm=-1.0, loaded_mm=1.0, after_mm=0.5),
    )
    more = (PointCycle(code="F5L", before_mm=0.5, loaded_mm=5.5, after_mm=1.0),)
    events = (
        PullEventFact(id=1, plan=1, pull=1, state="cautions", by=who(50), watched=watched),
        PullEventFact(id=2, plan=1, pull=1, state="cautions", by=who(51), cycles=cycles),
        PullEventFact(id=3, plan=1, pull=1, state="ended", by=who(52), cycles=more),
    )
    return job.model_copy(update={"pull_events": events})


def test_what_came_back_is_read_from_the_cycles_against_what_the_frame_said() -> None:
    found = job_went(pulled(), "van", "unibody", NOW).springs
    assert [(one.code, one.expected_mm, one.gave_mm) for one in found] == [("F5R", 8.0, 9.5), ("F5L", 5.0, 4.5)]
    assert {one.place for one in found} == {"front"}, (
        "a cycle that nobody could read, and a point that gives nothing, say nothing"
    )


def test_places_are_ahead_of_the_references_among_them_or_behind() -> None:
    sheet = facts().sheet
    reference = next(point.code for point in sheet.points if point.reference)
    assert [place_of(sheet, code) for code in ("F5R", reference, "R3L")] == ["front", "centre", "rear"]


def test_waits_hours_and_points_of_a_job() -> None:
    others = tuple(one for one in facts().readings if one.code != "F5R")
    job = facts(readings=(*others, reading(50, "F5R", moved=(-7.0, 0.0, 0.0))))
    waits = (
        WaitFact(
            id=1,
            kind="part",
            words="rail",
            asked_of="",
            due_at="",
            station="cuts",
            by=who(1),
            said_by=who(1),
            over=who(31),
        ),
        WaitFact(id=2, kind="paint", words="paint", asked_of="", due_at="", station="", by=who(1), said_by=who(1)),
    )
    clock = WorkFact(id=1, operation="Measure", by=who(0), ended_at=who(59).at)
    found = job_went(job.model_copy(update={"waits": waits, "worked": (clock,)}), "van", "unibody", who(59).at)
    assert [round(one.hours, 4) for one in found.waits] == [0.5, pytest.approx(58 / 60, abs=1e-4)]
    (measured,) = [one for one in found.hours if one.name == "Measure"]
    assert (measured.kind, round(measured.worked_h, 3)) == ("measure", round(59 / 60, 3))
    assert found.released_at == ""
    assert {one.code: one.first for one in found.points}["F5R"] == "off"


def test_hours_that_nobody_said_are_as_in_the_past_and_say_so() -> None:
    job = facts()
    usual = {one.name: one.hours for one in operations_of(job)}
    found = {row.name: row for row in job_work(job, times={"measure": Times(1.5, 4)}).rows}
    assert found["Measure"].hours == pytest.approx(1.5 * usual["Measure"], abs=0.01)
    assert "1.5 times the usual, as in 4 jobs of this shop" in found["Measure"].why
    assert found["Set up and clamp"].hours == usual["Set up and clamp"]


def test_every_operation_that_follows_from_a_job_is_of_a_kind() -> None:
    names = (
        "Make it safe",
        "Set up and clamp",
        "Pull 2: F5R",
        "Straighten right rail",
        "Cut sill (2)",
        "Weld sill",
        "Bond",
    )
    assert [kind_of(name) for name in names] == ["safe", "set-up", "pull", "straighten", "cut", "weld", "bond"]
    assert kind_of("Fetch the crane", "added by hand") == "other"
    assert {kind_of(one.name) for one in operations_of(pulled())} <= set(OPERATION_KINDS)


def test_drawings_hold_what_they_are_given_and_nothing_where_there_is_nothing() -> None:
    assert first_and_last((), str) is None
    assert hours_waited([]) is None
    assert job_by_job([], "usual") is None
    drawn = job_by_job([DotRow("<front>", (0.5, 2.0), (0.8, 1.0, 1.3))], "what the frame says")
    assert drawn.count("w-dot") == 2
    assert "&lt;front&gt;" in drawn
    assert "× 1.00" in drawn
    assert "1.5 days, 2×" in hours_waited([("a part", 36.0, 2)])
