"""People: who may sign in, added and let go by a lead; and everybody's own password."""

from typing import Any, cast

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions.own import forget_second_factor as forget
from fairsquare.actions.rights import check_may
from fairsquare.actions.sign_in import check_sign_in
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.who import Role
from fairsquare.security_log import security
from fairsquare.store import people
from fairsquare.store.database import Connection
from fairsquare.store.people import Person, Session, SignInRefused, TooManyTries
from fairsquare.web.forms import whole
from fairsquare.web.page import Form, address_of, desk_of, go_to, render, sent_form, settings_of, signed_in
from fairsquare.web.routes.own import own_page

router = APIRouter()


@router.get("/people")
def show(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show who may sign in."""
    return _page(request, session)


@router.post("/people")
def add(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Add a person."""
    try:
        check_may(form.session.person, "manage people")
        role = cast(Role, form.text("role"))

        def work(connection: Connection) -> dict[str, Any]:
            name, full_name, password = form.text("name"), form.text("full_name"), form.text("password")
            return {"id": people.add_person(connection, name, full_name, role, password)}

        desk_of(request).once(form.session.person, form.key, f"add person {form.text('name')}", work)
    except FairSquareError as fault:
        return _page(request, form.session, fault=fault, typed=form.typed())
    return go_to("/people")


@router.post("/people/{person_id}/active")
def set_active(request: Request, person_id: int, form: Form = Depends(sent_form)) -> Response:
    """Let a person sign in, or not any more. The last lead stays."""
    active = form.text("active") == "yes"

    def work(connection: Connection) -> dict[str, Any]:
        if not active and person_id == form.session.person.id:
            raise Refused("You cannot shut yourself out: another lead has to.", field="active")
        people.set_active(connection, person_id, active)
        return {}

    try:
        check_may(form.session.person, "manage people")
        purpose = f"person active {person_id} {'in' if active else 'out'}"
        desk_of(request).once(form.session.person, form.key, purpose, work)
    except FairSquareError as fault:
        return _page(request, form.session, fault=fault)
    security("let in again" if active else "let go", person=_name_of(request, person_id), by=form.session.person.name)
    return go_to("/people")


@router.post("/people/{person_id}/role")
def set_role(request: Request, person_id: int, form: Form = Depends(sent_form)) -> Response:
    """Give somebody another role. One's own stays: another lead has to."""
    own, role = form.session.person, cast(Role, form.text("role"))

    def work(connection: Connection) -> dict[str, Any]:
        if person_id == own.id:
            raise Refused("Your own role is another lead's to change.", field="role")
        people.set_role(connection, person_id, role)
        return {}

    try:
        check_may(own, "manage people")
        desk_of(request).once(own, form.key, f"person role {person_id} {role[:20]}", work)
    except FairSquareError as fault:
        return _page(request, form.session, fault=fault)
    security("role changed", person=_name_of(request, person_id), role=role, by=own.name)
    return go_to("/people")


@router.post("/people/{person_id}/second-factor/forget")
def forget_second_factor(request: Request, person_id: int, form: Form = Depends(sent_form)) -> Response:
    """Forget the second factor of somebody who has lost telephone and paper."""
    own = form.session.person
    try:
        check_may(own, "manage people")
        if person_id == own.id:
            raise Refused("Your own second factor is set up anew under “Your sign-in”.", field="second")
        forget(desk_of(request), own, person_id, _name_of(request, person_id))
    except FairSquareError as fault:
        return _page(request, form.session, fault=fault)
    return go_to("/people")


def _name_of(request: Request, person_id: int) -> str:
    everybody = desk_of(request).database.run(people.people)
    return next((str(one["name"]) for one in everybody if one["id"] == person_id), "")


@router.post("/people/password")
def change_password(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Change a password: one's own with the old one, anybody's as a lead; all sessions of that person end."""
    own = form.session.person

    def work(connection: Connection) -> dict[str, Any]:
        person_id = whole(form.text("person_id"), "person_id")
        if person_id != own.id:
            check_may(own, "manage people")
        people.set_password(connection, person_id, form.text("new"))
        return {}

    try:
        if whole(form.text("person_id"), "person_id") == own.id:
            _check_old(request, own, form.text("old"))
        desk_of(request).once(own, form.key, f"password {form.text('person_id')}", work)
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


def _page(
    request: Request, session: Session, *, fault: FairSquareError | None = None, typed: dict[str, str] | None = None
) -> Response:
    everybody = desk_of(request).database.run(people.people)
    return render(
        request,
        "people.html",
        session,
        fault=fault,
        typed=typed,
        everybody=everybody,
        roles=people.ROLES,
        room="people",
    )
