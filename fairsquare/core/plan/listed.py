"""A first plan, by hand's own rule: the tasks in a list, each begun as soon as it can be, and the list bettered move by move.

Serial schedule generation with insertion moves and late acceptance (R. Kolisch, "Serial and parallel resource-constrained project
scheduling methods revisited", 1996; E. K. Burke and Y. Bykov, "The late acceptance hill-climbing heuristic", 2017; both from
memory).
"""

import random
from bisect import bisect_right
from collections.abc import Sequence
from typing import NamedTuple

from fairsquare.core.plan.shop import Placed, Shop

_EFFORT = 60_000
"""How many tasks are put into lists in all: by effort, not by time, so that a plan is the same everywhere."""
_EACH = 150
"""Fewer where there are few tasks: so many for each pair."""
_MEMORY = 4
"""A list is kept when it is no worse than the one kept so many tries ago."""


_AGAIN = 3
"""How often a list is put anew because something could not follow soon enough."""


class _Cost(NamedTuple):
    """What makes a list bad: minutes by which something does not follow soon enough or hours are overrun, lateness, finish."""

    broken: int
    late: int
    finish: int


class _Put(NamedTuple):
    cost: _Cost
    starts: tuple[int, ...]
    bound: tuple[tuple[int, ...], ...]


def first_plan(shop: Shop) -> tuple[Placed, ...] | None:
    """Return a good plan found by lists, or none where no list keeps every rule."""
    lister = _Lister(shop)
    chance = random.Random(1)  # noqa: S311 - the same search every time, nothing secret
    order, kept = min(((order, lister.put(order)) for order in lister.by_rule()), key=lambda tried: tried[1].cost)
    best = kept
    memory = [kept.cost] * _MEMORY
    turn = 0
    while lister.effort < min(_EFFORT, _EACH * len(order) ** 2):
        tried_order = lister.moved(order, chance)
        tried = lister.put(tried_order)
        if tried.cost <= kept.cost or tried.cost <= memory[turn % _MEMORY]:
            order, kept = tried_order, tried
            best = min(best, tried, key=lambda plan: plan.cost)
        memory[turn % _MEMORY] = kept.cost
        turn += 1
    if best.cost.broken:
        return None
    return tuple(lister.placed(start, who) for start, who in zip(best.starts, best.bound, strict=True))


class _Lister:
    def __init__(self, shop: Shop) -> None:
        self.shop, self.effort = shop, 0
        self.group = groups = [k for k, group in enumerate(shop.groups) for _ in group]
        self.able = [[p for p, group in enumerate(groups) if group in task.groups] for task in shop.tasks]
        wanted = [sum(p in able for able in self.able) for p in range(len(self.group))]
        for able in self.able:
            able.sort(key=lambda p: wanted[p])
        self.by_use = sorted(range(len(self.group)), key=lambda p: wanted[p])
        self.closing = shop.time.ends(shop.time.total)
        self.followers: list[list[int]] = [[] for _ in shop.tasks]
        for k, task in enumerate(shop.tasks):
            for before in task.after:
                self.followers[before].append(k)

    def placed(self, start: int, who: Sequence[int]) -> Placed:
        """Return a task's place in the plan by groups."""
        helping = [self.group[p] for p in who[1:]]
        return Placed(start, self.group[who[0]], tuple(helping.count(group) for group in range(len(self.shop.groups))))

    def by_rule(self) -> list[list[int]]:
        """Return lists by the usual rules: what is due first, what has most behind it, what is short, and what lies between."""
        tasks, time = self.shop.tasks, self.shop.time
        tails, due = [0] * len(tasks), [2**40] * len(tasks)
        for k in reversed(self._in_order(range(len(tasks)))):
            task = tasks[k]
            own = time.not_before(task.due - task.wait) if task.due is not None else 2**40
            tails[k] = task.minutes + max((tails[f] for f in self.followers[k]), default=0)
            due[k] = min([own, *(due[f] - tasks[f].minutes for f in self.followers[k])])
        keys = [[(due[k] + part * tasks[k].minutes, -tails[k]) for k in range(len(tasks))] for part in (0, 3, 10, 30)]
        keys += [
            [(-tails[k], due[k]) for k in range(len(tasks))],
            [(tasks[k].minutes, due[k]) for k in range(len(tasks))],
        ]
        return [self._in_order(sorted(range(len(tasks)), key=sort_key.__getitem__)) for sort_key in keys]

    def _in_order(self, wished: Sequence[int]) -> list[int]:
        """Return the tasks as near to a wished order as what comes after what allows."""
        done: dict[int, None] = {}
        for k in wished:
            open_tasks = [k]
            while open_tasks:
                missing = [b for b in self.shop.tasks[open_tasks[-1]].after if b not in done]
                if missing:
                    open_tasks.append(missing[0])
                else:
                    done[open_tasks.pop()] = None
        return list(done)

    def moved(self, order: Sequence[int], chance: random.Random) -> list[int]:
        """Return a list with one task moved, as far as what comes after what allows."""
        k = order[chance.randrange(len(order))]
        left = [task for task in order if task != k]
        before, behind = set(self.shop.tasks[k].after), set(self.followers[k])
        low = max((at + 1 for at, task in enumerate(left) if task in before), default=0)
        high = min((at for at, task in enumerate(left) if task in behind), default=len(left))
        to = chance.randint(low, high)
        return [*left[:to], k, *left[to:]]

    def put(self, order: Sequence[int]) -> _Put:
        """Begin every task of a list as soon as those before it allow; one that must follow soon makes what it follows wait."""
        earliest = [task.earliest for task in self.shop.tasks]
        for _ in range(_AGAIN):
            put, later = self._put_once(order, earliest)
            if later is None:
                return put
            earliest[later[0]] = later[1]
        return put

    def _put_once(self, order: Sequence[int], earliest: Sequence[int]) -> tuple[_Put, tuple[int, int] | None]:
        shop, time, total = self.shop, self.shop.time, self.shop.time.total
        self.effort += len(order)
        people = [_Booked() for _ in self.group]
        places = {name: [_Booked() for _ in range(min(count, len(order)))] for name, count in shop.places.items()}
        starts, ends = [0] * len(order), [0] * len(order)
        bound: list[tuple[int, ...]] = [()] * len(order)
        broken = late = finish = 0
        again: tuple[int, int] | None = None
        for k in order:
            task = shop.tasks[k]
            start = earliest[k]
            for before in task.after:
                first = shop.tasks[before]
                over = time.not_before(ends[before] + first.wait) if first.wait else starts[before] + first.minutes
                start = max(start, over)
            slots = places[task.place] if task.place is not None else ()
            start, bound[k], slot = self._find(k, start, people, slots)
            over = start + task.minutes
            for p in bound[k]:
                people[p].book(start, over)
            if slots:
                slots[slot].book(start, over)
            broken += max(0, over - total)
            starts[k] = start
            ends[k] = time.ends(over) if over <= total else self.closing + over - total
            until = ends[k] + task.wait
            finish = max(finish, until)
            if task.due is not None and until > task.due:
                late += until - task.due
            if task.within is not None and over <= total:
                before, minutes = task.within
                begins = time.starts(start)
                if begins > ends[before] + minutes:
                    broken += begins - ends[before] - minutes
                    again = again or (before, time.not_before(begins - minutes - 1) + 1 - shop.tasks[before].minutes)
        return _Put(_Cost(broken, late, finish), tuple(starts), tuple(bound)), again

    def _find(
        self, k: int, start: int, people: Sequence["_Booked"], slots: Sequence["_Booked"]
    ) -> tuple[int, tuple[int, ...], int]:
        """Return when a task can begin, who is bound (those whom least else needs), and which of the places it takes."""
        task, able, minutes = self.shop.tasks[k], self.able[k], self.shop.tasks[k].minutes
        while True:
            can = [people[p].fits(start, minutes) for p in able]
            soonest = min(can)
            if task.helpers:
                helping = [people[p].fits(start, minutes) for p in self.by_use]
                soonest = max(soonest, sorted(helping)[task.helpers])
            room = [slot.fits(start, minutes) for slot in slots]
            if room:
                soonest = max(soonest, min(room))
            if task.unbroken and soonest < self.shop.time.total:
                whole = self.shop.time.first_whole(soonest, minutes)
                soonest = self.shop.time.total if whole is None else whole
            if soonest == start:
                break
            start = soonest
        does = able[can.index(start)]
        others: list[int] = []
        if task.helpers:
            others = [p for p, when in zip(self.by_use, helping, strict=True) if when == start and p != does][
                : task.helpers
            ]
        return start, (does, *others), room.index(start) if room else 0


class _Booked:
    """When a person or a place is taken: stretches of working minutes, in order."""

    __slots__ = ("ends", "starts")

    def __init__(self) -> None:
        self.starts: list[int] = []
        self.ends: list[int] = []

    def fits(self, start: int, minutes: int) -> int:
        """Return the first working minute from `start` on from which so many are free."""
        starts, ends = self.starts, self.ends
        for k in range(bisect_right(ends, start), len(ends)):
            if starts[k] >= start + minutes:
                break
            start = ends[k]
        return start

    def book(self, start: int, after: int) -> None:
        """Take the minutes from `start` until before `after`."""
        k = bisect_right(self.starts, start)
        self.starts.insert(k, start)
        self.ends.insert(k, after)
