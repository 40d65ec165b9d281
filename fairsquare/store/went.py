"""How the shop's jobs went, by the signature that released each; of a job that was released again the last counts."""

from fairsquare.job.went import JobWent
from fairsquare.store.database import Connection, execute, select, select_one


def keep(connection: Connection, signature: int, job_id: int, went: JobWent) -> None:
    """Keep how a job went when it was released by a signature."""
    execute(
        connection,
        "INSERT IGNORE INTO job_went (signature_id, job_id, body) VALUES (%(signature_id)s, %(job_id)s, %(body)s)",
        signature_id=signature,
        job_id=job_id,
        body=went.model_dump_json(),
    )


def mark(connection: Connection) -> tuple[int, int]:
    """Return how many are kept, and the last of them: what changes when another is."""
    row = select_one(connection, "SELECT COUNT(*) AS many, COALESCE(MAX(signature_id), 0) AS last FROM job_went")
    return (int(row["many"]), int(row["last"])) if row else (0, 0)


def since(connection: Connection, last: int) -> list[tuple[int, int, JobWent]]:
    """Return those behind a signature, oldest first: signature, job, how it went."""
    rows = select(
        connection,
        "SELECT signature_id, job_id, body FROM job_went WHERE signature_id > %s ORDER BY signature_id",
        last,
    )
    return [(row["signature_id"], row["job_id"], JobWent.model_validate_json(row["body"])) for row in rows]


def not_kept(connection: Connection, most: int) -> list[tuple[int, str]]:
    """Return signatures that released a job of which nothing is kept, from before this was kept: signature and job."""
    rows = select(
        connection,
        """SELECT MAX(s.id) AS signature, j.number FROM signature s JOIN job j ON j.id = s.job_id
           LEFT JOIN job_went w ON w.job_id = j.id WHERE s.hold = 'released' AND w.job_id IS NULL
           GROUP BY j.id, j.number ORDER BY signature LIMIT %s""",
        most,
    )
    return [(row["signature"], row["number"]) for row in rows]
