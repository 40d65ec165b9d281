"""Searches for plans that go on while a page looks: what is tried, the best so far, stopped at any time.

One a job at all servers together. The server that began it looks, in a process of its own, and writes down what it finds; every
other reads that; and where it is gone, the next that is asked begins the search anew.
"""

import threading
from collections.abc import Callable, Iterable
from contextlib import closing
from dataclasses import dataclass, field
from functools import partial
from typing import Any

import pymysql
import structlog
from pydantic import TypeAdapter

from fairsquare.actions import Desk, pull_plans
from fairsquare.actions.made_once import Hold, Leases, new_token
from fairsquare.core.errors import FairSquareError
from fairsquare.core.pull.plan import School
from fairsquare.job.pull.proposals import Asked, Looked, Proposal, proposals
from fairsquare.store import slow_work
from fairsquare.store.database import Connection, Database
from fairsquare.store.kept import Kept
from fairsquare.web.pull_forms import school_typed
from fairsquare.workers import SEARCHES, TooBusy, streamed

log = structlog.get_logger("fairsquare.web.searches")
MOST_OF_ONE = 4
_WRITTEN = TypeAdapter(Looked)
_BEGINNING = Looked("beginning", ())


@dataclass
class Search:
    """One search: who began it from which plan, how it stands, and whether it is over (of itself, stopped, or failed).

    `school`: the way in which chains draw. `before`: how many have to end before it begins.
    """

    person: str
    plan_version: int
    school: School
    looked: Looked = field(default_factory=lambda: _BEGINNING)
    tried: int = 0
    over: bool = False
    stopped: bool = False
    fault: FairSquareError | None = None
    before: int = 0

    @property
    def best(self) -> tuple[Proposal, ...]:
        """The best so far, the best first."""
        return self.looked.best


Work = Callable[..., Iterable[Looked]]


def plans_again(desk: Desk, number: str, search: Search) -> tuple[Work, Asked]:
    """Return with what a search for plans is begun anew. Raises where no plan could be kept any more."""
    return proposals, pull_plans.ask_again(desk, number, search.school, search.plan_version)


class Searches:
    """The searches of all servers, one a job; a new one ends the one before. Each server looks for few at a time.

    `again` returns with what a search is begun anew, from its job and how it was asked for.
    """

    def __init__(
        self, database: Database, again: Callable[[str, Search], tuple[Work, Any]], at_a_time: int = SEARCHES
    ) -> None:
        self._database, self._again, self._at_a_time = database, again, at_a_time
        self._holder = new_token()
        self._leases = Leases(database)
        self._lock = threading.Lock()
        self._ours: dict[str, tuple[str, Search]] = {}
        self._read: Kept[Looked] = Kept(most=50)
        self._turns = threading.Semaphore(at_a_time)

    def begin(self, number: str, search: Search, work: Work, *arguments: object) -> None:
        """Begin a search once it is its turn. Raises `TooBusy` where one person has several that go on."""
        token = new_token()
        asked = {"plan_version": search.plan_version, "school": search.school}

        def claim(connection: Connection) -> None:
            _, own = slow_work.under_way(connection, "search", search.person, but=number)
            if own >= MOST_OF_ONE:
                raise TooBusy(f"{own} searches of yours go on: stop one of them, or wait for it.")
            slow_work.begin_anew(connection, "search", number, search.person, asked, self._holder, token)

        self._database.run(claim)
        with self._lock:
            for name, before in self._ours.values():
                before.stopped = before.stopped or name == number
        self._start(number, token, search, work, arguments)

    def of(self, number: str) -> Search | None:
        """Return the search of a job, going on or over, wherever; one whose server is gone is begun anew here."""
        row = self._database.run(lambda c: slow_work.look(c, "search", number))
        if row is None:
            return None
        ours = self._own(row)
        if ours is not None:
            return ours
        search = Search(row.asked_by, int(row.asked["plan_version"]), school_typed(row.asked["school"]))
        search.tried, search.stopped, search.over, search.fault = row.tried, row.stopped, row.over, row.fault
        search.looked = self._looked(number, row)
        if row.lapsed and not row.stopped:
            self._take_over(number, search)
        elif row.lapsed:
            search.over = True
        elif not row.over and not row.tried:
            search.before = self._before(number)
        return search

    def stop(self, number: str) -> None:
        """Stop a search after what it is trying now, wherever; the best so far stays."""
        self._database.run(lambda c: slow_work.stop(c, "search", number))
        row = self._database.run(lambda c: slow_work.look(c, "search", number))
        ours = self._own(row) if row else None
        if ours is not None:
            ours.stopped = True

    def _own(self, row: slow_work.Row) -> Search | None:
        with self._lock:
            _, search = self._ours.get(row.claim, ("", None))
        return search

    def _before(self, number: str) -> int:
        many = self._database.run(lambda c: slow_work.before(c, "search", number))
        return max(0, many - self._at_a_time + 1)

    def _looked(self, number: str, row: slow_work.Row) -> Looked:
        """Return what another server wrote down, read once for every look that it had."""

        def read() -> Looked:
            written = self._database.run(lambda c: slow_work.so_far(c, "search", number))
            return _WRITTEN.validate_json(written) if written else _BEGINNING

        return self._read.get((row.claim, row.tried), read) if row.tried else _BEGINNING

    def _take_over(self, number: str, search: Search) -> None:
        """Begin a search anew whose server is gone, unless another was quicker; what cannot be begun any more is over."""
        token = new_token()
        if not self._database.run(lambda c: slow_work.take_over(c, "search", number, self._holder, token)):
            return
        try:
            work, *arguments = self._again(number, search)
        except FairSquareError as fault:
            search.over, search.fault = True, fault
            self._database.run(partial(slow_work.finish, token=token, result=None, fault=fault))
            return
        self._start(number, token, search, work, tuple(arguments))

    def _start(self, number: str, token: str, search: Search, work: Work, arguments: tuple[object, ...]) -> None:
        with self._lock:
            self._ours[token] = number, search
        run = partial(self._run, number, token, search, work, arguments)
        threading.Thread(target=run, name="search", daemon=True).start()

    def _run(self, number: str, token: str, search: Search, work: Work, arguments: tuple[object, ...]) -> None:
        """Wait for a turn, then follow the search until it is over; this thread only listens."""
        with self._leases.held(token) as hold:
            try:
                while not self._turns.acquire(timeout=0.2):
                    if search.stopped or hold.stopped or hold.lost:
                        return
                    search.before = self._before(number)
                try:
                    search.before = 0
                    self._follow(number, search, hold, work, arguments)
                finally:
                    self._turns.release()
            except (FairSquareError, pymysql.MySQLError) as fault:
                log.warning("search not told", job=number, why=str(fault))
            finally:
                self._end(number, token, search, hold)

    def _follow(self, number: str, search: Search, hold: Hold, work: Work, arguments: tuple[object, ...]) -> None:
        try:
            with closing(streamed(work, *arguments)) as looks:
                for looked in looks:
                    search.looked, search.tried = looked, search.tried + 1
                    written = _WRITTEN.dump_json(looked, by_alias=True).decode()
                    told = partial(slow_work.tell, token=hold.token, tried=search.tried, so_far=written)
                    if not self._database.run(told) or search.stopped or hold.stopped or hold.lost:
                        break
        except FairSquareError as fault:
            search.fault = fault
        except Exception:
            log.exception("search failed", job=number)
            search.fault = FairSquareError("The search failed: it is in the log. Set a pull yourself, or try again.")

    def _end(self, number: str, token: str, search: Search, hold: Hold) -> None:
        """Say that a search is over, to this server's pages and to others'."""
        search.stopped = search.stopped or hold.stopped
        search.over = True
        try:
            self._database.run(partial(slow_work.finish, token=token, result=None, fault=search.fault))
        except (FairSquareError, pymysql.MySQLError) as fault:
            log.warning("search not told", job=number, why=str(fault))
            return
        with self._lock:
            self._ours.pop(token, None)
