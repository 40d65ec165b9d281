"""At the door: who somebody is and whether they may is found out before their request is read. Pages and API alike."""

from collections.abc import Callable
from contextlib import suppress

from fastapi import Request
from starlette.concurrency import run_in_threadpool
from starlette.exceptions import HTTPException
from starlette.responses import Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from fairsquare.actions import Desk, Unsure
from fairsquare.actions.own import is_required
from fairsquare.actions.practice import as_in_practice, is_practice
from fairsquare.actions.rights import NotYours, check_may
from fairsquare.actions.sign_in import SecondFactorFirst
from fairsquare.core.errors import FairSquareError
from fairsquare.job.deeds import RIGHTS
from fairsquare.security_log import security, told_path
from fairsquare.store import sessions
from fairsquare.store.database import DatabaseAway
from fairsquare.store.people import Session, SignInRefused
from fairsquare.web.doors import Entered, door_of
from fairsquare.web.middleware import read_what_is_small
from fairsquare.web.times import shop_of


def cookie_name(*, https: bool) -> str:
    """Return what the cookie of a session is called: under https so that no other host or plain page can set it (RFC 6265bis)."""
    return "__Host-fairsquare" if https else "fairsquare"


def cookie_of(request: Request) -> str:
    """Return the token of a page's session as the browser sent it; empty where it sent none."""
    return request.cookies.get(cookie_name(https=request.app.state.settings.https), "")


class SignInFirst(Exception):
    """Nobody is signed in: the page sends them to the sign-in."""


class AtTheDoor:
    """ASGI middleware: finds the session of a request, keeps it with the request, and refuses whoever may not come in."""

    def __init__(self, app: ASGIApp, refuse: Callable[[Request, Exception], Response]) -> None:
        self._app, self._refuse = app, refuse

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Handle one request."""
        entered = door_of(scope["method"], scope["path"]) if scope["type"] == "http" else None
        if entered is None or entered.door.way in ("open", "link"):
            await self._app(scope, receive, send)
            return
        request = Request(scope)
        try:
            session = await run_in_threadpool(let_in, request, entered)
        except (SignInFirst, FairSquareError) as fault:
            if isinstance(fault, NotYours):
                security(
                    "role refused", person=request.state.person, method=scope["method"], path=told_path(scope["path"])
                )
            body = await read_what_is_small(receive)
            if isinstance(fault, DatabaseAway) and body:
                request = await _with_form(scope, body)
            response = await run_in_threadpool(self._refuse, request, fault)
            response.headers["connection"] = "close"
            await response(scope, receive, send)
            return
        scope.setdefault("state", {})["session"] = session
        await self._app(scope, receive, send)


def let_in(request: Request, entered: Entered) -> Session:
    """Return the session of a request that comes to a door, its person as they are there.

    Raises `SignInFirst` for a page and `SignInRefused` for the API where nobody is signed in, `Unsure` for what practice does not
    have, and `NotYours` for what the person's role does not allow.
    """
    session = _session(request)
    request.state.person = session.person.name
    way = entered.door.way
    if way != "oneself" and not session.second and session.person.role == "lead":
        of_leads = shop_of(request).leads_second_factor
        if is_required(session.person.role, of_leads=of_leads):
            raise SecondFactorFirst
    if is_practice(entered.number):
        practised = way == "see" or (way in RIGHTS and RIGHTS[way].practised)
        if not practised:
            raise Unsure(
                "This is practice: there is nothing of this in it, and nothing is signed.",
                field="job",
                value=entered.number,
            )
        request.app.state.yard.look(entered.number)
        session = session._replace(person=as_in_practice(session.person))
    if way in RIGHTS:
        check_may(session.person, way)
    return session


def _session(request: Request) -> Session:
    api = request.url.path.startswith("/api/")
    token = bearer_of(request) if api else cookie_of(request)
    session = find_session(request, token, "token" if api else "page") if token else None
    if session is not None:
        return session
    if api:
        raise SignInRefused(
            "Sign in first: POST /api/v1/session gives a token; send it as Authorization: Bearer TOKEN."
        )
    raise SignInFirst


def find_session(request: Request, token: str, kind: sessions.Kind) -> Session | None:
    """Return the session of a token of a kind, if there is one."""
    desk: Desk = request.app.state.desk
    return desk.database.run(lambda connection: sessions.find_session(connection, token, kind))


def bearer_of(request: Request) -> str:
    """Return the token of the API that came with a request; empty where none did."""
    scheme, _, token = request.headers.get("authorization", "").partition(" ")
    return token.strip() if scheme.lower() == "bearer" else ""


async def _with_form(scope: Scope, body: bytes) -> Request:
    """Return the request with its form, where it is one: what was typed comes back with the page that says it was not recorded."""

    async def again() -> Message:
        return {"type": "http.request", "body": body, "more_body": False}

    request = Request(scope, again)
    if not request.url.path.startswith("/api/"):
        with suppress(HTTPException):
            request.state.form = await request.form()
    return request
