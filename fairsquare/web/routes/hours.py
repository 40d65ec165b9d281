"""The hours of a job: what is to be done and what comes off for it, who works on what, sold against worked, and the gaps."""

from collections.abc import Callable

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import working
from fairsquare.actions.desk import JobView
from fairsquare.actions.rights import may
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.drawings.hours import hours_bars
from fairsquare.job.intake.supplements import UNPROVEN, cross_spans, is_cross_checked
from fairsquare.job.plan.operations import USUAL_H
from fairsquare.job.plan.worked import by_person
from fairsquare.store import work
from fairsquare.store.people import Session
from fairsquare.store.work import OpenWork
from fairsquare.web.again import shown_again
from fairsquare.web.forms import whole
from fairsquare.web.hour_forms import HOUR_ROWS, hour_rows, hours_typed
from fairsquare.web.page import Form, desk_of, go_to, job_path, local_path, render, sent_form, signed_in
from fairsquare.web.row_editor import asks_for_more, row_page
from fairsquare.web.times import shown_time, typed_time, zone_of

router = APIRouter()


@router.get("/jobs/{number}/hours")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the hours of a job."""
    return _page(request, session, number)


@router.get("/jobs/{number}/hours/list")
def edit(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the fields of operations and parts."""
    return _editor(request, session, number)


def _editor(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view: JobView = desk_of(request).view(number)
    job_work = working.work_on(desk_of(request), view)
    if not may(session.person, "say hours"):
        fault = fault or Refused("Hours are planned and sold by a technician, a lead or an estimator.", field="role")
    return row_page(
        request,
        session,
        "hours_list.html",
        view,
        "hours",
        HOUR_ROWS,
        hour_rows(job_work),
        fault,
        typed,
        (fault.field or "") if fault else "",
        work=job_work,
        usual=USUAL_H,
        version=view.facts.hours.version if view.facts.hours else 0,
    )


@router.post("/jobs/{number}/hours/list")
@shown_again(_editor)
def keep(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Keep operations and parts as they were typed."""
    typed, desk = form.typed(), desk_of(request)
    if asks_for_more(typed):
        return _editor(request, form.session, number, typed=typed)
    said = hours_typed(typed, working.following(desk, desk.view(number)))
    seen = whole(form.text("version"), "version")
    working.say_hours(desk, form.session.person, form.key, number, said, seen)
    return go_to(job_path(number, "hours"))


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    running = [clock for clock in desk_of(request).database.run(work.going_on) if clock.job == number]
    by, job_work = by_person(view.facts.worked), working.work_on(desk_of(request), view)
    own = desk_of(request).database.run(lambda c: work.clocks_of(c, view.job.id, session.person.id))
    return render(
        request,
        "hours.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="hours",
        cross=cross_spans(view.facts),
        unproven=None if is_cross_checked(view.facts) else UNPROVEN,
        work=job_work,
        drawing=hours_bars(job_work.found.total_h, job_work.sold_h, job_work.worked_h),
        by=by,
        mine=next((clock for clock in running if clock.person == session.person.id), None),
        working=running,
        own_clocks=own,
        forgotten=_forgotten(running),
        time=_time(request),
    )


@router.post("/jobs/{number}/work")
@shown_again(_page, typed=False)
def start(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Start one's clock on an operation."""
    working.start_work(desk_of(request), form.session.person, form.key, number, form.text("operation"))
    return go_to(job_path(number, "hours"))


@router.post("/jobs/{number}/work/{clock}/stop")
@shown_again(_page)
def stop(request: Request, number: str, clock: int, form: Form = Depends(sent_form)) -> Response:
    """Stop a clock of work: now, or at the time that is typed."""
    text = form.text("ended").strip()
    ended = typed_time(text, "ended", zone_of(request)) if text else None
    working.stop_work(desk_of(request), form.session.person, form.key, number, clock, ended, form.text("words"))
    return go_to(local_path(form.text("back") or job_path(number, "hours")))


@router.post("/jobs/{number}/work/add")
@shown_again(_page)
def add(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record work that no clock counted."""
    zone = zone_of(request)
    day = form.text("day").strip()
    since = typed_time(f"{day}T{form.text('since').strip()}", "since", zone)
    until = typed_time(f"{day}T{form.text('until').strip()}", "until", zone)
    person, words = form.session.person, form.text("words")
    working.add_work(desk_of(request), person, form.key, number, form.text("operation"), since, until, words)
    return go_to(job_path(number, "hours"))


@router.post("/jobs/{number}/work/{clock}/back")
@shown_again(_page, typed=False)
def back(request: Request, number: str, clock: int, form: Form = Depends(sent_form)) -> Response:
    """Take a clock back that was started by mistake."""
    working.take_work_back(desk_of(request), form.session.person, form.key, number, clock)
    return go_to(job_path(number, "hours"))


@router.post("/jobs/{number}/hours/gaps")
@shown_again(_page, typed=False)
def gaps(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Raise supplement lines for what the estimate missed."""
    working.ask_for_gaps(desk_of(request), form.session.person, form.key, number, form.several("row"))
    return go_to(job_path(number, "supplements"))


@router.get("/work/strip")
def strip(request: Request, back: str = "/", session: Session = Depends(signed_in)) -> Response:
    """Return one's own clock of work, for every page."""
    mine = desk_of(request).database.run(lambda c: work.going_on(c, session.person.id))
    return render(
        request,
        "parts/work_strip.html",
        session,
        working=mine,
        forgotten=_forgotten(mine),
        time=_time(request),
        back=local_path(back),
    )


def _forgotten(running: list[OpenWork]) -> set[int]:
    return {clock.id for clock in running if working.has_to_be_said(clock)}


def _time(request: Request) -> Callable[[str], str]:
    zone = zone_of(request)
    return lambda moment: shown_time(moment, zone)
