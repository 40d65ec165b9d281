"""Practice: a blow drawn from a seed and hidden, and what came of the pulls that were meant to undo it."""

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import NamedTuple

import numpy as np

from fairsquare.core.axes import less
from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Model, Row3, Vector
from fairsquare.core.pull.setting import Setting, frame_of_setting
from fairsquare.core.same import Same
from fairsquare.core.sheet.model import Sheet, points_by_code, tolerances
from fairsquare.core.structure.blow import left_by
from fairsquare.job.facts.job import JobFacts

LARGEST_SEED = 999_999
FARTHEST_MM = (9.0, 22.0)
_FIRST_N, _GROWS, _TRIES, _HALVINGS = 8000.0, 1.6, 14, 9
_NEAR_MM = 0.6
_GAINED_MM = 1.0
_END, _JUDGED, _LOST_CHAIN = 60.0, 10.0, 5.0
_LOST_FAIR, _LOST_OVER, _LOST_FOR_NOTHING, _LOST_PULL = 15, 10, 5, 3


class Blow(NamedTuple):
    """A hidden blow: where it struck, with what force in N, and how far each point moved, mm."""

    code: Code
    force: Row3
    moved: dict[Code, Row3]


def hidden_blow(sheet: Sheet, setting: Setting, seed: int) -> Blow:
    """Return the blow that a seed stands for: at a free end of the frame, inward and from a side, as hard as leaves the worst
    point 9 to 22 mm from home. Raises `Refused` for a frame that has no free end, or that no blow of these bends so."""
    return _blow(Same(sheet), setting.model_dump_json(), seed)


@lru_cache(maxsize=64)
def _blow(held: Same[Sheet], setting_json: str, seed: int) -> Blow:
    sheet, setting = held.held, Setting.model_validate_json(setting_json)
    skeleton = frame_of_setting(sheet, setting)
    reach = [sheet_point.xyz[0] for sheet_point in sheet.points if sheet_point.code in skeleton.supports]
    ends = sorted(
        code for code, place in skeleton.nodes.items() if reach and not min(reach) - 200 <= place[0] <= max(reach) + 200
    )
    if not ends:
        raise Refused(
            "Nothing of this frame stands beyond what holds it: there is nothing to practise.", field="vehicle"
        )
    random = np.random.default_rng(seed)
    for _ in range(_TRIES):
        code = str(random.choice(ends))
        x, y, _ = skeleton.nodes[code]
        inward = -np.sign(x - np.mean(reach))
        way = np.array([inward, -np.sign(y or 1.0) * random.uniform(-0.1, 0.5), random.uniform(-0.1, 0.3)])
        far = float(random.uniform(*FARTHEST_MM))
        low, high = 0.0, _FIRST_N
        blow: tuple[Row3, dict[Code, Row3]] | None = None
        for _ in range(_TRIES + _HALVINGS):
            size = high if low == 0.0 or high == np.inf else (low + high) / 2
            fx, fy, fz = (size * way / np.linalg.norm(way)).tolist()
            moved = left_by(skeleton, {code: (fx, fy, fz)}, steps=12)
            worst = (
                max((abs(v) for by in (moved or {}).values() for v in by), default=0.0) if moved is not None else np.inf
            )
            if abs(worst - far) < _NEAR_MM and moved is not None:
                blow = (fx, fy, fz), moved
                break
            if worst < far:
                low, high = (0.0, high * _GROWS) if low == 0.0 else (size, high)
            elif low == 0.0:
                low = size / _GROWS
            else:
                high = size
            if high > 1e7:
                break
        if blow:
            force = (round(blow[0][0], -1), round(blow[0][1], -1), round(blow[0][2], -1))
            return Blow(code, force, {c: (round(a, 1), round(b, 1), round(h, 1)) for c, (a, b, h) in blow[1].items()})
    raise Refused(
        "No blow was found that bends this frame by some millimetres: choose another vehicle.", field="vehicle"
    )


class Stood(Model):
    """Where the points truly stood when a pull was let go: pull and cycle from 1, places by code in mm."""

    pull: int
    cycle: int
    places: dict[Code, Vector]


class Worked(Model):
    """How a practice was worked, apart from where it ended.

    `seen`: the share of the points off that were read before the first pull; `own`: of the cycles that were pulled by one's own
    plan and not by one that was found; `free`: of the cycles in which every watched point was read loaded and free; `chains`: the
    most at once, beside what the calculation takes.
    """

    seen: float = 1.0
    own: float = 1.0
    free: float = 1.0
    chains: int = 0
    chains_enough: int = 0

    @property
    def points(self) -> float:
        """Up to 40: 10 for each of what was seen, one's own plan, reading loaded and free, and no chain too many (5 each)."""
        spare = max(0, self.chains - self.chains_enough)
        return _JUDGED * (self.seen + self.own + self.free) + max(0.0, _JUDGED - _LOST_CHAIN * spare)


def worked_of(facts: JobFacts, sheet: Sheet, start: Mapping[Code, Row3], chains_enough: int) -> Worked:
    """Return how a practice was worked, from what was recorded. `start`: where points truly were."""
    off = _off(sheet, start)
    first = next((event.by.at for event in facts.pull_events), "~")
    read = {
        reading.code
        for reading in facts.readings
        if reading.kind == "point" and not reading.loaded and reading.by.at < first
    }
    plans = {plan.version: plan.plan for plan in facts.pull_plans}
    cycles = [event for event in facts.pull_events if event.cycles]
    pulled = {(event.plan, event.pull) for event in cycles}
    return Worked(
        seen=_share([code in read for code in off]),
        own=_share([not plans[event.plan].title for event in cycles if event.plan in plans]),
        free=_share([all(cycle.loaded_mm is not None for cycle in event.cycles) for event in cycles]),
        chains=max((len(plans[plan].pulls[pull - 1].chains) for plan, pull in pulled if plan in plans), default=0),
        chains_enough=chains_enough,
    )


def _share(ones: Sequence[bool]) -> float:
    return sum(ones) / len(ones) if ones else 0.0


class Score(Model):
    """What came of a practice. `points` is 60 × the share of points fair at the end of those that were off, and up to 40 for how it
    was `worked`, less 15 for each point that was fair and is off, 10 for each piece overloaded, 5 for each cycle for nothing after
    the first, which tries how the frame answers, and 3 for each pull beyond what the calculation takes; at least 0, and 0 where
    nothing was pulled."""

    points: int
    were_off: tuple[Code, ...]
    home: tuple[Code, ...]
    spoiled: tuple[Code, ...]
    overloaded: dict[str, float]
    cycles: int
    for_nothing: tuple[tuple[int, int], ...]
    pulls: int
    pulls_enough: int
    left_mm: dict[Code, Row3]
    worked: Worked = Worked()


def score(
    sheet: Sheet,
    start: Mapping[Code, Row3],
    stood: Sequence[Stood],
    peaks: Mapping[str, float],
    pulls_enough: int,
    worked: Worked = Worked(),  # noqa: B008 - it never changes
) -> Score:
    """Return the score of a practice, from the truth: where points were (`start`), where they stood after each cycle, and the
    largest use of each piece of the rig. `pulls_enough` is how many pulls the calculation's own plan takes."""
    ends = [point.places for point in stood]
    end = ends[-1] if ends else start
    off_first, off_last = _off(sheet, start), _off(sheet, end)
    before: Mapping[Code, Row3] = start
    for_nothing = []
    for point in stood:
        if point is not stood[0] and _beyond(sheet, before) - _beyond(sheet, point.places) < _GAINED_MM:
            for_nothing.append((point.pull, point.cycle))
        before = point.places
    home = tuple(code for code in off_first if code not in off_last)
    spoiled = tuple(code for code in off_last if code not in off_first)
    over = {name: use for name, use in peaks.items() if use > 1.0}
    pulls = len({point.pull for point in stood})
    points = _END * len(home) / len(off_first) if off_first else _END
    points += worked.points if stood else 0.0
    points -= _LOST_FAIR * len(spoiled) + _LOST_OVER * len(over) + _LOST_FOR_NOTHING * len(for_nothing)
    points -= _LOST_PULL * max(0, pulls - pulls_enough) if home else 0
    known = points_by_code(sheet)
    return Score(
        points=max(0, round(points)),
        were_off=off_first,
        home=home,
        spoiled=spoiled,
        overloaded=over,
        cycles=len(stood),
        for_nothing=tuple(for_nothing),
        pulls=pulls,
        pulls_enough=pulls_enough,
        worked=worked,
        left_mm={code: less(place, known[code].xyz) for code, place in end.items() if code in known},
    )


def lessons(score: Score) -> tuple[str, ...]:
    """Return what to take from a practice, in words, the gravest first."""
    lessons_learned = [
        f"{name} was loaded to {use:.0%} of what it takes. Look at the share of the weakest link before you pull on, and "
        "let go before it is full."
        for name, use in score.overloaded.items()
    ]
    if score.spoiled:
        lessons_learned.append(
            f"{', '.join(score.spoiled)} was fair and is off: look at the ghost of all points before a pull, and hold what is "
            "to stay."
        )
    worked = score.worked
    if score.cycles and worked.seen < 1:
        lessons_learned.append(
            "Not every point that was off was read before the first pull: measure all of it, then plan."
        )
    if score.cycles and worked.own < 1:
        lessons_learned.append(
            "A plan that was found was pulled: say where, which way and how hard yourself, and pull that."
        )
    if score.cycles and worked.free < 1:
        lessons_learned.append(
            "Not every watched point was read loaded and free: what it gives back is learned from the two."
        )
    if worked.chains > worked.chains_enough > 0:
        lessons_learned.append(
            f"{worked.chains} chains at once where {worked.chains_enough} would do: each is one more to watch and to come off."
        )
    if score.for_nothing:
        said = ", ".join(f"pull {pull}, cycle {cycle}" for pull, cycle in score.for_nothing)
        lessons_learned.append(
            f"Nothing came nearer in {said}: it was let go before the metal yielded, or drew the wrong way. The board says "
            "how far to go past the target."
        )
    left = [code for code in score.were_off if code not in score.home]
    if left and not score.cycles:
        lessons_learned.append("Nothing was pulled.")
    elif left:
        lessons_learned.append(
            f"{', '.join(left)} stayed off: read free after the last pull, and pull again along the way that each has to go."
        )
    if score.pulls > score.pulls_enough and score.home:
        lessons_learned.append(
            f"{score.pulls} pulls where {score.pulls_enough} would do: run the hit backwards, at the place and height where it "
            "struck, before pulling at single points."
        )
    return tuple(lessons_learned) or ("Every point home, nothing overloaded, nothing for nothing. Try another number.",)


def _off(sheet: Sheet, places: Mapping[Code, Row3]) -> tuple[Code, ...]:
    codes = []
    for point in sheet.points:
        if point.code in places:
            away = np.abs(np.subtract(places[point.code], point.xyz))
            if (away > np.array(tolerances(sheet, point))).any():
                codes.append(point.code)
    return tuple(codes)


def _beyond(sheet: Sheet, places: Mapping[Code, Row3]) -> float:
    """Return how far points are beyond their tolerances, mm, all coordinates together."""
    total = 0.0
    for point in sheet.points:
        if point.code in places:
            away = np.abs(np.subtract(places[point.code], point.xyz)) - np.array(tolerances(sheet, point))
            total += float(np.maximum(away, 0.0).sum())
    return total
