"""Members and references named by touching points on the sheet's drawing."""

from typing import cast, get_args
from urllib.parse import urlencode

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions.naming import Naming, name_points
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.drawings.structure import ends, plan_and_sides
from fairsquare.job.damage.bound import known_members
from fairsquare.job.damage.job import unit_of, units_of
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import figures
from fairsquare.web.page import Form, desk_of, go_to, job_path, reader_of, render, sent_form, signed_in
from fairsquare.web.room import drawing_px

router = APIRouter()
USUAL_NAMES = (
    "front rail",
    "rear rail",
    "sill",
    "cowl",
    "apron",
    "strut tower",
    "frame rail",
    "cross member",
    "opening",
)
"""Names that members usually have, to choose from; the side is added by where a point stands."""


@router.get("/jobs/{number}/sheet/members")
def show(
    request: Request, number: str, touched: str = "", touch: str = "", session: Session = Depends(signed_in)
) -> Response:
    """Show the sheet's drawing with the points that are touched; `touch` is the one that was touched last."""
    codes = touched[:4000].split()
    if touch:
        codes = [code for code in codes if code != touch] if touch in codes else [*codes, touch]
    return _page(request, session, number, codes)


def _again(
    request: Request, session: Session, number: str, *, fault: FairSquareError | None = None, form: Form
) -> Response:
    return _page(request, session, number, form.text("touched").split(), fault=fault, typed=form.typed())


@router.post("/jobs/{number}/sheet/members")
@shown_again(_again)
def name(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Make the points that were touched one member, or references."""
    codes = form.text("touched").split()
    do = form.text("do")
    if do not in get_args(Naming):
        raise Refused("Say what the points are: one member, or references.", field="do", value=do[:20])
    seen = form.text("seen_version")
    name_points(
        desk_of(request),
        form.session.person,
        form.key,
        number,
        codes,
        cast(Naming, do),
        form.text("member"),
        figures(seen),
    )
    return go_to(job_path(number, "sheet/members"))


def _page(
    request: Request,
    session: Session,
    number: str,
    touched: list[str],
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    sheet = view.facts.sheet
    if sheet is None:
        return go_to(job_path(number, "sheet"))
    known = {point.code for point in sheet.points}
    touched = [code for code in dict.fromkeys(touched) if code in known]
    judged = view.state.picture.judged if view.state.picture else {}
    link = f"/jobs/{number}/sheet/members?{urlencode({'touched': ' '.join(touched)})}&touch="
    units = units_of(sheet)
    stray = [point.code for point in sheet.points if point.member is None]
    names = dict.fromkeys([*(p.member for p in sheet.points if p.member), *known_members(view.facts), *USUAL_NAMES])
    return render(
        request,
        "sheet_members.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="sheet",
        sheet=sheet,
        touched=touched,
        judged=judged,
        units_named=units,
        stray=stray,
        off=[code for code in stray if code in judged and judged[code].state == "off"],
        names=[name for name in names if name not in units],
        unit_of={point.code: unit_of(point) for point in sheet.points},
        references=[point.code for point in sheet.points if point.reference],
        drawing=plan_and_sides(
            sheet, judged, link=link, touched=touched, width=drawing_px(request), units=reader_of(request).units
        ),
        ends=ends(sheet, judged, link=link, touched=touched, width=drawing_px(request)),
    )
