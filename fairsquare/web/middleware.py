"""Around every request: its id and log line, the headers that browsers need, and a limit on what is sent."""

import asyncio
import secrets
import time
from collections.abc import Callable
from contextlib import suppress
from typing import Any

import structlog
from starlette.concurrency import run_in_threadpool
from starlette.datastructures import MutableHeaders
from starlette.requests import Request
from starlette.responses import PlainTextResponse, Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from fairsquare import metrics
from fairsquare.core.errors import FairSquareError
from fairsquare.security_log import told_path
from fairsquare.web.doors import door_of
from fairsquare.web.sending import is_our_host

MEGABYTE = 1024 * 1024
LARGEST_BODY, LARGEST_PHOTO = 8 * MEGABYTE, 64 * MEGABYTE
PHOTOS, JOBS = "/photos", "/jobs/files"
"""Where photos, and whole jobs, are sent: these may be larger than anything else."""
PIECE_S, WHOLE_S, SLOWEST = 20.0, 60.0, 50_000
_SLOW = "What you sent came too slowly and was not taken. Nothing of it is kept: send it again on a better line."

HEADERS = {
    "content-security-policy": (
        "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
        "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
    ),
    "x-content-type-options": "nosniff",
    "x-frame-options": "DENY",
    "referrer-policy": "same-origin",
    "cross-origin-opener-policy": "same-origin",
    "cross-origin-resource-policy": "same-origin",
    "permissions-policy": "camera=(), microphone=(), geolocation=(), payment=(), usb=()",
}

log = structlog.get_logger("fairsquare.web")


class AroundRequests:
    """ASGI middleware: a request id in log and answer, security headers, no caching of what is behind the sign-in."""

    def __init__(self, app: ASGIApp, *, https: bool) -> None:
        self._app, self._https = app, https

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Handle one request."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        request_id = secrets.token_hex(8)
        scope.setdefault("state", {})["request_id"] = request_id
        structlog.contextvars.bind_contextvars(request_id=request_id)
        began, status, listens = time.perf_counter(), 500, False

        async def send_with_headers(message: Message) -> None:
            nonlocal status, listens
            if message["type"] == "http.response.start":
                status = message["status"]
                headers = MutableHeaders(scope=message)
                listens = headers.get("content-type", "").startswith("text/event-stream")
                headers["x-request-id"] = request_id
                for name, value in HEADERS.items():
                    headers.setdefault(name, value)
                if self._https:
                    headers["strict-transport-security"] = "max-age=31536000"
                headers.setdefault("cache-control", "no-store")
            await send(message)

        try:
            with metrics.BEING_ANSWERED.track_inprogress():
                await self._app(scope, receive, send_with_headers)
        finally:
            seconds = time.perf_counter() - began
            self._tell(scope, status, seconds)
            _count(scope, status, None if listens else seconds)
            structlog.contextvars.unbind_contextvars("request_id")

    def _tell(self, scope: Scope, status: int, seconds: float) -> None:
        quiet = scope["path"].startswith("/static/") or scope["path"] in ("/healthz", "/readyz")
        tell = log.debug if quiet and status < 400 else log.warning if status >= 500 else log.info
        state: dict[str, Any] = scope.get("state", {})
        tell(
            "request",
            method=scope["method"],
            path=told_path(scope["path"]),
            address=(scope.get("client") or ("",))[0],
            status=status,
            ms=round(seconds * 1000, 1),
            person=state.get("person"),
        )


def _count(scope: Scope, status: int, seconds: float | None) -> None:
    """Count a request by its route, whose names are ours: what somebody made up is one of `none`. None: one that listened."""
    method, path = scope["method"], scope["path"]
    entered = door_of(method, path)
    route = entered.door.path if entered else "/static" if path.startswith("/static/") else "none"
    method = method if entered or route == "/static" else "other"
    metrics.REQUESTS.labels(method, route, str(status)).inc()
    if seconds is not None:
        metrics.REQUEST_SECONDS.labels(method, route).observe(seconds)


class OwnHost:
    """ASGI middleware: a request that is meant for another host is not answered; what it names is in no link and no log."""

    def __init__(self, app: ASGIApp, *, configured: str) -> None:
        self._app, self._configured = app, configured

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Handle one request."""
        if scope["type"] == "http":
            hosts = [value for name, value in scope["headers"] if name == b"host"]
            server = (scope.get("server") or ("",))[0] or ""
            if len(hosts) != 1 or not is_our_host(hosts[0].decode("latin-1"), self._configured, server):
                words = "This is not the host that was asked for: set FAIRSQUARE_ADDRESS to how it is reached.\n"
                await PlainTextResponse(words, status_code=421)(scope, receive, send)
                return
        await self._app(scope, receive, send)


class TooLarge(FairSquareError):
    """What is sent is larger than anything of its kind."""

    status = 413
    kind = "too-large"


class TooSlow(FairSquareError):
    """What is sent comes too slowly to be anything but somebody who holds the line."""

    status = 408
    kind = "too-slow"


class LimitBody:
    """ASGI middleware: how large a body may be, and how long it may take to come.

    A form may be 8 MB, a photo 64, a whole job `largest_mb`, which is the cap of all of them. Each piece comes within
    `PIECE_S`, and the whole within `WHOLE_S` and a second for each `SLOWEST` bytes. What says beforehand that it is larger is
    refused unread; whatever else is larger, or late, is refused where it is read.
    """

    def __init__(self, app: ASGIApp, refuse: Callable[[Request, Exception], Response], largest_mb: int) -> None:
        self._app, self._refuse, self._largest = app, refuse, largest_mb * MEGABYTE

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Handle one request."""
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        largest = largest_of(scope["path"], self._largest)
        body, begun = _Counted(receive, largest), False

        async def send_unless_refused(message: Message) -> None:
            nonlocal begun
            if body.fault is None or begun:
                begun = True
                await send(message)

        if self._announced(scope) > largest:
            body.fault = TooLarge(_too_large_words(largest), field="file")
            await read_what_is_small(receive)
        else:
            try:
                await self._app(scope, body.receive, send_unless_refused)
            except Exception:
                if body.fault is None:
                    raise
        if body.fault is not None and not begun:
            response = await run_in_threadpool(self._refuse, Request(scope), body.fault)
            response.headers["connection"] = "close"
            await response(scope, receive, send)

    def _announced(self, scope: Scope) -> float:
        for name, value in scope["headers"]:
            if name == b"content-length":
                return int(value) if value.isdigit() and len(value) < 20 else float("inf")
        return 0


def largest_of(path: str, cap: int) -> int:
    """Return how many bytes may be sent to a path."""
    if path.endswith(JOBS):
        return cap
    return min(cap, LARGEST_PHOTO if path.endswith(PHOTOS) else LARGEST_BODY)


class _Counted:
    """A body that is counted while it is read; `fault` is why it was not read to its end."""

    def __init__(self, receive: Receive, largest: int) -> None:
        self.fault: FairSquareError | None = None
        self._receive, self._largest = receive, largest
        self._read, self._began, self._done = 0, time.monotonic(), False

    async def receive(self) -> Message:
        """Return the next piece. Raises `TooLarge` and `TooSlow`; once the body is read it waits as long as it likes."""
        if self._done:
            return await self._receive()
        try:
            async with asyncio.timeout(PIECE_S):
                message = await self._receive()
        except TimeoutError:
            raise self._refused(TooSlow(_SLOW)) from None
        self._read += len(message.get("body", b""))
        self._done = message["type"] != "http.request" or not message.get("more_body", False)
        if self._read > self._largest:
            raise self._refused(TooLarge(_too_large_words(self._largest), field="file"))
        if not self._done and time.monotonic() - self._began > WHOLE_S + self._read / SLOWEST:
            raise self._refused(TooSlow(_SLOW))
        return message

    def _refused(self, fault: FairSquareError) -> FairSquareError:
        self.fault = fault
        return fault


async def read_what_is_small(receive: Receive) -> bytes | None:
    """Read a body that is about to be refused to its end, so that a browser sees the answer; None for a large or a slow one."""
    pieces: list[bytes] = []
    left, more = MEGABYTE, True
    with suppress(TimeoutError):
        async with asyncio.timeout(PIECE_S):
            while more and left > 0:
                message = await receive()
                pieces.append(message.get("body", b""))
                left -= len(pieces[-1])
                more = message["type"] == "http.request" and message.get("more_body", False)
    return None if more else b"".join(pieces)


def _too_large_words(largest: int) -> str:
    """Return in words that something is larger than it may be, and what would be right."""
    right = {
        LARGEST_BODY: "a sheet of 400 points has some 40 kB: choose the right file",
        LARGEST_PHOTO: "send the photo smaller",
    }
    return f"That is larger than {largest // MEGABYTE} MB: {right.get(largest, 'no job has a file as large as that')}."
