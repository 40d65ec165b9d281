"""Searches for plans that go on while a page looks: what is tried, the best so far, stopped at any time."""

import threading
from collections.abc import Callable, Iterable
from contextlib import closing
from dataclasses import dataclass, field

import structlog

from fairsquare.core.errors import FairSquareError
from fairsquare.job.pull.proposals import Looked, Proposal
from fairsquare.workers import SEARCHES, TooBusy, streamed

log = structlog.get_logger("fairsquare.web.searches")
_MOST = 50
MOST_OF_ONE = 4


@dataclass
class Search:
    """One search: who began it from which plan, how it stands, and whether it is over (of itself, stopped, or failed).

    `before`: how many have to end before it begins.
    """

    person: str
    plan_version: int
    looked: Looked = field(default_factory=lambda: Looked("beginning", ()))
    tried: int = 0
    over: bool = False
    stopped: bool = False
    fault: FairSquareError | None = None
    before: int = 0

    @property
    def best(self) -> tuple[Proposal, ...]:
        """The best so far, the best first."""
        return self.looked.best


class Searches:
    """The searches of this process, one a job; a new one ends the one before. Each looks in a process of its own, few at a time."""

    def __init__(self) -> None:
        self._kept: dict[str, Search] = {}
        self._lock = threading.Lock()
        self._turns = threading.Semaphore(SEARCHES)

    def begin(self, number: str, search: Search, work: Callable[..., Iterable[Looked]], *arguments: object) -> None:
        """Begin a search once it is its turn. Raises `TooBusy` where one person has several that go on."""
        with self._lock:
            going_on = [kept for key, kept in self._kept.items() if not kept.over and key != number]
            own = sum(1 for running in going_on if running.person == search.person)
            if own >= MOST_OF_ONE:
                raise TooBusy(f"{own} searches of yours go on: stop one of them, or wait for it.")
            search.before = max(0, len(going_on) - SEARCHES + 1)
            before = self._kept.pop(number, None)
            if before is not None:
                before.stopped = True
            while len(self._kept) >= _MOST:
                self._kept.pop(next(iter(self._kept))).stopped = True
            self._kept[number] = search
        threading.Thread(target=self._run, args=(number, search, work, arguments), daemon=True).start()

    def of(self, number: str) -> Search | None:
        """Return the search of a job, going on or over."""
        return self._kept.get(number)

    def stop(self, number: str) -> None:
        """Stop a search after what it is trying now; the best so far stays."""
        search = self._kept.get(number)
        if search is not None:
            search.stopped = True

    def _run(
        self, number: str, search: Search, work: Callable[..., Iterable[Looked]], arguments: tuple[object, ...]
    ) -> None:
        """Wait for a turn, then follow the search until it is over; this thread only listens."""
        try:
            while not self._turns.acquire(timeout=0.2):
                if search.stopped:
                    return
                with self._lock:
                    search.before = self._ahead(number)
            try:
                search.before = 0
                _follow(number, search, work, arguments)
            finally:
                self._turns.release()
        finally:
            search.over = True

    def _ahead(self, number: str) -> int:
        waiting = [key for key, search in self._kept.items() if not search.over]
        return max(0, waiting.index(number) - SEARCHES + 1) if number in waiting else 0


def _follow(number: str, search: Search, work: Callable[..., Iterable[Looked]], arguments: tuple[object, ...]) -> None:
    try:
        with closing(streamed(work, *arguments)) as looks:
            for looked in looks:
                search.looked, search.tried = looked, search.tried + 1
                if search.stopped:
                    break
    except FairSquareError as fault:
        search.fault = fault
    except Exception:
        log.exception("search failed", job=number)
        search.fault = FairSquareError("The search failed: it is in the log. Set a pull yourself, or try again.")
