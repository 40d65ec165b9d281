"""Measuring: the call line, the drawing with the leaning squares, the table beside it, the readings and the row of gauges."""

from functools import partial
from typing import Any, Literal, NamedTuple

from fastapi import APIRouter, Depends, Request, Response
from fastapi.responses import HTMLResponse
from markupsafe import Markup

from fairsquare.actions import JobView, Unsure, measuring
from fairsquare.actions.hearing import reading_of
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.lengths import Unit
from fairsquare.core.measure.adjust import AdjustedObservation, SightLine
from fairsquare.core.measure.conformity import PointJudgement
from fairsquare.core.measure.one_reading import judge_reading
from fairsquare.core.sheet.model import Point, Sheet, SpanMode, partner_code, points_by_code
from fairsquare.drawings.gauges import gauge_row, hung_gauges
from fairsquare.drawings.structure import ends, plan_and_sides
from fairsquare.job.facts.measure import ReadingFact
from fairsquare.job.measure.calls import Call, Context, understand_call
from fairsquare.job.measure.counted import counting
from fairsquare.job.measure.expected import Meaning, cross_pairs, meaning_of, partners_by_letter
from fairsquare.job.measure.picture import Picture, sight_now, sight_of
from fairsquare.job.measure.tools import ShopTool
from fairsquare.store import jobs
from fairsquare.store.kept import Kept
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import MOVED, call_unit_of, called_ago, figures, remember_unit, setup_or_none, unit_of, whole
from fairsquare.web.page import (
    Form,
    desk_of,
    drawn_once,
    go_to,
    job_path,
    part,
    render,
    sent_form,
    signed_in,
    tools_of,
    units_of,
)
from fairsquare.web.points_table import table_rows
from fairsquare.web.room import drawing_px
from fairsquare.words.lengths import Units

router = APIRouter()
FACTORS = (1.0, 50.0)
Seen = Literal["sides", "ends", "gauges", "readings"]
SEEN: dict[Seen, str] = {"sides": "above, sides", "ends": "ends", "gauges": "gauges", "readings": "readings"}


class ReadingRow(NamedTuple):
    """A reading as the table shows it: what it means, how it fits the others, and why it does not count."""

    reading: ReadingFact
    meaning: Meaning | None
    fits: AdjustedObservation | None
    why_not: str


@router.get("/jobs/{number}/measure")
def show(
    request: Request, number: str, point: str = "", seen: Seen = "sides", session: Session = Depends(signed_in)
) -> Response:
    """Show the structure as measured; `point` is the one that is looked at, `seen` what is drawn."""
    return _page(request, session, number, point=point, seen=seen)


@router.get("/jobs/{number}/measure/drawn", dependencies=[Depends(signed_in)])
def drawn(request: Request, number: str, point: str = "", seen: Seen = "sides") -> Response:
    """Draw the structure as measured now: what a reading that was answered before it was drawn asks for next. Where nothing is to
    be drawn any more, as in a set-up that somebody voided meanwhile, the page is told to ask for itself anew."""
    view = desk_of(request).view(number)
    if view.facts.sheet is None or view.state.picture is None or seen not in ("sides", "ends"):
        return Response(status_code=204, headers={"HX-Trigger": "changed"})
    chosen = points_by_code(view.facts.sheet).get(point)
    return HTMLResponse(_structure(request, view, view.facts.sheet, view.state.picture, seen, chosen))


@router.get("/jobs/{number}/measure/understood")
def understood(
    request: Request,
    number: str,
    call: str = "",
    unit: str = "mm",
    mode: str = "",
    tool: str = "",
    session: Session = Depends(signed_in),
) -> Response:
    """Say what a call was understood to be, and what it would mean, before it is taken."""
    view = desk_of(request).view(number)
    call_read, fault, point, judged, meaning = None, None, None, None, None
    if call.strip():
        try:
            call_read = understand_call(call[:500], _context(request, view, unit, mode, tool))
            if call_read.kind == "point":
                point, judged = _judged(view, call_read)
            else:
                meaning = meaning_of(view.facts.sheet, call_read, _sight_now(view))
        except FairSquareError as wrong:
            fault = wrong
    return render(
        request,
        "parts/understood_point.html",
        session,
        status=422 if fault else 200,
        found=call_read,
        fault=fault,
        point=point,
        judged=judged,
        meaning=meaning,
    )


def _refused(
    request: Request, session: Session, number: str, *, fault: FairSquareError | None = None, form: Form
) -> Response:
    del session
    unit = unit_of(form.text("unit")) if form.text("unit") else None
    return _answer(request, form, number, fault=fault, unit=unit)


@router.post("/jobs/{number}/readings")
@shown_again(_refused)
def take(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Take a reading by the call line; `replaces` makes it the correction of an earlier one."""
    unit = unit_of(form.text("unit"))
    view = desk_of(request).view(number)
    context = _context(request, view, form.text("unit"), form.text("mode"), form.text("tool"))
    call = understand_call(form.text("call")[:500], context)
    replaces = whole(form.text("replaces"), "replaces") if form.text("replaces") else None
    before = next((r for r in view.facts.readings if r.id == replaces), None) if replaces is not None else None
    if replaces is not None and (before is None or set(before.codes) != set(call.codes)):
        raise Refused(
            f"A correction names the points that it corrects: {' and '.join(call.codes)} is another reading.",
            field="call",
            value=call.code,
        )
    reading = reading_of(
        call,
        form.text("call").strip(),
        tools_of(request),
        chosen=figures(form.text("tool")),
        loaded=form.text("loaded") == "yes",
        replaces=replaces,
        called_ago_s=called_ago(form),
    )
    measuring.take_readings(desk_of(request), form.session.person, form.key, number, setup_or_none(form), [reading])
    return remember_unit(_answer(request, form, number, point=call.code, unit=unit), unit)


@router.post("/jobs/{number}/take-back")
@shown_again(_refused)
def take_back(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Take a reading back: the one named, or the last."""
    view = desk_of(request).view(number)
    reading = whole(form.text("reading"), "reading") if form.text("reading") else None
    reading = reading or desk_of(request).last_own_reading(view, "point")
    if reading is None:
        raise Unsure("There is no reading to take back in this set-up.")
    measuring.take_back(desk_of(request), form.session.person, form.key, number, reading)
    code = next((fact.code for fact in view.facts.readings if fact.id == reading), "")
    return _answer(request, form, number, point=code)


@router.post("/jobs/{number}/readings/{reading}/decision")
@shown_again(_refused)
def decide(request: Request, number: str, reading: int, form: Form = Depends(sent_form)) -> Response:
    """Keep a reading out of the picture, or use it again, with a reason."""
    keep_out = form.text("keep_out", "yes") == "yes"
    measuring.decide_on_reading(
        desk_of(request), form.session.person, form.key, number, reading, keep_out, form.text("reason")
    )
    return _answer(request, form, number)


@router.post("/jobs/{number}/order")
@shown_again(_refused)
def order(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Ask the connected instrument to read one point, or all that are not read."""
    view = desk_of(request).view(number)
    code = form.text("code")
    judged = view.state.picture.judged if view.state.picture else {}
    codes = [code] if code else [judgement for judgement, point in judged.items() if point.state == "unread"]
    if not codes:
        raise Unsure("Every point is read. Touch a point to have it read again.")
    setup = whole(form.text("setup"), "setup")
    measuring.order_readings(desk_of(request), form.session.person, form.key, number, setup, "point", codes)
    return go_to(job_path(number, "measure") + f"?wait=1&point={code}")


@router.get("/jobs/{number}/changed", dependencies=[Depends(signed_in)])
def changed(request: Request, number: str, revision: int) -> Response:
    """Say, to a page that shows a job at `revision`, whether anything was recorded since."""
    job = desk_of(request).database.run(lambda c: jobs.find_job(c, number))
    return Response(status_code=204, headers={} if job.revision == revision else {"HX-Trigger": "changed"})


def _context(request: Request, view: JobView, unit: str, mode: str, tool: str) -> Context:
    """Return what a call is understood by: the sheet's places, the unit, how spans are meant, and the gauges' pin."""
    sheet = view.facts.sheet
    gauges = [tool for tool in tools_of(request) if tool.kind == "gauges"]
    chosen = next((gauge for gauge in gauges if str(gauge.id) == tool), gauges[0] if gauges else None)
    meant: SpanMode = "datum_parallel" if mode == "flat" else "point_to_point"
    return Context(
        places={point.code: point.xyz for point in sheet.points} if sheet else {},
        unit=unit_of(unit),
        pin_mm=chosen.pin_mm if chosen else None,
        mode=meant,
    )


def _sight_now(view: JobView) -> SightLine | None:
    joined = view.state.picture.joined if view.state.picture else None
    return joined.sights.get(sight_now(view.facts)) if joined else None


def _judged(view: JobView, call: Call) -> tuple[Point | None, PointJudgement | None]:
    """Return the point called, and what this reading alone says of it; nothing where there is no set-up, or under load."""
    sheet, picture = view.facts.sheet, view.state.picture
    if sheet is None:
        return None, None
    point = points_by_code(sheet)[call.code]
    if picture is None or call.xyz is None or call.loaded:
        return point, None
    return point, judge_reading(sheet, picture.fit, picture.setup.sigma_mm, call.code, call.xyz)


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
    seen: Seen = next((way for way in SEEN if way == form.text("seen")), "sides")
    if fault is None and not request.headers.get("hx-request"):
        return go_to(job_path(number, "measure") + f"?seen={seen}" + (f"&point={point}" if point else ""))
    looked_at = point or form.text("point")
    return _page(request, form.session, number, point=looked_at, seen=seen, fault=fault, typed=form.typed(), unit=unit)


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    point: str = "",
    seen: Seen = "sides",
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
    unit: Unit | None = None,
) -> Response:
    view = desk_of(request).view(number)
    facts, picture = view.facts, view.state.picture
    if picture is None:
        seen = "readings"
    judged = picture.judged if picture else {}
    points = points_by_code(facts.sheet) if facts.sheet else {}
    chosen = points.get(point)
    setup = view.setup.number if view.setup else None
    looked_through = facts.readings if point and setup is not None else ()
    of_it = (r for r in reversed(looked_through) if point in r.codes and r.setup == setup)
    still = (r for r in reversed(counting(looked_through)) if point in r.codes and r.setup == setup)
    states = [judgement.state for judgement in judged.values()]
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
        seen_names=SEEN,
        counts={state: states.count(state) for state in ("off", "close", "fair", "unread")},
        own=next(of_it, None),
        mine=next((r for r in still if r.purpose == "point"), None),
        hold=view.state.hold("setup_accepted"),
        call_unit=unit or call_unit_of(request),
        call_tool=(typed or {}).get("tool", ""),
        call_mode=(typed or {}).get("mode", ""),
        tools=_span_tools(tools_of(request)),
        newest=next((r for r in reversed(facts.readings) if r.taken_back is None), None),
        moved=MOVED,
        waiting="wait" in request.query_params,
        out_of_band=bool(request.headers.get("hx-request")),
        **_pane(request, view, seen, chosen, points, answers_reading=request.method == "POST" and fault is None),
    )


class _Page(NamedTuple):
    """What a drawing of a job depends on beside what was read: how it is seen, and how large."""

    job: int
    sheet_version: int | None
    seen: Seen
    factor: float
    room: float
    units: Units


def _page_of(request: Request, view: JobView, seen: Seen) -> _Page:
    factor = _factor(request.cookies.get("factor", ""))
    return _Page(view.job.id, view.facts.sheet_version, seen, factor, drawing_px(request), units_of(request))


def _structure(
    request: Request, view: JobView, sheet: Sheet, picture: Picture, seen: Seen, chosen: Point | None
) -> Markup:
    """Draw the structure, once for each revision of the job."""
    page = _page_of(request, view, seen)
    draw = ends if seen == "ends" else partial(plan_and_sides, units=page.units)
    code = chosen.code if chosen else None
    link = f"/jobs/{view.job.number}/measure?seen={seen}&point="
    drawing = drawn_once(
        request,
        (page, view.job.revision, code),
        lambda: draw(sheet, picture.judged, page.factor, code, link, picture.placed, width=page.room),
    )
    request.app.state.drawn.put(("newest", page), drawing)
    return drawing


def _drawn_before(request: Request, view: JobView, seen: Seen) -> Markup | None:
    """Return the structure as it was drawn last on a page like this, by whomever."""
    kept: Kept[Markup] = request.app.state.drawn
    return kept.look(("newest", _page_of(request, view, seen)))


def _pane(
    request: Request,
    view: JobView,
    seen: Seen,
    chosen: Point | None,
    points: dict[str, Point],
    *,
    answers_reading: bool,
) -> dict[str, Any]:
    """Return what the two panes show: a drawing or the readings, and the table of points. Whoever called a reading has the figures
    at once, beside the drawing before it, in whose place the page then asks for the drawing with it: `late`."""
    facts, picture = view.facts, view.state.picture
    factor = _factor(request.cookies.get("factor", ""))
    drawing, table, late = None, None, False
    if facts.sheet and picture:
        sheet, unit_shown = facts.sheet, units_of(request)
        if seen in ("sides", "ends"):
            before = _drawn_before(request, view, seen) if answers_reading else None
            late = before is not None
            drawing = before or _structure(request, view, sheet, picture, seen, chosen)
        elif seen == "gauges":
            gauges = hung_gauges(sheet, picture, counting(facts.readings), _sight_now(view))
            drawing = gauge_row(gauges, factor, drawing_px(request)) if gauges else None
        table = drawn_once(
            request,
            (view.job.id, view.job.revision, seen, chosen.code if chosen else "", unit_shown),
            lambda: part(
                "parts/points_table.html",
                rows=table_rows(
                    picture.judged, points, chosen.code if chosen else None, f"?seen={seen}&point=", unit_shown
                ),
            ),
        )
    partners = (
        {code: other for code, p in points.items() if (other := partner_code(p))}
        if points
        else partners_by_letter(code for r in facts.readings for code in r.codes)
    )
    return {
        "factor": factor,
        "drawing": drawing,
        "late": late,
        "table": table,
        "rows": _rows(view) if seen == "readings" else [],
        "crosses": cross_pairs(counting(facts.readings), partners) if seen == "readings" else (),
        "doubts": picture.joined.doubts if picture and picture.joined else (),
        "by_id": {r.id: r for r in facts.readings} if seen == "readings" else {},
    }


def _rows(view: JobView) -> list[ReadingRow]:
    """Return every reading of the set-up in force and every span, the newest first."""
    facts, picture = view.facts, view.state.picture
    joined = picture.joined if picture else None
    counts = {r.id for r in counting(facts.readings)}
    number = view.setup.number if view.setup else None
    codes = {point.code for point in facts.sheet.points} if facts.sheet else None
    rows = []
    for r in reversed(facts.readings):
        if r.setup != number and r.kind not in ("span", "difference"):
            continue
        known = codes is None or set(r.codes) <= codes
        sight = joined.sights.get(sight_of(facts, r)) if joined else None
        meaning = meaning_of(facts.sheet, r, sight) if r.kind != "point" and known else None
        fits = joined.readings.get(r.id) if joined else None
        rows.append(ReadingRow(r, meaning, fits, _why_not(r, counts, known)))
    return rows


def _why_not(r: ReadingFact, counts: set[int], known: bool) -> str:
    """Return why a reading does not count, in words; nothing where it does."""
    if r.taken_back:
        return f"taken back by {r.taken_back.name}"
    if r.kept_out:
        return f"kept out by {r.kept_out.by.name}: {r.kept_out.reason}"
    if r.id not in counts:
        return "corrected"
    if r.loaded:
        return "under load"
    if r.stale:
        return "before the last move"
    return "" if known else "not on this sheet"


def _span_tools(tools: tuple[ShopTool, ...]) -> list[ShopTool]:
    """Return the tools between which a call does not tell: trams and tapes, trams first."""
    return sorted((tool for tool in tools if tool.kind in ("tram", "tape")), key=lambda tool: tool.kind != "tram")


def _factor(text: str) -> float:
    return float(min(max(figures(text, 6) or 10, FACTORS[0]), FACTORS[1]))
