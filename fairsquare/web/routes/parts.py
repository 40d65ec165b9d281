"""Parts check-in: the new part laid beside the old, counted off, measured; what is missing blocks the cut."""

from typing import get_args

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import parts
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.facts import PartItemKind
from fairsquare.core.intake.parts import part_states
from fairsquare.store.people import Session
from fairsquare.web.forms import photos_of, unit_of, whole
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in

router = APIRouter()
KINDS: tuple[PartItemKind, ...] = get_args(PartItemKind)


@router.get("/jobs/{number}/parts")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the parts that came."""
    return _page(request, session, number)


@router.post("/jobs/{number}/parts")
def take_in(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record a part that came."""
    try:
        parts.take_part_in(
            desk_of(request),
            form.session.person,
            form.key,
            number,
            form.text("name"),
            form.text("origin"),
            form.text("source"),
        )
    except FairSquareError as fault:
        return _page(request, form.session, number, fault=fault, typed=form.typed())
    return go_to(job_path(number, "parts"))


@router.post("/jobs/{number}/parts/{part}/items")
def count(request: Request, number: str, part: int, form: Form = Depends(sent_form)) -> Response:
    """Count an item on the old part and on the new."""
    try:
        kind = form.text("kind")
        if kind not in KINDS:
            raise Refused(f"Choose from {', '.join(KINDS)}.", field="kind", value=kind[:20])
        parts.count_item(
            desk_of(request),
            form.session.person,
            form.key,
            number,
            part,
            kind,
            form.text("words"),
            whole(form.text("old_count"), "old_count"),
            whole(form.text("new_count"), "new_count"),
            form.text("plan"),
        )
    except FairSquareError as fault:
        return _page(request, form.session, number, fault=fault, typed={**form.typed(), "part": str(part)})
    return go_to(job_path(number, "parts") + f"#part-{part}")


@router.post("/jobs/{number}/parts/{part}/spans")
def measure(request: Request, number: str, part: int, form: Form = Depends(sent_form)) -> Response:
    """Record a span measured on the part."""
    try:
        parts.measure_part(
            desk_of(request),
            form.session.person,
            form.key,
            number,
            part,
            form.text("a"),
            form.text("b"),
            form.text("said"),
            unit_of(form.text("unit")),
        )
    except FairSquareError as fault:
        return _page(request, form.session, number, fault=fault, typed={**form.typed(), "part": str(part)})
    return go_to(job_path(number, "parts") + f"#part-{part}")


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    if typed and typed.get("part") not in {str(part.id) for part in view.facts.parts}:
        typed = {name: value for name, value in typed.items() if name != "part"}
    return render(
        request,
        "parts.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="parts",
        states=part_states(view.facts),
        kinds={kind: kind for kind in KINDS},
        photos=photos_of(view.facts, "part"),
        codes=[point.code for point in view.facts.sheet.points] if view.facts.sheet else [],
        call_unit=unit_of(request.cookies.get("call_unit", "mm")),
    )
