"""A backup brought back: into a database beside ours, checked there, and then put in its place in one step.

Until that step nothing of ours is touched, and whatever cuts it off, it can be done again from the beginning.
"""

import datetime
import re
from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import Any, NamedTuple
from urllib.parse import urlsplit

import pymysql

from fairsquare.files.backup import Opened, opened
from fairsquare.files.since import following
from fairsquare.security_log import security
from fairsquare.service.keeping import KeepingFault, held, records_checked
from fairsquare.service.since import chain_until, put_back
from fairsquare.store.migrate import MigrationFault, migrate, migrations
from fairsquare.store.nodes import connect_arguments
from fairsquare.store.steady import Steady

BESIDE, BEFORE, TRIED = "_restoring", "_before", "_drill"
"""What the names of the other databases end with: where it is read in, where what was there goes, and where one is only tried."""
_LOADING = "SET foreign_key_checks = 0, unique_checks = 0, sql_mode = 'NO_AUTO_VALUE_ON_ZERO', time_zone = '+00:00'"
_THERE = 1062


class Until(NamedTuple):
    """Up to which moment is brought back; None: as far as there is anything."""

    at: datetime.datetime | None


_GENERATED = 1906
"""MariaDB's warning that a generated column makes its own value: the one that reading rows back may give."""
_VERSION = re.compile(rb"\(([0-9]{1,6}),'")


def bring_back(
    url: str, file: Path, key: str = "", *, over_people: bool = False, until: Until | None = None
) -> tuple[str, str, bool]:
    """Read a backup into an installation without jobs; return what it holds, how its records are, and whether all are good.

    Raises `KeepingFault` where there are jobs, or people unless `over_people`, and `Refused` for a file that is no whole backup of
    ours. What was there stays as it is until everything is read in and checked. With `until`, what was recorded after the backup
    is put back too, as far as that (`service/since.py`).
    """
    backup = opened(file, key)
    chain = chain_until(file, key, until.at) if until else []
    name = str(connect_arguments(url)["database"])
    with _steady(url) as line:
        line.run(lambda cursor, _: _check_nothing_is_lost(cursor, name, over_people=over_people))
        beside = _other(url, BESIDE)
        line.run(lambda cursor, _: _make_anew(cursor, name + BESIDE))
        try:
            _fill(beside, backup)
            more = put_back(beside, chain, until.at) if until else 0
            words, good = records_checked(beside)
            migrate(beside)
            told = held(beside) + (f", with {more} transactions that followed" if until else "")
            line.run(lambda cursor, again: _swap(cursor, name, again))
        except pymysql.MySQLError as fault:
            raise KeepingFault(f"MariaDB says: {fault.args[-1]}. Nothing was changed; it can be done again.") from None
        finally:
            for other in (name + BESIDE, name + BEFORE):
                line.execute(f"DROP DATABASE IF EXISTS `{other}`")
    security("restored", file=file.name, told=told)
    return f"brought back: {told}", words, good


def try_out(url: str, file: Path, key: str = "") -> tuple[str, str, bool]:
    """Read a backup, and all that follows it, into a database beside ours and drop that again; return what it holds, how its
    records are, and whether all are good, what follows too. Nothing of ours is touched, and people go on working. Raises as
    `bring_back` does."""
    backup = opened(file, key)
    chain, wrong = following(file, key)
    beside, name = _other(url, TRIED), str(connect_arguments(url)["database"]) + TRIED
    with _steady(url) as line:
        line.run(lambda cursor, _: _make_anew(cursor, name))
        try:
            _fill(beside, backup)
            more = put_back(beside, chain, None)
            migrate(beside)
            words, good = records_checked(beside)
            told = held(beside) + (
                f", with {more} transactions that followed until {chain[-1].reach.at}" if chain else ""
            )
            return told, " ".join([words, *wrong]), good and not wrong
        except pymysql.MySQLError as fault:
            raise KeepingFault(f"MariaDB says: {fault.args[-1]}") from None
        finally:
            line.execute(f"DROP DATABASE IF EXISTS `{name}`")


def under_way(url: str) -> bool:
    """Say whether a restore was begun and not ended: its database stands beside ours."""
    name = str(connect_arguments(url)["database"])
    asked = "SELECT 1 FROM information_schema.schemata WHERE schema_name = %s"
    with _steady(url) as line:
        return bool(line.execute(asked, (name + BESIDE,)))


def _fill(url: str, backup: Opened) -> None:
    """Make the tables as they were in the backup, and put its rows into them."""
    known = {migration.version for migration in migrations()}
    versions = set(backup.head.migrations) if backup.head else _versions(backup)
    if not versions or not versions <= known:
        raise KeepingFault(
            "This backup is of a newer version than this Fair Square: restore it with that one.", field="file"
        )
    try:
        migrate(url, only=versions)
    except MigrationFault as fault:
        raise KeepingFault(str(fault)) from None
    with _steady(url, _LOADING) as line:
        tables = line.run(lambda cursor, _: _tables(cursor, str(connect_arguments(url)["database"])))
        for table in sorted(tables - {"schema_migration"}):
            line.execute(f"DELETE FROM `{table}`")  # noqa: S608 - a table of ours
        for table, statement in backup.inserts():
            if table == "schema_migration" and backup.head is None:
                continue
            if table not in tables or table == "schema_migration":
                raise KeepingFault(f"There is no table {table} in a backup of ours. Nothing was changed.", field="file")
            line.run(partial(_put_in, table, statement.decode("utf-8")))


def _put_in(table: str, statement: str, cursor: Any, again: bool) -> None:
    """Put rows in; where it is done again because the answer was lost, they may be there."""
    try:
        cursor.execute(statement)
    except pymysql.err.IntegrityError as fault:
        if not again or fault.args[0] != _THERE:
            raise
        return
    _check_warnings(cursor, table)


def _check_warnings(cursor: Any, table: str) -> None:
    """Raise `KeepingFault` where a row was not put in to the letter."""
    if not cursor.warning_count:
        return
    cursor.execute("SHOW WARNINGS")
    other = [warning["Message"] for warning in cursor.fetchall() if warning["Code"] != _GENERATED]
    if other:
        raise KeepingFault(
            f"Rows of {table} do not go in as they stand: {other[0]}. Nothing was changed.", field="file"
        )


def _versions(backup: Opened) -> set[int]:
    """Return the migrations that the rows of a backup of version 1 name."""
    versions: set[int] = set()
    for table, statement in backup.inserts():
        if table == "schema_migration":
            versions |= {int(version) for version in _VERSION.findall(statement)}
    return versions


def _check_nothing_is_lost(cursor: Any, name: str, *, over_people: bool) -> None:
    tables = _tables(cursor, name)
    if "job" in tables and _many(cursor, name, "job"):
        raise KeepingFault(
            "There are jobs in this installation: a backup is brought back into an empty one only.", field="file"
        )
    people = _many(cursor, name, "person") if "person" in tables else 0
    if people and not over_people:
        raise KeepingFault(
            f"{people} {'person signs' if people == 1 else 'people sign'} in here, and would be replaced by those of the backup. "
            "Say --over-people where that is meant.",
            field="file",
        )


def _swap(cursor: Any, name: str, again: bool) -> None:
    """Put the tables that were read in in the place of ours, all in one statement: MariaDB does the whole of it or nothing."""
    if again and not _tables(cursor, name + BESIDE):
        return
    _make_anew(cursor, name + BEFORE)
    away = [f"`{name}`.`{table}` TO `{name}{BEFORE}`.`{table}`" for table in sorted(_tables(cursor, name))]
    here = [f"`{name}{BESIDE}`.`{table}` TO `{name}`.`{table}`" for table in sorted(_tables(cursor, name + BESIDE))]
    cursor.execute("SET foreign_key_checks = 0")
    cursor.execute("RENAME TABLE " + ", ".join([*away, *here]))


def _make_anew(cursor: Any, other: str) -> None:
    try:
        cursor.execute(f"DROP DATABASE IF EXISTS `{other}`")
        cursor.execute(f"CREATE DATABASE `{other}` CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_520_ci")
    except pymysql.MySQLError as fault:
        if fault.args[0] not in (1044, 1142, 1227):
            raise
        raise KeepingFault(
            f"The database user may not make `{other}`, into which a backup is read before it takes the place of what is there. "
            f"As an administrator: GRANT ALL ON `{other}`.* TO the user that FAIRSQUARE_DATABASE_URL names."
        ) from None


def _tables(cursor: Any, database: str) -> set[str]:
    cursor.execute(
        "SELECT table_name AS name FROM information_schema.tables WHERE table_schema = %s AND table_type = 'BASE TABLE'",
        (database,),
    )
    return {row["name"] for row in cursor.fetchall()}


def _many(cursor: Any, database: str, table: str) -> int:
    cursor.execute(f"SELECT COUNT(*) AS many FROM `{database}`.`{table}`")  # noqa: S608 - names of our own
    return int(cursor.fetchone()["many"])


def _other(url: str, ending: str) -> str:
    parts = urlsplit(url)
    return parts._replace(path=parts.path + ending).geturl()


@contextmanager
def _steady(url: str, begin: str = "") -> Iterator[Steady]:
    """Yield a connection for long work by parts. Raises `KeepingFault` where none can be made."""
    try:
        line = Steady(url, begin, max_allowed_packet=1 << 30)
    except (pymysql.MySQLError, ValueError) as fault:
        raise KeepingFault(f"MariaDB says: {fault.args[-1]}") from None
    with line:
        yield line
