"""Straighten or replace: every member and layer, what the rules say, what a person decides, and the hold before pulls and cuts."""

from typing import Any
from urllib.parse import urlencode

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import JobView, deciding
from fairsquare.actions.deciding import DecisionSaid, MemberSaid
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.drawings.decisions import decisions_drawing
from fairsquare.job.damage.bound import unplaced
from fairsquare.job.damage.choices import CHOICES, LETTERS, MemberState, member_states, order_of_work
from fairsquare.job.damage.job import damage_picture, units_of
from fairsquare.job.facts.damage import MemberFact
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.findings import members_offered
from fairsquare.web.forms import hours_of, photos_of, whole
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in
from fairsquare.web.room import drawing_px
from fairsquare.web.words import ROLES, SAID_MATERIALS, SIGNS, YES_NO

router = APIRouter()


@router.get("/jobs/{number}/decide")
def show(
    request: Request, number: str, member: str = "", layer: str = "", session: Session = Depends(signed_in)
) -> Response:
    """Show what is decided of every member; `member` and `layer` are the one that is looked at."""
    return _page(request, session, number, member=member[:120], layer=layer[:60])


def _again(
    request: Request, session: Session, number: str, *, fault: FairSquareError | None = None, form: Form
) -> Response:
    """Show the member again of which was said what cannot be."""
    typed = {**form.typed(), "signs": form.several("signs")}
    member, layer = form.text("member"), form.text("layer")
    return _page(request, session, number, fault=fault, typed=typed, member=member, layer=layer)


@router.post("/jobs/{number}/decide/member")
@shown_again(_again)
def see(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record a member as it is seen, and the maker's word on it."""
    said = _member_said(form)
    deciding.see_member(desk_of(request), form.session.person, form.key, number, said)
    return _go(number, said.member, said.layer)


@router.post("/jobs/{number}/decide")
@shown_again(_again)
def decide(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record what is done with a member."""
    chosen = form.text("decision")
    if chosen not in CHOICES:
        raise Refused("Choose what is done with it.", field="decision", value=chosen[:40])
    said = DecisionSaid(
        decision=chosen,
        hours=hours_of(form.text("hours")),
        **{name: form.text(name) for name in ("reason", "gives_up", "remains", "consent", "first", "donor")},
    )
    seen = whole(form.text("seen"), "seen")
    deciding.decide(desk_of(request), form.session.person, form.key, number, seen, said)
    view = desk_of(request).view(number)
    following = next((state for state in member_states(view.facts) if state.open), None)
    return _go(number, following.member, following.layer) if following else go_to(job_path(number, "decide"))


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, Any] | None = None,
    member: str = "",
    layer: str = "",
) -> Response:
    view = desk_of(request).view(number)
    states = member_states(view.facts)
    picture = damage_picture(view.facts)
    judged = picture.judged if picture else {}
    points = units_of(view.facts.sheet) if view.facts.sheet else {}
    chosen = _chosen(states, member, layer)
    worst = {unit: _worst([judged[p.code].state for p in own if p.code in judged]) for unit, own in points.items()}
    return render(
        request,
        "decide.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="decide",
        states=states,
        order=order_of_work(states),
        chosen=chosen,
        points=points,
        judged=judged,
        worst=worst,
        description=_description(request, view, chosen, worst, typed) if chosen else None,
        fair_ones=[s for s in states if s.seen is None and not s.ticked and worst.get(s.member) == "fair"],
        drawing=decisions_drawing(
            view.facts.sheet, states, chosen.member if chosen else "", f"/jobs/{number}/decide", drawing_px(request)
        )
        if view.facts.sheet
        else None,
        photos=photos_of(view.facts, "member").get(chosen.seen.id, []) if chosen and chosen.seen else [],
        choices=CHOICES,
        letters=LETTERS,
        materials=SAID_MATERIALS,
        seen_photos=photos_of(view.facts, "walk"),
        unplaced=unplaced(view.facts),
        **members_offered(view),
        roles=ROLES,
        signs=SIGNS,
        yes_no=YES_NO,
        hold=view.state.hold("decision_made"),
    )


@router.post("/jobs/{number}/decide/keep-fair")
@shown_again(_page, typed=False)
def keep_fair(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Keep every member that is wholly read, fair and not looked at yet."""
    deciding.keep_what_is_fair(desk_of(request), form.session.person, form.key, number)
    return go_to(job_path(number, "decide"))


def _go(number: str, member: str, layer: str) -> Response:
    return go_to(f"{job_path(number, 'decide')}?{urlencode({'member': member, 'layer': layer})}")


def _member_said(form: Form) -> MemberSaid:
    words = {"yes": True, "no": False}
    return deciding.member_said(
        {
            **{name: form.text(name) for name in ("member", "layer", "material", "role", "source", "contradicts")},
            "signs": tuple(sign for sign in form.several("signs") if sign),
            **{name: words.get(form.text(name)) for name in ("straighten", "section", "heat")},
        }
    )


def _chosen(states: tuple[MemberState, ...], member: str, layer: str) -> MemberState | None:
    """Return the member that is looked at: as asked, a new one or layer as named, or the first that is open."""
    for state in states:
        if (state.member, state.layer) == (member, layer):
            return state
    if member:
        return MemberState(member, layer, None, None, None)
    return next((state for state in states if state.open), states[0] if states else None)


def _description(
    request: Request, view: JobView, chosen: MemberState, worst: dict[str, str], typed: dict[str, Any] | None
) -> dict[str, Any]:
    """Return what the description of a member begins with: as typed, as seen, or as known of this vehicle variant."""
    words = {True: "yes", False: "no", None: ""}
    if typed and "material" in typed:
        return typed
    if chosen.seen:
        again = _of_fact(chosen.seen, words)
        new = [left.signs[0] for left in chosen.left_out(chosen.seen.signs) if left.since > chosen.seen.by.at]
        return {**again, "signs": tuple(dict.fromkeys((*chosen.seen.signs, *new)))}
    known = deciding.known_of_variant(desk_of(request), view).get((chosen.member, chosen.layer))
    signs = (*chosen.ticked, *(("bent",) if worst.get(chosen.member) == "off" else ()))
    if known:
        maker = {name: words[known[name]] for name in ("straighten", "section", "heat")}
        return {**known, **maker, "signs": signs, "known": True}
    return {"material": "unknown", "role": "structural", "signs": signs, "source": ""}


def _of_fact(seen: MemberFact, words: dict[bool | None, str]) -> dict[str, Any]:
    maker = {name: words[value] for name, value in seen.maker.model_dump().items()}
    plain = {name: getattr(seen, name) for name in ("material", "role", "signs", "source", "contradicts")}
    return {**plain, **maker}


def _worst(states: list[str]) -> str:
    return next((state for state in ("off", "unread", "close", "fair") if state in states), "unread")
