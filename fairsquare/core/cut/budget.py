"""The gap of a joint whose edges are cut to lines: how far it strays, and how surely it lies within its limits."""

from typing import Annotated, Literal

import numpy as np
import numpy.typing as npt
from pydantic import Field
from scipy.special import ndtr

from fairsquare.core.errors import Refused
from fairsquare.core.model import Millimetres, Model, NotNegative

Marking = Literal["scribe", "tape", "felt_tip"]
BudgetVerdict = Literal["holds", "tight", "fails"]

LINE_WIDTHS_MM: dict[Marking, float] = {"scribe": 0.2, "tape": 0.5, "felt_tip": 3.0}
"""Common practice, no source."""
GAP_BACKED_MM, GAP_BARE_MM = 2.0, 0.5
HOLDS, TIGHT = 0.95, 0.8
_NARROW = 0.5
"""Lines narrower than this, in sigmas of saw and trim: the closed form would lose its digits in differences."""
_FAR = 12.0
_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(24)


class CutBudget(Model):
    """How the lines are drawn, sawn and trimmed, and the gap that is wanted; mm.

    `line_width_mm`, `gap_mm` and `limits_mm` null: as is usual for the marking and for a joint with or without backing.
    """

    marking: Marking
    line_width_mm: NotNegative | None = None
    marks: Annotated[int, Field(ge=1, le=2)] = 2
    kerf_mm: NotNegative
    kerf_sigma_mm: NotNegative
    trim_sigma_mm: NotNegative
    gap_mm: NotNegative | None = None
    limits_mm: Annotated[tuple[Millimetres, Millimetres], Field(strict=False)] | None = None
    backing: bool = True

    @property
    def width(self) -> float:
        """How wide a line is, mm."""
        return LINE_WIDTHS_MM[self.marking] if self.line_width_mm is None else self.line_width_mm

    @property
    def gap(self) -> float:
        """The gap that is wanted, mm."""
        if self.gap_mm is not None:
            return self.gap_mm
        return GAP_BACKED_MM if self.backing else GAP_BARE_MM

    @property
    def limits(self) -> tuple[float, float]:
        """What the gap may be, mm."""
        if self.limits_mm is not None:
            return self.limits_mm
        wide = 1.0 if self.backing else 0.5
        return max(self.gap - wide, 0.0), max(self.gap + wide, 0.0)

    @property
    def normal_sigma(self) -> float:
        """What saw and trim of all edges add up to, mm."""
        return float(np.sqrt(self.marks * (self.kerf_sigma_mm**2 + self.trim_sigma_mm**2)))


class CutOffsets(Model):
    """Where each edge has to stand from its line, positive into the waste, and where the middle of the saw cut goes; mm."""

    edge_mm: float
    blade_mm: float


class CutBudgeted(Model):
    """How far the gap strays (one sigma), how probable it is within its limits, and where to cut."""

    gap_sigma_mm: float
    probability: float
    verdict: BudgetVerdict
    cut_offsets: CutOffsets


def cut_budget(request: CutBudget) -> CutBudgeted:
    """Say how surely a gap lies within its limits, by how its edges are marked, sawn and trimmed.

    gap = gap_mm + a mark uniform over its width for each edge + saw and trim, normal; all independent. The probability is the sum
    of the uniforms convolved with the normal, in closed form. Raises `Refused` for limits that do not ascend or lie below 0.
    """
    low, high = request.limits
    if low < 0:
        raise Refused(
            "A gap is never below 0: the lower limit should be 0 or more.", field="limits_mm", value=[low, high]
        )
    if low >= high:
        raise Refused("The lower limit comes first, and below the upper one.", field="limits_mm", value=[low, high])
    sigma = np.sqrt(request.marks * request.width**2 / 12 + request.normal_sigma**2)
    probability = float(np.clip(_within(request, low, high), 0.0, 1.0))
    verdict: BudgetVerdict = "holds" if probability >= HOLDS else "tight" if probability >= TIGHT else "fails"
    edge = -request.gap / request.marks
    return CutBudgeted(
        gap_sigma_mm=float(sigma),
        probability=probability,
        verdict=verdict,
        cut_offsets=CutOffsets(edge_mm=edge, blade_mm=edge + request.kerf_mm / 2),
    )


def gap_density(request: CutBudget, at_mm: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
    """Return the density of the gap at given widths, (n,) per mm, to be drawn: by differences of its distribution."""
    step = max(float(np.ptp(at_mm)) / len(at_mm) / 2, 1e-6)
    upper, lower = (np.array([_below(request, float(x) - request.gap + end) for x in at_mm]) for end in (step, -step))
    return np.asarray((upper - lower) / (2 * step), dtype=np.float64)


def _within(request: CutBudget, low: float, high: float) -> float:
    if request.width == 0 and request.normal_sigma == 0:
        return float(low <= request.gap <= high)
    return _below(request, high - request.gap) - _below(request, low - request.gap)


def _below(request: CutBudget, x: float) -> float:
    """Return the probability that the gap is wider than wanted by x or less."""
    width, sigma, marks = request.width, request.normal_sigma, request.marks
    reach = marks * width / 2
    if x >= reach + _FAR * sigma:
        return 1.0
    if x <= -reach - _FAR * sigma:
        return 0.0
    if width <= _NARROW * sigma:
        return _by_quadrature(x / sigma, width / sigma, marks)
    ends = (-0.5, 0.5) if marks == 1 else (-1.0, 0.0, 1.0)
    weights = (-1.0, 1.0) if marks == 1 else (1.0, -2.0, 1.0)
    integral = _once if marks == 1 else _twice
    scaled = sigma / width
    return float(sum(w * integral(x / width + end, scaled) for w, end in zip(weights, ends, strict=True)))


def _by_quadrature(x: float, width: float, marks: int) -> float:
    """Return the mean of Φ(x − t) over marks uniform on `width`; Gauss and Legendre's rule is exact here to the last digits."""
    t = np.add.outer(_NODES, _NODES) * width / 2 if marks == 2 else _NODES * width / 2
    weights = np.outer(_WEIGHTS, _WEIGHTS) / 4 if marks == 2 else _WEIGHTS / 2
    return float(np.sum(weights * ndtr(x - t)))


def _once(u: float, sigma: float) -> float:
    """Return ∫Φ(v/σ) dv up to u."""
    if sigma == 0:
        return max(u, 0.0)
    return float(u * ndtr(u / sigma) + sigma * _bell(u / sigma))


def _twice(u: float, sigma: float) -> float:
    """Return the integral of `_once` up to u."""
    if sigma == 0:
        return max(u, 0.0) ** 2 / 2
    return float(((u * u + sigma * sigma) * ndtr(u / sigma) + u * sigma * _bell(u / sigma)) / 2)


def _bell(z: float) -> float:
    return float(np.exp(-z * z / 2) / np.sqrt(2 * np.pi))
