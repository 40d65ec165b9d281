"""Signing in and out, and the choices of a person that a browser remembers: units, light or shop mode."""

from urllib.parse import urlsplit

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions.sign_in import check_sign_in
from fairsquare.core.errors import FairSquareError
from fairsquare.store import people
from fairsquare.store.people import SignInRefused
from fairsquare.web.at_the_door import COOKIE
from fairsquare.web.page import (
    Form,
    desk_of,
    go_to,
    local_path,
    render,
    sent_data,
    sent_form,
    settings_of,
)

router = APIRouter()
_YEAR = 60 * 60 * 24 * 365


@router.get("/sign-in")
def show(request: Request, next: str = "/") -> Response:
    """Show the sign-in."""
    return render(request, "sign_in.html", next=local_path(next), demo=_demo_people(request))


@router.post("/sign-in")
def sign_in(request: Request, data=Depends(sent_data)) -> Response:  # type: ignore[no-untyped-def]
    """Sign in; after too many failures in five minutes the name and the address have to wait."""
    settings, database = settings_of(request), desk_of(request).database
    name, password = str(data.get("name", "")), str(data.get("password", ""))
    back = local_path(str(data.get("next", "/")))
    address = request.client.host if request.client else ""
    try:
        _same_origin(request)
        person = check_sign_in(database, name, password, address, settings.sign_in_tries)
    except FairSquareError as fault:
        return render(request, "sign_in.html", fault=fault, typed={"name": name}, next=back, demo=_demo_people(request))
    session = database.run(lambda c: people.open_session(c, person, settings.session_hours))
    answer = go_to(back)
    answer.set_cookie(
        COOKIE,
        session.token,
        max_age=settings.session_hours * 3600,
        httponly=True,
        samesite="lax",
        secure=settings.https,
    )
    return answer


@router.post("/sign-out")
def sign_out(request: Request, form: Form = Depends(sent_form)) -> Response:
    """End the session."""
    desk_of(request).database.run(lambda c: people.close_session(c, form.session.token))
    answer = go_to("/sign-in")
    answer.delete_cookie(COOKIE)
    return answer


@router.post("/preferences")
def prefer(request: Request, data=Depends(sent_data)) -> Response:  # type: ignore[no-untyped-def]
    """Remember units, and light or shop mode; then go back to the page."""
    answer = go_to(local_path(str(data.get("back", "/"))))
    for name, allowed in (("units", ("mm", "in")), ("mode", ("light", "shop"))):
        if data.get(name) in allowed:
            answer.set_cookie(
                name, str(data[name]), max_age=_YEAR, samesite="lax", secure=settings_of(request).https, httponly=True
            )
    return answer


def _same_origin(request: Request) -> None:
    origin = request.headers.get("origin")
    if origin and origin != "null" and urlsplit(origin).netloc != request.headers.get("host"):
        raise SignInRefused("Sign in from the page of this application.")


def _demo_people(request: Request) -> list[dict[str, str]]:
    if not settings_of(request).demo:
        return []
    from fairsquare.demo.people import SIGN_INS

    return [one._asdict() for one in SIGN_INS]
