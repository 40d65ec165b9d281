"""Deeds of the shop's measuring tools: added, retired."""

from typing import Any

from fairsquare.actions.desk import Desk
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.core.measure.tools import ToolKind
from fairsquare.store import tools
from fairsquare.store.database import Connection
from fairsquare.store.people import Person


def add_tool(
    desk: Desk, person: Person, key: str, name: str, kind: ToolKind, sigma_mm: float, **reach: float | None
) -> int:
    """Add a measuring tool that the shop owns. `reach`: from_mm, to_mm, pointer_mm, pin_mm."""
    check_may(person, "decide")
    name = " ".join(name.split())
    if not 2 <= len(name) <= 120:
        raise Refused("Name the tool, in 2 to 120 letters, as people call it.", field="name", value=name)
    if not 0 < sigma_mm <= 100:
        raise Refused("Give how well it reads, above 0 and up to 100 mm, such as 1.", field="sigma_mm", value=sigma_mm)
    for field, value in reach.items():
        if value is not None and not 0 < value <= 50_000:
            raise Refused("This should be above 0 and up to 50 m.", field=field, value=value)
    if kind == "gauges" and reach.get("pin_mm") is None:
        raise Refused("How wide is a pin of this set? “Half a pin left” is then a reading.", field="pin_mm", value=None)
    answer = desk.once(
        person,
        key,
        "add tool",
        lambda c: {"id": tools.add_tool(c, name, kind, sigma_mm, person.id, **reach)},
    )
    return int(answer["id"])


def retire_tool(desk: Desk, person: Person, key: str, tool: int) -> None:
    """Retire a tool: it is offered no more, and stays with the readings that it made."""
    check_may(person, "decide")

    def work(connection: Connection) -> dict[str, Any]:
        tools.retire_tool(connection, tool, person.id)
        return {}

    desk.once(person, key, f"retire tool {tool}", work)
