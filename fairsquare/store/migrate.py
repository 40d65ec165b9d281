"""Migrations: numbered SQL files, each applied once, under a claim that other starters wait for, with its checksum.

The claim is a row and not a named lock, so that two servers of one cluster cannot apply the same file at once. Each file
is written so that it may be run again when a start was cut off in its middle.
"""

import hashlib
import time
from collections.abc import Collection
from pathlib import Path
from typing import NamedTuple

import pymysql
from pymysql.cursors import DictCursor

from fairsquare.core.errors import FairSquareError
from fairsquare.store.nodes import arguments_of_serving

FOLDER = Path(__file__).parent / "migrations"
_WAIT_S = 120.0


class MigrationFault(FairSquareError):
    """The database's history and the files of this version do not agree."""

    kind = "migration"


class Migration(NamedTuple):
    """One numbered file."""

    version: int
    name: str
    sql: str

    @property
    def sha256(self) -> str:
        """The checksum of its text."""
        return hashlib.sha256(self.sql.encode()).hexdigest()

    def statements(self) -> list[str]:
        """Return its statements; each ends with a semicolon at the end of a line."""
        plain = "\n".join(line for line in self.sql.splitlines() if not line.lstrip().startswith("--"))
        return [part.strip() for part in plain.split(";\n") if part.strip(" \n;")]


def migrations(folder: Path = FOLDER) -> list[Migration]:
    """Return the files in the order of their numbers."""
    files = sorted(folder.glob("[0-9]*.sql"))
    return [Migration(int(f.name.split("_")[0]), f.stem, f.read_text(encoding="utf-8")) for f in files]


def migrate(url: str, folder: Path = FOLDER, *, only: Collection[int] | None = None) -> list[str]:
    """Bring the database up to date and return the names of what was applied; with `only`, to those versions and no further.

    Raises `MigrationFault`.
    """
    connection = pymysql.connect(**{**arguments_of_serving(url), "autocommit": True})
    try:
        with connection.cursor() as cursor:
            cursor.execute(
                """CREATE TABLE IF NOT EXISTS schema_migration (
                     version INT NOT NULL PRIMARY KEY,
                     name VARCHAR(120) NOT NULL,
                     sha256 CHAR(64) NOT NULL,
                     claimed_at DATETIME(6) NOT NULL,
                     applied_at DATETIME(6) NULL
                   ) ENGINE = InnoDB"""
            )
            wanted = [migration for migration in migrations(folder) if only is None or migration.version in only]
            return [migration.name for migration in wanted if _apply(cursor, migration)]
    finally:
        connection.close()


def has_jobs(url: str) -> bool:
    """Return whether any job was ever opened in an up-to-date database."""
    connection = pymysql.connect(**arguments_of_serving(url))
    try:
        with connection.cursor() as cursor:
            cursor.execute("SELECT EXISTS (SELECT 1 FROM job) AS some")
            return bool(cursor.fetchone()["some"])
    finally:
        connection.close()


def pending(rows: list[dict[str, object]], folder: Path = FOLDER) -> list[str]:
    """Return the names of files that a database with these rows of schema_migration still lacks."""
    applied = {row["version"] for row in rows if row["applied_at"] is not None}
    return [migration.name for migration in migrations(folder) if migration.version not in applied]


def _apply(cursor: DictCursor, migration: Migration) -> bool:
    if not _claim(cursor, migration):
        return False
    for statement in migration.statements():
        cursor.execute(statement)
    cursor.execute("UPDATE schema_migration SET applied_at = UTC_TIMESTAMP(6) WHERE version = %s", (migration.version,))
    return True


def _claim(cursor: DictCursor, migration: Migration) -> bool:
    """Return whether it is ours to apply; wait while another starter applies it, take over when that one is gone."""
    until = time.monotonic() + _WAIT_S
    while True:
        try:
            cursor.execute(
                """INSERT INTO schema_migration (version, name, sha256, claimed_at)
                   VALUES (%s, %s, %s, UTC_TIMESTAMP(6))""",
                (migration.version, migration.name, migration.sha256),
            )
            return True
        except pymysql.err.IntegrityError:
            cursor.execute(
                """SELECT sha256, applied_at, TIMESTAMPDIFF(SECOND, claimed_at, UTC_TIMESTAMP(6)) AS age
                   FROM schema_migration WHERE version = %s""",
                (migration.version,),
            )
            row = cursor.fetchone()
        if row is None:
            continue
        if row["sha256"] != migration.sha256:
            raise MigrationFault(
                f"Migration {migration.name} was changed after it was applied to this database. "
                "Restore the file; a change of the tables is a new file."
            )
        if row["applied_at"] is not None:
            return False
        if row["age"] > _WAIT_S or time.monotonic() > until:
            cursor.execute(
                "UPDATE schema_migration SET claimed_at = UTC_TIMESTAMP(6) WHERE version = %s", (migration.version,)
            )
            return True
        time.sleep(0.2)
