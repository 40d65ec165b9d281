"""The pull board: full screen, live, with what matters in figures that are read from five metres."""

from functools import lru_cache
from typing import Any, cast

from fastapi import APIRouter, Depends, Request, Response
from markupsafe import Markup

from fairsquare.actions import pull_plans, pulling
from fairsquare.actions.desk import JobView
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.lengths import read_length
from fairsquare.core.pull.job import (
    BOARD_WORDS,
    EVERY_CAUTION,
    UNDER_LOAD,
    AfterPull,
    BoardState,
    ChainSet,
    PointCycle,
    WorkPull,
    cautions_of,
    works_hardest,
)
from fairsquare.core.pull.setting import Setting, frame_of_setting
from fairsquare.core.pull.statics import PullsHeld
from fairsquare.core.same import Same
from fairsquare.core.sheet.model import Sheet
from fairsquare.drawings.board import cycles_drawing, scale_drawing
from fairsquare.drawings.pulls import pull_drawing
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.pull.board import Board, WatchedNow, board_of, plan_of, setting_of
from fairsquare.job.pull.settling import SETTLED, learned, open_settling, stands_free, taken_back
from fairsquare.job.pull.slip import held_as_planned, voided_last
from fairsquare.job.pull.verdict import verdict_of
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import number_of, whole
from fairsquare.web.page import Form, desk_of, go_to, job_path, reader_of, render, sent_form, signed_in
from fairsquare.web.room import beside_px
from fairsquare.web.words import way_words

router = APIRouter()
QUIET_S = 2.0
"""After this long without a reading under load the board says so in the largest type there is."""


@router.get("/jobs/{number}/board")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the board of the pull under way, or what can be begun."""
    return _page(request, session, number)


@router.get("/jobs/{number}/board/now")
def now(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the part of the board that lives."""
    view = desk_of(request).quick_view(number)
    board = board_of(view.facts)
    if board is None:
        return render(request, "parts/board_gone.html", session, view=view)
    return render(request, "parts/board.html", session, **_shown(request, view, board))


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    board = board_of(view.facts)
    if board is None:
        plan = plan_of(view.facts)
        ended = {event.pull: event for event in view.facts.pull_events if event.state == "ended"}
        holds = [hold for hold in view.state.holds if hold.name == "pulls_done"]
        return render(
            request,
            "pulls_made.html",
            session,
            fault=fault,
            typed=typed,
            view=view,
            spine=spine(view),
            at="board",
            plan=plan,
            ended=ended,
            hold=holds[0] if holds else None,
            drawn=cycles_drawing(_cycles_by_code(view), reader_of(request).units),
            settled=SETTLED,
            settling=open_settling(view.facts),
            settling_read=bool(stands_free(view.facts)),
            taken_back=taken_back(view.facts),
            learned={how: learned(view.facts, how) for how in SETTLED},
            afters=[event for event in view.facts.pull_events if event.after],
        )
    return render(
        request, "board.html", session, fault=fault, typed=typed, quiet_s=QUIET_S, **_shown(request, view, board)
    )


@router.post("/jobs/{number}/board/begin")
@shown_again(_page, typed=False)
def begin(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Begin a pull."""
    pulling.begin(desk_of(request), form.session.person, form.key, number, whole(form.text("pull"), "pull"))
    return go_to(job_path(number, "board"))


@router.post("/jobs/{number}/board/go")
@shown_again(_page)
def go(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Take the pull into its next state."""
    pulling.go_on(
        desk_of(request),
        form.session.person,
        form.key,
        number,
        cast(BoardState, form.text("seen")),
        cast(BoardState, form.text("state")),
        ticked=tuple(name for name in (*(key for key, _ in EVERY_CAUTION), "clamps") if form.text(f"tick-{name}")),
        words=form.text("words"),
    )
    return go_to(job_path(number, "board"))


@router.post("/jobs/{number}/board/settle")
@shown_again(_page)
def settle(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record that the vehicle is driven or loaded, or that its points were read again after that."""
    desk = desk_of(request)
    if form.text("do") == "read":
        pulling.read_settled(desk, form.session.person, form.key, number)
    else:
        pulling.settle(desk, form.session.person, form.key, number, form.text("how"), form.text("words"))
    return go_to(job_path(number, "board"))


@router.post("/jobs/{number}/board/cycle")
@shown_again(_page)
def close_cycle(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Close a cycle: what came of it at each watched point, and what was looked for after the pull."""
    desk = desk_of(request)
    board = board_of(desk.view(number).facts)
    cycles = tuple(_cycle_typed(form, point) for point in (board.points if board else ()))
    pulling.close_cycle(
        desk,
        form.session.person,
        form.key,
        number,
        cycles,
        again=form.text("do") == "again",
        after=_after_typed(form),
    )
    return go_to(job_path(number, "board" if form.text("do") == "again" else "pulls"))


def _cycle_typed(form: Form, point: WatchedNow) -> PointCycle:
    code = point.watched.code

    def mm(name: str) -> float:
        text = form.text(f"{name}-{code}").strip()
        if not text:
            raise Refused(
                f"Say where {code} stood, along the pull, + the way it goes; under load a ? where nobody knows.",
                field=f"{name}-{code}",
                value="",
            )
        return float(read_length(text, "mm", field=f"{name}-{code}").mm)

    unknown = form.text(f"loaded-{code}").strip() in ("?", "unknown")
    return PointCycle(
        code=code, before_mm=mm("before"), loaded_mm=None if unknown else mm("loaded"), after_mm=mm("after")
    )


def _after_typed(form: Form) -> AfterPull:
    dye = form.text("dye_test")
    heat, minutes = number_of(form.text("heat_c"), "heat_c"), number_of(form.text("heat_min"), "heat_min")
    if heat is not None and not 0 <= heat <= 1500:
        raise Refused("Heat is 0 to 1500 °C.", field="heat_c", value=heat)
    if minutes is not None and not 0 <= minutes <= 600:
        raise Refused("Heat is held for 0 to 600 minutes.", field="heat_min", value=minutes)
    if form.text("looked") != "1":
        raise Refused("Look for new cracks and torn seams, then tick that it was done.", field="looked", value="")
    return AfterPull(
        heat_c=heat,
        heat_min=minutes,
        dolly=bool(form.text("dolly")),
        relieved=bool(form.text("relieved")),
        cracks=form.text("cracks").strip()[:500],
        seams=form.text("seams").strip()[:500],
        dye_test="clear" if dye == "clear" else "found" if dye == "found" else "",
        words=form.text("words").strip()[:500],
    )


def _cycles_by_code(view: JobView) -> dict[str, list[PointCycle]]:
    cycles: dict[str, list[PointCycle]] = {}
    for event in view.facts.pull_events:
        for cycle in event.cycles:
            cycles.setdefault(cycle.code, []).append(cycle)
    return cycles


def _shown(request: Request, view: JobView, board: Board) -> dict[str, Any]:
    work, units = board.plan.plan.pulls[board.pull - 1], reader_of(request).units
    statics, words, ground, aluminium = _standing(view.facts, work, beside_px(request))
    loads = pulling.loads(desk_of(request), view)
    weakest = works_hardest(statics, work)
    gear = pulling.fullest_now(desk_of(request), view, board)
    void = voided_last(view.facts)
    verdict = verdict_of(board, gear, void)
    chains: list[tuple[ChainSet, tuple[float, float] | None, float | None]] = []
    for number, chain in enumerate(work.chains, 1):
        force = loads.get(chain.tower)
        limit = statics.pulls[f"chain {number}"] if statics else None
        takes = chain.force_n / limit.use if limit and limit.use else None
        chains.append((chain, force, takes))
    return {
        "view": view,
        "board": board,
        "work": work,
        "words": BOARD_WORDS[board.state],
        "points": [(point, scale_drawing(point, units), way_words(point.watched.way)) for point in board.points],
        "say": verdict,
        "stop": verdict.stop,
        "again": verdict.again,
        "gear_words": pull_plans.gear_words(desk_of(request), setting, work)
        if (setting := setting_of(view.facts))
        else (),
        "void": void,
        "slipped_before": _set_up_since(view, board),
        "by_hand": view.setup is None or view.setup.kind == "sight",
        "under_load": board.state in UNDER_LOAD
        and board.state not in ("test", "look")
        and view.setup is not None
        and view.setup.kind == "instrument",
        "chains": chains,
        "weakest": weakest,
        "not_held": words,
        "cautions": cautions_of(setting_of(view.facts), work),
        "ground": ground,
        "last": board.events[-1],
        "states": BOARD_WORDS,
        "aluminium": aluminium,
        "cycles_drawn": cycles_drawing({p.watched.code: list(p.cycles) for p in board.points if p.cycles}, units),
    }


def _set_up_since(view: JobView, board: Board) -> bool:
    """Say whether another set-up was made since the pull was begun: what was read under load before it counts no more."""
    return view.setup is not None and view.setup.opened.at > board.events[0].by.at


def _standing(facts: JobFacts, work: WorkPull, width: float) -> tuple[PullsHeld | None, tuple[str, ...], Markup, bool]:
    """Return what does not change while a pull is on, worked out once: its statics, why it is not held, the ground, aluminium."""
    setting, sheet = setting_of(facts), facts.sheet
    if setting is None or sheet is None:
        raise Refused("There is no sheet.", field="sheet")
    statics, words = held_as_planned(facts, work)
    ground, aluminium = _once(Same(sheet), setting.model_dump_json(), work, Same(statics), width)
    return statics, words, ground, aluminium


@lru_cache(maxsize=64)
def _once(
    held: Same[Sheet], setting_json: str, work: WorkPull, statics: Same[PullsHeld | None], width: float
) -> tuple[Markup, bool]:
    setting, sheet = Setting.model_validate_json(setting_json), held.held
    skeleton = frame_of_setting(sheet, setting)
    ground = pull_drawing(sheet, skeleton, setting, {}, work, statics.held, ground_only=True, width=width)
    return ground, sheet.construction == "aluminium"
