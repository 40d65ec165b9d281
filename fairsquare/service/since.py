"""What was recorded since a backup, read from the binary log of the node that it was taken from, and put back as far as is wanted.

A backup and what follows it bring back any moment from the backup on, to the second and never half of a deed. Transactions are put
back in order and each may be put back twice, for a row is written whole: so the log is read from a place before the backup began.
"""

import datetime
import os
from collections.abc import Iterator
from functools import partial
from pathlib import Path
from typing import Any
from zoneinfo import ZoneInfo

import pymysql
from pymysqlreplication import BinLogStreamReader
from pymysqlreplication.event import QueryEvent, XidEvent
from pymysqlreplication.row_event import DeleteRowsEvent, UpdateRowsEvent, WriteRowsEvent

from fairsquare import __version__
from fairsquare.core.errors import Refused
from fairsquare.files import since
from fairsquare.files.backup import LogPlace, digest_of, opened
from fairsquare.files.since import Reach, Row, Since, SinceHead, Transaction
from fairsquare.service.keeping import LEFT_OUT, KeepingFault, applied_in
from fairsquare.store.database import Database, now_of
from fairsquare.store.nodes import connect_arguments, nodes_of, url_at
from fairsquare.store.steady import Steady

_WHOLE = "take a whole backup"
_BEGUN, _ENDED = frozenset({"BEGIN", "START TRANSACTION"}), frozenset({"COMMIT", "ROLLBACK"})
_READER = 0x0FA15000
"""The server number under which the log is asked for; the last three digits by chance, so that two may ask at once."""
_LATEST = "latest"
_CONNECTS = frozenset({"host", "port", "user", "unix_socket"})


def back_up_since(url: str, before: Path, file: Path, key: str = "") -> str:
    """Write what was recorded since a backup, or since another such file, and return what, in words.

    Raises `KeepingFault` where that cannot be known from the log, and `Refused` for a file before that is not whole.
    """
    if file.exists():
        raise KeepingFault(f"{file} is there already: give another name, it is not written over.", field="file")
    if file.suffix != since.ENDING:
        raise KeepingFault(f"Call it NAME{since.ENDING}: what follows a backup is found by that.", field="file")
    place, migrations = _left_off(before, key)
    node = next((node for node in nodes_of(url) if str(node) == place.node), None)
    if node is None:
        raise KeepingFault(
            f"{before} was taken from {place.node}, which FAIRSQUARE_DATABASE_URL does not name: {_WHOLE}."
        )
    own = url_at(url, node)
    try:
        now, at = applied_in(own), _now(own)
        if now != migrations:
            raise KeepingFault(f"The tables are not those of {before} any more: {_WHOLE}.")
        head = SinceHead(
            format=1,
            software=f"Fair Square {__version__}",
            migrations=migrations,
            keyed=bool(key),
            after=digest_of(before),
            log=place,
        )
        made = file.with_name(file.name + ".part")
        try:
            with os.fdopen(os.open(made, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as raw:
                many = _write(raw, head, key, own, at)
                raw.flush()
                os.fsync(raw.fileno())
            made.rename(file)
        finally:
            made.unlink(missing_ok=True)
    except pymysql.MySQLError as fault:
        raise KeepingFault(f"MariaDB says: {fault.args[-1]}. If the log from there is gone: {_WHOLE}.") from None
    except OSError as fault:
        raise KeepingFault(f"{file} cannot be written: {fault.strerror}.", field="file") from None
    return f"{many} transactions until {at} in {file}, {file.stat().st_size / 1e6:.1f} MB"


def moment(words: str, zone: ZoneInfo) -> datetime.datetime | None:
    """Return a moment as it is typed, in the shop's time zone where it names none; None for the latest. Raises `KeepingFault`."""
    if words.strip() == _LATEST:
        return None
    try:
        typed = datetime.datetime.fromisoformat(words.strip())
    except ValueError:
        raise KeepingFault(
            f"{words[:40]} is no time: say it as 2026-11-29 14:30, or {_LATEST}.", field="until", value=words[:40]
        ) from None
    return typed if typed.tzinfo else typed.replace(tzinfo=zone)


def chain_until(file: Path, key: str, until: datetime.datetime | None) -> list[Since]:
    """Return what follows a backup, once it is found to go as far as is wanted. Raises `Refused` that says how far it goes."""
    head = opened(file, key).head
    if head is None or not head.at:
        raise Refused(f"{file} does not say when it was taken: it brings back that moment only.", field="file")
    chain, wrong = since.following(file, key)
    last = chain[-1].reach.at if chain else head.at
    if until is not None and until < datetime.datetime.fromisoformat(head.at):
        raise Refused(f"{file} was taken at {head.at}: for a moment before, take an earlier one.", field="until")
    if until is not None and until > datetime.datetime.fromisoformat(last):
        unread = f" {' '.join(wrong)}" if wrong else ""
        raise Refused(f"What follows {file} goes until {last}: say that, or an earlier time.{unread}", field="until")
    return chain


def put_back(url: str, chain: list[Since], until: datetime.datetime | None) -> int:
    """Put back what was recorded until then, and return how many transactions that were. Raises `Refused` for what is not ours."""
    many = 0
    with Steady(url, "SET foreign_key_checks = 0, sql_mode = 'NO_AUTO_VALUE_ON_ZERO', time_zone = '+00:00'") as line:
        columns = line.run(lambda cursor, _: _columns(cursor))
        for one in chain:
            for transaction in one.transactions():
                if until is not None and transaction.at > until.timestamp():
                    return many
                statements = [_statement(row, columns, one.file) for row in transaction.rows]
                line.run(partial(_carry_out, statements))
                many += 1
    return many


def _left_off(before: Path, key: str) -> tuple[LogPlace, tuple[int, ...]]:
    """Return where what follows a file begins, and of which tables it is."""
    if before.suffix == since.ENDING:
        earlier = since.read_since(before, key)
        return earlier.reach.log, tuple(earlier.head.migrations)
    head = opened(before, key).head
    if head is None or head.log is None:
        raise KeepingFault(
            f"{before} was taken where no binary log was kept (docs/installing.md), so nothing can follow it."
        )
    return head.log, tuple(head.migrations)


def _write(raw: Any, head: SinceHead, key: str, url: str, at: str) -> int:
    many = 0
    with since.written(raw, head, key) as writing:
        reached = head.log
        for transaction, there in _transactions(url, head.log):
            reached = there
            if transaction.rows:
                writing.write(since.line(transaction))
                many += 1
        writing.write(since.end(Reach(at=at, log=reached)))
    return many


def _transactions(url: str, place: LogPlace) -> Iterator[tuple[Transaction, LogPlace]]:
    """Yield every transaction of the log from a place on, and where the next begins, until there is no more."""
    own = connect_arguments(url)
    database, stream = own["database"], _stream(own, place)
    rows: list[Row] = []
    try:
        for event in stream:
            if isinstance(event, QueryEvent):
                words = str(event.query).strip().upper()
                name = event.schema.decode() if isinstance(event.schema, bytes) else str(event.schema)
                if words in _BEGUN:
                    rows = []
                elif words not in _ENDED and not words.startswith("SAVEPOINT") and name == database:
                    raise KeepingFault(f"The tables were changed since ({str(event.query)[:60]}): {_WHOLE}.")
                if words not in _ENDED:
                    continue
            elif not isinstance(event, XidEvent):
                if event.schema == database and event.table not in LEFT_OUT:
                    rows += _rows(event)
                continue
            there = LogPlace(node=place.node, file=stream.log_file, position=stream.log_pos)
            yield Transaction(int(event.timestamp), tuple(rows)), there
            rows = []
    finally:
        stream.close()


def _stream(own: dict[str, Any], place: LogPlace) -> Any:
    """Return a reader of the log. A line that is lost ends it: the library would ask for ever."""
    made = 0

    def connect(**arguments: Any) -> Any:
        nonlocal made
        made += 1
        if made > 2:  # one for the log, one to ask about tables
            raise KeepingFault("The database did not answer while its log was read. Nothing was written: try again.")
        return pymysql.connect(**arguments)

    settings = {name: value for name, value in own.items() if name in _CONNECTS or name.startswith("ssl_")}
    return BinLogStreamReader(
        connection_settings={**settings, "password": own["password"], "charset": "utf8mb4"},
        server_id=_READER + os.getpid() % 0x1000,
        log_file=place.file,
        log_pos=place.position,
        resume_stream=True,
        blocking=False,
        only_events=[QueryEvent, XidEvent, WriteRowsEvent, UpdateRowsEvent, DeleteRowsEvent],
        pymysql_wrapper=connect,
    )


def _rows(event: Any) -> list[Row]:
    """Return what an event did to rows of a table; a row whose key was changed is gone, and put under its new one."""
    keys = [event.primary_key] if isinstance(event.primary_key, str) else list(event.primary_key)
    found: list[Row] = []
    for row in event.rows:
        before, after = row.get("before_values"), row.get("after_values")
        if isinstance(event, WriteRowsEvent):
            after = row["values"]
        elif isinstance(event, DeleteRowsEvent):
            before = row["values"]
        old = {name: before[name] for name in keys} if before else {}
        if before and (after is None or any(after[name] != value for name, value in old.items())):
            found.append(Row(event.table, "gone", old))
        if after is not None:
            found.append(Row(event.table, "put", after))
    return found


def _columns(cursor: Any) -> dict[str, frozenset[str]]:
    """Return the columns of every table of ours that are written."""
    cursor.execute(
        """SELECT table_name AS t, column_name AS c, extra AS extra FROM information_schema.columns
           WHERE table_schema = DATABASE()"""
    )
    found: dict[str, set[str]] = {}
    for row in cursor.fetchall():
        found.setdefault(row["t"], set())
        if "GENERATED" not in row["extra"].upper():
            found[row["t"]].add(row["c"])
    return {table: frozenset(names) for table, names in found.items() if table not in LEFT_OUT}


def _statement(row: Row, columns: dict[str, frozenset[str]], file: Path) -> tuple[str, tuple[Any, ...]]:
    """Return a row as a statement with its values. Raises `Refused` for a table or a column that is not ours."""
    own = columns.get(row.table)
    if own is None or (row.what == "gone" and not set(row.values) <= own):
        raise Refused(
            f"{file} holds rows of {row.table[:60]}, which is no table of ours. Nothing was changed.", field="file"
        )
    values = {name: value for name, value in row.values.items() if name in own}
    if row.what == "put":
        if set(values) != own:
            raise Refused(f"{file} holds rows of {row.table} that are not whole. Nothing was changed.", field="file")
        names, places = ", ".join(f"`{name}`" for name in values), ", ".join(["%s"] * len(values))
        return f"REPLACE INTO `{row.table}` ({names}) VALUES ({places})", tuple(values.values())  # noqa: S608 - names of ours
    wanted = " AND ".join(f"`{name}` = %s" for name in values)
    return f"DELETE FROM `{row.table}` WHERE {wanted}", tuple(values.values())  # noqa: S608 - names of ours


def _carry_out(statements: list[tuple[str, tuple[Any, ...]]], cursor: Any, _: bool) -> None:
    cursor.execute("BEGIN")
    for statement, values in statements:
        cursor.execute(statement, values)
    cursor.execute("COMMIT")


def _now(url: str) -> str:
    database = Database(url, 1)
    try:
        return database.run(now_of)
    finally:
        database.close()
