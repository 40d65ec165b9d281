"""Archives that come from outside: unpacked within limits that are held while they unpack, not believed beforehand."""

import io
import time
import zipfile
from typing import IO, NamedTuple

CHUNK = 1024 * 1024
_PACKED = (
    b"PK\x03\x04",
    b"PK\x05\x06",
    b"\x1f\x8b",
    b"BZh",
    b"\xfd7zXZ\x00",
    b"7z\xbc\xaf\x27\x1c",
    b"Rar!\x1a\x07",
    b"\x28\xb5\x2f\xfd",
    b"\x04\x22\x4d\x18",
)
"""How ZIP, gzip, bzip2, xz, 7z, RAR, Zstandard and LZ4 files begin (from their published formats, from memory)."""
_TAR_AT, _TAR = 257, b"ustar"
_FREE_RATIO_BYTES = 8 * CHUNK
"""A small archive may shrink as well as it likes: what it unpacks to does no harm."""


class Limits(NamedTuple):
    """How much an archive may hold: members, bytes unpacked, how many times its packed size that is, and seconds to unpack."""

    members: int
    bytes: int
    ratio: float = 200.0
    seconds: float = 20.0


class ArchiveFault(ValueError):
    """An archive that is damaged or holds more than it may; the message says what, as a clause without its full stop."""


def is_archive(content: bytes) -> bool:
    """Say whether a file begins as a ZIP archive does; its first four bytes are enough."""
    return content[:4] in (b"PK\x03\x04", b"PK\x05\x06")


def unpacked(source: bytes | IO[bytes], limits: Limits, *, archives_within: bool = False) -> dict[str, bytes]:
    """Return the members of a ZIP archive, bytes or an open file, by their names. Raises `ArchiveFault`.

    Only stored and deflated members are read, each name once; unless `archives_within`, no member may itself be packed. Bytes,
    ratio and seconds are counted while it unpacks: what its list says of them is not believed.
    """
    try:
        file = io.BytesIO(source) if isinstance(source, bytes) else source
        packed = file.seek(0, io.SEEK_END)
        with zipfile.ZipFile(file) as archive:
            return _members(archive, packed, limits, archives_within=archives_within)
    except ArchiveFault:
        raise
    except Exception as fault:  # zipfile raises a dozen kinds for bytes that were changed
        raise ArchiveFault("it is damaged or cut off") from fault


def _members(archive: zipfile.ZipFile, packed: int, limits: Limits, *, archives_within: bool) -> dict[str, bytes]:
    entries = archive.infolist()
    if len(entries) > limits.members:
        raise ArchiveFault(f"it holds {len(entries)} files, more than {limits.members}")
    if len({entry.filename for entry in entries}) != len(entries):
        raise ArchiveFault("a member is in it twice")
    until, left = time.monotonic() + limits.seconds, limits.bytes
    members: dict[str, bytes] = {}
    for entry in entries:
        if entry.compress_type not in (zipfile.ZIP_STORED, zipfile.ZIP_DEFLATED) or entry.flag_bits & 1:
            raise ArchiveFault(f"{_named(entry)} is packed in a way that is not read here")
        pieces: list[bytes] = []
        with archive.open(entry) as member:
            while piece := member.read(CHUNK):
                left -= len(piece)
                done = limits.bytes - left
                if left < 0 or (done > _FREE_RATIO_BYTES and done > limits.ratio * packed):
                    raise ArchiveFault("it unpacks to more than such a file ever holds")
                if time.monotonic() > until:
                    raise ArchiveFault(f"it takes more than {limits.seconds:g} s to unpack")
                if not pieces and not archives_within and _packed(piece):
                    raise ArchiveFault(f"{_named(entry)} is itself an archive, and none belongs there")
                pieces.append(piece)
        members[entry.filename] = b"".join(pieces)
    return members


def _packed(start: bytes) -> bool:
    return start.startswith(_PACKED) or start[_TAR_AT : _TAR_AT + len(_TAR)] == _TAR


def _named(entry: zipfile.ZipInfo) -> str:
    return "".join(letter if letter.isprintable() else "?" for letter in entry.filename[:80])
