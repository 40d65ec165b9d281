"""The day plan: who does which operation, where and when, so that the least is late and all is done early."""

from fairsquare.core.plan.asked import DayPlan, DayPlanned, PlannedOperation
from fairsquare.core.plan.settle import Manned, chain, drawn_together, manned
from fairsquare.core.plan.shop import Shop, read_shop
from fairsquare.core.plan.solve import Solved, solve


def day_plan(request: DayPlan) -> DayPlanned:
    """Plan the day for the least total lateness, then for the least finish.

    Up to ten operations the plan is proven the best; beyond, it is the best found in some seconds, with proven bounds. Raises
    `Refused` for what cannot be planned: unknown names, a skill nobody has, a circle, an operation that fits nowhere, too few
    hours.
    """
    shop = read_shop(request)
    solved = solve(shop)
    return planned(request, shop, drawn_together(shop, manned(shop, solved.placed)), solved)


def planned(request: DayPlan, shop: Shop, plan: list[Manned], solved: Solved) -> DayPlanned:
    """Return a plan by the names and the clock of its request."""
    ends = [shop.time.ends(one.after) for one in plan]
    over = [end + task.wait for end, task in zip(ends, shop.tasks, strict=True)]
    finish = max(over)
    late = {
        one.id: until - one.due_min
        for one, until in zip(request.operations, over, strict=True)
        if one.due_min is not None and until > one.due_min
    }
    least_late = sum(late.values()) <= solved.late_bound
    return DayPlanned(
        plan=tuple(
            PlannedOperation(
                id=one.id,
                person=by.person,
                helpers=by.helpers,
                place=one.place,
                start=shop.time.starts(by.start),
                end=end,
            )
            for one, by, end in zip(request.operations, plan, ends, strict=True)
        ),
        finish=finish,
        late=late,
        late_bound=min(solved.late_bound, sum(late.values())),
        bound=min(solved.bound, finish) if least_late else None,
        optimal=least_late and solved.bound >= finish,
        chain=tuple(request.operations[k].id for k in chain(shop, plan, over.index(finish))),
    )
