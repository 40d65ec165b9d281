"""The reading worth taking next: for the points that still decide something, with the tools the shop owns."""

from collections.abc import Sequence

import numpy as np

from fairsquare.core.errors import FairSquareError
from fairsquare.core.measure.network import Floats, equations_of
from fairsquare.core.measure.next_reading import (
    Candidate,
    DifferenceCandidate,
    GaugeCandidate,
    PointCandidate,
    SpanCandidate,
    as_read,
    candidates_of,
    rank,
)
from fairsquare.core.measure.observations import AXES, codes_of, setup_kinds
from fairsquare.core.measure.solve import Network, Solved, solve_network
from fairsquare.core.model import Model
from fairsquare.core.said import Said, say
from fairsquare.core.sheet.model import Sheet, partner_code, points_by_code
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.measure.picture import ARM, Picture, free_readings, network_of, sight_now
from fairsquare.job.measure.tools import ShopTool, what_it_can_read

_FIXES, _HALVES, _MUCH, _NOTHING = 0.25, 0.6, 0.85, 0.98


class Advice(Model):
    """What to read next, and what for; the beginning of the call; and what it would do to the goal, mm²."""

    said: Said
    call: str
    codes: tuple[str, ...]
    trace_before: float
    trace_after: float


def undecided(picture: Picture) -> tuple[str, ...]:
    """Return the points that still decide something: close, or not read in some coordinate, and not off for certain."""
    codes = []
    for code, judged in picture.judged.items():
        states = judged.states
        if judged.state == "close" or ("unread" in states and "off" not in states):
            codes.append(code)
    return tuple(codes)


def advise(facts: JobFacts, picture: Picture, sheet: Sheet, tools: Sequence[ShopTool]) -> Advice | None:
    """Return the reading that takes most from what is not known of the points that still decide something; null for none."""
    goal = undecided(picture)
    if not goal or not picture.relied_on:
        return None
    free = free_readings(facts, picture.setup, sheet, picture.relied_on)
    network = network_of(facts, picture.setup, sheet, free, picture.relied_on)
    candidates = _could_be_read(facts, picture, sheet, tools, network)
    if not candidates:
        return None
    try:
        solved = solve_network(network)
    except FairSquareError:
        return None
    best = next(rank(solved, candidates, goal, 1))
    if best.trace_after > _NOTHING * best.trace_before:
        return None
    return Advice(
        said=say("next.reading", what=_named(best.observation, tools), does=_gain(solved, best.observation, goal)),
        call=_call(best.observation),
        codes=codes_of(best.observation),
        trace_before=best.trace_before,
        trace_after=best.trace_after,
    )


def _could_be_read(
    facts: JobFacts, picture: Picture, sheet: Sheet, tools: Sequence[ShopTool], network: Network
) -> list[Candidate]:
    points = points_by_code(sheet)
    kinds = setup_kinds(network.setups)
    sight = sight_now(facts) if sight_now(facts) in kinds else None
    made: list[Candidate] = []
    for tool in tools:
        made += candidates_of(what_it_can_read(tool, sight), points, kinds)
        if tool.kind == "gauges" and sight:
            made += [
                GaugeCandidate(kind="gauge", setup=sight, a=code, b=other, sigma=tool.sigma_mm)
                for code, point in points.items()
                if code.endswith("L") and (other := partner_code(point)) and other in points
            ]
    if ARM in kinds:
        sigma = picture.setup.sigma_mm
        made += [PointCandidate(kind="point", setup=ARM, code=code, sigma=sigma) for code in points]
    return made


def _gain(solved: Solved, observation: Candidate, goal: Sequence[str]) -> Said:
    """Return what a reading does for the coordinate of the goal that it helps most."""
    equations = equations_of([observation], solved.layout)
    _, slopes = equations.computed(solved.state)
    after = as_read(solved.covariance, equations.columns[0], slopes[0] / equations.sigmas[0])
    before = np.sqrt(np.diag(solved.covariance))
    left = np.sqrt(np.maximum(np.diag(after), 0)) / before
    columns = [(solved.layout.points[code] + axis, code, AXES[axis]) for code in goal for axis in range(3)]
    column, code, axis = max(columns, key=lambda column: _taken(before, left, column[0]))
    share = float(left[column])
    steps = (("fixes", _FIXES), ("halves", _HALVES), ("third", _MUCH))
    how = next((name for name, most in steps if share <= most), "little")
    return say("next.gain", how=how, code=code, axis=axis)


def _taken(before: Floats, left: Floats, column: int) -> float:
    return float(before[column] ** 2 * (1 - left[column] ** 2))


def _named(observation: Candidate, tools: Sequence[ShopTool]) -> Said:
    if isinstance(observation, SpanCandidate):
        tool = next((t for t in tools if t.kind in ("tram", "tape") and t.sigma_mm == observation.sigma), None)
        flat = observation.mode != "point_to_point"
        return say("next.span", tool=tool.name if tool else "Tape", a=observation.a, b=observation.b, flat=flat)
    if isinstance(observation, GaugeCandidate | DifferenceCandidate):
        return say(f"next.{observation.kind}", a=observation.a, b=observation.b)
    return say("next.single", of=observation.kind, code=observation.code)


def _call(observation: Candidate) -> str:
    if isinstance(observation, SpanCandidate):
        return f"{observation.a} {observation.b} "
    if isinstance(observation, GaugeCandidate):
        return f"gauge {observation.a} {observation.b} pin "
    if isinstance(observation, DifferenceCandidate):
        return f"{observation.a} {observation.b} "
    return f"{observation.code} "
