"""Deeds of parts check-in: a part that came, counted off against the old one, and measured."""

import math
from typing import Any

from fairsquare.actions.desk import Desk, JobView
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.core.lengths import Unit, read_length
from fairsquare.core.sheet.model import find_point, points_by_code
from fairsquare.job.facts.parts import Blank, PartItemKind
from fairsquare.store import parts
from fairsquare.store.database import Connection
from fairsquare.store.people import Person

_MOST = 999


def take_part_in(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    name: str,
    origin: str,
    source: str,
    identity: str = "",
    blank: Blank | None = None,
) -> int:
    """Record a part that came, or that is made in the shop from a `blank`, and return its id.

    `identity` is the number of the vehicle that a donor was cut from.
    """
    check_may(person, "check parts in")
    plain_name = " ".join(name.split())
    if len(plain_name) < 3 or len(plain_name) > 200:
        raise Refused("Name the part, such as right rear rail end.", field="name", value=name[:200])
    if origin not in ("new", "donor", "made"):
        raise Refused("Is it new, cut from a donor, or made here?", field="origin", value=origin[:20])
    if (origin == "made") != (blank is not None):
        words = "A part made here has a blank: its length, width, thickness and material."
        raise Refused(words, field="length", value=origin)
    if blank is not None:
        _check_blank(blank)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        known = identity.strip()[:120]
        kept = parts.take_part_in(
            connection, view.job.id, plain_name, origin, source.strip()[:200], known, blank, person.id
        )
        return {"id": kept}

    return int(desk.in_job(person, key, f"part {number}", number, work)["id"])


def _check_blank(blank: Blank) -> None:
    for fold in blank.folds_mm:
        if not 0 < fold < blank.width_mm:
            raise Refused(f"A fold lies between 0 and {blank.width_mm:g} mm from one edge.", field="folds", value=fold)
    for u, v, diameter in blank.holes_mm:
        edge = min(u, blank.length_mm - u, v, blank.width_mm - v)
        if not (diameter > 0 and math.isfinite(diameter) and edge > diameter / 2):
            raise Refused(
                f"A hole of {diameter:g} mm at {u:g} mm along and {v:g} mm across does not lie in the blank.",
                field="holes",
                value=[u, v, diameter],
            )


def part_comes_off(desk: Desk, person: Person, key: str, number: str, part: int, words: str, how: str) -> None:
    """Note what has to come off a part before it goes in; with `how`, that it is off, and by what means."""
    count_item(desk, person, key, number, part, "comes_off", words, 0, 1, how)


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
    plain_words = " ".join(words.split())
    if not plain_words or len(plain_words) > 200:
        raise Refused("Say what it is, such as bracket for the fuel filler.", field="words", value=words[:200])
    for name, count in (("old_count", old_count), ("new_count", new_count)):
        if not 0 <= count <= _MOST:
            raise Refused("Count from 0 to 999.", field=name, value=count)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        kept = parts.count_item(
            connection, view.job.id, part, kind, plain_words, old_count, new_count, plan.strip()[:500], person.id
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
