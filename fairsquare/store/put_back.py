"""The database's clock put back, by hand or by a time server: noted by who sees it first, so that no hours go without a word."""

import threading
import time
from contextlib import suppress

import pymysql
import structlog

from fairsquare import metrics
from fairsquare.core.errors import FairSquareError
from fairsquare.store.database import Connection, Database, execute, select_one

LEAST_S, _EVERY_S, _ALIKE_S = 30.0, 20.0, 180
log = structlog.get_logger("fairsquare.store")


def note(connection: Connection, seconds: float) -> None:
    """Note that the clock was put back just now; what another server of ours noted of it already is not noted twice."""
    execute(
        connection,
        f"""INSERT INTO put_back (seconds, after_clock, at)
            SELECT %(seconds)s, (SELECT COALESCE(MAX(id), 0) FROM work_clock), UTC_TIMESTAMP(6) FROM DUAL
            WHERE NOT EXISTS (SELECT 1 FROM put_back WHERE ABS(seconds - %(seconds)s) < 30
              AND ABS(TIMESTAMPDIFF(SECOND, at, UTC_TIMESTAMP(6))) < {_ALIKE_S})""",  # noqa: S608 - a constant
        seconds=seconds,
    )


class ClockWatch:
    """Looks every few seconds whether the database's clock went on as much as time did."""

    def __init__(self, database: Database) -> None:
        self._database, self._stop = database, threading.Event()
        self._thread = threading.Thread(target=self._watch, name="clock-watch", daemon=True)
        self._last: tuple[float, float] | None = None

    def start(self) -> None:
        """Begin to look."""
        self._thread.start()

    def close(self) -> None:
        """Look no more."""
        self._stop.set()

    def look(self, went_on_s: float) -> float:
        """Return by how many seconds the clock was put back since it was looked at last; `went_on_s` is a clock that never is."""
        row = self._database.run(lambda c: select_one(c, "SELECT UNIX_TIMESTAMP(UTC_TIMESTAMP(6)) AS now"))
        now, last = float(row["now"]) if row else 0.0, self._last
        metrics.CLOCK_AHEAD.set(now - time.time())
        lost = last[0] + (went_on_s - last[1]) - now if last else 0.0
        if lost >= LEAST_S:
            self._database.run(lambda c: note(c, lost))
            log.warning("clock put back", seconds=round(lost))
            metrics.CLOCK_PUT_BACK.inc()
        self._last = now, went_on_s
        return lost if lost >= LEAST_S else 0.0

    def _watch(self) -> None:
        """Look at once, so that what is put back soon after the start is seen, too; what could not be noted is seen again."""
        while True:
            with suppress(FairSquareError, pymysql.MySQLError):
                self.look(time.monotonic())
            if self._stop.wait(_EVERY_S):
                return
