"""Backups, and what follows them, as files: whatever bit of one is changed, it is refused in words."""

import random

import pytest

from fairsquare.core.errors import Refused
from fairsquare.files.backup import LogPlace
from fairsquare.files.since import Reach, Row, SinceHead, Transaction, end, line, read_since, written

KEY = "a key of the shop"
PLACE = LogPlace(file="log.000001", position=4, node="one")


@pytest.fixture(scope="module")
def content(tmp_path_factory) -> bytes:
    """A file of a hundred transactions, whose rows do not repeat."""
    chance = random.Random(1)
    head = SinceHead(format=1, software="a test", migrations=(33,), keyed=True, after="", log=PLACE)
    file = tmp_path_factory.mktemp("kept") / "b.since"
    with file.open("wb") as raw, written(raw, head, KEY) as out:
        for k in range(100):
            out.write(line(Transaction(k, (Row("job", "put", {"notes": chance.randbytes(40).hex()}),))))
        out.write(end(Reach(at="2026-11-02T08:00:00.000000Z", log=PLACE)))
    assert len(list(read_since(file, KEY).transactions())) == 100
    return file.read_bytes()


def test_whatever_bit_is_changed_it_is_refused_in_words(content, tmp_path) -> None:
    """But for the ten bytes before what is packed (RFC 1952): a time and a system, which say nothing of it."""
    chance = random.Random(2)
    for at in (0, 1, *chance.sample(range(10, len(content)), 300)):
        changed = bytearray(content)
        changed[at] ^= 1 << chance.randrange(8)
        (tmp_path / "b.since").write_bytes(changed)
        with pytest.raises(Refused, match=r"b\.since"):
            read_since(tmp_path / "b.since", KEY)


def test_wherever_it_ends_too_soon_it_is_refused_in_words(content, tmp_path) -> None:
    for at in random.Random(3).sample(range(len(content)), 100):
        (tmp_path / "b.since").write_bytes(content[:at])
        with pytest.raises(Refused, match=r"b\.since"):
            read_since(tmp_path / "b.since", KEY)
