"""Deeds of naming: points of the sheet made members and references by touching them, without changing any dimension."""

from collections.abc import Sequence
from typing import Any, Literal

from fairsquare.actions.desk import Desk, JobView, Unsure
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.core.sheet.model import find_point, points_by_code
from fairsquare.job.measure.counted import reference_readings
from fairsquare.store import sheets
from fairsquare.store.database import Connection
from fairsquare.store.people import Person

Naming = Literal["member", "no member", "reference", "not reference"]
"""What is done with the points that were touched."""


def name_points(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    codes: Sequence[str],
    do: Naming,
    member: str = "",
    seen_version: int | None = None,
) -> int:
    """Make points one member, or references, by a new version of the sheet that changes no dimension; return the version.

    Raises `Refused` for points that are not on it, and for taking a reference away that the set-up in force was read by.
    """
    check_may(person, "accept sheet")
    member = " ".join(member.split())
    if do == "member" and not 2 <= len(member) <= 80:
        raise Refused("Name the member, in 2 to 80 letters, such as front rail.", field="member", value=member[:120])

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        now = sheets.find_sheet(connection, view.job.id)
        if now is None:
            raise Unsure("There is no sheet yet: get the sheet first.", field="touched")
        if seen_version is not None and seen_version != now.version:
            raise Unsure(
                f"Version {now.version} of the sheet was accepted meanwhile: look at it, then name them again.",
                field="seen_version",
                value=seen_version,
            )
        points = points_by_code(now.sheet)
        for code in codes:
            find_point(points, code, "touched")
        if not codes:
            raise Refused("Touch the points on the drawing first.", field="touched", value="")
        if do == "not reference":
            _check_not_relied_on(view, codes)
        changes: dict[Naming, dict[str, Any]] = {
            "member": {"member": member},
            "no member": {"member": None},
            "reference": {"reference": True},
            "not reference": {"reference": False},
        }
        change = changes[do]
        named = tuple(p.model_copy(update=change) if p.code in codes else p for p in now.sheet.points)
        if named == now.sheet.points:
            return {"version": now.version}
        sheet = now.sheet.model_copy(update={"points": named})
        version = sheets.accept_sheet(connection, view.job.id, sheet, now.said, "named on the drawing", person.id)
        return {"version": version}

    return int(desk.in_job(person, key, f"sheet {number} names", number, work)["version"])


def _check_not_relied_on(view: JobView, codes: Sequence[str]) -> None:
    """Refuse to take a reference away that the set-up in force was read by."""
    read = {reading.code for reading in reference_readings(view.facts, view.setup.number)} if view.setup else set()
    relied = [code for code in codes if code in read]
    if relied:
        raise Refused(
            f"{', '.join(relied)}: read as a reference in the set-up in force. It stays one as long as that set-up stands.",
            field="touched",
            value=relied,
        )
