"""What a payer sees by the link of a supplement: that one supplement, its photos and its PDF, and a place to answer each line."""

from concurrent.futures import Future
from typing import Any, cast

from fastapi import APIRouter, Depends, Request, Response
from starlette.concurrency import run_in_threadpool
from starlette.datastructures import FormData

from fairsquare.actions import supplements
from fairsquare.actions.supplements import LineAnswer
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.job.facts.supplements import PayersAnswer, SupplementAnswerFact
from fairsquare.store import photos
from fairsquare.store.links import NoSuchLink
from fairsquare.store.supplements import LinkedSupplement
from fairsquare.store.supplements import answers as answers_of
from fairsquare.web.money import show_money
from fairsquare.web.page import desk_of, go_to, render, sent_data, templates
from fairsquare.web.paper import STATIC, Papers, by_link
from fairsquare.web.routes.supplements import ANSWERS
from fairsquare.web.sending import download

router = APIRouter()
_PRIVATE = {"cache-control": "no-store", "referrer-policy": "no-referrer", "x-robots-tag": "noindex"}


@router.get("/supplement/{code}", name="show_linked")
def show(request: Request, code: str) -> Response:
    """Show the supplement of a link."""
    return _page(request, code, _linked(request, code))


@router.post("/supplement/{code}")
def answer(request: Request, code: str, data: FormData = Depends(sent_data)) -> Response:
    """Record the payer's answers: those that are marked, or, with “approve the rest”, every line that is not."""
    linked = _linked(request, code)
    fields = {name: value for name, value in data.items() if isinstance(value, str)}
    try:
        answers = _said(fields, linked, _answers(request, linked))
        supplements.answer_by_link(desk_of(request), linked, answers, fields.get("named", ""))
    except FairSquareError as fault:
        return _page(request, code, linked, fault=fault, typed=fields)
    return go_to(f"/supplement/{code}#answered")


def _said(
    fields: dict[str, str], linked: LinkedSupplement, before: dict[int, SupplementAnswerFact]
) -> list[LineAnswer]:
    """Return what is marked of each line; with “approve the rest” every line that is not answered and not marked is approved."""
    rest = fields.get("do") == "rest"
    answers = []
    for line in linked.seen["lines"]:
        number = line["id"]
        choice = fields.get(f"answer-{number}", "")
        if choice and choice not in ANSWERS:
            raise Refused("Approve, refuse, or ask.", field=f"answer-{number}", value=choice[:20])
        if not choice and rest and number not in before:
            choice = "approved"
        if choice:
            answers.append(LineAnswer(number, cast(PayersAnswer, choice), fields.get(f"words-{number}", "")))
    return answers


@router.get("/supplement/{code}/photos/{photo}.jpg")
def photo(request: Request, code: str, photo: int, small: bool = False) -> Response:
    """Return a photo of the supplement, and no other of the job."""
    linked = _linked(request, code)
    if photo not in linked.seen["photos"]:
        raise NoSuchLink
    body = desk_of(request).database.run(
        lambda c: photos.photo_bytes(c, linked.job, photo, photos.on_page(small=small))
    )
    return Response(body, media_type="image/jpeg", headers=_PRIVATE)


@router.get("/supplement/{code}/paper.pdf")
async def paper(request: Request, code: str) -> Response:
    """Return the supplement as PDF."""
    linked = await run_in_threadpool(_linked, request, code)
    papers: Papers = request.app.state.papers
    by = by_link(request, code)
    made = await papers.made(by, lambda: _paper(request, linked, by))
    name = f"{linked.job}-supplement-{linked.seen['number']}.pdf"
    answer = download(made, "application/pdf", name, inline=True)
    answer.headers.update(_PRIVATE)
    return answer


def _paper(request: Request, linked: LinkedSupplement, by: str) -> Future[bytes]:
    style = (STATIC / "print.css").as_uri()

    def page() -> str:
        return templates.get_template("supplement_print.html").render(style=style, **_context(linked))

    papers: Papers = request.app.state.papers
    return papers.order(f"supplement {linked.id}", by, page)


def _linked(request: Request, code: str) -> LinkedSupplement:
    return supplements.open_link(desk_of(request), code, request.client.host if request.client else "")


def _context(linked: LinkedSupplement) -> dict[str, Any]:
    lines = linked.seen["lines"]
    return {
        "seen": linked.seen,
        "hours": sum(line["hours"] for line in lines),
        "amount": sum(line["amount_cents"] for line in lines),
        "money": show_money,
    }


def _answers(request: Request, linked: LinkedSupplement) -> dict[int, SupplementAnswerFact]:
    """Return the last answer to each line of a supplement."""
    own = {line["id"] for line in linked.seen["lines"]}
    recorded = desk_of(request).database.run(lambda c: answers_of(c, linked.job_id))
    return {answer.line: answer for answer in recorded if answer.line in own}


def _page(
    request: Request,
    code: str,
    linked: LinkedSupplement,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    before = _answers(request, linked)
    response = render(
        request,
        "payer.html",
        fault=fault,
        typed=typed,
        code=code,
        answers=before,
        closed=desk_of(request).view(linked.job).job.closed,
        open=[line for line in linked.seen["lines"] if line["id"] not in before],
        words=ANSWERS,
        marks={"approved": "approve", "refused": "refuse", "asked": "ask"},
        **_context(linked),
    )
    response.headers.update(_PRIVATE)
    return response
