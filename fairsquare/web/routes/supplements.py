"""Supplements of a job: lines found at any station, sent to the payer, answered, and a lead's word to go on."""

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import supplements
from fairsquare.actions.spine import spine
from fairsquare.actions.supplements import LINK_DAYS
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.job.facts.supplements import PayersAnswer
from fairsquare.job.intake.supplements import UNPROVEN, cross_spans, is_cross_checked, line_states
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import hours_of, photos_of, whole
from fairsquare.web.money import read_money, show_money
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, settings_of, signed_in
from fairsquare.web.sending import full_link

router = APIRouter()
ANSWERS: dict[PayersAnswer, str] = {"approved": "approved", "refused": "refused", "asked": "asked about"}


@router.get("/jobs/{number}/supplements")
def show(request: Request, number: str, station: str = "", session: Session = Depends(signed_in)) -> Response:
    """Show the lines that the estimate missed; `station` is where one was found."""
    return _page(request, session, number, station=station[:30])


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
    station: str = "",
    link: str = "",
    sent_before: bool = False,
) -> Response:
    station = (typed or {}).get("station", station)
    view = desk_of(request).view(number)
    states = line_states(view.facts)
    return render(
        request,
        "supplements.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="supplements",
        states=states,
        gone=[line for line in view.facts.supplement_lines if line.taken_back],
        sent=view.facts.supplements,
        cross=cross_spans(view.facts),
        unproven=None if is_cross_checked(view.facts) else UNPROVEN,
        photos=photos_of(view.facts, "supplement"),
        station=station,
        link=link,
        sent_before=sent_before,
        link_days=LINK_DAYS,
        answers=ANSWERS,
        money=show_money,
    )


@router.post("/jobs/{number}/supplements/lines")
@shown_again(_page)
def add_line(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record a line."""
    supplements.add_line(
        desk_of(request),
        form.session.person,
        form.key,
        number,
        form.text("station") or "supplement",
        form.text("words"),
        hours_of(form.text("hours")) or 0.0,
        form.text("parts"),
        read_money(form.text("amount") or "0", "amount"),
        structural=bool(form.text("structural")) or not form.text("structural_asked"),
    )
    return go_to(job_path(number, "supplements"))


@router.post("/jobs/{number}/supplements/lines/{line}/take-back")
@shown_again(_page, typed=False)
def take_back(request: Request, number: str, line: int, form: Form = Depends(sent_form)) -> Response:
    """Ask for a line no more."""
    supplements.take_line_back(desk_of(request), form.session.person, form.key, number, line)
    return go_to(job_path(number, "supplements"))


@router.post("/jobs/{number}/supplements/lines/{line}/answer")
@shown_again(_page)
def answer(request: Request, number: str, line: int, form: Form = Depends(sent_form)) -> Response:
    """Record what the payer told us."""
    said = form.text("answer")
    if said not in ANSWERS:
        raise Refused("Approved, refused, or asked about?", field="answer", value=said[:20])
    supplements.record_answer(
        desk_of(request),
        form.session.person,
        form.key,
        number,
        line,
        said,
        form.text("words"),
        form.text("named"),
    )
    return go_to(job_path(number, "supplements"))


@router.post("/jobs/{number}/supplements/lines/{line}/go-ahead")
@shown_again(_page)
def go_ahead(request: Request, number: str, line: int, form: Form = Depends(sent_form)) -> Response:
    """Let work on a line go on without the payer's word."""
    supplements.go_ahead(desk_of(request), form.session.person, form.key, number, line, form.text("reason"))
    return go_to(job_path(number, "supplements"))


@router.post("/jobs/{number}/supplements/send")
@shown_again(_page)
def send(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Send lines to the payer; the link is shown once, on the answer."""
    days = whole(form.text("days"), "days")
    lines = tuple(whole(line, "lines") for line in form.several("lines"))
    code = supplements.send(
        desk_of(request),
        form.session.person,
        form.key,
        number,
        form.text("payer"),
        lines,
        days,
        settings_of(request).workshop,
    )
    link = full_link(request, f"/supplement/{code}") if code else ""
    return _page(request, form.session, number, link=link, sent_before=code is None)


@router.post("/jobs/{number}/supplements/{supplement}/withdraw")
@shown_again(_page, typed=False)
def withdraw(request: Request, number: str, supplement: int, form: Form = Depends(sent_form)) -> Response:
    """Have a link lead nowhere any more."""
    supplements.withdraw(desk_of(request), form.session.person, form.key, number, supplement)
    return go_to(job_path(number, "supplements"))
