"""Searches for plans that go on while a page looks: what is tried, the best so far, stopped at any time."""

import threading
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

import structlog

from fairsquare.core.errors import FairSquareError
from fairsquare.core.pull.proposals import Looked, Proposal

log = structlog.get_logger("fairsquare.web.searches")
_MOST = 50


@dataclass
class Search:
    """One search: who began it from which plan, how it stands, and whether it is over (of itself, stopped, or failed)."""

    person: str
    plan_version: int
    looked: Looked = field(default_factory=lambda: Looked("beginning", ()))
    tried: int = 0
    over: bool = False
    stopped: bool = False
    fault: FairSquareError | None = None

    @property
    def best(self) -> tuple[Proposal, ...]:
        """The best so far, the best first."""
        return self.looked.best


class Searches:
    """The searches of this process, one a job; a new one ends the one before."""

    def __init__(self) -> None:
        self._kept: dict[str, Search] = {}
        self._lock = threading.Lock()

    def begin(self, number: str, search: Search, looks: Callable[[], Iterator[Looked]]) -> None:
        """Begin a search in a thread of its own."""
        with self._lock:
            before = self._kept.pop(number, None)
            if before is not None:
                before.stopped = True
            while len(self._kept) >= _MOST:
                self._kept.pop(next(iter(self._kept))).stopped = True
            self._kept[number] = search
        threading.Thread(target=_run, args=(number, search, looks), daemon=True).start()

    def of(self, number: str) -> Search | None:
        """Return the search of a job, going on or over."""
        return self._kept.get(number)

    def stop(self, number: str) -> None:
        """Stop a search after what it is trying now; the best so far stays."""
        search = self._kept.get(number)
        if search is not None:
            search.stopped = True


def _run(number: str, search: Search, looks: Callable[[], Iterator[Looked]]) -> None:
    try:
        for looked in looks():
            search.looked, search.tried = looked, search.tried + 1
            if search.stopped:
                break
    except FairSquareError as fault:
        search.fault = fault
    except Exception:
        log.exception("search failed", job=number)
        search.fault = FairSquareError("The search failed: it is in the log. Set a pull yourself, or try again.")
    finally:
        search.over = True
