"""The deviations that damage is read from: of every read point from the sheet, with the covariance of all of them together."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy.linalg import LinAlgError, cho_factor, cho_solve

from fairsquare.core.errors import Refused
from fairsquare.core.measure.adjust import JointCovariance
from fairsquare.core.measure.conformity import MeasuredPoint, check_covariances
from fairsquare.core.sheet.model import Point, Sheet, find_point, points_by_code

Floats = npt.NDArray[np.float64]
Ints = npt.NDArray[np.int64]

_LEAST_VARIANCE = 1e-8
"""mm². Where nothing at all is unsure, weights are taken as if a ten-thousandth of a millimetre were."""


@dataclass(frozen=True)
class Deviations:
    """Points as read, in the order of the sheet: `d` (n, 3) = read − sheet, mm; `v` (3n, 3n) its covariance, mm².

    `v` holds the readings' covariance, how well the sheet knows each place, and how well vehicles are built.
    """

    points: tuple[Point, ...]
    d: Floats
    v: Floats

    @property
    def codes(self) -> tuple[str, ...]:
        """The codes of the points."""
        return tuple(point.code for point in self.points)

    @property
    def places(self) -> Floats:
        """The places on the sheet, (n, 3)."""
        return np.array([point.xyz for point in self.points], dtype=float).reshape(-1, 3)

    def some(self, rows: Sequence[int] | Ints) -> "Deviations":
        """Return some of the points, with their part of the covariance."""
        own = np.asarray(rows, dtype=np.int64)
        columns = (3 * own[:, None] + np.arange(3)).ravel()
        return Deviations(
            tuple(self.points[row] for row in own), self.d[own], self.v[columns[:, None], columns[None, :]]
        )

    def weights(self) -> Floats:
        """Return the inverse of the covariance, (3n, 3n)."""
        size = len(self.v)
        try:
            factor = cho_factor(self.v)
        except LinAlgError:
            factor = cho_factor(self.v + _LEAST_VARIANCE * np.eye(size))
        return np.asarray(cho_solve(factor, np.eye(size)))

    def variance(self, parts: Mapping[tuple[int, int], float]) -> float:
        """Return the variance of a sum of deviations: {(row, axis): factor}."""
        columns = [3 * row + axis for row, axis in parts]
        factors = np.array(list(parts.values()))
        return float(max(factors @ self.v[np.ix_(columns, columns)] @ factors, 0.0))


def deviations_of(
    sheet: Sheet, measured: Mapping[str, MeasuredPoint], joint: JointCovariance | None
) -> tuple[Deviations, dict[str, MeasuredPoint]]:
    """Return the deviations, and the points with their covariance as it is in `joint`. Raises `Refused` for what is none.

    The entries of `joint` replace the points' own; points that are not in it are independent of all others.
    """
    points = points_by_code(sheet)
    for code in measured:
        find_point(points, code, f"points.{code}")
    codes = [code for code in points if code in measured]
    covariances = np.array([measured[code].covariance for code in codes], dtype=float).reshape(-1, 3, 3)
    if codes:
        check_covariances(covariances, codes)
    v = np.zeros((3 * len(codes), 3 * len(codes)))
    for row, block in enumerate(covariances):
        v[3 * row : 3 * row + 3, 3 * row : 3 * row + 3] = block
    if joint is not None:
        _put_joint(v, joint, points, codes)
    blocks = [v[3 * row : 3 * row + 3, 3 * row : 3 * row + 3].copy() for row in range(len(codes))]
    own = np.array([points[code].sigma_mm or (0.0, 0.0, 0.0) for code in codes], dtype=float).reshape(-1)
    v[np.diag_indices_from(v)] += own**2 + sheet.build_sigma_mm**2
    d = np.array([np.subtract(measured[code].xyz, points[code].xyz) for code in codes]).reshape(-1, 3)
    taken = {
        code: measured[code].model_copy(update={"covariance": tuple(tuple(map(float, line)) for line in block)})
        for code, block in zip(codes, blocks, strict=True)
    }
    return Deviations(tuple(points[code] for code in codes), d, v), taken


def _put_joint(v: Floats, joint: JointCovariance, points: Mapping[str, Point], codes: Sequence[str]) -> None:
    """Put the covariance of the points together where their own stand. Codes that were not read are passed over."""
    for index, code in enumerate(joint.codes):
        find_point(dict(points), code, f"joint.codes.{index}")
        if code in joint.codes[:index]:
            raise Refused(f"{code} stands twice in it.", field=f"joint.codes.{index}", value=code)
    size = 3 * len(joint.codes)
    if len(joint.covariance) != size or any(len(line) != size for line in joint.covariance):
        raise Refused(
            f"It should be {size}×{size}: x, y and z of each of its {len(joint.codes)} codes.",
            field="joint.covariance",
            value=f"{len(joint.covariance)} rows",
        )
    whole = np.array(joint.covariance, dtype=float).reshape(size, size)
    scale = float(np.abs(whole).max(initial=0.0))
    if np.abs(whole - whole.T).max(initial=0.0) > 1e-9 * scale:
        raise Refused("A covariance must be symmetric.", field="joint.covariance", value="not symmetric")
    if np.linalg.eigvalsh(whole).min(initial=0.0) < -1e-9 * scale:
        raise Refused(
            "A covariance has no negative eigenvalue: this one has.", field="joint.covariance", value="negative"
        )
    rows = {code: row for row, code in enumerate(codes)}
    held = [(rows[code], place) for place, code in enumerate(joint.codes) if code in rows]
    to = np.array([3 * row + axis for row, _ in held for axis in range(3)], dtype=np.int64)
    of = np.array([3 * place + axis for _, place in held for axis in range(3)], dtype=np.int64)
    v[to[:, None], to[None, :]] = whole[of[:, None], of[None, :]]


def side_of(point: Point) -> int:
    """Return 1 for a point left of the centre plane, −1 right of it, 0 on it."""
    return int(np.sign(point.xyz[1]))


def series_of(points: Sequence[Point]) -> dict[tuple[str | None, int], list[int]]:
    """Return the rows of each series: points of one member on one side; those without a member by side."""
    series: dict[tuple[str | None, int], list[int]] = {}
    for row, point in enumerate(points):
        series.setdefault((point.member, side_of(point)), []).append(row)
    return series
