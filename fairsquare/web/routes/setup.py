"""The set-up: reference points read, the fit judged, the choice where it is ambiguous, and what makes it void."""

import datetime

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import JobView, measuring
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.lengths import Unit, read_length
from fairsquare.core.measure.calibration import Standing, standing
from fairsquare.core.measure.observations import SetupKind
from fairsquare.drawings.residuals import residuals_drawing
from fairsquare.files.sheets import rows_from_file, rows_from_text
from fairsquare.job.facts.measure import NewReading
from fairsquare.job.measure.calls import understand_point
from fairsquare.job.measure.counted import counting, reference_readings
from fairsquare.job.measure.picture import picture_of
from fairsquare.store import tools as kept_tools
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import MOVED, call_unit_of, remember_unit, setup_number, unit_of, whole
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in, tools_of
from fairsquare.web.room import drawing_px

router = APIRouter()
USUAL = (
    ("3-D instrument", "0.3"),
    ("measuring bridge with pointers", "0.7"),
    ("gauges, line, tape and tram", "1"),
)
"""What a set-up may be made with where the shop lists no instrument."""


@router.get("/jobs/{number}/set-up")
def show(request: Request, number: str, setup: int | None = None, session: Session = Depends(signed_in)) -> Response:
    """Show the set-up in force, or an older one by its number."""
    return _page(request, session, number, older=setup)


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
    older: int | None = None,
) -> Response:
    view = desk_of(request).view(number)
    facts = view.facts
    setup, picture = view.setup or next(reversed(facts.setups), None), view.state.picture
    if older is not None and (setup is None or older != setup.number):
        setup = next((setup for setup in facts.setups if setup.number == older), None)
        picture = picture_of(facts, setup, facts.sheet, include_stale=True) if setup and facts.sheet else None
    readings = reference_readings(facts, setup.number) if setup else ()
    kept = {reading.id for reading in counting(facts.readings)}
    gone = [
        r for r in facts.readings if setup and r.setup == setup.number and r.purpose == "reference" and r.id not in kept
    ]
    in_force = setup is not None and setup.left is None and setup == view.setup
    return render(
        request,
        "setup.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="set-up",
        setup=setup,
        in_force=in_force,
        picture=picture,
        fit=picture.fit if picture else None,
        readings={reading.code: reading for reading in readings if reading.kind == "point"},
        gone=gone,
        references=[p for p in facts.sheet.points if p.reference] if facts.sheet else [],
        drawing=residuals_drawing(facts.sheet, picture.fit, drawing_px(request))
        if facts.sheet and picture and picture.fit
        else None,
        hold=view.state.hold("setup_accepted"),
        call_unit=unit_of(typed["unit"]) if typed and "unit" in typed else call_unit_of(request),
        instruments=[tool for tool in tools_of(request) if tool.kind == "instrument"],
        instrument_standing={} if in_force else _standing(request),
        usual=USUAL,
        moved=MOVED,
        waiting="wait" in request.query_params,
    )


@router.post("/jobs/{number}/set-up")
@shown_again(_page)
def open_setup(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Open a set-up with an instrument and how well it reads."""
    sigma = _sigma(request, form)
    kind: SetupKind = "sight" if form.text("kind") == "sight" else "instrument"
    measuring.open_setup(desk_of(request), form.session.person, form.key, number, form.text("instrument"), sigma, kind)
    return go_to(job_path(number, "set-up"))


@router.get("/jobs/{number}/set-up/understood")
def understood(
    request: Request, number: str, call: str = "", unit: str = "mm", session: Session = Depends(signed_in)
) -> Response:
    """Say what a call was understood to be, before it is taken."""
    view = desk_of(request).view(number)
    point_read, fault = None, None
    if call.strip():
        try:
            point_read = understand_point(call[:500], reference_codes(view), unit_of(unit))
        except FairSquareError as wrong:
            fault = wrong
    return render(
        request,
        "parts/understood_reference.html",
        session,
        found=point_read,
        fault=fault,
        status=200 if not fault else 422,
    )


@router.post("/jobs/{number}/set-up/references")
@shown_again(_page)
def take_reference(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Take one reading of a reference point by the call line."""
    unit = unit_of(form.text("unit"))
    view = desk_of(request).view(number)
    call = understand_point(form.text("call")[:500], reference_codes(view), unit)
    if call.loaded:
        raise Refused("References are read free: let go first, then read.", field="call", value=form.text("call"))
    reading = NewReading(purpose="reference", code=call.code, xyz=call.xyz, said=form.text("call").strip())
    measuring.take_readings(desk_of(request), form.session.person, form.key, number, setup_number(form), [reading])
    return remember_unit(go_to(job_path(number, "set-up")), unit)


@router.post("/jobs/{number}/set-up/paste")
@shown_again(_page)
def paste(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Take readings of many reference points from a pasted or dropped table, all or none."""
    unit = unit_of(form.text("unit"))
    chosen = form.file("file")
    rows = rows_from_file(*chosen)[0] if chosen else rows_from_text(form.text("table"))
    view = desk_of(request).view(number)
    readings = readings_from_rows(rows, reference_codes(view), unit)
    measuring.take_readings(desk_of(request), form.session.person, form.key, number, setup_number(form), readings)
    return remember_unit(go_to(job_path(number, "set-up")), unit)


@router.post("/jobs/{number}/set-up/choose")
@shown_again(_page)
def choose(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Choose which references to rely on, with a reason."""
    trusted = tuple(form.text("trusted").split()) or form.several("sound")
    measuring.choose(
        desk_of(request), form.session.person, form.key, number, setup_number(form), trusted, form.text("reason")
    )
    return go_to(job_path(number, "set-up"))


@router.post("/jobs/{number}/moved")
@shown_again(_page)
def moved(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record that vehicle, bench, bridge or structure was moved."""
    what = form.text("what")
    back = "measure" if form.text("at") == "measure" else "set-up"
    if what not in MOVED:
        raise Refused("Say what was moved: vehicle, bench, bridge or structure.", field="what", value=what[:40])
    measuring.record_move(desk_of(request), form.session.person, form.key, number, what, form.text("words"))
    return go_to(job_path(number, back))


@router.post("/jobs/{number}/set-up/take-back")
@shown_again(_page)
def take_back(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Take a reference reading back."""
    measuring.take_back(desk_of(request), form.session.person, form.key, number, whole(form.text("reading"), "reading"))
    return go_to(job_path(number, "set-up"))


@router.post("/jobs/{number}/set-up/order")
@shown_again(_page)
def order(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Ask the connected instrument for the references that are not read, or, where all are, for all of them again."""
    view = desk_of(request).view(number)
    setup = setup_number(form)
    read = {reading.code for reading in reference_readings(view.facts, setup)}
    codes = [code for code in reference_codes(view) if code not in read] or reference_codes(view)
    measuring.order_readings(desk_of(request), form.session.person, form.key, number, setup, "reference", codes)
    return go_to(job_path(number, "set-up") + "?wait=1")


def reference_codes(view: JobView) -> list[str]:
    """Return the codes of the sheet's reference points."""
    return [point.code for point in view.facts.sheet.points if point.reference] if view.facts.sheet else []


def readings_from_rows(rows: tuple[tuple[str, ...], ...], codes: list[str], unit: Unit) -> list[NewReading]:
    """Return the readings of a table: code and three lengths a line, with or without a line of column names.

    Raises `Refused` that names the line, and takes none where one is wrong.
    """
    readings = []
    for number, cells in enumerate(rows, start=1):
        filled = [cell.strip() for cell in cells if cell.strip()]
        if not filled or (number == 1 and filled[0].lower() in ("code", "point")):
            continue
        try:
            call = understand_point(" ".join([filled[0], " ; ".join(filled[1:])]), codes, unit)
        except FairSquareError as fault:
            raise Refused(f"Line {number}: {fault.title}", field="table", value=", ".join(cells)[:200]) from fault
        readings.append(NewReading(purpose="reference", code=call.code, xyz=call.xyz, said=", ".join(filled)))
    if not readings:
        raise Refused("There is no reading in it: a line holds a code and three numbers.", field="table")
    return readings


def _sigma(request: Request, form: Form) -> float:
    """Return how well the instrument reads: as it was typed, else as the shop's list has it."""
    if not form.text("sigma_mm").strip():
        named = " ".join(form.text("instrument").split())
        for tool in tools_of(request):
            if tool.name == named:
                return tool.sigma_mm
    return float(read_length(form.text("sigma_mm"), "mm", field="sigma_mm").mm)


def _standing(request: Request) -> dict[str, Standing]:
    now = datetime.datetime.now(datetime.UTC).isoformat()
    return {history.name: standing(history, now) for history in desk_of(request).database.run(kept_tools.histories)}
