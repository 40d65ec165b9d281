"""Records as files: JSON in canonical form (RFC 8785) that carries its own SHA-256, CSV, an archive with photos, and the check.

The body's SHA-256 is taken over its canonical form without the member `integrity`. `integrity.chain` holds every entry of the
record in the order in which it was recorded, each with a SHA-256 over itself and the one before, so that the first entry that was
changed, taken out, put in or moved is named. `integrity.previous` is the SHA-256 of the record of this job before this one.
`integrity.signature` is the shop's, over the checksum, the one before and the end of the chain; records of before that have none.
"""

import hashlib
import io
import json
import zipfile
from typing import Any

import rfc8785
from pydantic import ValidationError

from fairsquare.core.model import Model
from fairsquare.files.archives import ArchiveFault, Limits, is_archive, unpacked
from fairsquare.files.chain import chain_findings, chain_of
from fairsquare.files.sheets import defused, text_from_rows
from fairsquare.files.signing import NOBODY, SignedBy, SigningKey, signed, signed_by
from fairsquare.job.release.record import FORMAT, FORMATS, JobRecord, recompute
from fairsquare.words.lengths import judged as judged_words

RECORD_NAME, RECORD_KIND = "record.json", "fairsquare-record"
_INTEGRITY = frozenset({"sha256", "previous", "chain", "signature"})
LIMITS = Limits(members=2_100, bytes=400 * 1024 * 1024)


class RecordCheck(Model):
    """What the check of a file found: three answers in short, `findings` in words with where.

    `whole`: not a byte was changed since it was sealed. `signed_by`: by whom it was sealed. `follows`: the figures follow from the
    readings, but for those of `then`, in words: by the rules of then, and what a calculation that was changed since says today.
    """

    whole: bool
    follows: bool
    sha256: str | None
    findings: tuple[str, ...]
    signed_by: SignedBy = NOBODY
    then: tuple[str, ...] = ()

    @property
    def good(self) -> bool:
        """Whether the file is whole, its figures follow, and no signature in it is of something else."""
        return self.whole and self.follows and self.signed_by.signed != "wrong"


def sealed(record: JobRecord, previous: str = "", key: SigningKey | None = None) -> tuple[str, str]:
    """Return the record's canonical text and its SHA-256, signed where there is a key; `previous` is that of the record before."""
    body = record.model_dump(mode="json")
    digest = _sha256(body)
    integrity: Any = {"sha256": digest, "previous": previous, "chain": chain_of(body, previous)}
    if key is not None:
        integrity["signature"] = signed(RECORD_KIND, _bound(integrity), key).model_dump()
    return rfc8785.dumps({**body, "integrity": integrity}).decode(), digest


def _bound(integrity: dict[str, Any]) -> dict[str, Any]:
    """Return what the signature of a record is of."""
    chain = integrity.get("chain")
    last = chain[-1] if isinstance(chain, list) and chain else {}
    end = last.get("sha256") if isinstance(last, dict) else None
    return {"sha256": integrity.get("sha256"), "previous": integrity.get("previous"), "end": end}


def signer_of_record(body: str) -> SignedBy:
    """Return by whom the text of a record was signed; whether that text is whole is `check_record`'s to say."""
    integrity = json.loads(body).get("integrity") or {}
    return signed_by(RECORD_KIND, _bound(integrity), integrity.get("signature"))


def check_record(content: bytes) -> RecordCheck:
    """Check a record file, or an archive of one with its photos: is it whole, and do its figures follow? Never raises."""
    return _check_archive(content) if is_archive(content) else check_record_body(content)


def check_record_body(content: bytes) -> RecordCheck:
    """Check a record as it is within an archive, and nothing else: what is packed is no record. Never raises."""
    try:
        loaded = json.loads(content)
    except (UnicodeDecodeError, json.JSONDecodeError, RecursionError) as fault:
        at = getattr(fault, "pos", getattr(fault, "start", 0))
        return _bad(f"Byte {at}: this is no JSON any more ({getattr(fault, 'msg', fault)}).")
    if not isinstance(loaded, dict) or not isinstance(loaded.get("integrity"), dict):
        return _bad("There is no member “integrity”: this is no record, or it was cut away.")
    body = {name: value for name, value in loaded.items() if name != "integrity"}
    integrity = loaded["integrity"]
    other = _other_version(body)
    if other:
        return RecordCheck(whole=False, follows=False, sha256=integrity.get("sha256"), findings=(other,))
    findings = _changes(body, integrity)
    if not findings:
        findings = _loose_bytes(content, loaded)
    whole = not findings
    by = signed_by(RECORD_KIND, _bound(integrity), integrity.get("signature"))
    if by.signed == "wrong":
        findings.append(
            "/integrity/signature: is not of this content: somebody sealed it anew who has not the shop's key"
        )
    try:
        record = JobRecord.model_validate_json(json.dumps(body))
    except (ValidationError, ValueError) as fault:
        first = fault.errors()[0] if isinstance(fault, ValidationError) else {"loc": (), "msg": str(fault)}
        place = "/" + "/".join(str(part) for part in first["loc"])
        return RecordCheck(
            whole=False,
            follows=False,
            sha256=_text(integrity.get("sha256")),
            findings=(*findings, f"{place}: {first['msg']}"),
            signed_by=by,
        )
    wrong = recompute(record)
    otherwise = [figure for figure in wrong if figure.since is not None]
    unexplained = [figure for figure in wrong if figure.since is None]
    told = [
        f"{difference.where}: {difference.stands!r} stands, {difference.follows!r} follows from the readings"
        for difference in unexplained[:50]
    ]
    return RecordCheck(
        whole=whole,
        follows=not unexplained,
        sha256=_text(integrity.get("sha256")),
        findings=(*findings, *told),
        signed_by=by,
        then=tuple(
            f"{figure.where}: by the rules of then {figure.stands!r}, today {figure.follows!r} ({figure.since}: {figure.what})"
            for figure in otherwise
        ),
    )


def _text(value: Any) -> str | None:
    return value if isinstance(value, str) else None


def _other_version(body: dict[str, Any]) -> str:
    """Return in words that a record is of another version than this program checks; empty where it is not."""
    format_said = body.get("format")
    if format_said in FORMATS or not isinstance(format_said, str) or not format_said.startswith("fairsquare-record/"):
        return ""
    return (
        f"/format: this record is of version {format_said.removeprefix('fairsquare-record/')[:8]}, and this Fair Square checks "
        f"versions 7 to {FORMAT.removeprefix('fairsquare-record/')}. Check it with what made it: {str(body.get('software'))[:40]}."
    )


def record_archive(body: str, photos: dict[int, bytes]) -> bytes:
    """Return a record with its photos as a ZIP archive."""
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_STORED) as archive:
        archive.writestr(_member(RECORD_NAME), body.encode())
        for number, photo in sorted(photos.items()):
            archive.writestr(_member(f"photos/{number}.jpg"), photo)
    return made.getvalue()


def _member(name: str) -> zipfile.ZipInfo:
    return zipfile.ZipInfo(name, date_time=(2000, 1, 1, 0, 0, 0))


def _check_archive(content: bytes) -> RecordCheck:
    try:
        members = unpacked(content, LIMITS)
    except ArchiveFault as fault:
        return _bad(f"This archive is not read: {fault}.")
    body = members.pop(RECORD_NAME, None)
    if body is None:
        return _bad(f"There is no {RECORD_NAME} in this archive.")
    check = check_record_body(body)
    wrong = _photo_findings(body, {name: hashlib.sha256(photo).hexdigest() for name, photo in members.items()})
    return check.model_copy(update={"whole": check.whole and not wrong, "findings": (*check.findings, *wrong)})


def _photo_findings(body: bytes, found: dict[str, str]) -> list[str]:
    try:
        wanted = {f"photos/{photo['id']}.jpg": photo["sha256"] for photo in json.loads(body)["photos"]}
    except (ValueError, KeyError, TypeError):
        return []
    missing = [f"{name}: missing from the archive" for name in wanted if name not in found]
    changed = [f"{name}: not the photo of the record" for name, sha in wanted.items() if found.get(name, sha) != sha]
    return [*missing, *changed, *(f"{name}: added to the archive" for name in found if name not in wanted)]


def record_as_csv(record: JobRecord) -> str:
    """Return the points of a record as CSV: before and after, tolerance, uncertainty, state."""
    head = ["code", "sheet_length_mm", "sheet_width_mm", "sheet_height_mm"]
    for when in ("before", "after"):
        head += [f"{when}_{axis}_mm" for axis in ("length", "width", "height")]
        head += [f"{when}_u_{axis}_mm" for axis in ("length", "width", "height")]
        head += [f"{when}_state", f"{when}_words"]
    lines: list[list[str]] = [head]
    for point in record.sheet.points if record.sheet else ():
        judgement = record.results.points[point.code]
        line = [defused(point.code), *(repr(value) for value in point.xyz)]
        for judged in (judgement.before, judgement.after):
            deviation = judged.deviation if judged and judged.deviation else None
            line += [f"{value:.4f}" for value in deviation] if deviation else ["", "", ""]
            line += [f"{value:.4f}" for value in judged.expanded] if judged and judged.expanded else ["", "", ""]
            line += [judged.state, judged_words(judged, point.xyz, "mm")] if judged else ["unread", ""]
        lines.append(line)
    return text_from_rows(lines)


def _bad(words: str) -> RecordCheck:
    return RecordCheck(whole=False, follows=False, sha256=None, findings=(words,))


def _sha256(value: Any) -> str:
    return hashlib.sha256(rfc8785.dumps(value)).hexdigest()


def _changes(body: dict[str, Any], integrity: dict[str, Any]) -> list[str]:
    try:
        digest = _sha256(body)
        changes = chain_findings(body, integrity.get("chain"), integrity.get("previous"))
    except (rfc8785.CanonicalizationError, AttributeError, TypeError, RecursionError) as fault:
        return [f"The body has no canonical form: {fault}"]
    strange = sorted(set(integrity) - _INTEGRITY)
    if strange:
        changes.append(f"/integrity/{strange[0][:60]}: added to the record")
    if digest != integrity.get("sha256"):
        changes.append(
            "/integrity/sha256: is not the SHA-256 of the body" + ("" if changes else "; it was changed itself")
        )
    return changes


def _loose_bytes(content: bytes, loaded: dict[str, Any]) -> list[str]:
    canonical = rfc8785.dumps(loaded)
    if content == canonical:
        return []
    at = next((i for i, (a, b) in enumerate(zip(content, canonical, strict=False)) if a != b), None)
    at = min(len(content), len(canonical)) if at is None else at
    return [f"Byte {at}: the file is not in the canonical form in which it was made (white space, order or spelling)."]
