"""Chains that took all that they may and brought nothing: they are not proposed again before something else has moved.

What a frame keeps inside after it was pulled is not known; a plan begins as if it kept nothing, so it can promise of a line what
that line has just been seen not to give.
"""

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from fairsquare.core.facts import JobFacts
from fairsquare.core.pull.full import Fullest, fullest_of
from fairsquare.core.pull.job import PointCycle, WorkPull
from fairsquare.core.pull.slip import held_as_planned

BROUGHT_MM = 1.0
"""What a pull has to bring the point that it brings farthest, to have brought anything: three times what a reading scatters."""

Line = tuple[str, str]
"""A chain by its hook and tower."""


class Cycle(NamedTuple):
    """One cycle as it was pulled: its pull, what worked hardest (None: no force was read), and how its watched points went."""

    work: WorkPull
    gear: Fullest | None
    points: Sequence[PointCycle]


def hardest_line(work: WorkPull) -> Line:
    """Return the chain of a pull that draws hardest."""
    hardest = max(work.chains, key=lambda chain: chain.force_n)
    return hardest.hook, hardest.tower


def spent_in(cycles: Iterable[Cycle]) -> frozenset[Line]:
    """Return the chains that drew hardest in pulls that filled the rig and brought no point anything, since a point came last."""
    spent: set[Line] = set()
    for cycle in cycles:
        brought = max((point.after_mm - point.before_mm for point in cycle.points), default=0.0)
        if brought >= BROUGHT_MM:
            spent.clear()
        elif cycle.gear is not None and cycle.gear.let_go:
            spent.add(hardest_line(cycle.work))
    return frozenset(spent)


def spent_lines(facts: JobFacts) -> frozenset[Line]:
    """Return the chains of a job that are spent."""
    plans = {plan.version: plan.plan for plan in facts.pull_plans}
    cycles = []
    for event in facts.pull_events:
        plan = plans.get(event.plan)
        if event.cycles and plan is not None and event.pull <= len(plan.pulls):
            work = plan.pulls[event.pull - 1]
            cycles.append(Cycle(work, fullest_of(held_as_planned(facts, work)[0], work, event.forces), event.cycles))
    return spent_in(cycles)
