"""Bonding: products, steps and surfaces, whether the steps fit, and the clocks that run; the clocks of the whole shop."""

import datetime
import re
from typing import cast

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import clocking, finishing
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.weld.bonding import (
    PRODUCT_KINDS,
    SURFACES,
    TREATMENTS,
    BondSaid,
    bond_waits,
    timeline_of,
)
from fairsquare.drawings.timeline import WIDTH as TIMELINE_PX
from fairsquare.drawings.timeline import timeline_drawing
from fairsquare.job.facts.finishing import ClockKind
from fairsquare.job.weld.job import bond_said
from fairsquare.store import clocks
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import figures, number_of, whole
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in
from fairsquare.web.product_forms import product_row
from fairsquare.web.room import drawing_px
from fairsquare.web.row_editor import asks_for_more, row_page
from fairsquare.web.rows import typed_rows
from fairsquare.web.seam_forms import BOND_ROWS, bond_rows, bond_typed
from fairsquare.web.times import shop_of

router = APIRouter()
CLOCKS: dict[str, str] = {"open": "workable", "cure": "cures", "stop": "paint stop", "other": "counts"}


@router.get("/jobs/{number}/bond")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show products and steps, whether they fit, and the clocks of the job."""
    return _page(request, session, number)


@router.get("/jobs/{number}/bond/plan")
def edit(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the fields of products, steps and surfaces."""
    return _editor(request, session, number)


def _editor(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    said = bond_said(view.facts) or BondSaid()
    rows = typed_rows(typed, BOND_ROWS) if typed else bond_rows(said)
    there = {row["id"].casefold() for row in rows["product"]}
    return row_page(
        request,
        session,
        "bond_plan.html",
        view,
        "bond",
        BOND_ROWS,
        bond_rows(said),
        fault,
        typed,
        _field(fault.field or "") if fault else "",
        said=said,
        version=finishing.version_of(view, "bond"),
        product_kinds=PRODUCT_KINDS,
        surfaces=SURFACES,
        offered=[product for product in shop_of(request).products if product.id.casefold() not in there],
    )


@router.post("/jobs/{number}/bond/plan")
@shown_again(_editor)
def keep(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Keep products, steps and surfaces as they were typed."""
    typed = form.typed()
    if asks_for_more(typed):
        return _editor(request, form.session, number, typed=typed)
    if form.text("add"):
        return _editor(request, form.session, number, typed=_with_product(request, typed, form.text("add")))
    said = bond_typed(typed)
    seen = whole(form.text("version"), "version")
    finishing.say_bond(desk_of(request), form.session.person, form.key, number, said, seen)
    return go_to(job_path(number, "bond"))


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    said = bond_said(view.facts)
    line = timeline_of(said) if said else None
    today = datetime.datetime.now(datetime.UTC).date().isoformat()
    return render(
        request,
        "bond.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="bond",
        said=said,
        line=line,
        drawing=timeline_drawing(line, min(drawing_px(request), TIMELINE_PX)) if line else None,
        waits=bond_waits(said, today),
        kinds=CLOCKS,
        product_kinds=PRODUCT_KINDS,
        surfaces=SURFACES,
        treatments=TREATMENTS,
        clocks=[clock for clock in _running(request) if clock.job == number],
        running={(clock.product, clock.kind) for clock in view.facts.clocks if clock.ended is None},
        ended=[clock for clock in view.facts.clocks if clock.ended is not None][::-1],
    )


@router.post("/jobs/{number}/clocks")
@shown_again(_page)
def start(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Start a clock."""
    kind = form.text("kind", "other")
    if kind not in CLOCKS:
        raise Refused("What does it count?", field="kind", value=kind[:10])
    minutes = number_of(form.text("minutes"), "minutes")
    if minutes is None:
        raise Refused("How many minutes?", field="minutes", value="")
    clocking.start_clock(
        desk_of(request),
        form.session.person,
        form.key,
        number,
        cast(ClockKind, kind),
        form.text("product"),
        form.text("label"),
        minutes,
    )
    return go_to(job_path(number, "bond"))


@router.post("/jobs/{number}/clocks/{clock}/end")
@shown_again(_page, typed=False)
def end(request: Request, number: str, clock: int, form: Form = Depends(sent_form)) -> Response:
    """End a clock; where a product was closed, its curing begins to count."""
    clocking.end_clock(desk_of(request), form.session.person, form.key, number, clock, form.text("words"))
    return go_to(job_path(number, "bond"))


@router.get("/clocks")
def wall(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show every clock that runs, for the wall."""
    return render(request, "clocks.html", session, room="clocks", clocks=_running(request), kinds=CLOCKS)


@router.get("/clocks/strip")
def strip(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Return the clocks that run, for every page."""
    return render(request, "parts/clock_strip.html", session, clocks=_running(request), kinds=CLOCKS)


def _running(request: Request) -> list[clocks.RunningClock]:
    return desk_of(request).database.run(clocks.running)


def _with_product(request: Request, typed: dict[str, str], name: str) -> dict[str, str]:
    """Return what was typed with one more product, as the shop's list has it, behind those that are there."""
    product = next((product for product in shop_of(request).products if product.id == name), None)
    if product is None:
        raise Refused(f"The shop lists no {name[:40]} any more.", field="add", value=name[:40])
    free = 1 + max((int(m[1]) for field in typed if (m := re.match(r"product-(\d{1,4})-", field))), default=-1)
    return {**typed, **{f"product-{free}-{field}": value for field, value in product_row(product).items()}}


_CELL = {
    "open_min": "open",
    "at_c": "at",
    "cure_min": "cure",
    "range_c": "from",
    "opens": "opens",
    "closes": "closes",
    "needs_cured": "needs",
}


def _field(field: str) -> str:
    """Return the field of the form that a fault of the timeline is about: `steps.1.opens` is `step-1-opens`."""
    match field.split("."):
        case [("products" | "steps") as kind, number, *rest] if figures(number) is not None:
            cell = rest[0] if rest else "id"
            return f"{kind[:-1]}-{number}-{_CELL.get(cell, cell)}"
    return field
