"""A comparative sheet, guided: from the sound side, from sister vehicles or donor parts, or from what is straight."""

from typing import Literal, cast

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import JobView, Unsure
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.lengths import read_length
from fairsquare.core.measure.comparative import (
    FromMirror,
    FromSister,
    FromStraight,
    PlaceRead,
    SheetMade,
    VehicleRead,
    comparative_sheet,
)
from fairsquare.core.measure.setup import Reading
from fairsquare.core.sheet.model import Sheet
from fairsquare.files.sheets import rows_from_text
from fairsquare.job.measure.calls import understand_point
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import figures
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in

router = APIRouter()
Basis = Literal["mirror", "sister", "straight"]
BASES: dict[Basis, str] = {
    "mirror": "The sound side, mirrored",
    "sister": "A sister vehicle or a donor part",
    "straight": "Its own straightness",
}


@router.get("/jobs/{number}/sheet/comparative")
def show(request: Request, number: str, basis: Basis | None = None, session: Session = Depends(signed_in)) -> Response:
    """Ask what the sheet is to be made from, and then for what that needs."""
    return _page(request, session, number, basis)


def _basis(form: Form) -> Basis | None:
    return cast(Basis, form.text("basis")) if form.text("basis") in BASES else None


def _again(
    request: Request, session: Session, number: str, *, fault: FairSquareError | None = None, form: Form
) -> Response:
    return _page(request, session, number, _basis(form), fault=fault, form=form)


@router.post("/jobs/{number}/sheet/comparative")
@shown_again(_again)
def make(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Show the sheet that would be made; with `accept`, accept it as the next version."""
    basis = _basis(form)
    view = desk_of(request).view(number)
    if basis is None:
        raise Refused("Say what the sheet is to be made from.", field="basis", value=form.text("basis")[:40])
    made, words = _made(view, basis, form)
    if form.text("accept"):
        sheet = made.sheet.model_copy(update={"name": f"{_plain_name(made.sheet)} (comparative: {words})"[:200]})
        seen = form.text("seen_version")
        desk_of(request).accept_sheet(
            form.session.person,
            form.key,
            number,
            sheet,
            {},
            f"comparative: {words}"[:200],
            figures(seen),
        )
        return go_to(job_path(number, "sheet"))
    return _page(request, form.session, number, basis, form=form, made=made, words=words)


def _made(view: JobView, basis: Basis, form: Form) -> tuple[SheetMade, str]:
    sheet = view.facts.sheet
    if sheet is None:
        raise Unsure("Type in at least the codes and the reference points first: they carry the comparison.")
    if basis == "sister":
        vehicles = _vehicles(form.text("readings"), form.text("sigma_mm") or "0.3")
        words = f"{len(vehicles)} sister vehicle{'s' if len(vehicles) > 1 else ''} or donor part"
        return comparative_sheet(FromSister(basis="sister", sheet=sheet, vehicles=vehicles)), words
    points = _read_points(view)
    if basis == "mirror":
        side: Literal["L", "R"] = "R" if form.text("side") == "R" else "L"
        request = FromMirror(basis="mirror", sheet=sheet, side=side, points=points)
        return comparative_sheet(request), f"{'left' if side == 'L' else 'right'} side mirrored"
    sound = tuple(code for code in form.several("sound") if code in points)
    made = comparative_sheet(FromStraight(basis="straight", sheet=sheet, sound=sound, points=points))
    return made, f"straight through {', '.join(sound)}"


def _read_points(view: JobView) -> dict[str, PlaceRead]:
    """Return the points that today's picture knows in all three directions. Raises `Unsure` where there are none."""
    picture = view.state.picture
    points = {
        code: PlaceRead(xyz=at.xyz, covariance=at.covariance)
        for code, at in (picture.placed.items() if picture else ())
        if all(at.determined)
    }
    if not points:
        raise Unsure("No point is read in all three directions yet: set up and measure first, then come back.")
    return points


def _vehicles(text: str, sigma: str) -> tuple[VehicleRead, ...]:
    """Return the vehicles of a pasted table: a code and three numbers a line, an empty line before the next vehicle."""
    sigma_mm = float(read_length(sigma, "mm", field="sigma_mm").mm)
    if not 0 < sigma_mm <= 100:
        raise Refused("Give how well it was read, above 0 and up to 100 mm.", field="sigma_mm", value=sigma)
    vehicles: list[list[Reading]] = [[]]
    for number, line in enumerate(text.splitlines(), start=1):
        cells = [cell for row in rows_from_text(line) for cell in row if cell.strip()]
        if not cells:
            if vehicles[-1]:
                vehicles.append([])
            continue
        try:
            call = understand_point(" ".join([cells[0], " ; ".join(cells[1:])]), [cells[0]])
        except FairSquareError as fault:
            raise Refused(f"Line {number}: {fault.title}", field="readings", value=line[:80]) from fault
        vehicles[-1].append(Reading(code=call.code, xyz=call.xyz or (0.0, 0.0, 0.0)))
    read = tuple(VehicleRead(readings=tuple(own), sigma_mm=sigma_mm) for own in vehicles if own)
    if not read:
        raise Refused("Paste the readings: a code and three numbers a line.", field="readings", value="")
    return read


def _plain_name(sheet: Sheet) -> str:
    return sheet.name.partition(" (comparative")[0]


def _page(
    request: Request,
    session: Session,
    number: str,
    basis: Basis | None,
    *,
    fault: FairSquareError | None = None,
    form: Form | None = None,
    made: SheetMade | None = None,
    words: str = "",
) -> Response:
    view = desk_of(request).view(number)
    picture = view.state.picture
    known = [code for code, at in (picture.placed.items() if picture else ()) if all(at.determined)]
    return render(
        request,
        "comparative.html",
        session,
        fault=fault,
        typed=form.typed() if form else None,
        view=view,
        spine=spine(view),
        at="sheet",
        basis=basis,
        bases=BASES,
        known=known,
        sound=form.several("sound") if form else (),
        made=made,
        words=words,
    )
