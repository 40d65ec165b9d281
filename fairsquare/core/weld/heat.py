"""Heat of welds in a thin plate: what earlier welds bring to a place from now on, and when it is cool enough to go on.

q(t) = Q/(4πλδt)·exp(−r²/4at − bt): an instantaneous line source in a thin plate that loses heat on both faces (Rosenthal, Trans.
ASME 68, 1946; Carslaw and Jaeger, Conduction of Heat in Solids). Many orders are worked out at once, one a row.
"""

import math
from collections.abc import Sequence
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]
_CLOSE_S = 1e-6
"""How closely the moment is found at which a place is cool enough."""
_CLOSE_ENOUGH_S = 1e-3
_MOST_STEPS = 200


class PlateHeat(NamedTuple):
    """Welds in a plate: `strength` K·s of each, (n,); `squares` r²/4a, s, and `peak`, the time at which heat of j is greatest at i,
    s, both (n, n); the loss b, 1/s; how long each weld takes, s, (n,)."""

    strength: Floats
    squares: Floats
    peak: Floats
    loss: float
    seconds: Floats
    ambient: float
    limit: float

    def preheat(self, weld: Ints, at: Floats, made: Ints, ends: Floats) -> Floats:
        """Return the temperature where and when each `weld`, (m,), would begin, °C; `made` and `ends`, (m, k), are earlier ones."""
        if made.shape[1] == 0:
            return np.full(len(at), self.ambient)
        t = np.maximum(at[:, None] - ends, self.peak[made, weld[:, None]])
        later = np.where(t > 0, t, 1.0)
        heat = self.strength[made] / later * np.exp(-self.squares[made, weld[:, None]] / later - self.loss * later)
        return np.asarray(self.ambient + np.where(t > 0, heat, np.inf).sum(axis=1))

    def start(self, weld: Ints, ready: Floats, made: Ints, ends: Floats) -> tuple[Floats, Floats]:
        """Return when each weld may begin, from `ready` on, and its preheat then: the first moment when it is not over the limit.

        Preheat never rises with time, and what is at most Σ strength / t bounds the wait; the moment is found between by secants
        and halving.
        """
        hot = self.preheat(weld, ready, made, ends)
        start = ready.copy()
        rows = np.flatnonzero(hot > self.limit)
        if len(rows) == 0:
            return start, hot
        begun, cool = self._cooled(weld[rows], ready[rows], hot[rows], made[rows], ends[rows])
        start[rows], hot[rows] = begun, cool
        return start, hot

    def _cooled(self, weld: Ints, ready: Floats, hot: Floats, made: Ints, ends: Floats) -> tuple[Floats, Floats]:
        low, high = ready.copy(), ready + self.strength[made].sum(axis=1) / (self.limit - self.ambient)
        above, below = hot - self.limit, self.preheat(weld, high, made, ends) - self.limit
        for step in range(_MOST_STEPS):
            wide = high - low
            if (wide <= np.maximum(_CLOSE_S, 1e-14 * high)).all():
                break
            finite = np.isfinite(above) & (above > below)
            share = np.where(finite, above / np.where(finite, above - below, 1.0), 0.5)
            share = np.full(len(low), 0.5) if step % 3 == 2 else np.clip(share + 1e-3, 1e-3, 0.999)
            middle = low + share * wide
            now = self.preheat(weld, middle, made, ends) - self.limit
            cool = now <= 0
            high, below = np.where(cool, middle, high), np.where(cool, now, below)
            low, above = np.where(cool, low, middle), np.where(cool, above, now)
        return high, below + self.limit


class OneOrder:
    """The same heat for one order at a time, in plain numbers: for a search that looks at one order after another.

    `terms` counts the heat terms that were worked out.
    """

    def __init__(self, heat: PlateHeat) -> None:
        self._strength: list[float] = heat.strength.tolist()
        self._squares: list[list[float]] = heat.squares.T.tolist()
        self._peak: list[list[float]] = heat.peak.T.tolist()
        self._loss, self._ambient, self._limit = heat.loss, heat.ambient, heat.limit
        self.seconds: list[float] = heat.seconds.tolist()
        self.terms = 0

    def preheat(self, weld: int, at: float, made: Sequence[int], ends: Sequence[float]) -> float:
        """Return the temperature where and when a weld would begin, °C."""
        strength, squares, peak, loss, exp = self._strength, self._squares[weld], self._peak[weld], self._loss, math.exp
        total = self._ambient
        for j, end in zip(made, ends, strict=True):
            t = at - end
            t = max(t, peak[j])
            if t <= 0.0:
                return math.inf
            total += strength[j] / t * exp(-squares[j] / t - loss * t)
        self.terms += len(made) + 4
        return total

    def start(self, weld: int, ready: float, made: Sequence[int], ends: Sequence[float]) -> tuple[float, float]:
        """Return when a weld may begin, from `ready` on, to a thousandth of a second, and its preheat then."""
        above = self.preheat(weld, ready, made, ends) - self._limit
        if above <= 0.0:
            return ready, above + self._limit
        low, high = ready, ready + sum(self._strength[j] for j in made) / (self._limit - self._ambient)
        below = self.preheat(weld, high, made, ends) - self._limit
        for step in range(_MOST_STEPS):
            wide = high - low
            if wide <= _CLOSE_ENOUGH_S:
                break
            share = (
                0.5 if step % 3 == 2 or not above < math.inf else min(max(above / (above - below) + 1e-3, 1e-3), 0.999)
            )
            middle = low + share * wide
            now = self.preheat(weld, middle, made, ends) - self._limit
            if now <= 0.0:
                high, below = middle, now
            else:
                low, above = middle, now
        return high, below + self._limit


def plate_heat(
    places: Floats,
    energies: Sequence[float],
    seconds: Sequence[float],
    *,
    thickness_mm: float,
    conductivity: float,
    density: float,
    heat_capacity: float,
    loss: float,
    ambient_c: float,
    limit_c: float,
) -> PlateHeat:
    """Return welds at `places`, (n, 3) in mm, with what is needed to work out their heat."""
    thick = thickness_mm / 1000.0
    diffusivity = conductivity / (density * heat_capacity)
    b = 2.0 * loss / (density * heat_capacity * thick)
    apart = np.sum(((places[:, None, :] - places[None, :, :]) / 1000.0) ** 2, axis=2)
    return PlateHeat(
        strength=np.array(energies, dtype=float) / (4.0 * math.pi * conductivity * thick),
        squares=apart / (4.0 * diffusivity),
        peak=apart / (2.0 * diffusivity) / (1.0 + np.sqrt(1.0 + b * apart / diffusivity)),
        loss=b,
        seconds=np.array(seconds, dtype=float),
        ambient=ambient_c,
        limit=limit_c,
    )
