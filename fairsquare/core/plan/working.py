"""The clock of a shop that runs on through breaks and nights, and the minutes of it that are worked."""

from bisect import bisect_left, bisect_right
from collections.abc import Iterable
from typing import NamedTuple


class Stretch(NamedTuple):
    """A stretch worked: its first minute of the clock, its first working minute, how many minutes it has."""

    clock: int
    first: int
    minutes: int

    @property
    def after(self) -> int:
        """The working minute after its last."""
        return self.first + self.minutes


class WorkingTime:
    """The stretches worked, two that touch taken as one; working minutes are counted from 0 over all of them."""

    def __init__(self, hours: Iterable[tuple[int, int]]) -> None:
        stretches: list[Stretch] = []
        for start, end in hours:
            if stretches and stretches[-1].clock + stretches[-1].minutes == start:
                stretches[-1] = stretches[-1]._replace(minutes=stretches[-1].minutes + end - start)
            else:
                stretches.append(Stretch(start, stretches[-1].after if stretches else 0, end - start))
        self.stretches = tuple(stretches)
        self.total = stretches[-1].after if stretches else 0
        self._firsts = [stretch.first for stretch in stretches]
        self._clocks = [stretch.clock for stretch in stretches]

    def starts(self, minute: int) -> int:
        """Return the clock at the beginning of a working minute."""
        stretch = self.stretches[bisect_right(self._firsts, minute) - 1]
        return stretch.clock + minute - stretch.first

    def ends(self, after: int) -> int:
        """Return the clock at the end of the working minute before `after`."""
        return self.starts(after - 1) + 1

    def not_before(self, clock: int) -> int:
        """Return the first working minute that begins at a time of the clock or later; `total` where there is none."""
        k = bisect_right(self._clocks, clock) - 1
        if k < 0:
            return 0
        stretch = self.stretches[k]
        return stretch.first + min(clock - stretch.clock, stretch.minutes)

    def whole(self, start: int, minutes: int) -> bool:
        """Return whether so many minutes from a working minute on lie in one stretch."""
        k = bisect_right(self._firsts, start) - 1
        return start + minutes <= self.stretches[k].after

    def first_whole(self, start: int, minutes: int) -> int | None:
        """Return the first working minute from `start` on from which so many lie in one stretch."""
        k = max(bisect_right(self._firsts, start) - 1, 0)
        for stretch in self.stretches[k:]:
            begin = max(start, stretch.first)
            if begin + minutes <= stretch.after:
                return begin
        return None

    def breaks_until(self, minute: int) -> int:
        """Return how many stretches have begun by a working minute, less one."""
        return bisect_left(self._firsts, minute + 1) - 1
