"""Tools: what the shop measures with, how well each reads, and how far it reaches."""

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import tooling
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.lengths import read_length
from fairsquare.core.measure.tools import TOOL_KINDS
from fairsquare.store.people import Session
from fairsquare.web.page import Form, desk_of, go_to, render, sent_form, signed_in

router = APIRouter()
_REACH = ("from_mm", "to_mm", "pointer_mm", "pin_mm")


@router.get("/tools")
def show(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show the tools that the shop owns."""
    return _page(request, session)


@router.post("/tools")
def add(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Add a tool; lengths are taken in any unit."""
    try:
        kind = form.text("kind")
        if kind not in TOOL_KINDS:
            raise Refused(f"Say what it is: {', '.join(TOOL_KINDS.values())}.", field="kind", value=kind[:40])
        sigma = float(read_length(form.text("sigma_mm"), "mm", field="sigma_mm").mm)
        reach = {
            name: float(read_length(form.text(name), "mm", field=name).mm) if form.text(name).strip() else None
            for name in _REACH
        }
        tooling.add_tool(desk_of(request), form.session.person, form.key, form.text("name"), kind, sigma, **reach)
    except FairSquareError as fault:
        return _page(request, form.session, fault=fault, typed=form.typed())
    return go_to("/tools")


@router.post("/tools/{tool}/retire")
def retire(request: Request, tool: int, form: Form = Depends(sent_form)) -> Response:
    """Retire a tool."""
    try:
        tooling.retire_tool(desk_of(request), form.session.person, form.key, tool)
    except FairSquareError as fault:
        return _page(request, form.session, fault=fault)
    return go_to("/tools")


def _page(
    request: Request, session: Session, *, fault: FairSquareError | None = None, typed: dict[str, str] | None = None
) -> Response:
    return render(
        request, "tools.html", session, fault=fault, typed=typed, tools=desk_of(request).tools(), kinds=TOOL_KINDS
    )
