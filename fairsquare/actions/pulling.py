"""Deeds of pulling: the rig, how the vehicle is held, the plan, and the steps of a pull on the board."""

import datetime
import threading
from collections.abc import Callable, Iterator, Mapping
from functools import lru_cache
from typing import Any, Literal, get_args

from fairsquare.actions.desk import Desk, JobView, Unsure, lacking
from fairsquare.actions.rights import check_may
from fairsquare.actions.walk_round import hear
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.model import Row3
from fairsquare.core.pull.gear import GEAR, Gear
from fairsquare.core.pull.job import (
    CAUTIONS,
    UNDER_LOAD,
    AfterPull,
    BoardState,
    PlanSaid,
    PlanSeen,
    PointCycle,
    SharePast,
    Watched,
    WorkPull,
    along,
    first_tried,
    plan_request,
    seen_plan,
    watched_points,
)
from fairsquare.core.pull.learned import FrameFactors, PulledCycle, fitted_factors, with_factors
from fairsquare.core.pull.plan import PlanPulls, School
from fairsquare.core.pull.rigging import PullRules
from fairsquare.core.pull.search import Chain
from fairsquare.core.pull.setting import Setting, frame_of_setting, pieces_of
from fairsquare.core.said import say
from fairsquare.core.same import Same
from fairsquare.core.sheet.model import Sheet
from fairsquare.job.damage.job import damage_picture
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.pulls import PullPlanFact
from fairsquare.job.intake.walk_round import KINDS, Seen
from fairsquare.job.pull.board import Board, board_of, learned_return, places_now, plan_of, setting_of
from fairsquare.job.pull.full import Fullest, fullest
from fairsquare.job.pull.proposals import Asked, Proposal, proposals
from fairsquare.job.pull.settling import SETTLED, open_settling, stands_free
from fairsquare.job.pull.slip import voided_last
from fairsquare.job.pull.spent import spent_lines
from fairsquare.job.went import Past, place_of
from fairsquare.store import damage, measuring, pulls, shop
from fairsquare.store.database import Connection
from fairsquare.store.kept import Kept
from fairsquare.store.people import Person

NEXT: dict[BoardState, tuple[BoardState, ...]] = {
    "cautions": ("test", "ended"),
    "test": ("look", "stopped", "let_go"),
    "look": ("pulling", "stopped", "let_go"),
    "pulling": ("hold", "relieve", "let_go", "stopped"),
    "hold": ("pulling", "relieve", "let_go", "stopped"),
    "relieve": ("pulling", "hold", "let_go", "stopped"),
    "stopped": ("look", "let_go"),
    "let_go": ("read_free",),
    "read_free": ("cautions", "ended"),
}
"""Which state may follow which on the board."""
_TIGHTENS: frozenset[BoardState] = frozenset({"test", "look", "pulling", "hold", "relieve"})
"""What needs a set-up in force: chains are tight in it, or will be."""


# ── the rig ──────────────────────────────────────────────────────────────────


def rig(desk: Desk) -> tuple[Gear, ...]:
    """Return the pieces of the rig in use."""
    return desk.database.run(pulls.gear)


def add_gear(
    desk: Desk,
    person: Person,
    key: str,
    name: str,
    kind: str,
    capacity_n: float | None,
    area_mm2: float | None,
    made: str,
    words: str,
) -> int:
    """Add a piece to the rig. A capacity that nobody knows is None, and is said loudly from then on."""
    check_may(person, "keep tools")
    name = " ".join(name.split())
    if not 2 <= len(name) <= 120:
        raise Refused("Name it, in 2 to 120 letters, as people call it.", field="name", value=name)
    if kind not in GEAR:
        raise Refused(f"Say what it is: {', '.join(GEAR.values())}.", field="kind", value=kind[:40])
    if capacity_n is not None and not 0 < capacity_n <= 1e8:
        raise Refused(
            "What it takes should be above 0. Leave it empty where nobody knows.", field="capacity", value=capacity_n
        )
    if area_mm2 is not None and not 0 < area_mm2 <= 1e7:
        raise Refused("The area of a ram should be above 0 mm².", field="area_mm2", value=area_mm2)
    if made not in ("maker", "home"):
        raise Refused("Say who made it: a maker, or the shop itself.", field="made", value=made[:20])
    answer = desk.once(
        person,
        key,
        "add gear",
        lambda c: {"id": pulls.add_gear(c, name, kind, capacity_n, area_mm2, made, words.strip()[:300], person.id)},
    )
    return int(answer["id"])


def look_at_gear(desk: Desk, person: Person, key: str, item: int, found: str, words: str) -> None:
    """Record how a piece of the rig was found."""
    check_may(person, "keep tools")
    if found not in ("sound", "hurt", "retired"):
        raise Refused("Say how it was found: sound, hurt, or retired.", field="found", value=found[:20])
    if found != "sound" and len(words.strip()) < 3:
        raise Refused("Say what is wrong with it.", field="words", value=words)
    desk.once(
        person,
        key,
        f"look at gear {item}",
        lambda c: {"id": pulls.look_at_gear(c, item, found, words.strip()[:300], person.id)},
    )


def gear_words(desk: Desk, setting: Setting, work: WorkPull) -> tuple[str, ...]:
    """Return what is to be said loudly of the pieces of the rig that a pull uses."""
    used = pieces_of(setting, (chain.hook for chain in work.chains), (chain.tower for chain in work.chains))
    if not used:
        return ()
    known, now = {piece.name: piece for piece in rig(desk)}, datetime.datetime.now(datetime.UTC)
    said = []
    for name in used:
        caution = known[name].caution_at(now) if name in known else "It is not in the rig any more."
        if caution:
            said.append(f"{name}: {caution}")
    return tuple(said)


# ── the plan ─────────────────────────────────────────────────────────────────


def request_of(facts: JobFacts, school: School = "outward") -> tuple[Sheet, Setting, PlanPulls]:
    """Return the sheet, the setting and the request for a plan of a job. Raises `Refused` without a sheet or readings."""
    sheet, setting = facts.sheet, setting_of(facts)
    if sheet is None or setting is None:
        raise Refused("There is no sheet: a plan needs to know where points belong.", field="sheet", value=None)
    request = plan_request(sheet, places_now(facts), setting, school)
    return sheet, setting, with_factors(request, setting, factors_of(facts))


def keep_setting(desk: Desk, person: Person, key: str, number: str, setting: Setting, seen_version: int) -> int:
    """Keep how the vehicle is held and pulled. Raises `Unsure` when somebody kept another meanwhile."""
    check_may(person, "plan pulls")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        last = view.facts.pull_settings[-1] if view.facts.pull_settings else None
        if (last.version if last else 0) != seen_version:
            by = last.by.name if last else "Somebody"
            raise Unsure(f"{by} changed it meanwhile: look at it, then change it again.", field="setting_version")
        if view.facts.sheet is not None:
            skeleton = frame_of_setting(view.facts.sheet, setting)
            _check_codes(setting, set(skeleton.nodes))
        return {"version": pulls.keep_setting(connection, view.job.id, setting, person.id)}

    return int(desk.in_job(person, key, f"setting {number}", number, work)["version"])


def _check_codes(setting: Setting, known: set[str]) -> None:
    """Refuse points that the frame does not have, with the field of the page, and names that stand twice."""
    places = [(f"hook-{k}-code", hook.code) for k, hook in enumerate(setting.hooks)]
    places += [(f"anchor-{k}-code", anchor.code) for k, anchor in enumerate(setting.anchors)]
    places += [(f"machine-{k}-code", machine.bears_on) for k, machine in enumerate(setting.machines)]
    for field, code in places:
        if code not in known:
            raise Refused(f"{code} is no point of this sheet's frame.", field=field, value=code)
    names = [tower.id for tower in setting.towers] + [machine.id for machine in setting.machines]
    twice = next((name for k, name in enumerate(names) if name in names[:k]), None)
    if twice:
        raise Refused(f"{twice} stands there twice: each needs a name of its own.", field="towers", value=twice)


def asked_for(facts: JobFacts, school: School, rules: PullRules) -> Asked:
    """Return what plans are proposed for, from where points stand now. Raises `Refused` without a sheet or readings."""
    sheet, setting, _ = request_of(facts, school)
    return Asked(sheet, places_now(facts), setting, school, rules, factors_of(facts), spent_lines(facts))


def check_may_plan(desk: Desk, person: Person, number: str, school: School, seen_version: int) -> Asked:
    """Return what is asked of a search for a plan. Raises at once where a plan could not be kept, whatever it were."""
    check_may(person, "plan pulls")
    view = desk.view(number)
    asked = asked_for(view.facts, school, desk_rules(desk))
    _check_changeable(view, seen_version)
    own = plan_of(view.facts)
    if view.facts.practice and (own is None or not own.plan.pulls):
        raise Refused(
            "Say your own plan first: which place, which way, how hard. Then what is found is shown beside it.",
            field="school",
            value=school,
        )
    return asked


def best_of(asked: Asked) -> Proposal | None:
    """Return the best plan that may be pulled as it stands; None where there is none."""
    found = (one for looked in proposals(asked) if looked.over for one in looked.best if not one.refused)
    return next(found, None)


def find_plan(
    desk: Desk, person: Person, key: str, number: str, school: School, seen_version: int, overpull_reason: str = ""
) -> int:
    """Work out a plan and keep the best as the one that counts. Raises `Refused` where none may be pulled as it stands."""
    asked = check_may_plan(desk, person, number, school, seen_version)
    best: Proposal | None = desk.think(person.name, best_of, asked)
    if best is None:
        raise Refused(
            "No pull of this rig was found that helps and harms nothing. Where nothing is off there is nothing to pull; else look "
            "at hooks, towers and what is held, or set a pull yourself.",
            field="school",
            value=school,
        )
    return keep_proposal(desk, person, key, number, best, seen_version, overpull_reason)


def keep_proposal(
    desk: Desk, person: Person, key: str, number: str, proposal: Proposal, seen_version: int, reason: str = ""
) -> int:
    """Keep a plan that was found, with the setting that it needs. Raises `Refused` for one that harms, and for one that draws past
    where points belong by more than common practice has it, without a reason."""
    if proposal.refused:
        raise lacking(proposal.refused[0], field="choice", value=proposal.title)
    reason = " ".join(reason.split())
    if proposal.needs_reason and len(reason) < 8:
        raise lacking(say("plan.write_why", why=proposal.overpull), field="overpull_reason", value=reason)
    plan = proposal.plan.model_copy(update={"title": proposal.title[:300], "overpull_reason": reason[:500]})
    return keep_plan(desk, person, key, number, plan, seen_version, setting=proposal.setting)


def desk_rules(desk: Desk) -> PullRules:
    """Return what this shop asks of a pull."""
    return desk.database.run(shop.pull_rules)


def factors_of(facts: JobFacts) -> FrameFactors:
    """Return what the vehicle's frame has taught by the cycles so far."""
    if not any(event.cycles for event in facts.pull_events):
        return FrameFactors()
    return _factors(Same(facts))


@lru_cache(maxsize=64)
def _factors(held: Same[JobFacts]) -> FrameFactors:
    facts = held.held
    key = tuple(event.id for event in facts.pull_events if event.cycles)
    setting = setting_of(facts)
    if facts.sheet is None or setting is None:
        return FrameFactors()
    return _factors_once(Same(facts.sheet), setting.model_dump_json(), key, held)


_FITTED: Kept[FrameFactors] = Kept(200)
_FITTING = threading.Lock()


def _factors_once(sheet: Same[Sheet], setting_json: str, cycles: tuple[int, ...], held: Same[JobFacts]) -> FrameFactors:
    """Return the factors, fitted once for the same cycles: readings make new facts, and change nothing of what was pulled."""

    def fit() -> FrameFactors:
        facts = held.held
        picture, setting = damage_picture(facts), Setting.model_validate_json(setting_json)
        if picture is None:
            return FrameFactors()
        places = {code: placed.xyz for code, placed in picture.placed.items()}
        try:
            request = plan_request(sheet.held, places, setting, "outward")
        except FairSquareError:
            return FrameFactors()
        return fitted_factors(request, setting, tuple(_cycles_pulled(facts, sheet.held, places)))

    with _FITTING:
        return _FITTED.get((sheet, cycles, setting_json), fit)


def _cycles_pulled(facts: JobFacts, sheet: Sheet, places: Mapping[str, Row3]) -> Iterator[PulledCycle]:
    """Yield every cycle as it was pulled: the forces as read, or as planned where nobody read them. `places`: before any pull."""
    plans = {plan.version: plan.plan for plan in facts.pull_plans}
    watched: dict[str, Watched] = {}
    for event in facts.pull_events:
        watched |= {one.code: one for one in event.watched}
        plan = plans.get(event.plan)
        if not event.cycles or plan is None or event.pull > len(plan.pulls):
            continue
        work = plan.pulls[event.pull - 1]
        measured = all(chain.tower in event.forces and event.forces[chain.tower] > 0 for chain in work.chains)
        chains = tuple(
            Chain(c.hook, c.tower, c.height_mm, event.forces[c.tower] if measured else c.force_n) for c in work.chains
        )
        points = []
        for cycle in event.cycles:
            one = watched.get(cycle.code)
            if one is None or cycle.code not in places:
                continue
            stood = along(one, sheet, places[cycle.code])
            loaded = None if cycle.loaded_mm is None else cycle.loaded_mm - stood
            points.append((cycle.code, one.way, loaded, cycle.after_mm - stood))
        yield PulledCycle(chains, measured, tuple(points))


def keep_plan(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    plan: PlanSaid,
    seen_version: int,
    *,
    setting: Setting | None = None,
) -> int:
    """Keep a plan as the one that counts, with the `setting` that it needs where that is another.

    Raises `Unsure` when another was kept meanwhile, or a pull is under way.
    """
    check_may(person, "plan pulls")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        _check_changeable(view, seen_version)
        _, now, request = request_of(view.facts, plan.school)
        needs = setting or now
        if needs != now:
            request = plan_request(request.sheet, places_now(view.facts), needs, plan.school)
            pulls.keep_setting(connection, view.job.id, needs, person.id)
        for k, pull in enumerate(plan.pulls):
            if pull.past_mm and len(pull.past_reason.strip()) < 8:
                raise Refused(
                    "A target past the sheet goes with a reason, in a sentence.",
                    field=f"pulls.{k}.past_reason",
                    value=pull.past_reason,
                )
        seen_plan(request, needs, plan)
        return {"version": pulls.keep_plan(connection, view.job.id, plan, person.id)}

    return int(desk.in_job(person, key, f"plan {number}", number, work)["version"])


def _check_changeable(view: JobView, seen_version: int) -> None:
    """Refuse to change a plan that somebody else changed, that is being pulled, or before the decision is signed."""
    now = plan_of(view.facts)
    if (now.version if now else 0) != seen_version:
        words = f"{now.by.name if now else 'Somebody'} kept another plan meanwhile: look at it, then change it again."
        raise Unsure(words, field="plan_version", value=seen_version)
    if board_of(view.facts):
        raise Unsure("A pull is under way: end it before the plan is changed.", field="plan_version")
    if view.state.hold("decision_made").status != "closed":
        raise Unsure("“Decision made” is not signed: pulls are planned after it.", field="plan_version")


def seen(facts: JobFacts, plan: PlanSaid) -> PlanSeen:
    """Return what a plan does from where the points stand."""
    _, setting, request = request_of(facts, plan.school)
    return seen_plan(request, setting, plan)


# ── the board ────────────────────────────────────────────────────────────────


def begin(desk: Desk, person: Person, key: str, number: str, pull: int) -> None:
    """Begin a pull of the plan: what is watched is chosen, and the cautions stand first."""
    check_may(person, "pull")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        plan = _plan(view.facts)
        if board_of(view.facts):
            raise Unsure("A pull is under way already: go to its board.", field="pull", value=pull)
        if not 1 <= pull <= len(plan.plan.pulls):
            raise Refused(f"The plan has {len(plan.plan.pulls)} pulls.", field="pull", value=pull)
        if view.setup is None:
            raise Unsure("No set-up is in force: what is pulled is watched, so set up first.", field="pull", value=pull)
        sheet, setting, request = request_of(view.facts, plan.plan.school)
        work_pull = plan.plan.pulls[pull - 1]
        alone = PlanSaid(school=plan.plan.school, pulls=(work_pull,))
        played = seen_plan(request, setting, alone).played
        learned = learned_return(view.facts)
        past = _past_of(desk.past(), view.job.details.construction, sheet)
        watched = watched_points(sheet, places_now(view.facts), work_pull, played, 0, learned=learned, past=past)
        watched = first_tried(watched, setting, proven=any(event.cycles for event in view.facts.pull_events))
        if not watched:
            raise Refused(
                f"Pull {pull} moves no point that is read: there is nothing to watch.", field="pull", value=pull
            )
        body = {"watched": [one.model_dump() for one in watched]}
        return {"id": pulls.note_event(connection, view.job.id, plan.version, pull, "cautions", body, person.id)}

    desk.in_job(person, key, f"begin pull {number}", number, work)


def _past_of(past: Past, construction: str, sheet: Sheet) -> Callable[[str], SharePast | None]:
    """Return what the shop's past says of a point, by its code: what came back there on vehicles of that construction."""

    def of(code: str) -> SharePast | None:
        place = place_of(sheet, code)
        found = past.share(construction, place)
        words = f"the {place} of vehicles of construction {construction}"
        return SharePast(found.mean, found.sigma, found.jobs, words) if found else None

    return of


def go_on(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    seen_state: BoardState,
    state: BoardState,
    ticked: tuple[str, ...] = (),
    words: str = "",
) -> None:
    """Take the pull under way into its next state. Raises `Unsure` when somebody else did meanwhile."""
    check_may(person, "stop a pull" if state == "stopped" else "pull")
    if state not in get_args(BoardState):
        raise Refused("There is no such state of the board.", field="state", value=str(state)[:20])

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        board = _board(view.facts)
        if board.state != seen_state and state != "stopped":
            raise Unsure(
                f"{board.events[-1].by.name} went on meanwhile: the board has moved. Look at it, then say it again.",
                field="state",
                value=state,
            )
        if state == "stopped" and board.state == "stopped":
            return {"id": board.events[-1].id}
        void = voided_last(view.facts)
        if void is not None and state in _TIGHTENS:
            raise Unsure(
                f"The set-up is void: {void.words}. Let go, set up again, then pull: what is pulled is watched.",
                field="state",
                value=state,
            )
        if state not in NEXT.get(board.state, ()):
            raise Unsure(f"From “{board.state}” the board does not go to “{state}”.", field="state", value=state)
        if state == "test" and {name for name, _ in CAUTIONS} - set(ticked):
            left = [text for name, text in CAUTIONS if name not in ticked]
            raise Refused(f"Tick each one by hand first: {left[0]}.", field="ticked", value=list(ticked))
        if board.state == "look" and state == "pulling" and "clamps" not in ticked:
            raise Refused("Look at every clamp again, then tick it.", field="ticked", value=list(ticked))
        body: dict[str, Any] = {"ticked": list(ticked), "words": words.strip()[:500]}
        made = pulls.note_event(connection, view.job.id, board.plan.version, board.pull, state, body, person.id)
        if state == "let_go" and board.state in UNDER_LOAD:
            setup = view.setup.number if view.setup else None
            words_moved = f"pull {board.pull}, cycle {board.cycle}: let go"
            measuring.record_move(connection, view.job.id, setup, "structure", words_moved, person.id)
            pulls.note_event(connection, view.job.id, board.plan.version, board.pull, "read_free", {}, person.id)
        return {"id": made}

    desk.in_job(person, key, f"board {number} {state}", number, work)


def close_cycle(
    desk: Desk, person: Person, key: str, number: str, cycles: tuple[PointCycle, ...], *, again: bool, after: AfterPull
) -> None:
    """Close a cycle with what it did to each watched point, and what was looked for; go round again, or end the pull."""
    check_may(person, "pull")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        board = _board(view.facts)
        if board.state != "read_free":
            raise Unsure("Let go and read free first.", field="state", value=board.state)
        codes = {point.watched.code for point in board.points}
        if {cycle.code for cycle in cycles} != codes:
            missing = sorted(codes - {cycle.code for cycle in cycles})
            raise Refused(f"Say where {', '.join(missing) or 'each watched point'} stands now.", field="cycles")
        for cycle in cycles:
            if cycle.loaded_mm is not None and cycle.loaded_mm < cycle.before_mm - 1.5:
                raise Refused(
                    f"{cycle.code} read {cycle.loaded_mm:.1f} under load and {cycle.before_mm:.1f} before: it went backwards. "
                    "Read it again, along the pull.",
                    field=f"loaded-{cycle.code}",
                    value=cycle.loaded_mm,
                )
        _check_after(view.facts, after)
        since = next((event.by.at for event in reversed(board.events) if event.cycles), board.events[0].by.at)
        read = pulls.largest_loads(connection, view.job.id, since)
        body = {
            "cycles": [cycle.model_dump() for cycle in cycles],
            "after": after.model_dump(),
            "forces": _as_forces(setting_of(view.facts), read),
        }
        if after.cracks.strip():
            _note_after_pull(connection, view, board.pull, "crack", after.cracks.strip(), person)
        if after.seams.strip():
            _note_after_pull(connection, view, board.pull, "torn_seam", after.seams.strip(), person)
        state: BoardState = "cautions" if again else "ended"
        return {"id": pulls.note_event(connection, view.job.id, board.plan.version, board.pull, state, body, person.id)}

    desk.in_job(person, key, f"cycle {number}", number, work)


def _note_after_pull(
    connection: Connection, view: JobView, pull: int, kind: Literal["crack", "torn_seam"], words: str, person: Person
) -> None:
    """Note a crack or a torn seam that was found after a pull among what was seen, so that it stands on its member."""
    said = f"{KINDS[kind]} {words}, found after pull {pull}"[:500]
    try:
        seen = hear(view, f"{KINDS[kind]} {words}", "mm")
    except FairSquareError:
        seen = Seen(kind, words[:200])
    seen = seen._replace(kind=kind)
    damage.note_finding(
        connection, view.job.id, kind, said, seen.place[:200], seen.code, seen.xy, None, None, person.id
    )


def read_load(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    tower: str,
    force_n: float | None,
    pressure_mpa: float | None,
) -> None:
    """Record what a load cell or a pump's gauge says at a tower."""
    check_may(person, "pull")
    if (force_n is None) == (pressure_mpa is None):
        raise Refused("Give force_n, or pressure_mpa: one of the two.", field="force_n", value=force_n)
    if max(force_n or 0.0, pressure_mpa or 0.0) < 0 or (force_n or 0.0) > 1e8 or (pressure_mpa or 0.0) > 1000:
        raise Refused("A load is 0 or more, up to 100 MN or 1000 MPa.", field="force_n", value=force_n)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        setting = setting_of(view.facts)
        if setting is None or tower not in {one.id for one in setting.towers}:
            raise Refused(f"There is no tower “{tower}” in this job's setting.", field="tower", value=tower[:40])
        return {"id": pulls.read_load(connection, view.job.id, tower, force_n, pressure_mpa, person.id)}

    desk.in_job(person, key, f"load {number}", number, work, touch=False, quick=True)


def settle(desk: Desk, person: Person, key: str, number: str, how: str, words: str) -> None:
    """Record that the vehicle is let down and driven, or loaded, after pulls: its set-up is void, and its points are read again."""
    check_may(person, "pull")
    if how not in SETTLED:
        raise Refused(f"Say what is done with it: {' or '.join(SETTLED.values())}.", field="how", value=how[:20])

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        if board_of(view.facts):
            raise Unsure("A pull is under way: let go, read free and end it first.", field="how", value=how)
        stood = stands_free(view.facts)
        if not stood:
            raise Unsure(
                "Nothing that was pulled is read free yet: read the pulled points first, so that there is something to compare.",
                field="how",
                value=how,
            )
        said = words.strip()[:300]
        made = pulls.settle(connection, view.job.id, how, said, stood, person.id)
        setup = view.setup.number if view.setup else None
        moved = f"{SETTLED[how]}{': ' + said if said else ''}"
        measuring.record_move(connection, view.job.id, setup, "vehicle", moved, person.id)
        return {"id": made}

    desk.in_job(person, key, f"driven {number}", number, work)


def read_settled(desk: Desk, person: Person, key: str, number: str) -> None:
    """Keep where the pulled points stand after they were read again. Raises `Unsure` while none of them was."""
    check_may(person, "pull")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        settling = open_settling(view.facts)
        stands = stands_free(view.facts)
        if settling is None:
            raise Unsure("Nothing was driven or loaded that is not read yet.", field="how")
        missing = [code for code in settling.stood if code not in stands]
        if missing:
            raise Unsure(f"Not read again yet: {', '.join(missing)}. Set up anew and read them free.", field="how")
        kept = {code: stands[code] for code in settling.stood}
        pulls.read_settled(connection, settling.id, kept, person.id)
        return {"id": settling.id}

    desk.in_job(person, key, f"read settled {number}", number, work)


def loads(desk: Desk, view: JobView) -> dict[str, tuple[float, float]]:
    """Return the newest force at each tower in N, and how many seconds ago it was read. Pressure is turned to force by the ram."""
    found = desk.database.run(lambda c: pulls.newest_loads(c, view.job.id))
    forces = _as_forces(setting_of(view.facts), found)
    return {name: (force, float(found[name]["ago_s"])) for name, force in forces.items()}


def fullest_now(desk: Desk, view: JobView, board: Board) -> Fullest | None:
    """Return what works hardest in the pull under way and how full it is, by the forces read since its chains were drawn tight: the
    newest of them under load, and once it was let go the largest."""
    tight = next((event.by.at for event in reversed(board.events) if event.state == "test"), None)
    if tight is None:
        return None
    read = pulls.newest_loads if board.state in UNDER_LOAD else pulls.largest_loads
    found = desk.database.run(lambda c: read(c, view.job.id, tight))
    return fullest(view.facts, board, _as_forces(setting_of(view.facts), found))


def _as_forces(setting: Setting | None, read: dict[str, dict[str, Any]]) -> dict[str, float]:
    """Return loads as read at towers in N: a pressure is turned to force by the ram, where its area is known."""
    towers = {tower.id: tower for tower in setting.towers} if setting else {}
    forces = {}
    for name, one in read.items():
        tower, force = towers.get(name), one["force_n"]
        if force is None and tower is not None and tower.ram_area_mm2 is not None:
            force = one["pressure_mpa"] * tower.ram_area_mm2 * tower.falls
        if force is not None:
            forces[name] = float(force)
    return forces


def _plan(facts: JobFacts) -> PullPlanFact:
    plan = plan_of(facts)
    if plan is None or not plan.plan.pulls:
        raise Unsure("There is no plan yet: plan the pulls first.", field="pull")
    return plan


def _board(facts: JobFacts) -> Board:
    board = board_of(facts)
    if board is None:
        raise Unsure("No pull is under way.", field="state")
    return board


def _check_after(facts: JobFacts, after: AfterPull) -> None:
    """Refuse heat without its time, and an aluminium frame without the dye test."""
    if (after.heat_c is None) != (after.heat_min is None):
        raise Refused("Heat goes with its temperature and its minutes.", field="heat_min", value=after.heat_min)
    if facts.sheet is not None and facts.sheet.construction == "aluminium" and not after.dye_test:
        raise Refused("Aluminium: dye test after every pull. Say what it showed.", field="dye_test", value="")
    if after.dye_test == "found" and not after.cracks.strip():
        raise Refused("Say where the crack is that the dye showed.", field="cracks", value="")
