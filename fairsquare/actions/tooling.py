"""Deeds of the shop's measuring tools: added, calibrated, checked on a reference bar, retired."""

import datetime
from collections.abc import Sequence
from typing import Any

from fairsquare.actions.desk import Desk
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.core.measure.bar_check import CheckTool, check_tool
from fairsquare.core.measure.calibration import BarRead, Calibrated
from fairsquare.job.measure.tools import READS_A_BAR, ShopTool, ToolKind
from fairsquare.store import tools
from fairsquare.store.database import Connection
from fairsquare.store.people import Person


def add_tool(
    desk: Desk, person: Person, key: str, name: str, kind: ToolKind, sigma_mm: float, **reach: float | None
) -> int:
    """Add a measuring tool that the shop owns. `reach`: from_mm, to_mm, pointer_mm, pin_mm; of a bar length_mm."""
    check_may(person, "keep tools")
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
    if kind == "bar" and reach.get("length_mm") is None:
        raise Refused("How long is this bar, by its certificate?", field="length_mm", value=None)
    answer = desk.once(
        person,
        key,
        "add tool",
        lambda c: {"id": tools.add_tool(c, name, kind, sigma_mm, person.id, **reach)},
    )
    return int(answer["id"])


def retire_tool(desk: Desk, person: Person, key: str, tool: int) -> None:
    """Retire a tool: it is offered no more, and stays with the readings that it made."""
    check_may(person, "keep tools")

    def work(connection: Connection) -> dict[str, Any]:
        tools.retire_tool(connection, tool, person.id)
        return {}

    desk.once(person, key, f"retire tool {tool}", work)


def calibrate(
    desk: Desk, person: Person, key: str, tool: int, done_on: str, due_on: str, words: str, today: datetime.date
) -> int:
    """Record a calibration: when it was done and until when it is good. Raises `Refused` for days that make no sense."""
    check_may(person, "keep tools")
    done = _day(done_on, "done_on")
    if done > today:
        raise Refused("A calibration is written down once it was done, not before.", field="done_on", value=done_on)
    due = _day(due_on, "due_on") if due_on.strip() else None
    if due is not None and due <= done:
        raise Refused("It is due again after it was done: look at both days.", field="due_on", value=due_on)
    words = " ".join(words.split())
    if not 3 <= len(words) <= 200:
        raise Refused("Say by whom, or by which certificate, in 3 to 200 letters.", field="words", value=words[:40])
    calibrated = Calibrated(done_on=done.isoformat(), due_on=due.isoformat() if due else "", words=words)

    def work(connection: Connection) -> dict[str, Any]:
        return {"id": tools.note_event(connection, tools.find_tool(connection, tool), calibrated, person.id)}

    return int(desk.once(person, key, f"calibrate tool {tool}", work)["id"])


def check_on_bar(
    desk: Desk,
    person: Person,
    key: str,
    tool: int,
    bar: int,
    readings_mm: Sequence[float],
    said: str,
    read_on: str,
    today: datetime.date,
) -> int:
    """Record the readings of a reference bar by a tool, and return their id. Raises `Refused` for what is no check."""
    check_may(person, "measure")
    day = _day(read_on, "read_on")
    if day > today:
        raise Refused("A check is written down once it was read, not before.", field="read_on", value=read_on)

    def work(connection: Connection) -> dict[str, Any]:
        own, its_bar = tools.find_tool(connection, tool), tools.find_tool(connection, bar)
        check = the_check(own, its_bar, readings_mm)
        kept = BarRead(read_on=day.isoformat(), bar=its_bar.name, said=said[:2000], check=check)
        return {"id": tools.note_event(connection, own, kept, person.id)}

    return int(desk.once(person, key, f"check tool {tool}", work)["id"])


def the_check(tool: ShopTool, bar: ShopTool, readings_mm: Sequence[float]) -> CheckTool:
    """Return a check as it is judged. Raises `Refused` where the tool reads no length, or the bar is none."""
    ends = READS_A_BAR.get(tool.kind)
    if ends is None:
        raise Refused(f"{tool.name} reads no length of a bar: calibrate it.", field="bar", value=bar.id)
    if bar.length_mm is None:
        raise Refused(f"{bar.name} is no reference bar.", field="bar", value=bar.id)
    check = CheckTool(
        sigma_mm=tool.sigma_mm,
        ends=ends,
        bar_mm=bar.length_mm,
        bar_sigma_mm=bar.sigma_mm,
        readings_mm=tuple(readings_mm),
    )
    check_tool(check)
    return check


def take_tool_event_back(desk: Desk, person: Person, key: str, tool: int, event: int) -> None:
    """Take a calibration or a check back that was noted by mistake: it stays, and counts no longer."""
    check_may(person, "keep tools")

    def work(connection: Connection) -> dict[str, Any]:
        tools.take_event_back(connection, tools.find_tool(connection, tool), event, person.id)
        return {}

    desk.once(person, key, f"tool event {event} back", work)


def _day(text: str, field: str) -> datetime.date:
    try:
        return datetime.date.fromisoformat(text.strip())
    except ValueError:
        raise Refused("A day is written like 2026-11-26.", field=field, value=text[:40]) from None
