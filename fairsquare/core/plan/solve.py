"""The search for a plan: a constraint model of the shop, solved for the least lateness, then for the least finish.

Time is counted in working minutes; the clock, which runs on through breaks, is a working minute plus the breaks that lie before it.
People of equal skills are a group, and a plan says how many of each group an operation binds: who of them it is, is settled later
(operations that overlap can always be coloured with as many people as are bound at once: they are intervals).
"""

import itertools
import math
from collections.abc import Sequence
from typing import TYPE_CHECKING, NamedTuple

from fairsquare.core.errors import Refused
from fairsquare.core.plan.listed import first_plan
from fairsquare.core.plan.shop import Placed, Shop, Task

if TYPE_CHECKING:
    from ortools.sat.python import cp_model

PROVEN_TO = 10
"""Up to so many operations the search goes on until the plan is proven."""
_LATENESS_EFFORT, _FINISH_EFFORT = 0.15, 0.15
"""How far each search goes beyond, by the solver's own measure of work, which is the same on any machine."""
_LATENESS_S, _FINISH_S = 1.6, 1.3
"""And never longer than this, though a slow machine may then answer with another plan that is as good as it could find."""


_BEGUN = 10**5
"""How many minutes, by which what is fixed begins later, weigh as much as one minute of what is being worked on."""
SAME_MIN = 15
"""A task that begins no more working minutes earlier or later than before has not moved."""
_UNKNOWN = 10**12
_FIRST = (30.0, 30.0)
"""How far and how long any plan at all is looked for, where the search found none."""
_AGAIN = (0.3, 2.0)
"""The same for each step of planning the shop's day."""


class Solved(NamedTuple):
    """The best plan found, with proven bounds: of the lateness in all, and of the finish (clock) given that lateness."""

    placed: tuple[Placed, ...]
    late_bound: int
    bound: int


def solve(shop: Shop) -> Solved:
    """Search for a plan. Raises `Refused` where there is none within the hours."""
    endless, done_by = len(shop.tasks) <= PROVEN_TO, _horizon(shop)
    known = first_plan(shop)
    total = late_bound = 0
    if any(task.due is not None for task in shop.tasks):
        model = _ShopModel(shop, _still_good(shop, done_by, known))
        run = model.run(model.total_late, None if endless else (_LATENESS_EFFORT, _LATENESS_S), known)
        known, total, late_bound = run.placed, run.value, run.bound
    model = _ShopModel(shop, _no_later(shop, done_by, known))
    model.model.add(model.total_late <= total)
    run = model.run(model.finish, None if endless else (_FINISH_EFFORT, _FINISH_S), known)
    return Solved(run.placed, late_bound, run.bound)


def solve_again(shop: Shop) -> Solved:
    """Search for a plan that is as little late as may be, then as little changed, then done early, then begun early; what
    has not moved begins when it was to begin, where it can.

    For the shop's own plans: with stays, with what was planned before, with what is fixed, which comes before all of that. Raises
    `Refused` where there is none.
    """
    model = _ShopModel(shop, [shop.time.total] * len(shop.tasks))
    changed = model.changes()
    known = None
    if model.pushed:
        pushed = sum(model.pushed)
        fixed = model.run(pushed, _AGAIN)
        model.model.add(pushed <= fixed.value)
        known = fixed.placed
    first = model.run(model.total_late, _AGAIN, known) if model.late else None
    if first is not None:
        model.model.add(model.total_late <= first.value)
        known = first.placed
    if shop.was:
        least = model.run(changed, _AGAIN, known)
        model.model.add(changed <= least.value)
        known = least.placed
    run = model.run(model.finish, _AGAIN, known)
    model.model.add(model.finish <= run.value)
    early = model.run(model.rest(), _AGAIN, run.placed)
    return Solved(early.placed, first.bound if first else 0, run.bound)


def lateness(shop: Shop, placed: Sequence[Placed]) -> int:
    """Return by how many minutes of the clock the tasks of a plan are late in all."""
    return sum(
        max(0, _over(shop, place, task) - task.due)
        for place, task in zip(placed, shop.tasks, strict=True)
        if task.due is not None
    )


def _over(shop: Shop, placed: Placed, task: Task) -> int:
    return shop.time.ends(placed.start + task.minutes) + task.wait


def _still_good(shop: Shop, done_by: int, known: Sequence[Placed] | None) -> list[int]:
    """Return the working minute by which each task ends in a plan that is less late than one that is known."""
    if known is None:
        return [done_by] * len(shop.tasks)
    late = lateness(shop, known)
    return [
        done_by if task.due is None else min(done_by, _last_minute(shop, task, task.due + late)) for task in shop.tasks
    ]


def _no_later(shop: Shop, done_by: int, known: Sequence[Placed] | None) -> list[int]:
    """Return the working minute by which each task ends in a plan that finishes no later than one that is known."""
    if known is None:
        return [done_by] * len(shop.tasks)
    finish = max(_over(shop, place, task) for place, task in zip(known, shop.tasks, strict=True))
    late = lateness(shop, known)
    return [
        min(done_by, _last_minute(shop, task, finish if task.due is None else min(finish, task.due + late)))
        for task in shop.tasks
    ]


def _last_minute(shop: Shop, task: Task, over: int) -> int:
    """Return the working minute before which a task ends whose wait is over by a time of the clock."""
    return shop.time.not_before(over - task.wait)


class _Run(NamedTuple):
    placed: tuple[Placed, ...]
    value: int
    bound: int


class _ShopModel:
    """The model: `finish` and `late` are what may be aimed at."""

    def __init__(self, shop: Shop, latest: Sequence[int]) -> None:
        from ortools.sat.python import cp_model

        self.shop, self.cp = shop, cp_model
        self.model = cp_model.CpModel()
        self._latest, self._until = latest, max(latest)
        self._begun: dict[tuple[int, int], cp_model.IntVar] = {}
        self._moves: dict[int, cp_model.IntVar] = {}
        self.pushed: list[cp_model.LinearExprT] = []
        self.starts = [self._start(k, task) for k, task in enumerate(shop.tasks)]
        self.spans = [
            self.model.new_fixed_size_interval_var(start, task.minutes, "")
            for start, task in zip(self.starts, shop.tasks, strict=True)
        ]
        self.doing: list[dict[int, cp_model.IntVar]] = []
        self.helping: list[list[list[cp_model.IntVar]]] = []
        self._bind_people()
        self._bind_places()
        self._put_in_order()
        self.finish = self._finish()
        self.late = [self._lateness(k, task.due) for k, task in enumerate(shop.tasks) if task.due is not None]
        self.total_late = sum(self.late)

    def hint(self, placed: Sequence[Placed]) -> None:
        """Begin the search from a plan that is known."""
        over = [_over(self.shop, place, task) for place, task in zip(placed, self.shop.tasks, strict=True)]
        self.model.add_hint(self.finish, max(over))
        self.model.add_hint(
            self._last, max(place.start + task.minutes for place, task in zip(placed, self.shop.tasks, strict=True))
        )
        due = [(until, task.due) for until, task in zip(over, self.shop.tasks, strict=True) if task.due is not None]
        for late, (until, by) in zip(self.late, due, strict=True):
            self.model.add_hint(late, max(0, until - by))
        for k, place in enumerate(placed):
            self.model.add_hint(self.starts[k], place.start)
            for group, does in self.doing[k].items():
                self.model.add_hint(does, group == place.group)
            for units, many in zip(self.helping[k], place.helpers, strict=True):
                for number, unit in enumerate(units):
                    self.model.add_hint(unit, number < many)

    def _hint_before(self) -> None:
        """Look first where tasks were planned before."""
        for k, was in self.shop.was.items():
            self.model.add_hint(self.starts[k], was.start)
            for group, does in self.doing[k].items():
                self.model.add_hint(does, was.person in self.shop.groups[group])

    def run(
        self, aim: "cp_model.LinearExprT", effort: tuple[float, float] | None, known: tuple[Placed, ...] | None = None
    ) -> _Run:
        """Search for the least of `aim`, from a plan that may be known. Raises `Refused` where there is none."""
        self.model.minimize(aim)
        self.model.clear_hints()  # type: ignore[no-untyped-call]
        if known is not None:
            self.hint(known)
        else:
            self._hint_before()
        solver = self.cp.CpSolver()
        solver.parameters.num_workers = 1
        solver.parameters.random_seed = 1
        # OR-Tools 9.15 fails (IndexError) where it looks for symmetries in some models that have no plan.
        solver.parameters.symmetry_level = 0
        solver.parameters.linearization_level = 0
        if effort is not None:
            solver.parameters.max_deterministic_time, solver.parameters.max_time_in_seconds = effort
        status = solver.solve(self.model)
        if status == self.cp.UNKNOWN and known is None:
            # A plan that is not good comes before none.
            solver.parameters.max_deterministic_time, solver.parameters.max_time_in_seconds = _FIRST
            solver.parameters.stop_after_first_solution = True
            status = solver.solve(self.model)
        bound = math.ceil(solver.best_objective_bound - 1e-6)
        if status == self.cp.UNKNOWN and known is not None:
            return _Run(known, self._worth(known, aim), bound)
        if status not in {self.cp.OPTIMAL, self.cp.FEASIBLE}:
            outcome = "There is no plan" if status == self.cp.INFEASIBLE else "No plan was found"
            raise Refused(
                f"{outcome} within these hours: give more hours or people, or take away what forces an operation to its time.",
                field="hours",
            )
        placed = tuple(self._placed(solver, k) for k in range(len(self.starts)))
        value = round(solver.objective_value)
        return _Run(placed, value, value if status == self.cp.OPTIMAL else bound)

    def _worth(self, known: Sequence[Placed], aim: "cp_model.LinearExprT") -> int:
        if aim is self.finish:
            return max(_over(self.shop, place, task) for place, task in zip(known, self.shop.tasks, strict=True))
        return lateness(self.shop, known) if aim is self.total_late else _UNKNOWN

    def _placed(self, solver: "cp_model.CpSolver", k: int) -> Placed:
        return Placed(
            start=solver.value(self.starts[k]),
            group=next(group for group, does in self.doing[k].items() if solver.value(does)),
            helpers=tuple(sum(solver.value(unit) for unit in units) for units in self.helping[k]),
        )

    def _start(self, k: int, task: Task) -> "cp_model.IntVar":
        if task.unbroken:
            stretches = [
                (max(stretch.first, task.earliest), min(stretch.after, self._latest[k]) - task.minutes)
                for stretch in self.shop.time.stretches
            ]
        else:
            stretches = [(task.earliest, self._latest[k] - task.minutes)]
        domain = self.cp.Domain.from_intervals([list(stretch) for stretch in stretches if stretch[0] <= stretch[1]])
        return self.model.new_int_var_from_domain(domain, f"start {k}")

    def _bind_people(self) -> None:
        model, many = self.model, [len(group) for group in self.shop.groups]
        bound: list[list[cp_model.IntervalVar]] = [[] for _ in many]
        for k, task in enumerate(self.shop.tasks):
            doing = {group: self._bool() for group in task.groups}
            model.add_exactly_one(doing.values())
            helping = [[self._bool() for _ in range(min(task.helpers, size))] for size in many]
            if task.helpers:
                model.add(sum(unit for units in helping for unit in units) == task.helpers)
            for units in helping:
                for unit, more in itertools.pairwise(units):
                    model.add_implication(more, unit)
            for group, size in enumerate(many):
                taken = [*([doing[group]] if group in doing else []), *helping[group]]
                if len(taken) > size:
                    model.add(sum(taken) <= size)
                bound[group] += [
                    model.new_optional_fixed_size_interval_var(self.starts[k], task.minutes, place, "")
                    for place in taken
                ]
            self.doing.append(doing)
            self.helping.append(helping)
        for spans, size in zip(bound, many, strict=True):
            self._at_most(spans, [1] * len(spans), size)
        self._bind_all(many)

    def _bind_all(self, many: Sequence[int]) -> None:
        """Say again what follows from the groups: a search sees sooner so that there are too few people."""
        if len(many) == 1:
            return
        self._at_most(self.spans, [1 + task.helpers for task in self.shop.tasks], sum(many))
        for groups in {task.groups for task in self.shop.tasks if len(task.groups) < len(many)}:
            only = [k for k, task in enumerate(self.shop.tasks) if set(task.groups) <= set(groups)]
            self._at_most([self.spans[k] for k in only], [1] * len(only), sum(many[group] for group in groups))

    def _bind_places(self) -> None:
        staying = {k for stay in self.shop.stays for k in stay}
        for place, count in self.shop.places.items():
            alone = [k for k, task in enumerate(self.shop.tasks) if task.place == place and k not in staying]
            stays = [
                self._stay(number)
                for number, stay in enumerate(self.shop.stays)
                if self.shop.tasks[stay[0]].place == place
            ]
            self._at_most([*(self.spans[k] for k in alone), *stays], [1] * (len(alone) + len(stays)), count)

    def _stay(self, number: int) -> "cp_model.IntervalVar":
        """From the first of a stay's tasks, or from the beginning where it is there already, to the end of the last."""
        begins = self.model.new_int_var(0, 0 if number in self.shop.there else self._until, "")
        ends, lasts = self.model.new_int_var(0, self._until, ""), self.model.new_int_var(0, self._until, "")
        for k in self.shop.stays[number]:
            self.model.add(begins <= self.starts[k])
            self.model.add(ends >= self.starts[k] + self.shop.tasks[k].minutes)
        return self.model.new_interval_var(begins, lasts, ends, "")

    def changes(self) -> "cp_model.LinearExprT":
        """How many tasks begin at another time, or are done by another person, than before.

        What is fixed keeps its person and begins no sooner; `pushed` says by how much later, for what is begun times `_BEGUN`.
        """
        for k, was in self.shop.was.items():
            group = next((g for g, names in enumerate(self.shop.groups) if was.person in names), None)
            does = self.doing[k].get(group) if group is not None else None
            if was.fixed and does is not None:
                self.model.add(self.starts[k] >= was.start)
                self.model.add(does == 1)
                self.pushed.append((self.starts[k] - was.start) * (_BEGUN if was.begun else 1))
            elif does is None:
                continue
            else:
                other = self._bool()
                self.model.add(self.starts[k] >= was.start - SAME_MIN).only_enforce_if(~other)
                self.model.add(self.starts[k] <= was.start + SAME_MIN).only_enforce_if(~other)
                self.model.add_implication(~other, does)
                self._moves[k] = other
        return sum(self._moves.values())

    def rest(self) -> "cp_model.LinearExprT":
        """How late all begin that have moved or were not planned, and how far from their time those begin that have not moved."""
        variables: list[cp_model.IntVar] = []
        for k, start in enumerate(self.starts):
            if k not in self._moves:
                variables.append(start)
                continue
            other, was = self._moves[k], self.shop.was[k].start
            weight = self.model.new_int_var(0, self._until, "")
            self.model.add(weight >= start).only_enforce_if(other)
            self.model.add(weight >= start - was).only_enforce_if(~other)
            self.model.add(weight >= was - start).only_enforce_if(~other)
            variables.append(weight)
        return sum(variables)

    def _at_most(self, spans: "Sequence[cp_model.IntervalVar]", demands: Sequence[int], capacity: int) -> None:
        if capacity == 1:
            self.model.add_no_overlap(spans)
        elif sum(demands) > capacity:
            self.model.add_cumulative(spans, demands, capacity)

    def _put_in_order(self) -> None:
        for k, task in enumerate(self.shop.tasks):
            for before in task.after:
                first = self.shop.tasks[before]
                self.model.add(self.starts[k] >= self.starts[before] + first.minutes)
                if first.wait:
                    self.model.add(self._starts_at(k) >= self._ends_at(before) + first.wait)
            if task.within is not None:
                before, minutes = task.within
                self.model.add(self._starts_at(k) <= self._ends_at(before) + minutes)

    def _finish(self) -> "cp_model.IntVar":
        tasks, time = self.shop.tasks, self.shop.time
        latest = time.ends(self._until) + max(task.wait for task in tasks)
        finish = self.model.new_int_var(time.ends(1), latest, "finish")
        self._last = last = self.model.new_int_var(1, self._until, "last")
        for start, task in zip(self.starts, tasks, strict=True):
            self.model.add(last >= start + task.minutes)
        self.model.add(finish >= self._clock(last, -1, 1, 1, self._until))
        for k, task in enumerate(tasks):
            if task.wait:
                self.model.add(finish >= self._ends_at(k) + task.wait)
        return finish

    def _lateness(self, k: int, due: int) -> "cp_model.IntVar":
        task, time = self.shop.tasks[k], self.shop.time
        late = self.model.new_int_var(0, max(0, time.ends(self._latest[k]) + task.wait - due), f"late {k}")
        self.model.add(late >= self._ends_at(k) + task.wait - due)
        return late

    def _starts_at(self, k: int) -> "cp_model.LinearExprT":
        """The clock at the beginning of a task."""
        task = self.shop.tasks[k]
        return self._clock(self.starts[k], k, 0, task.earliest, self._latest[k] - task.minutes)

    def _ends_at(self, k: int) -> "cp_model.LinearExprT":
        """The clock at the end of a task."""
        task = self.shop.tasks[k]
        ends = self._clock(self.starts[k], k, 1 - task.minutes, task.earliest, self._latest[k] - task.minutes)
        return ends + task.minutes

    def _clock(self, at: "cp_model.IntVar", key: int, later: int, low: int, high: int) -> "cp_model.LinearExprT":
        """Return `at` on the clock, with the breaks before every stretch that is reached when `at` is its first + `later`."""
        clock = at + self.shop.time.stretches[0].clock
        for stretch, before in zip(self.shop.time.stretches[1:], self.shop.time.stretches, strict=False):
            pause = stretch.clock - before.clock - before.minutes
            if stretch.first + later <= low:
                clock = clock + pause
            elif stretch.first + later <= high:
                clock = clock + pause * self._reached(at, key, stretch.first + later)
        return clock

    def _reached(self, at: "cp_model.IntVar", key: int, minute: int) -> "cp_model.IntVar":
        if (key, minute) not in self._begun:
            reached = self._bool()
            self.model.add(at >= minute).only_enforce_if(reached)
            self.model.add(at < minute).only_enforce_if(~reached)
            self._begun[key, minute] = reached
        return self._begun[key, minute]

    def _bool(self) -> "cp_model.IntVar":
        return self.model.new_bool_var("")


def _horizon(shop: Shop) -> int:
    """Return a working minute by which a plan as good as any is done.

    Where everything begins as early as it can, nothing rests but for the time from which on an operation may begin, a wait, or one
    that does not fit into what is left of a stretch. One that must follow soon may make another wait for a break to be over: then
    all hours are looked at.
    """
    if any(task.within for task in shop.tasks):
        return shop.time.total
    longest = max(task.earliest for task in shop.tasks)
    for task in shop.tasks:
        longest += task.minutes + task.wait
        if task.unbroken:
            fits = [stretch for stretch in shop.time.stretches if stretch.minutes >= task.minutes]
            longest += max(
                (later.first - earlier.after + task.minutes for earlier, later in itertools.pairwise(fits)), default=0
            )
    return min(shop.time.total, longest)
