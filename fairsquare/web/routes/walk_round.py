"""The walk-round: what is seen, by short entry or at a touched place, photos, parts along the line of the push, worth."""

import re
from urllib.parse import urlencode

from fastapi import APIRouter, Depends, Request, Response
from fastapi.responses import JSONResponse
from starlette.concurrency import run_in_threadpool

from fairsquare.actions import Unsure, walk_round
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.drawings.walk import walk_drawing
from fairsquare.files.photos import KeptPhoto, photo_to_keep
from fairsquare.job.damage.job import counting_walk, does_not_fit
from fairsquare.job.facts.damage import LineAnswer
from fairsquare.job.facts.walk_round import WalkKind
from fairsquare.job.intake.walk_round import KINDS, LINE_ITEMS, WORTH_SHARE, Seen
from fairsquare.store import photos
from fairsquare.store.people import Session
from fairsquare.store.photos import About
from fairsquare.web.again import shown_again
from fairsquare.web.findings import members_offered
from fairsquare.web.forms import call_unit_of, photos_of, remember_unit, unit_of, whole
from fairsquare.web.money import read_money, show_money
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in
from fairsquare.web.room import drawing_px
from fairsquare.workers import Workers

router = APIRouter()
_KEEP_IN_BROWSER = {"cache-control": "private, max-age=3600", "content-disposition": "inline"}
_QUICK: tuple[WalkKind, ...] = (
    "gap",
    "kink",
    "buckle",
    "crack",
    "torn_seam",
    "split_arm",
    "earlier_repair",
    "rust",
    "witness_mark",
    "misfit",
    "plate",
)
ABOUT: dict[About, str] = {
    "job": "walk-round",
    "walk": "walk-round",
    "member": "decide",
    "supplement": "supplements",
    "part": "parts",
    "section": "cuts",
    "done": "finish",
}
"""What a photo may show, and the page that it is shown on."""
LINE_ANSWERS: dict[LineAnswer, str] = {"sound": "sound", "hurt": "hurt", "absent": "not on it", "open": "open"}


@router.get("/jobs/{number}/walk-round")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show what was seen."""
    return _page(request, session, number)


@router.get("/jobs/{number}/walk-round/understood")
def understood(
    request: Request, number: str, call: str = "", unit: str = "mm", xy: str = "", session: Session = Depends(signed_in)
) -> Response:
    """Say what an entry was understood to be before it is taken."""
    seen, fault, view = None, None, desk_of(request).view(number)
    if call.strip():
        try:
            seen = _with_touch(walk_round.hear(view, call, unit_of(unit)), xy)
        except FairSquareError as wrong:
            fault = wrong
    return render(
        request,
        "parts/understood_seen.html",
        session,
        status=422 if fault else 200,
        seen=seen,
        fault=fault,
        kinds=KINDS,
    )


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    seen = counting_walk(view.facts)
    by_finding = photos_of(view.facts, "walk")
    weighed = view.facts.worth[-1] if view.facts.worth else None
    share = weighed.cost_cents / weighed.value_cents if weighed and weighed.value_cents else None
    return render(
        request,
        "walk_round.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="walk-round",
        seen=seen,
        gone=[seen for seen in view.facts.walk if seen.taken_back],
        drawing=walk_drawing(
            view.facts.sheet, seen, {key: len(own) for key, own in by_finding.items()}, drawing_px(request)
        ),
        by_finding=by_finding,
        photos=[kept for kept in view.facts.photos if kept.about == "job"],
        **members_offered(view),
        misfit={finding.id for finding in seen if does_not_fit(finding)},
        kinds=KINDS,
        quick=[(kind, KINDS[kind]) for kind in _QUICK],
        line_items=LINE_ITEMS,
        line={fact.item: fact for fact in view.facts.line},
        line_answers=LINE_ANSWERS,
        weighed=weighed,
        share=share,
        doubtful=weighed is not None and (share is None or share > WORTH_SHARE),
        worth_share=WORTH_SHARE,
        money=show_money,
        call_unit=call_unit_of(request),
    )


@router.post("/jobs/{number}/walk-round")
@shown_again(_page)
def note(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record something that was seen."""
    unit = unit_of(form.text("unit"))
    call = form.text("call")
    seen = _with_touch(walk_round.hear(desk_of(request).view(number), call, unit), form.text("xy"))
    walk_round.note_finding(desk_of(request), form.session.person, form.key, number, call, seen)
    return remember_unit(go_to(job_path(number, "walk-round")), unit)


@router.post("/jobs/{number}/walk-round/{finding}/take-back")
@shown_again(_page)
def take_back(request: Request, number: str, finding: int, form: Form = Depends(sent_form)) -> Response:
    """Take a finding back."""
    reason = form.text("back_reason")
    walk_round.take_finding_back(desk_of(request), form.session.person, form.key, number, finding, reason)
    return go_to(job_path(number, "walk-round"))


@router.post("/jobs/{number}/walk-round/{finding}/on")
@shown_again(_page)
def bind(request: Request, number: str, finding: int, form: Form = Depends(sent_form)) -> Response:
    """Say on which member a finding is."""
    member, _, layer = (form.text("other").strip() or form.text("member")).partition(" › ")
    layer = layer or form.text("layer")
    walk_round.bind_finding(desk_of(request), form.session.person, form.key, number, finding, member, layer)
    if form.text("back") == "decide":
        return go_to(f"{job_path(number, 'decide')}?{urlencode({'member': member, 'layer': layer})}")
    return go_to(job_path(number, "walk-round") + f"#seen-{finding}")


@router.post("/jobs/{number}/line")
@shown_again(_page)
def line(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Say how a mechanical part along the line of the push was found."""
    answer = form.text("answer")
    if answer not in LINE_ANSWERS:
        raise Refused("Answer with sound, hurt, or not on it.", field="answer", value=answer[:40])
    walk_round.answer_line(
        desk_of(request),
        form.session.person,
        form.key,
        number,
        form.text("item"),
        answer,
        form.text("words"),
    )
    return go_to(job_path(number, "walk-round") + "#line-of-push")


@router.post("/jobs/{number}/worth")
@shown_again(_page)
def worth(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Weigh the vehicle's value against the cost of its repair."""
    value, cost = (read_money(form.text(name), name) for name in ("value", "cost"))
    walk_round.weigh(desk_of(request), form.session.person, form.key, number, value, cost, form.text("words"))
    return go_to(job_path(number, "walk-round") + "#worth")


@router.post("/jobs/{number}/photos")
async def keep(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Keep a photo; what sends one after another is answered in JSON."""
    try:
        sent = form.file("photo")
        if sent is None:
            raise Refused("Choose a photo.", field="photo")
        workers: Workers = request.app.state.workers
        picture = await workers.run(form.session.person.name, photo_to_keep, sent[1], sent[0][:120])
    except FairSquareError as fault:
        return await run_in_threadpool(_photo_fault, request, number, form, fault)
    return await run_in_threadpool(_keep, request, number, form, sent[0], picture)


def _keep(request: Request, number: str, form: Form, name: str, picture: KeptPhoto) -> Response:
    about = form.text("about", "job")
    try:
        if about not in ABOUT:
            raise Refused(
                "A photo shows the job, a finding, a member, a supplement line, a part, a section or what was done.",
                field="about",
                value=about[:20],
            )
        kept = walk_round.keep_photo(
            desk_of(request),
            form.session.person,
            form.key,
            number,
            picture,
            name=name,
            words=form.text("words"),
            about=about,
            about_id=whole(form.text("about_id"), "about_id") if form.text("about_id") else None,
        )
    except FairSquareError as fault:
        return _photo_fault(request, number, form, fault)
    if "application/json" in request.headers.get("accept", ""):
        return JSONResponse({"id": kept}, status_code=201)
    return go_to(job_path(number, ABOUT[about]))


def _photo_fault(request: Request, number: str, form: Form, fault: FairSquareError) -> Response:
    if "application/json" in request.headers.get("accept", ""):
        return JSONResponse(fault.problem(), status_code=fault.status, media_type="application/problem+json")
    return _page(request, form.session, number, fault=fault)


@router.get("/jobs/{number}/photos/{photo}.jpg", dependencies=[Depends(signed_in)])
def photo(request: Request, number: str, photo: int, small: bool = False) -> Response:
    """Return a photo, or its thumbnail."""
    body = desk_of(request).database.run(lambda c: photos.photo_bytes(c, number, photo, photos.on_page(small=small)))
    if body is None:
        raise Unsure("There is no such photo in this job.", field="photo", value=photo)
    return Response(body, media_type="image/jpeg", headers=_KEEP_IN_BROWSER)


def _with_touch(seen: Seen, xy: str) -> Seen:
    """Return a finding at the place that was touched, where none was said."""
    match = re.fullmatch(r"(-?\d{1,5}(?:\.\d+)?),(-?\d{1,5}(?:\.\d+)?)", xy.strip())
    if match is None or seen.xy is not None:
        return seen
    return seen._replace(xy=(float(match[1]), float(match[2])))
