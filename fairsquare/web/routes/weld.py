"""Seams: planned, drawn in their order over the heat, their coupons, and the log of every weld that is made."""

from typing import Any

import numpy as np
from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import finishing, measuring
from fairsquare.actions.desk import JobView
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.sheet.model import points_by_code
from fairsquare.core.weld.seam import METHODS, PROCESSES, SeamPlan, heat_at
from fairsquare.core.weld.starting import starting_point
from fairsquare.drawings.seam import seam_drawing
from fairsquare.job.cut.job import section_states
from fairsquare.job.damage.job import units_of
from fairsquare.job.facts.done import COUPON_ENDS, LOOKS, CouponMade, WeldMade
from fairsquare.job.release.watching import drifts
from fairsquare.job.weld.job import SeamState, needs_welding, seam_states, unplanned_sections, welded
from fairsquare.store.finishing import worked_before
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import code_on, number_of, whole
from fairsquare.web.page import Form, desk_of, go_to, job_path, reader_of, render, sent_form, signed_in
from fairsquare.web.room import drawing_px
from fairsquare.web.row_editor import asks_for_more, row_page
from fairsquare.web.seam_forms import (
    ELEMENTS,
    SEAM_ROWS,
    seam_field,
    seam_fields,
    seam_of_section,
    seam_rows,
    seam_typed,
)

router = APIRouter()
LEAST_WAIT_S = 0.5
"""A shorter wait is not worth telling."""
HOLDERS = {"clamp": "clamp", "hinge": "hinge", "bolt": "bolt", "other": "something else"}


@router.get("/jobs/{number}/weld")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the seams, what they lack, and the end of welding."""
    return _page(request, session, number)


def _page(request: Request, session: Session, number: str, *, fault: FairSquareError | None = None) -> Response:
    view = desk_of(request).view(number)
    sections = {state.fact.member: state.fact.number for state in section_states(view.facts)}
    return render(
        request,
        "weld.html",
        session,
        fault=fault,
        view=view,
        spine=spine(view),
        at="weld",
        states=seam_states(view.facts),
        unplanned={member: sections[member] for member in unplanned_sections(view.facts)},
        hold=view.state.hold("fit_accepted"),
        processes=PROCESSES,
        needed=needs_welding(view.facts),
        done=welded(view.facts) if view.state.welded else None,
    )


@router.post("/jobs/{number}/weld")
@shown_again(_page, typed=False)
def finish(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record that final welding is done."""
    finishing.finish_welding(desk_of(request), form.session.person, form.key, number)
    return go_to(job_path(number, "finish"))


@router.get("/jobs/{number}/seams/{seam}")
def show_seam(
    request: Request,
    number: str,
    seam: int,
    weld: str = "",
    t: float | None = None,
    session: Session = Depends(signed_in),
) -> Response:
    """Show a seam: order, heat, settings, coupon, log."""
    return _seam(request, session, number, seam, weld=weld, at_s=t)


@router.get("/jobs/{number}/seams/{seam}/heat")
def heat(request: Request, number: str, seam: int, t: float = 0.0, session: Session = Depends(signed_in)) -> Response:
    """Return the drawing of a seam with the heat at one moment of its order."""
    state = finishing.seam_of(desk_of(request).view(number), seam)
    return render(request, "parts/seam_heat.html", session, **_heat(request, state, t))


@router.get("/jobs/{number}/seams/{seam}/plan")
def edit(
    request: Request, number: str, seam: int, section: int | None = None, session: Session = Depends(signed_in)
) -> Response:
    """Show the fields of a seam; 0 is a new one, from a section's map where one is named."""
    return _editor(request, session, number, seam, section=section)


def _editor(
    request: Request,
    session: Session,
    number: str,
    seam: int,
    *,
    section: int | None = None,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    sections = section_states(view.facts)
    known: dict[str, Any] = {"rows": {kind: [] for kind in SEAM_ROWS}, "fields": {}}
    if seam:
        plan = finishing.seam_of(view, seam).plan
        known = {"rows": seam_rows(plan), "fields": seam_fields(plan)}
    else:
        own = next((state for state in sections if state.fact.number == section), None)
        if own:
            members = units_of(view.facts.sheet) if view.facts.sheet else {}
            known = seam_of_section(own, [point.code for point in members.get(own.fact.member, ())])
    return row_page(
        request,
        session,
        "seam_plan.html",
        view,
        "weld",
        SEAM_ROWS,
        known["rows"],
        fault,
        typed,
        seam_field(fault.field or "", typed or {}) if fault else "",
        seam=seam,
        fields=typed or known["fields"],
        version=finishing.version_of(view, "seam", seam) if seam else 0,
        sections={"": "of no section"} | {str(s.fact.number): s.fact.member for s in sections},
        processes=PROCESSES,
        methods={"": "none", **METHODS},
        elements=ELEMENTS,
        holders=HOLDERS,
    )


@router.post("/jobs/{number}/seams/{seam}/plan")
@shown_again(_editor)
def keep(request: Request, number: str, seam: int, form: Form = Depends(sent_form)) -> Response:
    """Keep a seam as it was typed."""
    typed = form.typed()
    if asks_for_more(typed):
        return _editor(request, form.session, number, seam, typed=typed)
    plan = seam_typed(typed)
    sheet = desk_of(request).view(number).facts.sheet
    plan = plan.model_copy(update={"watch": tuple(code_on(sheet, code) for code in plan.watch)})
    seen = whole(form.text("version"), "version")
    own = finishing.say_seam(desk_of(request), form.session.person, form.key, number, seam, plan, seen)
    return go_to(job_path(number, f"seams/{own}"))


def _seam(
    request: Request,
    session: Session,
    number: str,
    seam: int,
    *,
    weld: str = "",
    at_s: float | None = None,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    desk = desk_of(request)
    view = desk.view(number)
    state = finishing.seam_of(view, seam)
    settings = state.settings
    before = []
    if settings is not None:
        governing = settings.governing_mm
        before = desk.database.run(lambda c: worked_before(c, state.plan.process, state.plan.metal, governing))
    following = state.next_welds(1)
    return render(
        request,
        "seam.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="weld",
        hold=view.state.hold("fit_accepted"),
        next_weld=weld if weld in {weld.id for weld in state.plan.welds} else following[0] if following else "",
        after_next=state.next_welds(4)[1:],
        processes=PROCESSES,
        methods=METHODS,
        looks=LOOKS,
        ends=COUPON_ENDS,
        start=_start(state.plan),
        before=[place for place in before if place[0] != number or place[1].seam != seam],
        watched=_watched(view, state),
        off_by_plan={move.words for move in view.facts.movements if move.what == "holder"},
        settings_words=_settings_words(state),
        waits=_waits(state),
        **_heat(request, state, at_s),
    )


@router.post("/jobs/{number}/seams/{seam}/coupon")
@shown_again(_seam)
def coupon(request: Request, number: str, seam: int, form: Form = Depends(sent_form)) -> Response:
    """Record a coupon that was made and pulled apart."""
    state = finishing.seam_of(desk_of(request).view(number), seam)
    end = form.text("end")
    if end not in COUPON_ENDS:
        raise Refused("How did it end when it was pulled apart?", field="end", value=end[:20])
    if state.settings is None:
        raise Refused("Say first what is welded: there are no settings yet.", field="settings", value="")
    for field in ("settings", "made_by"):
        if not form.text(field).strip():
            raise Refused("This is missing.", field=field, value="")
    size = number_of(form.text("size"), "size")
    if size is not None and size < 0:
        raise Refused("0 mm or more.", field="size", value=size)
    done = CouponMade(
        seam=seam,
        process=state.plan.process,
        metal=state.plan.metal,
        governing_mm=state.settings.governing_mm,
        settings=form.text("settings").strip()[:120],
        made_by=form.text("made_by").strip()[:120],
        end=end,
        size_mm=size,
        accepted=form.text("accepted") == "yes",
        words=form.text("words")[:2000],
    )
    finishing.note(desk_of(request), form.session.person, form.key, number, done)
    return go_to(job_path(number, f"seams/{seam}") + "#coupon")


@router.post("/jobs/{number}/seams/{seam}/log")
@shown_again(_seam)
def log(request: Request, number: str, seam: int, form: Form = Depends(sent_form)) -> Response:
    """Record a weld or run that was made."""
    state = finishing.seam_of(desk_of(request).view(number), seam)
    look = form.text("look")
    if look not in LOOKS:
        raise Refused("How does it look?", field="look", value=look[:20])
    if not form.text("settings").strip():
        raise Refused("With which settings?", field="settings", value="")
    done = WeldMade(
        seam=seam,
        weld=form.text("weld").strip()[:40] or "?",
        process=state.plan.process,
        settings=form.text("settings").strip()[:120],
        look=look,
        test=form.text("test")[:2000],
        words=form.text("words")[:2000],
    )
    finishing.note(desk_of(request), form.session.person, form.key, number, done)
    return go_to(job_path(number, f"seams/{seam}"))


@router.post("/jobs/{number}/seams/{seam}/back")
@shown_again(_seam, typed=False)
def take_back(request: Request, number: str, seam: int, form: Form = Depends(sent_form)) -> Response:
    """Take an entry of the log back."""
    event = whole(form.text("event"), "event")
    finishing.take_back(desk_of(request), form.session.person, form.key, number, event)
    return go_to(job_path(number, f"seams/{seam}"))


@router.post("/jobs/{number}/seams/{seam}/holder")
@shown_again(_seam, typed=False)
def holder(request: Request, number: str, seam: int, form: Form = Depends(sent_form)) -> Response:
    """Record that what only held the part came off."""
    finishing.holder_off(desk_of(request), form.session.person, form.key, number, seam, form.text("holder"))
    return go_to(job_path(number, f"seams/{seam}"))


@router.post("/jobs/{number}/seams/{seam}/watch")
@shown_again(_seam, typed=False)
def watch(request: Request, number: str, seam: int, form: Form = Depends(sent_form)) -> Response:
    """Ask the instrument to read the points that are watched."""
    desk = desk_of(request)
    view = desk.view(number)
    state = finishing.seam_of(view, seam)
    if view.setup is None:
        raise Refused("There is no set-up in force: nothing can be watched.", field="watch", value="")
    measuring.order_readings(
        desk, form.session.person, form.key, number, view.setup.number, "watch", list(state.plan.watch)
    )
    return go_to(job_path(number, f"seams/{seam}"))


def _heat(request: Request, state: SeamState, at_s: float | None) -> dict[str, Any]:
    """Return what the drawing of a seam shows at a moment: None is the end."""
    width, units = drawing_px(request), reader_of(request).units
    order, asked = state.found.order, state.found.asked
    made = {name: run.look for name, run in state.last.items()}
    if order is None or asked is None:
        return {
            "drawing": seam_drawing(state.plan, None, None, made, width=width, units=units),
            "order": None,
            "at_s": 0.0,
            "now": [],
            "state": state,
        }
    at = order.finish_s if at_s is None or not np.isfinite(at_s) else min(max(at_s, 0.0), order.finish_s + 300)
    started = [weld for weld in order.order if weld.start_s <= at]
    following = next((weld for weld in order.order if weld.start_s > at), None)
    place = next((weld for weld in state.plan.welds if following and weld.id == following.id), None)
    there = None
    if place is not None:
        there = float(heat_at(asked, order, at, np.array([(place.along_mm, place.across_mm, 0.0)]))[0])
    return {
        "drawing": seam_drawing(state.plan, order, asked, made, at, width, units),
        "order": order,
        "at_s": at,
        "there": there,
        "under_way": started[-1] if started else None,
        "following": following,
        "state": state,
    }


def _start(plan: SeamPlan) -> Any:
    method = plan.method or ("mig" if plan.metal == "aluminium" else "mag")
    return None if plan.process == "squeeze" else starting_point(plan.metal, method, min(plan.sheets_mm))


def _waits(state: SeamState) -> dict[str, float]:
    """Return how long is waited before each weld, s: 0 where it follows at once."""
    order, asked = state.found.order, state.found.asked
    if order is None or asked is None:
        return {}
    seconds = {weld.id: weld.seconds for weld in asked.welds}
    waits, free = {}, 0.0
    for weld in order.order:
        waited = weld.start_s - free
        waits[weld.id] = waited if waited >= LEAST_WAIT_S else 0.0
        free = weld.start_s + seconds[weld.id]
    return waits


def _settings_words(state: SeamState) -> str:
    plan = state.plan
    if plan.process == "squeeze":
        return "squeeze-type, as on the coupon"
    parts = [METHODS[plan.method] if plan.method else "", f"{plan.amperes:g} A" if plan.amperes else ""]
    return (
        ", ".join([part for part in (*parts, f"{plan.volts:g} V" if plan.volts else "") if part]) or "as on the coupon"
    )


def _watched(view: JobView, state: SeamState) -> list[dict[str, Any]]:
    drifted = {drift.code: drift for drift in drifts(view.facts, view.state.picture)}
    points = points_by_code(view.facts.sheet) if view.facts.sheet else {}
    return [{"code": code, "drift": drifted.get(code), "point": points.get(code)} for code in state.plan.watch]
