"""A restore drill: the newest backup, and what follows it, brought back beside what is there, every record in it checked, and what
came of it kept."""

import datetime
from pathlib import Path

import pymysql

from fairsquare.core.errors import FairSquareError
from fairsquare.service.copies import ENDING, readable
from fairsquare.service.keeping import BACKUP, newest
from fairsquare.service.restoring import try_out
from fairsquare.store import restore_drills
from fairsquare.store.database import Database
from fairsquare.store.migrate import migrate


def hold_drill(url: str, place: Path, key: str = "", *, at: str = "", identity: Path | None = None) -> tuple[str, bool]:
    """Try the newest backup, and return what came of it, in words, and whether it is good; both are kept for The shop to see.

    `at`: the URL of another server on which it is brought back, where it takes nothing from the one that serves. Raises
    `KeepingFault` where there is nothing to try.
    """
    migrate(url)
    file = newest(place, (BACKUP, BACKUP + ENDING) if identity else (BACKUP,))
    taken_at = datetime.datetime.fromtimestamp(file.stat().st_mtime, datetime.UTC)
    tried = file
    try:
        with readable(file, identity) as tried:
            told, words, good = try_out(at or url, tried, key)
    except (FairSquareError, pymysql.MySQLError) as fault:
        told, words, good = "", str(fault.args[-1]).replace(str(tried), "it"), False
    database = Database(url, 1)
    try:
        database.run(lambda c: restore_drills.keep(c, file.name, taken_at, good=good, told=told, words=words))
    finally:
        database.close()
    return f"{file.name}: {told + '; ' if told else ''}{words}", good
