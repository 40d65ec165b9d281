"""What was recorded since a backup, as a file: gzip, a head that says what it follows, a line for each transaction, and a seal.

Like a backup it holds rows and no program: what is put back is named by table and column, both of which have to be ours, and values
are bound. `following` finds the files that follow a backup, each by the checksum of the one before.
"""

import datetime
import gzip
import json
from collections.abc import Iterator, Mapping
from contextlib import AbstractContextManager
from pathlib import Path
from typing import IO, Any, Literal, NamedTuple

from pydantic import ValidationError

from fairsquare.core.errors import Refused
from fairsquare.core.model import Many, Model
from fairsquare.files.backup import LONGEST_LINE, LogPlace, Writing, digest_of, sealed, whole

HEAD = b"-- Fair Square since"
ENDING = ".since"
_NEWEST = 1
What = Literal["put", "gone"]


class SinceHead(Model):
    """What such a file holds: by which version it was made, of which tables, and what it follows: a checksum, and a place."""

    format: int
    software: str
    migrations: Many[int]
    keyed: bool
    after: str
    log: LogPlace


class Reach(Model):
    """How far it goes: everything confirmed until `at` (UTC, ISO 8601) is in it, and the next begins at `log`."""

    at: str
    log: LogPlace


class Row(NamedTuple):
    """A row as a transaction left it, or its key where the transaction took it away."""

    table: str
    what: What
    values: Mapping[str, Any]


class Transaction(NamedTuple):
    """What was recorded in one go, and when, in seconds since 1970."""

    at: int
    rows: tuple[Row, ...]


class Since(NamedTuple):
    """A file that was found whole."""

    head: SinceHead
    reach: Reach
    digest: str
    file: Path

    def transactions(self) -> Iterator[Transaction]:
        """Yield what was recorded, in order. Raises `Refused` for a line that is none."""
        with gzip.open(self.file, "rb") as kept:
            kept.readline(LONGEST_LINE)
            while (line := kept.readline(LONGEST_LINE)).startswith(b'{"at":'):
                yield _read(line, self.file)


def written(file: IO[bytes], head: SinceHead, key: str) -> AbstractContextManager[Writing]:
    """Write such a file with its head, what `line` and `end` make in between, and its seal."""
    return sealed(file, HEAD + b" " + head.model_dump_json().encode(), key)


def line(transaction: Transaction) -> bytes:
    """Return a transaction as a line."""
    rows = [
        [row.table, row.what, {name: _told(value) for name, value in row.values.items()}] for row in transaction.rows
    ]
    return json.dumps({"at": transaction.at, "rows": rows}, ensure_ascii=False, separators=(",", ":")).encode() + b"\n"


def end(reach: Reach) -> bytes:
    """Return the last line before the seal."""
    return b'{"reaches":' + reach.model_dump_json().encode() + b"}\n"


def read_since(file: Path, key: str) -> Since:
    """Return such a file once it is found whole. Raises `Refused` that says what is wrong."""
    first, last, digest = whole(file, key, HEAD, lambda first: _head(file, first).keyed)
    try:
        reach = Reach.model_validate(json.loads(last)["reaches"])
    except (ValidationError, ValueError, KeyError, TypeError):
        raise Refused(f"{file} does not say how far it goes.", field="file") from None
    return Since(_head(file, first), reach, digest, file)


def following(file: Path, key: str) -> tuple[list[Since], list[str]]:
    """Return the files beside a backup that follow it, each the one before, as far as they go; and what is wrong with any beside it
    that cannot be read."""
    after, wrong = dict[str, Since](), list[str]()
    for beside in sorted(file.parent.glob(f"*{ENDING}")):
        try:
            read = read_since(beside, key)
        except Refused as fault:
            wrong.append(fault.title.replace(str(beside), beside.name))
        else:
            after[read.head.after] = read
    digest, found = digest_of(file), list[Since]()
    while (then := after.pop(digest, None)) is not None:
        found.append(then)
        digest = then.digest
    return found, wrong


def _head(file: Path, first: bytes) -> SinceHead:
    try:
        head = SinceHead.model_validate_json(first[len(HEAD) :])
    except ValidationError:
        raise Refused(f"{file} has a head that cannot be read.", field="file") from None
    if head.format > _NEWEST:
        raise Refused(f"{file} is of version {head.format}, and this Fair Square reads {_NEWEST}.", field="file")
    return head


def _told(value: Any) -> Any:
    """Return a value as JSON has it: bytes and times as what they are."""
    if isinstance(value, bytes):
        return {"hex": value.hex()}
    if isinstance(value, datetime.datetime):
        return {"time": value.isoformat(timespec="microseconds")}
    if value is None or isinstance(value, str | int | float):
        return value
    raise TypeError(f"{type(value).__name__} is no kind of value that our tables have")


def _read(text: bytes, file: Path) -> Transaction:
    try:
        told = json.loads(text)
        rows = tuple(
            Row(str(table), _what(what), {str(name): _value(value) for name, value in values.items()})
            for table, what, values in told["rows"]
        )
        return Transaction(int(told["at"]), rows)
    except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
        raise Refused(f"{file} holds a line that is no transaction. Nothing was changed.", field="file") from None


def _what(word: str) -> What:
    if word == "put":
        return "put"
    if word == "gone":
        return "gone"
    raise ValueError(word)


def _value(told: Any) -> Any:
    if not isinstance(told, dict):
        return told
    ((kind, text),) = told.items()
    return bytes.fromhex(text) if kind == "hex" else datetime.datetime.fromisoformat({"time": text}[kind])
