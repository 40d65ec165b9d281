"""Records as they were made: kept to the letter under their SHA-256."""

from typing import Any

from fairsquare.core.errors import FairSquareError
from fairsquare.store.database import Connection, execute, row, rows, utc


class NoSuchRecord(FairSquareError):
    """There is no record of that checksum."""

    status = 404
    kind = "no-such-record"


def keep_record(connection: Connection, job_id: int, sha256: str, body: str, person_id: int) -> None:
    """Keep a record; the same one is kept once."""
    execute(
        connection,
        """INSERT IGNORE INTO record (job_id, sha256, body, person_id, at)
           VALUES (%s, %s, %s, %s, UTC_TIMESTAMP(6))""",
        job_id,
        sha256,
        body,
        person_id,
    )


def find_record(connection: Connection, sha256: str) -> str:
    """Return the body of a record. Raises `NoSuchRecord`."""
    found = row(connection, "SELECT body FROM record WHERE sha256 = %s", sha256[:64])
    if found is None:
        raise NoSuchRecord("No record of that checksum was made here.", field="sha256", value=sha256[:64])
    return str(found["body"])


def records_of(connection: Connection, job_id: int) -> list[dict[str, Any]]:
    """Return the records made of a job, the newest first: sha256, who and when."""
    found = rows(
        connection,
        """SELECT r.sha256, r.at, p.full_name FROM record r JOIN person p ON p.id = r.person_id
           WHERE r.job_id = %s ORDER BY r.id DESC""",
        job_id,
    )
    return [{**one, "at": utc(one["at"])} for one in found]
