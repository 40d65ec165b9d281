"""Turns at the door: few requests of one person, link or address are answered at a time, the others wait outside.

Whoever waits holds no thread, no connection to the database and no body, so that a thousand requests of one take nothing from the
others but their own time.
"""

import asyncio
from collections.abc import Callable

from starlette.concurrency import run_in_threadpool
from starlette.requests import Request
from starlette.responses import Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from fairsquare.web.at_the_door import bearer_of, cookie_of
from fairsquare.web.doors import door_of
from fairsquare.web.middleware import read_what_is_small
from fairsquare.workers import TooBusy

AT_ONCE, AT_ONCE_BY_LINK, MOST_HERE = 4, 2, 120
"""Of who signed in, and of a link or an address: each that is answered has its part of the processor, and the others have less."""
LARGE = 1_000_000
"""Bytes of a body from which on one after the other of a person is taken in: photos and files, which nobody sends four at once."""
_FREE = ("/healthz", "/readyz", "/metrics")


class _Turns:
    """The turns of one: how many requests are here, and the places of those that are answered."""

    def __init__(self, at_once: int) -> None:
        self.here, self.places = 0, asyncio.Semaphore(at_once)


class InTurn:
    """ASGI middleware: lets in so many requests of one at once, and refuses who has more than `MOST_HERE` here.

    Events that a page listens to for as long as it is open give their place back as soon as they have begun.
    """

    def __init__(self, app: ASGIApp, refuse: Callable[[Request, Exception], Response]) -> None:
        self._app, self._refuse = app, refuse
        self._kept: dict[tuple[int, str], _Turns] = {}

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Handle one request."""
        if scope["type"] != "http" or scope["path"] in _FREE or door_of(scope["method"], scope["path"]) is None:
            await self._app(scope, receive, send)
            return
        whose, at_once = _whose(Request(scope))
        name = id(asyncio.get_running_loop()), whose
        turns = self._kept.setdefault(name, _Turns(at_once))
        turns.here += 1
        try:
            if turns.here > MOST_HERE:
                await self._turn_away(scope, receive, send)
            else:
                await self._let_in(turns, scope, receive, send)
        finally:
            turns.here -= 1
            if not turns.here:
                self._kept.pop(name, None)

    async def _let_in(self, turns: _Turns, scope: Scope, receive: Receive, send: Send) -> None:
        await turns.places.acquire()
        held = True

        def give_back() -> None:
            nonlocal held
            if held:
                turns.places.release()
            held = False

        async def send_on(message: Message) -> None:
            if message["type"] == "http.response.start" and _goes_on(message):
                give_back()
            await send(message)

        try:
            await self._app(scope, receive, send_on)
        finally:
            give_back()

    async def _turn_away(self, scope: Scope, receive: Receive, send: Send) -> None:
        fault = TooBusy(f"{MOST_HERE} requests of yours are being answered: ask again when they are.")
        await read_what_is_small(receive)
        response = await run_in_threadpool(self._refuse, Request(scope), fault)
        response.headers["connection"] = "close"
        await response(scope, receive, send)


def _whose(request: Request) -> tuple[str, int]:
    """Return whose a request is, and how many of theirs are answered at once: by its token or cookie; without one by its address
    and the page or, of a link, the code."""
    own = bearer_of(request) or cookie_of(request)
    if own and _is_large(request):
        return f"{own} large", 1
    if own:
        return own, AT_ONCE
    address = request.client.host if request.client else ""
    return f"{address} {'/'.join(request.url.path.split('/')[:3])}", AT_ONCE_BY_LINK


def _is_large(request: Request) -> bool:
    """Return whether a body is large, or does not say how large it is."""
    length = request.headers.get("content-length", "0")
    return "transfer-encoding" in request.headers or not length.isdecimal() or int(length) > LARGE


def _goes_on(message: Message) -> bool:
    return any(name == b"content-type" and b"event-stream" in value for name, value in message["headers"])
