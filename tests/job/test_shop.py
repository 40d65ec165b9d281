"""The shop's hours by its own clock, a night in which that is put on or back, and the work of all jobs as one plan."""

import datetime
from zoneinfo import ZoneInfo

import pytest

from fairsquare.core.errors import Refused
from fairsquare.core.plan.asked import DayPlan, Operation, Worker
from fairsquare.core.plan.day import plan_again
from fairsquare.core.plan.said import HoursSaid, OperationSaid, PartSaid
from fairsquare.core.plan.settle import Manned, drawn_together
from fairsquare.core.plan.shop import read_shop
from fairsquare.core.plan.shop_said import (
    HandSaid,
    Holiday,
    PlaceSaid,
    ShopSaid,
    check_shop,
    read_stretches,
    working_hours,
)
from fairsquare.job.plan.floor import JobToPlan, floor_work
from fairsquare.job.plan.operations import job_work
from fairsquare.job.waiting import Waiting
from tests.core.planning import faults
from tests.job.test_hours import facts

OSLO = ZoneInfo("Europe/Oslo")
UTC = datetime.UTC
HANDS = (HandSaid(name="ngozi", skills=("structure", "weld")), HandSaid(name="keahi"))
SHOP = ShopSaid(hands=HANDS)
HOURS = [(d * 1440 + a, d * 1440 + b) for d in range(30) for a, b in ((480, 720), (760, 1020))]
BASE = datetime.datetime(2026, 11, 2, tzinfo=UTC)


def night(start, until):
    return ShopSaid(week=((),) * 6 + (read_stretches(f"{start}-{until}", "week-6"),), hands=HANDS)


@pytest.mark.parametrize(
    ("day", "minutes"),
    [((2026, 3, 29), 300), ((2026, 10, 25), 420), ((2026, 11, 1), 360)],
)
def test_a_night_shift_is_an_hour_shorter_or_longer_when_the_clock_is_put_on_or_back(day, minutes):
    # Summer time begins in Norway on 2026-03-29 and ends on 2026-10-25, both at 01:00 UTC (Directive 2000/84/EC).
    first = datetime.date(*day)
    base = datetime.datetime.combine(first, datetime.time(), UTC)
    ((start, end),) = working_hours(night("0:00", "6:00"), OSLO, first, 1, base)
    assert end - start == minutes


def test_hours_over_a_week_with_a_holiday_and_the_same_hour_by_the_clock_on_either_side_of_the_change():
    shop = ShopSaid(holidays=(Holiday(day="2026-10-26"),), hands=HANDS)
    base = datetime.datetime(2026, 10, 23, tzinfo=UTC)
    hours = working_hours(shop, OSLO, datetime.date(2026, 10, 23), 6, base)
    assert hours == [
        (6 * 60, 10 * 60),
        (10 * 60 + 40, 15 * 60),
        *((d * 1440 + a, d * 1440 + b) for d in (4, 5) for a, b in ((7 * 60, 11 * 60), (11 * 60 + 40, 16 * 60))),
    ]


@pytest.mark.parametrize(
    ("text", "read"),
    [
        ("8-12, 12:40-17", [("08:00", "12:00"), ("12:40", "17:00")]),
        ("0800 to 1200", [("08:00", "12:00")]),
        ("22:00–24:00", [("22:00", "24:00")]),
        (" ", []),
    ],
)
def test_hours_are_read_as_they_are_typed(text, read):
    assert [(one.since, one.until) for one in read_stretches(text, "week-0")] == read


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("12-8", "end before they begin"),
        ("8-8", "end before they begin"),
        ("8-12, 11-17", "begins before 12:00"),
        ("morning", "written like"),
        ("8-25", "written like"),
        ("8-24:30", "ends at 24:00"),
    ],
)
def test_hours_that_make_no_sense_are_refused(text, words):
    with pytest.raises(Refused, match=words) as fault:
        read_stretches(text, "week-3")
    assert fault.value.field == "week-3"


@pytest.mark.parametrize(
    ("shop", "field"),
    [
        (SHOP.model_copy(update={"week": ((),) * 7}), "week-0"),
        (
            SHOP.model_copy(update={"places": (PlaceSaid(name="rack", many=1), PlaceSaid(name="Rack", many=2))}),
            "place-1-name",
        ),
        (SHOP.model_copy(update={"hands": (HANDS[1],)}), "takes-1-skill"),
        (SHOP.model_copy(update={"places": (PlaceSaid(name="bay", many=1),)}), "takes-1-place"),
        (SHOP.model_copy(update={"holidays": (Holiday(day="2026-02-30"),)}), "holiday-0-day"),
    ],
)
def test_a_shop_that_does_not_fit_together_names_the_field(shop, field):
    with pytest.raises(Refused) as fault:
        check_shop(shop)
    assert fault.value.field == field


def job(number="SL-1", waiting=(), said=None, **more):
    return JobToPlan(number, "Dunlin", job_work(facts(said)), tuple(waiting), **more)


def planned(jobs, shop=SHOP, dues=None, was=None, there=()):
    found = floor_work(jobs, shop, HOURS, BASE, dues or {})
    made = plan_again(found.asked, stays=found.stays, there=there, was=was or {})
    assert faults(found.asked, made.plan, and_earlier=False) == []
    return found, {(found.pieces[one.id].job, found.pieces[one.id].what): one for one in made.plan}, made


def test_what_lies_over_comes_off_first_and_everything_is_on_before_it_is_proven():
    said = HoursSaid(
        operations=(OperationSaid(name="Measure", needs_off=("tank",)),),
        parts=(
            PartSaid(name="tank", off_h=1, on_h=1, under=("trim",)),
            PartSaid(name="trim", off_h=0.5, on_h=0.5, trials=1),
        ),
    )
    _, plan, _ = planned([job(said=said)])
    order = [what for (_, what), one in sorted(plan.items(), key=lambda item: item[1].start)]
    assert order == [
        "Make it safe",
        "Set up and clamp",
        "trim off",
        "tank off",
        "Measure",
        "Read and decide",
        "tank on",
        "trim on, 1 trial fit",
        "Prove and hand over",
    ]
    trim = plan["SL-1", "trim on, 1 trial fit"]
    assert trim.end - trim.start >= 90, "on twice, off once more"


def test_what_waits_for_nobody_knows_how_long_is_not_planned_and_says_why_and_what_is_due_waits_until_then():
    unknown = Waiting("part", "glass", "Ines", "", "measure", "")
    found, plan, _ = planned([job(waiting=[unknown])])
    assert {what for _, what in plan} == {"Make it safe", "Set up and clamp"}
    assert [one.what for one in found.not_now] == ["Measure", "Read and decide", "Prove and hand over"]
    assert "glass, Ines was asked; nobody knows until when" in found.not_now[0].why
    due = unknown._replace(due_at="2026-11-04T09:00:00.000000Z")
    _, plan, _ = planned([job(waiting=[due])])
    assert plan["SL-1", "Measure"].start == 2 * 1440 + 540


def test_a_vehicle_keeps_its_rack_from_the_first_work_on_it_to_the_last():
    jobs = [job("SL-1"), job("SL-2")]
    shop = ShopSaid(hands=(*HANDS, HandSaid(name="mateus", skills=("structure",)), HandSaid(name="bo")))
    _, plan, _ = planned(jobs, shop)
    spans = sorted(
        (
            min(plan[n, w].start for w in ("Set up and clamp", "Measure")),
            max(plan[n, w].end for w in ("Set up and clamp", "Measure")),
        )
        for n in ("SL-1", "SL-2")
    )
    assert spans[0][1] <= spans[1][0], "one rack: the second vehicle waits until the first has left it"


@pytest.mark.parametrize(
    ("racks", "there", "late", "starts"),
    [
        (1, frozenset(), (0, 40, 150, 200), (0, 40, 70, 80)),
        (2, frozenset(), (0, 40, 150, 200), (0, 40, 0, 80)),
        (1, frozenset({0}), (0, 40, 150, 200), (0, 40, 70, 80)),
        (1, frozenset({1}), (150, 180, 0, 80), (110, 110, 0, 80)),
    ],
)
def test_a_late_first_task_is_drawn_together_as_far_as_its_rack_is_free(racks, there, late, starts):
    # Two vehicles, each with two tasks of 30 min on the rack, by hand: between its tasks a vehicle keeps its rack.
    people = tuple(Worker(id=name, skills=()) for name in ("an", "bo", "cy", "di"))
    operations = tuple(
        Operation(id=id, minutes=30, place="rack", not_before_min=at)
        for id, at in (("a1", 0), ("a2", 40), ("b1", 0), ("b2", 80))
    )
    asked = DayPlan(operations=operations, people=people, places={"rack": racks}, hours=((0, 600),))
    shop = read_shop(asked)._replace(stays=((0, 1), (2, 3)), there=there)
    plan = [Manned(at, at + 30, one.id, ()) for one, at in zip(people, late, strict=True)]
    assert tuple(one.start for one in drawn_together(shop, plan)) == starts


def test_a_promise_puts_a_job_first():
    _, plan, made = planned([job("SL-1"), job("SL-2")], dues={"SL-2": 720})
    assert plan["SL-2", "Prove and hand over"].end < plan["SL-1", "Prove and hand over"].end
    assert made.late == {} or made.late_bound == sum(made.late.values())


def test_what_slips_moves_as_little_as_it_must_and_what_is_fixed_and_worked_on_stays():
    shop = ShopSaid(
        hands=(*HANDS, HandSaid(name="mateus", skills=("structure", "weld")), HandSaid(name="bo")),
        places=(PlaceSaid(name="rack", many=2),),
    )
    jobs = [job("SL-1"), job("SL-2")]
    found, plan, made = planned(jobs, shop)
    was = {one.id: (one.start, one.person, False) for one in made.plan}
    _, same, _ = planned(jobs, shop, was=was)
    assert {k: (v.start, v.person) for k, v in same.items()} == {k: (v.start, v.person) for k, v in plan.items()}
    longer = HoursSaid(operations=(OperationSaid(name="Prove and hand over", hours=2),))
    fixed = next(id for id, piece in found.pieces.items() if (piece.job, piece.what) == ("SL-2", "Prove and hand over"))
    was[fixed] = (was[fixed][0] + 1440, was[fixed][1], True)
    _, after, _ = planned([job("SL-1", said=longer), job("SL-2")], shop, was=was)
    assert (after["SL-2", "Prove and hand over"].start, after["SL-2", "Prove and hand over"].person) == was[fixed][:2]
    moved = [k for k in plan if (after[k].start, after[k].person) != (plan[k].start, plan[k].person)]
    assert moved == [("SL-2", "Prove and hand over")], "a longer last operation of one job moves nothing else"
    going = job("SL-1", going_on=(("Measure", "ngozi"),))
    found = floor_work([going], shop, HOURS, BASE, {})
    (at,) = found.at_it
    now = plan_again(found.asked, stays=found.stays, was={at: (480, "ngozi", True)})
    assert next(one.start for one in now.plan if one.id == at) == 480


def test_what_is_fixed_and_cannot_be_there_any_more_begins_as_soon_as_it_can_and_forbids_no_plan():
    """A minute goes by and nobody has begun what comes before; the time itself goes by; two are in each other's way."""
    jobs = [job("SL-1"), job("SL-2")]
    found, plan, _ = planned(jobs)
    ids = {(piece.job, piece.what): id for id, piece in found.pieces.items()}
    clamp, measure = ids["SL-1", "Set up and clamp"], ids["SL-2", "Measure"]
    first = plan["SL-1", "Set up and clamp"]
    soonest = HOURS[0][0] + plan["SL-1", "Make it safe"].end - plan["SL-1", "Make it safe"].start
    _, after, _ = planned(jobs, was={clamp: (soonest - 1, first.person, True)})
    later = after["SL-1", "Set up and clamp"]
    assert (later.start, later.person) == (soonest, first.person), "one minute later than fixed, and with who was fixed"
    _, gone, _ = planned(jobs, was={measure: (HOURS[0][0] - 600, "ngozi", True)})
    overdue = gone["SL-2", "Measure"]
    assert overdue.person == "ngozi"
    assert overdue.start == gone["SL-2", "Set up and clamp"].end, "as soon as what comes before it is done"
    going = job("SL-1", going_on=(("Measure", "ngozi"),))
    found = floor_work([going, job("SL-2")], SHOP, HOURS, BASE, {})
    (at,) = found.at_it
    safe = next(id for id, piece in found.pieces.items() if (piece.job, piece.what) == ("SL-2", "Make it safe"))
    was = {at: (480, "ngozi", True), safe: (480, "ngozi", True)}
    both = {one.id: one for one in plan_again(found.asked, stays=found.stays, was=was, begun=found.at_it).plan}
    assert both[at].start == 480, "what is being worked on is being worked on"
    assert both[safe].start == both[at].end


def test_a_skill_nobody_has_and_too_few_hands_are_told_by_name():
    found = floor_work([job()], ShopSaid(hands=(HandSaid(name="keahi"), HandSaid(name="bo"))), HOURS, BASE, {})
    assert found.not_now[0].why == "nobody can structure"
    alone = floor_work([job()], ShopSaid(hands=(HANDS[0],)), HOURS, BASE, {})
    assert alone.not_now[0].why == "it takes 2 people"


def test_a_part_that_comes_late_moves_only_what_waits_for_it():
    """One pair of hands for three vehicles: others could be done sooner in the gap, and nobody was promised that."""
    shop = ShopSaid(
        hands=(*HANDS, HandSaid(name="mateus", skills=("structure", "weld"))), places=(PlaceSaid(name="rack", many=3),)
    )
    jobs = [job(f"SL-{k}") for k in (1, 2, 3)]
    _, plan, made = planned(jobs, shop)
    was = {one.id: (one.start, one.person, False) for one in made.plan}
    late = Waiting("part", "glass", "Ines", "", "measure", "")._replace(due_at="2026-11-03T15:00:00.000000Z")
    first = min(("SL-1", "SL-2", "SL-3"), key=lambda number: plan[number, "Measure"].start)
    _, after, _ = planned(
        [job(n, waiting=[late] if n == first else ()) for n in ("SL-1", "SL-2", "SL-3")], shop, was=was
    )
    moved = {k for k in plan if (after[k].start, after[k].person) != (plan[k].start, plan[k].person)}
    assert moved <= {(first, what) for what in ("Measure", "Read and decide", "Prove and hand over")}
    assert (first, "Measure") in moved
