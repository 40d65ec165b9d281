"""Signing in, with a second factor where one is set up, and out; and what a browser remembers: units, light or shop mode."""

from urllib.parse import urlsplit

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions.sign_in import asks_second, check_second, check_sign_in, signed_in
from fairsquare.core.errors import FairSquareError
from fairsquare.store import sessions
from fairsquare.store.people import Person, Session, SignInRefused
from fairsquare.web.at_the_door import cookie_name, find_session
from fairsquare.web.page import (
    Form,
    address_of,
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
_HALF_S = 600


@router.get("/sign-in")
def show(request: Request, next: str = "/") -> Response:
    """Show the sign-in."""
    return render(request, "sign_in.html", next=local_path(next), demo=request.app.state.demo_people)


@router.post("/sign-in")
def sign_in(request: Request, data=Depends(sent_data)) -> Response:  # type: ignore[no-untyped-def]
    """Sign in; after too many failures in five minutes the name and the address have to wait."""
    settings, database = settings_of(request), desk_of(request).database
    name, password = str(data.get("name", "")), str(data.get("password", ""))
    back, address = local_path(str(data.get("next", "/"))), address_of(request)
    try:
        _same_origin(request)
        person = check_sign_in(database, name, password, address, settings.sign_in_tries)
    except FairSquareError as fault:
        return render(
            request, "sign_in.html", fault=fault, typed={"name": name}, next=back, demo=request.app.state.demo_people
        )
    if asks_second(database, person):
        half = database.run(lambda c: sessions.open_session(c, person, 1, "half", address=address))
        answer: Response = render(request, "sign_in_code.html", next=back)
        _set(request, answer, _half_name(request), half.token, _HALF_S)
        return answer
    return _let_in(request, person, back)


@router.get("/sign-in/code")
def ask_code(request: Request, next: str = "/") -> Response:
    """Ask for the second factor, where a password was right just before."""
    if _half(request) is None:
        return go_to("/sign-in")
    return render(request, "sign_in_code.html", next=local_path(next))


@router.post("/sign-in/code")
def sign_in_with_code(request: Request, data=Depends(sent_data)) -> Response:  # type: ignore[no-untyped-def]
    """Sign in with the second factor, after the password."""
    settings, database = settings_of(request), desk_of(request).database
    back, half = local_path(str(data.get("next", "/"))), _half(request)
    if half is None:
        fault = SignInRefused("That took too long: begin again with name and password.", field="name")
        return render(request, "sign_in.html", fault=fault, next=back, demo=request.app.state.demo_people)
    try:
        _same_origin(request)
        code = str(data.get("code", ""))
        check_second(database, half.person, code, address_of(request), settings.sign_in_tries)
    except FairSquareError as fault:
        return render(request, "sign_in_code.html", fault=fault, next=back)
    database.run(lambda c: sessions.close_session(c, half.token))
    answer = _let_in(request, half.person, back)
    answer.delete_cookie(_half_name(request), secure=settings.https, httponly=True, samesite="lax")
    return answer


def _let_in(request: Request, person: Person, back: str) -> Response:
    """Begin a session, under a name of its own: one that was there before is not taken over."""
    settings, address = settings_of(request), address_of(request)
    browser = request.headers.get("user-agent", "")
    session = desk_of(request).database.run(
        lambda c: sessions.open_session(c, person, settings.session_hours, address=address, browser=browser)
    )
    signed_in(person, address)
    answer = go_to(back)
    _set(request, answer, cookie_name(https=settings.https), session.token, settings.session_hours * 3600)
    return answer


def _set(request: Request, answer: Response, name: str, value: str, seconds: int) -> None:
    answer.set_cookie(
        name, value, max_age=seconds, httponly=True, samesite="lax", secure=settings_of(request).https, path="/"
    )


def _half_name(request: Request) -> str:
    return cookie_name(https=settings_of(request).https) + "_half"


def _half(request: Request) -> Session | None:
    """Return the session of somebody whose password was right just before."""
    token = request.cookies.get(_half_name(request), "")
    return find_session(request, token, "half") if token else None


@router.post("/sign-out")
def sign_out(request: Request, form: Form = Depends(sent_form)) -> Response:
    """End the session."""
    desk_of(request).database.run(lambda c: sessions.close_session(c, form.session.token))
    answer = go_to("/sign-in")
    https = settings_of(request).https
    answer.delete_cookie(cookie_name(https=https), secure=https, httponly=True, samesite="lax")
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
    if origin and urlsplit(origin).netloc != request.headers.get("host"):
        raise SignInRefused("Sign in from the page of this application.")
