"""Pulls that took all that they may and brought nothing."""

import pytest

from fairsquare.core.pull.full import Fullest
from fairsquare.core.pull.job import ChainSet, PointCycle, WorkPull
from fairsquare.core.pull.proposals import proposals
from fairsquare.core.pull.spent import Cycle, hardest_line, spent_in
from fairsquare.stand_ins.vehicles import DUNLIN
from tests.core.test_proposals import asked


def pull(*hooks: str) -> WorkPull:
    """A pull at hooks, the first the hardest."""
    forces = range(85_000, 0, -20_000)
    return WorkPull(
        chains=tuple(
            ChainSet(hook=hook, tower="front right", height_mm=525, force_n=force)
            for hook, force in zip(hooks, forces, strict=False)
        )
    )


def cycle(work: WorkPull, use: float | None, *went: tuple[float, float]) -> Cycle:
    gear = None if use is None else Fullest("at F4R to front right", use)
    points = [PointCycle(code="F4R", before_mm=before, loaded_mm=30.0, after_mm=after) for before, after in went]
    return Cycle(work, gear, points)


@pytest.mark.parametrize(
    ("use", "went", "spent"),
    [
        (0.98, [(-6.0, -6.9), (-4.4, -5.5)], True),
        (0.98, [(-6.0, -5.2), (-4.4, -3.5)], True),
        (0.98, [(-6.0, -5.9), (-4.4, -3.2)], False),
        (0.90, [(-6.0, -6.9)], False),
        (None, [(-6.0, -6.9)], False),
    ],
    ids=["back and full", "less than what is read", "one came", "not full", "no force was read"],
)
def test_a_pull_is_spent_where_the_rig_was_full_and_no_point_came(use, went, spent) -> None:
    work = pull("at F4R")
    assert spent_in([cycle(work, use, *went)]) == (frozenset({hardest_line(work)}) if spent else frozenset())


def test_what_was_spent_is_forgotten_when_something_else_has_moved() -> None:
    first, second = pull("at F4R"), pull("at F3R", "at F5R")
    both = [cycle(first, 0.97, (-6.0, -6.1)), cycle(second, 0.97, (-6.0, -6.1))]
    assert spent_in(both) == {hardest_line(first), hardest_line(second)}
    assert spent_in([*both, cycle(pull("at F2R"), 0.5, (-6.0, -4.0))]) == frozenset()


def test_what_is_spent_is_not_proposed_again_and_the_search_says_so() -> None:
    plain = asked(DUNLIN)
    usual = next(looked.best[0] for looked in proposals(plain) if looked.best)
    line = hardest_line(usual.plan.pulls[0])
    for looked in proposals(plain._replace(spent=frozenset({line}))):
        for one in looked.best:
            assert all((chain.hook, chain.tower) != line for pull in one.plan.pulls for chain in pull.chains)
    assert looked.over
    assert looked.left_out == (f"{line[0]} → {line[1]}",)
    assert looked.best and len(looked.best[0].nominal.off) < 8, "others are found"
