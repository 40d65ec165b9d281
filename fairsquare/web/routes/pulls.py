"""Planning the pulls: how the vehicle is held, the plan and what it does, whether each pull holds, and the cards to print."""

import time
from collections.abc import Mapping
from types import MappingProxyType
from typing import Any, NamedTuple, cast

import numpy as np
from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import Unsure, pull_plans
from fairsquare.actions.desk import JobView
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.pull.gear import Gear, GearKind
from fairsquare.core.pull.job import (
    PURPOSES,
    PlanSaid,
    PlanSeen,
    WorkPull,
    cautions_of,
    harm_of,
    undone_sense,
    will_hold,
    works_hardest,
)
from fairsquare.core.pull.relaxing import TakesBack
from fairsquare.core.pull.setting import (
    ANCHOR_KINDS,
    HOLD_BY,
    HOOK_KINDS,
    Setting,
    anchors_of,
    frame_of_setting,
)
from fairsquare.core.pull.statics import movement_in_words
from fairsquare.core.sheet.model import points_by_first_code
from fairsquare.core.structure.of_sheet import skeleton_of
from fairsquare.drawings.pulls import pull_drawing
from fairsquare.job.facts.pulls import PullPlanFact
from fairsquare.job.pull.board import board_of, places_now, plan_of, setting_of
from fairsquare.job.pull.proposals import proposals
from fairsquare.job.pull.settling import SETTLED, expected_settling, learned, relaxed_share
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import figures, number_of, whole
from fairsquare.web.page import Form, desk_of, go_to, job_path, reader_of, render, sent_form, signed_in
from fairsquare.web.pull_forms import CHAIN_ROWS, SCHOOLS, plan_typed, school_typed, setting_typed
from fairsquare.web.room import drawing_px
from fairsquare.web.searches import Search, Searches
from fairsquare.web.words import undone_words

router = APIRouter()


@router.get("/jobs/{number}/pulls")
def show(request: Request, number: str, pull: int = 1, session: Session = Depends(signed_in)) -> Response:
    """Show the plan, and one pull of it drawn; with `forms`, also the special forms that are called for."""
    return _page(request, session, number, pull)


def _as_it_stands(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    """Show the plan as it stands, at the pull that was typed about."""
    pull = figures((typed or {}).get("pull", ""), 4) or 1
    return _page(request, session, number, pull, fault=fault, typed=typed)


@router.post("/jobs/{number}/pulls/find")
@shown_again(_as_it_stands)
def find(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Begin a search for a plan; what stands in its way is said at once."""
    desk = desk_of(request)
    version = whole(form.text("plan_version"), "plan_version")
    school = school_typed(form.text("school"))
    asked = pull_plans.check_may_plan(desk, form.session.person, number, school, version)
    _searches(request).begin(number, Search(form.session.person.name, version, school), proposals, asked)
    return go_to(job_path(number, "pulls/search"))


@router.get("/jobs/{number}/pulls/search")
def show_search(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the search for a plan as it stands."""
    return _search_page(request, session, number)


@router.get("/jobs/{number}/pulls/search/now")
def search_now(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the part of the search that lives."""
    return _search_page(request, session, number, template="parts/search.html")


@router.post("/jobs/{number}/pulls/search/stop")
def stop_search(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Stop the search; the best so far stays."""
    del form
    searches, until = _searches(request), time.monotonic() + _STOP_S
    searches.stop(number)
    while (search := searches.of(number)) and not search.over and time.monotonic() < until:
        time.sleep(0.05)
    return go_to(job_path(number, "pulls/search"))


def _search_page(
    request: Request,
    session: Session,
    number: str,
    *,
    template: str = "pull_search.html",
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    search = _searches(request).of(number)
    if search is None:
        return go_to(job_path(number, "pulls"))
    drawn = []
    for proposal in search.best:
        skeleton = frame_of_setting(view.facts.sheet, proposal.setting) if view.facts.sheet else None
        last = proposal.plan.pulls[0]
        drawn.append(
            pull_drawing(
                view.facts.sheet,
                skeleton,
                proposal.setting,
                _now(view),
                last,
                proposal.seen.held[0],
                proposal.seen.played.pulls[-1].free,
                units=reader_of(request).units,
            )
            if view.facts.sheet and skeleton
            else ""
        )
    return render(
        request,
        template,
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="pulls",
        search=search,
        drawn=drawn,
    )


@router.post("/jobs/{number}/pulls/search/keep")
@shown_again(_search_page)
def keep_found(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Keep one of the plans that were found."""
    search = _searches(request).of(number)
    chosen = next(
        (proposal for proposal in (search.best if search else ()) if proposal.title == form.text("title")), None
    )
    if search is None or chosen is None:
        raise Unsure("That plan is not among the best any more: look at what is.", field="choice")
    _searches(request).stop(number)
    pull_plans.keep_proposal(
        desk_of(request),
        form.session.person,
        form.key,
        number,
        chosen,
        search.plan_version,
        form.text("overpull_reason"),
    )
    return go_to(job_path(number, "pulls"))


_STOP_S = 2.0


def _searches(request: Request) -> Searches:
    return cast(Searches, request.app.state.searches)


@router.post("/jobs/{number}/pulls/change")
@shown_again(_as_it_stands)
def change(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Keep a plan with one pull changed, added, moved or taken out."""
    desk, pull = desk_of(request), whole(form.text("pull") or "1", "pull")
    view = desk.view(number)
    now = plan_of(view.facts)
    said = now.plan if now else PlanSaid(school=school_typed(form.text("school")), pulls=())
    plan, pull = plan_typed(said, form, pull, setting_of(view.facts))
    pull_plans.keep_plan(
        desk, form.session.person, form.key, number, plan, whole(form.text("plan_version"), "plan_version")
    )
    return go_to(job_path(number, f"pulls?pull={pull}"))


@router.post("/jobs/{number}/pulls/setting")
@shown_again(_as_it_stands)
def keep_setting(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Keep how the vehicle is held and pulled, and the sections of its members."""
    desk = desk_of(request)
    now = setting_of(desk.view(number).facts)
    setting = setting_typed(form, now, pull_plans.rig(desk))
    sheet, hold_by = desk.view(number).facts.sheet, form.text("hold_by")
    if sheet is not None and hold_by in HOLD_BY:
        setting = setting.model_copy(update={"anchors": anchors_of(sheet, hold_by)})
    pull_plans.keep_setting(
        desk, form.session.person, form.key, number, setting, whole(form.text("setting_version"), "setting_version")
    )
    return go_to(job_path(number, "pulls"))


@router.post("/jobs/{number}/pulls/tower")
@shown_again(_as_it_stands)
def move_tower(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Keep a tower where it was dragged to."""
    desk = desk_of(request)
    setting = setting_of(desk.view(number).facts)
    if setting is None:
        raise Refused("There is no sheet.", field="tower")
    moved = _with_tower(setting, form.text("tower"), form.text("x"), form.text("y"))
    pull_plans.keep_setting(
        desk, form.session.person, form.key, number, moved, whole(form.text("setting_version"), "setting_version")
    )
    return go_to(job_path(number, f"pulls?pull={form.text('pull') or '1'}"))


@router.get("/jobs/{number}/pulls/try")
def try_tower(
    request: Request,
    number: str,
    pull: int = 1,
    tower: str = "",
    x: str = "",
    y: str = "",
    height: str = "",
    session: Session = Depends(signed_in),
) -> Response:
    """Show whether a pull would hold with a tower elsewhere, or its chain higher or lower: statics alone, quickly."""
    view = desk_of(request).view(number)
    plan, setting = plan_of(view.facts), setting_of(view.facts)
    if plan is None or setting is None or not 1 <= pull <= len(plan.plan.pulls):
        raise Refused("There is no such pull.", field="pull", value=pull)
    moved = _with_tower(setting, tower, x, y) if tower else setting
    work = plan.plan.pulls[pull - 1]
    wanted = number_of(height, "height")
    if wanted is not None:
        chains = tuple(c.model_copy(update={"height_mm": wanted}) if c.tower == tower else c for c in work.chains)
        work = work.model_copy(update={"chains": chains})
    return render(
        request,
        "parts/will_hold.html",
        session,
        view=view,
        pull=pull,
        **_held(request, view, moved, work, width=drawing_px(request)),
    )


@router.get("/jobs/{number}/pulls/cards")
def cards(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show the plan as cards to print, one a pull."""
    view = desk_of(request).view(number)
    plan, setting = plan_of(view.facts), setting_of(view.facts)
    if plan is None or setting is None:
        raise Refused("There is no plan yet.", field="pull")
    seen = pull_plans.seen(view.facts, plan.plan)
    sheet, _, request_made = pull_plans.request_of(view.facts, plan.plan.school)
    drawings = [
        pull_drawing(
            sheet,
            request_made.skeleton,
            setting,
            _before(view, seen, k),
            work,
            seen.held[k],
            seen.played.pulls[k].free,
            width=drawing_px(request),
            units=reader_of(request).units,
        )
        for k, work in enumerate(plan.plan.pulls)
    ]
    return render(
        request,
        "pull_cards.html",
        session,
        view=view,
        plan=plan,
        seen=seen,
        drawings=drawings,
        undone=_undone(view, seen),
        cautions=[cautions_of(setting, work) for work in plan.plan.pulls],
        purposes=PURPOSES,
        bears={machine.id: machine.bears_on for machine in setting.machines},
        places={hook.id: (hook.code, HOOK_KINDS[hook.kind]) for hook in setting.hooks},
    )


class _Shown(NamedTuple):
    """What is shown of a plan: the pull by its number, how all are seen, why nothing can be, and what its drawing needs."""

    pull: int
    seen: PlanSeen | None = None
    cannot: FairSquareError | None = None
    held: Mapping[str, Any] = MappingProxyType({})


def _shown(request: Request, view: JobView, setting: Setting, plan: PullPlanFact | None, pull: int) -> _Shown:
    """Return what is shown of a plan, or of the vehicle as it stands where there is none yet."""
    room, units = drawing_px(request), reader_of(request).units
    sheet, _, made = pull_plans.request_of(view.facts, plan.plan.school if plan else "outward")
    if not plan or not plan.plan.pulls:
        drawn = pull_drawing(sheet, made.skeleton, setting, _now(view), None, None, width=room, units=units)
        return _Shown(pull, held={"drawn": drawn})
    pull = min(max(pull, 1), len(plan.plan.pulls))
    seen = pull_plans.seen(view.facts, plan.plan)
    ghost, before = seen.played.pulls[pull - 1].free, _before(view, seen, pull - 1)
    held = _held(request, view, setting, plan.plan.pulls[pull - 1], before=before, ghost=ghost, width=room)
    return _Shown(pull, seen, held=held)


def _page(
    request: Request,
    session: Session,
    number: str,
    pull: int,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    plan, setting = plan_of(view.facts), setting_of(view.facts)
    shown = _Shown(pull)
    if setting is not None:
        try:
            shown = _shown(request, view, setting, plan, pull)
        except FairSquareError as refused:
            shown = shown._replace(cannot=refused)
    seen, pull = shown.seen, shown.pull
    return render(
        request,
        "pulls.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="pulls",
        plan=plan,
        setting=setting,
        bears={machine.id: machine.bears_on for machine in setting.machines} if setting else {},
        seen=seen,
        cannot=shown.cannot,
        pull=pull,
        board=board_of(view.facts),
        hold=view.state.hold("decision_made"),
        schools=SCHOOLS,
        purposes=PURPOSES,
        hook_kinds=HOOK_KINDS,
        anchor_kinds=ANCHOR_KINDS,
        chain_rows=CHAIN_ROWS,
        beside_chains=[f"{of}-{k}" for of in ("hook", "tower", "height", "force") for k in range(CHAIN_ROWS)],
        harm=harm_of(view.facts.sheet, _now(view), seen.played) if seen and view.facts.sheet else (),
        factors=pull_plans.factors_of(view.facts),
        undone=_undone(view, seen),
        settled=[(words, back) for how, words in SETTLED.items() if (back := learned(view.facts, how))],
        takes_back=_takes_back(request, view, plan, pull) if seen else {},
        hold_by=HOLD_BY,
        rig_pieces=_pieces_by_kind(pull_plans.rig(desk_of(request))),
        gear_words=pull_plans.gear_words(desk_of(request), setting, plan.plan.pulls[pull - 1])
        if seen and plan and setting
        else (),
        frame_members=_frame_members(view, setting),
        setting_version=view.facts.pull_settings[-1].version if view.facts.pull_settings else 0,
        plan_version=plan.version if plan else 0,
        **shown.held,
    )


_MOST_SETTLING = 3
_PIECES: dict[str, tuple[GearKind, ...]] = {
    "tower": ("tower", "post"),
    "hook": ("hook", "clamp", "tab", "chain", "strap"),
    "anchor": ("clamp", "chain", "stand", "strap", "hook"),
    "machine": ("jack", "puller"),
    "tie": ("post", "chain", "strap"),
}
"""Which kinds of pieces may stand where in a job's setting."""


def _pieces_by_kind(gear: tuple[Gear, ...]) -> dict[str, list[str]]:
    return {row: [piece.name for piece in gear if piece.kind in kinds] for row, kinds in _PIECES.items()}


def _frame_members(view: JobView, setting: Setting | None) -> list[tuple[str, str, bool]]:
    """Return the members that the sheet makes: name, section, and whether they are in the frame as it is set."""
    if setting is None or view.facts.sheet is None:
        return []
    try:
        made = skeleton_of(view.facts.sheet, setting.boxes, [])
    except Refused:
        return []
    return [(member.id, member.section, member.id not in setting.members_out) for member in made.members]


def _held(
    request: Request,
    view: JobView,
    setting: Setting,
    work: WorkPull,
    *,
    width: float,
    before: Any = None,
    ghost: Any = None,
) -> dict[str, Any]:
    """Return what the part that says whether a pull holds needs: the drawing, the statics and the way the vehicle creeps."""
    sheet = view.facts.sheet
    if sheet is None:
        raise Refused("There is no sheet.", field="sheet")
    skeleton = frame_of_setting(sheet, setting)
    statics, words = will_hold(skeleton, setting, work)
    drawn = pull_drawing(
        sheet,
        skeleton,
        setting,
        before or _now(view),
        work,
        statics,
        ghost,
        movable=True,
        width=width,
        units=reader_of(request).units,
    )
    creep = None
    first = None
    if statics:
        movement = [*statics.movement.translation, *statics.movement.rotation_rad]
        creep = movement_in_words(np.array(movement))
        first = works_hardest(statics, work)
    return {
        "drawn": drawn,
        "bearing": {machine.id: (machine.bears_on, machine.bears_capacity_n) for machine in setting.machines},
        "statics": statics,
        "not_held": words,
        "creep": creep,
        "first": first,
        "work": work,
    }


def _now(view: JobView) -> dict[str, tuple[float, float, float]]:
    points = points_by_first_code(view.facts.sheet) if view.facts.sheet else {}
    return {
        code: (place[0] - points[code].xyz[0], place[1] - points[code].xyz[1], place[2] - points[code].xyz[2])
        for code, place in places_now(view.facts).items()
        if code in points
    }


def _before(view: JobView, seen: PlanSeen, index: int) -> dict[str, tuple[float, float, float]]:
    return dict(seen.played.pulls[index - 1].free) if index else _now(view)


def _undone(view: JobView, seen: PlanSeen | None) -> list[str]:
    """Return what each pull of a plan mainly undoes, in true words: low where it was low."""
    if seen is None or view.facts.sheet is None:
        return []
    before = [_before(view, seen, k) for k in range(len(seen.played.pulls))]
    return [
        undone_words(pull.mode, undone_sense(view.facts.sheet, then, pull.free, pull.mode))
        for then, pull in zip(before, seen.played.pulls, strict=True)
    ]


def _takes_back(request: Request, view: JobView, plan: PullPlanFact | None, pull: int) -> dict[str, TakesBack]:
    """Return what driving is expected to take back of the points that a plan's pulls move most, so far."""
    if plan is None or view.facts.sheet is None:
        return {}
    try:
        sheet, setting, made = pull_plans.request_of(view.facts, plan.plan.school)
        share = relaxed_share(view.facts, desk_of(request).past().relaxed(sheet.construction))
        found = expected_settling(made, setting, plan.plan, pull, share)
    except FairSquareError:
        return {}
    return dict(sorted(found.items(), key=lambda one: -one[1].mm)[:_MOST_SETTLING])


def _with_tower(setting: Setting, tower: str, x: str, y: str) -> Setting:
    at_x, at_y = number_of(x, "x"), number_of(y, "y")
    if tower not in {tower.id for tower in setting.towers}:
        raise Refused("There is no such tower.", field="tower", value=tower[:40])
    if at_x is None or at_y is None:
        return setting
    towers = tuple(t.model_copy(update={"at": (at_x, at_y)}) if t.id == tower else t for t in setting.towers)
    return setting.model_copy(update={"towers": towers})
