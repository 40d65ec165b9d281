"""Deeds of pulling: the steps of a pull on the board, what is read under load, and what is driven or settled after it."""

from collections.abc import Callable
from typing import Any, Literal, get_args

from fairsquare.actions.desk import Desk, JobView, Unsure
from fairsquare.actions.pull_plans import request_of
from fairsquare.actions.rights import check_may
from fairsquare.actions.walk_round import hear
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.pull.job import (
    UNDER_LOAD,
    AfterPull,
    BoardState,
    PlanSaid,
    PointCycle,
    SharePast,
    cautions_of,
    first_tried,
    seen_plan,
    watched_points,
)
from fairsquare.core.pull.setting import Setting
from fairsquare.core.sheet.model import Sheet
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.pulls import PullPlanFact
from fairsquare.job.intake.walk_round import KINDS, Seen
from fairsquare.job.pull.board import Board, board_of, learned_return, places_now, plan_of, setting_of
from fairsquare.job.pull.full import Fullest, fullest
from fairsquare.job.pull.settling import SETTLED, open_settling, stands_free
from fairsquare.job.pull.slip import voided_last
from fairsquare.job.went import Past, place_of
from fairsquare.store import damage, measuring, pulls
from fairsquare.store.database import Connection
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
        body = {"watched": [point.model_dump() for point in watched]}
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
        cautions = cautions_of(setting_of(view.facts), board.plan.plan.pulls[board.pull - 1])
        if state == "test" and {name for name, _ in cautions} - set(ticked):
            left = [text for name, text in cautions if name not in ticked]
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
        if setting is None or tower not in {tower.id for tower in setting.towers}:
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
        settled_words = words.strip()[:300]
        made = pulls.settle(connection, view.job.id, how, settled_words, stood, person.id)
        setup = view.setup.number if view.setup else None
        moved = f"{SETTLED[how]}{': ' + settled_words if settled_words else ''}"
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
    newest = desk.database.run(lambda c: pulls.newest_loads(c, view.job.id))
    forces = _as_forces(setting_of(view.facts), newest)
    return {name: (force, float(newest[name]["ago_s"])) for name, force in forces.items()}


def fullest_now(desk: Desk, view: JobView, board: Board) -> Fullest | None:
    """Return what works hardest in the pull under way and how full it is, by the forces read since its chains were drawn tight: the
    newest of them under load, and once it was let go the largest."""
    tight = next((event.by.at for event in reversed(board.events) if event.state == "test"), None)
    if tight is None:
        return None
    read = pulls.newest_loads if board.state in UNDER_LOAD else pulls.largest_loads
    read_now = desk.database.run(lambda c: read(c, view.job.id, tight))
    return fullest(view.facts, board, _as_forces(setting_of(view.facts), read_now))


def _as_forces(setting: Setting | None, read: dict[str, dict[str, Any]]) -> dict[str, float]:
    """Return loads as read at towers in N: a pressure is turned to force by the ram, where its area is known."""
    towers = {tower.id: tower for tower in setting.towers} if setting else {}
    forces = {}
    for name, load in read.items():
        tower, force = towers.get(name), load["force_n"]
        if force is None and tower is not None and tower.ram_area_mm2 is not None:
            force = load["pressure_mpa"] * tower.ram_area_mm2 * tower.falls
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
