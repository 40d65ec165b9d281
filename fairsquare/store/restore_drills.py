"""Backups that were brought back to try them, and what came of it."""

import datetime
from typing import NamedTuple

from fairsquare.store.database import Connection, execute, select_one, utc

OLD_DAYS = 31
"""After so many days a trial says little of the backups that were taken since; common practice, no source."""
_LONGEST_NAME, _LONGEST_TOLD, _LONGEST_WORDS = 200, 300, 4000


class RestoreDrill(NamedTuple):
    """A backup that was tried: its file's name, when it was taken, what it held, what was found of its records, and when.

    Times are UTC, as ISO 8601. `days`: since then.
    """

    file: str
    taken_at: str
    good: bool
    told: str
    words: str
    at: str
    days: int


def keep(connection: Connection, file: str, taken_at: datetime.datetime, *, good: bool, told: str, words: str) -> None:
    """Keep what came of a trial. `taken_at`: UTC."""
    execute(
        connection,
        """INSERT INTO restore_drill (file, taken_at, good, told, words, at)
           VALUES (%(file)s, %(taken_at)s, %(good)s, %(told)s, %(words)s, UTC_TIMESTAMP(6))""",
        file=file[-_LONGEST_NAME:],
        taken_at=taken_at.astimezone(datetime.UTC).replace(tzinfo=None),
        good=good,
        told=told[:_LONGEST_TOLD],
        words=words[:_LONGEST_WORDS],
    )


def last(connection: Connection) -> RestoreDrill | None:
    """Return the last trial; None where there was none."""
    row = select_one(
        connection,
        """SELECT file, taken_at, good, told, words, at, TIMESTAMPDIFF(DAY, at, UTC_TIMESTAMP(6)) AS days
           FROM restore_drill ORDER BY id DESC LIMIT 1""",
    )
    if row is None:
        return None
    return RestoreDrill(**{**row, "good": bool(row["good"]), "taken_at": utc(row["taken_at"]), "at": utc(row["at"])})
