"""Parts check-in: the new part laid beside the old, counted off, measured; what is missing blocks the cut."""

from typing import cast, get_args

from fastapi import APIRouter, Depends, Request, Response
from pydantic import ValidationError

from fairsquare.actions import parts
from fairsquare.actions.spine import spine
from fairsquare.core.damage.decide import Material
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.lengths import read_length
from fairsquare.core.model import Row3
from fairsquare.job.facts.parts import Blank, PartItemKind
from fairsquare.job.intake.parts import part_states
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import call_unit_of, photos_of, unit_of, whole
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in
from fairsquare.web.words import MATERIALS

router = APIRouter()
KINDS: tuple[PartItemKind, ...] = tuple(kind for kind in get_args(PartItemKind) if kind != "comes_off")
ORIGINS = {"new": "new", "donor": "cut from a donor", "made": "made here, in the shop"}


@router.get("/jobs/{number}/parts")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the parts that came."""
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
        origins=ORIGINS,
        materials=MATERIALS,
        photos=photos_of(view.facts, "part"),
        codes=[point.code for point in view.facts.sheet.points] if view.facts.sheet else [],
        call_unit=call_unit_of(request),
    )


@router.post("/jobs/{number}/parts")
@shown_again(_page)
def take_in(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record a part that came."""
    parts.take_part_in(
        desk_of(request),
        form.session.person,
        form.key,
        number,
        form.text("name"),
        form.text("origin"),
        form.text("source"),
        form.text("identity"),
        _blank(form) if form.text("origin") == "made" else None,
    )
    return go_to(job_path(number, "parts"))


def _blank(form: Form) -> Blank:
    """Return the blank of a part that is made here, as it was typed. Raises `Refused` that names the field."""

    def size(name: str) -> float:
        return float(read_length(form.text(name), "mm", field=name).mm)

    def listed(name: str) -> tuple[str, ...]:
        return tuple(part.strip() for part in form.text(name).split(",") if part.strip())

    holes: list[Row3] = []
    for hole in listed("holes"):
        figures = hole.split()
        if len(figures) != 3:
            raise Refused("Each hole as along, across and diameter: 40 12 8, 80 12 8.", field="holes", value=hole)
        u, v, d = (float(read_length(figure, "mm", field="holes").mm) for figure in figures)
        holes.append((u, v, d))
    try:
        return Blank(
            length_mm=size("length"),
            width_mm=size("width"),
            thickness_mm=size("thickness"),
            material=cast(Material, form.text("material")),
            touches=cast(Material, form.text("touches")),
            folds_mm=tuple(float(read_length(fold, "mm", field="folds").mm) for fold in listed("folds")),
            holes_mm=tuple(holes),
        )
    except ValidationError as fault:
        first = fault.errors()[0]
        field = str(first["loc"][0]).removesuffix("_mm")
        right = (
            "choose one of the list"
            if field in ("material", "touches")
            else "above 0, and no longer than a part can be"
        )
        raise Refused(f"{field.capitalize()}: {right}.", field=field, value=str(first["input"])[:40]) from None


@router.post("/jobs/{number}/parts/{part}/comes-off")
@shown_again(_page)
def comes_off(request: Request, number: str, part: int, form: Form = Depends(sent_form)) -> Response:
    """Note what has to come off a part, or that it is off."""
    how = form.text("how").strip() or ("off" if form.text("off") == "yes" else "")
    parts.part_comes_off(desk_of(request), form.session.person, form.key, number, part, form.text("words"), how)
    return go_to(job_path(number, "parts") + f"#part-{part}")


@router.post("/jobs/{number}/parts/{part}/items")
@shown_again(_page)
def count(request: Request, number: str, part: int, form: Form = Depends(sent_form)) -> Response:
    """Count an item on the old part and on the new."""
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
    return go_to(job_path(number, "parts") + f"#part-{part}")


@router.post("/jobs/{number}/parts/{part}/spans")
@shown_again(_page)
def measure(request: Request, number: str, part: int, form: Form = Depends(sent_form)) -> Response:
    """Record a span measured on the part."""
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
    return go_to(job_path(number, "parts") + f"#part-{part}")
