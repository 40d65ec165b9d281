"""The demo's past: vans like the Dunlin that were pulled square and released: something for the shop to learn from."""

import datetime
import math
import secrets
from typing import NamedTuple

import numpy as np

from fairsquare.actions import Desk, deciding, finishing, measuring, pull_plans, pulling, waiting, working
from fairsquare.actions.deciding import DecisionSaid, MemberSaid
from fairsquare.core.damage.decide import MakersWord
from fairsquare.core.fit.said import FitSaid
from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.core.plan.said import HoursSaid, OperationSaid
from fairsquare.core.pull.job import CAUTIONS, AfterPull, BoardState, ChainSet, PlanSaid, PointCycle, WorkPull
from fairsquare.job.damage.choices import member_states
from fairsquare.job.damage.job import damage_of, key_of, open_findings
from fairsquare.job.facts.done import OutsideWork
from fairsquare.job.facts.holds import HoldName
from fairsquare.job.facts.hours import WaitKind
from fairsquare.job.facts.intake import SafetyAnswer
from fairsquare.job.facts.measure import NewReading, Purpose
from fairsquare.job.pull.board import board_of
from fairsquare.stand_ins.vehicles import DUNLIN, Floats, instrument_reading
from fairsquare.store import people
from fairsquare.store.jobs import JobDetails
from fairsquare.store.people import Person

_PLACES = {point.code: np.array(point.xyz) for point in DUNLIN.sheet.points}
_REFERENCES = [point.code for point in DUNLIN.sheet.points if point.reference]
_SPANS = (("F5L", "F5R"), ("F5L", "F4R"), ("F5R", "F4L"))


class _Van(NamedTuple):
    """A van: how short its rail ends were, mm, what came back as times what the frame said, hours sold and worked, and waits."""

    name: str
    short_mm: tuple[float, float]
    gave: float
    hours: tuple[tuple[str, str, float, float], ...]
    waits: tuple[tuple[WaitKind, str, str, float], ...]


_VANS = (
    _Van(
        "Dunlin post van, harbour round",
        (7.0, 10.0),
        1.18,
        (
            ("mateus", "Set up and clamp", 3.0, 4.2),
            ("ngozi", "Measure", 1.5, 2.4),
            ("mateus", "Pull 1: at F5L, at F5R", 1.0, 2.1),
            ("solveig", "Prove and hand over", 1.0, 0.8),
        ),
        (
            ("approval", "the payer’s word on the second rail", "", 44.0),
            ("mechanic", "condenser out and in", "pulls", 21.5),
        ),
    ),
    _Van(
        "Dunlin post van, north isles",
        (6.0, 6.5),
        1.07,
        (
            ("ngozi", "Set up and clamp", 3.0, 3.4),
            ("ngozi", "Measure", 1.5, 2.9),
            ("mateus", "Pull 1: at F5L, at F5R", 1.5, 1.7),
        ),
        (("refrigerant", "recovery unit, at the other slip", "made_safe", 26.0),),
    ),
    _Van(
        "Dunlin library van",
        (12.0, 9.0),
        1.26,
        (
            ("mateus", "Set up and clamp", 2.5, 4.0),
            ("mateus", "Measure", 1.5, 1.9),
            ("ngozi", "Pull 1: at F5L, at F5R", 1.0, 2.6),
            ("solveig", "Read and decide", 0.5, 0.4),
        ),
        (("part", "right lamp", "finish", 71.0), ("mechanic", "wheel alignment at Corran", "finish", 19.0)),
    ),
)


def load_past(desk: Desk) -> list[str]:
    """Load the vans of the past, each taken in, pulled, proven, released and closed; return their numbers."""
    everybody = {row["name"]: row for row in desk.database.run(people.people)}
    persons = {
        name: Person(row["id"], name, row["full_name"], row["role"]) for name, row in everybody.items() if row["active"]
    }
    return [_tell(desk, persons, van, index) for index, van in enumerate(_VANS)]


def _tell(desk: Desk, persons: dict[str, Person], van: _Van, index: int) -> str:
    technician, lead = persons["ngozi"], persons["solveig"]
    details = JobDetails(vehicle=van.name, construction="unibody", hit_where="front", hit_from_deg=0)
    number = desk.open_job(persons["tomasz"], _key(), details)
    for item in SAFETY_ITEMS:
        by = ("Pernille Ostrander", "KR-2231") if item.qualified else ("", "")
        answer: SafetyAnswer = "absent" if item.key == "high_voltage" else "done"
        desk.answer_safety(technician, _key(), number, item.key, answer, "", *(by if answer == "done" else ("", "")))
    _sign(desk, technician, number, "made_safe")
    desk.accept_sheet(technician, _key(), number, DUNLIN.sheet, {}, "sheet of the Dunlin.csv")
    pushed = {f"F5{side}": np.array((-mm, 0.0, 0.0)) for side, mm in zip("LR", van.short_mm, strict=True)}
    setup = measuring.open_setup(desk, technician, _key(), number, "3-D instrument", 0.3)
    _read(desk, technician, number, setup, _REFERENCES, {}, index)
    _sign(desk, technician, number, "setup_accepted")
    points = [code for code in _PLACES if code not in _REFERENCES]
    _read(desk, technician, number, setup, points, pushed, index + 10)
    _decide(desk, lead, number)
    waits = [
        waiting.note_wait(desk, persons["tomasz"], _key(), number, kind, words, station=station, since=_ago(hours))
        for kind, words, station, hours in van.waits
    ]
    _pull(desk, technician, number)
    _read(desk, technician, number, setup, points, {}, index + 20)
    _end_pull(desk, technician, number, van)
    _sign(desk, technician, number, "pulls_done")
    _prove(desk, persons, number, setup)
    _hours(desk, persons, number, van, index)
    for wait in waits:
        waiting.end_wait(desk, persons["tomasz"], _key(), number, wait, "")
    for what, by_whom, paper in (
        ("alignment", "Corran tyres", f"A-{index + 31}"),
        ("calibration", "the maker’s word", ""),
    ):
        end = "done" if paper else "not_needed"
        outside = OutsideWork(what=what, end=end, by_whom=by_whom, paper=paper, words="" if paper else "no aids")  # type: ignore[arg-type]
        finishing.note(desk, technician, _key(), number, outside)
    _sign(desk, lead, number, "released")
    desk.close_job(lead, _key(), number, True)
    return number


def _decide(desk: Desk, lead: Person, number: str) -> None:
    deciding.keep_what_is_fair(desk, lead, _key(), number)
    for state in member_states(desk.view(number).facts):
        if state.seen is None:
            member_said = MemberSaid(state.member, "", "mild", "structural", ("bent",), MakersWord(), "the fleet file")
            seen = deciding.see_member(desk, lead, _key(), number, member_said)
            deciding.decide(desk, lead, _key(), number, seen, DecisionSaid("straighten"))
    facts = desk.view(number).facts
    damage = damage_of(facts)
    for finding in open_findings(facts, damage.findings if damage else ()):
        deciding.settle(desk, lead, _key(), number, key_of(finding), "looked at again, it stands")
    _sign(desk, lead, number, "decision_made")


def _pull(desk: Desk, technician: Person, number: str) -> None:
    """Pull both rail ends at once, and let go."""
    chains = tuple(
        ChainSet(hook=f"at F5{side}", tower=f"front {name}", height_mm=430.0, force_n=38_000.0)
        for side, name in (("L", "left"), ("R", "right"))
    )
    plan = PlanSaid(school="outward", pulls=(WorkPull(chains=chains),))
    pull_plans.keep_plan(desk, technician, _key(), number, plan, 0)
    pulling.begin(desk, technician, _key(), number, 1)
    ticks = tuple(name for name, _ in CAUTIONS)
    steps: tuple[tuple[BoardState, BoardState, tuple[str, ...]], ...] = (
        ("cautions", "test", ticks),
        ("test", "look", ()),
        ("look", "pulling", ("clamps",)),
        ("pulling", "let_go", ()),
    )
    for seen, state, ticked in steps:
        pulling.go_on(desk, technician, _key(), number, seen, state, ticked)


def _end_pull(desk: Desk, technician: Person, number: str, van: _Van) -> None:
    board = board_of(desk.view(number).facts)
    assert board is not None
    cycles = tuple(
        PointCycle(
            code=point.watched.code,
            before_mm=round(point.watched.was_mm, 1),
            loaded_mm=round(van.gave * point.watched.return_mm / point.watched.learned + 0.2, 1),
            after_mm=0.2,
        )
        for point in board.points
    )
    pulling.close_cycle(desk, technician, _key(), number, cycles, again=False, after=AfterPull(dolly=True))


def _prove(desk: Desk, persons: dict[str, Person], number: str, setup: int) -> None:
    technician = persons["ngozi"]
    nothing = FitSaid(none_hung="nothing was hung: the rail ends carry no panel of their own")
    finishing.say_fit(desk, technician, _key(), number, nothing, 0)
    _spans(desk, technician, number, setup)
    finishing.lower(desk, technician, _key(), number, "")
    _spans(desk, technician, number, setup)
    _sign(desk, persons["solveig"], number, "fit_accepted")


def _hours(desk: Desk, persons: dict[str, Person], number: str, van: _Van, index: int) -> None:
    sold = tuple(OperationSaid(name=name, sold_h=hours) for _, name, hours, _ in van.hours)
    working.say_hours(desk, persons["tomasz"], _key(), number, HoursSaid(operations=sold), 0)
    begin = datetime.datetime.now(datetime.UTC).replace(hour=8, minute=0, second=0, microsecond=0)
    begin -= datetime.timedelta(days=40 + 7 * index)
    for name, operation, _, took in van.hours:
        until = begin + datetime.timedelta(hours=took)
        since, end = (moment.strftime("%Y-%m-%dT%H:%M:%S.%fZ") for moment in (begin, until))
        working.add_work(desk, persons[name], _key(), number, operation, since, end, "")
        begin = until


def _read(
    desk: Desk, person: Person, number: str, setup: int, codes: list[str], moved: dict[str, Floats], seed: int
) -> None:
    chance = np.random.default_rng(seed)
    purpose: Purpose = "reference" if codes is _REFERENCES else "point"
    taken = []
    for code in codes:
        place = _PLACES[code] + moved.get(code, np.zeros(3))
        taken.append(
            NewReading(
                purpose=purpose, code=code, xyz=instrument_reading(place, setup, chance.normal(0, 0.2, 3)), said=code
            )
        )
    measuring.take_readings(desk, person, _key(), number, setup, taken)


def _spans(desk: Desk, person: Person, number: str, setup: int) -> None:
    taken = []
    for a, b in _SPANS:
        mm = round(math.dist(_PLACES[a], _PLACES[b]), 1)
        call = f"{a} {b} {mm}"
        taken.append(
            NewReading(purpose="point", code=a, said=call, kind="span", b=b, mode="point_to_point", mm=mm, sigma_mm=0.5)
        )
    measuring.take_readings(desk, person, _key(), number, setup, taken)


def _ago(hours: float) -> str:
    moment = datetime.datetime.now(datetime.UTC) - datetime.timedelta(hours=hours)
    return moment.strftime("%Y-%m-%dT%H:%M:%S.%fZ")


def _sign(desk: Desk, person: Person, number: str, hold: HoldName) -> None:
    state = desk.view(number).state.hold(hold)
    desk.sign(person, _key(), number, hold, state.evidence, "as the lead saw it" if state.missing else "")


def _key() -> str:
    return secrets.token_urlsafe(18)
