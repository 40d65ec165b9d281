"""What the estimate missed: lines, the documents in which they were sent with the hash of their link, and the payer's answers."""

import json
from typing import Any, NamedTuple

from fairsquare.core.errors import Refused
from fairsquare.job.facts.supplements import (
    GoAheadFact,
    PayersAnswer,
    SupplementAnswerFact,
    SupplementFact,
    SupplementLineFact,
)
from fairsquare.store import links
from fairsquare.store.database import Connection, as_model, execute, insert, select, select_one, who
from fairsquare.store.recorded import Recorded

_WHO = "p.full_name, p.role"


class LinkedSupplement(NamedTuple):
    """What a link shows: the supplement as it was sent, by the job's number."""

    id: int
    job_id: int
    job: str
    seen: dict[str, Any]


def add_line(
    connection: Connection,
    job_id: int,
    station: str,
    words: str,
    hours: float,
    parts: str,
    amount_cents: int,
    person_id: int,
    *,
    structural: bool = True,
) -> int:
    """Record a line and return its id."""
    return insert(
        connection,
        """INSERT INTO supplement_line (job_id, station, words, hours, parts, amount_cents, structural, person_id, at)
           VALUES (%(job_id)s, %(station)s, %(words)s, %(hours)s, %(parts)s, %(amount_cents)s, %(structural)s,
             %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        station=station,
        words=words,
        hours=hours,
        parts=parts,
        amount_cents=amount_cents,
        structural=structural,
        person_id=person_id,
    )


def take_line_back(connection: Connection, line: int, person_id: int) -> None:
    """Record that a line is not asked for any more."""
    execute(
        connection,
        """INSERT IGNORE INTO supplement_line_taken_back (line_id, person_id, at)
           VALUES (%(line_id)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        line_id=line,
        person_id=person_id,
    )


def send(
    connection: Connection,
    job_id: int,
    payer: str,
    seen: dict[str, Any],
    lines: list[int],
    code: str,
    days: int,
    person_id: int,
) -> int:
    """Record a supplement as it is sent, under the hash of its link's code; return its number in the job."""
    last = select_one(connection, "SELECT COALESCE(MAX(number), 0) AS last FROM supplement WHERE job_id = %s", job_id)
    number = int(last["last"]) + 1 if last else 1
    kept = insert(
        connection,
        """INSERT INTO supplement (job_id, number, payer, seen, code_sha256, expires_at, person_id, at)
           VALUES (%(job_id)s, %(number)s, %(payer)s, %(seen)s, %(code_sha256)s,
             UTC_TIMESTAMP(6) + INTERVAL %(days)s DAY, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        number=number,
        payer=payer,
        seen=json.dumps({**seen, "number": number}),
        code_sha256=links.hash_of(code),
        days=days,
        person_id=person_id,
    )
    for line in lines:
        execute(
            connection,
            """INSERT INTO supplement_sent_line (supplement_id, line_id)
               VALUES (%(supplement_id)s, %(line_id)s)""",
            supplement_id=kept,
            line_id=line,
        )
    return number


def withdraw(connection: Connection, supplement: int, person_id: int) -> None:
    """Record that a supplement's link leads nowhere any more."""
    execute(
        connection,
        """INSERT IGNORE INTO supplement_withdrawn (supplement_id, person_id, at)
           VALUES (%(supplement_id)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        supplement_id=supplement,
        person_id=person_id,
    )


def answer(
    connection: Connection,
    supplement: int,
    line: int,
    said: PayersAnswer,
    words: str,
    named: str,
    person_id: int | None,
) -> int:
    """Record what the payer said of a line. Raises `Refused` for a line that is not in the supplement."""
    known = select_one(
        connection,
        "SELECT 1 AS yes FROM supplement_sent_line WHERE supplement_id = %s AND line_id = %s",
        supplement,
        line,
    )
    if known is None:
        raise Refused("This line is not in the supplement.", field="line", value=line)
    return insert(
        connection,
        """INSERT INTO supplement_answer (line_id, supplement_id, answer, words, named, person_id, at)
           VALUES (%(line_id)s, %(supplement_id)s, %(answer)s, %(words)s, %(named)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        line_id=line,
        supplement_id=supplement,
        answer=said,
        words=words,
        named=named,
        person_id=person_id,
    )


def go_ahead(connection: Connection, line: int, reason: str, person_id: int) -> int:
    """Record that work on a line goes on without the payer's word."""
    return insert(
        connection,
        """INSERT INTO supplement_go_ahead (line_id, reason, person_id, at)
           VALUES (%(line_id)s, %(reason)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        line_id=line,
        reason=reason,
        person_id=person_id,
    )


def by_code(connection: Connection, code: str) -> LinkedSupplement | None:
    """Return what a link shows, unless it has run out or was withdrawn."""
    row = select_one(
        connection,
        """SELECT s.id, s.job_id, j.number AS job, s.seen FROM supplement s JOIN job j ON j.id = s.job_id
           WHERE s.code_sha256 = %s AND s.expires_at > UTC_TIMESTAMP(6)
             AND NOT EXISTS (SELECT 1 FROM supplement_withdrawn w WHERE w.supplement_id = s.id)""",
        links.hash_of(code),
    )
    return LinkedSupplement(row["id"], row["job_id"], row["job"], json.loads(row["seen"])) if row else None


def lines(connection: Connection, job_id: int) -> tuple[SupplementLineFact, ...]:
    """Return a job's lines, oldest first."""
    rows = select(
        connection,
        f"""SELECT l.id, l.station, l.words, l.hours, l.parts, l.amount_cents, l.structural, l.at, {_WHO}
            FROM supplement_line l JOIN person p ON p.id = l.person_id WHERE l.job_id = %s ORDER BY l.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    back = select(
        connection,
        f"""SELECT t.line_id, t.at, {_WHO} FROM supplement_line_taken_back t JOIN supplement_line l ON l.id = t.line_id
            JOIN person p ON p.id = t.person_id WHERE l.job_id = %s""",  # noqa: S608 - names of columns only
        job_id,
    )
    taken = {row["line_id"]: who(row) for row in back}
    plain = ("id", "station", "words", "hours", "parts", "amount_cents")
    return tuple(
        SupplementLineFact.model_validate(
            {
                **{name: row[name] for name in plain},
                "structural": bool(row["structural"]),
                "by": who(row),
                "taken_back": taken.get(row["id"]),
            }
        )
        for row in rows
    )


def sent(connection: Connection, job_id: int) -> tuple[SupplementFact, ...]:
    """Return the supplements that were sent, oldest first."""
    rows = select(
        connection,
        f"""SELECT s.id, s.number, s.payer, s.expires_at, s.at, {_WHO}
            FROM supplement s JOIN person p ON p.id = s.person_id WHERE s.job_id = %s ORDER BY s.number""",  # noqa: S608 - names of columns only
        job_id,
    )
    own = select(
        connection,
        """SELECT x.supplement_id, x.line_id FROM supplement_sent_line x JOIN supplement s ON s.id = x.supplement_id
           WHERE s.job_id = %s ORDER BY x.line_id""",
        job_id,
    )
    gone = select(
        connection,
        f"""SELECT w.supplement_id, w.at, {_WHO} FROM supplement_withdrawn w JOIN supplement s ON s.id = w.supplement_id
            JOIN person p ON p.id = w.person_id WHERE s.job_id = %s""",  # noqa: S608 - names of columns only
        job_id,
    )
    withdrawn = {row["supplement_id"]: who(row) for row in gone}
    return tuple(
        as_model(
            SupplementFact,
            row,
            lines=tuple(line["line_id"] for line in own if line["supplement_id"] == row["id"]),
            withdrawn=withdrawn.get(row["id"]),
        )
        for row in rows
    )


def answers(connection: Connection, job_id: int) -> tuple[SupplementAnswerFact, ...]:
    """Return what payers said, oldest first."""
    rows = select(
        connection,
        f"""SELECT a.id, a.line_id, a.supplement_id, a.answer, a.words, a.named, a.at, {_WHO}
            FROM supplement_answer a JOIN supplement s ON s.id = a.supplement_id LEFT JOIN person p ON p.id = a.person_id
            WHERE s.job_id = %s ORDER BY a.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        as_model(
            SupplementAnswerFact,
            row,
            line=row["line_id"],
            supplement=row["supplement_id"],
            by=who(row) if row["full_name"] else None,
        )
        for row in rows
    )


def go_aheads(connection: Connection, job_id: int) -> tuple[GoAheadFact, ...]:
    """Return the leads' words that work on a line goes on, oldest first."""
    rows = select(
        connection,
        f"""SELECT g.id, g.line_id, g.reason, g.at, {_WHO} FROM supplement_go_ahead g JOIN person p ON p.id = g.person_id
            JOIN supplement_line l ON l.id = g.line_id WHERE l.job_id = %s ORDER BY g.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(as_model(GoAheadFact, row, line=row["line_id"]) for row in rows)


RECORDED = {
    "supplement_lines": Recorded(
        """SELECT COUNT(*) + COUNT(t.line_id), MAX(l.id) FROM supplement_line l
           LEFT JOIN supplement_line_taken_back t ON t.line_id = l.id WHERE l.job_id = {job}""",
        lines,
    ),
    "supplements": Recorded(
        """SELECT COUNT(*) + COUNT(w.supplement_id), MAX(s.id) FROM supplement s
           LEFT JOIN supplement_withdrawn w ON w.supplement_id = s.id WHERE s.job_id = {job}""",
        sent,
    ),
    "supplement_answers": Recorded(
        """SELECT COUNT(*), MAX(a.id) FROM supplement_answer a JOIN supplement s ON s.id = a.supplement_id
           WHERE s.job_id = {job}""",
        answers,
    ),
    "go_aheads": Recorded(
        """SELECT COUNT(*), MAX(g.id) FROM supplement_go_ahead g JOIN supplement_line l ON l.id = g.line_id
           WHERE l.job_id = {job}""",
        go_aheads,
    ),
}
"""The facts of a job that are kept here, and how they are read."""
