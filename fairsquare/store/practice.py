"""Practice: the seed of each, the simulated vehicle as it stands, and whether it has ended."""

from typing import Any

from fairsquare.core.errors import FairSquareError
from fairsquare.store.database import Connection, execute, select, select_one, utc
from fairsquare.store.people import Person

_STEP_APART_S = 0.08


class NoSuchPractice(FairSquareError):
    """There is no practice of that number."""

    status = 404
    kind = "no-such-practice"


def begin(connection: Connection, job_id: int, seed: int) -> None:
    """Keep what a practice stands on."""
    execute(connection, "INSERT INTO practice (job_id, seed) VALUES (%(job_id)s, %(seed)s)", job_id=job_id, seed=seed)


def find(connection: Connection, number: str) -> dict[str, Any]:
    """Return a practice: job id, seed, state and result (JSON or None), who began it, when it ended. Raises `NoSuchPractice`."""
    row = select_one(
        connection,
        """SELECT x.job_id, x.seed, x.state, x.ended_at, x.result, p.id, p.name, p.full_name, p.role
           FROM practice x JOIN job j ON j.id = x.job_id JOIN person p ON p.id = j.opened_by WHERE j.number = %s""",
        number[:20],
    )
    if row is None:
        raise NoSuchPractice(f"There is no practice {number[:20]}.", field="number", value=number[:40])
    return {
        "job_id": row["job_id"],
        "seed": row["seed"],
        "state": row["state"],
        "result": row["result"],
        "ended_at": utc(row["ended_at"]) if row["ended_at"] else None,
        "person": Person(row["id"], row["name"], row["full_name"], row["role"]),
    }


def take_step(connection: Connection, job_id: int) -> bool:
    """Say whether it is time for the next step of a vehicle, and count it as taken: two servers never take the same one."""
    return bool(
        execute(
            connection,
            """UPDATE practice SET stepped_at = UTC_TIMESTAMP(6)
               WHERE job_id = %(job_id)s AND ended_at IS NULL
                 AND (stepped_at IS NULL OR stepped_at < UTC_TIMESTAMP(6) - INTERVAL %(apart_s)s SECOND)""",
            job_id=job_id,
            apart_s=_STEP_APART_S,
        )
    )


def keep(connection: Connection, job_id: int, state: str) -> None:
    """Keep a simulated vehicle as it stands."""
    execute(connection, "UPDATE practice SET state = %(state)s WHERE job_id = %(job_id)s", state=state, job_id=job_id)


def end(connection: Connection, job_id: int, result: str) -> None:
    """End a practice with what came of it (JSON): nothing more is done in it."""
    execute(
        connection,
        """UPDATE practice SET ended_at = UTC_TIMESTAMP(6), result = %(result)s
           WHERE job_id = %(job_id)s AND ended_at IS NULL""",
        result=result,
        job_id=job_id,
    )
    execute(connection, "UPDATE job SET closed_at = COALESCE(closed_at, UTC_TIMESTAMP(6)) WHERE id = %s", job_id)


def practices(connection: Connection, person: Person | None, most: int = 40) -> list[dict[str, Any]]:
    """Return the newest practices, of one person or of everybody: number, vehicle, seed, who, when begun, when ended."""
    rows = select(
        connection,
        """SELECT j.number, j.vehicle, x.seed, p.full_name, j.opened_at, x.ended_at,
             JSON_VALUE(x.result, '$.score.points') AS points
           FROM practice x JOIN job j ON j.id = x.job_id JOIN person p ON p.id = j.opened_by
           WHERE %s IS NULL OR p.id = %s ORDER BY j.id DESC LIMIT %s""",
        person.id if person else None,
        person.id if person else None,
        most,
    )
    return [
        {**row, "opened_at": utc(row["opened_at"]), "ended_at": utc(row["ended_at"]) if row["ended_at"] else None}
        for row in rows
    ]
