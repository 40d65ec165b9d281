"""The record: made from the job as it stands, and kept; as a page, PDF, JSON and CSV."""

import datetime
import hashlib
import json
from collections.abc import Callable
from concurrent.futures import Future
from typing import Any, cast

from fastapi import APIRouter, Depends, Request, Response
from starlette.concurrency import run_in_threadpool

from fairsquare.actions import JobView, carrying, handover, keys
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.drawings.structure import WIDTH, plan_and_sides
from fairsquare.files.job_file import signer_of
from fairsquare.files.records import RecordCheck, check_record, record_archive, record_as_csv, signer_of_record
from fairsquare.files.signing import NOBODY, in_groups
from fairsquare.job.facts.done import COUPON_ENDS, LOOKS, OUTSIDES
from fairsquare.job.fit.job import STANDS, hangings
from fairsquare.job.release.handover import LIMITS_OF_ADVICE, finish_items, knowingly_left, standing
from fairsquare.job.release.record import JobRecord, facts_of
from fairsquare.job.weld.job import seam_states
from fairsquare.store import came, records
from fairsquare.store.kept import Kept
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import figures
from fairsquare.web.page import (
    Form,
    desk_of,
    go_to,
    in_units,
    job_path,
    reader_of,
    render,
    sent_form,
    signed_in,
    templates,
    units_of,
)
from fairsquare.web.paper import STATIC, Papers, drawn_on_paper, when_made
from fairsquare.web.room import drawing_px
from fairsquare.web.routes.keys import signer
from fairsquare.web.sending import download, full_link
from fairsquare.web.words import CONSTRUCTIONS, HIT_FORCE, HIT_FROM, HIT_HEIGHT, HIT_MOVED, HIT_WHERE
from fairsquare.words.lengths import Units
from fairsquare.words.said import Reader
from fairsquare.workers import Broke, Workers, waited_for

router = APIRouter()


@router.get("/jobs/{number}/record")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the records that were made, and where one is made."""
    return _page(request, session, number)


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
    code: str | None = None,
) -> Response:
    view = desk_of(request).view(number)
    made, links, where = desk_of(request).database.run(
        lambda c: (
            records.records_of(c, view.job.id),
            records.links_of(c, view.job.id),
            came.came_from(c, view.job.id),
        )
    )
    return render(
        request,
        "record.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="record",
        made=made,
        came=where,
        signer=signer(request, signer_of(where.manifest)) if where else None,
        made_labels={row["sha256"]: f"{reader_of(request).moment(row['at'])}, {row['sha256'][:8]}…" for row in made},
        links=links,
        link=full_link(request, f"/handover/{code}") if code else None,
        audiences=handover.AUDIENCES,
        link_days=handover.LINK_DAYS,
        holds=view.state.holds,
    )


@router.post("/jobs/{number}/record")
@shown_again(_page, typed=False)
def make(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Make the record of the job as it stands."""
    digest = desk_of(request).make_record(form.session.person, form.key, number)
    return go_to(f"/records/{digest}")


@router.post("/jobs/{number}/close")
@shown_again(_page, typed=False)
def close(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Close a job, or open it again."""
    closed = form.text("closed") == "yes"
    desk_of(request).close_job(form.session.person, form.key, number, closed)
    return go_to("/" if closed else job_path(number, "record"))


@router.post("/jobs/{number}/file")
@shown_again(_page, typed=False)
def whole_job(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Return the whole job as one file, for another shop; a record of it as it stands is made with it."""
    made = carrying.carry_out(desk_of(request), form.session.person, number)
    day = datetime.datetime.now(datetime.UTC).strftime("%Y%m%d-%H%M")
    return download(made, "application/zip", f"{number}-{day}.job.zip")


@router.post("/jobs/{number}/record/key")
@shown_again(_page)
def accept_key(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Accept the key with which the file of a job that came was signed, once its fingerprint was read out."""
    desk = desk_of(request)
    view = desk.view(number)
    where = desk.database.run(lambda c: came.came_from(c, view.job.id))
    by = signer_of(where.manifest) if where else NOBODY
    keys.accept_key_of_file(desk, form.session.person, form.key, by, form.text("fingerprint"))
    return go_to(job_path(number, "record"))


@router.get("/records/{sha256}.json", dependencies=[Depends(signed_in)])
def as_json(request: Request, sha256: str) -> Response:
    """Return a record to the byte as it was made."""
    body = _body(request, sha256)
    return download(body.encode(), "application/json", _name(body, "json"))


@router.get("/records/{sha256}.csv", dependencies=[Depends(signed_in)])
def as_csv(request: Request, sha256: str) -> Response:
    """Return the points of a record as CSV."""
    body = _body(request, sha256)
    return download(record_as_csv(record_of(body)).encode(), "text/csv; charset=utf-8", _name(body, "csv"))


@router.get("/records/{sha256}.zip", dependencies=[Depends(signed_in)])
def as_archive(request: Request, sha256: str) -> Response:
    """Return a record with its photos; `fairsquare verify` checks both."""
    body = _body(request, sha256)
    archive = record_archive(body, handover.photos_of(desk_of(request), sha256, body))
    return download(archive, "application/zip", _name(body, "zip"))


@router.get("/records/{sha256}.pdf", dependencies=[Depends(signed_in)])
async def as_pdf(request: Request, sha256: str) -> Response:
    """Return a record as PDF, for A4 and Letter; waits until it is made."""
    body = await run_in_threadpool(_body, request, sha256)
    papers: Papers = request.app.state.papers
    made = await papers.made(
        request.state.person, lambda: record_paper(request, sha256, request.state.person, lambda: body)
    )
    return download(made, "application/pdf", await run_in_threadpool(_name, body, "pdf"), inline=True)


@router.get("/records/{sha256}/paper")
async def paper(request: Request, sha256: str, session: Session = Depends(signed_in)) -> Response:
    """Have the PDF of a record made, and go to it; one that takes long is waited for on a page that can be left."""
    body = await run_in_threadpool(_body, request, sha256)

    def page(failed: BaseException | None) -> Response:
        view = _job_of(request, sha256)
        return render(
            request,
            "paper.html",
            session,
            view=view,
            spine=spine(view),
            at="record",
            paper_station="Record",
            failed=failed,
            paper_of="the record on paper",
            slow_words="With hundreds of points it takes some seconds.",
            poll=f"/records/{sha256}/paper",
            back=f"/records/{sha256}",
        )

    ordered = await run_in_threadpool(record_paper, request, sha256, session.person.name, lambda: body)
    return await when_made(request, ordered, f"/records/{sha256}.pdf", page)


@router.get("/records/{sha256}")
async def show_record(request: Request, sha256: str, session: Session = Depends(signed_in)) -> Response:
    """Show a record as a page, with the check of its checksum and its figures."""
    body = await run_in_threadpool(_body, request, sha256)
    check = await checked_record(request, session.person.name, body)
    return await run_in_threadpool(_record_page, request, session, sha256, body, check)


def _record_page(request: Request, session: Session, sha256: str, body: str, check: RecordCheck) -> Response:
    record = record_of(body)
    view = _job_of(request, sha256)
    return render(
        request,
        "record_page.html",
        session,
        view=view,
        spine=spine(view),
        at="record",
        check=check,
        signer=signer(request, check.signed_by),
        sha256=sha256,
        **record_context(record, drawing_px(request), units_of(request)),
    )


def record_paper(
    request: Request, sha256: str, by: str, kept: Callable[[], str], *, short: bool = False
) -> Future[bytes]:
    """Have the PDF of a record made for whoever asks, once, from its body where that is `kept`; `short` is the owner's."""
    workers, papers = cast(Workers, request.app.state.workers), cast(Papers, request.app.state.papers)

    reader = reader_of(request)

    def page() -> str:
        return workers.order(record_in_print, sha256, kept(), short, reader).result()

    return papers.order(f"{sha256} {reader.units} {reader.zone.key}{' short' if short else ''}", by, page)


def record_in_print(sha256: str, body: str, short: bool, reader: Reader) -> str:
    """Return the page of a record that is printed; with hundreds of points a tenth of a second, in a process apart."""
    context = {**record_context(record_of(body), units=reader.units), **in_units(reader.units), "reader": reader}
    if context["drawing"]:
        context["drawing"] = drawn_on_paper(context["drawing"])
    style = (STATIC / "print.css").as_uri()
    template = "handover_print.html" if short else "record_print.html"
    by = signer_of_record(body)
    key = in_groups(by.fingerprint) if by.signed == "yes" else ""
    return templates.get_template(template).render(sha256=sha256, style=style, key=key, shop=by.shop, **context)


async def checked_record(request: Request, by: str, body: str) -> RecordCheck:
    """Return the check of a record, made once for every byte of it, in a process apart. Raises `TooBusy`."""
    kept: Kept[Future[RecordCheck]] = request.app.state.checks
    workers, content = cast(Workers, request.app.state.workers), body.encode()
    name = hashlib.sha256(content).digest()
    made = kept.get(name, lambda: workers.order(check_record, content))
    try:
        return await waited_for(workers.queue, by, made)
    except Broke:
        kept.forget(name)
        raise


def record_context(record: JobRecord, width: float = WIDTH, units: Units = "mm") -> dict[str, Any]:
    """Return what the page and the PDF of a record show; the drawing as wide as said, px, its stations in those units."""
    facts = facts_of(record)
    after = {code: point.after for code, point in record.results.points.items() if point.after}
    states = [point.after.state if point.after else "unread" for point in record.results.points.values()]
    return {
        "record": record,
        "drawing": plan_and_sides(record.sheet, after, 10, width=width, units=units) if record.sheet else None,
        "counts": {state: states.count(state) for state in ("fair", "close", "off", "unread")},
        "labels": {
            "construction": CONSTRUCTIONS,
            "where": HIT_WHERE,
            "from": {int(key): words for key, words in HIT_FROM.items() if key},
            "height": HIT_HEIGHT,
            "force": HIT_FORCE,
            "moved": HIT_MOVED,
        },
        "points": {point.code: point for point in record.sheet.points} if record.sheet else {},
        "readings": {reading.id: reading for reading in record.readings},
        "left": knowingly_left(facts),
        "seams": seam_states(facts),
        "items": finish_items(facts),
        "advice": [deed.what for deed in standing(facts) if deed.kind == "advice"],
        "hangings": hangings(facts),
        "limits": LIMITS_OF_ADVICE,
        "looks": LOOKS,
        "ends": COUPON_ENDS,
        "stands": STANDS,
        "outsides": OUTSIDES,
    }


def _body(request: Request, sha256: str) -> str:
    return desk_of(request).database.run(lambda c: records.find_record(c, sha256))


def record_of(body: str) -> JobRecord:
    """Return a record from its text."""
    loaded = json.loads(body)
    loaded.pop("integrity", None)
    return JobRecord.model_validate_json(json.dumps(loaded))


def file_name(number: str, made_at: str, kind: str) -> str:
    """Return what the record of a job, made at a moment, is called as a file of that kind."""
    return f"{number}-record-{made_at[:19].replace(':', '').replace('T', '-')}.{kind}"


def _name(body: str, kind: str) -> str:
    loaded = json.loads(body)
    if not isinstance(loaded, dict):
        raise Refused("This record cannot be read.", field="sha256")
    return file_name(loaded["number"], loaded["made"]["at"], kind)


@router.post("/jobs/{number}/record/links")
@shown_again(_page)
def link(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Make a link to a record; its code is shown once."""
    code = handover.add_link(
        desk_of(request),
        form.session.person,
        form.key,
        number,
        form.text("record"),
        form.text("audience"),
        form.text("named"),
        figures(form.text("days"), 4) or 0,
    )
    return _page(request, form.session, number, code=code, typed={"named": form.text("named")})


@router.post("/jobs/{number}/record/links/{own}/withdraw")
@shown_again(_page, typed=False)
def withdraw(request: Request, number: str, own: int, form: Form = Depends(sent_form)) -> Response:
    """Have a link lead nowhere any more."""
    handover.withdraw_link(desk_of(request), form.session.person, form.key, number, own)
    return go_to(job_path(number, "record") + "#links")


@router.get("/records/{sha256}/left-out")
def left_out(request: Request, sha256: str, session: Session = Depends(signed_in)) -> Response:
    """Show what was knowingly left out of tolerance or unrepaired."""
    record = record_of(_body(request, sha256))
    view = _job_of(request, sha256)
    return render(
        request,
        "left_out.html",
        session,
        view=view,
        spine=spine(view),
        at="record",
        sha256=sha256,
        back=f"/records/{sha256}",
        **record_context(record, drawing_px(request), units_of(request)),
    )


def _job_of(request: Request, sha256: str) -> JobView:
    """Return the job, as it is numbered here, of which a record is kept."""
    desk = desk_of(request)
    return desk.view(desk.database.run(lambda c: records.job_of(c, sha256)) or "")
