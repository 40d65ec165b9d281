"""What an attacker packs: archives in archives, mountains in mole-hills, lists that lie, bytes that were changed."""

import gzip
import io
import tarfile
import zipfile

import pytest

from fairsquare.core.errors import Refused
from fairsquare.files import archives
from fairsquare.files.archives import ArchiveFault, Limits, unpacked
from fairsquare.files.job_file import read_job_file
from fairsquare.files.records import check_record, check_record_body

LIMITS = Limits(members=4, bytes=50 * 1024 * 1024)


def packed(members: dict[str, bytes], how: int = zipfile.ZIP_DEFLATED) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", how) as archive:
        for name, content in members.items():
            archive.writestr(name, content)
    return out.getvalue()


def tar() -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        archive.addfile(tarfile.TarInfo("a"))
    return out.getvalue()


@pytest.mark.parametrize(
    "inner",
    [packed({"x": b"y"}), packed({}), gzip.compress(b"x"), tar(), b"BZh91AY", b"7z\xbc\xaf\x27\x1c"],
    ids=("zip", "empty zip", "gzip", "tar", "bzip2", "7z"),
)
def test_an_archive_in_an_archive_is_refused(inner) -> None:
    with pytest.raises(ArchiveFault, match=r"record\.json is itself an archive"):
        unpacked(packed({"record.json": inner}), LIMITS)
    assert unpacked(packed({"a.xlsx": inner}), LIMITS, archives_within=True)


def test_what_unpacks_to_a_mountain_is_stopped_while_it_unpacks() -> None:
    with pytest.raises(ArchiveFault, match="more than such a file ever holds"):
        unpacked(packed({"a": b"0" * 60 * 1024 * 1024}), LIMITS)
    with pytest.raises(ArchiveFault, match="more than such a file ever holds"):
        unpacked(packed(dict.fromkeys("abcd", b"0" * 13 * 1024 * 1024)), LIMITS)
    with pytest.raises(ArchiveFault, match="more than such a file ever holds"):
        unpacked(packed({"a": b"0" * 20 * 1024 * 1024}), LIMITS)
    assert len(unpacked(packed({"a": b"0" * 7 * 1024 * 1024}), LIMITS)["a"]) == 7 * 1024 * 1024


def test_a_list_that_says_less_than_there_is_is_not_believed() -> None:
    content = bytearray(packed({"a": b"0" * 1_000_000}))
    central = content.rindex(b"PK\x01\x02")
    content[central + 24 : central + 28] = (10).to_bytes(4, "little")
    with pytest.raises(ArchiveFault, match="damaged"):
        unpacked(bytes(content), LIMITS)


def test_names_twice_many_members_slow_ones_and_other_packings(monkeypatch) -> None:
    with pytest.warns(UserWarning, match="Duplicate name"):
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w") as archive:
            archive.writestr("record.json", "{}")
            archive.writestr("record.json", "[]")
    with pytest.raises(ArchiveFault, match="in it twice"):
        unpacked(out.getvalue(), LIMITS)
    assert "in it twice" in check_record(out.getvalue()).findings[0]
    with pytest.raises(ArchiveFault, match="5 files, more than 4"):
        unpacked(packed(dict.fromkeys("abcde", b"")), LIMITS)
    with pytest.raises(ArchiveFault, match="not read here"):
        unpacked(packed({"a": b"b"}, zipfile.ZIP_LZMA), LIMITS)
    moments = iter((0.0, 21.0))
    monkeypatch.setattr(archives.time, "monotonic", lambda: next(moments))
    with pytest.raises(ArchiveFault, match="20 s to unpack"):
        unpacked(packed({"a": b"b"}), LIMITS)


def test_no_byte_of_a_header_that_was_changed_raises() -> None:
    content = packed({"record.json": b"{}", "photos/1.jpg": b"picture"})
    for at in range(len(content)):
        for value in (0x00, 0xFF, content[at] ^ 0x01):
            changed = content[:at] + bytes([value]) + content[at + 1 :]
            assert not check_record(changed).good
            with pytest.raises(Refused):
                read_job_file(changed)


def test_a_packed_record_is_no_record_within_a_job_file() -> None:
    bomb = packed({"record.json": packed({"record.json": b"0" * 10_000_000})})
    with pytest.raises(Refused, match=r"record\.json is itself an archive"):
        read_job_file(bomb)
    assert not check_record_body(packed({"record.json": b"{}"})).whole
