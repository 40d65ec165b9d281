"""Chains that took all that they may and brought nothing: they are not proposed again before something else has moved.

What a frame keeps inside after it was pulled is not known; a plan begins as if it kept nothing, so it can promise of a line what
that line has just been seen not to give.
"""

from collections.abc import Iterable, Sequence
from typing import NamedTuple

from fairsquare.core.pull.job import PointCycle, WorkPull
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.pull.full import fullest_of
from fairsquare.job.pull.slip import held_as_planned

_BROUGHT_SHARE = 0.25
"""Of what a point was short by, what a pull has to bring one of its points to have brought anything. Ours, no source."""

Line = tuple[str, str]
"""A chain by its hook and tower."""


class Pulled(NamedTuple):
    """One pull as it was pulled: whether it was let go because the rig was full, and its watched points, cycle by cycle."""

    work: WorkPull
    filled: bool
    points: Sequence[PointCycle]

    @property
    def brought(self) -> bool:
        """Whether any of its points came nearer by a part of what it was short by."""
        before = {point.code: point.before_mm for point in reversed(self.points)}
        after = {point.code: point.after_mm for point in self.points}
        return any(after[code] - stood >= -_BROUGHT_SHARE * stood for code, stood in before.items() if stood < 0)

    @property
    def codes(self) -> set[str]:
        """The points that were watched."""
        return {point.code for point in self.points}


def hardest_line(work: WorkPull) -> Line:
    """Return the chain of a pull that draws hardest."""
    hardest = max(work.chains, key=lambda chain: chain.force_n)
    return hardest.hook, hardest.tower


def spent_in(pulls: Iterable[Pulled]) -> frozenset[Line]:
    """Return the chains that drew hardest in pulls that filled the rig and brought nothing, unless a point of theirs came since."""
    spent: dict[Line, set[str]] = {}
    for pull in pulls:
        if pull.brought:
            spent = {line: codes for line, codes in spent.items() if not codes & pull.codes}
        elif pull.filled:
            spent[hardest_line(pull.work)] = pull.codes
    return frozenset(spent)


def spent_lines(facts: JobFacts) -> frozenset[Line]:
    """Return the chains of a job that are spent."""
    plans = {plan.version: plan.plan for plan in facts.pull_plans}
    pulls: list[Pulled] = []
    last = None
    for event in facts.pull_events:
        plan = plans.get(event.plan)
        if not event.cycles or plan is None or event.pull > len(plan.pulls):
            continue
        work = plan.pulls[event.pull - 1]
        gear = fullest_of(held_as_planned(facts, work)[0], work, event.forces)
        filled = gear is not None and gear.let_go
        if last == (event.plan, event.pull):
            before = pulls.pop()
            pulls.append(Pulled(work, filled or before.filled, (*before.points, *event.cycles)))
        else:
            pulls.append(Pulled(work, filled, event.cycles))
        last = (event.plan, event.pull)
    return spent_in(pulls)
