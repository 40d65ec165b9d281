"""The measuring tools that the shop owns. A tool that is retired stays, for the readings that it made."""

from fairsquare.core.errors import Refused
from fairsquare.core.measure.tools import ShopTool, ToolKind
from fairsquare.store.database import Connection, execute, insert, row, rows


def add_tool(
    connection: Connection,
    name: str,
    kind: ToolKind,
    sigma_mm: float,
    person_id: int,
    *,
    from_mm: float | None = None,
    to_mm: float | None = None,
    pointer_mm: float | None = None,
    pin_mm: float | None = None,
) -> int:
    """Record a tool and return its id. Raises `Refused` for a name that a tool in use has already."""
    if row(connection, "SELECT id FROM tool WHERE name = %s AND retired_at IS NULL", name):
        raise Refused(f"There is a tool named {name} already: give this one another name.", field="name", value=name)
    return insert(
        connection,
        """INSERT INTO tool (name, kind, sigma_mm, from_mm, to_mm, pointer_mm, pin_mm, added_by, added_at)
           VALUES (%s, %s, %s, %s, %s, %s, %s, %s, UTC_TIMESTAMP(6))""",
        name,
        kind,
        sigma_mm,
        from_mm,
        to_mm,
        pointer_mm,
        pin_mm,
        person_id,
    )


def retire_tool(connection: Connection, tool: int, person_id: int) -> None:
    """Record that a tool is not used any more."""
    execute(
        connection,
        "UPDATE tool SET retired_by = %s, retired_at = UTC_TIMESTAMP(6) WHERE id = %s AND retired_at IS NULL",
        person_id,
        tool,
    )


def shop_tools(connection: Connection) -> tuple[ShopTool, ...]:
    """Return the tools in use, by name."""
    found = rows(
        connection,
        """SELECT id, name, kind, sigma_mm, from_mm, to_mm, pointer_mm, pin_mm FROM tool
           WHERE retired_at IS NULL ORDER BY name""",
    )
    return tuple(ShopTool(**one) for one in found)
