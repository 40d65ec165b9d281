"""From which station on has an end moved? One onset, and beyond it each series of points runs off with slopes of its own."""

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from scipy.optimize import brentq
from scipy.stats import chi2

from fairsquare.core.damage.deviations import Deviations, Floats, series_of
from fairsquare.core.model import Model

CERTAIN = 0.999
_RISE = 3.84
"""χ² rises by this to either end of the interval: one unknown, 95 %."""
_STEP_MM, _MOST_STEPS = 1.0, 600
_NEAREST_MM = 1e-6
_ROUNDING = 1e-10
_EXACT_MM = 1e-11
"""A least χ² is flat: by its values it would be found to a few 1e-8 of itself; by its rise to the last digits, on any machine."""


class Onset(Model):
    """Where the movement begins, mm along the vehicle, with its 95 % interval; `chi2` is what is then left over."""

    at_mm: float
    low_mm: float
    high_mm: float
    chi2: float


@dataclass(frozen=True)
class _Stretch:
    """Between two stations χ² is a smooth function of `u`, how far beyond the middle the onset lies, mm.

    With w = `end` − u every point beyond has moved by slope · (its distance beyond `end`, plus w), so that the normal
    equations of the slopes are n0 + w·n1 + w²·n2, and their right side b0 + w·b1.
    """

    start: float
    end: float
    n: tuple[Floats, Floats, Floats]
    b: tuple[Floats, Floats]
    still: float

    def misfit(self, u: Floats) -> Floats:
        """Return χ² for onsets `u` (t,), shape (t,)."""
        slopes, b = self._slopes(np.maximum(self.end - u, _NEAREST_MM))
        return np.asarray(self.still - np.einsum("tk,tk->t", slopes, b))

    def one(self, u: float) -> float:
        """Return χ² for one onset."""
        return float(self.misfit(np.array([u]))[0])

    def rise(self, u: float) -> float:
        """Return by how much χ² rises with the onset, per mm: with slopes s = N⁻¹b, that of bᵀs by w, which is 2 b′ᵀs − sᵀN′s."""
        w = max(self.end - u, _NEAREST_MM)
        s = self._slopes(np.array([w]))[0][0]
        return float(2 * self.b[1] @ s - s @ (self.n[1] + 2 * w * self.n[2]) @ s)

    def _slopes(self, w: Floats) -> tuple[Floats, Floats]:
        """Return the slopes for `w` (t,), and the right side of their normal equations, both of shape (t, slopes)."""
        b = self.b[0] + w[:, None] * self.b[1]
        n = self.n[0] + w[:, None, None] * self.n[1] + (w**2)[:, None, None] * self.n[2]
        scale = 1 / np.sqrt(np.einsum("tkk->tk", n))
        scaled = n * scale[:, :, None] * scale[:, None, :]
        return np.linalg.solve(scaled, (b * scale)[:, :, None])[:, :, 0] * scale, b


def find_onset(deviations: Deviations, middle_mm: float, ahead: int) -> Onset | None:
    """Return where the points of one end began to move, or null where nothing shows that they did.

    `ahead` is 1 for the front, −1 for the rear. Least rᵀV⁻¹r over all points of the end, the slopes free in each axis of each
    series; nothing is shown where that is not better than no movement at all by the 0.999 quantile of χ² with as many
    degrees of freedom as there are slopes, and one for the onset.
    """
    beyond = ahead * (deviations.places[:, 0] - middle_mm)
    if len(deviations.points) < 3 or len(np.unique(deviations.places[:, 0])) < 2:
        return None
    weights = deviations.weights()
    still = float(deviations.d.ravel() @ weights @ deviations.d.ravel())
    stretches = list(_stretches(deviations, beyond, weights, still))
    grids = [np.linspace(s.start, s.end, _steps(s)) for s in stretches]
    values = [stretch.misfit(grid) for stretch, grid in zip(stretches, grids, strict=True)]
    place, best = _least(stretches, grids, values)
    slopes = 3 * len(series_of(deviations.points))
    if still - best < chi2.ppf(CERTAIN, slopes + 1):
        return None
    limit = best + _RISE
    low = _first(zip(stretches, grids, values, strict=True), limit, place)
    backwards = zip(stretches[::-1], (g[::-1] for g in grids[::-1]), (v[::-1] for v in values[::-1]), strict=True)
    high = _first(backwards, limit, place)
    ends = sorted((middle_mm + ahead * low, middle_mm + ahead * high))
    return Onset(at_mm=float(middle_mm + ahead * place), low_mm=float(ends[0]), high_mm=float(ends[1]), chi2=best)


def _steps(stretch: _Stretch) -> int:
    return int(np.clip(np.ceil((stretch.end - stretch.start) / _STEP_MM), 2, _MOST_STEPS)) + 1


def _stretches(deviations: Deviations, beyond: Floats, weights: Floats, still: float) -> Iterator[_Stretch]:
    """Yield the stretches between stations, from the middle outward."""
    columns = np.zeros(3 * len(beyond), dtype=np.int64)
    for number, rows in enumerate(series_of(deviations.points).values()):
        for row in rows:
            columns[3 * row : 3 * row + 3] = 3 * number + np.arange(3)
    stations = np.unique(np.concatenate([[0.0], beyond]))
    along, r = np.repeat(beyond, 3), deviations.d.ravel()
    for start, end in pairwise(stations):
        moved = np.flatnonzero(along >= end)
        kept, own = np.unique(columns[moved], return_inverse=True)
        put = np.zeros((len(moved), len(kept)))
        put[np.arange(len(moved)), own] = 1.0
        far = put * (along[moved] - end)[:, None]
        w, pull = weights[np.ix_(moved, moved)], weights[moved] @ r
        mixed = far.T @ w @ put
        yield _Stretch(
            start, end, (far.T @ w @ far, mixed + mixed.T, put.T @ w @ put), (far.T @ pull, put.T @ pull), still
        )


def _least(stretches: list[_Stretch], grids: list[Floats], values: list[Floats]) -> tuple[float, float]:
    """Return the onset of the least χ², and that; of several as good, within what rounding does, the one nearest the middle."""
    same = _ROUNDING * max(stretches[0].still, 1.0)
    limit = min(float(own.min()) for own in values) + same
    number = next(k for k, own in enumerate(values) if own.min() <= limit)
    stretch, grid, own = stretches[number], grids[number], values[number]
    at = int(np.flatnonzero(own <= limit)[0])
    before, after = max(at - 1, 0), min(at + 1, len(grid) - 1)
    hollow = all(own[k] > own[at] + same for k in (before, after) if k != at)
    if hollow and stretch.rise(grid[before]) < 0 < stretch.rise(grid[after]):
        finer = float(brentq(stretch.rise, grid[before], grid[after], xtol=_EXACT_MM))
        if stretch.one(finer) <= own[at]:
            return finer, stretch.one(finer)
    return float(grid[at]), float(own[at])


def _first(walked: Iterable[tuple[_Stretch, Floats, Floats]], limit: float, place: float) -> float:
    """Return the first onset on a walk along stretches, grids and values at which χ² is within the limit."""
    for stretch, grid, own in walked:
        within = np.flatnonzero(own <= limit)
        if len(within):
            at = int(within[0])
            return float(grid[0]) if at == 0 else _crossing(stretch.one, float(grid[at - 1]), float(grid[at]), limit)
    return place


def _crossing(misfit: Callable[[float], float], outside: float, inside: float, limit: float) -> float:
    return float(brentq(lambda u: misfit(u) - limit, outside, inside, xtol=_EXACT_MM))
