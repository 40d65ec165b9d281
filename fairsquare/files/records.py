"""Records as files: JSON in canonical form (RFC 8785) that carries its own SHA-256, CSV, and the check of a file.

The body's SHA-256 is taken over its canonical form without the member `integrity`. `integrity.parts` holds the SHA-256 of
every part of the body, so that a change can be told from where it is.
"""

import hashlib
import json
from typing import Any

import rfc8785
from pydantic import ValidationError

from fairsquare.core.model import Model
from fairsquare.core.release.record import JobRecord, recompute
from fairsquare.files.sheets import text_from_rows

_PARTED = ("readings", "setups", "signatures", "movements", "gaps", "safety")


class RecordCheck(Model):
    """What the check of a record file found: `whole` and `follows` say it in short, `findings` in words with where."""

    whole: bool
    follows: bool
    sha256: str | None
    findings: tuple[str, ...]

    @property
    def good(self) -> bool:
        """Whether the file is whole and its figures follow from its readings."""
        return self.whole and self.follows


def sealed(record: JobRecord) -> tuple[str, str]:
    """Return the record's canonical text and its SHA-256."""
    body = record.model_dump(mode="json")
    digest = _sha256(body)
    return rfc8785.dumps({**body, "integrity": {"sha256": digest, "parts": _parts(body)}}).decode(), digest


def check_record(content: bytes) -> RecordCheck:
    """Check a record file: is it whole, and do its figures follow from its readings? Never raises."""
    try:
        loaded = json.loads(content)
    except (UnicodeDecodeError, json.JSONDecodeError) as fault:
        at = getattr(fault, "pos", getattr(fault, "start", 0))
        return _bad(f"Byte {at}: this is no JSON any more ({getattr(fault, 'msg', fault)}).")
    if not isinstance(loaded, dict) or not isinstance(loaded.get("integrity"), dict):
        return _bad("There is no member “integrity”: this is no record, or it was cut away.")
    body = {name: value for name, value in loaded.items() if name != "integrity"}
    integrity = loaded["integrity"]
    findings = _changes(body, integrity)
    if not findings:
        findings = _loose_bytes(content, loaded)
    whole = not findings
    try:
        record = JobRecord.model_validate_json(json.dumps(body))
    except (ValidationError, ValueError) as fault:
        first = fault.errors()[0] if isinstance(fault, ValidationError) else {"loc": (), "msg": str(fault)}
        place = "/" + "/".join(str(part) for part in first["loc"])
        return RecordCheck(
            whole=False,
            follows=False,
            sha256=integrity.get("sha256"),
            findings=(*findings, f"{place}: {first['msg']}"),
        )
    wrong = recompute(record)
    told = [f"{one.where}: {one.stands!r} stands, {one.follows!r} follows from the readings" for one in wrong[:50]]
    return RecordCheck(
        whole=whole,
        follows=not wrong,
        sha256=integrity.get("sha256"),
        findings=(*findings, *told),
    )


def record_as_csv(record: JobRecord) -> str:
    """Return the points of a record as CSV: before and after, tolerance, uncertainty, state."""
    head = ["code", "sheet_length_mm", "sheet_width_mm", "sheet_height_mm"]
    for when in ("before", "after"):
        head += [f"{when}_{axis}_mm" for axis in ("length", "width", "height")]
        head += [f"{when}_u_{axis}_mm" for axis in ("length", "width", "height")]
        head += [f"{when}_state", f"{when}_words"]
    lines: list[list[str]] = [head]
    for point in record.sheet.points if record.sheet else ():
        found = record.results.points[point.code]
        line = [_safe(point.code), *(repr(value) for value in point.xyz)]
        for judged in (found.before, found.after):
            deviation = judged.deviation if judged and judged.deviation else None
            line += [f"{value:.4f}" for value in deviation] if deviation else ["", "", ""]
            line += [f"{value:.4f}" for value in judged.expanded] if judged and judged.expanded else ["", "", ""]
            line += [judged.state, judged.words] if judged else ["unread", ""]
        lines.append(line)
    return text_from_rows(lines)


def _safe(text: str) -> str:
    return "'" + text if text[:1] in "=+-@\t" else text


def _bad(words: str) -> RecordCheck:
    return RecordCheck(whole=False, follows=False, sha256=None, findings=(words,))


def _sha256(value: Any) -> str:
    return hashlib.sha256(rfc8785.dumps(value)).hexdigest()


def _parts(body: dict[str, Any]) -> dict[str, str]:
    """Return the SHA-256 of every part under its JSON pointer: rows one by one, points one by one, the rest whole."""
    parts: dict[str, str] = {}
    for name, value in body.items():
        if name in _PARTED:
            parts |= {f"/{name}/{index}": _sha256(row) for index, row in enumerate(value)}
        elif name == "results" and isinstance(value, dict) and isinstance(value.get("points"), dict):
            rest = {key: part for key, part in value.items() if key != "points"}
            parts["/results"] = _sha256(rest)
            parts |= {f"/results/points/{code}": _sha256(point) for code, point in value["points"].items()}
        else:
            parts[f"/{name}"] = _sha256(value)
    return parts


def _changes(body: dict[str, Any], integrity: dict[str, Any]) -> list[str]:
    try:
        digest, parts = _sha256(body), _parts(body)
    except (rfc8785.CanonicalizationError, AttributeError, TypeError) as fault:
        return [f"The body has no canonical form: {fault}"]
    said = integrity.get("parts")
    said = said if isinstance(said, dict) else {}
    found = [f"{where}: missing from the file" for where in said if where not in parts]
    found += [f"{where}: added to the file" for where in parts if where not in said]
    found += [
        f"{where}: changed since the record was made"
        for where in parts
        if where in said and said[where] != parts[where]
    ]
    if digest != integrity.get("sha256"):
        found.append("/integrity/sha256: is not the SHA-256 of the body" + ("" if found else "; it was changed itself"))
    return found


def _loose_bytes(content: bytes, loaded: dict[str, Any]) -> list[str]:
    canonical = rfc8785.dumps(loaded)
    if content == canonical:
        return []
    at = next((i for i, (a, b) in enumerate(zip(content, canonical, strict=False)) if a != b), None)
    at = min(len(content), len(canonical)) if at is None else at
    return [f"Byte {at}: the file is not in the canonical form in which it was made (white space, order or spelling)."]
