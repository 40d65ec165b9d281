"""Tools: what the shop measures with, how well each reads, how far it reaches; its calibrations and checks on a reference bar."""

import datetime
import re

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import tooling
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.lengths import read_length
from fairsquare.core.measure.calibration import BarRead, ToolFact, day_of, judged, standing
from fairsquare.drawings.tool_history import Checked, tool_history
from fairsquare.job.measure.tools import READS_A_BAR, TOOL_KINDS, ShopTool
from fairsquare.store import tools as kept_tools
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import whole
from fairsquare.web.page import Form, desk_of, go_to, reader_of, render, sent_form, signed_in
from fairsquare.web.times import zone_of
from fairsquare.words.said import Reader

router = APIRouter()
_REACH = ("from_mm", "to_mm", "pointer_mm", "pin_mm", "length_mm")


@router.get("/tools")
def show(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show the tools that the shop owns."""
    return _page(request, session)


def _page(
    request: Request, session: Session, *, fault: FairSquareError | None = None, typed: dict[str, str] | None = None
) -> Response:
    desk = desk_of(request)
    histories = {history.name: history for history in desk.database.run(kept_tools.histories)}
    owned, now = desk.tools(), _now()
    return render(
        request,
        "tools.html",
        session,
        fault=fault,
        typed=typed,
        tools=owned,
        kinds=TOOL_KINDS,
        standing={tool.id: standing(histories[tool.name], now) for tool in owned},
    )


@router.post("/tools")
@shown_again(_page)
def add(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Add a tool; lengths are taken in any unit."""
    kind = form.text("kind")
    if kind not in TOOL_KINDS:
        raise Refused(f"Say what it is: {', '.join(TOOL_KINDS.values())}.", field="kind", value=kind[:40])
    sigma = float(read_length(form.text("sigma_mm"), "mm", field="sigma_mm").mm)
    reach = {
        name: float(read_length(form.text(name), "mm", field=name).mm) if form.text(name).strip() else None
        for name in _REACH
    }
    tooling.add_tool(desk_of(request), form.session.person, form.key, form.text("name"), kind, sigma, **reach)
    return go_to("/tools")


@router.get("/tools/{tool}")
def show_tool(request: Request, tool: int, session: Session = Depends(signed_in)) -> Response:
    """Show a tool with its history."""
    return _tool(request, session, tool)


def _tool(
    request: Request,
    session: Session,
    number: int,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    desk = desk_of(request)
    tool = desk.database.run(lambda c: kept_tools.find_tool(c, number))
    history = next(
        history_read for history_read in desk.database.run(kept_tools.histories) if history_read.name == tool.name
    )
    bars = [bar for bar in desk.tools() if bar.kind == "bar" and bar.id != tool.id]
    verdicts = {event.id: judged(event) for event in history.events}
    return render(
        request,
        "tool.html",
        session,
        fault=fault,
        typed=typed,
        tool=tool,
        kinds=TOOL_KINDS,
        history=history,
        found=verdicts,
        day_of=day_of,
        standing=standing(history, _now()),
        drawing=_drawn(history, reader_of(request)),
        bars=bars if tool.kind in READS_A_BAR else [],
        reads_a_bar=tool.kind in READS_A_BAR,
        today=_today(request).isoformat(),
        year_on=_a_year_on(_today(request)).isoformat(),
        in_use=_is_in_use(desk.tools(), tool),
    )


@router.post("/tools/{tool}/retire")
@shown_again(_page, typed=False)
def retire(request: Request, tool: int, form: Form = Depends(sent_form)) -> Response:
    """Retire a tool."""
    tooling.retire_tool(desk_of(request), form.session.person, form.key, tool)
    return go_to("/tools")


@router.post("/tools/{tool}/calibrations")
@shown_again(_tool)
def calibrate(request: Request, tool: int, form: Form = Depends(sent_form)) -> Response:
    """Write a calibration down."""
    typed = (form.text("done_on"), form.text("due_on"), form.text("words"))
    tooling.calibrate(desk_of(request), form.session.person, form.key, tool, *typed, today=_today(request))
    return go_to(f"/tools/{tool}")


@router.post("/tools/{tool}/checks")
@shown_again(_tool)
def check(request: Request, tool: int, form: Form = Depends(sent_form)) -> Response:
    """Keep what a tool read of a reference bar."""
    readings = form.text("readings").replace("\r\n", "\n").strip()
    tooling.check_on_bar(
        desk_of(request),
        form.session.person,
        form.key,
        tool,
        whole(form.text("bar"), "bar"),
        _readings(readings),
        readings,
        form.text("read_on"),
        _today(request),
    )
    return go_to(f"/tools/{tool}")


@router.post("/tools/{tool}/events/{event}/take-back")
@shown_again(_tool, typed=False)
def take_back(request: Request, tool: int, event: int, form: Form = Depends(sent_form)) -> Response:
    """Take a calibration or a check back."""
    tooling.take_tool_event_back(desk_of(request), form.session.person, form.key, tool, event)
    return go_to(f"/tools/{tool}")


def _readings(said: str) -> list[float]:
    parts = [part for part in re.split(r"[\n;]+", said) if part.strip()]
    readings = []
    for number, part in enumerate(parts, start=1):
        try:
            readings.append(float(read_length(part, "mm", field="readings").mm))
        except FairSquareError as fault:
            raise Refused(f"Reading {number}: {fault.title}", field="readings", value=part[:40]) from None
    return readings


def _today(request: Request) -> datetime.date:
    return datetime.datetime.now(zone_of(request)).date()


def _now() -> str:
    return datetime.datetime.now(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")


def _is_in_use(owned: tuple[ShopTool, ...], tool: ShopTool) -> bool:
    return any(tool_owned.id == tool.id for tool_owned in owned)


def _a_year_on(day: datetime.date) -> datetime.date:
    return day + datetime.timedelta(days=365)


def _drawn(history: ToolFact, reader: Reader) -> object:
    return tool_history(
        [
            Checked(
                day_of(event.what),
                judged(event),
                event.taken_back is not None,
            )
            for event in sorted(history.events, key=lambda event: (day_of(event.what), event.id))
            if event.taken_back is None or isinstance(event.what, BarRead)
        ],
        reader,
    )
