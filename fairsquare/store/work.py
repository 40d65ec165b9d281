"""Clocks of work: who works on what since when, and until when. Rows are appended; one taken back counts no longer."""

from typing import Any, NamedTuple

from fairsquare.job.facts.hours import WorkEnd, WorkFact
from fairsquare.store.database import Connection, as_model, execute, insert, select, select_one, utc, who
from fairsquare.store.recorded import Recorded

_WHO = "p.full_name, p.role"
_OPEN = """FROM work_clock w JOIN job j ON j.id = w.job_id JOIN person p ON p.id = w.person_id
           LEFT JOIN work_ended e ON e.clock_id = w.id LEFT JOIN work_taken_back b ON b.clock_id = w.id
           WHERE e.clock_id IS NULL AND b.clock_id IS NULL"""


class OpenWork(NamedTuple):
    """Work that goes on: whose, on what, since when (UTC, ISO 8601), and for how many seconds by the database's time.

    `put_back_s`: by how many seconds that time was put back meanwhile; the clock counts as much too little.
    """

    id: int
    person: int
    name: str
    job_id: int
    job: str
    vehicle: str
    operation: str
    since: str
    seconds: float
    put_back_s: float = 0.0


def start(connection: Connection, job_id: int, operation: str, person_id: int, since: str | None = None) -> int:
    """Start a clock, now or at a time of the past, and return its id."""
    return insert(
        connection,
        """INSERT INTO work_clock (job_id, operation, person_id, at)
           VALUES (%(job_id)s, %(operation)s, %(person_id)s, COALESCE(%(at)s, UTC_TIMESTAMP(6)))""",
        job_id=job_id,
        operation=operation,
        person_id=person_id,
        at=since,
    )


def end(
    connection: Connection, clock: int, how: WorkEnd, words: str, person_id: int, ended_at: str | None = None
) -> None:
    """End a clock, now or at a time that is said; one that has ended stays as it is."""
    execute(
        connection,
        """INSERT IGNORE INTO work_ended (clock_id, ended_at, how, words, person_id, at)
           VALUES (%(clock_id)s, COALESCE(%(ended_at)s, UTC_TIMESTAMP(6)), %(how)s, %(words)s, %(person_id)s,
             UTC_TIMESTAMP(6))""",
        clock_id=clock,
        ended_at=ended_at,
        how=how,
        words=words,
        person_id=person_id,
    )


def take_back(connection: Connection, clock: int, person_id: int) -> None:
    """Record that a clock was started by mistake: it stays, and counts no longer."""
    execute(
        connection,
        """INSERT IGNORE INTO work_taken_back (clock_id, person_id, at)
           VALUES (%(clock_id)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        clock_id=clock,
        person_id=person_id,
    )


def going_on(connection: Connection, person_id: int | None = None) -> list[OpenWork]:
    """Return the clocks of work that run, of one person or of all, the longest first."""
    mine = " AND w.person_id = %s" if person_id is not None else ""
    rows = select(
        connection,
        f"""SELECT w.id, w.person_id, p.full_name, j.id AS job_id, j.number, j.vehicle, w.operation, w.at,
                   TIMESTAMPDIFF(MICROSECOND, w.at, UTC_TIMESTAMP(6)) / 1e6 AS seconds,
                   (SELECT COALESCE(SUM(b.seconds), 0) FROM put_back b WHERE b.after_clock >= w.id) AS put_back_s
            {_OPEN}{mine} ORDER BY w.at, w.id""",  # noqa: S608 - names of columns only
        *([person_id] if person_id is not None else []),
    )
    return [
        OpenWork(
            row["id"],
            row["person_id"],
            row["full_name"],
            row["job_id"],
            row["number"],
            row["vehicle"],
            row["operation"],
            utc(row["at"]),
            max(0.0, float(row["seconds"])),
            max(float(row["put_back_s"]), -float(row["seconds"])),
        )
        for row in rows
    ]


def hold_person(connection: Connection, person_id: int) -> None:
    """Hold a person's row until the transaction ends, so that two touches of one person do not cross, on two nodes neither.

    Comes before any other read, so that what is read then is the newest.
    """
    execute(connection, "UPDATE person SET guarded = guarded + 1 WHERE id = %s", person_id)


def overlapping(
    connection: Connection, person_id: int, since: str, until: str, but: int | None = None
) -> dict[str, Any] | None:
    """Return work of a person that lies in a time, or reaches into it, and was not taken back: its job, operation and times."""
    return select_one(
        connection,
        """SELECT j.number, w.operation, w.at, e.ended_at FROM work_clock w JOIN job j ON j.id = w.job_id
           LEFT JOIN work_ended e ON e.clock_id = w.id LEFT JOIN work_taken_back b ON b.clock_id = w.id
           WHERE w.person_id = %s AND b.clock_id IS NULL AND w.id <> %s AND w.at < %s
             AND COALESCE(e.ended_at, UTC_TIMESTAMP(6)) > %s ORDER BY w.at LIMIT 1""",
        person_id,
        but or 0,
        until,
        since,
    )


def clocks_of(connection: Connection, job_id: int, person_id: int) -> frozenset[int]:
    """Return the ids of a person's clocks on a job."""
    rows = select(connection, "SELECT id FROM work_clock WHERE job_id = %s AND person_id = %s", job_id, person_id)
    return frozenset(row["id"] for row in rows)


def work_of(connection: Connection, job_id: int) -> tuple[WorkFact, ...]:
    """Return the work on a job that counts, oldest first."""
    rows = select(
        connection,
        f"""SELECT w.id, w.operation, w.at, w.person_id, {_WHO}, e.ended_at, e.how, e.words, e.at AS end_at,
                   q.full_name AS end_name, q.role AS end_role
            FROM work_clock w JOIN person p ON p.id = w.person_id
            LEFT JOIN work_ended e ON e.clock_id = w.id LEFT JOIN person q ON q.id = e.person_id
            LEFT JOIN work_taken_back b ON b.clock_id = w.id
            WHERE w.job_id = %s AND b.clock_id IS NULL ORDER BY w.at, w.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        as_model(
            WorkFact,
            row,
            person=row["person_id"],
            how=row["how"] or "touch",
            words=row["words"] or "",
            ended_by=who({"full_name": row["end_name"], "role": row["end_role"], "at": row["end_at"]})
            if row["end_at"]
            else None,
        )
        for row in rows
    )


RECORDED = {
    "worked": Recorded(
        """SELECT COUNT(*) + COUNT(e.clock_id) + COUNT(b.clock_id), MAX(w.id) FROM work_clock w
           LEFT JOIN work_ended e ON e.clock_id = w.id LEFT JOIN work_taken_back b ON b.clock_id = w.id
           WHERE w.job_id = {job}""",
        work_of,
    ),
}
"""The facts of a job that are kept here, and how they are read."""
