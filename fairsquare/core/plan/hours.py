"""The hours of a job: its operations, and what must come off and go on again for them, each part once."""

import heapq
import math
from collections.abc import Iterable, Mapping, Sequence
from typing import Annotated, TypeVar

from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Model

Hours = Annotated[float, Field(ge=0, le=1e6)]
Trials = Annotated[int, Field(ge=0, le=1000)]


class OperationHours(Model):
    """An operation: its own hours, the parts that must be off for it, what was sold of it and what was worked on it."""

    id: Code
    hours: Hours
    needs_off: Many[Code] = ()
    sold_h: Hours | None = None
    worked_h: Hours | None = None


class PartHours(Model):
    """A part: hours to take it off and to put it on, the parts that lie over it, and how often it is tried besides."""

    id: Code
    off_h: Hours
    on_h: Hours
    under: Many[Code] = ()
    scrap: bool = False
    trials: Trials = 0

    @property
    def off_hours(self) -> float:
        """All its hours of coming off: once, and once more for every trial."""
        return self.off_h * (1 + self.trials)

    @property
    def on_hours(self) -> float:
        """All its hours of going on: once for every trial, and at the end if it is not scrap."""
        return self.on_h * (self.trials + (0 if self.scrap else 1))

    @property
    def once_h(self) -> float:
        """What coming off and going on take without any trial."""
        return self.off_h + (0.0 if self.scrap else self.on_h)


_Listed = TypeVar("_Listed", OperationHours, PartHours)


class JobHours(Model):
    """The operations of a job and the parts of its vehicle that may be in the way."""

    operations: Many[OperationHours]
    parts: Many[PartHours] = ()


class HoursFound(Model):
    """What comes off, in order and for what, and the hours: of the work, of taking off, of putting on, sold and worked."""

    off: tuple[str, ...]
    because: dict[str, tuple[str, ...]]
    work_h: float
    off_h: float
    on_h: float
    total_h: float
    counted_once_saves_h: float
    sold_h: float
    worked_h: float
    sold_less_worked_h: float


def job_hours(request: JobHours) -> HoursFound:
    """Add up the hours of a job, with every part taken off once however many operations need it off.

    A part comes off when an operation needs it off, or when it lies over a part that comes off. Raises `Refused` for an id that is
    unknown or stands twice, and for parts that lie under one another in a circle.
    """
    parts = _by_id(request.parts, "parts", "Part")
    _by_id(request.operations, "operations", "Operation")
    _known(parts, ((f"parts.{k}.under", part.under) for k, part in enumerate(request.parts)))
    _known(
        parts, ((f"operations.{k}.needs_off", operation.needs_off) for k, operation in enumerate(request.operations))
    )
    order = _from_above(request.parts)
    over = _all_over(parts, order)
    wanted = {
        operation.id: frozenset(operation.needs_off).union(*(over[id] for id in operation.needs_off))
        for operation in request.operations
    }
    because = {
        id: tuple(operation.id for operation in request.operations if id in wanted[operation.id]) for id in order
    }
    off = _from_above([part for part in request.parts if because[part.id]])
    work_h = math.fsum(operation.hours for operation in request.operations)
    off_h = math.fsum(parts[id].off_hours for id in off)
    on_h = math.fsum(parts[id].on_hours for id in off)
    each_its_own = math.fsum(
        parts[id].once_h for operation in request.operations for id in sorted(wanted[operation.id])
    )
    both = [
        (operation.sold_h, operation.worked_h)
        for operation in request.operations
        if operation.sold_h is not None and operation.worked_h is not None
    ]
    return HoursFound(
        off=off,
        because={id: because[id] for id in off},
        work_h=work_h,
        off_h=off_h,
        on_h=on_h,
        total_h=math.fsum((work_h, off_h, on_h)),
        counted_once_saves_h=max(0.0, each_its_own - math.fsum(parts[id].once_h for id in off)),
        sold_h=math.fsum(sold for sold, _ in both),
        worked_h=math.fsum(worked for _, worked in both),
        sold_less_worked_h=math.fsum(sold - worked for sold, worked in both),
    )


def _by_id(listed: Sequence[_Listed], field: str, kind: str) -> dict[str, _Listed]:
    by_id: dict[str, _Listed] = {}
    for index, item in enumerate(listed):
        if item.id in by_id:
            raise Refused(
                f"{kind} {item.id} is listed twice: give each its own id.", field=f"{field}.{index}.id", value=item.id
            )
        by_id[item.id] = item
    return by_id


def _known(parts: Mapping[str, PartHours], fields: Iterable[tuple[str, Sequence[str]]]) -> None:
    for field, named in fields:
        for id in named:
            if id not in parts:
                known = ", ".join(list(parts)[:12]) or "none"
                raise Refused(f"There is no part {id}. The parts: {known}.", field=field, value=id)


def _from_above(parts: Sequence[PartHours]) -> tuple[str, ...]:
    """Return the parts so that what lies over one comes before it; of those that may be next, always the first listed."""
    place = {part.id: k for k, part in enumerate(parts)}
    left = [len({id for id in part.under if id in place}) for part in parts]
    beneath: list[list[int]] = [[] for _ in parts]
    for k, part in enumerate(parts):
        for id in {id for id in part.under if id in place}:
            beneath[place[id]].append(k)
    ready = [k for k, over in enumerate(left) if not over]
    heapq.heapify(ready)
    order = []
    while ready:
        k = heapq.heappop(ready)
        order.append(parts[k].id)
        for lower in beneath[k]:
            left[lower] -= 1
            if not left[lower]:
                heapq.heappush(ready, lower)
    if len(order) < len(parts):
        circle = _circle({part.id: part.under for part in parts if part.id not in set(order)})
        k = place[circle[0]]
        raise Refused(
            f"Parts lie under one another in a circle: {' under '.join((*circle, circle[0]))}. One of them comes off first.",
            field=f"parts.{k}.under",
            value=list(parts[k].under),
        )
    return tuple(order)


def _circle(under: Mapping[str, Sequence[str]]) -> list[str]:
    """Return one circle of parts that each lie under another of them."""
    walked = [next(iter(under))]
    while True:
        upper = next(id for id in under[walked[-1]] if id in under)
        if upper in walked:
            return walked[walked.index(upper) :]
        walked.append(upper)


def _all_over(parts: Mapping[str, PartHours], order: Sequence[str]) -> dict[str, frozenset[str]]:
    """Return everything that lies over each part, directly or through others."""
    over: dict[str, frozenset[str]] = {}
    for id in order:
        over[id] = frozenset(parts[id].under).union(*(over[upper] for upper in parts[id].under))
    return over
