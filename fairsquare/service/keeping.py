"""Keeping: everything into one file by MariaDB's own tool, and every record checked. How it is brought back: `restoring`."""

import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from functools import partial
from pathlib import Path
from typing import IO, Any, NamedTuple

import pymysql

from fairsquare import __version__
from fairsquare.core.errors import FairSquareError
from fairsquare.files.backup import Head, LogPlace, written
from fairsquare.files.records import check_record
from fairsquare.service.mariadb import MariaDBFault, PrivateMariaDB
from fairsquare.settings import Settings
from fairsquare.store.database import Connection, Database, now_of, select
from fairsquare.store.nodes import Node, arguments_of_serving, connect_arguments, nodes_of, url_at

_CHUNK = 1 << 20
BACKUP = ".backup"
"""What the name of a backup ends with, for those who look for one."""
LEFT_OUT = frozenset({"schema_migration", "shop_key_secret", "slow_work", "listening", "restore_drill"})
"""Tables that no backup holds."""
_ROWS_ONLY = (
    "--single-transaction",
    "--no-create-info",
    "--compact",
    "--complete-insert",
    "--hex-blob",
    "--default-character-set=utf8mb4",
    *(f"--ignore-table={{database}}.{table}" for table in sorted(LEFT_OUT)),
)
"""Rows, and nothing that makes tables: a restore makes them itself. What signs records stays here: who finds or steals a backup
cannot sign for the shop. What is made again when it is asked for stays, too."""


class KeepingFault(FairSquareError):
    """A backup cannot be written or read; the message says what to do."""

    kind = "keeping"


@contextmanager
def database_at(folder: Path) -> Iterator[str]:
    """Yield the URL of the database: the one that is named, the running demo's, or the demo's, started for as long as it takes."""
    named = database_that_runs(folder)
    if named:
        yield named
        return
    mariadb = PrivateMariaDB(folder / "mariadb")
    try:
        yield mariadb.start()
    except MariaDBFault as fault:
        raise KeepingFault(str(fault)) from None
    finally:
        mariadb.stop()


def remember_url(folder: Path, url: str) -> None:
    """Write down where the demo's database is while it runs, for its owner only."""
    file = folder / "url"
    file.touch(mode=0o600)
    file.write_text(f"{os.getpid()} {url}")


def forget_url(folder: Path) -> None:
    """The demo's database does not run any more."""
    (folder / "url").unlink(missing_ok=True)


def database_that_runs(folder: Path) -> str:
    """Return the URL of the database that is named, or of the demo that runs; empty where there is neither."""
    return Settings().database_url or _remembered(folder)


def _remembered(folder: Path) -> str:
    try:
        pid, url = (folder / "url").read_text().split()
        os.kill(int(pid), 0)
    except (OSError, ValueError):
        return ""
    return url


def newest(place: Path, endings: tuple[str, ...]) -> Path:
    """Return a file that is named, or the newest of a folder whose name ends so. Raises `KeepingFault` where there is none."""
    if place.is_file():
        return place
    files = [file for file in place.glob("*") if file.name.endswith(endings) and file.is_file()]
    if not files:
        raise KeepingFault(
            f"There is no backup in {place}: name the folder in which they are kept, as NAME{BACKUP}.", field="place"
        )
    return max(files, key=lambda file: (file.stat().st_mtime, file.name))


def back_up(url: str, file: Path, key: str = "") -> str:
    """Write a backup, and return what it holds, in words. Raises `KeepingFault`; a file that is there stays as it is.

    Only its owner may read it: it holds everything, hashes of passwords too. With a `key` it is sealed so that a change shows.
    """
    if file.exists():
        raise KeepingFault(f"{file} is there already: give another name, backups are not written over.", field="file")
    made = file.with_name(file.name + ".part")
    url = url_at(url, _serving(url)) if len(nodes_of(url)) > 1 else url
    log = _place_in_the_log(url)
    try:
        with os.fdopen(os.open(made, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as raw:
            with _tool(url, "mariadb-dump", _ROWS_ONLY) as dump:
                assert dump.process.stdout is not None
                part = dump.process.stdout.read(_CHUNK)
                with written(raw, _head(url, keyed=bool(key), log=log), key) as out:
                    while part:
                        out.write(part)
                        part = dump.process.stdout.read(_CHUNK)
                    dump.finish()
            raw.flush()
            os.fsync(raw.fileno())
        made.rename(file)
    except OSError as fault:
        raise KeepingFault(f"{file} cannot be written: {fault.strerror}.", field="file") from None
    finally:
        made.unlink(missing_ok=True)
    return f"{held(url)} in {file}, {file.stat().st_size / 1e6:.1f} MB" + (
        ""
        if log
        else "; no binary log is kept here, or the user may not read it: nothing can follow this (docs/installing.md)"
    )


def _head(url: str, *, keyed: bool, log: LogPlace | None) -> Head:
    """Return the head of a backup that is being written: what it holds was recorded before now."""
    try:
        versions = applied_in(url)
        database = Database(url, 1)
        try:
            at = database.run(now_of)
        finally:
            database.close()
    except pymysql.MySQLError as fault:
        raise KeepingFault(f"MariaDB says: {fault.args[-1]}") from None
    return Head(format=3, software=f"Fair Square {__version__}", migrations=versions, keyed=keyed, at=at, log=log)


def applied_in(url: str) -> tuple[int, ...]:
    """Return the migrations that a database has. Raises what PyMySQL raises."""
    database = Database(url, 1)
    try:
        applied = database.run(lambda c: select(c, "SELECT version FROM schema_migration WHERE applied_at IS NOT NULL"))
    finally:
        database.close()
    return tuple(sorted(row["version"] for row in applied))


def _serving(url: str) -> Node:
    own = arguments_of_serving(url)
    return Node(own["host"], own["port"])


def _place_in_the_log(url: str) -> LogPlace | None:
    """Return where the binary log of a node ends now; None where it keeps none, or may not be asked."""
    try:
        connection = pymysql.connect(**connect_arguments(url))
        with connection, connection.cursor() as cursor:
            cursor.execute("SHOW MASTER STATUS")
            row = cursor.fetchone()
    except pymysql.MySQLError:
        return None
    return LogPlace(node=str(nodes_of(url)[0]), file=row["File"], position=row["Position"]) if row else None


def records_checked(url: str) -> tuple[str, bool]:
    """Check every record that is kept, and return what was found, in words, and whether all are whole."""
    database, bad, many, unsigned = Database(url, 1), [], 0, 0
    try:
        jobs = database.run(
            lambda c: select(c, "SELECT r.id, j.number FROM record r JOIN job j ON j.id = r.job_id ORDER BY r.id")
        )
        for job in jobs:
            (row,) = database.run(partial(_body_of, job["id"]))
            check, many = check_record(row["body"].encode()), many + 1
            unsigned += check.signed_by.signed == "no"
            if not check.good:
                bad.append(f"{job['number']}: {'; '.join(check.findings) or 'not whole'}")
    finally:
        database.close()
    if bad:
        return f"{len(bad)} of {many} records are not whole or do not follow:\n" + "\n".join(
            f"- {line}" for line in bad
        ), False
    if not many:
        return "no record in it to check", True
    signed = f"; {unsigned} of before records were signed" if unsigned else ", signed"
    return (
        f"{many} record{'' if many == 1 else 's'} checked: every one whole{signed}, figures follow from the readings",
        True,
    )


def _body_of(record: int, connection: Connection) -> list[dict[str, Any]]:
    return select(connection, "SELECT body FROM record WHERE id = %s", record)


def held(url: str) -> str:
    """Return how much is kept in a database, in words."""
    database = Database(url, 1)
    try:
        (row,) = database.run(
            lambda c: select(
                c,
                """SELECT (SELECT COUNT(*) FROM job) AS jobs, (SELECT COUNT(*) FROM reading) AS readings,
                          (SELECT COUNT(*) FROM photo) AS photos, (SELECT COUNT(*) FROM record) AS records""",
            )
        )
    finally:
        database.close()
    return ", ".join(f"{many} {name if many != 1 else name[:-1]}" for name, many in row.items())


class _Tool(NamedTuple):
    """One of MariaDB's tools at work, and where it writes what it complains of."""

    process: "subprocess.Popen[bytes]"
    complaints: IO[bytes]

    def finish(self) -> None:
        """Wait until it is done. Raises `KeepingFault` with what it complained of."""
        if self.process.wait():
            self.complaints.seek(0)
            raise KeepingFault(f"MariaDB says: {self.complaints.read(2000).decode(errors='replace').strip()}")


@contextmanager
def _tool(url: str, name: str, options: tuple[str, ...]) -> Iterator[_Tool]:
    """Run a tool on the database; the password stands in a file that only its owner reads, while it runs."""
    program = shutil.which(name)
    if program is None:
        raise KeepingFault(f"{name} is not installed: apt-get install mariadb-client.")
    own = arguments_of_serving(url)
    where = (
        [f"--socket={own['unix_socket']}"]
        if "unix_socket" in own
        else ["--protocol=tcp", f"--host={own['host']}", f"--port={own['port']}"]
    )
    if "ssl_ca" in own:
        where += [f"--ssl-ca={own['ssl_ca']}", "--ssl-verify-server-cert"]
    with tempfile.NamedTemporaryFile("w", suffix=".cnf") as secret, tempfile.TemporaryFile() as complaints:
        secret.write("[client]\n" + "".join(f'{key}="{_quoted(own[key])}"\n' for key in ("user", "password")))
        secret.flush()
        told = [option.format(database=own["database"]) for option in options]
        command = [program, f"--defaults-file={secret.name}", *where, *told, own["database"]]
        process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=complaints)  # noqa: S603 - our own command
        try:
            yield _Tool(process, complaints)
        finally:
            if process.poll() is None:
                process.kill()
            process.wait()


def _quoted(text: str) -> str:
    return str(text).replace("\\", "\\\\").replace('"', '\\"')
