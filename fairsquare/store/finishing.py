"""What is said of fit, seams, bonding and hours (the last version counts), and what was done of it. Rows are appended only."""

from typing import Any

from pydantic import TypeAdapter

from fairsquare.core.fit.said import FitSaid
from fairsquare.core.plan.said import HoursSaid
from fairsquare.core.weld.bonding import BondSaid
from fairsquare.core.weld.seam import SeamPlan
from fairsquare.core.weld.settings import Metal, WeldProcess
from fairsquare.job.facts.done import CouponMade, Done
from fairsquare.job.facts.finishing import DoneFact, JobSaidFact, SaidTopic
from fairsquare.job.facts.hours import HoursFact
from fairsquare.store.database import Connection, as_model, execute, insert, select, select_one, utc, who
from fairsquare.store.recorded import Recorded

_WHO = "p.full_name, p.role"
_DONE: TypeAdapter[Any] = TypeAdapter(Done)
Said = FitSaid | SeamPlan | BondSaid | HoursSaid


def say(connection: Connection, job_id: int, topic: SaidTopic, subject: int, said: Said, person_id: int) -> int:
    """Keep what is said of a topic as the next version, and return that."""
    last = select_one(
        connection,
        "SELECT MAX(version) AS last FROM job_said WHERE job_id = %s AND topic = %s AND subject = %s FOR UPDATE",
        job_id,
        topic,
        subject,
    )
    version = int((last or {}).get("last") or 0) + 1
    insert(
        connection,
        """INSERT INTO job_said (job_id, topic, subject, version, body, person_id, at)
           VALUES (%(job_id)s, %(topic)s, %(subject)s, %(version)s, %(body)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        topic=topic,
        subject=subject,
        version=version,
        body=said.model_dump_json(),
        person_id=person_id,
    )
    return version


def note(connection: Connection, job_id: int, done: Done, person_id: int) -> int:
    """Record something that was done, and return its id."""
    return insert(
        connection,
        """INSERT INTO job_event (job_id, kind, body, person_id, at)
           VALUES (%(job_id)s, %(kind)s, %(body)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        kind=done.kind,
        body=done.model_dump_json(),
        person_id=person_id,
    )


def take_back(connection: Connection, event: int, person_id: int) -> None:
    """Record that something was noted by mistake: it stays, and counts no longer."""
    execute(
        connection,
        """INSERT IGNORE INTO job_event_taken_back (event_id, person_id, at)
           VALUES (%(event_id)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        event_id=event,
        person_id=person_id,
    )


def said_of(connection: Connection, job_id: int) -> tuple[JobSaidFact, ...]:
    """Return the last version of everything said of fit, seams and bonding."""
    rows = select(
        connection,
        f"""SELECT s.id, s.topic, s.subject, s.version, s.body, s.at, {_WHO}
            FROM job_said s JOIN person p ON p.id = s.person_id
            WHERE s.job_id = %s AND s.topic <> 'hours' AND s.version = (SELECT MAX(n.version) FROM job_said n
              WHERE n.job_id = s.job_id AND n.topic = s.topic AND n.subject = s.subject)
            ORDER BY s.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        JobSaidFact(
            **{name: row[name] for name in ("id", "topic", "subject", "version")},
            fit=FitSaid.model_validate_json(row["body"]) if row["topic"] == "fit" else None,
            seam=SeamPlan.model_validate_json(row["body"]) if row["topic"] == "seam" else None,
            bond=BondSaid.model_validate_json(row["body"]) if row["topic"] == "bond" else None,
            by=who(row),
        )
        for row in rows
    )


def hours_of(connection: Connection, job_id: int) -> HoursFact | None:
    """Return what was last said of the hours of a job."""
    row = select_one(
        connection,
        f"""SELECT s.version, s.body, s.at, {_WHO} FROM job_said s JOIN person p ON p.id = s.person_id
            WHERE s.job_id = %s AND s.topic = 'hours' ORDER BY s.version DESC LIMIT 1""",  # noqa: S608 - names of columns only
        job_id,
    )
    if row is None:
        return None
    return as_model(HoursFact, row, hours=HoursSaid.model_validate_json(row["body"]))


def events(connection: Connection, job_id: int) -> tuple[DoneFact, ...]:
    """Return everything that was done, oldest first."""
    rows = select(
        connection,
        f"""SELECT e.id, e.kind, e.body, e.at, {_WHO},
                   b.at AS back_at, q.full_name AS back_name, q.role AS back_role
            FROM job_event e JOIN person p ON p.id = e.person_id
            LEFT JOIN job_event_taken_back b ON b.event_id = e.id LEFT JOIN person q ON q.id = b.person_id
            WHERE e.job_id = %s ORDER BY e.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        as_model(
            DoneFact,
            row,
            what=_DONE.validate_json(row["body"]),
            taken_back=who({"full_name": row["back_name"], "role": row["back_role"], "at": row["back_at"]})
            if row["back_at"]
            else None,
        )
        for row in rows
    )


def worked_before(
    connection: Connection, process: WeldProcess, metal: Metal, governing_mm: float, most: int = 5
) -> list[tuple[str, CouponMade, str]]:
    """Return the last coupons accepted in this shop for that process, metal and, within a fifth, thickness: job, coupon, when."""
    rows = select(
        connection,
        """SELECT j.number, e.body, e.at FROM job_event e JOIN job j ON j.id = e.job_id
           LEFT JOIN job_event_taken_back b ON b.event_id = e.id
           WHERE e.kind = 'coupon' AND b.event_id IS NULL
             AND JSON_VALUE(e.body, '$.process') = %s AND JSON_VALUE(e.body, '$.metal') = %s
             AND JSON_VALUE(e.body, '$.accepted') = 1
             AND ABS(JSON_VALUE(e.body, '$.governing_mm') - %s) <= 0.2 * %s
           ORDER BY e.id DESC LIMIT %s""",
        process,
        metal,
        governing_mm,
        governing_mm,
        most,
    )
    return [(row["number"], CouponMade.model_validate_json(row["body"]), utc(row["at"])) for row in rows]


RECORDED = {
    "said": Recorded("SELECT COUNT(*), MAX(id) FROM job_said WHERE job_id = {job}", said_of),
    "done": Recorded(
        """SELECT COUNT(*) + COUNT(t.event_id), MAX(e.id) FROM job_event e
           LEFT JOIN job_event_taken_back t ON t.event_id = e.id WHERE e.job_id = {job}""",
        events,
    ),
    "hours": Recorded("SELECT COUNT(*), MAX(id) FROM job_said WHERE job_id = {job} AND topic = 'hours'", hours_of),
}
"""The facts of a job that are kept here, and how they are read."""
