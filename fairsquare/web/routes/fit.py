"""The dry fit: gaps called, what moved, panels hung, what still stands in the way of welding, and all signing."""

import json
from typing import Any, cast

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import finishing, gaps, measuring
from fairsquare.actions.desk import JobView
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.fit.call import understand_gap
from fairsquare.core.fit.said import WAYS, FitSaid
from fairsquare.core.fit.square import SPAN_NAMES, Spans, SquareUp, square_up
from fairsquare.core.measure.conformity import PointJudgement
from fairsquare.core.sheet.model import Sheet
from fairsquare.core.sheet.spans import SheetSpans, sheet_spans
from fairsquare.drawings.face import face_drawing
from fairsquare.job.facts.done import FixtureSet, HingeLooked, HingeState, Hung, OpeningRead
from fairsquare.job.facts.holds import HoldName
from fairsquare.job.fit.face import Face, face_of
from fairsquare.job.fit.job import (
    STANDS,
    fit_findings,
    fit_said,
    gap_fits,
    gap_states,
    hangs_on_strip,
    near_points,
    open_fit_findings,
    panel_states,
)
from fairsquare.job.measure.ageing import stands_on
from fairsquare.job.moves import MOVES, SIMPLE
from fairsquare.job.release.carried import carried
from fairsquare.job.release.handover import standing
from fairsquare.job.release.holds import may_sign
from fairsquare.job.stations import BY_KEY, is_hold
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.fit_forms import FIT_ROWS, fit_rows, fit_typed, spans_typed
from fairsquare.web.forms import call_unit_of, called_ago, code_on, number_of, remember_unit, unit_of, whole
from fairsquare.web.page import Form, desk_of, go_to, job_path, reader_of, render, sent_form, signed_in
from fairsquare.web.room import drawing_px
from fairsquare.web.row_editor import asks_for_more, row_page
from fairsquare.web.rows import needed
from fairsquare.web.times import shop_of
from fairsquare.words.lengths import in_quarters

router = APIRouter()
HINGE_STATES: dict[str, HingeState] = {"sound": "sound", "bent": "bent", "worn": "worn", "loose": "loose"}


@router.get("/jobs/{number}/fit")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the gaps and the hold before final welding."""
    return _page(request, session, number)


@router.get("/jobs/{number}/fit/understood")
def understood(
    request: Request, number: str, call: str = "", unit: str = "mm", session: Session = Depends(signed_in)
) -> Response:
    """Say what was understood of a call before it is taken."""
    view = desk_of(request).view(number)
    fault, heard = None, None
    if call.strip():
        try:
            heard = understand_gap(call, fit_said(view.facts) or FitSaid(), unit_of(unit))
        except FairSquareError as wrong:
            fault = wrong
    return render(request, "parts/gap_understood.html", session, heard=heard, fault=fault, status=200)


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    stand = stands_on(view.facts)
    states = gap_states(view.facts)
    count = {gap.id for state in states for gap in (state.rack, state.wheels) if gap}
    return render(
        request,
        "fit.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="fit",
        states=states,
        fits=gap_fits,
        beside=_beside(view),
        said=fit_said(view.facts),
        older=[gap for gap in view.facts.gaps if gap.id not in count],
        hold=view.state.hold("fit_accepted"),
        stand=stand,
        stands=STANDS,
        carried=carried(view.facts),
        free_spans=_free_spans(view),
        findings=fit_findings(view.facts, view.state.picture),
        unsettled={finding.key for finding in open_fit_findings(view.facts, view.state.picture)},
        settled={settlement.finding: settlement for settlement in view.facts.settlements},
        moves={what: MOVES[what].title for what in SIMPLE},
        log=view.facts.movements[-8:][::-1],
        call_unit=call_unit_of(request),
    )


@router.post("/jobs/{number}/gaps")
@shown_again(_page)
def read_gap(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record a gap: as it was called, or with its place, reading and target one by one."""
    unit = unit_of(form.text("unit"))
    desk, person = desk_of(request), form.session.person
    if "call" in form.data:
        gaps.call_gap(desk, person, form.key, number, form.text("call"), unit, called_ago(form))
    else:
        gaps.read_gap(
            desk,
            person,
            form.key,
            number,
            form.text("place"),
            form.text("said"),
            form.text("target"),
            form.text("tolerance"),
            unit,
        )
    return remember_unit(go_to(job_path(number, "fit")), unit)


@router.post("/jobs/{number}/fit/moved")
@shown_again(_page)
def moved(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record that something moved, or that the vehicle was let down on its wheels."""
    what, words = form.text("what"), form.text("words")
    if what not in MOVES:
        raise Refused("Say what moved.", field="what", value=what[:20])
    if what == "lowered":
        finishing.lower(desk_of(request), form.session.person, form.key, number, words)
    else:
        measuring.record_move(desk_of(request), form.session.person, form.key, number, what, words)
    return go_to(job_path(number, "fit"))


@router.post("/jobs/{number}/fit/settle")
@shown_again(_page)
def settle(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Settle a contradiction of a gap and the readings."""
    gaps.settle_fit(desk_of(request), form.session.person, form.key, number, form.text("finding"), form.text("reason"))
    return go_to(job_path(number, "fit") + "#findings")


@router.get("/jobs/{number}/fit/panels")
def panels(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the panels: hinges, trials, how each is to move; openings and fixtures."""
    return _panels(request, session, number)


def _panels(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    stand = stands_on(view.facts)
    weight_on = request.query_params.get("weight") != "off"
    done = standing(view.facts)
    face = _face(request, view, weight_on=weight_on)
    openings = [(deed, deed.what, _squared(deed.what)) for deed in done if isinstance(deed.what, OpeningRead)]
    sheet = view.facts.sheet
    return render(
        request,
        "fit_panels.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="fit",
        panels=panel_states(view.facts, stand, weight_on=weight_on),
        weight_on=weight_on,
        quarters=in_quarters,
        face=face,
        drawn=face_drawing(
            fit_said(view.facts) or FitSaid(),
            gap_states(view.facts),
            stand,
            [step.panel for step in face.steps] if face else [],
            units=reader_of(request).units,
            width=drawing_px(request),
        ),
        stand=stand,
        stands=STANDS,
        fits=gap_fits,
        hinge_states=HINGE_STATES,
        span_names=SPAN_NAMES,
        openings=openings[::-1],
        fixtures=[(deed, deed.what, _fixture(view, deed.what)) for deed in done if isinstance(deed.what, FixtureSet)],
        log=[deed for deed in view.facts.done if deed.kind in ("hung", "hinge", "opening", "fixture")][::-1],
        codes=[point.code for point in sheet.points] if sheet else [],
    )


@router.post("/jobs/{number}/fit/panels")
@shown_again(_panels)
def note(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record a trial hanging, a hinge looked at, an opening measured, or a fixture set."""
    desk, person = desk_of(request), form.session.person
    view = desk.view(number)
    done = _set_so(request, view, form) if form.text("do") == "set" else _done(form, view.facts.sheet)
    finishing.note(desk, person, form.key, number, done)
    return go_to(job_path(number, "fit/panels") + f"#{form.text('at')}"[:60])


def _face(request: Request, view: JobView, *, weight_on: bool) -> Face | None:
    """Return the panels as one face, with the turns and shims of this shop."""
    shop = shop_of(request)
    return face_of(
        view.facts,
        stands_on(view.facts),
        weight_on=weight_on,
        thread_mm=shop.thread_mm or None,
        shim_mm=shop.shim_mm or None,
    )


def _set_so(request: Request, view: JobView, form: Form) -> Hung:
    """Return the next panel as set by its step: what each hinge was moved by, and what its gaps are to become. Raises `Refused`
    where another comes first by now."""
    face = _face(request, view, weight_on=form.text("weight") != "off")
    step = face.steps[0] if face and face.steps else None
    panel = form.text("panel")[:40]
    if step is None or step.panel != panel or face is None or face.hung is None:
        first = f"{step.panel} comes first" if step else "no panel is to be moved"
        raise Refused(f"By the gaps as they are read now {first}: look at the steps again.", field="panel", value=panel)
    minutes = number_of(form.text("minutes"), "minutes") or 0.0
    if minutes < 0:
        raise Refused("Minutes of 0 or more.", field="minutes", value=minutes)
    moves = face.hung.touch.moves if face.hung.touch else face.hung.moves
    strip = hangs_on_strip(view.facts, panel)
    return Hung(panel=panel, strip=strip, minutes=minutes, moves=moves[panel], predicted=dict(step.gaps))


def _done(form: Form, sheet: Sheet | None) -> Any:
    """Return what a form of the panels' page says was done. Raises `Refused`."""
    kind = form.text("do")
    if kind == "hung":
        minutes = number_of(form.text("minutes"), "minutes") or 0.0
        if minutes < 0:
            raise Refused("Minutes of 0 or more.", field="minutes", value=minutes)
        off = form.text("off") == "yes"
        strip = form.text("strip") == "yes" and not off
        return Hung(
            panel=form.text("panel")[:40], off=off, strip=strip, minutes=minutes, words=form.text("words")[:2000]
        )
    if kind == "hinge":
        state = form.text("state")
        if state not in HINGE_STATES:
            raise Refused("Sound, bent, worn or loose?", field="state", value=state[:20])
        return HingeLooked(panel=form.text("panel")[:40], hinge=form.text("hinge")[:40], state=HINGE_STATES[state])
    typed = form.typed()
    if kind == "opening":
        name = " ".join(form.text("name").split())[:120]
        if not name:
            raise Refused("Which opening? Such as tailgate.", field="name", value="")
        spans, target = spans_typed(typed, "spans"), _opening_target(typed, sheet)
        sigma = needed(form.text("sigma") or "0.5", "sigma")
        tolerance = needed(form.text("within") or "3", "within")
        return OpeningRead(name=name, spans=spans, target=target, sigma_mm=sigma, tolerance_mm=tolerance)
    if kind == "fixture":
        a, b, tool = form.text("a").strip()[:40], form.text("b").strip()[:40], form.text("tool").strip()[:120]
        for field, value in (("tool", tool), ("a", a), ("b", b)):
            if not value:
                raise Refused("This is missing.", field=field, value="")
        mm = needed(form.text("mm"), "mm")
        if not 0 < mm <= 50_000:
            raise Refused("A setting is above 0 and up to 50 m.", field="mm", value=mm)
        flat = form.text("flat") == "yes"
        return FixtureSet(tool=tool, a=code_on(sheet, a), b=code_on(sheet, b), mm=mm, flat=flat)
    raise Refused("That cannot be done here.", field="do", value=kind[:20])


def _opening_target(typed: dict[str, str], sheet: Sheet | None) -> Spans:
    """Return what the spans of an opening should be: as typed, or from the sheet where its four corners are points of it."""
    corners = [code_on(sheet, corner) for corner in typed.get("corners", "").replace(",", " ").split()]
    if not corners:
        return spans_typed(typed, "target")
    if len(corners) != 4 or sheet is None:
        raise Refused(
            "Four corners in order round the opening, such as R1L R2L R2R R1R.", field="corners", value=corners
        )
    at = dict(zip("abcd", corners, strict=True))
    asked = SheetSpans(sheet=sheet, pairs=tuple((at[name[0]], at[name[1]]) for name in SPAN_NAMES))
    try:
        sheet_says = sheet_spans(asked).spans
    except FairSquareError as fault:
        raise Refused(fault.title, field="corners", value=" ".join(corners)) from None
    return Spans(**{name: span.point_to_point.mm for name, span in zip(SPAN_NAMES, sheet_says, strict=True)})


@router.post("/jobs/{number}/fit/back")
@shown_again(_panels, typed=False)
def take_back(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Take back something that was noted."""
    event = whole(form.text("event"), "event")
    finishing.take_back(desk_of(request), form.session.person, form.key, number, event)
    return go_to(job_path(number, "fit/panels"))


@router.get("/jobs/{number}/fit/list")
def edit(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the fields of panels, hinges and gaps."""
    return _editor(request, session, number)


def _editor(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    said = fit_said(view.facts) or FitSaid()
    return row_page(
        request,
        session,
        "fit_list.html",
        view,
        "fit",
        FIT_ROWS,
        fit_rows(said),
        fault,
        typed,
        (fault.field or "") if fault else "",
        said=said,
        version=finishing.version_of(view, "fit"),
        ways={way: way for way in WAYS},
        codes=[point.code for point in view.facts.sheet.points] if view.facts.sheet else [],
    )


@router.post("/jobs/{number}/fit/list")
@shown_again(_editor)
def keep(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Keep panels, hinges and gaps as they were typed."""
    typed = form.typed()
    if asks_for_more(typed):
        return _editor(request, form.session, number, typed=typed)
    said = fit_typed(typed, desk_of(request).view(number).facts.sheet)
    seen = whole(form.text("version"), "version")
    finishing.say_fit(desk_of(request), form.session.person, form.key, number, said, seen)
    return go_to(job_path(number, "fit"))


@router.get("/jobs/{number}/holds/{hold}")
def show_hold(request: Request, number: str, hold: str, session: Session = Depends(signed_in)) -> Response:
    """Show one hold point: its evidence, what is missing, and the place to sign."""
    return _hold_page(request, session, number, hold)


@router.post("/jobs/{number}/holds/{hold}")
def sign(request: Request, number: str, hold: str, form: Form = Depends(sent_form)) -> Response:
    """Sign a hold point."""
    name = _hold_name(hold)
    try:
        seen = json.loads(form.text("seen") or "{}")
        desk_of(request).sign(form.session.person, form.key, number, name, seen, form.text("reason"))
    except json.JSONDecodeError:
        return _hold_page(
            request,
            form.session,
            number,
            hold,
            fault=Refused("The page lost its evidence: load it anew.", field="seen"),
        )
    except FairSquareError as fault:
        return _hold_page(request, form.session, number, hold, fault=fault, typed=form.typed())
    return go_to(job_path(number, BY_KEY[name].onward or BY_KEY[name].page))


def _hold_name(text: str) -> HoldName:
    if not is_hold(text):
        raise Refused("There is no such hold point.", field="hold", value=text[:40])
    return cast(HoldName, text)


def _hold_page(
    request: Request,
    session: Session,
    number: str,
    name: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    hold = view.state.hold(_hold_name(name))
    return render(
        request,
        "hold.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at=hold.name,
        hold=hold,
        refusal=may_sign(hold, session.person.role),
        seen=json.dumps(hold.evidence),
        back=BY_KEY[hold.name].page,
        signatures=[s for s in view.facts.signatures if s.hold == hold.name],
        picture=view.state.picture,
    )


def _beside(view: JobView) -> dict[str, list[tuple[str, PointJudgement]]]:
    """Return the points that speak of each gap, as they are judged by their readings."""
    sheet, picture = view.facts.sheet, view.state.picture
    if sheet is None or picture is None:
        return {}
    return {
        gap_state.place: [(code, picture.judged[code]) for code in near_points(sheet, gap_state.said)]
        for gap_state in gap_states(view.facts)
    }


def _free_spans(view: JobView) -> int:
    """Return how many free spans were read since anything last moved: before it is let down some are needed."""
    pairs = {
        tuple(sorted(reading.codes))
        for reading in view.facts.readings
        if reading.kind == "span" and not reading.loaded and not reading.stale and reading.taken_back is None
    }
    return len(pairs)


def _squared(read: OpeningRead) -> Any:
    return square_up(
        SquareUp(spans_mm=read.spans, target_mm=read.target, sigma_mm=read.sigma_mm, tolerance_mm=read.tolerance_mm)
    )


def _fixture(view: JobView, fixture: FixtureSet) -> Any:
    """Return the sheet's span for a fixture, mm, and the last reading of it, where they are known."""
    sheet_mm, pointers = None, None
    if view.facts.sheet is not None:
        span = sheet_spans(SheetSpans(sheet=view.facts.sheet, pairs=((fixture.a, fixture.b),))).spans[0]
        sheet_mm = (span.datum_parallel if fixture.flat else span.point_to_point).mm
        pointers = span.pointers_mm if fixture.flat else None
    ends = {fixture.a, fixture.b}
    mode = "datum_parallel" if fixture.flat else "point_to_point"
    read = [r for r in view.facts.readings if r.kind == "span" and set(r.codes) == ends and r.mode == mode]
    counting = [r for r in read if r.taken_back is None and not r.loaded]
    return {"sheet_mm": sheet_mm, "pointers": pointers, "read": counting[-1] if counting else None}
