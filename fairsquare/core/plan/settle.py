"""A plan by tasks and groups made into a plan by name: who exactly, no minute wasted, and what sets the finish."""

import itertools
from collections.abc import Iterable, Sequence
from typing import NamedTuple

from fairsquare.core.plan.shop import Placed, Shop


class Manned(NamedTuple):
    """A task in the plan by name: its first working minute, the working minute after its last, who does it and who helps."""

    start: int
    after: int
    person: str
    helpers: tuple[str, ...]

    @property
    def bound(self) -> frozenset[str]:
        """Everybody who is bound by it."""
        return frozenset((self.person, *self.helpers))


def manned(shop: Shop, placed: Sequence[Placed]) -> list[Manned]:
    """Choose who does each task, rather one who did a task that it comes after."""
    free_at = {name: 0 for group in shop.groups for name in group}
    hands: dict[int, Manned] = {}
    for k in sorted(range(len(placed)), key=lambda k: (placed[k].start, k)):
        task, place = shop.tasks[k], placed[k]
        knows = {name for before in task.after for name in hands[before].bound} if task.after else set()
        free = [
            sorted(
                (name for name in group if free_at[name] <= place.start),
                key=lambda name: (name not in knows, free_at[name]),
            )
            for group in shop.groups
        ]
        person = free[place.group].pop(0)
        helpers = [free[group].pop(0) for group, many in enumerate(place.helpers) for _ in range(many)]
        hands[k] = Manned(place.start, place.start + task.minutes, person, tuple(helpers))
        free_at.update(dict.fromkeys(hands[k].bound, hands[k].after))
    return [hands[k] for k in range(len(placed))]


def drawn_together(shop: Shop, plan: Sequence[Manned]) -> list[Manned]:
    """Begin every task as early as it can while all others stay, over and over until none can begin earlier.

    What was planned before stays where it is. A task of a stay stays within it, but for the first, which begins the stay earlier
    where its place is free.
    """
    plan, moved = list(plan), True
    while moved:
        moved = False
        for k in sorted(set(range(len(plan))) - set(shop.was), key=lambda k: (plan[k].start, k)):
            earlier = _earliest(shop, plan, k)
            if earlier < plan[k].start:
                plan[k] = plan[k]._replace(start=earlier, after=earlier + shop.tasks[k].minutes)
                moved = True
    return plan


def _earliest(shop: Shop, plan: Sequence[Manned], k: int) -> int:
    """Return the first working minute in which a task can begin while all others stay where they are."""
    task, own, time = shop.tasks[k], plan[k], shop.time
    start = max([task.earliest, *(free_after(shop, plan, before) for before in task.after)])
    start = max([start, *(_not_before_that(shop, plan, k, follower) for follower in _tied_to(shop, k))])
    in_the_way = [
        (operation.start, operation.after)
        for other, operation in enumerate(plan)
        if other != k and operation.bound & own.bound
    ]
    stay = next((number for number, stay in enumerate(shop.stays) if k in stay), None)
    if stay is None:
        in_the_way += _full(shop, plan, k)
    else:
        start = max(start, _stay_from(shop, plan, k, stay))
    while start < own.start:
        later = max(
            (after for begin, after in in_the_way if begin < start + task.minutes and start < after), default=start
        )
        if later == start:
            whole = time.first_whole(start, task.minutes) if task.unbroken else start
            if whole == start:
                return start
            later = own.start if whole is None else whole
        start = later
    return own.start


def free_after(shop: Shop, plan: Sequence[Manned], k: int) -> int:
    """Return the first working minute after a task and its wait."""
    return shop.time.not_before(shop.time.ends(plan[k].after) + shop.tasks[k].wait)


def _tied_to(shop: Shop, k: int) -> Iterable[int]:
    return (other for other, task in enumerate(shop.tasks) if task.within is not None and task.within[0] == k)


def _not_before_that(shop: Shop, plan: Sequence[Manned], k: int, follower: int) -> int:
    """Return the earliest that a task may begin for another to follow its end soon enough."""
    within = shop.tasks[follower].within
    assert within is not None
    must_end = shop.time.starts(plan[follower].start) - within[1]
    return shop.time.not_before(must_end - 1) + 1 - shop.tasks[k].minutes


def _full(shop: Shop, plan: Sequence[Manned], k: int, stay: int | None = None) -> list[tuple[int, int]]:
    """Return the stretches, in working minutes, in which every place that a task, or its stay, needs is taken by others."""
    place = shop.tasks[k].place
    if place is None:
        return []
    staying = {other for stay in shop.stays for other in stay}
    there = [
        (operation.start, operation.after)
        for other, operation in enumerate(plan)
        if other != k and other not in staying and shop.tasks[other].place == place
    ]
    there += [
        _span(shop, plan, other)
        for other, tasks in enumerate(shop.stays)
        if other != stay and shop.tasks[tasks[0]].place == place
    ]
    edges = sorted({edge for span in there for edge in span})
    return [
        (edge, until)
        for edge, until in itertools.pairwise(edges)
        if sum(start <= edge < after for start, after in there) >= shop.places[place]
    ]


def _stay_from(shop: Shop, plan: Sequence[Manned], k: int, stay: int) -> int:
    """Return from which working minute on a task has the place of its stay: the first of a stay may make it begin earlier."""
    rest = min((plan[other].start for other in shop.stays[stay] if other != k), default=plan[k].start)
    if rest < plan[k].start:
        return rest
    if stay in shop.there:
        return 0
    return max((until for begin, until in _full(shop, plan, k, stay) if begin < plan[k].start), default=0)


def _span(shop: Shop, plan: Sequence[Manned], stay: int) -> tuple[int, int]:
    tasks = shop.stays[stay]
    begins = 0 if stay in shop.there else min(plan[k].start for k in tasks)
    return begins, max(plan[k].after for k in tasks)


def chain(shop: Shop, plan: Sequence[Manned], last: int) -> list[int]:
    """Return the tasks that set the finish, the first of them first: each could have begun earlier but for the one before it."""
    links = [last]
    while True:
        k = links[-1]
        held_by = [
            other
            for other, operation in enumerate(plan)
            if other != k and operation.start < plan[k].start and _holds_up(shop, plan, other, k)
        ]
        if not held_by:
            return links[::-1]
        links.append(max(held_by, key=lambda other: (plan[other].after, -other)))


def _holds_up(shop: Shop, plan: Sequence[Manned], other: int, k: int) -> bool:
    """Whether nothing is worked between the end of a task (and its wait) and the beginning of one that needs it over."""
    if other in shop.tasks[k].after and free_after(shop, plan, other) == plan[k].start:
        return True
    place = shop.tasks[k].place
    shared = (place is not None and shop.tasks[other].place == place) or bool(plan[other].bound & plan[k].bound)
    return shared and plan[other].after == plan[k].start
