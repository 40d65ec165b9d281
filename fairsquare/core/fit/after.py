"""Whether a panel went where its hinges were told to bring it: and if not, whether a hinge is bent or the structure is out.

A gap that was predicted and read again is off by r. A hinge that gave or is bent turns the panel about its other hinges; a
structure that is out opens or closes what lies on one side of the panel, whatever the panel does. Both are fitted to r by least
squares and compared by their information (Schwarz 1978: χ² + k·ln g), so that the one with more to turn does not win by that alone.
"""

import math
from collections.abc import Sequence
from typing import Literal, NamedTuple

import numpy as np
from scipy.stats import chi2

from fairsquare.core.fit.hanging import Floats, Hinge, moves_at, units_of
from fairsquare.core.model import Row3

GAP_SIGMA_MM = 0.3
"""What a gauge in a gap scatters. Common practice, no source."""
SET_SIGMA_MM = 0.3
"""How well a hinge is moved by turns and shims. Common practice, no source."""
_SURE = 0.99
_SAME_WAY = 0.99

Went = Literal["as_predicted", "hinge", "structure"]


class GapAgain(NamedTuple):
    """A gap of a panel that was set: where, which way it opens from the panel, and what was predicted and is read, mm."""

    id: str
    at: Row3
    normal: Row3
    predicted_mm: float
    read_mm: float


class AfterSetting(NamedTuple):
    """How a panel went: as predicted, or what is likelier, which hinge that would be, how sure (share), and the gap most off."""

    went: Went
    hinge: str | None
    chance: float
    worst: str
    off_mm: float


def after_setting(hinges: Sequence[Hinge], gaps: Sequence[GapAgain]) -> AfterSetting:
    """Judge a panel by its gaps after it was set. `gaps` are not empty."""
    off = np.array([gap.read_mm - gap.predicted_mm for gap in gaps])
    sigma = math.hypot(GAP_SIGMA_MM, SET_SIGMA_MM)
    worst = int(np.argmax(np.abs(off)))
    told = gaps[worst].id, float(off[worst])
    if float((off**2).sum()) / sigma**2 <= float(chi2.ppf(_SURE, len(gaps))):
        return AfterSetting("as_predicted", None, 1.0, *told)
    normals, places = units_of([gap.normal for gap in gaps]), np.array([gap.at for gap in gaps], dtype=float)
    by_hinge = {hinge.id: _information(off, _turned_about(hinges, hinge, normals, places), sigma) for hinge in hinges}
    likeliest = min(by_hinge, key=lambda name: by_hinge[name])
    structure = _information(off, _opened(normals), sigma)
    chance = 1.0 / (1.0 + math.exp(min(max((by_hinge[likeliest] - structure) / 2.0, -60.0), 60.0)))
    if chance >= 0.5:
        return AfterSetting("hinge", likeliest, chance, *told)
    return AfterSetting("structure", None, 1.0 - chance, *told)


def _information(off: Floats, rows: Floats, sigma: float) -> float:
    """Return χ² + k·ln g of what is left of `off` (g) after the best of k ways (g, k)."""
    best = np.linalg.lstsq(rows, off, rcond=None)[0]
    left = float(((off - rows @ best) ** 2).sum()) / sigma**2
    return left + float(np.linalg.matrix_rank(rows)) * math.log(len(off))


def _turned_about(hinges: Sequence[Hinge], given: Hinge, normals: Floats, places: Floats) -> Floats:
    """Return how gaps answer (g, k) where one hinge goes anywhere and all others stay."""
    middle = np.mean([hinge.at for hinge in hinges], axis=0)
    others = np.array([hinge.at for hinge in hinges if hinge.id != given.id], dtype=float).reshape(-1, 3)
    rows = -np.einsum("gi,gij->gj", normals, moves_at(places - middle))
    held = moves_at(others - middle).reshape(-1, 6)
    if not len(held):
        return np.asarray(rows)
    _, sizes, turns = np.linalg.svd(held, full_matrices=True)
    free = turns[int((sizes > 1e-9 * sizes[0]).sum()) :].T
    return np.asarray(rows @ free)


def _opened(normals: Floats) -> Floats:
    """Return how gaps answer (g, k) where the structure opens or closes on each side of the panel: one for each way gaps open."""
    ways: list[Floats] = []
    for normal in normals:
        if not any(float(normal @ way) > _SAME_WAY for way in ways):
            ways.append(normal)
    return np.array([[float(float(normal @ way) > _SAME_WAY) for way in ways] for normal in normals])
