"""Records as they were made: kept to the letter under their SHA-256."""

import re
from typing import Any, Literal, NamedTuple

from fairsquare.core.errors import FairSquareError
from fairsquare.store.database import Connection, execute, insert, select, select_one, utc
from fairsquare.store.links import hash_of


class NoSuchRecord(FairSquareError):
    """There is no record of that checksum."""

    status = 404
    kind = "no-such-record"


def keep_record(connection: Connection, job_id: int, sha256: str, body: str, person_id: int) -> None:
    """Keep a record; the same one is kept once."""
    execute(
        connection,
        """INSERT IGNORE INTO record (job_id, sha256, body, person_id, at)
           VALUES (%(job_id)s, %(sha256)s, %(body)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        sha256=sha256,
        body=body,
        person_id=person_id,
    )


def find_record(connection: Connection, sha256: str) -> str:
    """Return the body of a record. Raises `NoSuchRecord`."""
    row = select_one(connection, "SELECT body FROM record WHERE sha256 = %s", sha256) if _is_sha256(sha256) else None
    if row is None:
        raise NoSuchRecord("No record of that checksum was made here.", field="sha256", value=sha256[:64])
    return str(row["body"])


def _is_sha256(text: str) -> bool:
    return re.fullmatch("[0-9a-f]{64}", text) is not None


def job_of(connection: Connection, sha256: str) -> str | None:
    """Return the number, here, of the job of which a record is kept; None where it is not."""
    if not _is_sha256(sha256):
        return None
    row = select_one(
        connection, "SELECT j.number FROM record r JOIN job j ON j.id = r.job_id WHERE r.sha256 = %s", sha256
    )
    return str(row["number"]) if row else None


def records_of(connection: Connection, job_id: int) -> list[dict[str, Any]]:
    """Return the records made of a job, the newest first: sha256, who and when."""
    rows = select(
        connection,
        """SELECT r.sha256, r.at, p.full_name FROM record r JOIN person p ON p.id = r.person_id
           WHERE r.job_id = %s ORDER BY r.id DESC""",
        job_id,
    )
    return [{**row, "at": utc(row["at"])} for row in rows]


Audience = Literal["owner", "payer", "inspector"]


class LinkedRecord(NamedTuple):
    """What a link shows: a record, with the job's number and the moment that it names, for whom, and until when."""

    id: int
    sha256: str
    number: str
    made_at: str
    audience: Audience
    named: str
    expires_at: str


def add_link(
    connection: Connection, sha256: str, code: str, audience: Audience, named: str, days: int, person_id: int
) -> int:
    """Record a link to a record under the hash of its code, and return its id."""
    return insert(
        connection,
        """INSERT INTO record_link (sha256, code_sha256, audience, named, expires_at, person_id, at)
           VALUES (%(sha256)s, %(code_sha256)s, %(audience)s, %(named)s,
             UTC_TIMESTAMP(6) + INTERVAL %(days)s DAY, %(person_id)s, UTC_TIMESTAMP(6))""",
        sha256=sha256,
        code_sha256=hash_of(code),
        audience=audience,
        named=named,
        days=days,
        person_id=person_id,
    )


def withdraw_link(connection: Connection, link: int, person_id: int) -> None:
    """Record that a link leads nowhere any more."""
    execute(
        connection,
        """INSERT IGNORE INTO record_link_withdrawn (link_id, person_id, at)
           VALUES (%(link_id)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        link_id=link,
        person_id=person_id,
    )


def links_of(connection: Connection, job_id: int) -> list[dict[str, Any]]:
    """Return the links to the records of a job, the newest first; `open` says whether each still leads somewhere."""
    rows = select(
        connection,
        """SELECT l.id, l.sha256, l.audience, l.named, l.expires_at, l.at, p.full_name,
                  w.link_id IS NULL AND l.expires_at > UTC_TIMESTAMP(6) AS open, w.link_id IS NOT NULL AS withdrawn
           FROM record_link l JOIN person p ON p.id = l.person_id JOIN record r ON r.sha256 = l.sha256
           LEFT JOIN record_link_withdrawn w ON w.link_id = l.id WHERE r.job_id = %s ORDER BY l.id DESC""",
        job_id,
    )
    return [{**row, "at": utc(row["at"]), "expires_at": utc(row["expires_at"])} for row in rows]


def by_link(connection: Connection, code: str) -> LinkedRecord | None:
    """Return what a link shows, or None where it leads nowhere: unknown, run out, withdrawn."""
    row = select_one(
        connection,
        """SELECT l.id, l.sha256, JSON_VALUE(r.body, '$.number') AS number, JSON_VALUE(r.body, '$.made.at') AS made_at,
                  l.audience, l.named, l.expires_at
           FROM record_link l JOIN record r ON r.sha256 = l.sha256
           LEFT JOIN record_link_withdrawn w ON w.link_id = l.id
           WHERE l.code_sha256 = %s AND w.link_id IS NULL AND l.expires_at > UTC_TIMESTAMP(6)""",
        hash_of(code),
    )
    return LinkedRecord(**{**row, "expires_at": utc(row["expires_at"])}) if row else None


def last_before(connection: Connection, job_id: int) -> str:
    """Return the SHA-256 of the last record that was made of a job; empty where none was."""
    row = select_one(connection, "SELECT sha256 FROM record WHERE job_id = %s ORDER BY id DESC LIMIT 1", job_id)
    return str(row["sha256"]) if row else ""
