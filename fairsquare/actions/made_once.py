"""Slow work that all servers share: leases that are renewed while it is made, and what is made once however many ask."""

import secrets
import threading
import time
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass
from functools import partial
from typing import NamedTuple

import pymysql
import structlog

from fairsquare.core.errors import FairSquareError
from fairsquare.store import slow_work
from fairsquare.store.database import Connection, Database
from fairsquare.store.slow_work import Kind
from fairsquare.workers import TooBusy

log = structlog.get_logger("fairsquare.slow_work")
_RENEW_S, _LOOK_S = slow_work.LEASE_S / 4, 0.2
MOST_WAITING, MOST_OF_ONE = 60, 12
"""How much of a kind may be under way, at all servers together, and of one who asks."""


def new_token() -> str:
    """Return what tells one claim, or one process, from every other."""
    return secrets.token_hex(8)


@dataclass(eq=False)
class Hold:
    """A claim that is held: `lost` once another has taken it over, `stopped` once its maker was asked to stop."""

    token: str
    lost: bool = False
    stopped: bool = False


class Leases:
    """The claims of this process, renewed by one thread for as long as there are any."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self._lock = threading.Lock()
        self._holds: set[Hold] = set()
        self._thread: threading.Thread | None = None

    @contextmanager
    def held(self, token: str) -> Iterator[Hold]:
        """Keep a claim alive while the block runs."""
        hold = Hold(token)
        with self._lock:
            self._holds.add(hold)
            if self._thread is None or not self._thread.is_alive():
                self._thread = threading.Thread(target=self._renew_all, name="leases", daemon=True)
                self._thread.start()
        try:
            yield hold
        finally:
            with self._lock:
                self._holds.discard(hold)

    def _renew_all(self) -> None:
        while True:
            time.sleep(_RENEW_S)
            with self._lock:
                holds = tuple(self._holds)
                if not holds:
                    self._thread = None
                    return
            self.renew(holds)

    def renew(self, holds: tuple[Hold, ...]) -> None:
        """Renew claims once, and note which were taken over, and which are to stop; where the database is away, the next time."""
        try:
            standing = self._database.run(lambda c: slow_work.renew(c, [hold.token for hold in holds]))
        except (FairSquareError, pymysql.MySQLError) as fault:
            log.warning("leases not renewed", why=str(fault))
            return
        for hold in holds:
            hold.lost = hold.token not in standing
            hold.stopped = hold.stopped or standing.get(hold.token, False)


class _Waited(NamedTuple):
    """What is waited for here, who asked for it, and how it is made by us."""

    name: str
    future: Future[bytes]
    by: str
    make: Callable[[], bytes]


class MadeOnce:
    """What is made once for all servers, a few at a time in this one, and kept for a day; each under a name that says all of it."""

    def __init__(self, database: Database, kind: Kind, at_a_time: int) -> None:
        self._database, self._kind, self._at_a_time = database, kind, at_a_time
        self._holder = new_token()
        self._leases = Leases(database)
        self._makers = ThreadPoolExecutor(max_workers=at_a_time, thread_name_prefix=kind)
        self._lock = threading.Lock()
        self._waited: list[_Waited] = []
        self._thread: threading.Thread | None = None

    def order(
        self, name: str, by: str, make: Callable[[], bytes], future: Future[bytes] | None = None
    ) -> Future[bytes]:
        """Return what will be of that name, in a `future` that is given (see `not_to_be_cancelled`), else in a new one: made by us
        where nobody else made or makes it. Raises `TooBusy`, `DatabaseAway`."""
        waited = _Waited(name, future or not_to_be_cancelled(), by, make)
        if not self._claim(waited):
            self._wait_for(waited)
        return waited.future

    def before(self, name: str) -> int:
        """Return how many have to be made before that is begun."""
        many = self._database.run(lambda c: slow_work.before(c, self._kind, name))
        return max(0, many - self._at_a_time + 1)

    def close(self) -> None:
        """Make no more."""
        self._makers.shutdown(wait=False, cancel_futures=True)

    def _claim(self, waited: _Waited) -> bool:
        """Say whether it is ours to make, or made; False: another makes it."""
        token = new_token()

        def work(connection: Connection) -> slow_work.Claimed:
            if slow_work.look(connection, self._kind, waited.name) is None:
                many, own = slow_work.under_way(connection, self._kind, waited.by)
                if own >= MOST_OF_ONE:
                    raise TooBusy(
                        f"{own} things that you asked for are being made: ask again when one of them is done."
                    )
                if many >= MOST_WAITING:
                    raise TooBusy(f"{many} things are being made before this one: ask again in a minute.")
            return slow_work.claim(connection, self._kind, waited.name, waited.by, self._holder, token)

        claimed = self._database.run(work)
        if claimed.ours:
            self._makers.submit(self._make, token, waited)
        elif claimed.result is not None:
            waited.future.set_result(claimed.result)
        return claimed.ours or claimed.result is not None

    def _make(self, token: str, waited: _Waited) -> None:
        """Make it, in a thread of ours, and say to all what came of it; our own page is served even if nobody can be told."""
        result: bytes | None = None
        fault: BaseException | None = None
        with self._leases.held(token):
            try:
                result = waited.make()
            except BaseException as broken:
                fault = broken
            told = fault if isinstance(fault, FairSquareError) else _failed() if fault is not None else None
            try:
                self._database.run(partial(slow_work.finish, token=token, result=result, fault=told))
            except (FairSquareError, pymysql.MySQLError) as away:
                log.warning("not told", kind=self._kind, why=str(away))
        if fault is not None:
            if not isinstance(fault, FairSquareError):
                log.error("slow work failed", kind=self._kind, exc_info=fault)
            waited.future.set_exception(fault)
        else:
            assert result is not None
            waited.future.set_result(result)

    def _wait_for(self, waited: _Waited) -> None:
        """Wait until another server has made it, by one thread for all that is waited for."""
        with self._lock:
            self._waited.append(waited)
            if self._thread is None or not self._thread.is_alive():
                self._thread = threading.Thread(target=self._look_after_all, name="waits", daemon=True)
                self._thread.start()

    def _look_after_all(self) -> None:
        while True:
            time.sleep(_LOOK_S)
            with self._lock:
                waits = tuple(self._waited)
                if not waits:
                    self._thread = None
                    return
            for waited in waits:
                try:
                    settled = self._settled(waited)
                except (FairSquareError, pymysql.MySQLError) as fault:
                    log.warning("waits", kind=self._kind, why=str(fault))
                    continue
                if settled:
                    with self._lock:
                        self._waited.remove(waited)

    def _settled(self, waited: _Waited) -> bool:
        """Say whether another's work needs no more waiting: it is made, failed, or ours now because that one is gone."""
        row = self._database.run(lambda c: slow_work.look(c, self._kind, waited.name))
        if row is None or row.lapsed:
            return self._claim(waited)
        if row.fault is not None:
            waited.future.set_exception(row.fault)
        elif row.over:
            made = self._database.run(lambda c: slow_work.result_of(c, self._kind, waited.name))
            waited.future.set_result(made or b"")
        return row.over


def not_to_be_cancelled() -> Future[bytes]:
    """Return a future that goes on whoever stops waiting for it."""
    future: Future[bytes] = Future()
    future.set_running_or_notify_cancel()
    return future


def _failed() -> FairSquareError:
    fault = FairSquareError("It could not be made: it is in the log. Try again.")
    fault.status, fault.kind = 500, "broken"
    return fault
