"""The equations of a network of observations: what each should read, its derivatives, and how these bend.

All observations have the same shape here, so that every step is a handful of array operations: up to three components, which
hang on at most nine unknowns. Unknowns stand in one vector: three coordinates for each point, then each set-up's own
(an instrument's small turn ω, rad, about the middle of what it reads and its shift τ, mm; a sight's l0, l1, c0, c1, c2), then one
idle unknown that fills the places an observation does not need.
"""

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import NamedTuple

import numpy as np
import numpy.typing as npt
from scipy.spatial.transform import Rotation

from fairsquare.core.axes import cross_matrix
from fairsquare.core.measure.observations import (
    AXES,
    DifferenceToRead,
    GaugeRead,
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
    columns, values, given, instrument = [], [], [], []
    kinds: dict[str, list[int]] = {}
    poses = {name: place for place, name in enumerate(layout.instruments)}
    idle = [layout.idle] * TOUCHED
    for row, observation in enumerate(observations):
        kind: str = observation.kind
        at, value = _place(observation, layout)
        has = [True] * len(value)
        if isinstance(observation, GaugeRead):
            has = [observation.pin_mm is not None, observation.level_mm is not None]
        elif isinstance(observation, SpanToRead):
            kind = f"span {observation.mode}"
        columns.append(at + idle[len(at) :])
        values.append(value + [0.0] * (COMPONENTS - len(value)))
        given.append(has + [False] * (COMPONENTS - len(has)))
        instrument.append(poses[observation.setup] if isinstance(observation, PointToRead) else 0)
        kinds.setdefault(kind, []).append(row)
    where = np.array(columns, dtype=np.int64).reshape(-1, TOUCHED)
    return Equations(
        columns=where,
        values=np.array(values, dtype=float).reshape(-1, COMPONENTS),
        given=np.array(given, dtype=bool).reshape(-1, COMPONENTS),
        sigmas=np.array([observation.sigma for observation in observations], dtype=float),
        mask=(where != layout.idle).astype(float),
        instrument=np.array(instrument, dtype=np.int64),
        kinds={kind: np.array(rows, dtype=np.int64) for kind, rows in kinds.items()},
        alone=_alone(observations, layout),
    )


def _alone(observations: Sequence[ToRead], layout: Layout) -> Ints:
    joined = {code for one in observations if len(codes := codes_of(one)) > 1 for code in codes}
    first = np.array([column for code, column in layout.points.items() if code not in joined], dtype=np.int64)
    return first[:, None] + np.arange(3)


def _place(observation: ToRead, layout: Layout) -> tuple[list[int], list[float]]:
    """Return the columns that an observation hangs on, and its values (noughts where it is still to be read)."""
    if isinstance(observation, PointToRead):
        values = list(observation.xyz) if isinstance(observation, PointRead) else [0.0] * 3
        return [*_three(layout, observation.code), *_from(layout, observation.setup, range(6))], values
    if isinstance(observation, SpanToRead):
        return [*_three(layout, observation.a), *_three(layout, observation.b)], [getattr(observation, "mm", 0.0)]
    if isinstance(observation, DifferenceToRead):
        axis = AXES.index(observation.axis)
        return [layout.points[observation.a] + axis, layout.points[observation.b] + axis], [
            getattr(observation, "mm", 0.0)
        ]
    if isinstance(observation, HeightToRead | OffsetToRead):
        own = (_C0, _C1, _C2) if isinstance(observation, HeightToRead) else (_L0, _L1)
        sight = [] if observation.setup is None else _from(layout, observation.setup, own)
        return [*_three(layout, observation.code), *sight], [getattr(observation, "mm", 0.0)]
    pin, level = (observation.pin_mm, observation.level_mm) if isinstance(observation, GaugeRead) else (0.0, 0.0)
    at = [*_three(layout, observation.a), *_three(layout, observation.b)]
    return [*at, *_from(layout, observation.setup, (_L0, _L1, _C2))], [pin or 0.0, level or 0.0]


def _three(layout: Layout, code: str) -> range:
    first = layout.points[code]
    return range(first, first + 3)


def _from(layout: Layout, setup: str, own: Sequence[int]) -> list[int]:
    return [layout.setups[setup] + place for place in own]


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
    one = np.ones_like(x)
    read[:, 0] = z - (c0 + c1 * x + c2 * y)
    slopes[:, 0, :6] = np.stack([-c1, -c2, one, -one, -x, -y], axis=1)
    return read, slopes


def _offset(at: Floats) -> tuple[Floats, Floats]:
    """y − (l0 + l1·x)."""
    x, y, _, l0, l1 = at.T[:5]
    read, slopes = _empty(len(at))
    one, nought = np.ones_like(x), np.zeros_like(x)
    read[:, 0] = y - (l0 + l1 * x)
    slopes[:, 0, :5] = np.stack([-l1, one, nought, -one, -x], axis=1)
    return read, slopes


def _gauge(at: Floats) -> tuple[Floats, Floats]:
    """Pin: (ya+yb)/2 − (l0 + l1·(xa+xb)/2); level: (za − zb) − c2·(ya − yb)."""
    xa, ya, za, xb, yb, zb, l0, l1, c2 = at.T
    read, slopes = _empty(len(at))
    one, nought = np.ones_like(xa), np.zeros_like(xa)
    half, middle = one / 2, (xa + xb) / 2
    read[:, 0] = (ya + yb) / 2 - (l0 + l1 * middle)
    read[:, 1] = (za - zb) - c2 * (ya - yb)
    slopes[:, 0] = np.stack([-l1 / 2, half, nought, -l1 / 2, half, nought, -one, -middle, nought], axis=1)
    slopes[:, 1] = np.stack([nought, -c2, one, nought, c2, -one, nought, nought, yb - ya], axis=1)
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
