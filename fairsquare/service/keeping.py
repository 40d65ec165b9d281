"""Keeping: everything into one file, and from it into an empty installation, by MariaDB's own tools; every record checked after."""

import gzip
import os
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from functools import partial
from pathlib import Path
from typing import IO, Any, NamedTuple

from fairsquare import __version__
from fairsquare.core.errors import FairSquareError
from fairsquare.files.records import check_record
from fairsquare.service.mariadb import MariaDBFault, PrivateMariaDB
from fairsquare.settings import Settings
from fairsquare.store.database import Connection, Database, connect_arguments, rows
from fairsquare.store.migrate import has_jobs, migrate

_HEAD = "-- Fair Square backup"
_END = "-- Fair Square backup is whole"
_CHUNK = 1 << 20


class KeepingFault(FairSquareError):
    """A backup cannot be written or read; the message says what to do."""

    kind = "keeping"


@contextmanager
def database_at(folder: Path) -> Iterator[str]:
    """Yield the URL of the database: the one that is named, the running demo's, or the demo's, started for as long as it takes."""
    named = Settings().database_url or _remembered(folder)
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


def _remembered(folder: Path) -> str:
    try:
        pid, url = (folder / "url").read_text().split()
        os.kill(int(pid), 0)
    except (OSError, ValueError):
        return ""
    return url


def back_up(url: str, file: Path) -> str:
    """Write a backup, and return what it holds, in words. Raises `KeepingFault`; a file that is there stays as it is."""
    if file.exists():
        raise KeepingFault(f"{file} is there already: give another name, backups are not written over.", field="file")
    made = file.with_name(file.name + ".part")
    try:
        with gzip.open(made, "wb") as out:
            out.write(f"{_HEAD}, Fair Square {__version__}\n".encode())
            options = ["--single-transaction", "--hex-blob", "--skip-dump-date", "--default-character-set=utf8mb4"]
            with _tool(url, "mariadb-dump", options, stdout=subprocess.PIPE) as dump:
                assert dump.process.stdout is not None
                shutil.copyfileobj(dump.process.stdout, out, _CHUNK)
                dump.finish()
            out.write(f"{_END}\n".encode())
        made.rename(file)
    except OSError as fault:
        raise KeepingFault(f"{file} cannot be written: {fault.strerror}.", field="file") from None
    finally:
        made.unlink(missing_ok=True)
    return f"{_held(url)} in {file}, {file.stat().st_size / 1e6:.1f} MB"


def bring_back(url: str, file: Path) -> str:
    """Read a backup into an empty database, bring its tables up to date, and return what it holds. Raises `KeepingFault`."""
    _check_whole(file)
    if _tables(url) and has_jobs(url):
        raise KeepingFault(
            "There are jobs in this installation: a backup is brought back into an empty one only.", field="file"
        )
    try:
        with gzip.open(file, "rb") as kept, _tool(url, "mariadb", [], stdin=subprocess.PIPE) as reader:
            assert reader.process.stdin is not None
            with suppress(BrokenPipeError):
                shutil.copyfileobj(kept, reader.process.stdin, _CHUNK)
                reader.process.stdin.close()
            reader.finish()
    except OSError as fault:
        raise KeepingFault(f"{file} cannot be read in: {fault.strerror}.", field="file") from None
    migrate(url)
    return f"brought back: {_held(url)}"


def records_checked(url: str) -> tuple[str, bool]:
    """Check every record that is kept, and return what was found, in words, and whether all are whole."""
    database, bad, many = Database(url, 1), [], 0
    try:
        jobs = database.run(
            lambda c: rows(c, "SELECT r.id, j.number FROM record r JOIN job j ON j.id = r.job_id ORDER BY r.id")
        )
        for one in jobs:
            (found,) = database.run(partial(_body_of, one["id"]))
            check, many = check_record(found["body"].encode()), many + 1
            if not check.good:
                bad.append(f"{one['number']}: {'; '.join(check.findings) or 'not whole'}")
    finally:
        database.close()
    if bad:
        return f"{len(bad)} of {many} records are not whole or do not follow:\n" + "\n".join(
            f"- {one}" for one in bad
        ), False
    return f"{many} record{'' if many == 1 else 's'} checked: every one whole, figures follow from the readings", True


def _body_of(record: int, connection: Connection) -> list[dict[str, Any]]:
    return rows(connection, "SELECT body FROM record WHERE id = %s", record)


def _check_whole(file: Path) -> None:
    """Raise `KeepingFault` for a file that is no backup, or only part of one, before anything is changed by it."""
    try:
        with gzip.open(file, "rb") as kept:
            first, last = kept.readline(), b""
            while part := kept.read(_CHUNK):
                last = (last + part)[-200:]
    except (OSError, EOFError):
        raise KeepingFault(f"{file} is damaged, or no backup of Fair Square.", field="file") from None
    if not first.startswith(_HEAD.encode()):
        raise KeepingFault(f"{file} is no backup of Fair Square.", field="file")
    if not last.rstrip().endswith(_END.encode()):
        raise KeepingFault(f"{file} ends in the middle: take another backup.", field="file")


def _tables(url: str) -> int:
    database = Database(url, 1)
    try:
        return len(database.run(lambda c: rows(c, "SHOW TABLES LIKE 'job'")))
    finally:
        database.close()


def _held(url: str) -> str:
    database = Database(url, 1)
    try:
        (found,) = database.run(
            lambda c: rows(
                c,
                """SELECT (SELECT COUNT(*) FROM job) AS jobs, (SELECT COUNT(*) FROM reading) AS readings,
                          (SELECT COUNT(*) FROM photo) AS photos, (SELECT COUNT(*) FROM record) AS records""",
            )
        )
    finally:
        database.close()
    return ", ".join(f"{many} {name if many != 1 else name[:-1]}" for name, many in found.items())


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
def _tool(url: str, name: str, options: list[str], **pipes: int) -> Iterator[_Tool]:
    """Run a tool on the database; the password stands in a file that only its owner reads, while it runs."""
    program = shutil.which(name)
    if program is None:
        raise KeepingFault(f"{name} is not installed: apt-get install mariadb-client.")
    own = connect_arguments(url)
    where = (
        [f"--socket={own['unix_socket']}"]
        if "unix_socket" in own
        else ["--protocol=tcp", f"--host={own['host']}", f"--port={own['port']}"]
    )
    with tempfile.NamedTemporaryFile("w", suffix=".cnf") as secret, tempfile.TemporaryFile() as complaints:
        secret.write("[client]\n" + "".join(f'{key}="{_quoted(own[key])}"\n' for key in ("user", "password")))
        secret.flush()
        command = [program, f"--defaults-file={secret.name}", *where, *options, own["database"]]
        process = subprocess.Popen(command, stderr=complaints, **pipes)  # type: ignore[call-overload] # noqa: S603 - our own command
        try:
            yield _Tool(process, complaints)
        finally:
            if process.poll() is None:
                process.kill()
            process.wait()


def _quoted(text: str) -> str:
    return str(text).replace("\\", "\\\\").replace('"', '\\"')
