"""Panels on their hinges in numbers: how hinges and gaps answer to moves, and the moves that bring gaps in.

A panel moves as a rigid body, small movements: u(p) = t + ω × (p − c), c the middle of its hinges. What is sought is
x = (t, 1000 mm · ω) of each panel one after the other, six numbers in mm a panel: n in all.
"""

from collections.abc import Sequence
from typing import Annotated, Literal, NamedTuple

import numpy as np
import numpy.typing as npt
from pydantic import Field
from scipy.optimize import linprog, nnls

from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Millimetres, Model, Vector

Floats = npt.NDArray[np.float64]
AxisName = Literal["length", "width", "height"]
AXIS_NAMES: tuple[AxisName, ...] = ("length", "width", "height")
HangVerdict = Literal["adjust", "as_is", "structure"]
Ranges = dict[Code, dict[AxisName, tuple[float, float]]]

STIFFNESS = 1e-6
"""How much a move weighs beside the gaps, so that of equal ones the least is made."""
LEVER_MM = 1000.0
FEASIBLE_MM = 1e-8
_ROUNDING = 1e-9

Reach = Annotated[tuple[Millimetres, Millimetres], Field(strict=False)]


class HingeRange(Model):
    """How far a hinge may be moved along each axis, mm."""

    length: Reach
    width: Reach
    height: Reach

    @property
    def ends(self) -> Floats:
        """The lower and the upper ends, (2, 3)."""
        return np.array([self.length, self.width, self.height]).T


class Hinge(Model):
    """A hinge (or a bolt that holds the panel): where it is and how far it may be moved."""

    id: Code
    at: Vector
    range: HingeRange


class GapPredicted(Model):
    """A gap as the moves leave it."""

    id: str
    predicted_mm: float
    within: bool


class Limits(NamedTuple):
    """Rows (r, n) and limits (r) of rows @ x ≤ limits."""

    rows: Floats
    limits: Floats

    def and_also(self, other: "Limits") -> "Limits":
        """Return these limits and others."""
        return Limits(np.vstack([self.rows, other.rows]), np.concatenate([self.limits, other.limits]))


class Widened(NamedTuple):
    """The ranges (h, 3) that let every gap in, and what was put on to them in all, mm."""

    low: Floats
    high: Floats
    by_mm: float


class Hanging(NamedTuple):
    """Panels in numbers: hinge moves `hinges` @ x, (h, 3, n), within `low` and `high` (h, 3); gaps `mm` − `gaps` @ x, (g, n)."""

    hinges: Floats
    low: Floats
    high: Floats
    gaps: Floats
    mm: Floats
    target: Floats
    tolerance: Floats

    @property
    def unknowns(self) -> int:
        """How many numbers x has."""
        return int(self.gaps.shape[1])

    def predicted(self, x: Floats) -> Floats:
        """Return the gaps (g) after moves x, mm."""
        return np.asarray(self.mm - self.gaps @ x)

    def within(self, predicted: Floats) -> npt.NDArray[np.bool_]:
        """Return which gaps (g) are within tolerance, ends included."""
        return np.asarray(
            np.abs(predicted - self.target) <= self.tolerance + _ROUNDING * np.maximum(1.0, self.tolerance)
        )

    def moved(self, x: Floats) -> Floats:
        """Return how far each hinge moves (h, 3), rounded into its range."""
        return np.asarray(np.clip(self.hinges @ x, self.low, self.high))

    def within_ranges(self) -> Limits:
        """Return what holds every hinge within its range."""
        rows = self.hinges.reshape(-1, self.unknowns)
        return Limits(np.vstack([rows, -rows]), np.concatenate([self.high.ravel(), -self.low.ravel()]))

    def within_gaps(self) -> Limits:
        """Return what brings every gap within tolerance."""
        off = self.mm - self.target
        return Limits(np.vstack([self.gaps, -self.gaps]), np.concatenate([self.tolerance + off, self.tolerance - off]))

    def missed(self) -> tuple[float, npt.NDArray[np.bool_]]:
        """Return by how much, mm, the worst gap must be missed with every hinge in its range, 0 where all can be brought in.

        And which gaps (g) hold one another up: without these it could be less.
        """
        bounds, inside = self.within_ranges(), self.within_gaps()
        n, many = self.unknowns, len(inside.limits)
        solved = linprog(
            np.append(np.zeros(n), 1.0),
            A_ub=np.vstack(
                [
                    np.hstack([bounds.rows, np.zeros((len(bounds.limits), 1))]),
                    np.hstack([inside.rows, -np.ones((many, 1))]),
                ]
            ),
            b_ub=np.concatenate([bounds.limits, inside.limits]),
            bounds=[(None, None)] * n + [(0, None)],
            method="highs-ds",
        )
        if solved.status != 0 or solved.fun is None:
            return np.inf, np.ones(len(self.mm), dtype=bool)
        pressed = solved.ineqlin.marginals[-many:] < -1e-12
        return float(solved.fun), pressed[: many // 2] | pressed[many // 2 :]

    def weight(self, x: Floats) -> float:
        """Return the sum that is sought least: Σ((predicted − target)/tolerance)² and a little for the moves."""
        return float((((self.predicted(x) - self.target) / self.tolerance) ** 2).sum() + STIFFNESS * (x @ x))

    def least(self, held: Limits) -> Floats:
        """Return the x of the least `weight` within limits.

        Least distance programming by non-negative least squares (Lawson and Hanson, Solving Least Squares Problems, chapter 23),
        then the limits that are met are held exactly.
        """
        n, weights = self.unknowns, 1.0 / self.tolerance
        matrix = np.vstack([self.gaps * weights[:, None], np.sqrt(STIFFNESS) * np.eye(n)])
        wanted = np.concatenate([(self.mm - self.target) * weights, np.zeros(n)])
        q, r = np.linalg.qr(matrix)
        free = q.T @ wanted
        turned = np.linalg.solve(r.T, held.rows.T).T
        room = held.limits - turned @ free
        if (room >= -_ROUNDING).all():
            return np.asarray(np.linalg.solve(r, free))
        stacked = np.vstack([-turned.T, -room[None, :]])
        aim = np.append(np.zeros(n), 1.0)
        pressed, _ = nnls(stacked, aim, maxiter=200 * len(held.limits))
        left = aim - stacked @ pressed
        y = -left[:n] / left[n]
        met = pressed > 1e-12 * max(float(pressed.max()), 1e-300)
        exact = np.linalg.lstsq(turned[met], room[met], rcond=None)[0]
        close = np.linalg.norm(exact - y) <= 1e-6 * max(1.0, float(np.linalg.norm(y)))
        return np.asarray(np.linalg.solve(r, (exact if close else y) + free))

    def hung(self) -> tuple[HangVerdict, Floats]:
        """Return whether all gaps are in as they are, can be brought in, or cannot, and the x to move by."""
        if self.within(self.mm).all():
            return "as_is", np.zeros(self.unknowns)
        bounds = self.within_ranges()
        missed, _ = self.missed()
        return ("adjust", self.brought_in(missed)) if missed <= FEASIBLE_MM else ("structure", self.least(bounds))

    def brought_in(self, missed: float = 0.0) -> Floats:
        """Return the x of the least `weight` with every hinge in its range and every gap in, or `missed` by so little (mm)."""
        inside = self.within_gaps()
        return self.least(self.within_ranges().and_also(Limits(inside.rows, inside.limits + missed)))

    def widened(self) -> Widened | None:
        """Return the ranges, widened least in all, that would let every gap in; None where none would."""
        n, many, inside = self.unknowns, self.low.size, self.within_gaps()
        rows = self.hinges.reshape(-1, n)
        wide = np.hstack([rows, np.zeros((many, many)), -np.eye(many)])
        narrow = np.hstack([-rows, -np.eye(many), np.zeros((many, many))])
        gaps = np.hstack([inside.rows, np.zeros((len(inside.limits), 2 * many))])
        solved = linprog(
            np.concatenate([np.zeros(n), np.ones(2 * many)]),
            A_ub=np.vstack([wide, narrow, gaps]),
            b_ub=np.concatenate([self.high.ravel(), -self.low.ravel(), inside.limits]),
            bounds=[(None, None)] * n + [(0, None)] * (2 * many),
            method="highs-ds",
        )
        if solved.status != 0 or solved.x is None or solved.fun is None:
            return None
        below, above = solved.x[n : n + many], solved.x[n + many :]
        shape = self.low.shape
        return Widened(self.low - below.reshape(shape), self.high + above.reshape(shape), float(solved.fun))


def hinges_at(hinges: Sequence[Hinge]) -> tuple[Floats, Floats, Floats, Floats]:
    """Return the middle (3) of a panel's hinges, how they move with its x (h, 3, 6), and their lower and upper ends (h, 3)."""
    at = np.array([hinge.at for hinge in hinges], dtype=float)
    middle = at.mean(axis=0)
    ends = np.array([hinge.range.ends for hinge in hinges])
    return middle, moves_at(at - middle), ends[:, 0], ends[:, 1]


def moves_at(arms: Floats) -> Floats:
    """Return how places at `arms` from the middle, (k, 3), move with the x of their panel: (k, 3, 6)."""
    moves = np.zeros((len(arms), 3, 6))
    moves[:, :, :3] = np.eye(3)
    for axis in range(3):
        turn = np.zeros(3)
        turn[axis] = 1.0 / LEVER_MM
        moves[:, :, 3 + axis] = np.cross(turn, arms)
    return moves


def units_of(normals: Sequence[Sequence[float]]) -> Floats:
    """Return normals (g, 3), none of them nought, made unit vectors, however large or small they are given."""
    given = np.array(normals, dtype=float)
    level = given / np.abs(given).max(axis=1, keepdims=True)
    return np.asarray(level / np.linalg.norm(level, axis=1, keepdims=True))


def check_once(names: Sequence[str], field: str) -> None:
    """Refuse a name that is listed twice."""
    for index, name in enumerate(names):
        if name in names[:index]:
            raise Refused(f"{name} is listed twice.", field=f"{field}.{index}.id", value=name)


def check_hinges(hinges: Sequence[Hinge], of: str, field: str) -> None:
    """Refuse a panel without hinges, a hinge twice, and a range that does not hold 0."""
    if not hinges:
        raise Refused(f"{of} hangs on a hinge at least.", field=field, value=[])
    check_once([hinge.id for hinge in hinges], field)
    for index, hinge in enumerate(hinges):
        for axis in AXIS_NAMES:
            low, high = getattr(hinge.range, axis)
            if not low <= 0 <= high:
                raise Refused(
                    f"The range of {hinge.id} along {axis} should hold 0, where it stands now.",
                    field=f"{field}.{index}.range.{axis}",
                    value=[low, high],
                )


def check_normals(normals: Sequence[Vector]) -> None:
    """Refuse a gap that opens no way."""
    for index, normal in enumerate(normals):
        if not any(normal):
            raise Refused(
                "Which way does the gap open? Its normal is not nought.", field=f"gaps.{index}.normal", value=[0, 0, 0]
            )


def gaps_told(hanging: Hanging, ids: Sequence[str], predicted: Floats) -> tuple[GapPredicted, ...]:
    """Return gaps (g) by their ids, and whether each is in."""
    return tuple(
        GapPredicted(id=name, predicted_mm=float(mm), within=bool(ok))
        for name, mm, ok in zip(ids, predicted, hanging.within(predicted), strict=True)
    )


def ranges_told(hinges: Sequence[Hinge], low: Floats, high: Floats) -> Ranges:
    """Return the ranges of hinges (h, 3) by their ids."""
    return {
        hinge.id: {axis: (float(low[k, n]), float(high[k, n])) for n, axis in enumerate(AXIS_NAMES)}
        for k, hinge in enumerate(hinges)
    }


def moves_told(hinges: Sequence[Hinge], moved: Floats) -> dict[Code, tuple[float, float, float]]:
    """Return the moves of hinges (h, 3) by their ids."""
    return {hinge.id: (float(row[0]), float(row[1]), float(row[2])) for hinge, row in zip(hinges, moved, strict=True)}
