"""Deeds where a vehicle stands on its wheels."""

from typing import Any, cast, get_args

from fairsquare.actions.desk import Desk, JobView
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.job.facts.stance import Axle
from fairsquare.store import stance
from fairsquare.store.database import Connection
from fairsquare.store.people import Person


def read(desk: Desk, person: Person, key: str, number: str, axle: str, left_mm: float, right_mm: float) -> int:
    """Record how an axle stands, and return its id. Raises `Refused` where it is no axle."""
    check_may(person, "finish")
    if axle not in get_args(Axle):
        raise Refused("Say of which axle: front or rear.", field="axle", value=axle[:40])

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        return {"id": stance.keep(connection, view.job.id, cast(Axle, axle), left_mm, right_mm, person.id)}

    return int(desk.in_job(person, key, f"stance {number} {axle}", number, work)["id"])
