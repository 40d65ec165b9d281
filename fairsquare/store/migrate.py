"""Migrations: numbered SQL files, each applied once, under a claim that other starters wait for, with its checksum.

The claim is a row and not a named lock, so that two servers of one cluster cannot apply the same file at once; it is renewed after
every statement. Each file is written so that it may be run again when it was cut off in its middle, and adds only: servers of the
version before go on beside it (docs/house.md).
"""

import hashlib
import secrets
import time
from collections.abc import Collection, Mapping
from functools import partial
from pathlib import Path
from typing import NamedTuple

import pymysql
from pymysql.cursors import DictCursor

from fairsquare.core.errors import FairSquareError
from fairsquare.store.nodes import arguments_of_serving
from fairsquare.store.steady import Steady

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

    Of several that begin at once, at whatever nodes, one applies a file and the others wait. Raises `MigrationFault`.
    """
    claimant = secrets.token_hex(8)
    with Steady(url) as line:
        line.run(_make_table)
        wanted = [migration for migration in migrations(folder) if only is None or migration.version in only]
        return [migration.name for migration in wanted if line.run(partial(_apply, migration, claimant))]


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


def _make_table(cursor: DictCursor, _: bool) -> None:
    """Make what migrations are written down in where it is not there.

    In a cluster every statement that makes a table holds up all nodes, also where the table is there.
    """
    cursor.execute(
        """SELECT column_name AS name FROM information_schema.columns
           WHERE table_schema = DATABASE() AND table_name = 'schema_migration'"""
    )
    columns = {row["name"] for row in cursor.fetchall()}
    if not columns:
        cursor.execute(
            """CREATE TABLE IF NOT EXISTS schema_migration (
                 version INT NOT NULL PRIMARY KEY,
                 name VARCHAR(120) NOT NULL,
                 sha256 CHAR(64) NOT NULL,
                 claimed_at DATETIME(6) NOT NULL,
                 applied_at DATETIME(6) NULL
               ) ENGINE = InnoDB"""
        )
    if "claimed_by" not in columns:
        cursor.execute("ALTER TABLE schema_migration ADD COLUMN IF NOT EXISTS claimed_by CHAR(16) NOT NULL DEFAULT ''")


def _apply(migration: Migration, claimant: str, cursor: DictCursor, _: bool) -> bool:
    while _claim(cursor, migration, claimant):
        if all(_still_ours(cursor, migration, claimant, statement) for statement in migration.statements()):
            cursor.execute(
                "UPDATE schema_migration SET applied_at = UTC_TIMESTAMP(6) WHERE version = %s", (migration.version,)
            )
            return True
    return False


def _still_ours(cursor: DictCursor, migration: Migration, claimant: str, statement: str) -> bool:
    """Carry out a statement, renew the claim, and say whether nobody took it over meanwhile."""
    cursor.execute(statement)
    return bool(
        cursor.execute(
            "UPDATE schema_migration SET claimed_at = UTC_TIMESTAMP(6) WHERE version = %s AND claimed_by = %s",
            (migration.version, claimant),
        )
    )


def _claim(cursor: DictCursor, migration: Migration, claimant: str) -> bool:
    """Return whether it is ours to apply; wait while another starter applies it, take over when that one is gone."""
    while True:
        try:
            cursor.execute(
                """INSERT INTO schema_migration (version, name, sha256, claimed_at, claimed_by)
                   VALUES (%s, %s, %s, UTC_TIMESTAMP(6), %s)""",
                (migration.version, migration.name, migration.sha256, claimant),
            )
            return True
        except pymysql.err.IntegrityError:
            cursor.execute(
                """SELECT sha256, applied_at, claimed_at, claimed_by,
                     TIMESTAMPDIFF(SECOND, claimed_at, UTC_TIMESTAMP(6)) AS age
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
        if row["claimed_by"] == claimant or (row["age"] > _WAIT_S and _take_over(cursor, migration, claimant, row)):
            return True
        time.sleep(0.2)


def _take_over(cursor: DictCursor, migration: Migration, claimant: str, row: Mapping[str, object]) -> bool:
    """Claim what nobody renewed for long, and say whether we were the first to do so."""
    return bool(
        cursor.execute(
            """UPDATE schema_migration SET claimed_at = UTC_TIMESTAMP(6), claimed_by = %s
               WHERE version = %s AND claimed_at = %s AND claimed_by = %s AND applied_at IS NULL""",
            (claimant, migration.version, row["claimed_at"], row["claimed_by"]),
        )
    )
