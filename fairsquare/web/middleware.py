"""Around every request: its id and log line, the headers that browsers need, and a limit on what is sent."""

import secrets
import time
from typing import Any

import structlog
from starlette.datastructures import MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

LARGEST_BODY, LARGEST_PHOTO, LARGEST_JOB = 8 * 1024 * 1024, 64 * 1024 * 1024, 256 * 1024 * 1024
PHOTOS, JOBS = "/photos", "/jobs/files"
"""Where photos, and whole jobs, are sent: these may be larger than anything else."""
_DISCARD_UP_TO = 512 * 1024 * 1024

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
        began, status = time.perf_counter(), 500

        async def send_with_headers(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                headers = MutableHeaders(scope=message)
                headers["x-request-id"] = request_id
                for name, value in HEADERS.items():
                    headers.setdefault(name, value)
                if self._https:
                    headers["strict-transport-security"] = "max-age=31536000"
                headers.setdefault("cache-control", "no-store")
            await send(message)

        try:
            await self._app(scope, receive, send_with_headers)
        finally:
            self._tell(scope, status, time.perf_counter() - began)
            structlog.contextvars.unbind_contextvars("request_id")

    def _tell(self, scope: Scope, status: int, seconds: float) -> None:
        quiet = scope["path"].startswith("/static/") or scope["path"] in ("/healthz", "/readyz")
        tell = log.debug if quiet and status < 400 else log.warning if status >= 500 else log.info
        state: dict[str, Any] = scope.get("state", {})
        tell(
            "request",
            method=scope["method"],
            path=scope["path"],
            status=status,
            ms=round(seconds * 1000, 1),
            person=state.get("person"),
        )


class LimitBody:
    """ASGI middleware: what is sent may be 8 MB, a photo 64, a whole job 256; more is read to its end and answered with 413."""

    def __init__(self, app: ASGIApp, too_large: ASGIApp) -> None:
        self._app, self._too_large = app, too_large

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Handle one request."""
        if scope["type"] != "http" or not self._announced_too_large(scope):
            await self._app(scope, self._counted(receive, _largest(scope)), send)
            return
        read, more = 0, True
        while more and read < _DISCARD_UP_TO:
            message = await receive()
            read += len(message.get("body", b""))
            more = message["type"] == "http.request" and message.get("more_body", False)
        await self._too_large(scope, receive, send)

    def _announced_too_large(self, scope: Scope) -> bool:
        for name, value in scope["headers"]:
            if name == b"content-length":
                return not value.isdigit() or int(value) > _largest(scope)
        return False

    def _counted(self, receive: Receive, largest: int) -> Receive:
        read = 0

        async def counted() -> Message:
            nonlocal read
            message = await receive()
            read += len(message.get("body", b""))
            if read > largest:
                return {"type": "http.disconnect"}
            return message

        return counted


def _largest(scope: Scope) -> int:
    if scope["path"].endswith(JOBS):
        return LARGEST_JOB
    return LARGEST_PHOTO if scope["path"].endswith(PHOTOS) else LARGEST_BODY
