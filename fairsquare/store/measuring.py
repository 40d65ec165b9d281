"""Set-ups, readings, moves and gaps: rows that are appended and never changed."""

import json
from typing import Any, NamedTuple

from fairsquare.core.errors import Refused
from fairsquare.core.measure.observations import Axis, SetupKind
from fairsquare.core.model import Row3
from fairsquare.core.sheet.model import SpanMode
from fairsquare.job.facts.job import PRACTICE
from fairsquare.job.facts.measure import Purpose, ReadingKind
from fairsquare.job.facts.setup import Moved, Stand
from fairsquare.job.moves import REFIT_NEEDED
from fairsquare.store.database import Connection, execute, insert, row, rows, utc


class NewReading(NamedTuple):
    """A reading to record: as it was said, and as it was understood, mm. What a kind needs is said at `ReadingFact`.

    `called_ago_s` is how long before it was sent it was called out, by the clock of the page that kept it.
    """

    purpose: Purpose
    code: str
    xyz: Row3 | None
    said: str
    loaded: bool = False
    instrument: str | None = None
    replaces: int | None = None
    order: int | None = None
    kind: ReadingKind = "point"
    b: str | None = None
    mode: SpanMode | None = None
    axis: Axis | None = None
    mm: float | None = None
    pin_mm: float | None = None
    level_mm: float | None = None
    arm_mm: float | None = None
    sigma_mm: float | None = None
    called_ago_s: float | None = None

    @property
    def codes(self) -> tuple[str, ...]:
        """The codes of the points it reads."""
        return (self.code,) if self.b is None else (self.code, self.b)


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
    last = row(connection, "SELECT MAX(number) AS last FROM setup WHERE job_id = %s FOR UPDATE", job_id)
    number = int((last or {}).get("last") or 0) + 1
    insert(
        connection,
        """INSERT INTO setup (job_id, number, kind, instrument, sigma_mm, sheet_version, opened_by, opened_at)
           VALUES (%s, %s, %s, %s, %s, %s, %s, UTC_TIMESTAMP(6))""",
        job_id,
        number,
        kind,
        instrument,
        sigma_mm,
        sheet_version,
        person_id,
    )
    return number


def choose_references(
    connection: Connection, job_id: int, setup: int, trusted: tuple[str, ...], reason: str, person_id: int
) -> int:
    """Record which references of a set-up a person decided to trust, and why."""
    return insert(
        connection,
        """INSERT INTO setup_choice (setup_id, trusted, reason, person_id, at)
           SELECT id, %s, %s, %s, UTC_TIMESTAMP(6) FROM setup WHERE job_id = %s AND number = %s""",
        json.dumps(trusted),
        reason,
        person_id,
        job_id,
        setup,
    )


def record_move(connection: Connection, job_id: int, setup: int | None, what: Moved, words: str, person_id: int) -> int:
    """Record that something was moved, after the last reading and gap that are there; some kinds make `setup` void."""
    return insert(
        connection,
        """INSERT INTO movement (job_id, setup_id, what, words, after_reading, after_gap, person_id, at)
           VALUES (%s, (SELECT id FROM setup WHERE job_id = %s AND number = %s), %s, %s,
             (SELECT COALESCE(MAX(r.id), 0) FROM reading r WHERE r.job_id = %s),
             (SELECT COALESCE(MAX(g.id), 0) FROM gap_reading g WHERE g.job_id = %s), %s, UTC_TIMESTAMP(6))""",
        job_id,
        job_id,
        setup,
        what,
        words,
        job_id,
        job_id,
        person_id,
    )


def take_reading(connection: Connection, job_id: int, setup: int | None, reading: NewReading, person_id: int) -> int:
    """Record a reading and return its id. Raises `Refused` for a set-up or a reading to replace that is not of this job."""
    found = row(connection, "SELECT id, instrument FROM setup WHERE job_id = %s AND number = %s", job_id, setup)
    if setup is not None and found is None:
        raise Refused(f"There is no set-up {setup} in this job.", field="setup", value=setup)
    if reading.replaces is not None:
        _check_replaced(connection, reading, job_id, found["id"] if found else None)
    x, y, z = reading.xyz or (None, None, None)
    return insert(
        connection,
        """INSERT INTO reading (job_id, setup_id, purpose, kind, code, code_b, mode, axis, x, y, z, mm, pin_mm, level_mm, arm_mm,
             sigma_mm, said, loaded, instrument, replaces_id, order_id, person_id, called_at, at)
           VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s, %s,
             UTC_TIMESTAMP(6) - INTERVAL %s MICROSECOND, UTC_TIMESTAMP(6))""",
        job_id,
        found["id"] if found else None,
        reading.purpose,
        reading.kind,
        reading.code,
        reading.b,
        reading.mode,
        reading.axis,
        x,
        y,
        z,
        reading.mm,
        reading.pin_mm,
        reading.level_mm,
        reading.arm_mm,
        reading.sigma_mm,
        reading.said[:500],
        reading.loaded,
        reading.instrument or (found["instrument"] if found else "tape"),
        reading.replaces,
        reading.order,
        person_id,
        None if reading.called_ago_s is None else round(reading.called_ago_s * 1e6),
    )


def decide_on_reading(
    connection: Connection, job_id: int, reading_id: int, keep_out: bool, reason: str, person_id: int
) -> int:
    """Record that a reading is kept out, or used again, and why. Raises `Refused` for one that is not of this job."""
    _check_of_job(connection, reading_id, job_id)
    return insert(
        connection,
        """INSERT INTO reading_decision (reading_id, keep_out, reason, person_id, at)
           VALUES (%s, %s, %s, %s, UTC_TIMESTAMP(6))""",
        reading_id,
        keep_out,
        reason,
        person_id,
    )


def take_back(connection: Connection, job_id: int, reading_id: int, person_id: int) -> None:
    """Record that a reading no longer counts; the reading stays. Raises `Refused` for one that is not of this job."""
    _check_of_job(connection, reading_id, job_id)
    execute(
        connection,
        "INSERT IGNORE INTO reading_taken_back (reading_id, person_id, at) VALUES (%s, %s, UTC_TIMESTAMP(6))",
        reading_id,
        person_id,
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
           VALUES (%s, %s, %s, %s, %s, %s, %s, %s, UTC_TIMESTAMP(6) - INTERVAL %s MICROSECOND)""",
        job_id,
        place,
        said,
        mm,
        target_mm,
        tolerance_mm,
        stand,
        person_id,
        round((called_ago_s or 0.0) * 1e6),
    )


def order_reading(
    connection: Connection, job_id: int, setup: int, purpose: Purpose, codes: list[str], person_id: int
) -> None:
    """Ask the instrument for readings of these points."""
    for code in codes:
        insert(
            connection,
            """INSERT INTO instrument_order (setup_id, purpose, code, person_id, at)
               SELECT id, %s, %s, %s, UTC_TIMESTAMP(6) FROM setup WHERE job_id = %s AND number = %s""",
            purpose,
            code,
            person_id,
            job_id,
            setup,
        )


def open_orders(connection: Connection, most: int = 50, *, practice: str | None = None) -> list[dict[str, Any]]:
    """Return what the instrument is asked for and has not read, in set-ups that are in force, the oldest first: in all jobs but
    those of practice, or in one of practice."""
    found = rows(
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
    return [{**one, "at": utc(one["at"])} for one in found]


def _check_of_job(connection: Connection, reading_id: int, job_id: int) -> None:
    if row(connection, "SELECT id FROM reading WHERE id = %s AND job_id = %s", reading_id, job_id) is None:
        raise Refused(f"There is no reading {reading_id} in this job.", field="reading", value=reading_id)


def _check_replaced(connection: Connection, reading: NewReading, job_id: int, setup_id: int | None) -> None:
    found = row(
        connection, "SELECT setup_id, kind FROM reading WHERE id = %s AND job_id = %s", reading.replaces, job_id
    )
    if found is None or found["kind"] != reading.kind or (found["kind"] == "point" and found["setup_id"] != setup_id):
        raise Refused(
            f"Reading {reading.replaces} is not of this set-up: it cannot be corrected here.",
            field="replaces",
            value=reading.replaces,
        )
