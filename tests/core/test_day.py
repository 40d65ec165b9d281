"""The hours of a job by hand, and day plans: judged minute by minute, and against every plan there is of small ones."""

import json
import random

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.plan import solve
from fairsquare.core.plan.asked import DayPlan
from fairsquare.core.plan.day import day_plan
from fairsquare.core.plan.hours import JobHours, job_hours
from fairsquare.core.plan.working import WorkingTime
from tests.core.planning import chain_faults, faults, least

DAY = [[480, 720], [760, 1020]]


@pytest.fixture(autouse=True)
def a_machine_that_is_never_slow(monkeypatch):
    """The search ends by its own measure of work, whatever else the machine does meanwhile."""
    monkeypatch.setattr(solve, "_LATENESS_S", 60.0)
    monkeypatch.setattr(solve, "_FINISH_S", 60.0)


def hours(operations, parts):
    return job_hours(JobHours.model_validate({"operations": operations, "parts": parts}))


def plan(operations, people=None, places=None, hours=None):
    people = people if people is not None else [{"id": "Ngozi", "skills": ["weld"]}]
    asked = {"operations": operations, "people": people, "places": places or {}, "hours": hours or DAY}
    request = DayPlan.model_validate_json(json.dumps(asked))
    return request, day_plan(request)


def test_a_wing_needed_off_for_two_operations_comes_off_once():
    parts = [
        {"id": "wing", "off_h": 0.8, "on_h": 1.0, "under": ["lamp", "bumper"]},
        {"id": "bumper", "off_h": 0.5, "on_h": 0.6},
        {"id": "lamp", "off_h": 0.2, "on_h": 0.3, "under": ["bumper"]},
        {"id": "door", "off_h": 1.0, "on_h": 1.5},
    ]
    found = hours(
        [
            {"id": "rail", "hours": 4.0, "needs_off": ["wing"], "sold_h": 5.0, "worked_h": 6.5},
            {"id": "apron", "hours": 2.0, "needs_off": ["lamp"], "sold_h": 2.5},
        ],
        parts,
    )
    assert found.off == ("bumper", "lamp", "wing")
    assert found.because == {"bumper": ("rail", "apron"), "lamp": ("rail", "apron"), "wing": ("rail",)}
    # By hand: off 0.5 + 0.2 + 0.8, on 0.6 + 0.3 + 1.0; the apron by itself would take bumper and lamp off again: 1.6.
    assert (found.off_h, found.on_h, found.total_h) == pytest.approx((1.5, 1.9, 9.4))
    assert found.counted_once_saves_h == pytest.approx(1.6)
    assert (found.sold_h, found.worked_h, found.sold_less_worked_h) == pytest.approx((5.0, 6.5, -1.5))


@pytest.mark.parametrize(("scrap", "on_h"), [(False, 4 * 1.5), (True, 3 * 1.5)])
def test_a_door_hung_three_times_for_trial_is_work_each_time(scrap, on_h):
    door = {"id": "door", "off_h": 1.0, "on_h": 1.5, "scrap": scrap, "trials": 3}
    found = hours([{"id": "sill", "hours": 1.0, "needs_off": ["door"]}], [door])
    assert (found.off_h, found.on_h) == pytest.approx((4.0, on_h))
    assert hours([{"id": "sill", "hours": 1.0}], [door]).total_h == 1.0, "a part that stays on counts nothing"


@given(st.integers(0, 10**6))
@settings(max_examples=60, deadline=None)
def test_what_comes_off_is_what_a_person_would_find_by_walking_up(seed):
    chance = random.Random(seed)
    names = [f"p{k}" for k in range(chance.randint(1, 9))]
    parts = [
        {
            "id": name,
            "off_h": chance.randint(0, 20) / 10,
            "on_h": chance.randint(0, 20) / 10,
            "under": chance.sample(names[:k], chance.randint(0, min(2, k))),
            "scrap": chance.random() < 0.3,
        }
        for k, name in enumerate(names)
    ]
    chance.shuffle(parts)
    operations = [
        {"id": f"o{k}", "hours": 1.0, "needs_off": chance.sample(names, min(len(names), chance.randint(0, 2)))}
        for k in range(4)
    ]
    found, by_id = hours(operations, parts), {part["id"]: part for part in parts}
    walked = {}
    for one in operations:
        seen, todo = set(), list(one["needs_off"])
        while todo:
            name = todo.pop()
            if name not in seen:
                seen.add(name)
                todo += by_id[name]["under"]
        walked[one["id"]] = seen
    assert set(found.off) == set().union(*walked.values())
    for place, name in enumerate(found.off):
        assert set(by_id[name]["under"]) <= set(found.off[:place])
        assert list(found.because[name]) == [one["id"] for one in operations if name in walked[one["id"]]]
    each = sum(by_id[n]["off_h"] + (0 if by_id[n]["scrap"] else by_id[n]["on_h"]) for w in walked.values() for n in w)
    assert found.counted_once_saves_h == pytest.approx(each - found.off_h - found.on_h, abs=1e-9)


@pytest.mark.parametrize(
    ("operations", "parts", "words"),
    [
        ([{"id": "a", "hours": 1.0, "needs_off": ["x"]}], [], "no part x"),
        ([{"id": "a", "hours": 1.0}, {"id": "a", "hours": 1.0}], [], "listed twice"),
        ([], [{"id": "p", "off_h": 1.0, "on_h": 1.0}] * 2, "listed twice"),
        ([], [{"id": "p", "off_h": 1.0, "on_h": 1.0, "under": ["q"]}], "no part q"),
        ([], [{"id": n, "off_h": 1.0, "on_h": 1.0, "under": [u]} for n, u in ("pq", "qr", "rp")], "circle"),
    ],
)
def test_hours_that_make_no_sense_are_refused(operations, parts, words):
    with pytest.raises(Refused, match=words):
        hours(operations, parts)


@pytest.mark.parametrize(("field", "value"), [("hours", -1.0), ("sold_h", -0.1), ("worked_h", -2.0)])
def test_negative_hours_are_refused(field, value):
    with pytest.raises(FairSquareError, match=field):
        CATALOGUE["job-hours"].read(json.dumps({"operations": [{"id": "a", "hours": 1.0, field: value}], "parts": []}))


def test_the_clock_runs_on_and_working_minutes_do_not():
    time = WorkingTime([(480, 600), (600, 720), (760, 1020)])
    assert len(time.stretches) == 2, "two that touch are one"
    assert [time.starts(k) for k in (0, 239, 240)] == [480, 719, 760]
    assert [time.ends(k) for k in (1, 240, 241)] == [481, 720, 761]
    assert [time.not_before(t) for t in (0, 481, 719, 720, 760, 761, 1020, 9999)] == [
        0,
        1,
        239,
        240,
        240,
        241,
        500,
        500,
    ]
    assert time.first_whole(200, 60) == 240
    assert time.first_whole(300, 300) is None


def test_a_break_interrupts_what_need_not_be_unbroken():
    work = {"id": "pull", "minutes": 260}
    _, broken = plan([work])
    assert (broken.plan[0].start, broken.plan[0].end) == (480, 780)
    _, whole = plan([{**work, "minutes": 250, "unbroken": True}])
    assert (whole.plan[0].start, whole.plan[0].end) == (760, 1010)


def test_foam_sets_through_the_break_and_the_night():
    two_days = [*DAY, [1920, 2160]]
    foam = {"id": "foam", "minutes": 30, "wait_after_min": 1000}
    _, found = plan([foam, {"id": "close", "minutes": 10, "after": ["foam"]}], hours=two_days)
    assert [one.start for one in found.plan] == [480, 1920]
    assert found.finish == 1930
    assert found.chain == ("foam", "close")


def test_lateness_comes_before_the_finish():
    # Two jobs, one person: the promised one first, though the long one first would finish all no later.
    _, found = plan([{"id": "long", "minutes": 200}, {"id": "promised", "minutes": 30, "due_min": 510}])
    assert found.late == {}
    assert [one.start for one in found.plan] == [510, 480]
    _, late = plan([{"id": "late", "minutes": 30, "due_min": 500, "wait_after_min": 60}])
    assert late.late == {"late": 70}
    assert late.bound == late.finish == 570
    assert late.late_bound == 70


def _small(seed):
    chance = random.Random(seed)
    people = [
        {"id": f"P{k}", "skills": chance.sample(["weld", "paint"], chance.randint(0, 2))}
        for k in range(chance.randint(1, 3))
    ]
    have = sorted({skill for person in people for skill in person["skills"]})
    operations = []
    for k in range(chance.randint(2, 5)):
        one = {"id": f"o{k}", "minutes": chance.randint(1, 4)}
        if have and chance.random() < 0.5:
            one["skill"] = chance.choice(have)
        if len(people) > 1 and chance.random() < 0.25:
            one["helpers"] = 1
        if chance.random() < 0.5:
            one["place"] = chance.choice(["rack", "bay"])
        if k and chance.random() < 0.6:
            one["after"] = [f"o{chance.randrange(k)}"]
            if chance.random() < 0.3:
                one["within_min_of"] = {"id": one["after"][0], "minutes": chance.randint(0, 8)}
        if chance.random() < 0.3:
            one["wait_after_min"] = chance.randint(1, 6)
        if chance.random() < 0.2:
            one["not_before_min"] = chance.randint(0, 10)
        one["unbroken"] = chance.random() < 0.3
        if chance.random() < 0.4:
            one["due_min"] = chance.randint(0, 14)
        operations.append(one)
    stretches, at = [], chance.randint(0, 2)
    for _ in range(3):
        stretches.append([at, at + chance.randint(2, 6)])
        at = stretches[-1][1] + chance.randint(1, 5)
    return {"operations": operations, "people": people, "places": {"rack": 1, "bay": 2}, "hours": stretches}


@pytest.mark.parametrize("seed", range(120))
def test_small_plans_are_as_good_as_the_best_of_all_there_are(seed):
    asked = DayPlan.model_validate_json(json.dumps(_small(seed)))
    best = least(asked)
    if best is None:
        with pytest.raises(Refused):
            day_plan(asked)
        return
    found = day_plan(asked)
    assert faults(asked, found.plan) == []
    assert chain_faults(asked, found) == []
    assert (sum(found.late.values()), found.finish) == best
    assert found.optimal
    assert found.bound == found.finish


def shop_day(seed, jobs=12, each=5):
    """Work as a shop has it: jobs of a few operations after one another, people, two racks, a booth, promised dates."""
    chance = random.Random(seed)
    people = [
        {"id": "Ngozi", "skills": ["structure", "weld"]},
        {"id": "Mateus", "skills": ["structure"]},
        {"id": "Solveig", "skills": ["structure", "weld", "paint"]},
        {"id": "Keahi", "skills": []},
    ]
    kinds = [
        ("measure", "structure", "rack", 0),
        ("pull", "structure", "rack", 1),
        ("cut", "weld", "rack", 0),
        ("weld", "weld", "bay", 0),
    ]
    kinds.append(("paint", "paint", "booth", 0))
    operations = []
    for job in range(jobs):
        for k in range(each):
            kind, skill, place, helpers = kinds[k % 5]
            operations.append(
                {
                    "id": f"{job} {kind}",
                    "minutes": chance.choice([30, 45, 60, 90, 150]),
                    "skill": skill,
                    "place": place,
                    "helpers": helpers,
                    "after": [f"{job} {kinds[k - 1][0]}"] if k else [],
                    "wait_after_min": chance.choice([0, 0, 45]),
                    "due_min": chance.randint(2, 8) * 1440 if k == each - 1 else None,
                }
            )
    week = [[d * 1440 + a, d * 1440 + b] for d in range(10) for a, b in ((480, 720), (760, 1020))]
    return {"operations": operations, "people": people, "places": {"rack": 2, "bay": 2, "booth": 1}, "hours": week}


@pytest.mark.parametrize("seed", range(1))
def test_twelve_jobs_of_sixty_operations_are_planned_with_their_gap(seed):
    asked = DayPlan.model_validate_json(json.dumps(shop_day(seed)))
    found = day_plan(asked)
    assert faults(asked, found.plan) == []
    assert chain_faults(asked, found) == []
    late = sum(found.late.values())
    assert found.late_bound <= late
    assert found.optimal or found.late_bound < late or (found.bound is not None and found.bound < found.finish)


@pytest.mark.parametrize("seed", range(6))
def test_a_plan_beyond_ten_operations_is_hardly_worse_than_a_long_search_finds(seed):
    asked = DayPlan.model_validate_json(json.dumps(shop_day(100 + seed, jobs=4, each=4)))
    found = day_plan(asked)
    assert faults(asked, found.plan) == []
    late = sum(found.late.values())
    assert late <= 1.1 * found.late_bound + 60
    if found.bound is not None:
        assert found.finish <= 1.08 * found.bound


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"skill": "paint"}, "nobody can do paint"),
        ({"helpers": 1}, "1 to help, and there are 1 people"),
        ({"place": "moon"}, "no place moon"),
        ({"after": ["z"]}, "not among"),
        ({"after": ["a"]}, "circle"),
        ({"minutes": 501}, "does not fit"),
        ({"minutes": 261, "unbroken": True}, "does not fit"),
        ({"not_before_min": 1019}, "does not fit"),
        ({"within_min_of": {"id": "b", "minutes": 5}}, "also comes after"),
    ],
)
def test_what_cannot_be_planned_is_refused_by_name(change, words):
    with pytest.raises(Refused, match=words):
        plan([{"id": "a", "minutes": 30, **change}, {"id": "b", "minutes": 30}])


def test_hours_that_hold_no_plan_and_hours_that_make_no_sense():
    with pytest.raises(Refused, match="no plan within these hours"):
        plan([{"id": k, "minutes": 300} for k in "ab"])
    with pytest.raises(Refused, match="no plan within these hours"):
        plan([{"id": f"o{k}", "minutes": 60} for k in range(12)])
    for wrong, words in (
        ([[720, 480]], "begin at 720 and end at 480"),
        ([[480, 720], [700, 900]], "before the last ends"),
    ):
        with pytest.raises(Refused, match=words):
            plan([{"id": "a", "minutes": 30}], hours=wrong)
    with pytest.raises(Refused, match="circle: a after c after b after a"):
        plan(
            [
                {"id": "a", "minutes": 1, "after": ["c"]},
                {"id": "b", "minutes": 1, "after": ["a"]},
                {"id": "c", "minutes": 1, "after": ["b"]},
            ]
        )


@pytest.mark.parametrize("field", ["minutes", "helpers", "due_min"])
def test_minutes_are_whole(field):
    with pytest.raises(FairSquareError, match=field):
        CATALOGUE["day-plan"].read(
            json.dumps({"operations": [{"id": "a", "minutes": 5, field: 2.5}], "people": [], "hours": [[0, 9]]})
        )
