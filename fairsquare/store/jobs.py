"""Jobs: the editable row of each, every version of it, and the search over them."""

import json
from typing import Annotated, Any, Literal

import pymysql
from pydantic import Field

from fairsquare.core.errors import FairSquareError
from fairsquare.core.model import Model
from fairsquare.core.sheet.model import Construction
from fairsquare.store import search
from fairsquare.store.database import Connection, execute, insert, select, select_one, utc
from fairsquare.store.people import Person

HitWhere = Literal["unknown", "front", "rear", "left", "right", "roof", "underneath"]
HitHeight = Literal["unknown", "low", "middle", "high"]
HitForce = Literal["unknown", "light", "middling", "hard"]
HitMoved = Literal["unknown", "stood", "pushed", "stopped", "slid", "spun", "rolled"]


class JobDetails(Model):
    """What is taken in: the vehicle, and the hit as it was declared. `hit_from_deg`: 0 front, 90 right, 180 rear, 270 left."""

    vehicle: Annotated[str, Field(min_length=1, max_length=120)]
    construction: Construction = "unibody"
    vin: Annotated[str, Field(max_length=40)] = ""
    hit_where: HitWhere = "unknown"
    hit_from_deg: Annotated[int, Field(ge=0, le=359)] | None = None
    hit_height: HitHeight = "unknown"
    hit_force: HitForce = "unknown"
    hit_moved: HitMoved = "unknown"
    hit_words: Annotated[str, Field(max_length=2000)] = ""
    notes: Annotated[str, Field(max_length=8000)] = ""


class Job(Model):
    """A job's row. `version` counts its edits, `revision` everything that was recorded of it; `came` says from where as a file."""

    id: int
    number: str
    version: int
    revision: int
    details: JobDetails
    opened_by: str
    opened_at: str
    touched_at: str
    closed: bool
    came: str = ""


class NoSuchJob(FairSquareError):
    """There is no job of that number."""

    status = 404
    kind = "no-such-job"


class StaleEdit(FairSquareError):
    """Somebody else changed the row since it was read."""

    status = 409
    kind = "stale-edit"


_OPEN, _CLOSED = 0, 1
"""The shelves of jobs; practice lies on one of its own."""
_FIELDS = tuple(JobDetails.model_fields)
_COLUMNS = ", ".join(f"j.{field}" for field in _FIELDS)
_READ = f"""j.id, j.number, j.version, j.revision, {_COLUMNS}, j.opened_at, j.touched_at, j.closed_at,
             p.full_name AS opened_by,
             (SELECT CONCAT(c.number, ' of ', c.workshop) FROM job_came c WHERE c.job_id = j.id) AS came"""  # noqa: S608 - names of columns only
_SELECT = f"""SELECT {_READ} FROM job j JOIN person p ON p.id = j.opened_by"""  # noqa: S608 - names of columns only


def open_job(connection: Connection, details: JobDetails, person: Person, prefix: str) -> str:
    """Open a job and return its number: the prefix and the next free number, at least four digits."""
    number, tries = _next_number(connection, prefix), 0
    while True:
        try:
            job_id = insert(
                connection,
                f"""INSERT INTO job (number, {", ".join(_FIELDS)}, version, revision, opened_by, opened_at,
                      touched_at)
                    VALUES (%(number)s, {", ".join(f"%({field})s" for field in _FIELDS)}, 1, 1, %(opened_by)s,
                      UTC_TIMESTAMP(6), UTC_TIMESTAMP(6))""",  # noqa: S608 - names of columns only
                **dict(details),
                number=number,
                opened_by=person.id,
            )
            break
        except pymysql.err.IntegrityError:
            tries += 1
            if tries > 20:
                raise
            number = _next_number(connection, prefix)
    _keep_version(connection, job_id, 1, details, person)
    search.index_job(connection, job_id)
    return number


def change_job(connection: Connection, job: Job, details: JobDetails, version: int, person: Person) -> int:
    """Change a job that was read at `version`; return its new version. Raises `StaleEdit` that tells who changed what."""
    changed = execute(
        connection,
        f"""UPDATE job SET {", ".join(f"{field} = %({field})s" for field in _FIELDS)}, version = version + 1,
              revision = revision + 1, touched_at = UTC_TIMESTAMP(6)
            WHERE id = %(id)s AND version = %(version)s""",  # noqa: S608 - names of columns only
        **dict(details),
        id=job.id,
        version=version,
    )
    if not changed:
        raise StaleEdit(_who_changed_what(connection, job.id, version), field="version", value=version)
    _keep_version(connection, job.id, version + 1, details, person)
    search.index_job(connection, job.id)
    return version + 1


def find_job(connection: Connection, number: str) -> Job:
    """Return the job of that number. Raises `NoSuchJob`."""
    row = select_one(connection, f"{_SELECT} WHERE j.number = %s", number[:20])
    if row is None:
        raise NoSuchJob(f"There is no job {number[:20]}. Look for it on the floor.", field="job", value=number[:40])
    return _job(row)


def close_job(connection: Connection, job_id: int, closed: bool) -> None:
    """Close a job, which takes it off the floor, or open it again; nothing of it is lost."""
    execute(connection, "UPDATE job SET closed_at = IF(%s, UTC_TIMESTAMP(6), NULL) WHERE id = %s", closed, job_id)


def hold_job(connection: Connection, number: str) -> None:
    """Hold a job's row until the transaction ends. Comes before any other read, so that what is read then is the newest.

    It is written, not only locked: of two that hold it on two nodes of a cluster only one is let through.
    """
    execute(connection, "UPDATE job SET guarded = guarded + 1 WHERE number = %s", number[:20])


def touch(connection: Connection, job_id: int) -> None:
    """Count one more thing recorded of a job, so that what was worked out from it is worked out anew."""
    execute(
        connection,
        "UPDATE job SET revision = revision + 1, touched_at = UTC_TIMESTAMP(6) WHERE id = %s",
        job_id,
    )


def find_jobs(
    connection: Connection, words: str = "", most: int = 40, skip: int = 0, *, closed: bool = False
) -> tuple[list[Job], int]:
    """Return the jobs that are open, or those that are closed, the last touched first, and how many there are in all; no practice.

    Every word of `words` must stand in the number, vehicle, VIN, hit, notes, or the date of opening; matches are counted up to
    `search.MOST_COUNTED`.
    """
    shelf = _CLOSED if closed else _OPEN
    looked_for = search.wanted(connection, shelf, words)
    rows = select(
        connection,
        f"""SELECT {_READ} FROM {looked_for.tables} WHERE j.shelf = %s AND {looked_for.condition}
            ORDER BY j.touched_at DESC, j.id DESC LIMIT %s OFFSET %s""",  # noqa: S608 - built above, values bound
        shelf,
        *looked_for.values,
        most,
        skip,
    )
    return [_job(row) for row in rows], search.count(connection, shelf, looked_for)


def _next_number(connection: Connection, prefix: str) -> str:
    row = select_one(
        connection,
        """SELECT MAX(CAST(SUBSTRING(number, %s) AS UNSIGNED)) AS last FROM job WHERE number LIKE %s FOR UPDATE""",
        len(prefix) + 1,
        prefix + "%",
    )
    last = int(row["last"] or 0) if row else 0
    return f"{prefix}{last + 1:04d}"


def _keep_version(connection: Connection, job_id: int, version: int, details: JobDetails, person: Person) -> None:
    execute(
        connection,
        """INSERT INTO job_version (job_id, version, details, changed_by, changed_at)
           VALUES (%(job_id)s, %(version)s, %(details)s, %(changed_by)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        version=version,
        details=details.model_dump_json(),
        changed_by=person.id,
    )


def _who_changed_what(connection: Connection, job_id: int, version: int) -> str:
    rows = select(
        connection,
        """SELECT v.version, v.details, v.changed_at, p.full_name FROM job_version v JOIN person p ON p.id = v.changed_by
           WHERE v.job_id = %s AND v.version >= %s ORDER BY v.version""",
        job_id,
        version,
    )
    if len(rows) < 2:
        return "The job was changed meanwhile: look at it again."
    before, after = json.loads(rows[0]["details"]), json.loads(rows[-1]["details"])
    fields = [field.replace("_", " ") for field in _FIELDS if before.get(field) != after.get(field)]
    last = rows[-1]
    when = last["changed_at"].strftime("%H:%M")
    return (
        f"{last['full_name']} changed {', '.join(fields) or 'it'} at {when} UTC, after this page was opened. "
        "What you typed is still here: compare, then save again."
    )


def _job(row: dict[str, Any]) -> Job:
    return Job(
        id=row["id"],
        number=row["number"],
        version=row["version"],
        revision=row["revision"],
        details=JobDetails(**{field: row[field] for field in _FIELDS}),
        opened_by=row["opened_by"],
        opened_at=utc(row["opened_at"]),
        touched_at=utc(row["touched_at"]),
        closed=row["closed_at"] is not None,
        came=row["came"] or "",
    )
