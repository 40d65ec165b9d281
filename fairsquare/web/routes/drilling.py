"""The drill map: the welds of a section typed in, the map worked off weld by weld on both sides."""

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import cutting
from fairsquare.actions.spine import spine
from fairsquare.core.cut.lines import Whose
from fairsquare.core.cut.section import FATES, WELD_KINDS, WeldsSaid
from fairsquare.core.cut.working import MARKS, fate_words
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.drawings.drill import mark_sign
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.drill_maps import any_never, bands, cannot, counts, legend
from fairsquare.web.forms import whole
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in, units_of
from fairsquare.web.room import drawing_px
from fairsquare.web.row_editor import asks_for_more
from fairsquare.web.section_editor import editor, seen_section
from fairsquare.web.section_forms import REACHES, WELD_ROWS, weld_rows, welds_known, welds_typed

router = APIRouter()
REACH_WORDS = {"both": "both sides", "top": "top", "bottom": "bottom", "none": "neither"}


@router.get("/jobs/{number}/cuts/{section}/welds")
def edit(request: Request, number: str, section: int, session: Session = Depends(signed_in)) -> Response:
    """Show the fields of a section's welds."""
    return _editor(request, session, number, section)


def _editor(
    request: Request,
    session: Session,
    number: str,
    section: int,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view, state = seen_section(request, number, section)
    said = state.welds or WeldsSaid()
    chosen = {
        "donor": said.donor,
        "part": str(said.part or ""),
        "pilot": f"{said.pilot_mm:g}",
        "hole": f"{said.hole_mm:g}",
    }
    return editor(
        request,
        session,
        "welds_editor.html",
        (view, state),
        WELD_ROWS,
        weld_rows(state.welds) if state.welds else welds_known(view.facts, state.fact.member, state.strip),
        fault,
        typed,
        chosen={name: (typed or {}).get(name, value) for name, value in chosen.items()},
        parts={"": "—", **{str(part.id): part.name for part in view.facts.parts}},
        fates=FATES,
        weld_kinds=WELD_KINDS,
        reaches={name: REACH_WORDS[name] for name in REACHES},
    )


@router.post("/jobs/{number}/cuts/{section}/welds")
@shown_again(_editor)
def keep(request: Request, number: str, section: int, form: Form = Depends(sent_form)) -> Response:
    """Keep welds as they were typed."""
    typed = form.typed()
    if asks_for_more(typed):
        return _editor(request, form.session, number, section, typed=typed)
    welds = welds_typed(typed)
    seen = whole(form.text("version"), "version")
    cutting.keep_welds(desk_of(request), form.session.person, form.key, number, section, welds, seen)
    return go_to(job_path(number, f"cuts/{section}/map"))


@router.get("/jobs/{number}/cuts/{section}/map")
def show(
    request: Request,
    number: str,
    section: int,
    whose: str = "vehicle",
    weld: str = "",
    session: Session = Depends(signed_in),
) -> Response:
    """Show the map, and what comes next on one side; `weld` is the one that is looked at."""
    return _map(request, session, number, section, _side(whose), weld)


def _map_of_form(
    request: Request, session: Session, number: str, section: int, *, fault: FairSquareError | None = None, form: Form
) -> Response:
    """Show the map that a tick was sent from."""
    return _map(request, session, number, section, _side(form.text("whose")), "", fault=fault)


@router.post("/jobs/{number}/cuts/{section}/map")
@shown_again(_map_of_form)
def tick(request: Request, number: str, section: int, form: Form = Depends(sent_form)) -> Response:
    """Tick a weld off, or take its tick back."""
    whose = _side(form.text("whose"))
    done = form.text("done") != "no"
    cutting.tick(desk_of(request), form.session.person, form.key, number, section, whose, form.text("weld"), done=done)
    if request.headers.get("hx-request"):
        return _map(request, form.session, number, section, whose, "")
    return go_to(job_path(number, f"cuts/{section}/map?whose={whose}"))


def _side(text: str) -> Whose:
    return "donor" if text == "donor" else "vehicle"


def _map(
    request: Request,
    session: Session,
    number: str,
    section: int,
    whose: Whose,
    weld: str,
    *,
    fault: FairSquareError | None = None,
) -> Response:
    view, state = seen_section(request, number, section)
    if state.welds is None:
        raise Refused("Its welds are not described yet.", field="section", value=section)
    work, left = state.to_do(whose), state.open(whose)
    looked = next((place for place in work if place.said.id == weld), None)
    taken_back = [t for t in view.facts.weld_ticks if t.section == section and t.whose == whose and not t.done]
    return render(
        request,
        "drill_map.html",
        session,
        fault=fault,
        view=view,
        spine=spine(view),
        at="cuts",
        state=state,
        whose=whose,
        work=work,
        following=looked or (left[0] if left else None),
        ordered=[*left, *(place for place in work if place not in left)],
        bands=bands(state, number, whose, width=drawing_px(request)),
        legend=legend(state, units_of(request)),
        any_never=any_never(state),
        counts=counts(state),
        cannot=cannot(state),
        taken_back=taken_back,
        fates=fate_words(state.welds),
        hard={part.id for part in state.welds.parts if part.hard},
        marks=MARKS,
        mark_sign=mark_sign,
    )
