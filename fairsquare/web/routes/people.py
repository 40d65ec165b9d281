"""People: who may sign in, added and let go by a lead; and everybody's own password."""

from typing import cast

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import people
from fairsquare.actions.sign_in import check_sign_in
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.who import Role
from fairsquare.store.people import ROLES, Person, Session, SignInRefused, TooManyTries
from fairsquare.web.again import shown_again
from fairsquare.web.forms import whole
from fairsquare.web.page import Form, address_of, desk_of, go_to, render, sent_form, settings_of, signed_in
from fairsquare.web.routes.own import own_page

router = APIRouter()


@router.get("/people")
def show(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show who may sign in."""
    return _page(request, session)


def _page(
    request: Request, session: Session, *, fault: FairSquareError | None = None, typed: dict[str, str] | None = None
) -> Response:
    return render(
        request,
        "people.html",
        session,
        fault=fault,
        typed=typed,
        everybody=people.everybody(desk_of(request)),
        roles=ROLES,
        room="people",
    )


@router.post("/people")
@shown_again(_page)
def add(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Add a person."""
    name, full_name, password = form.text("name"), form.text("full_name"), form.text("password")
    role = cast(Role, form.text("role"))
    people.add_person(desk_of(request), form.session.person, form.key, name, full_name, role, password)
    return go_to("/people")


@router.post("/people/{person_id}/active")
@shown_again(_page, typed=False)
def set_active(request: Request, person_id: int, form: Form = Depends(sent_form)) -> Response:
    """Let a person sign in, or not any more. The last lead stays."""
    active = form.text("active") == "yes"
    people.set_active(desk_of(request), form.session.person, form.key, person_id, active=active)
    return go_to("/people")


@router.post("/people/{person_id}/role")
@shown_again(_page, typed=False)
def set_role(request: Request, person_id: int, form: Form = Depends(sent_form)) -> Response:
    """Give somebody another role. One's own stays: another lead has to."""
    role = cast(Role, form.text("role"))
    people.set_role(desk_of(request), form.session.person, form.key, person_id, role)
    return go_to("/people")


@router.post("/people/{person_id}/second-factor/forget")
@shown_again(_page, typed=False)
def forget_second_factor(request: Request, person_id: int, form: Form = Depends(sent_form)) -> Response:
    """Forget the second factor of somebody who has lost telephone and paper."""
    people.forget_second_factor_of(desk_of(request), form.session.person, person_id)
    return go_to("/people")


@router.post("/people/password")
def change_password(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Change a password: one's own with the old one, anybody's as a lead; all sessions of that person end."""
    own = form.session.person
    try:
        person_id = whole(form.text("person_id"), "person_id")
        if person_id == own.id:
            _check_old(request, own, form.text("old"))
        people.change_password(desk_of(request), own, form.key, person_id, form.text("new"))
    except FairSquareError as fault:
        if form.text("person_id") == str(own.id):
            return own_page(request, form.session, fault=fault)
        return _page(request, form.session, fault=fault)
    return go_to("/people")


def _check_old(request: Request, own: Person, old: str) -> None:
    """Raise `Refused` unless the old password is the person's; it is guessed no more often than at the sign-in."""
    address, tries = address_of(request), settings_of(request).sign_in_tries
    try:
        check_sign_in(desk_of(request).database, own.name, old, address, tries)
    except SignInRefused:
        raise Refused("The old password is not this one.", field="old") from None
    except TooManyTries as fault:
        raise TooManyTries(fault.title, field="old") from None
