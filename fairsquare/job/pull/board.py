"""The pull board as it stands, worked out from the facts: what is under way, where each watched point is, and how far to go."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import NamedTuple

import numpy as np

from fairsquare.core.axes import apply_pose
from fairsquare.core.model import Code, Row3
from fairsquare.core.pull.job import BoardState, PointCycle, Watched, advice_for, along, room_mm
from fairsquare.core.pull.setting import Setting, usual_setting
from fairsquare.core.pull.springback import PullAdvised
from fairsquare.core.sheet.model import Sheet, points_by_code, points_by_first_code, tolerances
from fairsquare.core.structure.of_sheet import usual_boxes
from fairsquare.job.damage.choices import member_states
from fairsquare.job.damage.job import damage_picture, units_of
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import ReadingFact
from fairsquare.job.facts.pulls import PullEventFact, PullPlanFact
from fairsquare.job.measure.counted import counting
from fairsquare.job.measure.picture import current_setup, picture_of

_WORTH_LEARNING_MM = 2.0
_LEAST_SHARE, _MOST_SHARE = 0.3, 2.0
_SPOILED_MM = 1.0
"""How far a point that was fair has to have gone to be spoiled: three times what a reading scatters."""


class WatchedNow(NamedTuple):
    """A watched point now, mm along its way from the sheet: as last read (None: not yet), loaded or free, and what is advised."""

    watched: Watched
    now_mm: float | None
    loaded: bool
    read_at: str | None
    most_loaded_mm: float | None
    advice: PullAdvised | None
    cycles: tuple[PointCycle, ...]
    stands_mm: float

    @property
    def passed(self) -> bool:
        """Whether it stands past what it must not pass, under load."""
        limit = self.advice.must_not_pass_mm if self.advice else None
        return bool(self.loaded and limit is not None and self.now_mm is not None and self.now_mm > limit)

    @property
    def marks(self) -> tuple[float, float, float] | None:
        """Where to make marks for tape or laser, mm ahead of where it stands free: target, let go, and must not pass."""
        if self.advice is None or self.advice.pull_to_mm is None:
            return None
        stands = self.stands_mm
        return self.watched.target_mm - stands, self.advice.pull_to_mm - stands, self.advice.must_not_pass_mm - stands

    @property
    def reached(self) -> bool:
        """Whether it is where it is to be let go."""
        aim = self.advice.pull_to_mm if self.advice else None
        return bool(self.loaded and aim is not None and self.now_mm is not None and self.now_mm >= aim)

    @property
    def full(self) -> bool:
        """Whether the next stroke could take it past what it must not pass: it is let go, whatever others are short of."""
        limit = self.advice.must_not_pass_mm if self.advice else None
        return bool(self.loaded and limit is not None and self.now_mm is not None and self.now_mm >= limit - room_mm())

    @property
    def short(self) -> bool:
        """Whether it stands short of its tolerance, free."""
        return self.now_mm is not None and self.now_mm < self.watched.target_mm - self.watched.tolerance_mm

    @property
    def at_home(self) -> bool:
        """Whether it stands free where it belongs or past that: more of this pull takes it away from home."""
        return self.now_mm is not None and self.now_mm >= self.watched.target_mm


class Board(NamedTuple):
    """A pull that is under way: its plan and number, the state, the cycle, its watched points, and what happened so far.

    `spoiled`, read free in a plan's last pull: points that were fair when it began and are off now. Pulls before the last may leave
    some off that are brought home after them.
    """

    plan: PullPlanFact
    pull: int
    state: BoardState
    cycle: int
    points: tuple[WatchedNow, ...]
    events: tuple[PullEventFact, ...]
    spoiled: tuple[Code, ...] = ()

    @property
    def let_go(self) -> bool:
        """Whether its points say that it is to be let go."""
        return points_let_go(self.points)

    @property
    def again(self) -> bool:
        """Whether its points, as read free, say that it is to be pulled again."""
        return points_again(self.points) and not self.spoiled


def points_let_go(points: Sequence[WatchedNow]) -> bool:
    """Return whether it is to be let go: all points are where they are to be let go, or one of them may go no farther."""
    reached = [point.reached for point in points if point.advice and point.advice.pull_to_mm is not None]
    return any(point.full for point in points) or (bool(reached) and all(reached))


def points_again(points: Sequence[WatchedNow]) -> bool:
    """Return whether, as read free, another cycle of this pull would bring points nearer and take none away from home."""
    return any(point.short for point in points) and not any(point.at_home for point in points)


def under_way(facts: JobFacts) -> tuple[PullEventFact, ...]:
    """Return the events of the pull that was begun and not ended, oldest first; none where there is none."""
    last = facts.pull_events[-1] if facts.pull_events else None
    if last is None or last.state == "ended":
        return ()
    own: list[PullEventFact] = []
    for event in reversed(facts.pull_events):
        if event.state == "ended":
            break
        own.append(event)
    return tuple(reversed(own))


def setting_of(facts: JobFacts) -> Setting | None:
    """Return how the vehicle is held and pulled: as kept, or the usual for its sheet; None without a sheet."""
    if facts.pull_settings:
        return facts.pull_settings[-1].setting
    return usual_setting(facts.sheet, usual_boxes(facts.sheet), complete=True) if facts.sheet else None


def plan_of(facts: JobFacts) -> PullPlanFact | None:
    """Return the plan that counts."""
    return facts.pull_plans[-1] if facts.pull_plans else None


def places_now(facts: JobFacts) -> dict[str, Row3]:
    """Return where each point stands as far as is known: as read since the structure last moved, else as first found."""
    before = damage_picture(facts)
    setup = current_setup(facts)
    now = picture_of(facts, setup, facts.sheet) if setup and facts.sheet else None
    places = {code: placed.xyz for code, placed in (before.placed if before else {}).items()}
    places.update({code: placed.xyz for code, placed in (now.placed if now else {}).items()})
    return places


def board_of(facts: JobFacts) -> Board | None:
    """Return the board of the pull under way, or None."""
    events = under_way(facts)
    if not events:
        return None
    plan = next(pull_plan for pull_plan in facts.pull_plans if pull_plan.version == events[0].plan)
    watched = next(event.watched for event in events if event.watched)
    cycles = tuple(cycle for event in events for cycle in event.cycles)
    here = sum(1 for event in events if event.cycles)
    last_done = next((event.by.at for event in reversed(events) if event.cycles), events[0].by.at)
    loaded = loaded_places(facts, last_done)
    return Board(
        plan=plan,
        pull=events[0].pull,
        state=events[-1].state,
        cycle=here + 1,
        points=tuple(_now(facts, point, cycles, events, loaded.get(point.code, [])) for point in watched),
        events=events,
        spoiled=_spoiled(facts, events[0].by.at)
        if events[-1].state == "read_free" and events[0].pull == len(plan.plan.pulls)
        else (),
    )


def _spoiled(facts: JobFacts, began: str) -> tuple[Code, ...]:
    setup = current_setup(facts)
    if setup is None or facts.sheet is None:
        return ()
    picture = picture_of(facts, setup, facts.sheet)
    now = {code: placed.xyz for code, placed in picture.placed.items() if code in picture.used}
    return spoiled_points(facts.sheet, _free_before(facts, began), now)


def spoiled_points(sheet: Sheet, before: Mapping[Code, Row3], now: Mapping[Code, Row3]) -> tuple[Code, ...]:
    """Return the points within tolerance before and off now, that went farther than what a reading scatters."""
    points = points_by_code(sheet)

    def off(code: Code, place: Row3) -> bool:
        return bool((np.abs(np.subtract(place, points[code].xyz)) > np.array(tolerances(sheet, points[code]))).any())

    return tuple(
        code
        for code in points
        if code in before and code in now
        if not off(code, before[code]) and off(code, now[code])
        if float(np.linalg.norm(np.subtract(now[code], before[code]))) > _SPOILED_MM
    )


def learned_return(facts: JobFacts) -> float | None:
    """Return what this structure has given back so far, as a share of what its frame said it would; None before it was pulled.

    Chains that draw elsewhere or harder bring another return, so what is learned is carried from pull to pull as a share of it.
    """
    watched: dict[str, Watched] = {}
    pulled: list[tuple[Watched, PointCycle]] = []
    for event in facts.pull_events:
        watched |= {point.code: point for point in event.watched}
        pulled += [(watched[cycle.code], cycle) for cycle in event.cycles if cycle.code in watched]
    return share_given_back(pulled)


def share_given_back(pulled: Iterable[tuple[Watched, PointCycle]]) -> float | None:
    """Return what watched points gave back in their cycles, as a share of what the frame said of each; None where none says."""
    expected, gave = 0.0, 0.0
    for watched, cycle in pulled:
        if cycle.loaded_mm is not None and watched.return_mm >= _WORTH_LEARNING_MM:
            expected += watched.return_mm / watched.learned
            gave += max(0.0, cycle.loaded_mm - cycle.after_mm)
    return min(max(gave / expected, _LEAST_SHARE), _MOST_SHARE) if expected else None


def loaded_places(facts: JobFacts, since: str) -> dict[str, list[tuple[ReadingFact, Row3]]]:
    """Return the readings of points under load since a moment, in vehicle axes, oldest first."""
    places: dict[str, list[tuple[ReadingFact, Row3]]] = {}
    loaded = [reading for reading in counting(facts.readings) if reading.loaded and reading.by.at >= since]
    for reading, place in _placed(facts, loaded):
        places.setdefault(reading.code, []).append((reading, place))
    return places


def _free_before(facts: JobFacts, moment: str) -> dict[str, Row3]:
    """Return where points were read free last before a moment, in vehicle axes, by the set-up that counts."""
    setup = current_setup(facts)
    last = {
        reading.code: reading
        for reading in counting(facts.readings)
        if reading.xyz and not reading.loaded and reading.by.at < moment and setup and reading.setup == setup.number
    }
    return {reading.code: place for reading, place in _placed(facts, last.values())}


def _placed(facts: JobFacts, readings: Iterable[ReadingFact]) -> Iterator[tuple[ReadingFact, Row3]]:
    """Yield those of the readings that were taken by the set-up that counts, and where that is in vehicle axes."""
    setup = current_setup(facts)
    if setup is None or facts.sheet is None:
        return
    fit = picture_of(facts, setup, facts.sheet, join=False).fit
    if fit is None or fit.rotation is None or fit.translation is None:
        return
    rotation, translation = np.array(fit.rotation), np.array(fit.translation)
    for reading in readings:
        if reading.xyz and reading.setup == setup.number:
            x, y, z = apply_pose(rotation, translation, np.array([reading.xyz]))[0]
            yield reading, (float(x), float(y), float(z))


def _now(
    facts: JobFacts,
    watched: Watched,
    cycles: tuple[PointCycle, ...],
    events: tuple[PullEventFact, ...],
    loaded: list[tuple[ReadingFact, Row3]],
) -> WatchedNow:
    own = tuple(cycle for cycle in cycles if cycle.code == watched.code)
    sheet = facts.sheet
    last_free = own[-1].after_mm if any(event.cycles for event in events) and own else watched.was_mm
    now: float | None = None
    read_at, is_loaded, most = None, False, None
    if loaded and sheet:
        now, is_loaded, read_at = along(watched, sheet, loaded[-1][1]), True, loaded[-1][0].by.at
        most = max(along(watched, sheet, place) for _, place in loaded)
    if events[-1].state in ("let_go", "read_free"):
        free = free_place(facts, watched.code)
        now, is_loaded = (along(watched, sheet, free[0]) if free and sheet else None), False
        read_at = free[1] if free else None
    return WatchedNow(
        watched=watched,
        now_mm=now,
        loaded=is_loaded,
        read_at=read_at,
        most_loaded_mm=most,
        advice=advice_for(watched, last_free, own),
        cycles=own,
        stands_mm=last_free,
    )


def free_place(facts: JobFacts, code: str) -> tuple[Row3, str] | None:
    """Return where a point was read free since the structure last moved, and when; None where it was not."""
    setup = current_setup(facts)
    if setup is None or facts.sheet is None:
        return None
    picture = picture_of(facts, setup, facts.sheet)
    placed = picture.placed.get(code)
    used = set(picture.used.get(code, ()))
    at = max((reading.by.at for reading in facts.readings if reading.id in used), default=None)
    return (placed.xyz, at) if placed and at and code in picture.used else None


def pulls_wanted(facts: JobFacts) -> bool:
    """Say whether anything is pulled in this job: a member to be straightened, a plan, or a pull."""
    decided = any(
        state.decision and state.decision.decision in ("straighten", "try", "straighten_then_replace")
        for state in member_states(facts)
    )
    return decided or bool(facts.pull_plans) or bool(facts.pull_events)


def staying_points(facts: JobFacts) -> tuple[str, ...]:
    """Return the points that stay: all of the sheet but those of members that come off whole or are left as they are."""
    if facts.sheet is None:
        return ()
    gone = {
        state.member
        for state in member_states(facts)
        if state.decision
        and state.decision.decision in ("section", "replace_at_seams", "straighten_then_replace", "leave")
    }
    off = {point.code for member, points in units_of(facts.sheet).items() if member in gone for point in points}
    return tuple(code for code in points_by_first_code(facts.sheet) if code not in off)


def after_pulls(facts: JobFacts) -> Mapping[int, PullEventFact]:
    """Return the last end of each pull, by its number."""
    return {event.pull: event for event in facts.pull_events if event.state == "ended" and event.after}
