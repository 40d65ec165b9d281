"""A day plan's request by numbers, once it is known to make sense: tasks, people in groups of equal skills, working time."""

from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import NamedTuple

from fairsquare.core.errors import Refused
from fairsquare.core.plan.asked import DayPlan, Operation, Worker
from fairsquare.core.plan.working import WorkingTime


class Task(NamedTuple):
    """An operation by numbers: `after` and `within` (number, minutes) point to other tasks; `group`s of people may do it."""

    minutes: int
    helpers: int
    place: str | None
    after: tuple[int, ...]
    wait: int
    earliest: int
    within: tuple[int, int] | None
    unbroken: bool
    due: int | None
    groups: tuple[int, ...]


class Was(NamedTuple):
    """How a task was planned before: its first working minute and its person.

    `fixed`: it stays so, or begins later where something else leaves it no room; `begun`: it is being worked on.
    """

    start: int
    person: str
    fixed: bool = False
    begun: bool = False


class Shop(NamedTuple):
    """What a plan is made of: the tasks, the people in groups of equal skills, the places and the working time.

    `stays`: tasks between the first and the last of which nothing else takes their place, as a vehicle keeps its rack; `there`: the
    numbers of those stays whose vehicle stands there already. `was`: how tasks were planned before.
    """

    tasks: tuple[Task, ...]
    groups: tuple[tuple[str, ...], ...]
    places: Mapping[str, int]
    time: WorkingTime
    stays: tuple[tuple[int, ...], ...] = ()
    there: frozenset[int] = frozenset()
    was: Mapping[int, Was] = MappingProxyType({})


class Placed(NamedTuple):
    """A task in the plan: its first working minute, the group that does it, how many of each group help."""

    start: int
    group: int
    helpers: tuple[int, ...]


def read_shop(request: DayPlan, *, by_name: bool = False) -> Shop:
    """Return what a plan is to be made of; `by_name`: everybody is a group by himself. Raises `Refused` for what cannot be."""
    time = _time(request.hours)
    groups = _groups(request.people, by_name)
    numbers: dict[str, int] = {}
    for index, operation in enumerate(request.operations):
        if operation.id in numbers:
            raise Refused(
                f"Operation {operation.id} is listed twice: give each its own id.",
                field=f"operations.{index}.id",
                value=operation.id,
            )
        numbers[operation.id] = index
    if not request.operations:
        raise Refused("There is nothing to plan: give at least one operation.", field="operations", value=[])
    tasks = tuple(_task(request, index, numbers, groups, time) for index in range(len(request.operations)))
    _no_circle(request.operations, tasks)
    return Shop(tasks, tuple(tuple(names) for names in groups.values()), request.places, time)


def _time(hours: Sequence[tuple[int, int]]) -> WorkingTime:
    if not hours:
        raise Refused("There are no hours to work in: give at least one stretch.", field="hours", value=[])
    for index, (start, end) in enumerate(hours):
        if end <= start:
            raise Refused(
                f"Hours end after they begin: these begin at {start} and end at {end}.",
                field=f"hours.{index}",
                value=[start, end],
            )
        if index and start < hours[index - 1][1]:
            raise Refused(
                f"Stretches of hours follow one another: one begins at {start}, before the last ends at {hours[index - 1][1]}.",
                field=f"hours.{index}",
                value=[start, end],
            )
    return WorkingTime(hours)


def _groups(people: Sequence[Worker], by_name: bool) -> dict[frozenset[str], list[str]]:
    seen: set[str] = set()
    groups: dict[frozenset[str], list[str]] = {}
    for index, person in enumerate(people):
        if person.id in seen:
            raise Refused(f"{person.id} is listed twice.", field=f"people.{index}.id", value=person.id)
        seen.add(person.id)
        own = {f"name {person.id}"} if by_name else set()
        groups.setdefault(frozenset(person.skills) | own, []).append(person.id)
    return groups


def _task(
    request: DayPlan,
    index: int,
    numbers: Mapping[str, int],
    groups: Mapping[frozenset[str], Sequence[str]],
    time: WorkingTime,
) -> Task:
    operation, field = request.operations[index], f"operations.{index}"
    for id in (*operation.after, *([operation.within_min_of.id] if operation.within_min_of else [])):
        if id not in numbers:
            raise Refused(
                f"{operation.id} comes after {id}, which is not among the operations.", field=f"{field}.after", value=id
            )
    if operation.within_min_of and operation.within_min_of.id not in operation.after:
        raise Refused(
            f"{operation.id} is to begin soon after {operation.within_min_of.id}: then it also comes after it.",
            field=f"{field}.within_min_of.id",
            value=operation.within_min_of.id,
        )
    if operation.place is not None and operation.place not in request.places:
        known = ", ".join(request.places) or "none"
        raise Refused(
            f"{operation.id}: there is no place {operation.place}. The places: {known}.",
            field=f"{field}.place",
            value=operation.place,
        )
    able = tuple(k for k, skills in enumerate(groups) if operation.skill is None or operation.skill in skills)
    if not able:
        lacking = f"nobody can do {operation.skill}" if operation.skill else "there is nobody"
        raise Refused(f"{operation.id}: {lacking}.", field=f"{field}.skill", value=operation.skill)
    if operation.helpers >= len(request.people):
        raise Refused(
            f"{operation.id} takes a person and {operation.helpers} to help, and there are {len(request.people)} people.",
            field=f"{field}.helpers",
            value=operation.helpers,
        )
    earliest = time.not_before(operation.not_before_min)
    fits = time.first_whole(earliest, operation.minutes) if operation.unbroken else earliest
    if fits is None or fits + operation.minutes > time.total:
        where = "in one stretch of the hours" if operation.unbroken else "in the hours"
        since = f" from {operation.not_before_min} on" if operation.not_before_min > request.hours[0][0] else ""
        raise Refused(
            f"{operation.id} does not fit anywhere: it takes {operation.minutes} minutes {where}{since}.",
            field=f"{field}.minutes",
            value=operation.minutes,
        )
    return Task(
        minutes=operation.minutes,
        helpers=operation.helpers,
        place=operation.place,
        after=tuple(numbers[id] for id in dict.fromkeys(operation.after)),
        wait=operation.wait_after_min,
        earliest=fits,
        within=(numbers[operation.within_min_of.id], operation.within_min_of.minutes)
        if operation.within_min_of
        else None,
        unbroken=operation.unbroken,
        due=operation.due_min,
        groups=able,
    )


def _no_circle(operations: Sequence[Operation], tasks: Sequence[Task]) -> None:
    left = [len(task.after) for task in tasks]
    followers: list[list[int]] = [[] for _ in tasks]
    for k, task in enumerate(tasks):
        for before in task.after:
            followers[before].append(k)
    ready = [k for k, many in enumerate(left) if not many]
    while ready:
        for k in followers[ready.pop()]:
            left[k] -= 1
            if not left[k]:
                ready.append(k)
    walked = [next((k for k, many in enumerate(left) if many), -1)]
    if walked[0] < 0:
        return
    while True:
        before = next(b for b in tasks[walked[-1]].after if left[b])
        if before in walked:
            circle = [operations[k].id for k in (*walked[walked.index(before) :], before)]
            k = walked[walked.index(before)]
            raise Refused(
                f"Operations come after one another in a circle: {' after '.join(circle)}. One of them has to come first.",
                field=f"operations.{k}.after",
                value=list(operations[k].after),
            )
        walked.append(before)
