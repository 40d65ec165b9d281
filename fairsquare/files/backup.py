"""A backup as a file: gzip, a head that says what it holds, rows as INSERT statements of one line each, and a seal over all of it.

Nothing in it is a program: what is read back is rows only, every line is taken apart before it reaches the database, and the tables
are made by our own migrations. Backups of version 1, which carry the statements that make tables as well, are read in the same way:
those statements are passed over.
"""

import gzip
import hashlib
import hmac
import json
import re
import zlib
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path
from typing import IO, NamedTuple

from pydantic import ValidationError

from fairsquare.core.errors import Refused
from fairsquare.core.model import Many, Model

HEAD, END = b"-- Fair Square backup", b"-- Fair Square backup is whole"
NEWEST = 3
LONGEST_LINE = 256 * 1024 * 1024
"""Longer than the longest row: a photo of 64 MB in hexadecimal."""

# Possessive groups: what cannot be a row is refused in one pass, however long the line.
_TEXT = rb"'(?:[^'\\]++|\\.|'')*+'"
_VALUE = rb"(?:NULL|0x[0-9A-F]*+|-?[0-9]+(?:\.[0-9]+)?(?:e[+-]?[0-9]+)?|(?:_binary )?" + _TEXT + rb")"
_ROW = rb"\(" + _VALUE + rb"(?:," + _VALUE + rb")*+\)"
_NAME, _ROWS = rb"`[a-z0-9_]{1,60}`", _ROW + rb"(?:,\s*+" + _ROW + rb")*+;"
_INSERT = re.compile(
    rb"INSERT INTO `([a-z_]{1,60})`(?: \(" + _NAME + rb"(?:, ?" + _NAME + rb")*+\))? VALUES\s*+" + _ROWS, re.DOTALL
)
_PASSED_OVER = (
    rb"",
    rb"--.*",
    rb"/\*!.*\*/;?",
    rb"/\*M?!999999\\- enable the sandbox mode \*/ ?",
    rb"DROP TABLE IF EXISTS `[a-z_]+`;",
    rb"CREATE TABLE `[a-z_]+` \(",
    rb"  .*",
    rb"\) ENGINE=.*;",
    rb"(?:UN)?LOCK TABLES.*;",
)
_MAKES_TABLES = re.compile(rb"|".join(_PASSED_OVER))
"""What mariadb-dump says beside rows; none of it is carried out."""


class LogPlace(Model):
    """A place in the binary log of a node of the database."""

    node: str
    file: str
    position: int


class Head(Model):
    """What a backup holds: by which version it was made, and the migrations that its tables are of.

    `at`: everything in it was recorded before (UTC, ISO 8601); `log`: where what was recorded since begins in the binary log, where
    there is one. Both are there from format 3 on.
    """

    format: int
    software: str
    migrations: Many[int]
    keyed: bool
    at: str = ""
    log: LogPlace | None = None


class Opened(NamedTuple):
    """A backup that was found whole: its head (none of version 1), and its lines."""

    head: Head | None
    file: Path

    def inserts(self) -> Iterator[tuple[str, bytes]]:
        """Yield the name of a table and a statement that puts rows into it. Raises `Refused` for a line that is anything else."""
        with gzip.open(self.file, "rb") as kept:
            for number, statement in _statements(kept):
                insert = _INSERT.fullmatch(statement)
                if insert is not None:
                    yield insert.group(1).decode(), statement
                elif not _MAKES_TABLES.fullmatch(statement):
                    raise _wrong(
                        self.file, f"holds in line {number} what no backup of Fair Square does. Nothing was changed"
                    )


class Seal:
    """The checksum of a backup while it is written or read: SHA-256, or HMAC of it where the shop has a key."""

    def __init__(self, key: str) -> None:
        self._sum = hmac.new(key.encode(), digestmod=hashlib.sha256) if key else hashlib.sha256()
        self.keyed = bool(key)

    def add(self, content: bytes) -> None:
        """Take some more of it."""
        self._sum.update(content)

    def line(self) -> bytes:
        """Return the last line of the file."""
        return END + (b", HMAC-SHA-256 " if self.keyed else b", SHA-256 ") + self._sum.hexdigest().encode() + b"\n"


class Writing(NamedTuple):
    """A backup that is being written."""

    out: gzip.GzipFile
    seal: Seal

    def write(self, content: bytes) -> None:
        """Write some more of it."""
        self.seal.add(content)
        self.out.write(content)


def written(file: IO[bytes], head: Head, key: str) -> AbstractContextManager[Writing]:
    """Write a backup with its head, whatever is written in between, and its seal."""
    return sealed(file, HEAD + b" " + head.model_dump_json().encode(), key)


@contextmanager
def sealed(file: IO[bytes], first: bytes, key: str) -> Iterator[Writing]:
    """Write a file of ours: its first line, whatever is written in between, and its seal."""
    with gzip.GzipFile(fileobj=file, mode="wb") as out:
        writing = Writing(out, Seal(key))
        writing.write(first + b"\n")
        yield writing
        out.write(writing.seal.line())


def opened(file: Path, key: str) -> Opened:
    """Return a backup once it is found whole, and made with our key where it or we have one.

    Raises `Refused` that says what is wrong.
    """
    first, _, __ = whole(file, key, HEAD, lambda first: None if _of_version_1(first) else _head(file, first).keyed)
    return Opened(None if _of_version_1(first) else _head(file, first), file)


def whole(file: Path, key: str, start: bytes, is_keyed: Callable[[bytes], bool | None]) -> tuple[bytes, bytes, str]:
    """Return the first line of a file of ours that is whole, the last before its seal, and its checksum.

    `start`: how its first line begins; `is_keyed`: says of that line whether it was made with a key, None where it has no seal.
    Raises `Refused` that says what is wrong.
    """
    try:
        with gzip.open(file, "rb") as kept:
            first = kept.readline(LONGEST_LINE)
            if not first.startswith(start):
                raise _wrong(file, "is no backup of Fair Square")
            seal, before, last = Seal(key), first, first
            for line in _lines(kept):
                seal.add(last)
                before, last = last, line
    except (OSError, EOFError, ValueError, zlib.error):
        raise _wrong(file, "is damaged, or no backup of Fair Square") from None
    if not last.startswith(END):
        raise _wrong(file, "ends in the middle: take another backup")
    keyed = is_keyed(first)
    if keyed is None:
        return first, before, ""
    if keyed and not key:
        raise _wrong(file, "was made with a key: set FAIRSQUARE_BACKUP_KEY as it was there")
    if not keyed and key:
        raise _wrong(file, "was made without a key, and this shop has one: somebody else may have made it")
    if not hmac.compare_digest(last.rstrip(b"\n"), seal.line().rstrip(b"\n")):
        raise _wrong(file, "was changed after it was made" + (", or was made with another key" if key else ""))
    return first, before, _digest(last)


def digest_of(file: Path) -> str:
    """Return the checksum that stands in the last line of a file of ours; empty where none does."""
    last = b""
    with gzip.open(file, "rb") as kept:
        for line in _lines(kept):
            last = line
    return _digest(last)


def _digest(last: bytes) -> str:
    return last.rstrip(b"\n").rpartition(b" ")[2].decode("ascii", "replace")


def _of_version_1(first: bytes) -> bool:
    return first.startswith(HEAD + b",")


def _head(file: Path, first: bytes) -> Head:
    try:
        manifest = json.loads(first[len(HEAD) :])
        if isinstance(manifest, dict) and isinstance(manifest.get("format"), int) and manifest["format"] > NEWEST:
            raise _wrong(file, f"is of version {manifest['format']}, and this Fair Square reads versions 1 to {NEWEST}")
        return Head.model_validate_json(first[len(HEAD) :])
    except (ValidationError, ValueError, RecursionError) as fault:
        if isinstance(fault, Refused):
            raise
        raise _wrong(file, "has a head that cannot be read") from None


def _statements(kept: gzip.GzipFile) -> Iterator[tuple[int, bytes]]:
    """Yield the lines of a backup with their numbers, those of one INSERT together: each of its rows stands on a line."""
    pieces: list[bytes] = []
    for number, line in enumerate(_lines(kept), start=1):
        text = line.rstrip(b"\r\n")
        if pieces or text.startswith(b"INSERT INTO "):
            pieces.append(text)
            if not text.endswith(b";"):
                continue
            text = b"\n".join(pieces)
            pieces = []
        yield number, text
    if pieces:
        yield 0, b"\n".join(pieces)


def _lines(kept: gzip.GzipFile) -> Iterator[bytes]:
    while line := kept.readline(LONGEST_LINE):
        if len(line) >= LONGEST_LINE:
            raise ValueError("a line without end")
        yield line


def _wrong(file: Path, words: str) -> Refused:
    return Refused(f"{file} {words}.", field="file")
