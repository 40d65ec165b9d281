"""How vehicles stand on their wheels, as it was read."""

from fairsquare.job.facts.stance import Axle, StanceFact
from fairsquare.store.database import Connection, as_model, insert, select
from fairsquare.store.recorded import Recorded


def keep(connection: Connection, job_id: int, axle: Axle, left_mm: float, right_mm: float, person_id: int) -> int:
    """Keep how an axle stands, and return its id."""
    return insert(
        connection,
        """INSERT INTO stance (job_id, axle, left_mm, right_mm, person_id, at)
           VALUES (%(job_id)s, %(axle)s, %(left_mm)s, %(right_mm)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        axle=axle,
        left_mm=left_mm,
        right_mm=right_mm,
        person_id=person_id,
    )


def stances(connection: Connection, job_id: int) -> tuple[StanceFact, ...]:
    """Return how a job's axles were read, oldest first."""
    rows = select(
        connection,
        """SELECT s.id, s.axle, s.left_mm, s.right_mm, s.at, p.full_name, p.role
           FROM stance s JOIN person p ON p.id = s.person_id WHERE s.job_id = %s ORDER BY s.id""",
        job_id,
    )
    return tuple(as_model(StanceFact, row) for row in rows)


RECORDED = {"stances": Recorded("SELECT COUNT(*), MAX(id) FROM stance WHERE job_id = {job}", stances)}
