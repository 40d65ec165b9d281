"""Whether an opening is square: its four sides and two diagonals, held against one another and against the sheet."""

from typing import Annotated, Literal

import numpy as np
import numpy.typing as npt
from pydantic import Field
from scipy.optimize import least_squares

from fairsquare.core.errors import Refused
from fairsquare.core.model import Model, NotNegative

Floats = npt.NDArray[np.float64]
SpanName = Literal["ab", "bc", "cd", "da", "ac", "bd"]
SPAN_NAMES: tuple[SpanName, ...] = ("ab", "bc", "cd", "da", "ac", "bd")
_TRIANGLES: tuple[tuple[SpanName, SpanName, SpanName], ...] = (
    ("ab", "bc", "ac"),
    ("cd", "da", "ac"),
    ("ab", "da", "bd"),
    ("bc", "cd", "bd"),
)
_ENDS = np.array([("abcd".index(name[0]), "abcd".index(name[1])) for name in SPAN_NAMES])
CHI2_LIMIT = 10.828
"""χ² with one degree of freedom that 999 of 1000 good sets of spans stay under."""
Span = Annotated[float, Field(gt=0, le=1e6)]


class Spans(Model):
    """The four sides of an opening and its diagonals, mm; corners a, b, c, d in order round it."""

    ab: Span
    bc: Span
    cd: Span
    da: Span
    ac: Span
    bd: Span

    @property
    def values(self) -> Floats:
        """The spans in order, (6,)."""
        return np.array([getattr(self, name) for name in SPAN_NAMES])


class SquareUp(Model):
    """An opening as it was measured and as it should be, how well a span is read, and what it may be out by."""

    spans_mm: Spans
    target_mm: Spans
    sigma_mm: NotNegative = 0.5
    tolerance_mm: NotNegative = 3.0


class SquaredUp(Model):
    """How much an opening is out of square and of size; `draw_in` the diagonal that is too long."""

    diagonal_difference_mm: float
    diagonal_sigma_mm: float
    shear_deg: float
    deviations: dict[SpanName, float]
    misclosure_mm: float
    verdict: Literal["square", "size", "out_of_square", "remeasure"]
    draw_in: Literal["ac", "bd"] | None


def square_up(request: SquareUp) -> SquaredUp:
    """Judge an opening by its spans. Raises `Refused` for three spans that make no triangle."""
    for field, spans in (("spans_mm", request.spans_mm), ("target_mm", request.target_mm)):
        _check_triangles(spans, field)
    read, wanted = request.spans_mm.values, request.target_mm.values
    deviations = read - wanted
    across = float(deviations[4] - deviations[5])
    corners, misclosure = _nearest(read)
    target, _ = _nearest(wanted)
    turned = (_angles(corners) - _angles(target) + 180.0) % 360.0 - 180.0
    verdict: Literal["square", "size", "out_of_square", "remeasure"] = "square"
    if misclosure**2 > CHI2_LIMIT * request.sigma_mm**2:
        verdict = "remeasure"
    elif abs(across) > request.tolerance_mm:
        verdict = "out_of_square"
    elif (np.abs(deviations) > request.tolerance_mm).any():
        verdict = "size"
    return SquaredUp(
        diagonal_difference_mm=across,
        diagonal_sigma_mm=float(np.sqrt(2) * request.sigma_mm),
        shear_deg=float(turned @ np.array([1.0, -1.0, 1.0, -1.0]) / 4),
        deviations={name: float(mm) for name, mm in zip(SPAN_NAMES, deviations, strict=True)},
        misclosure_mm=misclosure,
        verdict=verdict,
        draw_in=("ac" if across > 0 else "bd") if verdict == "out_of_square" else None,
    )


def _check_triangles(spans: Spans, field: str) -> None:
    for names in _TRIANGLES:
        sides = sorted(getattr(spans, name) for name in names)
        if sides[2] >= sides[0] + sides[1]:
            raise Refused(
                f"{', '.join(names)} make no triangle: {sides[2]:g} is no shorter than {sides[0]:g} and {sides[1]:g} together.",
                field=f"{field}.{names[0]}",
                value=getattr(spans, names[0]),
            )


def _nearest(spans: Floats) -> tuple[Floats, float]:
    """Return the corners (4, 2), turned left round, of the plane quadrilateral whose spans are nearest, and how far they are off.

    Least squares over the corners, from each pair of triangles that share a diagonal, folded open and shut; the best counts.
    """
    best: tuple[float, Floats] | None = None
    size = float(spans.max())
    for start in _starts(spans / size):
        solved = least_squares(
            _off, start.ravel(), args=(spans / size,), xtol=1e-15, ftol=1e-15, gtol=1e-15, max_nfev=400
        )
        cost = float(2 * solved.cost)
        if best is None or cost < best[0] - 1e-24:
            best = cost, np.asarray(solved.x).reshape(4, 2)
    if best is None:
        raise Refused("These spans make no opening.", field="spans_mm")
    corners = best[1]
    area = np.sum(corners[:, 0] * np.roll(corners[:, 1], -1) - np.roll(corners[:, 0], -1) * corners[:, 1])
    return (corners if area > 0 else corners * np.array([1.0, -1.0])) * size, float(np.sqrt(best[0]) * size)


def _starts(spans: Floats) -> list[Floats]:
    ab, bc, cd, da, ac, bd = spans
    a, c = np.zeros(2), np.array([ac, 0.0])
    b, d = _apex(ab, bc, ac), _apex(da, cd, ac)
    starts = [np.array([a, b * [1, -1], c, d * [1, way]]) for way in (1, -1)]
    a2, c2 = _apex(ab, da, bd), _apex(bc, cd, bd)
    corner_b, corner_d = np.zeros(2), np.array([bd, 0.0])
    return starts + [np.array([a2 * [1, -1], corner_b, c2 * [1, way], corner_d]) for way in (1, -1)]


def _apex(from_start: float, from_end: float, base: float) -> Floats:
    """Return the apex of a triangle over its base from the origin along u."""
    u = (from_start**2 - from_end**2 + base**2) / (2 * base)
    return np.array([u, np.sqrt(max(from_start**2 - u * u, 0.0))])


def _off(corners: Floats, spans: Floats) -> Floats:
    at = corners.reshape(4, 2)
    return np.asarray(np.hypot(*(at[_ENDS[:, 0]] - at[_ENDS[:, 1]]).T) - spans)


def _angles(corners: Floats) -> Floats:
    """Return the inner angles of corners that turn left round, degrees, 0 to 360."""
    onward, back = np.roll(corners, -1, axis=0) - corners, np.roll(corners, 1, axis=0) - corners
    turn = np.arctan2(back[:, 1], back[:, 0]) - np.arctan2(onward[:, 1], onward[:, 0])
    return np.asarray(np.degrees(turn) % 360.0)
