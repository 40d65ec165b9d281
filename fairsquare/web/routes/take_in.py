"""Taking a vehicle in: the vehicle, the hit as it was declared, and the hold “made safe”."""

import shutil
import tempfile
from functools import partial
from pathlib import Path
from typing import Any, cast

from fastapi import APIRouter, Depends, Request, Response
from pydantic import ValidationError
from starlette.concurrency import run_in_threadpool

from fairsquare.actions import carrying
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.core.intake.vin import check_vin
from fairsquare.files.job_file import job_to_take_in
from fairsquare.job.facts.intake import SafetyAnswer
from fairsquare.store.jobs import JobDetails
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import figures
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in
from fairsquare.web.words import CONSTRUCTIONS, HIT_FORCE, HIT_FROM, HIT_HEIGHT, HIT_MOVED, HIT_WHERE
from fairsquare.workers import Workers

router = APIRouter()

_CHOICES: dict[str, Any] = {
    "constructions": CONSTRUCTIONS,
    "where": HIT_WHERE,
    "from_deg": HIT_FROM,
    "heights": HIT_HEIGHT,
    "forces": HIT_FORCE,
    "moves_told": HIT_MOVED,
}
_LABELS = {"vehicle": "Vehicle", "vin": "VIN", "hit_words": "What happened", "notes": "Notes", "hit_from_deg": "From"}
ANSWERS = ("done", "absent", "undone")


@router.get("/jobs/new")
def new_job(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show an empty take-in."""
    return render(request, "new_job.html", session, **_CHOICES)


@router.post("/jobs")
def open_job(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Open a job; a wrong field is shown with what was typed."""
    try:
        number = desk_of(request).open_job(form.session.person, form.key, _details(form))
    except FairSquareError as fault:
        return render(request, "new_job.html", form.session, fault=fault, typed=form.typed(), **_CHOICES)
    return go_to(job_path(number, "take-in"))


@router.post("/jobs/files")
async def job_from_file(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Take a job in that came from another shop as a file."""
    try:
        sent = form.open_file("file")
        if sent is None:
            raise Refused("Choose the file of the job.", field="file", value="")
        person, workers = form.session.person, cast(Workers, request.app.state.workers)
        with tempfile.NamedTemporaryFile(prefix="fairsquare-job-") as kept:
            await run_in_threadpool(shutil.copyfileobj, sent, kept)
            kept.flush()
            file = await workers.run(person.name, job_to_take_in, Path(kept.name))
        number = await run_in_threadpool(carrying.carry_in, desk_of(request), person, form.key, file)
    except FairSquareError as fault:
        return await run_in_threadpool(partial(render, request, "new_job.html", form.session, fault=fault, **_CHOICES))
    return go_to(job_path(number, "record"))


@router.get("/vin")
def vin_words(request: Request, vin: str = "", session: Session = Depends(signed_in)) -> Response:
    """Say what a VIN is worth while it is typed."""
    return render(request, "parts/vin.html", session, check=check_vin(vin[:60]))


@router.get("/jobs/{number}/take-in")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show what was taken in, and the made-safe list."""
    return _page(request, session, number)


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    shown = typed or {}
    details: dict[str, Any] = view.job.details.model_dump()
    details["hit_from_deg"] = "" if details["hit_from_deg"] is None else str(details["hit_from_deg"])
    return render(
        request,
        "take_in.html",
        session,
        fault=fault,
        typed={**details, "version": str(view.job.version), **shown},
        view=view,
        spine=spine(view),
        at="take-in",
        items=SAFETY_ITEMS,
        answers={fact.item: fact for fact in view.facts.safety},
        hold=view.state.hold("made_safe"),
        check=check_vin(shown.get("vin", details["vin"])),
        **_CHOICES,
    )


@router.post("/jobs/{number}/take-in")
@shown_again(_page)
def change(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Change what was taken in; a stale edit is told who changed what."""
    version = figures(form.text("version"), 9)
    if version is None:
        raise Refused("The page lost its version: load it anew.", field="version", value=form.text("version")[:20])
    desk_of(request).change_job(form.session.person, form.key, number, _details(form), version)
    return go_to(job_path(number, "take-in"))


@router.post("/jobs/{number}/safety")
def answer(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Answer one item of the made-safe list."""
    try:
        given = form.text("answer")
        if given not in ANSWERS:
            raise Refused("Answer with done, not on this vehicle, or undone.", field="answer", value=given[:40])
        desk_of(request).answer_safety(
            form.session.person,
            form.key,
            number,
            form.text("item"),
            cast(SafetyAnswer, given),
            form.text("words"),
            form.text("done_by"),
            form.text("qualification"),
        )
    except FairSquareError as fault:
        names = {f"{name}_{form.text('item')}": form.text(name) for name in ("done_by", "qualification")}
        return _page(request, form.session, number, fault=fault, typed=names)
    return go_to(
        job_path(number, "take-in") + f"#{form.text('item')}"
        if form.text("item").isidentifier()
        else job_path(number, "take-in")
    )


def _details(form: Form) -> JobDetails:
    """Return the details as typed. Raises `Refused` that names the field."""
    degrees = form.text("hit_from_deg")
    vin = check_vin(form.text("vin"))
    if vin.verdict == "malformed":
        raise Refused(
            f"VIN: {vin.words} Leave it empty if the vehicle has none.", field="vin", value=form.text("vin")[:60]
        )
    try:
        return JobDetails.model_validate(
            {
                "vehicle": " ".join(form.text("vehicle").split()),
                "construction": form.text("construction", "unibody"),
                "vin": vin.vin,
                "hit_where": form.text("hit_where", "unknown"),
                "hit_from_deg": figures(degrees, 3),
                "hit_height": form.text("hit_height", "unknown"),
                "hit_force": form.text("hit_force", "unknown"),
                "hit_moved": form.text("hit_moved", "unknown"),
                "hit_words": form.text("hit_words").strip(),
                "notes": form.text("notes").strip(),
            }
        )
    except ValidationError as fault:
        first = fault.errors()[0]
        field = str(first["loc"][0])
        words = {"string_too_short": "is needed: say which vehicle it is, such as Dunlin post van"}.get(
            first["type"], first["msg"][:1].lower() + first["msg"][1:]
        )
        raise Refused(f"{_LABELS.get(field, field)} {words}.", field=field, value=str(first["input"])[:200]) from None
