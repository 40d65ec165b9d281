"""What is worked out of a list that nearly always only grows: of a longer one from the shorter, however long it has become."""

from collections import OrderedDict
from collections.abc import Callable, Hashable
from operator import is_
from threading import Lock
from typing import Generic, NamedTuple, TypeVar

T = TypeVar("T")
R = TypeVar("R")


class _Step(NamedTuple, Generic[T, R]):
    held: tuple[T, ...]
    found: R


def _begins(shorter: tuple[object, ...], longer: tuple[object, ...]) -> bool:
    """Return whether a list begins with another, which has elements; the end is looked at first, where they mostly differ."""
    many = len(shorter)
    return many <= len(longer) and shorter[-1] is longer[many - 1] and all(map(is_, shorter, longer))


class Grown(Generic[T, R]):
    """Results by their lists, the last few of each beginning. `begin` works one out of a whole list, `go_on` out of the result for
    a shorter one and of what was added at its end; elements are compared as objects, and none may change.
    """

    def __init__(
        self, begin: Callable[[tuple[T, ...]], R], go_on: Callable[[R, tuple[T, ...]], R], most: int = 64, each: int = 4
    ) -> None:
        self._begin, self._go_on, self._most, self._each = begin, go_on, most, each
        self._kept: OrderedDict[Hashable, list[_Step[T, R]]] = OrderedDict()
        self._lock = Lock()

    def of(self, held: tuple[T, ...], key: Hashable = None) -> R:
        """Return the result for a list; lists are told apart by their first element, and by `key`."""
        if not held:
            return self._begin(held)
        name = (id(held[0]), key)
        with self._lock:
            steps = list(self._kept.get(name, ()))
        before = next((step for step in steps if step.held is held), None)
        if before is None:
            longest_first = sorted(steps, key=lambda step: -len(step.held))
            before = next((step for step in longest_first if _begins(step.held, held)), None)
        if before is not None and len(before.held) == len(held):
            made = before
        elif before is not None:
            made = _Step(held, self._go_on(before.found, held[len(before.held) :]))
        else:
            made = _Step(held, self._begin(held))
        self._keep(name, [step for step in (before, made) if step is not None])
        return made.found

    def _keep(self, name: Hashable, used: list[_Step[T, R]]) -> None:
        """Keep what was used last."""
        with self._lock:
            others = [step for step in self._kept.get(name, ()) if not any(step is step_used for step_used in used)]
            self._kept[name] = [*others, *used[:1], *(step_used for step_used in used[1:] if step_used is not used[0])][
                -self._each :
            ]
            self._kept.move_to_end(name)
            while len(self._kept) > self._most:
                self._kept.popitem(last=False)
