"""Lines that are not to be relied on: between servers and their database, and between tablets and their server."""

import random
import select
import socket
import threading
from collections.abc import Callable
from contextlib import suppress

_CHUNK = 65536
_DROPPED = 0.12
"""Of the pieces that go over a tablet's line, how many are the last: half of them before they arrive, half after."""

Passed = Callable[[bytes, bool], None]
"""Is told what just passed, and whether towards the server; raises `Dropped` where that was the end of the line."""


class Dropped(Exception):
    """The line went dead."""


class Line:
    """A door on a port of its own from which a line leads to a server; `before` and `after` see what passes, and may drop it."""

    def __init__(self, host: str, port: int, before: Passed | None = None, after: Passed | None = None) -> None:
        self._to, self._before, self._after = (host, port), before, after
        self._door = socket.create_server(("127.0.0.1", 0), backlog=100)
        self.port = int(self._door.getsockname()[1])
        threading.Thread(target=self._let_in, daemon=True).start()

    def close(self) -> None:
        """Let nobody in any more."""
        with suppress(OSError):
            self._door.shutdown(socket.SHUT_RDWR)
        self._door.close()

    def _let_in(self) -> None:
        while True:
            try:
                near, _ = self._door.accept()
            except OSError:
                return
            try:
                far = socket.create_connection(self._to, timeout=2)
            except OSError:
                near.close()
                continue
            far.settimeout(None)
            for one in (near, far):
                one.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
            threading.Thread(target=self._carry, args=(near, far), daemon=True).start()

    def _carry(self, near: socket.socket, far: socket.socket) -> None:
        other = {near: far, far: near}
        try:
            while True:
                for one in select.select([near, far], [], [])[0]:
                    data = one.recv(_CHUNK)
                    if not data:
                        return
                    if self._before:
                        self._before(data, one is near)
                    other[one].sendall(data)
                    if self._after:
                        self._after(data, one is near)
        except (OSError, ValueError, Dropped):
            return
        finally:
            near.close()
            far.close()


def dropping(_: bytes, __: bool) -> None:
    """Drop a line by chance."""
    if random.random() < _DROPPED / 2:  # noqa: S311 - by chance, not a secret
        raise Dropped


class AtCommit:
    """Does something when a commit has just gone over a line, once armed; its answer does not come back."""

    def __init__(self) -> None:
        self.happened = threading.Event()
        self._then: Callable[[], None] | None = None
        self._lock = threading.Lock()

    def arm(self, then: Callable[[], None]) -> None:
        """Have that done at the next commit."""
        self.happened.clear()
        self._then = then

    def passed(self, data: bytes, towards: bool) -> None:
        """See what passed."""
        if towards and b"COMMIT" in data[:16]:
            with self._lock:
                then, self._then = self._then, None
            if then is not None:
                then()
                self.happened.set()
                raise Dropped
