"""The equations of a network of observations: what each should read, its derivatives, and how these bend.

All observations have the same shape here, so that every step is a handful of array operations: up to three components, which
hang on at most nine unknowns. Unknowns stand in one vector: three coordinates for each point, then each set-up's own
(an instrument's small turn ω, rad, about the middle of what it reads and its shift τ, mm; a sight's l0, l1, c0, c1, c2), then one
idle unknown that fills the places an observation does not need.
"""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.spatial.transform import Rotation

from fairsquare.core.axes import cross_matrix
from fairsquare.core.measure.observations import (
    AXES,
    DifferenceToRead,
    GaugeRead,
    GaugeToRead,
    HeightToRead,
    NetworkSetup,
    OffsetToRead,
    PointRead,
    PointToRead,
    SpanToRead,
    ToRead,
    codes_of,
)

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
Bools = npt.NDArray[np.bool_]

COMPONENTS = 3
TOUCHED = 9
_SIZES = {"instrument": 6, "sight": 5}
_L0, _L1, _C0, _C1, _C2 = range(5)


class Layout(NamedTuple):
    """Where the unknowns stand: `points` and `setups` give the first column of each, `idle` is the last of all."""

    points: dict[str, int]
    setups: dict[str, int]
    instruments: tuple[str, ...]
    idle: int

    @property
    def size(self) -> int:
        """How many columns there are, the idle one included."""
        return self.idle + 1

    @property
    def coordinates(self) -> int:
        """How many of the first columns are coordinates of points."""
        return 3 * len(self.points)


def layout_of(codes: Sequence[str], setups: Sequence[NetworkSetup]) -> Layout:
    """Give every unknown its column."""
    column = 3 * len(codes)
    first = {}
    for setup in setups:
        first[setup.id] = column
        column += _SIZES[setup.kind]
    return Layout(
        points={code: 3 * place for place, code in enumerate(codes)},
        setups=first,
        instruments=tuple(setup.id for setup in setups if setup.kind == "instrument"),
        idle=column,
    )


@dataclass(frozen=True)
class State:
    """Where the unknowns are: `values` (size,) of points and sights, and each instrument's pose, (k, 3, 3) and (k, 3).

    `centres` (k, 3) is the place in vehicle axes about which an instrument's small turns are taken.
    """

    layout: Layout
    values: Floats
    rotations: Floats
    translations: Floats
    centres: Floats

    def moved(self, step: Floats) -> "State":
        """Return the state after a step in every unknown, shape (size,)."""
        values = self.values + step
        if not self.layout.instruments:
            return replace(self, values=values)
        first = np.array([self.layout.setups[name] for name in self.layout.instruments])
        values[(first[:, None] + np.arange(6)).ravel()] = 0.0
        turn = Rotation.from_rotvec(step[first[:, None] + np.arange(3)]).as_matrix()
        shift = step[first[:, None] + np.arange(3, 6)]
        arms = np.einsum("kij,kj->ki", turn, self.translations - self.centres)
        return replace(self, values=values, rotations=turn @ self.rotations, translations=self.centres + arms + shift)


@dataclass(frozen=True)
class Equations:
    """Observations as arrays, one row for each: columns (m, 9), values and `given` (m, 3), sigmas (m,).

    `kinds` holds, for each kind, the rows that are of it; `instrument` (m,) is the index of the row's pose; `alone` (a, 3)
    the columns of the points that no observation joins to another.
    """

    columns: Ints
    values: Floats
    given: Bools
    sigmas: Floats
    mask: Floats
    instrument: Ints
    kinds: dict[str, Ints]
    alone: Ints

    def __len__(self) -> int:
        return len(self.columns)

    def computed(self, state: State) -> tuple[Floats, Floats]:
        """Return what each component should read, mm, and its derivatives. Shapes: (m, 3), (m, 3, 9)."""
        read, slopes = np.zeros((len(self), COMPONENTS)), np.zeros((len(self), COMPONENTS, TOUCHED))
        for kind, rows in self.kinds.items():
            at = state.values[self.columns[rows]]
            if kind == "point":
                read[rows], slopes[rows] = _point(at, state, self.instrument[rows])
            else:
                read[rows], slopes[rows] = _COMPUTED[kind](at)
        slopes *= self.mask[:, None, :] * self.given[:, :, None]
        return read, slopes

    def bending(self, state: State, pull: Floats) -> Floats:
        """Return Σ pull · (second derivatives of what is read), (m, 9, 9), for `pull` (m, 3)."""
        bent = np.zeros((len(self), TOUCHED, TOUCHED))
        for kind, rows in self.kinds.items():
            at = state.values[self.columns[rows]]
            if kind == "point":
                bent[rows] = _bend_point(at, state, self.instrument[rows], pull[rows])
            elif kind in _SEEN:
                bent[rows] = _bend_span(_SEEN[kind], at, pull[rows])
            else:
                for place, other, factor, component in _PRODUCTS.get(kind, ()):
                    bent[rows, place, other] = bent[rows, other, place] = factor * pull[rows, component]
        bent *= self.mask[:, :, None] * self.mask[:, None, :]
        return bent


def equations_of(observations: Sequence[ToRead], layout: Layout) -> Equations:
    """Write observations, read or still to be read, as arrays."""
    kinds: dict[str, list[int]] = {}
    for row, observation in enumerate(observations):
        kind = f"span {observation.mode}" if isinstance(observation, SpanToRead) else observation.kind
        kinds.setdefault(kind, []).append(row)
    count = len(observations)
    columns = np.full((count, TOUCHED), layout.idle, dtype=np.int64)
    values, given = np.zeros((count, COMPONENTS)), np.zeros((count, COMPONENTS), dtype=bool)
    instrument = np.zeros(count, dtype=np.int64)
    poses = {name: place for place, name in enumerate(layout.instruments)}
    for kind, rows in kinds.items():
        own: list[Any] = [observations[row] for row in rows]
        at = _COLUMNS[kind.partition(" ")[0]](own, layout)
        columns[rows, : at.shape[1]] = at
        read = np.array([_read(reading) for reading in own], dtype=float)
        values[rows, : read.shape[1]] = np.nan_to_num(read)
        given[rows, : read.shape[1]] = ~np.isnan(read)
        if kind == "point":
            instrument[rows] = [poses[reading.setup] for reading in own]
    return Equations(
        columns=columns,
        values=values,
        given=given,
        sigmas=np.array([observation.sigma for observation in observations], dtype=float),
        mask=(columns != layout.idle).astype(float),
        instrument=instrument,
        kinds={kind: np.array(rows, dtype=np.int64) for kind, rows in kinds.items()},
        alone=_alone(observations, layout),
    )


def _alone(observations: Sequence[ToRead], layout: Layout) -> Ints:
    joined = {code for observation in observations if len(codes := codes_of(observation)) > 1 for code in codes}
    first = np.array([column for code, column in layout.points.items() if code not in joined], dtype=np.int64)
    return first[:, None] + np.arange(3)


def _read(observation: ToRead) -> Sequence[float | None]:
    """Return what was read, nan or null for a component that was not; noughts where it is still to be read."""
    if isinstance(observation, PointRead):
        return observation.xyz
    if isinstance(observation, PointToRead):
        return (0.0,) * 3
    if isinstance(observation, GaugeRead):
        return observation.pin_mm, observation.level_mm
    return (0.0, 0.0) if isinstance(observation, GaugeToRead) else (getattr(observation, "mm", 0.0),)


def _points(layout: Layout, codes: Iterable[str]) -> Ints:
    """Return the columns of the points of those codes, shape (n, 3)."""
    return np.array([layout.points[code] for code in codes], dtype=np.int64)[:, None] + np.arange(3)


def _setups(layout: Layout, names: Iterable[str | None], own: Sequence[int]) -> Ints:
    """Return columns of set-ups, those at the places `own`, shape (n, len(own)); the idle one where there is none."""
    idle = [layout.idle] * len(own)
    return np.array(
        [idle if name is None else [layout.setups[name] + k for k in own] for name in names], dtype=np.int64
    )


def _point_columns(own: list[PointToRead], layout: Layout) -> Ints:
    return np.hstack([_points(layout, (o.code for o in own)), _setups(layout, (o.setup for o in own), range(6))])


def _span_columns(own: list[SpanToRead], layout: Layout) -> Ints:
    return np.hstack([_points(layout, (o.a for o in own)), _points(layout, (o.b for o in own))])


def _difference_columns(own: list[DifferenceToRead], layout: Layout) -> Ints:
    axes = np.array([AXES.index(o.axis) for o in own])
    rows = [[layout.points[o.a], layout.points[o.b]] for o in own]
    return np.asarray(np.array(rows, dtype=np.int64) + axes[:, None])


def _height_columns(own: list[HeightToRead], layout: Layout) -> Ints:
    plane = _setups(layout, (o.setup for o in own), (_C0, _C1, _C2))
    return np.hstack([_points(layout, (o.code for o in own)), plane])


def _offset_columns(own: list[OffsetToRead], layout: Layout) -> Ints:
    return np.hstack([_points(layout, (o.code for o in own)), _setups(layout, (o.setup for o in own), (_L0, _L1))])


def _gauge_columns(own: list[GaugeToRead], layout: Layout) -> Ints:
    ends = _points(layout, (o.a for o in own)), _points(layout, (o.b for o in own))
    return np.hstack([*ends, _setups(layout, (o.setup for o in own), (_L0, _L1, _C2))])


_COLUMNS: dict[str, Callable[[list[Any], Layout], Ints]] = {
    "point": _point_columns,
    "span": _span_columns,
    "difference": _difference_columns,
    "height": _height_columns,
    "offset": _offset_columns,
    "gauge": _gauge_columns,
}


def _empty(count: int) -> tuple[Floats, Floats]:
    return np.zeros((count, COMPONENTS)), np.zeros((count, COMPONENTS, TOUCHED))


def _point(at: Floats, state: State, which: Ints) -> tuple[Floats, Floats]:
    """Rᵀ(p − t); for a turn ω about the centre c, Rᵀ exp(−ω)(p − c − τ) − Rᵀ(t − c)."""
    back = np.swapaxes(state.rotations[which], 1, 2)
    read = np.einsum("mij,mj->mi", back, at[:, :3] - state.translations[which])
    turning = back @ cross_matrix(at[:, :3] - state.centres[which])
    return read, np.concatenate([back, turning, -back], axis=2)


def _bend_point(at: Floats, state: State, which: Ints, pull: Floats) -> Floats:
    arm = at[:, :3] - state.centres[which]
    force = np.einsum("mij,mj->mi", state.rotations[which], pull)
    outer = force[:, :, None] * arm[:, None, :]
    crossed = cross_matrix(force)
    bent = np.zeros((len(at), TOUCHED, TOUCHED))
    inner = np.einsum("mi,mi->m", force, arm)
    bent[:, 3:6, 3:6] = (outer + np.swapaxes(outer, 1, 2)) / 2 - inner[:, None, None] * np.eye(3)
    bent[:, 3:6, 0:3], bent[:, 0:3, 3:6] = crossed, -crossed
    bent[:, 3:6, 6:9], bent[:, 6:9, 3:6] = -crossed, crossed
    return bent


def _direction(seen: Floats, at: Floats) -> tuple[Floats, Floats]:
    """Return the lengths (m,) and unit vectors (m, 3) from b to a, in the axes that are `seen`."""
    apart = (at[:, 0:3] - at[:, 3:6]) * seen
    length = np.linalg.norm(apart, axis=1)
    return length, apart / np.maximum(length, 1e-12)[:, None]


def _span(seen: Floats, at: Floats) -> tuple[Floats, Floats]:
    read, slopes = _empty(len(at))
    length, unit = _direction(seen, at)
    read[:, 0] = length
    slopes[:, 0, 0:3], slopes[:, 0, 3:6] = unit, -unit
    return read, slopes


def _bend_span(seen: Floats, at: Floats, pull: Floats) -> Floats:
    length, unit = _direction(seen, at)
    across = np.diag(seen) - unit[:, :, None] * unit[:, None, :]
    across *= (pull[:, 0] / np.maximum(length, 1e-3))[:, None, None]
    bent = np.zeros((len(at), TOUCHED, TOUCHED))
    bent[:, 0:3, 0:3], bent[:, 3:6, 3:6] = across, across
    bent[:, 0:3, 3:6], bent[:, 3:6, 0:3] = -across, -across
    return bent


def _difference(at: Floats) -> tuple[Floats, Floats]:
    read, slopes = _empty(len(at))
    read[:, 0] = at[:, 0] - at[:, 1]
    slopes[:, 0, 0], slopes[:, 0, 1] = 1.0, -1.0
    return read, slopes


def _height(at: Floats) -> tuple[Floats, Floats]:
    """z − (c0 + c1·x + c2·y)."""
    x, y, z, c0, c1, c2 = at.T[:6]
    read, slopes = _empty(len(at))
    ones = np.ones_like(x)
    read[:, 0] = z - (c0 + c1 * x + c2 * y)
    slopes[:, 0, :6] = np.stack([-c1, -c2, ones, -ones, -x, -y], axis=1)
    return read, slopes


def _offset(at: Floats) -> tuple[Floats, Floats]:
    """y − (l0 + l1·x)."""
    x, y, _, l0, l1 = at.T[:5]
    read, slopes = _empty(len(at))
    ones, nought = np.ones_like(x), np.zeros_like(x)
    read[:, 0] = y - (l0 + l1 * x)
    slopes[:, 0, :5] = np.stack([-l1, ones, nought, -ones, -x], axis=1)
    return read, slopes


def _gauge(at: Floats) -> tuple[Floats, Floats]:
    """Pin: (ya+yb)/2 − (l0 + l1·(xa+xb)/2); level: (za − zb) − c2·(ya − yb)."""
    xa, ya, za, xb, yb, zb, l0, l1, c2 = at.T
    read, slopes = _empty(len(at))
    ones, nought = np.ones_like(xa), np.zeros_like(xa)
    half, middle = ones / 2, (xa + xb) / 2
    read[:, 0] = (ya + yb) / 2 - (l0 + l1 * middle)
    read[:, 1] = (za - zb) - c2 * (ya - yb)
    slopes[:, 0] = np.stack([-l1 / 2, half, nought, -l1 / 2, half, nought, -ones, -middle, nought], axis=1)
    slopes[:, 1] = np.stack([nought, -c2, ones, nought, c2, -ones, nought, nought, yb - ya], axis=1)
    return read, slopes


_SEEN = {"span point_to_point": np.array([1.0, 1.0, 1.0]), "span datum_parallel": np.array([1.0, 1.0, 0.0])}
"""The axes in which a span of each mode is a length."""

_COMPUTED: dict[str, Callable[[Floats], tuple[Floats, Floats]]] = {
    **{kind: partial(_span, seen) for kind, seen in _SEEN.items()},
    "difference": _difference,
    "height": _height,
    "offset": _offset,
    "gauge": _gauge,
}

_PRODUCTS: dict[str, tuple[tuple[int, int, float, int], ...]] = {
    "height": ((0, 4, -1.0, 0), (1, 5, -1.0, 0)),
    "offset": ((0, 4, -1.0, 0),),
    "gauge": ((0, 7, -0.5, 0), (3, 7, -0.5, 0), (1, 8, -1.0, 1), (4, 8, 1.0, 1)),
}
"""Where an observation is a product of two unknowns: their places, the second derivative, and the component."""
