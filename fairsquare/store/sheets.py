"""Datum sheets: each accepted one a new version of its job's, never changed, with every coordinate as it was typed."""

from typing import Any, NamedTuple

from fairsquare.core.model import Row3
from fairsquare.core.sheet.model import Point, Sheet, Span
from fairsquare.store.database import Connection, insert, insert_many, select, select_one, utc

Said = dict[str, tuple[str, str, str]]

_POINT_COLUMNS = (
    *("sheet_id", "place", "code", "name", "x", "y", "z", "x_said", "y_said", "z_said"),
    *("tolerance_x", "tolerance_y", "tolerance_z", "sigma_x", "sigma_y", "sigma_z"),
    *("reference", "asymmetric", "member", "partner", "feature"),
)


class StoredSheet(NamedTuple):
    """A version of a job's sheet, with who accepted it and from what."""

    version: int
    sheet: Sheet
    said: Said
    source: str
    accepted_by: str
    accepted_at: str


def accept_sheet(
    connection: Connection,
    job_id: int,
    sheet: Sheet,
    said: Said,
    source: str,
    person_id: int,
    *,
    version: int | None = None,
) -> int:
    """Keep a sheet as the next version of the job's, or as the `version` that it was elsewhere, and return that version."""
    if version is None:
        last = select_one(connection, "SELECT MAX(version) AS last FROM sheet WHERE job_id = %s FOR UPDATE", job_id)
        version = int((last or {}).get("last") or 0) + 1
    sheet_id = insert(
        connection,
        """INSERT INTO sheet (job_id, version, name, construction, tolerance_mm, build_sigma_mm, source, accepted_by,
             accepted_at)
           VALUES (%(job_id)s, %(version)s, %(name)s, %(construction)s, %(tolerance_mm)s, %(build_sigma_mm)s,
             %(source)s, %(accepted_by)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        version=version,
        name=sheet.name,
        construction=sheet.construction,
        tolerance_mm=sheet.tolerance_mm,
        build_sigma_mm=sheet.build_sigma_mm,
        source=source[:200],
        accepted_by=person_id,
    )
    insert_many(
        connection,
        f"INSERT INTO sheet_point ({', '.join(_POINT_COLUMNS)}) VALUES ({', '.join(['%s'] * len(_POINT_COLUMNS))})",  # noqa: S608 - names of columns only
        [_point_values(sheet_id, place, point, said) for place, point in enumerate(sheet.points)],
    )
    insert_many(
        connection,
        "INSERT INTO sheet_span (sheet_id, place, a, b, mode, mm, tolerance_mm) VALUES (%s, %s, %s, %s, %s, %s, %s)",
        [(sheet_id, place, s.a, s.b, s.mode, s.mm, s.tolerance_mm) for place, s in enumerate(sheet.spans)],
    )
    return version


def find_sheet(connection: Connection, job_id: int, version: int | None = None) -> StoredSheet | None:
    """Return a version of a job's sheet, the newest where none is named; None where there is none."""
    row = select_one(
        connection,
        """SELECT s.*, p.full_name FROM sheet s JOIN person p ON p.id = s.accepted_by
           WHERE s.job_id = %s AND (%s IS NULL OR s.version = %s) ORDER BY s.version DESC LIMIT 1""",
        job_id,
        version,
        version,
    )
    if row is None:
        return None
    points = select(connection, "SELECT * FROM sheet_point WHERE sheet_id = %s ORDER BY place", row["id"])
    spans = select(connection, "SELECT * FROM sheet_span WHERE sheet_id = %s ORDER BY place", row["id"])
    sheet = Sheet(
        name=row["name"],
        construction=row["construction"],
        tolerance_mm=row["tolerance_mm"],
        build_sigma_mm=row["build_sigma_mm"],
        points=tuple(_point(point) for point in points),
        spans=tuple(
            Span(a=s["a"], b=s["b"], mode=s["mode"], mm=s["mm"], tolerance_mm=s["tolerance_mm"]) for s in spans
        ),
    )
    texts = {point["code"]: (point["x_said"], point["y_said"], point["z_said"]) for point in points}
    return StoredSheet(row["version"], sheet, texts, row["source"], row["full_name"], utc(row["accepted_at"]))


def sheet_versions(connection: Connection, job_id: int) -> list[dict[str, Any]]:
    """Return the versions of a job's sheet, the newest first: version, name, source, who and when."""
    rows = select(
        connection,
        """SELECT s.version, s.name, s.source, s.accepted_at, p.full_name FROM sheet s JOIN person p ON p.id = s.accepted_by
           WHERE s.job_id = %s ORDER BY s.version DESC""",
        job_id,
    )
    return [{**row, "accepted_at": utc(row["accepted_at"])} for row in rows]


def _point_values(sheet_id: int, place: int, point: Point, said: Said) -> tuple[Any, ...]:
    typed = said.get(point.code) or tuple(repr(value) for value in point.xyz)
    return (
        *(sheet_id, place, point.code, point.name),
        *point.xyz,
        *(text[:200] for text in typed),
        *(point.tolerance_mm or (None, None, None)),
        *(point.sigma_mm or (None, None, None)),
        *(point.reference, point.asymmetric, point.member, point.partner, point.feature),
    )


def _point(row: dict[str, Any]) -> Point:
    return Point(
        code=row["code"],
        name=row["name"],
        xyz=(row["x"], row["y"], row["z"]),
        tolerance_mm=_triple(row, "tolerance"),
        sigma_mm=_triple(row, "sigma"),
        reference=bool(row["reference"]),
        asymmetric=bool(row["asymmetric"]),
        member=row["member"],
        partner=row["partner"],
        feature=row["feature"],
    )


def _triple(row: dict[str, Any], stem: str) -> Row3 | None:
    values = [row[f"{stem}_{axis}"] for axis in "xyz"]
    return None if values[0] is None else (values[0], values[1], values[2])
