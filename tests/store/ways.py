"""Ways to one MariaDB that can be cut and blocked: nodes of a database, as far as whoever asks them can tell."""

import select
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import suppress
from urllib.parse import urlsplit

import pytest

from fairsquare.store.nodes import Node


class Way:
    """A way to a server on a port of its own: open, cut (connections are refused), or blocked (nothing comes through)."""

    def __init__(self, port: int) -> None:
        self._to, self.blocked = port, False
        self.node = Node("127.0.0.1", 0)
        self._lines: list[socket.socket] = []
        self._door: socket.socket | None = None
        self.open()

    def open(self) -> None:
        door = socket.socket()
        door.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        door.bind(("127.0.0.1", self.node.port))
        door.listen(50)
        self.node, self._door, self.blocked = Node("127.0.0.1", door.getsockname()[1]), door, False
        threading.Thread(target=self._let_in, args=(door,), daemon=True).start()

    def cut(self) -> None:
        if self._door is not None:
            self._door.shutdown(socket.SHUT_RDWR)
            self._door.close()
            self._door = None
        for line in self._lines:
            with suppress(OSError):
                line.shutdown(socket.SHUT_RDWR)

    def _let_in(self, door: socket.socket) -> None:
        while True:
            try:
                near, _ = door.accept()
            except OSError:
                return
            far = socket.create_connection(("127.0.0.1", self._to))
            self._lines += [near, far]
            threading.Thread(target=self._carry, args=(near, far), daemon=True).start()

    def _carry(self, near: socket.socket, far: socket.socket) -> None:
        other = {near: far, far: near}
        try:
            while True:
                ready, _, _ = select.select([near, far], [], [], 0.1)
                if self.blocked:
                    time.sleep(0.05)
                    continue
                for line in ready:
                    data = line.recv(65536)
                    if not data:
                        return
                    other[line].sendall(data)
        except (OSError, ValueError):
            return
        finally:
            for line in (near, far):
                line.close()


@pytest.fixture
def ways(url: str) -> Iterator[tuple[Way, Way]]:
    port = urlsplit(url).port or 0
    two = Way(port), Way(port)
    yield two
    for way in two:
        way.cut()


def url_of(url: str, ways: tuple[Way, ...]) -> str:
    parts = urlsplit(url)
    hosts = ",".join(str(way.node) for way in ways)
    return parts._replace(netloc=f"{parts.netloc.rpartition('@')[0]}@{hosts}").geturl()
