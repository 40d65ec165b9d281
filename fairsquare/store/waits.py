"""What a job waits for: noted, said anew (who was asked, when it is due), over. Rows are appended and never changed."""

from fairsquare.job.facts.hours import WaitFact, WaitKind
from fairsquare.store.database import Connection, execute, insert, select, utc, who
from fairsquare.store.recorded import Recorded

_WHO = "p.full_name, p.role"


def note(
    connection: Connection,
    job_id: int,
    kind: WaitKind,
    words: str,
    station: str,
    person_id: int,
    since: str | None = None,
) -> int:
    """Note something that the job waits for, now or `since` a time (UTC, as MariaDB writes it), and return its id."""
    return insert(
        connection,
        """INSERT INTO wait (job_id, kind, words, station, person_id, at)
           VALUES (%(job_id)s, %(kind)s, %(words)s, %(station)s, %(person_id)s, COALESCE(%(at)s, UTC_TIMESTAMP(6)))""",
        job_id=job_id,
        kind=kind,
        words=words,
        station=station,
        person_id=person_id,
        at=since,
    )


def say(connection: Connection, wait: int, asked_of: str, due_at: str | None, person_id: int) -> None:
    """Say who was asked and when it is due; the last that was said counts."""
    insert(
        connection,
        """INSERT INTO wait_said (wait_id, asked_of, due_at, person_id, at)
           VALUES (%(wait_id)s, %(asked_of)s, %(due_at)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        wait_id=wait,
        asked_of=asked_of,
        due_at=due_at,
        person_id=person_id,
    )


def end(connection: Connection, wait: int, words: str, person_id: int) -> None:
    """Record that it came."""
    execute(
        connection,
        """INSERT IGNORE INTO wait_over (wait_id, words, person_id, at)
           VALUES (%(wait_id)s, %(words)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        wait_id=wait,
        words=words,
        person_id=person_id,
    )


def waits_of(connection: Connection, job_id: int) -> tuple[WaitFact, ...]:
    """Return everything that a job waited for, oldest first, as it was said last."""
    rows = select(
        connection,
        f"""SELECT w.id, w.kind, w.words, w.station, w.at, {_WHO}, s.asked_of, s.due_at, s.at AS said_at,
                   r.full_name AS said_name, r.role AS said_role, o.words AS over_words, o.at AS over_at,
                   q.full_name AS over_name, q.role AS over_role
            FROM wait w JOIN person p ON p.id = w.person_id
            JOIN wait_said s ON s.id = (SELECT MAX(n.id) FROM wait_said n WHERE n.wait_id = w.id)
            JOIN person r ON r.id = s.person_id
            LEFT JOIN wait_over o ON o.wait_id = w.id LEFT JOIN person q ON q.id = o.person_id
            WHERE w.job_id = %s ORDER BY w.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        WaitFact(
            **{name: row[name] for name in ("id", "kind", "words", "station", "asked_of")},
            due_at=utc(row["due_at"]) if row["due_at"] else "",
            by=who(row),
            said_by=who({"full_name": row["said_name"], "role": row["said_role"], "at": row["said_at"]}),
            over=who({"full_name": row["over_name"], "role": row["over_role"], "at": row["over_at"]})
            if row["over_at"]
            else None,
            over_words=row["over_words"] or "",
        )
        for row in rows
    )


RECORDED = {
    "waits": Recorded(
        """SELECT COUNT(s.id) + COUNT(DISTINCT o.wait_id), MAX(s.id) FROM wait w JOIN wait_said s ON s.wait_id = w.id
           LEFT JOIN wait_over o ON o.wait_id = w.id WHERE w.job_id = {job}""",
        waits_of,
    ),
}
"""The facts of a job that are kept here, and how they are read."""
