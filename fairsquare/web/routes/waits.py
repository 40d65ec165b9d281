"""What a job waits for: noted with who was asked and when it is due, said anew, and that it came."""

from typing import cast

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import waiting as deeds
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError
from fairsquare.job.facts.hours import WaitKind
from fairsquare.job.stations import HELD_UP
from fairsquare.job.waiting import WAIT_KINDS, waiting
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in
from fairsquare.web.times import field_time, shown_time, typed_time, zone_of

router = APIRouter()


@router.get("/jobs/{number}/waits")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show what a job waits for."""
    return _page(request, session, number)


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view, zone = desk_of(request).view(number), zone_of(request)
    stops = spine(view)
    return render(
        request,
        "waits.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=stops,
        at="waits",
        now=next((stop for stop in stops if stop.status == "now"), None),
        waiting=waiting(view.facts),
        over=[wait for wait in view.facts.waits if wait.over is not None],
        kinds=WAIT_KINDS,
        stations={
            "": "at once, whatever comes next",
            **{key: f"from {name} on" for key, name in HELD_UP.items()},
        },
        time=lambda moment: shown_time(moment, zone),
        field_time=lambda moment: field_time(moment, zone),
    )


@router.post("/jobs/{number}/waits")
@shown_again(_page)
def note(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Note what the job waits for."""
    deeds.note_wait(
        desk_of(request),
        form.session.person,
        form.key,
        number,
        cast(WaitKind, form.text("kind")),
        form.text("words"),
        asked_of=form.text("asked_of"),
        due_at=_typed(request, form, "due"),
        station=form.text("station"),
        since=_typed(request, form, "since"),
    )
    return go_to(job_path(number, "waits"))


@router.post("/jobs/{number}/waits/{wait}")
@shown_again(_page)
def change(request: Request, number: str, wait: int, form: Form = Depends(sent_form)) -> Response:
    """Say anew who was asked and when it is due, or that it came."""
    desk, person = desk_of(request), form.session.person
    if form.text("do") == "over":
        deeds.end_wait(desk, person, form.key, number, wait, form.text("words"))
    else:
        deeds.say_wait(desk, person, form.key, number, wait, form.text("asked_of"), _typed(request, form, "due"))
    return go_to(job_path(number, "waits"))


def _typed(request: Request, form: Form, field: str) -> str:
    text = form.text(field).strip()
    return typed_time(text, field, zone_of(request)) if text else ""
