"""The bell: who looks at a job is told within moments that something was recorded in it, by whichever server it was.

One thread a process asks the database for the revisions of all jobs that are looked at in it, in one question for all. It asks when
it is knocked at: by a datagram from the server that recorded something, which says no more than the job's number. Datagrams can be
lost, and other machines need not be reachable: it also asks a few times a second, more often for a while after something happened.
Where nobody looks nothing is asked.

To ask alone, often enough for a board, would take some percent of a processor while nothing happens (a question costs half a
millisecond here and as much in the database); a message bus would be one more thing to run that can be away.
"""

import asyncio
import queue
import secrets
import socket
import threading
import time
from collections.abc import Iterator, Mapping
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from functools import partial
from ipaddress import ip_address
from pathlib import Path

import pymysql
import structlog

from fairsquare.core.errors import FairSquareError
from fairsquare.store import listening
from fairsquare.store.database import Database
from fairsquare.store.listening import Line

log = structlog.get_logger("fairsquare.bell")
PAUSE_S, LIVELY_PAUSE_S, LIVELY_S = 0.25, 0.05, 10.0
"""How long after a question the next one comes unless somebody knocks: where nothing happened for `LIVELY_S`, and where something
did; measured in `bench/workers.py`."""
LEAST_S = 0.01
"""However often it is knocked, no two questions come sooner one after the other."""
SAY_EVERY_S, _OTHERS_S, _AWAY_S = 5.0, 2.0, 1.0
_BEHIND_S = 1.0
"""A knock can come before the node of the database that is asked here has what was recorded at another: it is asked again soon."""
_LOOPBACK = "127.0.0.1"
_LONGEST = 64


@dataclass(eq=False)
class Ear:
    """Who listens for a job, in an event loop of its own; `rung` is set with every new `revision`, None until one is known."""

    number: str
    loop: asyncio.AbstractEventLoop
    rung: asyncio.Event = field(default_factory=asyncio.Event)
    revision: int | None = None

    def hear(self, revision: int | None) -> None:
        """Be told of a revision, or of the end where there is none; called from any thread."""
        if not self.loop.is_closed():
            self.loop.call_soon_threadsafe(self._told, revision)

    def _told(self, revision: int | None) -> None:
        self.revision = self.revision if revision is None else revision
        self.rung.set()


class Bell:
    """Rung from any thread by job number, of this server or, by a knock, of others. `closed` ends all listening.

    `host`: the address of this machine at which other servers may knock; a loopback address: those of this machine only.
    """

    def __init__(self, database: Database, host: str = _LOOPBACK) -> None:
        self._database, self._host = database, host
        self._name = secrets.token_hex(8)
        self._lock = threading.Lock()
        self._ears: dict[str, set[Ear]] = {}
        self._door = _door(host)
        self._thread: threading.Thread | None = None
        self._knocker: threading.Thread | None = None
        self._rung: queue.SimpleQueue[str] = queue.SimpleQueue()
        self._others: tuple[float, tuple[tuple[str, int], ...]] = (float("-inf"), ())
        self._lively_until = self._asked_at = 0.0
        self.closed = False

    def ring(self, number: str) -> None:
        """Say that something was just recorded of a job: whoever listens for it is told without delay, here and elsewhere."""
        with self._lock:
            heard = number in self._ears
            if not self.closed and (self._knocker is None or not self._knocker.is_alive()):
                self._knocker = threading.Thread(target=self._knock_at_others, name="knocks", daemon=True)
                self._knocker.start()
        if heard:
            self._knock(number, (self._door.getsockname(),))
        self._rung.put(number)

    def close(self) -> None:
        """End all listening: the server is going down."""
        self.closed = True
        self._rung.put("")
        self._knock("", (self._door.getsockname(),))
        with self._lock:
            ears = [ear for own in self._ears.values() for ear in own]
        for ear in ears:
            ear.hear(None)

    @contextmanager
    def listen(self, number: str) -> Iterator[Ear]:
        """Yield an ear, in the running loop, that is told what revision a job has, and every one that follows."""
        ear = Ear(number, asyncio.get_running_loop())
        with self._lock:
            self._ears.setdefault(number, set()).add(ear)
            if not self.closed and (self._thread is None or not self._thread.is_alive()):
                self._thread = threading.Thread(target=self._follow, name="bell", daemon=True)
                self._thread.start()
        self._knock(number, (self._door.getsockname(),))
        try:
            yield ear
        finally:
            with self._lock:
                self._ears[number].discard(ear)
                if not self._ears[number]:
                    del self._ears[number]

    def _follow(self) -> None:
        """Ask and tell for as long as anybody listens; where the database is away, ask it again after a while."""
        while not self._over():
            try:
                with listening.line(self._database) as line:
                    said = float("-inf")
                    while self._heard():
                        if time.monotonic() - said > SAY_EVERY_S:
                            line.listen(self._name, _machine(), *self._door.getsockname()[:2])
                            said = time.monotonic()
                        self._tell(line)
                        self._wait()
                    line.leave(self._name)
            except (FairSquareError, pymysql.MySQLError) as fault:
                log.warning("bell waits", why=str(fault))
                time.sleep(_AWAY_S)

    def _heard(self) -> bool:
        """Say whether anybody listens."""
        with self._lock:
            return bool(self._ears) and not self.closed

    def _over(self) -> bool:
        """Say whether nobody listens any more: then this thread ends, and the next who listens starts another."""
        with self._lock:
            if self._ears and not self.closed:
                return False
            self._thread = None
            return True

    def _tell(self, line: Line) -> None:
        time.sleep(max(0.0, self._asked_at + LEAST_S - time.monotonic()))
        self._asked_at = time.monotonic()
        with self._lock:
            ears = [ear for own in self._ears.values() for ear in own]
        revisions: Mapping[str, int] = line.revisions({ear.number for ear in ears})
        for ear in ears:
            now = revisions.get(ear.number)
            if now is not None and now != ear.revision:
                if ear.revision is not None:
                    self._lively_until = time.monotonic() + LIVELY_S
                ear.hear(now)

    def _wait(self) -> None:
        """Wait until somebody knocks for a job that is looked at here, or until it is time to ask without."""
        until = time.monotonic() + (PAUSE_S if time.monotonic() > self._lively_until else LIVELY_PAUSE_S)
        with suppress(TimeoutError):
            while (left := until - time.monotonic()) > 0:
                self._door.settimeout(left)
                number = self._door.recv(_LONGEST).decode("utf-8", "replace")
                with self._lock:
                    heard = number in self._ears
                if heard:
                    self._lively_until = max(self._lively_until, time.monotonic() + _BEHIND_S)
                if heard or not number:
                    return

    def _knock_at_others(self) -> None:
        """Knock at the other servers that listen, of whom the database tells every few seconds; for as long as the server runs."""
        while not self.closed:
            number = self._rung.get()
            try:
                self._knock(number, self._listening())
            except (FairSquareError, pymysql.MySQLError) as fault:
                log.warning("not knocked", why=str(fault))

    def _listening(self) -> tuple[tuple[str, int], ...]:
        read_at, others = self._others
        if time.monotonic() - read_at > _OTHERS_S:
            others = self._database.run(partial(listening.others, name=self._name, machine=_machine()))
            self._others = time.monotonic(), others
        return others

    def _knock(self, number: str, doors: tuple[tuple[str, int], ...]) -> None:
        for door in doors:
            with suppress(OSError):
                self._door.sendto(number.encode()[:_LONGEST], door)


def _door(host: str) -> socket.socket:
    """Return the socket at which is knocked, of any free port. Raises `ValueError` for what is no address of this machine."""
    kind = socket.AF_INET6 if ip_address(host).version == 6 else socket.AF_INET
    door = socket.socket(kind, socket.SOCK_DGRAM)
    try:
        door.bind((host, 0))
    except OSError as fault:
        raise ValueError(f"FAIRSQUARE_OWN_HOST: {host} is no address of this machine ({fault.strerror}).") from None
    return door


def _machine() -> str:
    """Return what tells this machine, since it was started, from every other."""
    with suppress(OSError):
        return Path("/proc/sys/kernel/random/boot_id").read_text().strip()[:64]
    return socket.gethostname()[:64]
