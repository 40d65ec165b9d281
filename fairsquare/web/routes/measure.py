"""Measuring: the call line, the drawing with the leaning squares, the table beside it, and why each figure is so."""

from typing import Literal

import numpy as np
from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import JobView, Unsure
from fairsquare.actions.spine import spine
from fairsquare.core.axes import apply_pose
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.lengths import Unit
from fairsquare.core.measure.calls import Call, understand_call
from fairsquare.core.measure.picture import counting
from fairsquare.core.model import Row3
from fairsquare.core.sheet.model import Point, find_point, points_by_code, tolerances
from fairsquare.drawings.structure import ends, plan_and_sides
from fairsquare.store import jobs
from fairsquare.store.measuring import NewReading
from fairsquare.store.people import Session
from fairsquare.web.forms import MOVED, remember_unit, setup_number, unit_of, whole
from fairsquare.web.page import (
    Form,
    desk_of,
    drawn_once,
    go_to,
    in_units,
    job_path,
    part,
    render,
    sent_form,
    signed_in,
    units_of,
)

router = APIRouter()
FACTORS = (1.0, 50.0)


@router.get("/jobs/{number}/measure")
def show(
    request: Request,
    number: str,
    point: str = "",
    seen: Literal["sides", "ends"] = "sides",
    session: Session = Depends(signed_in),
) -> Response:
    """Show the structure as measured; `point` is the one that is looked at, `seen` the views that are drawn."""
    return _page(request, session, number, point=point, seen=seen)


@router.get("/jobs/{number}/measure/understood")
def understood(
    request: Request, number: str, call: str = "", unit: str = "mm", session: Session = Depends(signed_in)
) -> Response:
    """Say what a call was understood to be, and what it would mean for the point, before it is taken."""
    view = desk_of(request).view(number)
    found, fault, point, deviation = None, None, None, None
    if call.strip():
        try:
            found = understand_call(call[:500], _codes(view), unit_of(unit))
            point, deviation = _meaning(view, found)
        except FairSquareError as wrong:
            fault = wrong
    return render(
        request,
        "parts/understood_point.html",
        session,
        status=422 if fault else 200,
        found=found,
        fault=fault,
        point=point,
        deviation=deviation,
        state=_state(view, point, deviation),
    )


@router.post("/jobs/{number}/readings")
def take(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Take a reading by the call line; `replaces` makes it the correction of an earlier one."""
    unit = unit_of(form.text("unit"))
    try:
        view = desk_of(request).view(number)
        call = understand_call(form.text("call")[:500], _codes(view), unit)
        loaded = call.loaded if call.loaded is not None else form.text("loaded") == "yes"
        replaces = whole(form.text("replaces"), "replaces") if form.text("replaces") else None
        if replaces is not None and not any(r.id == replaces and r.code == call.code for r in view.facts.readings):
            raise Refused(
                f"A correction names the point that it corrects: {call.code} is another one.",
                field="call",
                value=call.code,
            )
        reading = NewReading("point", call.code, call.xyz, form.text("call").strip(), loaded, replaces=replaces)
        desk_of(request).take_readings(form.session.person, form.key, number, setup_number(form), [reading])
    except FairSquareError as fault:
        return _answer(request, form, number, fault=fault, unit=unit)
    return remember_unit(_answer(request, form, number, point=call.code, unit=unit), unit)


@router.post("/jobs/{number}/take-back")
def take_back(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Take a reading back: the one named, or the last."""
    try:
        view = desk_of(request).view(number)
        reading = whole(form.text("reading"), "reading") if form.text("reading") else None
        reading = reading or desk_of(request).last_own_reading(view, "point")
        if reading is None:
            raise Unsure("There is no reading to take back in this set-up.")
        desk_of(request).take_back(form.session.person, form.key, number, reading)
        code = next((one.code for one in view.facts.readings if one.id == reading), "")
    except FairSquareError as fault:
        return _answer(request, form, number, fault=fault)
    return _answer(request, form, number, point=code)


@router.post("/jobs/{number}/order")
def order(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Ask the connected instrument to read one point, or all that are not read."""
    try:
        view = desk_of(request).view(number)
        code = form.text("code")
        judged = view.state.picture.judged if view.state.picture else {}
        codes = [code] if code else [one for one, found in judged.items() if found.state == "unread"]
        if not codes:
            raise Unsure("Every point is read. Touch a point to have it read again.")
        desk_of(request).order_readings(form.session.person, form.key, number, setup_number(form), "point", codes)
    except FairSquareError as fault:
        return _answer(request, form, number, fault=fault)
    return go_to(job_path(number, "measure") + f"?wait=1&point={code}")


@router.get("/jobs/{number}/changed", dependencies=[Depends(signed_in)])
def changed(request: Request, number: str, revision: int) -> Response:
    """Say, to a page that shows a job at `revision`, whether anything was recorded since."""
    job = desk_of(request).database.run(lambda c: jobs.find_job(c, number))
    return Response(status_code=204, headers={} if job.revision == revision else {"HX-Trigger": "changed"})


@router.get("/jobs/{number}/why/{code}")
def why(request: Request, number: str, code: str, session: Session = Depends(signed_in)) -> Response:
    """Open the figures of one point into their reason: readings, fit, rule, source, what would change them."""
    view = desk_of(request).view(number)
    if view.facts.sheet is None:
        raise Unsure("There is no sheet yet.")
    point = find_point(points_by_code(view.facts.sheet), code, "code")
    picture = view.state.picture
    kept = {reading.id for reading in counting(view.facts.readings)}
    used = set(picture.used.get(code, ())) if picture else set()
    readings = [r for r in view.facts.readings if r.code == code]
    placed = picture.placed.get(code) if picture else None
    return render(
        request,
        "why.html",
        session,
        view=view,
        spine=spine(view),
        at="measure",
        point=point,
        limits=tolerances(view.facts.sheet, point),
        picture=picture,
        placed=placed,
        sigmas=[float(np.sqrt(placed.covariance[k][k])) for k in range(3)] if placed else None,
        judged=picture.judged.get(code) if picture else None,
        readings=readings,
        kept=kept,
        used=used,
    )


def _codes(view: JobView) -> list[str]:
    return [point.code for point in view.facts.sheet.points] if view.facts.sheet else []


def _meaning(view: JobView, call: Call) -> tuple[Point | None, Row3 | None]:
    """Return the point called and where the reading puts it against the sheet, when there is a fit."""
    if view.facts.sheet is None:
        return None, None
    point = points_by_code(view.facts.sheet)[call.code]
    fit = view.state.picture.fit if view.state.picture else None
    if fit is None or fit.rotation is None or fit.translation is None:
        return point, None
    place = apply_pose(np.array(fit.rotation), np.array(fit.translation), np.array([call.xyz]))[0]
    deviation = place - np.array(point.xyz)
    return point, (float(deviation[0]), float(deviation[1]), float(deviation[2]))


def _state(view: JobView, point: Point | None, deviation: Row3 | None) -> str:
    if view.facts.sheet is None or point is None or deviation is None:
        return "unread"
    limits = tolerances(view.facts.sheet, point)
    return "off" if any(abs(d) > limit for d, limit in zip(deviation, limits, strict=True)) else "fair"


def _answer(
    request: Request,
    form: Form,
    number: str,
    *,
    fault: FairSquareError | None = None,
    point: str = "",
    unit: Unit | None = None,
) -> Response:
    """Answer a write: the part of the page for htmx; for a plain browser the page again, or the way to it."""
    if fault is None and not request.headers.get("hx-request"):
        return go_to(job_path(number, "measure") + (f"?point={point}" if point else ""))
    seen: Literal["sides", "ends"] = "ends" if form.text("seen") == "ends" else "sides"
    looked_at = point or form.text("point")
    return _page(request, form.session, number, point=looked_at, seen=seen, fault=fault, typed=form.typed(), unit=unit)


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    point: str = "",
    seen: Literal["sides", "ends"] = "sides",
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
    unit: Unit | None = None,
) -> Response:
    view = desk_of(request).view(number)
    facts, picture = view.facts, view.state.picture
    judged = picture.judged if picture else {}
    points = points_by_code(facts.sheet) if facts.sheet else {}
    chosen = points.get(point)
    factor = _factor(request.cookies.get("factor", ""))
    link = f"/jobs/{number}/measure?seen={seen}&point="
    draw = ends if seen == "ends" else plan_and_sides
    own = [r for r in facts.readings if view.setup and r.setup == view.setup.number and r.code == point]
    states = [one.state for one in judged.values()]
    of_job = (view.job.id, view.job.revision, seen, chosen.code if chosen else "")
    drawing, table = None, None
    if facts.sheet:
        sheet, unit_shown = facts.sheet, units_of(request)
        drawing = drawn_once(request, (*of_job, factor), lambda: draw(sheet, judged, factor, point or None, link))
        table = drawn_once(
            request,
            (*of_job, unit_shown),
            lambda: part(
                "parts/points_table.html",
                judged=judged,
                points=points,
                chosen=chosen,
                seen=seen,
                **in_units(unit_shown),
            ),
        )
    return render(
        request,
        "parts/measure_board.html" if request.headers.get("hx-request") else "measure.html",
        session,
        fault=fault,
        typed=typed if fault else None,
        view=view,
        spine=spine(view),
        at="measure",
        setup=view.setup,
        picture=picture,
        points=points,
        judged=judged,
        chosen=chosen,
        seen=seen,
        factor=factor,
        drawing=drawing,
        table=table,
        counts={state: states.count(state) for state in ("off", "close", "fair", "unread")},
        own=own,
        kept={reading.id for reading in counting(own)},
        hold=view.state.hold("setup_accepted"),
        call_unit=unit or unit_of(request.cookies.get("call_unit", "mm")),
        last=desk_of(request).last_own_reading(view, "point"),
        moved=MOVED,
        waiting="wait" in request.query_params,
        out_of_band=bool(request.headers.get("hx-request")),
    )


def _factor(text: str) -> float:
    return min(max(float(text), FACTORS[0]), FACTORS[1]) if text.isdigit() else 10.0
