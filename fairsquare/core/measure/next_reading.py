"""The reading that would help most: which observation, not yet made, takes most from what is not known of the goal points."""

from collections.abc import Iterator, Sequence
from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.measure.network import Floats, Ints, Layout, equations_of
from fairsquare.core.measure.observations import (
    NEAREST_ENDS_MM,
    DifferenceToRead,
    GaugeToRead,
    HeightToRead,
    Identity,
    OffsetToRead,
    PointToRead,
    SetupKind,
    Sigma,
    SpanToRead,
    check_observation,
    setup_kinds,
)
from fairsquare.core.measure.solve import Network, Solved, solve_network
from fairsquare.core.model import Code, Many, Model, NotNegative
from fairsquare.core.sheet.model import Point, SpanMode, find_point, points_by_code

_AT_ONCE = 20_000


class _Named(Model):
    """A candidate may carry a name of its own; it is left out where there is none."""

    id: Identity | None = Field(default=None, exclude_if=lambda name: name is None)


class PointCandidate(PointToRead, _Named):
    """A point that could be read."""


class SpanCandidate(SpanToRead, _Named):
    """A span that could be read."""


class DifferenceCandidate(DifferenceToRead, _Named):
    """A difference that could be read."""


class HeightCandidate(HeightToRead, _Named):
    """A height that could be read."""


class OffsetCandidate(OffsetToRead, _Named):
    """An offset that could be read."""


class GaugeCandidate(GaugeToRead, _Named):
    """A gauge that could be hung; it reads pin and level."""


Candidate = Annotated[
    PointCandidate | SpanCandidate | DifferenceCandidate | HeightCandidate | OffsetCandidate | GaugeCandidate,
    Field(discriminator="kind"),
]


class SpanTool(Model):
    """A tape or tram: what it reaches, mm, in which modes, and how far its pointers differ at the most, mm."""

    kind: Literal["span"]
    sigma: Sigma
    mode: SpanMode | None = None
    from_mm: NotNegative = 0.0
    to_mm: NotNegative | None = None
    pointer_mm: NotNegative | None = None


class PointTool(Model):
    """What reads every point of the sheet from a set-up: an instrument, a sight's height or offset."""

    kind: Literal["height", "offset", "point"]
    setup: Identity | None = None
    sigma: Sigma


Tool = Annotated[SpanTool | PointTool, Field(discriminator="kind")]


class NextMeasurement(Network):
    """The network, what could be read next (candidates, or tools to make them from), and the points that matter."""

    candidates: Many[Candidate] | None = None
    tools: Many[Tool] = ()
    goal: Many[Code]
    count: Annotated[int, Field(ge=1)] = 3


class RankedReading(Model):
    """A reading to take, and the sum of the variances of the goal's coordinates before and after it, mm²."""

    observation: Candidate
    trace_before: float
    trace_after: float


class ReadingsRanked(Model):
    """The readings worth taking, the best first, each with those before it taken as read."""

    ranked: tuple[RankedReading, ...]


def next_measurement(request: NextMeasurement) -> ReadingsRanked:
    """Rank what could be read next by what it leaves unknown of the goal. Raises `Refused` for a request without a choice."""
    points = points_by_code(request.sheet)
    if not request.goal:
        raise Refused("The goal names no point: say which points still decide something.", field="goal", value=[])
    for index, code in enumerate(request.goal):
        find_point(points, code, f"goal.{index}")
    candidates = _candidates(request, points)
    solved = solve_network(Network(**{name: getattr(request, name) for name in Network.model_fields}))
    return ReadingsRanked(ranked=tuple(rank(solved, candidates, request.goal, request.count)))


def _candidates(request: NextMeasurement, points: dict[str, Point]) -> list[Candidate]:
    kinds = setup_kinds(request.setups)
    if request.candidates is None and not request.tools:
        raise Refused(
            "Neither candidates nor tools: say what could be read, or with which tools.", field="tools", value=[]
        )
    if request.candidates is not None:
        for index, candidate in enumerate(request.candidates):
            check_observation(candidate, points, kinds, f"candidates.{index}")
        return list(request.candidates)
    return candidates_of(request.tools, points, kinds)


def candidates_of(tools: Sequence[Tool], points: dict[str, Point], kinds: dict[str, SetupKind]) -> list[Candidate]:
    """Return what could be read with some tools on a sheet. Raises `Refused` for a set-up that is not declared."""
    made: list[Candidate] = []
    for index, tool in enumerate(tools):
        if isinstance(tool, SpanTool):
            made += _spans(tool, points)
        else:
            made += _of_every_point(tool, points, kinds, f"tools.{index}")
    return made


def _spans(tool: SpanTool, points: dict[str, Point]) -> list[Candidate]:
    """Return every pair of sheet points whose distance the tool reaches, point-to-point before datum-parallel."""
    codes = list(points)
    places = np.array([point.xyz for point in points.values()], dtype=float).reshape(-1, 3)
    first, second = np.triu_indices(len(codes), 1)
    apart = places[first] - places[second]
    modes: tuple[SpanMode, ...] = ("point_to_point", "datum_parallel") if tool.mode is None else (tool.mode,)
    reached = {}
    for mode in modes:
        length = np.linalg.norm(apart if mode == "point_to_point" else apart[:, :2], axis=1)
        fits = (length >= max(tool.from_mm, NEAREST_ENDS_MM)) & (
            length <= (np.inf if tool.to_mm is None else tool.to_mm)
        )
        if mode == "datum_parallel" and tool.pointer_mm is not None:
            fits &= np.abs(apart[:, 2]) <= tool.pointer_mm
        reached[mode] = fits
    return [
        SpanCandidate(kind="span", a=codes[a], b=codes[b], mode=mode, sigma=tool.sigma)
        for row, (a, b) in enumerate(zip(first, second, strict=True))
        for mode in modes
        if reached[mode][row]
    ]


def _of_every_point(
    tool: PointTool, points: dict[str, Point], kinds: dict[str, SetupKind], field: str
) -> Iterator[Candidate]:
    for code in points:
        candidate: Candidate
        if tool.kind == "height":
            candidate = HeightCandidate(kind="height", setup=tool.setup, code=code, sigma=tool.sigma)
        elif tool.kind == "offset":
            candidate = OffsetCandidate(kind="offset", setup=tool.setup, code=code, sigma=tool.sigma)
        elif tool.setup is None:
            raise Refused(
                "A point is read from an instrument: name its set-up.", field=f"{field}.setup", value=tool.setup
            )
        else:
            candidate = PointCandidate(kind="point", setup=tool.setup, code=code, sigma=tool.sigma)
        check_observation(candidate, points, kinds, field)
        yield candidate


def rank(solved: Solved, candidates: Sequence[Candidate], goal: Sequence[str], count: int) -> Iterator[RankedReading]:
    """Yield the best candidate, then the best of the others with that one taken as read, and so on."""
    if not candidates:
        return
    covariance = solved.covariance.copy()
    wanted = _goal_columns(solved.layout, goal)
    equations = equations_of(candidates, solved.layout)
    _, slopes = equations.computed(solved.state)
    slopes = slopes / equations.sigmas[:, None, None]
    left = np.ones(len(candidates), dtype=bool)
    before = float(np.trace(covariance[np.ix_(wanted, wanted)]))
    for _ in range(min(count, len(candidates))):
        taken = _taken(covariance, wanted, equations.columns, slopes)
        best = int(np.argmax(np.where(left, taken, -np.inf)))
        left[best] = False
        covariance = as_read(covariance, equations.columns[best], slopes[best])
        after = float(np.trace(covariance[np.ix_(wanted, wanted)]))
        yield RankedReading(observation=candidates[best], trace_before=before, trace_after=after)
        before = after


def _goal_columns(layout: Layout, goal: Sequence[str]) -> Ints:
    return np.array([layout.points[code] + axis for code in dict.fromkeys(goal) for axis in range(3)], dtype=np.int64)


def _taken(covariance: Floats, wanted: Ints, columns: Ints, slopes: Floats) -> Floats:
    """Return what each candidate takes from the trace over `wanted`: tr((j C jᵀ + I)⁻¹ j C G C jᵀ), (m,).

    `slopes` (m, 3, 9) are divided by sigma; rows that a candidate does not have are nought and take nothing.
    """
    squared = covariance[:, wanted] @ covariance[wanted, :]
    taken = np.empty(len(columns))
    for first in range(0, len(columns), _AT_ONCE):
        own = slice(first, first + _AT_ONCE)
        at = columns[own]
        j, across = slopes[own], np.swapaxes(slopes[own], 1, 2)
        spread = np.eye(3) + j @ covariance[at[:, :, None], at[:, None, :]] @ across
        known = j @ squared[at[:, :, None], at[:, None, :]] @ across
        taken[own] = np.einsum("mii->m", np.linalg.solve(spread, known))
    return taken


def as_read(covariance: Floats, columns: Ints, slopes: Floats) -> Floats:
    """Return C − C jᵀ (j C jᵀ + I)⁻¹ j C: the covariance with one more observation taken as read."""
    carried = covariance[:, columns] @ slopes.T
    spread = np.eye(len(slopes)) + slopes @ carried[columns]
    less: Floats = covariance - carried @ np.linalg.solve(spread, carried.T)
    return less
