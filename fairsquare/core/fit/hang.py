"""Hanging a panel: how far to move which hinge so that its gaps come right, and when no adjustment can help.

A panel moves as a rigid body, small movements: u(p) = t + ω × (p − c), c the middle of the hinges. What is sought is
x = (t, 1000 mm · ω), six numbers in mm.
"""

from collections.abc import Sequence
from typing import Annotated, Literal, NamedTuple

import numpy as np
import numpy.typing as npt
from pydantic import Field
from scipy.optimize import linprog, nnls

from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Millimetres, Model, Vector

Floats = npt.NDArray[np.float64]
AxisName = Literal["length", "width", "height"]
AXIS_NAMES: tuple[AxisName, ...] = ("length", "width", "height")
HangVerdict = Literal["adjust", "as_is", "structure"]

STIFFNESS = 1e-6
"""How much a move weighs beside the gaps, so that of equal ones the least is made."""
LEVER_MM = 1000.0
_ROUNDING = 1e-9
_FEASIBLE_MM = 1e-8

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


class PanelGap(Model):
    """A gap at a place: its `normal` points from the panel to its neighbour. Flushness is a gap out of the surface, target 0."""

    id: Code
    at: Vector
    normal: Vector
    mm: Millimetres
    target_mm: Millimetres
    tolerance_mm: Annotated[float, Field(gt=0, le=1e6)]


class HangPanel(Model):
    """A panel on its hinges, and its gaps as they were read."""

    hinges: Many[Hinge]
    gaps: Many[PanelGap]


class GapPredicted(Model):
    """A gap as the moves leave it."""

    id: str
    predicted_mm: float
    within: bool


class PanelHung(Model):
    """How far each hinge is moved (length, width, height), what the gaps become, and what would be needed where that is not enough.

    `needed`: the ranges, each holding the given one, that would let every gap in with the least widening.
    """

    moves: dict[Code, tuple[float, float, float]]
    gaps: tuple[GapPredicted, ...]
    verdict: HangVerdict
    needed: dict[Code, dict[AxisName, tuple[float, float]]] | None = None
    needed_mm: float | None = None


class _Panel(NamedTuple):
    """The panel in numbers: hinge moves are `hinges` @ x, (h, 3, 6), gaps `mm` − `normals` @ x, (g, 6)."""

    hinges: Floats
    low: Floats
    high: Floats
    normals: Floats
    mm: Floats
    target: Floats
    tolerance: Floats


def hang_panel(request: HangPanel) -> PanelHung:
    """Say how to move a panel's hinges. Raises `Refused` for a range that does not hold 0, a zero normal, no hinge, no gap."""
    panel = _panel(request)
    if (np.abs(panel.mm - panel.target) <= panel.tolerance).all():
        return _hung(request, panel, np.zeros(6), "as_is", None)
    bounds = _within_ranges(panel)
    inside = _within_gaps(panel)
    missed = _missed(bounds, inside)
    if missed <= _FEASIBLE_MM:
        both = np.vstack([bounds[0], inside[0]]), np.concatenate([bounds[1], inside[1] + missed])
        return _hung(request, panel, _least(panel, *both), "adjust", None)
    return _hung(request, panel, _least(panel, *bounds), "structure", _widened(panel, inside))


def _panel(request: HangPanel) -> _Panel:
    _check(request)
    at = np.array([hinge.at for hinge in request.hinges], dtype=float)
    middle = at.mean(axis=0)
    ends = np.array([hinge.range.ends for hinge in request.hinges])
    normals = np.array([gap.normal for gap in request.gaps], dtype=float)
    normals = normals / np.linalg.norm(normals / np.abs(normals).max(axis=1, keepdims=True), axis=1, keepdims=True)
    normals = normals / np.linalg.norm(normals, axis=1, keepdims=True)
    places = np.array([gap.at for gap in request.gaps], dtype=float)
    own = np.einsum("gi,gij->gj", normals, _moves(places - middle))
    return _Panel(
        _moves(at - middle),
        ends[:, 0],
        ends[:, 1],
        own,
        np.array([gap.mm for gap in request.gaps]),
        np.array([gap.target_mm for gap in request.gaps]),
        np.array([gap.tolerance_mm for gap in request.gaps]),
    )


def _check(request: HangPanel) -> None:
    if not request.hinges:
        raise Refused("A panel hangs on a hinge at least.", field="hinges", value=[])
    if not request.gaps:
        raise Refused("Without a gap there is nothing to hang it by.", field="gaps", value=[])
    _check_once([hinge.id for hinge in request.hinges], "hinges")
    _check_once([gap.id for gap in request.gaps], "gaps")
    for index, hinge in enumerate(request.hinges):
        for axis in AXIS_NAMES:
            low, high = getattr(hinge.range, axis)
            if not low <= 0 <= high:
                raise Refused(
                    f"The range of {hinge.id} along {axis} should hold 0, where it stands now.",
                    field=f"hinges.{index}.range.{axis}",
                    value=[low, high],
                )
    for index, gap in enumerate(request.gaps):
        if not any(gap.normal):
            raise Refused(
                "Which way does the gap open? Its normal is not nought.", field=f"gaps.{index}.normal", value=[0, 0, 0]
            )


def _check_once(names: Sequence[str], field: str) -> None:
    for index, name in enumerate(names):
        if name in names[:index]:
            raise Refused(f"{name} is listed twice.", field=f"{field}.{index}.id", value=name)


def _moves(arms: Floats) -> Floats:
    """Return how places at `arms` from the middle, (n, 3), move with x: (n, 3, 6)."""
    moves = np.zeros((len(arms), 3, 6))
    moves[:, :, :3] = np.eye(3)
    for axis in range(3):
        turn = np.zeros(3)
        turn[axis] = 1.0 / LEVER_MM
        moves[:, :, 3 + axis] = np.cross(turn, arms)
    return moves


def _within_ranges(panel: _Panel) -> tuple[Floats, Floats]:
    """Return g and h of g @ x ≤ h: every hinge within its range."""
    rows = panel.hinges.reshape(-1, 6)
    return np.vstack([rows, -rows]), np.concatenate([panel.high.ravel(), -panel.low.ravel()])


def _within_gaps(panel: _Panel) -> tuple[Floats, Floats]:
    """Return g and h of g @ x ≤ h: every gap within tolerance."""
    off = panel.mm - panel.target
    rows = np.vstack([panel.normals, -panel.normals])
    return rows, np.concatenate([panel.tolerance + off, panel.tolerance - off])


def _missed(bounds: tuple[Floats, Floats], inside: tuple[Floats, Floats]) -> float:
    """Return by how much, mm, the worst gap must be missed with every hinge in its range; 0 where all can be brought in."""
    many = len(inside[1])
    rows = np.vstack(
        [np.hstack([bounds[0], np.zeros((len(bounds[1]), 1))]), np.hstack([inside[0], -np.ones((many, 1))])]
    )
    solved = linprog(
        np.array([0.0] * 6 + [1.0]),
        A_ub=rows,
        b_ub=np.concatenate([bounds[1], inside[1]]),
        bounds=[(None, None)] * 6 + [(0, None)],
        method="highs-ds",
    )
    return float(solved.fun) if solved.status == 0 and solved.fun is not None else np.inf


def _least(panel: _Panel, rows: Floats, limits: Floats) -> Floats:
    """Return the x of the least weighted squares with rows @ x ≤ limits.

    Least distance programming by non-negative least squares (Lawson and Hanson, Solving Least Squares Problems, chapter 23), then
    the limits that are met are held exactly.
    """
    weights = 1.0 / panel.tolerance
    matrix = np.vstack([panel.normals * weights[:, None], np.sqrt(STIFFNESS) * np.eye(6)])
    wanted = np.concatenate([(panel.mm - panel.target) * weights, np.zeros(6)])
    q, r = np.linalg.qr(matrix)
    free = q.T @ wanted
    turned = np.linalg.solve(r.T, rows.T).T
    room = limits - turned @ free
    if (room >= -_ROUNDING).all():
        return np.asarray(np.linalg.solve(r, free))
    stacked = np.vstack([-turned.T, -room[None, :]])
    aim = np.zeros(7)
    aim[6] = 1.0
    pressed, _ = nnls(stacked, aim, maxiter=200 * len(limits))
    left = aim - stacked @ pressed
    y = -left[:6] / left[6]
    met = pressed > 1e-12 * max(float(pressed.max()), 1e-300)
    held, at = turned[met], room[met]
    exact = np.linalg.lstsq(held, at, rcond=None)[0]
    close = np.linalg.norm(exact - y) <= 1e-6 * max(1.0, float(np.linalg.norm(y)))
    return np.asarray(np.linalg.solve(r, (exact if close else y) + free))


class _Needed(NamedTuple):
    low: Floats
    high: Floats
    widened: float


def _widened(panel: _Panel, inside: tuple[Floats, Floats]) -> _Needed | None:
    """Return the ranges, widened least in all, that would let every gap in; None where none would."""
    many = panel.low.size
    rows = panel.hinges.reshape(-1, 6)
    wide = np.hstack([rows, np.zeros((many, many)), -np.eye(many)])
    narrow = np.hstack([-rows, -np.eye(many), np.zeros((many, many))])
    gaps = np.hstack([inside[0], np.zeros((len(inside[1]), 2 * many))])
    solved = linprog(
        np.concatenate([np.zeros(6), np.ones(2 * many)]),
        A_ub=np.vstack([wide, narrow, gaps]),
        b_ub=np.concatenate([panel.high.ravel(), -panel.low.ravel(), inside[1]]),
        bounds=[(None, None)] * 6 + [(0, None)] * (2 * many),
        method="highs-ds",
    )
    if solved.status != 0 or solved.x is None or solved.fun is None:
        return None
    below, above = solved.x[6 : 6 + many], solved.x[6 + many :]
    shape = panel.low.shape
    return _Needed(panel.low - below.reshape(shape), panel.high + above.reshape(shape), float(solved.fun))


def _hung(request: HangPanel, panel: _Panel, x: Floats, verdict: HangVerdict, needed: _Needed | None) -> PanelHung:
    moved = panel.hinges @ x
    if verdict != "as_is":
        moved = np.clip(moved, panel.low, panel.high)
    predicted = panel.mm - panel.normals @ x
    within = np.abs(predicted - panel.target) <= panel.tolerance + _ROUNDING * np.maximum(1.0, panel.tolerance)
    return PanelHung(
        moves={hinge.id: _triple(row) for hinge, row in zip(request.hinges, moved, strict=True)},
        gaps=tuple(
            GapPredicted(id=gap.id, predicted_mm=float(mm), within=bool(ok))
            for gap, mm, ok in zip(request.gaps, predicted, within, strict=True)
        ),
        verdict=verdict,
        needed=_ranges(request.hinges, needed) if needed else None,
        needed_mm=needed.widened if needed else None,
    )


def _ranges(hinges: Sequence[Hinge], needed: _Needed) -> dict[str, dict[AxisName, tuple[float, float]]]:
    return {
        hinge.id: {axis: (float(needed.low[k, n]), float(needed.high[k, n])) for n, axis in enumerate(AXIS_NAMES)}
        for k, hinge in enumerate(hinges)
    }


def _triple(row: Floats) -> tuple[float, float, float]:
    return float(row[0]), float(row[1]), float(row[2])
