"""The shop's tools as JSON: what it measures with, their calibrations, and their checks on a reference bar."""

import datetime
from typing import Annotated

from fastapi import APIRouter
from pydantic import Field

from fairsquare.actions import tooling
from fairsquare.api.doors import At, By
from fairsquare.api.models import Given, Key, Sent
from fairsquare.core.measure.calibration import Level, ToolEventFact, standing
from fairsquare.core.model import Model
from fairsquare.job.measure.tools import ShopTool, ToolKind
from fairsquare.store import tools as kept_tools
from fairsquare.words.tell import tell


class AddTool(Sent):
    """A measuring tool that the shop owns."""

    request_key: Key
    name: str
    kind: ToolKind
    sigma_mm: float
    from_mm: float | None = None
    to_mm: float | None = None
    pointer_mm: float | None = None
    pin_mm: float | None = None
    length_mm: float | None = None


class NoteCalibration(Sent):
    """A calibration of a tool: days as 2026-11-26, `due_on` empty where nobody said."""

    request_key: Key
    done_on: str
    due_on: str = ""
    words: str


class NoteCheck(Sent):
    """What a tool read of a reference bar (by the bar's number), mm; `read_on` empty: today."""

    request_key: Key
    bar: int
    readings_mm: Annotated[tuple[float, ...], Field(strict=False, max_length=1000)]
    read_on: str = ""


class ToolShown(Model):
    """A tool, how far it is to be trusted now, its calibrations and checks."""

    tool: ShopTool
    level: Level
    words: str
    events: tuple[ToolEventFact, ...]


router = APIRouter(prefix="/api/v1", tags=["measuring"])


@router.get("/tools")
def tools(desk: At, person: By) -> tuple[ShopTool, ...]:
    """List the measuring tools that the shop owns."""
    del person
    return desk.tools()


@router.post("/tools", status_code=201)
def add_tool(sent: AddTool, desk: At, person: By) -> Given:
    """Add a measuring tool, or a reference bar."""
    reach = {name: getattr(sent, name) for name in ("from_mm", "to_mm", "pointer_mm", "pin_mm", "length_mm")}
    return Given(ids=(tooling.add_tool(desk, person, sent.request_key, sent.name, sent.kind, sent.sigma_mm, **reach),))


@router.get("/tools/{tool}")
def tool(tool: int, desk: At, person: By) -> ToolShown:
    """Show a tool: its calibrations and checks, and how far it is to be trusted now."""
    del person
    shop_tool = desk.database.run(lambda c: kept_tools.find_tool(c, tool))
    history = next(
        tool_history for tool_history in desk.database.run(kept_tools.histories) if tool_history.name == shop_tool.name
    )
    now = standing(history, datetime.datetime.now(datetime.UTC).isoformat())
    return ToolShown(tool=shop_tool, level=now.level, words=tell(now.said), events=history.events)


@router.post("/tools/{tool}/calibrations", status_code=201)
def calibrate(tool: int, sent: NoteCalibration, desk: At, person: By) -> Given:
    """Write a calibration down."""
    sent_fields = (sent.done_on, sent.due_on, sent.words)
    return Given(ids=(tooling.calibrate(desk, person, sent.request_key, tool, *sent_fields, today=_today()),))


@router.post("/tools/{tool}/checks", status_code=201)
def check(tool: int, sent: NoteCheck, desk: At, person: By) -> Given:
    """Keep what a tool read of a reference bar."""
    readings = "; ".join(f"{mm:g}" for mm in sent.readings_mm)
    read_on = sent.read_on or _today().isoformat()
    made = tooling.check_on_bar(
        desk, person, sent.request_key, tool, sent.bar, sent.readings_mm, readings, read_on, _today()
    )
    return Given(ids=(made,))


def _today() -> datetime.date:
    return datetime.datetime.now(datetime.UTC).date()
