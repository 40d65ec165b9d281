"""The work of all open jobs as one day plan: what can be planned, in which order, by whom, where, and why something cannot."""

import datetime
import math
from collections.abc import Collection, Iterator, Mapping, Sequence
from typing import NamedTuple

from fairsquare.core.model import Model
from fairsquare.core.plan.asked import DayPlan, Operation, Worker
from fairsquare.core.plan.shop_said import HandSaid, ShopSaid
from fairsquare.job.plan.operations import JobWork, WorkRow, kind_of
from fairsquare.job.stations import ORDER
from fairsquare.job.waiting import Waiting

SHORTEST_MIN = 15
"""Work that should have been over by now still takes as long as this. Common practice, no source."""
_ROUND_MIN = 5


class JobToPlan(NamedTuple):
    """An open job: its work, what it waits for, when it was promised, who works on what of it now, whether it is on its rack."""

    number: str
    vehicle: str
    work: JobWork
    waiting: tuple[Waiting, ...] = ()
    going_on: tuple[tuple[str, str], ...] = ()
    on_rack: bool = False


class Piece(Model):
    """A piece of the plan: of which job, what, at which station. `id` is what the plan calls it."""

    id: str
    job: str
    vehicle: str
    what: str
    station: str
    minutes: int


class NotNow(Model):
    """Something that is not in the plan, and why."""

    job: str
    vehicle: str
    what: str
    why: str


class FloorWork(NamedTuple):
    """All there is to plan: the request, the pieces by id, what stays on its rack, who is at what now, what cannot be planned."""

    asked: DayPlan
    pieces: Mapping[str, Piece]
    stays: tuple[tuple[str, ...], ...]
    on_rack: frozenset[str]
    at_it: Mapping[str, str]
    not_now: tuple[NotNow, ...]


class _Step(NamedTuple):
    what: str
    station: str
    minutes: int
    people: int
    after: tuple[str, ...]


def floor_work(
    jobs: Sequence[JobToPlan],
    said: ShopSaid,
    hours: Sequence[tuple[int, int]],
    base: datetime.datetime,
    dues: Mapping[str, int],
    may_not_sign: Collection[str] = (),
) -> FloorWork:
    """Return what there is to plan. `dues` say by which minute of the clock since `base` each job is promised.

    `may_not_sign`: people who sign nothing, so that what is proven and handed over is not given to them.
    """
    shop = _Shop(
        said, {hand.name: _skills(hand, signs=hand.name not in may_not_sign) for hand in said.hands}, hours, base
    )
    each = [_of_job(job, shop, dues.get(job.number)) for job in jobs]
    rack = said.at("set-up").place
    stays = [tuple(operation.id for operation in own.operations if rack and operation.place == rack) for own in each]
    asked = DayPlan(
        operations=tuple(operation for own in each for operation in own.operations),
        people=tuple(Worker(id=name, skills=own) for name, own in shop.hands.items()),
        places={place.name: place.many for place in said.places},
        hours=tuple(hours),
    )
    return FloorWork(
        asked,
        {piece.id: piece for own in each for piece in own.pieces},
        tuple(ids for ids in stays if ids),
        frozenset(job.number for job in jobs if job.on_rack),
        {id: who for own in each for id, who in own.at_it.items()},
        tuple(task for own in each for task in own.not_now),
    )


class _Shop(NamedTuple):
    """What there is to work with: what the shop said of itself, its people with what each can, the hours, and their beginning."""

    said: ShopSaid
    hands: Mapping[str, tuple[str, ...]]
    hours: Sequence[tuple[int, int]]
    base: datetime.datetime

    def needs(self, step: _Step) -> str:
        """Return the skill that a step needs; empty for none."""
        skill = self.said.at(step.station).skill
        return _signed(skill) if kind_of(step.what) == "prove" else skill

    def lacks(self, step: _Step) -> str:
        """Return what the shop lacks for a step, in words; empty where nothing."""
        skill, needs = self.said.at(step.station).skill, self.needs(step)
        if step.people > len(self.said.hands):
            return f"it takes {step.people} people"
        if skill and not any(skill in hand.skills for hand in self.said.hands):
            return f"nobody can {skill}"
        if needs and not any(needs in own for own in self.hands.values()):
            return "it is signed for, and nobody who may sign is there"
        return ""


class _OfJob(NamedTuple):
    """What there is to plan of one job, in the order of the work."""

    operations: list[Operation]
    pieces: list[Piece]
    at_it: dict[str, str]
    not_now: list[NotNow]


def _of_job(job: JobToPlan, shop: _Shop, promised_min: int | None) -> _OfJob:
    """Return what there is to plan of a job: up to the first step that is held up or that the shop lacks something for."""
    own, ids, stopped = _OfJob([], [], {}, []), dict[str, str](), ""
    for k, step in enumerate(_steps(job.work)):
        held, due = _held(job.waiting, step.station)
        stopped = stopped or held or shop.lacks(step)
        if stopped:
            own.not_now.append(NotNow(job=job.number, vehicle=job.vehicle, what=step.what, why=stopped))
            continue
        id = ids[step.what] = f"{job.number} {k + 1}"
        own.pieces.append(
            Piece(
                id=id, job=job.number, vehicle=job.vehicle, what=step.what, station=step.station, minutes=step.minutes
            )
        )
        who = next((name for what, name in job.going_on if what == step.what), None)
        if who is not None:
            own.at_it[id] = who
        own.operations.append(_operation(id, step, shop, ids, due, begun=who is not None))
    if own.operations and promised_min is not None and not stopped:
        own.operations[-1] = own.operations[-1].model_copy(update={"due_min": promised_min})
    return own


def _operation(id: str, step: _Step, shop: _Shop, ids: Mapping[str, str], due: str, *, begun: bool) -> Operation:
    """Return a step as an operation of the plan: one that was begun goes on with whoever is at it, whatever came before it."""
    opens = shop.hours[0][0]
    return Operation(
        id=id,
        minutes=step.minutes,
        skill=None if begun else shop.needs(step) or None,
        helpers=step.people - 1,
        place=shop.said.at(step.station).place or None,
        after=() if begun else tuple(ids[name] for name in step.after if name in ids),
        not_before_min=max(opens, _minutes(due, shop.base)) if due and not begun else opens,
    )


def _signed(skill: str) -> str:
    """Return the skill of who does something and signs for it."""
    return f"{skill} and sign for it" if skill else "sign for it"


def _skills(hand: HandSaid, *, signs: bool) -> tuple[str, ...]:
    """Return what somebody can do; who may sign can besides sign for each of it."""
    return (*hand.skills, *(_signed(skill) for skill in ("", *hand.skills))) if signs else hand.skills


def _held(waits: Sequence[Waiting], station: str) -> tuple[str, str]:
    """Return why work at a station cannot be planned (nobody knows until when it waits), or until when it waits."""
    due = ""
    for wait in waits:
        if station in ORDER and wait.holds_up(station):
            if not wait.due_at:
                asked = f", {wait.asked_of} was asked" if wait.asked_of else ""
                return f"waits for {wait.words}{asked}; nobody knows until when", ""
            due = max(due, wait.due_at)
    return "", due


def _steps(work: JobWork) -> Iterator[_Step]:
    """Return what is left to do in a job, in order: what comes off before what needs it off, what goes on before it is proven."""
    rows = [row for row in work.rows if not row.done and row.hours > 0]
    parts = {row.name: row for row in rows if row.part is not None}
    operations = sorted((row for row in rows if row.part is None), key=lambda row: _rank(row.station))
    levels: list[tuple[int, list[str]]] = []
    off: set[str] = set()
    on_yet = [name for name in work.found.off[::-1] if name in parts]
    for row in operations:
        before = next((names for rank, names in reversed(levels) if rank < _rank(row.station)), [])
        level = before
        for name in [name for name in work.found.off if name in parts and row.name in work.found.because[name]]:
            part = parts[name].part
            if name not in off and part is not None and part.off_h > 0:
                off.add(name)
                over = tuple(f"{other} off" for other in parts[name].needs_off if other in off)
                yield _Step(f"{name} off", row.station, _whole(part.off_h), 1, (*level, *over))
            before = [*before, f"{name} off"] if name in off else before
        if row.name == operations[-1].name:
            for name in on_yet:
                step = _on(parts[name], row.station, before)
                if step is not None:
                    yield step
                    before = [*before, step.what]
        yield _Step(row.name, row.station, _left(row), row.people, tuple(before))
        if not levels or levels[-1][0] != _rank(row.station):
            levels.append((_rank(row.station), []))
        levels[-1][1].append(row.name)


def _on(row: WorkRow, station: str, before: Sequence[str]) -> _Step | None:
    """Putting a part on again, with its trial fits; none where it is scrap and was never tried."""
    part = row.part
    assert part is not None
    takes = part.on_hours + part.off_h * part.trials
    if takes <= 0:
        return None
    words = f"{row.name} on" + (f", {part.trials} trial fit{'' if part.trials == 1 else 's'}" if part.trials else "")
    return _Step(words, station, _whole(takes), 1, tuple(before))


def _left(row: WorkRow) -> int:
    """Return how many minutes a row takes yet, for as many people as it takes."""
    return max(SHORTEST_MIN, _whole(max(0.0, row.hours - (row.worked_h or 0.0)) / row.people))


def _whole(hours: float) -> int:
    return max(_ROUND_MIN, math.ceil(hours * 60 / _ROUND_MIN - 1e-9) * _ROUND_MIN)


def _rank(station: str) -> int:
    return ORDER.index(station) if station in ORDER else ORDER.index("finish")


def _minutes(moment: str, base: datetime.datetime) -> int:
    return math.ceil((datetime.datetime.fromisoformat(moment) - base).total_seconds() / 60)
