"""Planning the cuts: members that are replaced, the strip of each, where it is cut and why, its lines, cuts as they are made."""

from collections.abc import Sequence
from typing import Any, cast

from fastapi import APIRouter, Depends, Request, Response
from markupsafe import Markup

from fairsquare.actions import cutting
from fairsquare.actions.cutting import section_of
from fairsquare.actions.desk import JobView
from fairsquare.actions.spine import spine
from fairsquare.core.cut.budget import CutBudgeted, Marking, cut_budget
from fairsquare.core.cut.judge import StripPlaced, judge_cuts, placed_strip, why_here
from fairsquare.core.cut.lines import donor_longer
from fairsquare.core.cut.section import (
    BEHIND,
    CLEARANCES,
    FEATURES,
    JOINTS,
    RUNS,
    SECTION_HOW,
    AccessCut,
    SectionHow,
    StripSaid,
    check_strip_said,
)
from fairsquare.core.cut.working import metals_that_touch, putting_in
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.lengths import read_length
from fairsquare.core.said import Said
from fairsquare.drawings.budget import budget_drawing
from fairsquare.drawings.strip import WIDTH as STRIP_PX
from fairsquare.drawings.strip import Fields, strip_drawing
from fairsquare.job.cut.job import SectionState, kerf_caution, section_states, unplanned
from fairsquare.job.cut_gate import CAUTIONS, access_waits, final_waits, how_decided
from fairsquare.job.damage.job import counting_walk, damage_picture
from fairsquare.job.damage.job import units_of as units_of_members
from fairsquare.job.facts.cuts import CutKind, CutMadeFact
from fairsquare.job.intake.parts import part_states
from fairsquare.job.missing import Missing
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.drill_maps import any_never, bands, legend
from fairsquare.web.forms import photos_of, whole
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in, units_of
from fairsquare.web.room import drawing_px, whole_px
from fairsquare.web.row_editor import asks_for_more
from fairsquare.web.rows import field_words
from fairsquare.web.section_editor import editor, seen_section
from fairsquare.web.section_forms import (
    STRIP_ROWS,
    form_field,
    lines_typed,
    row_names,
    strip_known,
    strip_rows,
    strip_typed,
)
from fairsquare.words.lengths import Units, length
from fairsquare.words.lengths import words as in_words

router = APIRouter()
MARKINGS: dict[Marking, str] = {"scribe": "scribe", "tape": "tape", "felt_tip": "felt tip"}


@router.get("/jobs/{number}/cuts")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the members that are replaced."""
    return _index(request, session, number)


def _index(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    return render(
        request,
        "cuts.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="cuts",
        states=section_states(view.facts),
        unplanned={member: how_decided(view.facts, member) for member in unplanned(view.facts)},
        how=SECTION_HOW,
    )


@router.post("/jobs/{number}/cuts")
@shown_again(_index)
def begin(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Begin to plan the replacement of a member."""
    how = form.text("how")
    section = cutting.begin(
        desk_of(request), form.session.person, form.key, number, form.text("member"), cast(SectionHow, how)
    )
    page = {"cut": "strip", "seams": "welds"}.get(how)
    return go_to(job_path(number, f"cuts/{section}/{page}" if page else "cuts"))


@router.get("/jobs/{number}/cuts/{section}")
def show_section(request: Request, number: str, section: int, session: Session = Depends(signed_in)) -> Response:
    """Show a section: its strip with the cuts, the budget of its lines, its drill map. `cut-0` and on try cuts elsewhere."""
    return _page(request, session, number, section)


@router.get("/jobs/{number}/cuts/{section}/try")
def try_cuts(
    request: Request, number: str, section: int, words: bool = False, session: Session = Depends(signed_in)
) -> Response:
    """Show the strip with its cuts put elsewhere, what they break and what they cost; `words` alone while one is dragged."""
    view = desk_of(request).view(number)
    state = section_of(view, section)
    part = "parts/strip_words.html" if words else "parts/strip.html"
    return render(request, part, session, view=view, state=state, **_strip_context(request, state, drawn=not words))


@router.get("/jobs/{number}/cuts/{section}/strip")
def edit_strip(request: Request, number: str, section: int, session: Session = Depends(signed_in)) -> Response:
    """Show the fields of a strip."""
    return _strip_page(request, session, number, section)


def _strip_page(
    request: Request,
    session: Session,
    number: str,
    section: int,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view, state = seen_section(request, number, section)
    strip = state.strip
    own = strip.clearance_mm if strip else CLEARANCES
    names = row_names(typed) if typed else lambda kind, number: f"{kind}-{number}"
    return editor(
        request,
        session,
        "strip_editor.html",
        (view, state),
        STRIP_ROWS,
        strip_rows(strip) if strip else strip_known(view.facts, state.fact.member),
        fault,
        typed,
        features=FEATURES,
        behind=BEHIND,
        joints=JOINTS,
        runs=RUNS,
        clearances={
            kind: (typed or {}).get(f"clear-{kind}") or f"{own.get(kind, usual):g}"
            for kind, usual in CLEARANCES.items()
        },
        codes=[point.code for point in view.facts.sheet.points] if view.facts.sheet else [],
        read=_as_it_was_read(view, state, units_of(request)),
        preview=_drawn(request, strip, state.placed, (), fields=names)
        if strip and state.placed and not typed
        else None,
        preview_placed=state.placed if not typed else None,
        preview_fault=None,
        preview_field="",
    )


def _page(
    request: Request,
    session: Session,
    number: str,
    section: int,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    state = section_of(view, section)
    part = state.welds.part if state.welds else None
    return render(
        request,
        "section.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="cuts",
        state=state,
        states=section_states(view.facts),
        joints=JOINTS,
        gates=_gates(view, state),
        openings=_openings(view, state),
        layer_names={layer.id: layer.id for layer in state.strip.layers} if state.strip else {},
        gone=[cut for cut in view.facts.cuts_made if cut.section == section and cut.taken_back],
        photos=photos_of(view.facts, "section").get(state.fact.id, []),
        parts=[part_state for part_state in part_states(view.facts) if part is None or part_state.part.id == part],
        bands=bands(state, number, width=drawing_px(request))[:2],
        legend=legend(state, units_of(request)),
        any_never=any_never(state),
        putting_in=putting_in(state.welds) if state.welds else {},
        touching=metals_that_touch(state.welds) if state.welds else {},
        cautions=CAUTIONS,
        **_strip_context(request, state, typed if typed and "cut-0" in typed else None),
        **_budget_context(state),
    )


@router.post("/jobs/{number}/cuts/{section}/strip")
@shown_again(_strip_page)
def keep_strip(request: Request, number: str, section: int, form: Form = Depends(sent_form)) -> Response:
    """Keep a strip as it was typed."""
    typed = form.typed()
    if asks_for_more(typed):
        return _strip_page(request, form.session, number, section, typed=typed)
    state = section_of(desk_of(request).view(number), section)
    strip = strip_typed(typed, state.strip)
    seen = whole(form.text("version"), "version")
    cutting.keep_strip(desk_of(request), form.session.person, form.key, number, section, strip, seen)
    return go_to(job_path(number, f"cuts/{section}"))


@router.post("/jobs/{number}/cuts/{section}/strip/draw")
def draw_strip(request: Request, number: str, section: int, form: Form = Depends(sent_form)) -> Response:
    """Show a strip as it is being typed, with the cuts that it would have; nothing is kept."""
    typed = form.typed()
    _, state = seen_section(request, number, section)
    fault: FairSquareError | None = None
    drawing, placed = None, None
    try:
        strip = strip_typed(typed, state.strip)
        check_strip_said(strip)
        placed = placed_strip(strip.place, strip.chosen)
        drawing = _drawn(request, strip, placed, (), fields=row_names(typed))
    except FairSquareError as refused:
        fault = refused
    wrong = form_field(fault.field, typed) if fault else ""
    return render(
        request,
        "parts/strip_preview.html",
        form.session,
        preview=drawing,
        preview_placed=placed,
        preview_fault=fault,
        preview_field=field_words(wrong),
    )


@router.post("/jobs/{number}/cuts/{section}/put")
@shown_again(_page)
def put(request: Request, number: str, section: int, form: Form = Depends(sent_form)) -> Response:
    """Keep the cuts where a person put them, or let them go back to the best place."""
    state = section_of(desk_of(request).view(number), section)
    if form.text("do") == "try":
        return _page(request, form.session, number, section, typed=form.typed())
    back = form.text("do") == "best"
    chosen = {} if back else _typed_cuts(state, form.typed())
    reason = "" if back else form.text("reason")
    seen = whole(form.text("version"), "version")
    cutting.put_cuts(desk_of(request), form.session.person, form.key, number, section, chosen, reason, seen)
    return go_to(job_path(number, f"cuts/{section}"))


@router.post("/jobs/{number}/cuts/{section}/lines")
@shown_again(_page)
def keep_lines(request: Request, number: str, section: int, form: Form = Depends(sent_form)) -> Response:
    """Keep how the lines are drawn, sawn and trimmed."""
    lines = lines_typed(form.typed())
    seen = whole(form.text("version"), "version")
    cutting.keep_lines(desk_of(request), form.session.person, form.key, number, section, lines, seen)
    return go_to(job_path(number, f"cuts/{section}") + "#lines")


@router.post("/jobs/{number}/cuts/{section}/made")
@shown_again(_page)
def make(request: Request, number: str, section: int, form: Form = Depends(sent_form)) -> Response:
    """Record a cut that is made."""
    kind = form.text("kind")
    if kind not in ("access", "final"):
        raise Refused("Is it an access cut or the final line?", field="kind", value=kind[:20])
    at = float(read_length(form.text("at"), "mm", field="at").mm) if kind == "access" else None
    cutting.make_cut(
        desk_of(request),
        form.session.person,
        form.key,
        number,
        section,
        form.text("layer"),
        cast(CutKind, kind),
        at,
        form.text("tool"),
        form.text("words"),
        form.text("reason"),
    )
    return go_to(job_path(number, f"cuts/{section}") + "#made")


@router.post("/jobs/{number}/cuts/{section}/made/{cut}/back")
@shown_again(_page, typed=False)
def take_back(request: Request, number: str, section: int, cut: int, form: Form = Depends(sent_form)) -> Response:
    """Take back a cut that was recorded by mistake."""
    cutting.take_cut_back(desk_of(request), form.session.person, form.key, number, section, cut)
    return go_to(job_path(number, f"cuts/{section}") + "#made")


def _typed_cuts(state: SectionState, typed: dict[str, str]) -> dict[str, float]:
    cut = state.strip.cut if state.strip else ()
    cuts = {}
    for index, layer in enumerate(cut):
        text = typed.get(f"cut-{index}", "").strip()
        if text:
            cuts[layer.id] = float(read_length(text, "mm", field=f"cut-{index}").mm)
    return cuts


def _drawn(
    request: Request,
    strip: StripSaid,
    placed: StripPlaced,
    made: Sequence[CutMadeFact],
    *,
    movable: bool = False,
    fields: Fields | None = None,
) -> Markup:
    units = units_of(request)
    return strip_drawing(
        strip,
        placed,
        made,
        lambda mm: length(mm, units, 1).removesuffix(".0"),
        unit=units,
        movable=movable,
        fields=fields,
        width=min(whole_px(request), STRIP_PX),
    )


def _strip_context(
    request: Request, state: SectionState, typed: dict[str, str] | None = None, *, drawn: bool = True
) -> dict[str, Any]:
    """Return the strip as drawn, its cuts as they count or as they are tried, and the words beside it."""
    strip, placed = state.strip, state.placed
    if strip is None or placed is None:
        return {"drawing": None, "trial": False, "judged": None, "best": None, "why": {}, "cut_texts": []}

    wanted = typed if typed is not None else dict(request.query_params)
    trial: dict[str, float] = {}
    fault: FairSquareError | None = None
    try:
        trial = _typed_cuts(state, wanted)
    except FairSquareError as refused:
        fault = refused
    judged = placed.judged
    if trial:
        start = dict(placed.judged.cuts) if placed.judged else {layer.id: layer.start for layer in strip.cut}
        judged = judge_cuts(strip.place, {**start, **trial}, placed.best)
    best, place = placed.best, strip.place
    return {
        "drawing": _drawn(request, strip, placed.model_copy(update={"judged": judged}), state.cuts, movable=True)
        if drawn
        else None,
        "trial": bool(trial),
        "trial_fault": fault,
        "judged": judged,
        "best": best,
        "why": {layer.id: why_here(place, best, layer.id) for layer in strip.cut} if best and drawn else {},
        "cut_texts": [
            (layer.id, wanted.get(f"cut-{index}") or (f"{judged.cuts[layer.id]:.10g}" if judged else ""))
            for index, layer in enumerate(strip.cut)
        ],
    }


def _openings(view: JobView, state: SectionState) -> list[tuple[AccessCut, Said | None]]:
    """Return the access cuts that are planned and not made yet, with what each waits for."""
    made = {(cut.layer, cut.at_mm) for cut in state.cuts if cut.kind == "access"}
    planned = state.strip.access_cuts if state.strip else ()
    return [
        (cut, access_waits(view.facts, view.state, state, cut)) for cut in planned if (cut.layer, cut.at_mm) not in made
    ]


def _gates(view: JobView, state: SectionState) -> list[tuple[list[str], tuple[Missing, ...]]]:
    """Return the layers that are not cut yet, those together that wait for the same, with what that is."""
    gates: list[tuple[list[str], tuple[Missing, ...]]] = []
    for layer in state.strip.cut if state.strip else ():
        if state.final(layer.id) is not None:
            continue
        waits = final_waits(view.facts, view.state, state, layer.id)
        same = next((names for names, missing in gates if missing == waits), None)
        if same is None:
            gates.append(([layer.id], waits))
        else:
            same.append(layer.id)
    return gates


def _budget_context(state: SectionState) -> dict[str, Any]:
    """Return how surely the gap holds by each marking, drawn for the one that is used and the worst other."""
    lines = state.lines
    cut = state.strip.cut if state.strip else ()
    backing = any(layer.backed for layer in cut) or not cut
    if cut and not backing:
        return {"budget": None, "markings": MARKINGS, "lines": lines, "longer": donor_longer(lines)}
    own = lines.budget(backing=backing)
    table: list[tuple[Marking, str, CutBudgeted]] = []
    for marking, words in MARKINGS.items():
        table.append((marking, words, cut_budget(lines.budget(backing=backing, marking=marking))))
    other: Marking = "felt_tip" if lines.marking != "felt_tip" else "scribe"
    return {
        "budget": cut_budget(own),
        "budget_asked": own,
        "budget_table": table,
        "budget_drawing": budget_drawing(
            own, lines.budget(backing=backing, marking=other), MARKINGS[lines.marking], MARKINGS[other]
        ),
        "markings": MARKINGS,
        "lines": lines,
        "longer": donor_longer(lines),
        "kerf": kerf_caution(lines, own.gap),
    }


def _as_it_was_read(view: JobView, state: SectionState, units: Units) -> list[str]:
    """Return what is known of the damage of a member, in words: seen at the walk-round, and where its points stand."""
    sheet = view.facts.sheet
    own = units_of_members(sheet).get(state.fact.member, ()) if sheet else ()
    codes = {point.code for point in own}
    words = [
        f"“{seen.said}”" for seen in counting_walk(view.facts) if seen.code in codes or state.fact.member in seen.place
    ]
    picture = damage_picture(view.facts)
    judged = picture.judged if picture else {}
    words += [
        f"{point.code}: {in_words(judged[point.code].deviation, point.xyz, units)}"
        for point in own
        if point.code in judged and judged[point.code].state in ("off", "close")
    ]
    return words
