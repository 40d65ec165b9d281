"""The day plan: who does which operation, where and when, so that the least is late and all is done early."""

from collections.abc import Collection, Mapping, Sequence
from types import MappingProxyType

from fairsquare.core.plan.asked import DayPlan, DayPlanned, PlannedOperation
from fairsquare.core.plan.settle import Manned, chain, drawn_together, manned
from fairsquare.core.plan.shop import Shop, Was, read_shop
from fairsquare.core.plan.solve import Solved, solve, solve_again


def day_plan(request: DayPlan) -> DayPlanned:
    """Plan the day for the least total lateness, then for the least finish.

    Up to ten operations the plan is proven the best; beyond, it is the best found in some seconds, with proven bounds. Raises
    `Refused` for what cannot be planned: unknown names, a skill nobody has, a circle, an operation that fits nowhere, too few
    hours.
    """
    shop = read_shop(request)
    solved = solve(shop)
    return planned(request, shop, drawn_together(shop, manned(shop, solved.placed)), solved)


def plan_again(
    request: DayPlan,
    *,
    stays: Sequence[Sequence[str]] = (),
    there: Collection[int] = (),
    was: Mapping[str, tuple[int, str, bool]] = MappingProxyType({}),
    begun: Collection[str] = (),
) -> DayPlanned:
    """Plan a shop's day anew: what is fixed where it is, then as little late as may be, then the fewest changed, then done early.

    `stays` are the operations of each vehicle that keeps its place from the first to the last of them, `there` the numbers of those
    that stand there already. `was`: by id the minute of the clock and the person of the plan before, and whether that is fixed; a
    time that is not worked any more binds nothing that is not fixed. What is fixed keeps its person, and begins later by as little
    as can be where its time has passed or what comes before is not done by then; of two that are in each other's way, the one of
    `begun` stays. Raises `Refused` as `day_plan` does.
    """
    numbers = {operation.id: k for k, operation in enumerate(request.operations)}
    shop = read_shop(request, by_name=True)
    before = {}
    for id, (start, person, fixed) in was.items():
        at = shop.time.not_before(start)
        if id in numbers and at < shop.time.total and (fixed or shop.time.starts(at) == start):
            before[numbers[id]] = Was(at, person, fixed, id in begun)
    shop = shop._replace(
        stays=tuple(tuple(numbers[id] for id in stay) for stay in stays), there=frozenset(there), was=before
    )
    solved = solve_again(shop)
    return planned(request, shop, drawn_together(shop, manned(shop, solved.placed)), solved)


def planned(request: DayPlan, shop: Shop, plan: list[Manned], solved: Solved) -> DayPlanned:
    """Return a plan by the names and the clock of its request."""
    ends = [shop.time.ends(planned.after) for planned in plan]
    over = [end + task.wait for end, task in zip(ends, shop.tasks, strict=True)]
    finish = max(over)
    late = {
        operation.id: until - operation.due_min
        for operation, until in zip(request.operations, over, strict=True)
        if operation.due_min is not None and until > operation.due_min
    }
    least_late = sum(late.values()) <= solved.late_bound
    return DayPlanned(
        plan=tuple(
            PlannedOperation(
                id=operation.id,
                person=by.person,
                helpers=by.helpers,
                place=operation.place,
                start=shop.time.starts(by.start),
                end=end,
            )
            for operation, by, end in zip(request.operations, plan, ends, strict=True)
        ),
        finish=finish,
        late=late,
        late_bound=min(solved.late_bound, sum(late.values())),
        bound=min(solved.bound, finish) if least_late else None,
        optimal=least_late and solved.bound >= finish,
        chain=tuple(request.operations[k].id for k in chain(shop, plan, over.index(finish))),
    )
