"""Is a point within tolerance, and how sure is that? Decision by expanded uncertainty, probability by JCGM 106:2012."""

from typing import Annotated, Literal

import numpy as np
import numpy.typing as npt
from pydantic import Field
from scipy.special import ndtr

from fairsquare.core.errors import Refused
from fairsquare.core.model import Flags, Matrix3, Model, Row3, Vector
from fairsquare.core.sheet.model import Point, Sheet, find_point, points_by_code, tolerances

Floats = npt.NDArray[np.float64]
State = Literal["fair", "close", "off", "unread"]
_WORST_FIRST: tuple[State, ...] = ("off", "unread", "close", "fair")


class MeasuredPoint(Model):
    """Where a point is, in vehicle axes, mm, with its covariance, mm²; `deviation` and `sigma` are worked out again."""

    xyz: Vector
    covariance: Matrix3
    determined: Flags = (True, True, True)
    deviation: Row3 | None = None
    sigma: Row3 | None = None


class JudgePoints(Model):
    """The points that were read; `coverage` is the factor of the expanded uncertainty."""

    sheet: Sheet
    points: dict[str, MeasuredPoint]
    coverage: Annotated[float, Field(gt=0, le=100)] = 2.0


class PointJudgement(Model):
    """Deviation from the sheet, expanded uncertainty and probability of conformity per axis; null where not read."""

    deviation: Row3 | None
    expanded: Row3 | None
    probability: Row3 | None
    states: tuple[State, State, State]
    state: State
    words: str = ""


class PointsJudged(Model):
    """A judgement for every point of the sheet."""

    points: dict[str, PointJudgement]


def judge_points(request: JudgePoints) -> PointsJudged:
    """Judge every point of the sheet. Raises `Refused` for a code off the sheet or a covariance that is none."""
    points = points_by_code(request.sheet)
    for code in request.points:
        find_point(points, code, f"points.{code}")
    unread: State = "unread"
    nothing = PointJudgement(
        deviation=None, expanded=None, probability=None, states=(unread,) * 3, state=unread, words="not read"
    )
    read = {code: request.points[code] for code in points if code in request.points}
    judged = _judge_all(request.sheet, points, read, request.coverage) if read else {}
    return PointsJudged(points={code: judged.get(code, nothing) for code in points})


def conformance_probability(deviation: Floats, sigma: Floats, tolerance: Floats) -> Floats:
    """Return the chance of lying within ±tolerance, normal about the deviation (JCGM 106:2012, 7.4). All shapes alike.

    Both tails are taken on the side where they keep their digits. With sigma 0 the answer is 1 or 0.
    """
    inside = (np.abs(deviation) <= tolerance).astype(float)
    with np.errstate(divide="ignore", invalid="ignore"):
        low = (-tolerance - np.abs(deviation)) / sigma
        high = (tolerance - np.abs(deviation)) / sigma
    return np.where(sigma > 0, ndtr(high) - ndtr(low), inside)


def direction_words(deviation: Row3, place: Row3, shown: Flags = (True, True, True)) -> str:
    """Return a deviation in words: "6.2 long, 1.0 left (wide), 3.0 low"; noughts (to a tenth) are left out.

    `place` is the point on the sheet: in front of the zero plane too far forward is long, behind it short.
    """
    words = axis_words(deviation, place)
    reasons = [
        f"{abs(deviation[axis]):.1f} {words[axis]}"
        for axis in range(3)
        if shown[axis] and f"{abs(deviation[axis]):.1f}" != "0.0"
    ]
    return ", ".join(reasons) or "on the sheet"


def axis_words(deviation: Row3, place: Row3) -> tuple[str, str, str]:
    """Return the word of direction for each axis of a deviation of the point at `place` on the sheet."""
    ahead = 1 if place[0] >= 0 else -1
    outward = ""
    if place[1] != 0:
        outward = " (wide)" if deviation[1] * place[1] > 0 else " (narrow)"
    return (
        "long" if deviation[0] * ahead > 0 else "short",
        ("left" if deviation[1] > 0 else "right") + outward,
        "high" if deviation[2] > 0 else "low",
    )


def _judge_all(
    sheet: Sheet, points: dict[str, Point], read: dict[str, MeasuredPoint], coverage: float
) -> dict[str, PointJudgement]:
    """Judge the points that were read, all at once: deviation, sigma and tolerance are arrays of shape (n, 3)."""
    own = [points[code] for code in read]
    covariances = np.array([measured.covariance for measured in read.values()])
    check_covariances(covariances, list(read))
    deviation = np.array([measured.xyz for measured in read.values()]) - np.array([point.xyz for point in own])
    own_variance = np.square([point.sigma_mm or (0.0, 0.0, 0.0) for point in own])
    sigma = np.sqrt(np.maximum(np.einsum("nkk->nk", covariances), 0) + own_variance)
    limit = np.array([tolerances(sheet, point) for point in own])
    expanded = coverage * sigma
    probability = conformance_probability(deviation, sigma, limit)
    size = np.abs(deviation)
    off, close = size > limit, size + expanded > limit
    judged = {}
    rows = zip(
        read.items(), *(column.tolist() for column in (deviation, expanded, probability, off, close)), strict=True
    )
    for (code, measured), moved, wide, chance, is_off, is_close in rows:
        known = measured.determined
        states = (
            _state(is_off[0], is_close[0], known[0]),
            _state(is_off[1], is_close[1], known[1]),
            _state(is_off[2], is_close[2], known[2]),
        )
        words = direction_words(tuple(moved), points[code].xyz, known) if any(known) else "not read"
        judged[code] = PointJudgement.unchecked(
            deviation=tuple(moved),
            expanded=tuple(wide),
            probability=tuple(chance),
            states=states,
            state=next(state for state in _WORST_FIRST if state in states),
            words=words,
        )
    return judged


def _state(off: bool, close: bool, determined: bool) -> State:
    if not determined:
        return "unread"
    if off:
        return "off"
    return "close" if close else "fair"


def check_covariances(covariances: Floats, codes: list[str]) -> None:
    """Raise `Refused` for the first covariance (n, 3, 3) that is not symmetric or has a negative eigenvalue."""
    scale = np.abs(covariances).max(axis=(1, 2))
    skew = np.abs(covariances - np.swapaxes(covariances, 1, 2)).max(axis=(1, 2))
    least = np.linalg.eigvalsh(covariances)[:, 0]
    for bad, words in (
        (skew > 1e-9 * scale, "A covariance must be symmetric."),
        (least < -1e-9 * scale, "A covariance has no negative eigenvalue: this one has."),
    ):
        if bad.any():
            first = int(np.argmax(bad))
            raise Refused(words, field=f"points.{codes[first]}.covariance", value=covariances[first].tolist())
