"""What a link to a record shows, without signing in: short for the owner, whole for a payer or an inspector; PDF, JSON, photos."""

import json
from functools import partial
from typing import Any

from fastapi import APIRouter, Request, Response
from starlette.concurrency import run_in_threadpool

from fairsquare.actions import handover
from fairsquare.core.errors import FairSquareError
from fairsquare.files.records import RecordCheck, record_archive
from fairsquare.store import photos
from fairsquare.store.links import NoSuchLink
from fairsquare.store.records import LinkedRecord
from fairsquare.web.page import desk_of, render, units_of
from fairsquare.web.paper import Papers, by_link
from fairsquare.web.room import drawing_px
from fairsquare.web.routes.keys import signer
from fairsquare.web.routes.record import checked_record, file_name, record_context, record_of, record_paper
from fairsquare.web.sending import download

router = APIRouter()
_PRIVATE = {"cache-control": "no-store", "referrer-policy": "no-referrer", "x-robots-tag": "noindex"}


@router.get("/handover/{code}")
async def show(request: Request, code: str, whole: bool = False) -> Response:
    """Show the record of a link."""
    linked, body = await run_in_threadpool(_opened, request, code)
    long = whole or linked.audience != "owner"
    return await _shown(request, "handover.html", code, linked, body, long=long)


@router.get("/handover/{code}/left-out")
async def left_out(request: Request, code: str) -> Response:
    """Show what was knowingly left out of tolerance or unrepaired."""
    linked, body = await run_in_threadpool(_opened, request, code)
    return await _shown(request, "handover_left_out.html", code, linked, body)


@router.get("/handover/{code}/record.json")
def as_json(request: Request, code: str) -> Response:
    """Return the record to the byte as it was made."""
    linked, body = _opened(request, code)
    return _private(download(body.encode(), "application/json", _name(linked, "json")))


@router.get("/handover/{code}/record.zip")
def as_archive(request: Request, code: str) -> Response:
    """Return the record with its photos."""
    linked, body = _opened(request, code)
    archive = record_archive(body, handover.photos_of(desk_of(request), linked.sha256, body))
    return _private(download(archive, "application/zip", _name(linked, "zip")))


@router.get("/handover/{code}/record.pdf")
async def as_pdf(request: Request, code: str, whole: bool = False) -> Response:
    """Return the record as PDF: to the owner in short, unless the whole is asked for."""
    linked = await run_in_threadpool(_linked, request, code)
    short = linked.audience == "owner" and not whole
    papers: Papers = request.app.state.papers
    body = partial(handover.body_of, desk_of(request), linked)
    by = by_link(request, code)
    made = await papers.made(by, lambda: record_paper(request, linked.sha256, by, body, short=short))
    return _private(download(made, "application/pdf", _name(linked, "pdf"), inline=True))


@router.get("/handover/{code}/photos/{photo}.jpg")
def photo(request: Request, code: str, photo: int, small: bool = False) -> Response:
    """Return a photo of the record, and no other of the job."""
    linked = _linked(request, code, of_page=True)
    body = handover.body_of(desk_of(request), linked)
    wanted = {kept["id"]: kept["sha256"] for kept in json.loads(body)["photos"]}.get(photo)
    if wanted is None:
        raise NoSuchLink
    picture = desk_of(request).database.run(
        lambda c: photos.recorded_photo(c, linked.sha256, wanted, photos.on_page(small=small))
    )
    if picture is None:
        raise NoSuchLink
    return Response(picture, media_type="image/jpeg", headers=_PRIVATE)


def _linked(request: Request, code: str, *, of_page: bool = False) -> LinkedRecord:
    address = request.client.host if request.client else ""
    return handover.open_link(desk_of(request), code, address, of_page=of_page)


def _opened(request: Request, code: str) -> tuple[LinkedRecord, str]:
    linked = _linked(request, code)
    return linked, handover.body_of(desk_of(request), linked)


def _name(linked: LinkedRecord, kind: str) -> str:
    return file_name(linked.number, linked.made_at, kind)


def _private(response: Response) -> Response:
    response.headers.update(_PRIVATE)
    return response


async def _shown(
    request: Request, template: str, code: str, linked: LinkedRecord, body: str, **context: Any
) -> Response:
    check = await checked_record(request, by_link(request, code), body)
    return await run_in_threadpool(_page, request, template, code, linked, body, check, context)


def _page(
    request: Request,
    template: str,
    code: str,
    linked: LinkedRecord,
    body: str,
    check: RecordCheck,
    context: dict[str, Any],
) -> Response:
    try:
        shown = record_context(record_of(body), drawing_px(request), units_of(request))
    except ValueError as fault:
        raise FairSquareError(
            "This record is of another version: its JSON is still here to the byte, ask the workshop for a newer one.",
            field="record",
        ) from fault
    signed = signer(request, check.signed_by)
    return _private(render(request, template, code=code, linked=linked, check=check, signer=signed, **shown, **context))
