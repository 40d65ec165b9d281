"""What was worked out and may be asked for again: kept under a key that changes with what it was worked out from."""

from collections import OrderedDict
from collections.abc import Callable, Hashable
from threading import Lock
from typing import Generic, TypeVar

T = TypeVar("T")


class Kept(Generic[T]):
    """The last `most` values by their keys. Two that ask at once may both work it out; the values are alike."""

    def __init__(self, most: int) -> None:
        self._most = most
        self._values: OrderedDict[Hashable, T] = OrderedDict()
        self._lock = Lock()

    def forget(self, key: Hashable) -> None:
        """Have the value of a key made anew when it is asked for next."""
        with self._lock:
            self._values.pop(key, None)

    def look(self, key: Hashable) -> T | None:
        """Return the value of a key where it is there."""
        with self._lock:
            if key in self._values:
                self._values.move_to_end(key)
            return self._values.get(key)

    def put(self, key: Hashable, value: T) -> None:
        """Keep a value under a key, in place of the one before."""
        with self._lock:
            self._values[key] = value
            self._values.move_to_end(key)
            while len(self._values) > self._most:
                self._values.popitem(last=False)

    def get(self, key: Hashable, make: Callable[[], T]) -> T:
        """Return the value of a key, made when it is not there."""
        with self._lock:
            if key in self._values:
                self._values.move_to_end(key)
                return self._values[key]
        value = make()
        self.put(key, value)
        return value
