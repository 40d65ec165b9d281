"""The rig: what the shop pulls with, what each piece takes, and when it was last looked at; what a place to pull at takes."""

import datetime

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import pull_plans
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.pull.gear import GEAR, Gear
from fairsquare.core.pull.hold import HoldCapacity, HoldTakes, HookHole, PlateBolts, SheetMetal, TabWeld, hold_capacity
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import number_of
from fairsquare.web.page import Form, desk_of, go_to, render, sent_form, signed_in

router = APIRouter()
PLACES = {"tab_weld": "a tab welded on", "hole": "a hook in a hole", "bolted_plate": "a plate bolted through"}
GIVES = {
    "sheet": "the sheet beside the weld",
    "weld": "the weld",
    "bearing": "the hole is drawn long",
    "tear_out": "the sheet tears out to its edge",
    "bolts": "the bolts shear",
}


@router.get("/rig")
def show(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show the rig, and work out what a place to pull at takes when its figures are in the address."""
    return _page(request, session)


def _page(
    request: Request, session: Session, *, fault: FairSquareError | None = None, typed: dict[str, str] | None = None
) -> Response:
    asked = {name: value[:40] for name, value in request.query_params.items()}
    takes: HoldTakes | None = None
    wrong = None
    if asked.get("place"):
        try:
            takes = hold_capacity(_place(asked))
        except FairSquareError as refused:
            wrong = refused
        except ValueError as refused:
            wrong = Refused(f"Every figure should be above 0. {str(refused).splitlines()[0]}", field="place")
    pieces = [(piece, *_looked(piece)) for piece in pull_plans.rig(desk_of(request))]
    return render(
        request,
        "rig.html",
        session,
        fault=fault,
        typed=typed,
        pieces=pieces,
        kinds=GEAR,
        places=PLACES,
        gives=GIVES,
        asked=asked,
        takes=takes,
        wrong_place=wrong,
    )


@router.post("/rig")
@shown_again(_page)
def add(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Add a piece to the rig; capacities are typed in kN."""
    capacity = number_of(form.text("capacity"), "capacity")
    area = number_of(form.text("area_mm2"), "area_mm2")
    pull_plans.add_gear(
        desk_of(request),
        form.session.person,
        form.key,
        form.text("name"),
        form.text("kind"),
        None if capacity is None else capacity * 1000,
        area,
        form.text("made"),
        form.text("words"),
    )
    return go_to("/rig")


@router.post("/rig/{item}/look")
@shown_again(_page)
def look(request: Request, item: int, form: Form = Depends(sent_form)) -> Response:
    """Record how a piece was found."""
    pull_plans.look_at_gear(
        desk_of(request), form.session.person, form.key, item, form.text("found"), form.text("words")
    )
    return go_to("/rig")


def _looked(piece: Gear) -> tuple[int | None, str | None]:
    now = datetime.datetime.now(datetime.UTC)
    days = (now - datetime.datetime.fromisoformat(piece.looked_at)).days if piece.looked_at else None
    return days, piece.caution_at(now)


def _place(asked: dict[str, str]) -> HoldCapacity:
    def figure(name: str) -> float:
        value = number_of(asked.get(name, ""), name)
        if value is None:
            raise Refused("This figure is needed.", field=name, value="")
        return value

    kind = asked["place"]
    if kind not in PLACES:
        raise Refused(f"Say what it is: {', '.join(PLACES.values())}.", field="place", value=kind)
    metal = SheetMetal(thickness_mm=figure("thickness_mm"), rm_mpa=figure("rm_mpa"))
    factor = number_of(asked.get("factor", ""), "factor") or 2.0
    if kind == "tab_weld":
        weld = TabWeld(length_mm=figure("length_mm"), throat_mm=number_of(asked.get("throat_mm", ""), "throat_mm"))
        return HoldCapacity(kind="tab_weld", sheet=metal, weld=weld, factor=factor)
    if kind == "hole":
        hole = HookHole(diameter_mm=figure("diameter_mm"), edge_mm=figure("edge_mm"))
        return HoldCapacity(kind="hole", sheet=metal, hole=hole, factor=factor)
    bolts = PlateBolts(
        count=int(figure("count")),
        area_mm2=figure("area_mm2"),
        rm_mpa=figure("bolt_rm_mpa"),
        diameter_mm=figure("diameter_mm"),
        edge_mm=figure("edge_mm"),
    )
    return HoldCapacity(kind="bolted_plate", sheet=metal, bolts=bolts, factor=factor)
