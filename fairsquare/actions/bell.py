"""The bell: who looks at a job is told at once, within this process, that something was recorded in it."""

import asyncio
from collections.abc import Iterator
from contextlib import contextmanager
from threading import Lock


class Bell:
    """Rung from any thread by job number; listeners wait in their own event loop. `closed` ends all listening."""

    def __init__(self) -> None:
        self._lock = Lock()
        self._listeners: dict[str, set[tuple[asyncio.AbstractEventLoop, asyncio.Event]]] = {}
        self.closed = False

    def ring(self, number: str) -> None:
        """Wake everyone who listens for a job."""
        with self._lock:
            woken = tuple(self._listeners.get(number, ()))
        for loop, event in woken:
            if not loop.is_closed():
                loop.call_soon_threadsafe(event.set)

    def close(self) -> None:
        """End all listening: the server is going down."""
        self.closed = True
        with self._lock:
            numbers = tuple(self._listeners)
        for number in numbers:
            self.ring(number)

    @contextmanager
    def listen(self, number: str) -> Iterator[asyncio.Event]:
        """Yield an event that is set whenever the job's bell rings, in the running loop."""
        own = (asyncio.get_running_loop(), asyncio.Event())
        with self._lock:
            self._listeners.setdefault(number, set()).add(own)
        try:
            yield own[1]
        finally:
            with self._lock:
                self._listeners[number].discard(own)
                if not self._listeners[number]:
                    del self._listeners[number]
