"""The bell: who looks at a job is told within moments that something was recorded in it, by whichever server it was.

One thread a process asks the database for the revisions of all jobs that are looked at in it, in one question; at once where this
process recorded something itself, else every few hundredths of a second. Where nobody looks nothing is asked.
"""

import asyncio
import threading
from collections.abc import Callable, Collection, Iterator, Mapping
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, field

import pymysql
import structlog

from fairsquare.core.errors import FairSquareError

log = structlog.get_logger("fairsquare.bell")
PAUSE_S, PAUSE_ON_BOARD_S = 0.05, 0.025
"""How long after the last question the next one comes; measured in `bench/workers.py`."""
_AWAY_S = 1.0
Asked = Callable[[Collection[str]], Mapping[str, int]]
"""Returns the revisions of the jobs of these numbers."""


@dataclass(eq=False)
class Ear:
    """Who listens for a job, in an event loop of its own; `rung` is set with every new `revision`, None until one is known.

    `on_board`: it is told sooner.
    """

    number: str
    on_board: bool
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
    """Rung from any thread by job number; `line` opens the way in which revisions are asked for. `closed` ends all listening."""

    def __init__(self, line: Callable[[], AbstractContextManager[Asked]]) -> None:
        self._line = line
        self._lock = threading.Lock()
        self._ears: dict[str, set[Ear]] = {}
        self._ask_now = threading.Event()
        self._thread: threading.Thread | None = None
        self.closed = False

    def ring(self, number: str) -> None:
        """Say that something was just recorded of a job: whoever listens for it is told without delay."""
        with self._lock:
            heard = number in self._ears
        if heard:
            self._ask_now.set()

    def close(self) -> None:
        """End all listening: the server is going down."""
        self.closed = True
        self._ask_now.set()
        with self._lock:
            ears = [ear for own in self._ears.values() for ear in own]
        for ear in ears:
            ear.hear(None)

    @contextmanager
    def listen(self, number: str, *, on_board: bool = False) -> Iterator[Ear]:
        """Yield an ear, in the running loop, that is told what revision a job has, and every one that follows."""
        ear = Ear(number, on_board, asyncio.get_running_loop())
        with self._lock:
            self._ears.setdefault(number, set()).add(ear)
            if not self.closed and (self._thread is None or not self._thread.is_alive()):
                self._thread = threading.Thread(target=self._follow, name="bell", daemon=True)
                self._thread.start()
        self._ask_now.set()
        try:
            yield ear
        finally:
            with self._lock:
                self._ears[number].discard(ear)
                if not self._ears[number]:
                    del self._ears[number]

    def _follow(self) -> None:
        """Ask and tell for as long as anybody listens; where the database is away, ask it again after a while."""
        while not self._nobody():
            try:
                with self._line() as ask:
                    while not self._nobody():
                        self._tell(ask)
            except (FairSquareError, pymysql.MySQLError) as fault:
                log.warning("bell waits", why=str(fault))
                self._ask_now.wait(_AWAY_S)

    def _nobody(self) -> bool:
        """Say whether nobody listens any more: then this thread ends, and the next who listens starts another."""
        with self._lock:
            if self._ears and not self.closed:
                return False
            self._thread = None
            return True

    def _tell(self, ask: Asked) -> None:
        self._ask_now.clear()
        with self._lock:
            ears = [ear for own in self._ears.values() for ear in own]
        revisions = ask({ear.number for ear in ears})
        for ear in ears:
            now = revisions.get(ear.number)
            if now is not None and now != ear.revision:
                ear.hear(now)
        self._ask_now.wait(PAUSE_ON_BOARD_S if any(ear.on_board for ear in ears) else PAUSE_S)
