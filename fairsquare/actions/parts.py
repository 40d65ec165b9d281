"""Deeds of parts check-in: a part that came, counted off against the old one, and measured."""

from typing import Any

from fairsquare.actions.desk import Desk, JobView
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.core.facts import PartItemKind
from fairsquare.core.lengths import Unit, read_length
from fairsquare.core.sheet.model import find_point, points_by_code
from fairsquare.store import parts
from fairsquare.store.database import Connection
from fairsquare.store.people import Person

_MOST = 999


def take_part_in(desk: Desk, person: Person, key: str, number: str, name: str, origin: str, source: str) -> int:
    """Record a part that came and return its id."""
    check_may(person, "check parts in")
    said = " ".join(name.split())
    if len(said) < 3 or len(said) > 200:
        raise Refused("Name the part, such as right rear rail end.", field="name", value=name[:200])
    if origin not in ("new", "donor"):
        raise Refused("Is it new, or cut from a donor?", field="origin", value=origin[:20])

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        return {"id": parts.take_part_in(connection, view.job.id, said, origin, source.strip()[:200], person.id)}

    return int(desk.in_job(person, key, f"part {number}", number, work)["id"])


def count_item(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    part: int,
    kind: PartItemKind,
    words: str,
    old_count: int,
    new_count: int,
    plan: str,
) -> None:
    """Count an item on the old part and on the new; what is missing may have a plan, such as moved over from the old one."""
    check_may(person, "check parts in")
    said = " ".join(words.split())
    if not said or len(said) > 200:
        raise Refused("Say what it is, such as bracket for the fuel filler.", field="words", value=words[:200])
    for name, count in (("old_count", old_count), ("new_count", new_count)):
        if not 0 <= count <= _MOST:
            raise Refused("Count from 0 to 999.", field=name, value=count)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        kept = parts.count_item(
            connection, view.job.id, part, kind, said, old_count, new_count, plan.strip()[:500], person.id
        )
        return {"id": kept}

    desk.in_job(person, key, f"part item {number} {part}", number, work)


def measure_part(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    part: int,
    a: str,
    b: str,
    said: str,
    unit: Unit,
    sigma_mm: float = 1.0,
) -> None:
    """Record a span measured on a part, between two points of the sheet."""
    check_may(person, "check parts in")
    mm = float(read_length(said, unit, field="said").mm)
    if not 0 < mm <= 20_000:
        raise Refused("A span is above 0, up to 20 m.", field="said", value=said)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        if view.facts.sheet is None:
            raise Refused("There is no sheet to hold the part against.", field="a", value=a)
        known = {code.upper(): code for code in points_by_code(view.facts.sheet)}
        first, second = (known.get(code.strip().upper(), code.strip()) for code in (a, b))
        for field, code in (("a", first), ("b", second)):
            find_point(points_by_code(view.facts.sheet), code, field)
        if first == second:
            raise Refused("Name two different points.", field="b", value=b)
        kept = parts.measure_part(
            connection, view.job.id, part, first, second, said.strip()[:200], mm, sigma_mm, person.id
        )
        return {"id": kept}

    desk.in_job(person, key, f"part span {number} {part}", number, work)
