"""A whole job as one file: a ZIP of everything recorded of it, its records and photos, with a list of their SHA-256.

`manifest.json` names every other member with its SHA-256 and carries one over its own canonical form (RFC 8785), which the shop
signs; files of version 1 are not signed. `job.json` holds what was taken in and every fact; `record.json` is the record of the job
as it stood when the file was made, whose figures follow from its readings; `records/` holds those that were made before, `photos/`
the photos by their ids. Who reads the file needs nothing of the shop that made it.
"""

import hashlib
import io
import json
import zipfile
from pathlib import Path
from typing import IO, Any, Literal, NamedTuple

import rfc8785
from pydantic import Field, ValidationError

from fairsquare.core.errors import Refused
from fairsquare.core.model import Model
from fairsquare.core.who import Who
from fairsquare.files.archives import ArchiveFault, Limits, is_archive, unpacked
from fairsquare.files.foreign import foreign_faults
from fairsquare.files.photos import KeptPhoto, photo_of_another
from fairsquare.files.records import RecordCheck, check_record, check_record_body
from fairsquare.files.signing import Signature, SignedBy, SigningKey, signed, signed_by
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.release.record import JobRecord, facts_of

Format = Literal["fairsquare-job/1", "fairsquare-job/2"]
UNSIGNED: Format = "fairsquare-job/1"
SIGNED: Format = "fairsquare-job/2"
JOB_KIND = "fairsquare-job"
MANIFEST, JOB, RECORD = "manifest.json", "job.json", "record.json"
_NOT_SEALED = frozenset({"sha256", "signature"})
LIMITS = Limits(members=4_000, bytes=400 * 1024 * 1024)


class Manifest(Model):
    """What a job file holds: who made it where, and the SHA-256 of each of its members."""

    format: Format
    software: str
    workshop: str
    made: Who
    number: str
    members: dict[str, str]
    sha256: str
    signature: Signature | None = None


class JobBody(Model):
    """What was taken in, how the sheet was typed, and everything recorded of the job."""

    details: dict[str, str | int | None]
    opened_by: str
    opened_at: str
    sheet_said: dict[str, tuple[str, str, str]] = Field(default_factory=dict)
    sheet_source: str = ""
    facts: JobFacts


class JobFile(NamedTuple):
    """A job file that was found whole: its list, the job, its records by SHA-256, the one it was made with last, and its photos."""

    manifest: Manifest
    body: JobBody
    records: dict[str, str]
    photos: dict[int, bytes]


class Incoming(NamedTuple):
    """A job file that was found whole, and its photos by their ids, ready to be kept."""

    file: JobFile
    photos: dict[int, KeptPhoto]


def job_file(
    body: JobBody,
    record: str,
    earlier: dict[str, str],
    photos: dict[int, bytes],
    *,
    software: str,
    workshop: str,
    made: Who,
    key: SigningKey | None = None,
) -> bytes:
    """Return a job as a file, signed where there is a key.

    `record` is the one of the job as it stands; `earlier` those before it, by SHA-256.
    """
    members = {
        JOB: rfc8785.dumps(body.model_dump(mode="json")),
        RECORD: record.encode(),
        **{f"records/{sha256}.json": text.encode() for sha256, text in earlier.items()},
        **{f"photos/{number}.jpg": picture for number, picture in sorted(photos.items())},
    }
    manifest: dict[str, Any] = {
        "format": SIGNED if key is not None else UNSIGNED,
        "software": software,
        "workshop": workshop,
        "made": made.model_dump(mode="json"),
        "number": body.facts.number,
        "members": {name: hashlib.sha256(content).hexdigest() for name, content in members.items()},
    }
    manifest["sha256"] = _own_sha256(manifest)
    if key is not None:
        manifest["signature"] = signed(JOB_KIND, {"sha256": manifest["sha256"]}, key).model_dump()
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, content in {MANIFEST: rfc8785.dumps(manifest), **members}.items():
            packed = zipfile.ZIP_STORED if name.startswith("photos/") else zipfile.ZIP_DEFLATED
            archive.writestr(zipfile.ZipInfo(name, date_time=(2000, 1, 1, 0, 0, 0)), content, compress_type=packed)
    return out.getvalue()


def read_job_file(source: bytes | IO[bytes]) -> JobFile:
    """Return the job of a file, its bytes or the file itself.

    Raises `Refused`, for the field `file`, for one that is damaged, changed, or none.
    """
    members = _unpacked(source)
    manifest = _manifest(members)
    _as_listed(manifest, members)
    record = members.get(RECORD, b"")
    check = check_record_body(record)
    if not check.good or check.sha256 is None:
        raise _wrong(f"its record is not whole or does not follow: {'; '.join(check.findings)[:300]}")
    try:
        body = JobBody.model_validate_json(members[JOB])
    except (KeyError, ValidationError) as fault:
        raise _wrong(f"{JOB} cannot be read ({_first(fault)})") from None
    _one_job(manifest, body, JobRecord.model_validate_json(_without_integrity(record)))
    unknown = next(foreign_faults(body.facts), None)
    if unknown is not None:
        raise _wrong(unknown)
    photos = {photo.id: members.get(f"photos/{photo.id}.jpg", b"") for photo in body.facts.photos}
    for photo in body.facts.photos:
        if hashlib.sha256(photos[photo.id]).hexdigest() != photo.sha256:
            raise _wrong(f"photo {photo.id}, {photo.name}, is missing or another one")
    earlier = {
        name.removeprefix("records/").removesuffix(".json"): text
        for name, text in members.items()
        if name.startswith("records/")
    }
    for sha256, text in earlier.items():
        before = check_record_body(text)
        if not before.whole or before.signed_by.signed == "wrong" or before.sha256 != sha256:
            raise _wrong(f"an earlier record, {sha256[:12]}, is not whole: {'; '.join(before.findings)[:300]}")
    made = {sha256: text.decode() for sha256, text in earlier.items()}
    return JobFile(manifest, body, {**made, check.sha256: record.decode()}, photos)


def check_file(content: bytes) -> RecordCheck:
    """Check a record, an archive of one, or a whole job's file: is it whole, and do its figures follow? Never raises."""
    if not is_archive(content) or MANIFEST.encode() not in content:
        return check_record(content)
    try:
        file = read_job_file(content)
    except Refused as fault:
        return RecordCheck(whole=False, follows=False, sha256=None, findings=(fault.title,))
    return RecordCheck(
        whole=True, follows=True, sha256=file.manifest.sha256, findings=(), signed_by=signer_of(file.manifest)
    )


def job_to_take_in(path: Path) -> Incoming:
    """Return the job of a file that lies at a path, its photos ready to be kept. Raises as `read_job_file` does."""
    with path.open("rb") as opened:
        file = read_job_file(opened)
    return Incoming(
        file, {photo.id: photo_of_another(file.photos[photo.id], photo.name) for photo in file.body.facts.photos}
    )


def _unpacked(source: bytes | IO[bytes]) -> dict[str, bytes]:
    file = io.BytesIO(source) if isinstance(source, bytes) else source
    file.seek(0)
    if not is_archive(file.read(4)):
        raise Refused("This is no job file, or it is damaged: have it sent again.", field="file")
    try:
        return unpacked(file, LIMITS)
    except ArchiveFault as fault:
        raise _wrong(str(fault)) from None


def _manifest(members: dict[str, bytes]) -> Manifest:
    if MANIFEST not in members:
        raise Refused("This is no job file of Fair Square: it has no list of what it holds.", field="file")
    try:
        said = json.loads(members[MANIFEST])
        form = said.get("format") if isinstance(said, dict) else None
        if isinstance(form, str) and form.startswith("fairsquare-job/") and form not in (UNSIGNED, SIGNED):
            raise _wrong(
                f"it is of version {form.removeprefix('fairsquare-job/')[:8]}, and this Fair Square reads versions 1 and 2"
            )
        manifest = Manifest.model_validate_json(members[MANIFEST])
    except (ValidationError, ValueError, RecursionError) as fault:
        raise _wrong(f"its list cannot be read ({_first(fault)})") from None
    if _own_sha256({name: value for name, value in said.items() if name not in _NOT_SEALED}) != manifest.sha256:
        raise _wrong("its list was changed after it was made")
    by = signer_of(manifest)
    if by.signed == "no" and manifest.format == SIGNED:
        raise _wrong("its signature was cut away")
    if by.signed == "wrong":
        raise _wrong("its signature is not of this content: somebody sealed it anew who has not the shop's key")
    return manifest


def signer_of(manifest: Manifest) -> SignedBy:
    """Return by whom a job's file was signed."""
    given = manifest.signature.model_dump() if manifest.signature else None
    return signed_by(JOB_KIND, {"sha256": manifest.sha256}, given)


def _as_listed(manifest: Manifest, members: dict[str, bytes]) -> None:
    for name, sha256 in manifest.members.items():
        if name not in members:
            raise _wrong(f"{name} is missing")
        if hashlib.sha256(members[name]).hexdigest() != sha256:
            raise _wrong(f"{name} was changed after it was made")
    added = next((name for name in members if name not in manifest.members and name != MANIFEST), None)
    if added is not None:
        raise _wrong(f"{added[:80]} was added after it was made")


def _one_job(manifest: Manifest, body: JobBody, record: JobRecord) -> None:
    """Raise `Refused` unless the job's facts are those from which its record's figures follow."""
    recorded, told = facts_of(record), body.facts
    for name in JobRecord.model_fields:
        if name in JobFacts.model_fields and getattr(recorded, name) != getattr(told, name):
            raise _wrong(f"its {name.replace('_', ' ')} are not those of its record")
    if manifest.number != record.number:
        raise _wrong(f"it says it is {manifest.number[:20]}, and its record {record.number}")


def _without_integrity(record: bytes) -> str:
    return json.dumps({name: value for name, value in json.loads(record).items() if name != "integrity"})


def _own_sha256(manifest: dict[str, Any]) -> str:
    return hashlib.sha256(rfc8785.dumps(manifest)).hexdigest()


def _first(fault: Exception) -> str:
    if isinstance(fault, ValidationError):
        first = fault.errors(include_url=False)[0]
        return f"{'.'.join(str(part) for part in first['loc'])}: {first['msg']}"
    return str(fault)[:80]


def _wrong(words: str) -> Refused:
    return Refused(f"This job file is not taken: {words}.", field="file")
