"""Clocks: started, ended; how much of each is left is asked of the database, so that it survives reload and restart."""

from typing import Any, NamedTuple

from fairsquare.job.facts.finishing import ClockFact, ClockKind
from fairsquare.store.database import Connection, execute, insert, select, who
from fairsquare.store.recorded import Recorded

_WHO = "p.full_name, p.role"


class RunningClock(NamedTuple):
    """A clock that runs: whose it is, and how many seconds are left by the database's time, below 0 when it is over.

    `ahead_s` is above 0 where it was started in what is now the future: the server's time was put back, what is left is a guess.
    """

    id: int
    job: str
    vehicle: str
    kind: ClockKind
    label: str
    minutes: float
    left_s: float
    ahead_s: float


def start(
    connection: Connection, job_id: int, kind: ClockKind, product: str, label: str, minutes: float, person_id: int
) -> int:
    """Start a clock and return its id."""
    return insert(
        connection,
        """INSERT INTO clock (job_id, kind, product, label, minutes, person_id, at)
           VALUES (%(job_id)s, %(kind)s, %(product)s, %(label)s, %(minutes)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        kind=kind,
        product=product,
        label=label,
        minutes=minutes,
        person_id=person_id,
    )


def end(connection: Connection, clock: int, words: str, person_id: int) -> None:
    """End a clock."""
    execute(
        connection,
        """INSERT IGNORE INTO clock_ended (clock_id, words, person_id, at)
           VALUES (%(clock_id)s, %(words)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        clock_id=clock,
        words=words,
        person_id=person_id,
    )


def clocks_of(connection: Connection, job_id: int) -> tuple[ClockFact, ...]:
    """Return the clocks of a job, oldest first."""
    rows = select(
        connection,
        f"""SELECT c.id, c.kind, c.product, c.label, c.minutes, c.at, {_WHO},
                   e.at AS end_at, e.words, q.full_name AS end_name, q.role AS end_role
            FROM clock c JOIN person p ON p.id = c.person_id
            LEFT JOIN clock_ended e ON e.clock_id = c.id LEFT JOIN person q ON q.id = e.person_id
            WHERE c.job_id = %s ORDER BY c.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        ClockFact(
            **{name: row[name] for name in ("id", "kind", "product", "label", "minutes")},
            by=who(row),
            ended=who({"full_name": row["end_name"], "role": row["end_role"], "at": row["end_at"]})
            if row["end_at"]
            else None,
            words=row["words"] or "",
        )
        for row in rows
    )


def running(connection: Connection) -> list[RunningClock]:
    """Return all clocks that nobody has ended, the next to run out first."""
    rows: list[dict[str, Any]] = select(
        connection,
        """SELECT c.id, j.number AS job, j.vehicle, c.kind, c.label, c.minutes,
                  TIMESTAMPDIFF(MICROSECOND, c.at, UTC_TIMESTAMP(6)) / 1e6 AS gone_s
           FROM clock c JOIN job j ON j.id = c.job_id LEFT JOIN clock_ended e ON e.clock_id = c.id
           WHERE e.clock_id IS NULL ORDER BY c.id""",
    )
    clocks = [
        RunningClock(
            row["id"],
            row["job"],
            row["vehicle"],
            row["kind"],
            row["label"],
            row["minutes"],
            row["minutes"] * 60 - max(float(row["gone_s"]), 0.0),
            max(-float(row["gone_s"]), 0.0),
        )
        for row in rows
    ]
    return sorted(clocks, key=lambda clock: clock.left_s)


RECORDED = {
    "clocks": Recorded(
        """SELECT COUNT(*) + COUNT(e.clock_id), MAX(c.id) FROM clock c
           LEFT JOIN clock_ended e ON e.clock_id = c.id WHERE c.job_id = {job}""",
        clocks_of,
    ),
}
"""The facts of a job that are kept here, and how they are read."""
