"""Jobs that came from another shop as a file."""

from typing import NamedTuple

from fairsquare.core.who import Who
from fairsquare.files.job_file import JobFile, Manifest
from fairsquare.job.facts.job import JobFacts
from fairsquare.store.database import Connection, execute, select_one, who


class Came(NamedTuple):
    """Where a job came from: the list of its file, and who took it in when."""

    manifest: Manifest
    by: Who


def keep(connection: Connection, job_id: int, file: JobFile, facts: JobFacts, person_id: int) -> None:
    """Keep a job's facts as they came."""
    execute(
        connection,
        """INSERT INTO job_came (job_id, sha256, workshop, number, manifest, facts, person_id, at)
           VALUES (%(job_id)s, %(sha256)s, %(workshop)s, %(number)s, %(manifest)s, %(facts)s, %(person_id)s,
             UTC_TIMESTAMP(6))""",
        job_id=job_id,
        sha256=file.manifest.sha256,
        workshop=file.manifest.workshop[:200],
        number=file.manifest.number[:40],
        manifest=file.manifest.model_dump_json(),
        facts=facts.model_dump_json(),
        person_id=person_id,
    )


def number_of(connection: Connection, sha256: str) -> str | None:
    """Return the number under which a file was taken in before; None where it was not."""
    row = select_one(
        connection, "SELECT j.number FROM job_came c JOIN job j ON j.id = c.job_id WHERE c.sha256 = %s", sha256
    )
    return str(row["number"]) if row else None


def came_from(connection: Connection, job_id: int) -> Came | None:
    """Return where a job came from; None for one of this shop."""
    row = select_one(
        connection,
        """SELECT c.manifest, c.at, p.full_name, p.role FROM job_came c JOIN person p ON p.id = c.person_id
           WHERE c.job_id = %s""",
        job_id,
    )
    return Came(Manifest.model_validate_json(row["manifest"]), who(row)) if row else None


def facts_of(connection: Connection, job_id: int) -> JobFacts:
    """Return the facts of a job that came, as they came."""
    row = select_one(connection, "SELECT facts FROM job_came WHERE job_id = %s", job_id)
    assert row is not None
    return JobFacts.model_validate_json(row["facts"])
