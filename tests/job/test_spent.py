"""Pulls that took all that they may and brought nothing."""

from itertools import pairwise

import pytest

from fairsquare.core.pull.job import ChainSet, PointCycle, WorkPull
from fairsquare.job.pull.proposals import proposals
from fairsquare.job.pull.spent import Pulled, hardest_line, spent_in
from fairsquare.stand_ins.vehicles import DUNLIN
from tests.job.test_proposals import asked


def pull(*hooks: str) -> WorkPull:
    """A pull at hooks, the first the hardest."""
    forces = range(85_000, 0, -20_000)
    return WorkPull(
        chains=tuple(
            ChainSet(hook=hook, tower="front right", height_mm=525, force_n=force)
            for hook, force in zip(hooks, forces, strict=False)
        )
    )


def pulled(work: WorkPull, went: dict[str, list[float]], *, filled: bool = True) -> Pulled:
    """A pull after each cycle of which points stood at `went`, which begins with where they stood before."""
    return Pulled(
        work,
        filled,
        [
            PointCycle(code=code, before_mm=before, loaded_mm=30.0, after_mm=after)
            for code, stood in went.items()
            for before, after in pairwise(stood)
        ],
    )


@pytest.mark.parametrize(
    ("went", "filled", "spent"),
    [
        ({"F5R": [-6.2, -6.0, -6.9], "F4R": [-4.8, -4.4, -5.5]}, True, True),
        ({"F5R": [-6.2, -7.2, -6.1]}, True, True),
        ({"F5R": [-6.0, -5.9], "F4R": [-4.4, -3.2]}, True, False),
        ({"F5R": [-6.2, -6.0, -6.9]}, False, False),
        ({"F5R": [0.2, 0.1]}, True, True),
    ],
    ids=["nothing came", "back to where it was", "one came", "not full", "none was short"],
)
def test_a_chain_is_spent_where_the_rig_was_full_and_no_point_came(went, filled, spent) -> None:
    work = pull("at F4R")
    found = spent_in([pulled(work, went, filled=filled)])
    assert found == ({("at F4R", "front right")} if spent else set())


def test_what_was_spent_is_forgotten_when_one_of_its_points_came_by_another() -> None:
    nothing = {"F4R": [-6.0, -6.1]}
    both = [pulled(pull("at F4R"), nothing), pulled(pull("at F3R", "at F5R"), nothing)]
    assert spent_in(both) == {("at F4R", "front right"), ("at F3R", "front right")}
    assert spent_in([*both, pulled(pull("at F2R"), {"F4R": [-6.0, -4.0]}, filled=False)]) == frozenset()
    elsewhere = pulled(pull("at R2R"), {"R2R": [-6.0, -1.0]}, filled=False)
    assert len(spent_in([*both, elsewhere])) == 2, "what came at the other end says nothing of it"


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
