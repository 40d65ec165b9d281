"""The measuring tools that the shop owns. A tool that is retired stays, for the readings that it made."""

from pydantic import TypeAdapter

from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.measure.calibration import ToolEventFact, ToolFact, ToolSaid
from fairsquare.job.measure.tools import ShopTool, ToolKind
from fairsquare.store.database import Connection, as_model, execute, insert, select, select_one, who

_SAID: TypeAdapter[ToolSaid] = TypeAdapter(ToolSaid)
_COLUMNS = "id, name, kind, sigma_mm, from_mm, to_mm, pointer_mm, pin_mm, length_mm"


class NoSuchTool(FairSquareError):
    """There is no tool of that number."""

    status = 404
    kind = "no-such-tool"


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
    length_mm: float | None = None,
) -> int:
    """Record a tool and return its id. Raises `Refused` for a name that a tool in use has already."""
    if select_one(connection, "SELECT id FROM tool WHERE name = %s AND retired_at IS NULL", name):
        raise Refused(f"There is a tool named {name} already: give this one another name.", field="name", value=name)
    return insert(
        connection,
        """INSERT INTO tool (name, kind, sigma_mm, from_mm, to_mm, pointer_mm, pin_mm, length_mm, added_by, added_at)
           VALUES (%(name)s, %(kind)s, %(sigma_mm)s, %(from_mm)s, %(to_mm)s, %(pointer_mm)s, %(pin_mm)s,
             %(length_mm)s, %(added_by)s, UTC_TIMESTAMP(6))""",
        name=name,
        kind=kind,
        sigma_mm=sigma_mm,
        from_mm=from_mm,
        to_mm=to_mm,
        pointer_mm=pointer_mm,
        pin_mm=pin_mm,
        length_mm=length_mm,
        added_by=person_id,
    )


def retire_tool(connection: Connection, tool: int, person_id: int) -> None:
    """Record that a tool is not used any more."""
    execute(
        connection,
        """UPDATE tool SET retired_by = %(retired_by)s, retired_at = UTC_TIMESTAMP(6)
           WHERE id = %(id)s AND retired_at IS NULL""",
        retired_by=person_id,
        id=tool,
    )


def shop_tools(connection: Connection) -> tuple[ShopTool, ...]:
    """Return the tools in use, by name."""
    rows = select(connection, f"SELECT {_COLUMNS} FROM tool WHERE retired_at IS NULL ORDER BY name")  # noqa: S608 - names of columns only
    return tuple(ShopTool(**row) for row in rows)


def find_tool(connection: Connection, tool: int) -> ShopTool:
    """Return a tool, retired or not. Raises `NoSuchTool`."""
    row = select_one(connection, f"SELECT {_COLUMNS} FROM tool WHERE id = %s", tool)  # noqa: S608 - names of columns only
    if row is None:
        raise NoSuchTool("There is no such tool.", field="tool", value=tool)
    return ShopTool(**row)


def note_event(connection: Connection, tool: ShopTool, said: ToolSaid, person_id: int) -> int:
    """Record a calibration or a check, and return its id; every job that the tool read in has something new to say."""
    event = insert(
        connection,
        """INSERT INTO tool_event (tool_id, kind, body, person_id, at)
           VALUES (%(tool_id)s, %(kind)s, %(body)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        tool_id=tool.id,
        kind=said.kind,
        body=said.model_dump_json(),
        person_id=person_id,
    )
    _touch_jobs(connection, tool.name)
    return event


def take_event_back(connection: Connection, tool: ShopTool, event: int, person_id: int) -> None:
    """Record that a calibration or check was noted by mistake: it stays, and counts no longer."""
    if select_one(connection, "SELECT id FROM tool_event WHERE id = %s AND tool_id = %s", event, tool.id) is None:
        raise NoSuchTool("There is no such calibration or check of this tool.", field="event", value=event)
    execute(
        connection,
        """INSERT IGNORE INTO tool_event_taken_back (event_id, person_id, at)
           VALUES (%(event_id)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        event_id=event,
        person_id=person_id,
    )
    _touch_jobs(connection, tool.name)


def _touch_jobs(connection: Connection, name: str) -> None:
    execute(
        connection,
        """UPDATE job SET revision = revision + 1 WHERE id IN
           (SELECT job_id FROM setup WHERE instrument = %(instrument)s
            UNION SELECT job_id FROM reading WHERE instrument = %(instrument)s)""",
        instrument=name,
    )


def histories(connection: Connection) -> tuple[ToolFact, ...]:
    """Return every tool by name, retired ones too, with its calibrations and checks, oldest first; two of one name are one."""
    rows = select(connection, "SELECT name, kind, sigma_mm FROM tool ORDER BY id")
    events: dict[str, list[ToolEventFact]] = {}
    for event in select(
        connection,
        """SELECT e.id, e.body, e.at, t.name, p.full_name, p.role,
                  b.at AS back_at, q.full_name AS back_name, q.role AS back_role
           FROM tool_event e JOIN tool t ON t.id = e.tool_id JOIN person p ON p.id = e.person_id
           LEFT JOIN tool_event_taken_back b ON b.event_id = e.id LEFT JOIN person q ON q.id = b.person_id
           ORDER BY e.id""",
    ):
        events.setdefault(event["name"], []).append(
            as_model(
                ToolEventFact,
                event,
                what=_SAID.validate_json(event["body"]),
                taken_back=who({"full_name": event["back_name"], "role": event["back_role"], "at": event["back_at"]})
                if event["back_at"]
                else None,
            )
        )
    last = {row["name"]: row for row in rows}
    return tuple(ToolFact(**tool, events=tuple(events.get(name, ()))) for name, tool in last.items())
