"""Stretches along a member: what a cut may stand in, and every rule that a station breaks.

Limits that differ by less than `ROUNDING_MM` are one limit: 0.1 + 0.2 and 0.3 are the same place on a rail. Stations are then
numbered, so that what touches and what overlaps is decided by whole numbers.
"""

from collections.abc import Iterable, Sequence
from itertools import pairwise
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

ROUNDING_MM = 1e-9

Floats = npt.NDArray[np.float64]
Flags = npt.NDArray[np.bool_]
Interval = tuple[float, float]


class Rule(NamedTuple):
    """A rule on one layer: what it is called (`key`), the reason that it gives, and the open stretches that it forbids."""

    key: tuple[str, str | int]
    reason: str
    forbids: tuple[Interval, ...]


class Slots(NamedTuple):
    """A layer divided at all limits: slot 2i is the station `at[i]`, slot 2i+1 the open stretch behind it."""

    at: Floats

    @property
    def many(self) -> int:
        """How many slots there are."""
        return 2 * len(self.at) - 1

    def nearest(self, station: float) -> int:
        """Return the number of the station nearest to one of the limits that the layer was divided at."""
        after = int(np.searchsorted(self.at, station))
        near = [i for i in (after - 1, after) if 0 <= i < len(self.at)]
        return min(near, key=lambda i: abs(self.at[i] - station))

    def broken_by(self, rule: Rule) -> Flags:
        """Return for each slot whether the rule forbids it; its limits themselves are allowed."""
        broken = np.zeros(self.many, dtype=bool)
        low, high = self.at[0], self.at[-1]
        for a, b in rule.forbids:
            if b <= low - ROUNDING_MM or a >= high + ROUNDING_MM:
                continue
            first = 0 if a < low - ROUNDING_MM else 2 * self.nearest(a) + 1
            last = self.many - 1 if b > high + ROUNDING_MM else 2 * self.nearest(b) - 1
            broken[first : last + 1] = True
        return broken

    def runs(self, chosen: Flags) -> list[tuple[int, int]]:
        """Return the first and last slot of each unbroken run of chosen slots."""
        edges = np.flatnonzero(np.diff(np.concatenate(([False], chosen, [False])).astype(int)))
        return [(int(a), int(b) - 1) for a, b in zip(edges[::2], edges[1::2], strict=True)]

    def stretch(self, first: int, last: int) -> Interval:
        """Return the stations between which a run of slots lies."""
        return float(self.at[first // 2]), float(self.at[(last + 1) // 2])


def slots_of(low: float, high: float, rules: Iterable[Rule]) -> Slots:
    """Divide a layer from `low` to `high` at every limit of its rules."""
    limits = [limit for rule in rules for stretch in rule.forbids for limit in stretch]
    inside = sorted(limit for limit in limits if low + ROUNDING_MM < limit < high - ROUNDING_MM)
    kept = [low]
    for limit in inside:
        if limit - kept[-1] > ROUNDING_MM:
            kept.append(limit)
    if high - low > ROUNDING_MM:
        kept.append(high)
    return Slots(np.array(kept))


def outside(stretches: Sequence[Interval]) -> tuple[Interval, ...]:
    """Return the open stretches between and beyond closed ones, which are forbidden where a cut must stand inside one."""
    joined: list[list[float]] = []
    for a, b in sorted(stretches):
        if joined and a <= joined[-1][1] + ROUNDING_MM:
            joined[-1][1] = max(joined[-1][1], b)
        else:
            joined.append([a, b])
    ends = [(-np.inf, joined[0][0]), *((first[1], two[0]) for first, two in pairwise(joined)), (joined[-1][1], np.inf)]
    return tuple((float(a), float(b)) for a, b in ends)
