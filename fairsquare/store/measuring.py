"""Set-ups, readings, moves and gaps: rows that are appended and never changed."""

import json
from typing import Any

from fairsquare.core.errors import Refused
from fairsquare.core.measure.observations import SetupKind
from fairsquare.job.facts.job import PRACTICE
from fairsquare.job.facts.measure import NewReading, Purpose
from fairsquare.job.facts.setup import Moved, Stand
from fairsquare.job.moves import REFIT_NEEDED
from fairsquare.store.database import Connection, execute, insert, select, select_one, utc


def open_setup(
    connection: Connection,
    job_id: int,
    kind: SetupKind,
    instrument: str,
    sigma_mm: float,
    sheet_version: int,
    person_id: int,
) -> int:
    """Open the next set-up of a job and return its number."""
    last = select_one(connection, "SELECT MAX(number) AS last FROM setup WHERE job_id = %s FOR UPDATE", job_id)
    number = int((last or {}).get("last") or 0) + 1
    insert(
        connection,
        """INSERT INTO setup (job_id, number, kind, instrument, sigma_mm, sheet_version, opened_by, opened_at)
           VALUES (%(job_id)s, %(number)s, %(kind)s, %(instrument)s, %(sigma_mm)s, %(sheet_version)s, %(opened_by)s,
             UTC_TIMESTAMP(6))""",
        job_id=job_id,
        number=number,
        kind=kind,
        instrument=instrument,
        sigma_mm=sigma_mm,
        sheet_version=sheet_version,
        opened_by=person_id,
    )
    return number


def choose_references(
    connection: Connection, job_id: int, setup: int, trusted: tuple[str, ...], reason: str, person_id: int
) -> int:
    """Record which references of a set-up a person decided to trust, and why."""
    return insert(
        connection,
        """INSERT INTO setup_choice (setup_id, trusted, reason, person_id, at)
           SELECT id, %(trusted)s, %(reason)s, %(person_id)s, UTC_TIMESTAMP(6)
           FROM setup WHERE job_id = %(job_id)s AND number = %(number)s""",
        trusted=json.dumps(trusted),
        reason=reason,
        person_id=person_id,
        job_id=job_id,
        number=setup,
    )


def record_move(connection: Connection, job_id: int, setup: int | None, what: Moved, words: str, person_id: int) -> int:
    """Record that something was moved, after the last reading and gap that are there; some kinds make `setup` void."""
    return insert(
        connection,
        """INSERT INTO movement (job_id, setup_id, what, words, after_reading, after_gap, person_id, at)
           VALUES (%(job_id)s, (SELECT id FROM setup WHERE job_id = %(job_id)s AND number = %(number)s), %(what)s, %(words)s,
             (SELECT COALESCE(MAX(r.id), 0) FROM reading r WHERE r.job_id = %(job_id)s),
             (SELECT COALESCE(MAX(g.id), 0) FROM gap_reading g WHERE g.job_id = %(job_id)s), %(person_id)s,
             UTC_TIMESTAMP(6))""",
        job_id=job_id,
        number=setup,
        what=what,
        words=words,
        person_id=person_id,
    )


def take_reading(connection: Connection, job_id: int, setup: int | None, reading: NewReading, person_id: int) -> int:
    """Record a reading and return its id. Raises `Refused` for a set-up or a reading to replace that is not of this job."""
    row = select_one(connection, "SELECT id, instrument FROM setup WHERE job_id = %s AND number = %s", job_id, setup)
    if setup is not None and row is None:
        raise Refused(f"There is no set-up {setup} in this job.", field="setup", value=setup)
    if reading.replaces is not None:
        _check_replaced(connection, reading, job_id, row["id"] if row else None)
    x, y, z = reading.xyz or (None, None, None)
    return insert(
        connection,
        """INSERT INTO reading (job_id, setup_id, purpose, kind, code, code_b, mode, axis, x, y, z, mm, pin_mm, level_mm, arm_mm,
             sigma_mm, said, loaded, instrument, replaces_id, order_id, person_id, called_at, at)
           VALUES (%(job_id)s, %(setup_id)s, %(purpose)s, %(kind)s, %(code)s, %(b)s, %(mode)s, %(axis)s, %(x)s, %(y)s, %(z)s,
             %(mm)s, %(pin_mm)s, %(level_mm)s, %(arm_mm)s, %(sigma_mm)s, %(said)s, %(loaded)s, %(instrument)s, %(replaces)s,
             %(order)s, %(person_id)s, UTC_TIMESTAMP(6) - INTERVAL %(called_ago_us)s MICROSECOND, UTC_TIMESTAMP(6))""",
        **{
            **dict(reading),
            "job_id": job_id,
            "setup_id": row["id"] if row else None,
            "x": x,
            "y": y,
            "z": z,
            "said": reading.said[:500],
            "instrument": reading.instrument or (row["instrument"] if row else "tape"),
            "person_id": person_id,
            "called_ago_us": None if reading.called_ago_s is None else round(reading.called_ago_s * 1e6),
        },
    )


def decide_on_reading(
    connection: Connection, job_id: int, reading_id: int, keep_out: bool, reason: str, person_id: int
) -> int:
    """Record that a reading is kept out, or used again, and why. Raises `Refused` for one that is not of this job."""
    _check_of_job(connection, reading_id, job_id)
    return insert(
        connection,
        """INSERT INTO reading_decision (reading_id, keep_out, reason, person_id, at)
           VALUES (%(reading_id)s, %(keep_out)s, %(reason)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        reading_id=reading_id,
        keep_out=keep_out,
        reason=reason,
        person_id=person_id,
    )


def take_back(connection: Connection, job_id: int, reading_id: int, person_id: int) -> None:
    """Record that a reading no longer counts; the reading stays. Raises `Refused` for one that is not of this job."""
    _check_of_job(connection, reading_id, job_id)
    execute(
        connection,
        """INSERT IGNORE INTO reading_taken_back (reading_id, person_id, at)
           VALUES (%(reading_id)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        reading_id=reading_id,
        person_id=person_id,
    )


def read_gap(
    connection: Connection,
    job_id: int,
    place: str,
    said: str,
    mm: float,
    target_mm: float,
    tolerance_mm: float,
    stand: Stand,
    person_id: int,
    called_ago_s: float | None = None,
) -> int:
    """Record a gap or flushness as read at the dry fit, on the rack or on the wheels, when it was called out."""
    return insert(
        connection,
        """INSERT INTO gap_reading (job_id, place, said, mm, target_mm, tolerance_mm, stand, person_id, at)
           VALUES (%(job_id)s, %(place)s, %(said)s, %(mm)s, %(target_mm)s, %(tolerance_mm)s, %(stand)s, %(person_id)s,
             UTC_TIMESTAMP(6) - INTERVAL %(called_ago_us)s MICROSECOND)""",
        job_id=job_id,
        place=place,
        said=said,
        mm=mm,
        target_mm=target_mm,
        tolerance_mm=tolerance_mm,
        stand=stand,
        person_id=person_id,
        called_ago_us=round((called_ago_s or 0.0) * 1e6),
    )


def order_reading(
    connection: Connection, job_id: int, setup: int, purpose: Purpose, codes: list[str], person_id: int
) -> None:
    """Ask the instrument for readings of these points."""
    for code in codes:
        insert(
            connection,
            """INSERT INTO instrument_order (setup_id, purpose, code, person_id, at)
               SELECT id, %(purpose)s, %(code)s, %(person_id)s, UTC_TIMESTAMP(6)
               FROM setup WHERE job_id = %(job_id)s AND number = %(number)s""",
            purpose=purpose,
            code=code,
            person_id=person_id,
            job_id=job_id,
            number=setup,
        )


def open_orders(connection: Connection, most: int = 50, *, practice: str | None = None) -> list[dict[str, Any]]:
    """Return what the instrument is asked for and has not read, in set-ups that are in force, the oldest first: in all jobs but
    those of practice, or in one of practice."""
    rows = select(
        connection,
        """SELECT o.id, j.number AS job, s.number AS setup, o.purpose, o.code, o.at
           FROM instrument_order o
           JOIN setup s ON s.id = o.setup_id
           JOIN job j ON j.id = s.job_id
           WHERE o.at > UTC_TIMESTAMP(6) - INTERVAL 15 MINUTE AND IF(%s IS NULL, j.number NOT LIKE %s, j.number = %s)
             AND NOT EXISTS (SELECT 1 FROM reading r WHERE r.order_id = o.id)
             AND NOT EXISTS (SELECT 1 FROM movement m WHERE m.setup_id = s.id AND m.what IN %s)
           ORDER BY o.id LIMIT %s""",
        practice,
        f"{PRACTICE}%",
        practice,
        (*sorted(REFIT_NEEDED), "lowered"),
        most,
    )
    return [{**row, "at": utc(row["at"])} for row in rows]


def _check_of_job(connection: Connection, reading_id: int, job_id: int) -> None:
    if select_one(connection, "SELECT id FROM reading WHERE id = %s AND job_id = %s", reading_id, job_id) is None:
        raise Refused(f"There is no reading {reading_id} in this job.", field="reading", value=reading_id)


def _check_replaced(connection: Connection, reading: NewReading, job_id: int, setup_id: int | None) -> None:
    row = select_one(
        connection, "SELECT setup_id, kind FROM reading WHERE id = %s AND job_id = %s", reading.replaces, job_id
    )
    if row is None or row["kind"] != reading.kind or (row["kind"] == "point" and row["setup_id"] != setup_id):
        raise Refused(
            f"Reading {reading.replaces} is not of this set-up: it cannot be corrected here.",
            field="replaces",
            value=reading.replaces,
        )
