"""The application: pages, API, files of our own, and what happens when something goes wrong."""

from collections.abc import Mapping, Sequence
from concurrent.futures import Future
from functools import partial
from html import escape
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import HTMLResponse, JSONResponse, PlainTextResponse, RedirectResponse, Response
from fastapi.staticfiles import StaticFiles
from markupsafe import Markup
from pydantic import ValidationError
from starlette.exceptions import HTTPException
from starlette.types import Scope

from fairsquare import __version__, metrics
from fairsquare.actions import Desk
from fairsquare.actions.sign_in import SecondFactorFirst
from fairsquare.api.problems import described
from fairsquare.core.errors import FairSquareError
from fairsquare.core.gathered import modules
from fairsquare.core.sheet.check import Finding
from fairsquare.files.records import RecordCheck
from fairsquare.security_log import told_path
from fairsquare.settings import Settings
from fairsquare.stand_ins.practice import PracticeYard
from fairsquare.store.database import Database, DatabaseAway, select
from fairsquare.store.kept import Kept
from fairsquare.store.migrate import pending
from fairsquare.web.at_the_door import AtTheDoor, SignInFirst
from fairsquare.web.doors import door_of
from fairsquare.web.middleware import AroundRequests, LimitBody, OwnHost, TooLarge
from fairsquare.web.page import local_path, render
from fairsquare.web.paper import AT_A_TIME, Papers
from fairsquare.web.searches import Searches, plans_again
from fairsquare.web.turns import InTurn
from fairsquare.words.said import METRIC
from fairsquare.words.tell import fault_told
from fairsquare.workers import PROCESSES, SEARCHES, Workers, share

STATIC = Path(__file__).parent / "static"
log = structlog.get_logger("fairsquare.web")
_UNREADABLE = (
    "Something in what was sent cannot be read: a number or a day too large, a letter that cannot be shown, or brackets "
    "without end. Nothing of it was recorded."
)


class _OwnFiles(StaticFiles):
    """Files of ours; a browser may keep them for an hour."""

    async def get_response(self, path: str, scope: Scope) -> Response:
        response = await super().get_response(path, scope)
        response.headers["cache-control"] = "public, max-age=3600"
        return response


def desk_for(settings: Settings, database: Database) -> Desk:
    """Return the desk of this installation over a database."""
    return Desk(
        database,
        software=f"Fair Square {__version__}",
        workshop=settings.workshop,
        number_prefix=settings.number_prefix,
        host=settings.own_host,
    )


def create_app(settings: Settings, database: Database, demo_people: Sequence[Mapping[str, str]] = ()) -> FastAPI:
    """Return the application over a database. `demo_people`: name, password, full name and role of those that the sign-in shows."""
    app = FastAPI(
        title="Fair Square",
        version=__version__,
        summary="Measure, judge and prove the structure of a vehicle under repair",
        docs_url=None,
        redoc_url=None,
        openapi_url="/api/openapi.json",
    )
    app.state.settings = settings
    app.state.demo_people = demo_people
    app.state.drawn = Kept[Markup](most=400)
    app.state.findings = Kept[tuple[Finding, ...]](most=200)
    app.state.checks = Kept[Future[RecordCheck]](most=200)
    app.state.workers = Workers(share(PROCESSES, settings.workers))
    app.state.papers = Papers(database, share(AT_A_TIME, settings.workers))
    app.state.desk = desk = desk_for(settings, database)
    app.state.searches = Searches(database, partial(plans_again, desk), share(SEARCHES, settings.workers))
    app.state.desk.think = app.state.workers.wait
    app.state.yard = PracticeYard(app.state.desk)
    for _, router in modules("fairsquare.web.routes", "router"):
        app.include_router(router, include_in_schema=False)
    for _, router in modules("fairsquare.api", "router"):
        app.include_router(router)
    app.mount("/static", _OwnFiles(directory=STATIC), name="static")
    _health(app, database, settings.metrics_key)
    _faults(app)
    _describe(app)
    app.add_middleware(LimitBody, refuse=_refused, largest_mb=settings.largest_mb)
    app.add_middleware(AtTheDoor, refuse=_refused)
    app.add_middleware(InTurn, refuse=_refused)
    app.add_middleware(OwnHost, configured=settings.address)
    app.add_middleware(AroundRequests, https=settings.https)
    return app


def _describe(app: FastAPI) -> None:
    """Have the API say of itself what it answers, once it is asked."""

    def way_of(method: str, path: str) -> str:
        entered = door_of(method, path)
        return entered.door.way if entered else "open"

    def openapi() -> dict[str, Any]:
        if app.openapi_schema is None:
            app.openapi_schema = described(app, way_of)
        return app.openapi_schema

    app.openapi = openapi  # type: ignore[method-assign]


def _health(app: FastAPI, database: Database, metrics_key: str) -> None:
    @app.get("/healthz", include_in_schema=False)
    async def healthz() -> PlainTextResponse:
        return PlainTextResponse("ok\n")

    @app.get("/metrics", include_in_schema=False)
    def counted(request: Request) -> Response:
        if not metrics_key:
            raise HTTPException(404)
        if not metrics.may_read(request.headers.get("authorization", ""), metrics_key):
            words = "Send the key that FAIRSQUARE_METRICS_KEY has, as Authorization: Bearer KEY.\n"
            return PlainTextResponse(words, status_code=401, headers={"www-authenticate": "Bearer"})
        return Response(metrics.text(), media_type=metrics.CONTENT_TYPE)

    @app.get("/readyz", include_in_schema=False)
    def readyz() -> PlainTextResponse:
        nodes = database.nodes
        try:
            applied = database.run(lambda c: select(c, "SELECT version, applied_at FROM schema_migration"))
        except DatabaseAway:
            why = "".join(f"{node}: {words}\n" for node, words in nodes.away.items())
            return PlainTextResponse(f"the database does not serve\n{why}", status_code=503)
        missing = pending(applied)
        if missing:
            return PlainTextResponse(f"migrations to apply: {', '.join(missing)}\n", status_code=503)
        return PlainTextResponse(f"ready, at {nodes.in_use}\n" if nodes.several else "ready\n")


def _faults(app: FastAPI) -> None:
    @app.exception_handler(SignInFirst)
    def sign_in_first(request: Request, fault: SignInFirst) -> Response:
        return _refused(request, fault)

    @app.exception_handler(FairSquareError)
    def our_fault(request: Request, fault: FairSquareError) -> Response:
        return _answer(request, fault)

    @app.exception_handler(RequestValidationError)
    def wrong_request(request: Request, fault: RequestValidationError) -> Response:
        first = fault.errors()[0]
        field = ".".join(str(part) for part in first["loc"] if part not in ("body", "query", "path"))
        return _answer(
            request, FairSquareError(f"{field}: {first['msg']}", field=field, value=str(first.get("input"))[:200])
        )

    @app.exception_handler(HTTPException)
    def no_such_page(request: Request, fault: HTTPException) -> Response:
        words = {404: "There is no such page. Look for the job on the floor.", 405: "That cannot be done here."}
        shown = FairSquareError(words.get(fault.status_code, str(fault.detail)))
        shown.status, shown.kind = fault.status_code, "http"
        return _answer(request, shown)

    def unreadable(request: Request, fault: Exception) -> Response:
        log.warning("unreadable", path=told_path(request.url.path), fault=type(fault).__name__, exc_info=fault)
        return _answer(request, FairSquareError(_UNREADABLE))

    @app.exception_handler(ValidationError)
    def cannot_be_made(request: Request, fault: ValidationError) -> Response:
        """What was sent makes no sense further in, where something is made of it; where one only looks it is we who broke."""
        if request.method == "GET":
            return broken(request, fault)
        log.warning("unreadable", path=told_path(request.url.path), fault=fault.title, exc_info=fault)
        first = fault.errors(include_url=False)[0]
        field = ".".join(str(part) for part in first["loc"])
        return _answer(
            request, FairSquareError(f"{field}: {first['msg']}", field=field, value=str(first["input"])[:200])
        )

    for kind in (OverflowError, UnicodeError, RecursionError):
        app.add_exception_handler(kind, unreadable)

    @app.exception_handler(Exception)
    def broken(request: Request, fault: Exception) -> Response:
        log.error("broken", path=told_path(request.url.path), exc_info=fault)
        request_id = getattr(request.state, "request_id", "")
        shown = FairSquareError(
            f"Something broke on our side. What was confirmed before is kept; this was not. Tell the number {request_id}."
        )
        shown.status, shown.kind = 500, "broken"
        return _answer(request, shown)


def _refused(request: Request, fault: Exception) -> Response:
    """Answer whoever may not come in: a page leads to the sign-in where nobody is signed in."""
    if isinstance(fault, TooLarge) and not request.url.path.startswith("/api/"):
        return _too_large(request, fault)
    if isinstance(fault, SecondFactorFirst) and not request.url.path.startswith("/api/"):
        if request.headers.get("hx-request"):
            return Response(status_code=403, headers={"HX-Redirect": "/own"})
        return RedirectResponse("/own", status_code=303)
    if isinstance(fault, FairSquareError):
        return _answer(request, fault)
    if request.headers.get("hx-request"):
        return Response(status_code=401, headers={"HX-Redirect": "/sign-in"})
    back = request.url.path if request.method == "GET" else "/"
    return RedirectResponse(f"/sign-in?next={local_path(back)}", status_code=303)


def _answer(request: Request, fault: FairSquareError) -> Response:
    if request.url.path.startswith("/api/"):
        return problem(fault)
    if request.headers.get("hx-request"):
        page = render(request, "parts/fault.html", fault=fault)
    else:
        page = render(request, "error.html", fault=fault, again=_to_send_again(request, fault))
    return page


def _to_send_again(request: Request, fault: FairSquareError) -> dict[str, str] | None:
    """Return the fields of a form that could not be recorded because the database was away, so that nothing typed is lost."""
    form = getattr(request.state, "form", None)
    if fault.status != DatabaseAway.status or form is None:
        return None
    return {name: value for name, value in form.items() if isinstance(value, str) and name != "password"}


def problem(fault: FairSquareError) -> JSONResponse:
    """Return a fault as problem JSON (RFC 9457)."""
    return JSONResponse(
        fault_told(fault, METRIC).problem(), status_code=fault.status, media_type="application/problem+json"
    )


def _too_large(request: Request, fault: TooLarge) -> Response:
    """Answer with a page of its own, which needs nothing and leads back to where it was sent from."""
    back = urlsplit(request.headers.get("referer", "/")).path
    page = (STATIC.parent / "templates" / "too_large.html").read_text(encoding="utf-8")
    return HTMLResponse(
        page.replace("{words}", fault.title).replace("{back}", escape(local_path(back))), status_code=fault.status
    )
