"""The dry fit: gaps read, what still stands in the way of welding, and the signature that lets it begin. Also all signing."""

import json

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.facts import HoldName
from fairsquare.core.release.holds import HOLD_TITLES, may_sign
from fairsquare.store.people import Session
from fairsquare.web.forms import unit_of
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in

router = APIRouter()
PAGE_OF: dict[HoldName, str] = {
    "made_safe": "take-in",
    "setup_accepted": "set-up",
    "decision_made": "decide",
    "pulls_done": "pulls",
    "fit_accepted": "fit",
}


@router.get("/jobs/{number}/fit")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the gaps and the hold before final welding."""
    return _page(request, session, number)


@router.post("/jobs/{number}/gaps")
def read_gap(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record a gap."""
    try:
        desk_of(request).read_gap(
            form.session.person,
            form.key,
            number,
            form.text("place"),
            form.text("said"),
            form.text("target"),
            form.text("tolerance"),
            unit_of(form.text("unit")),
        )
    except FairSquareError as fault:
        return _page(request, form.session, number, fault=fault, typed=form.typed())
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
    return go_to(job_path(number, "record" if name == "fit_accepted" else PAGE_OF[name]))


def _hold_name(text: str) -> HoldName:
    if text not in HOLD_TITLES:
        raise Refused("There is no such hold point.", field="hold", value=text[:40])
    return text


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
        back=PAGE_OF[hold.name],
        signatures=[s for s in view.facts.signatures if s.hold == hold.name],
        picture=view.state.picture,
    )


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    latest = {gap.place: gap for gap in view.facts.gaps}
    return render(
        request,
        "fit.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="fit",
        gaps=list(latest.values()),
        older=[gap for gap in view.facts.gaps if latest[gap.place].id != gap.id],
        hold=view.state.hold("fit_accepted"),
        call_unit=unit_of(request.cookies.get("call_unit", "mm")),
    )
