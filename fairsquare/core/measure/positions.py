"""Where the readings of a set-up put each point: through the fitted pose, readings of one point averaged.

Uncertainty: the reading and the fit together. A reading that also served the fit is correlated with the pose; that
share is taken into account, so a reference point is not counted twice.
"""

from typing import Annotated

import numpy as np
import numpy.typing as npt
from pydantic import Field

from fairsquare.core.axes import apply_pose, covariance_through_pose
from fairsquare.core.errors import Refused
from fairsquare.core.measure.setup import FitSetup, Reading, SetupFit, fit_setup
from fairsquare.core.model import Code, Many, Matrix3, Model, Row3
from fairsquare.core.sheet.model import Sheet, find_point, points_by_code

Floats = npt.NDArray[np.float64]


class PlaceReadings(Model):
    """Readings of one set-up in the instrument's axes. `references` fit the pose; `readings` are of any points.

    `trusted` names the references to rely on where a person has chosen; null: as `fit-setup` judges. A reading in
    `readings` that has the same code and xyz as one of the references is that reference reading.
    """

    sheet: Sheet
    references: Many[Reading]
    readings: Many[Reading]
    sigma_mm: Annotated[float, Field(ge=0, le=1e4)] = 0.3
    trusted: Many[Code] | None = None


class PlacedPoint(Model):
    """A point in vehicle axes, mm; `scatter_mm` is the largest distance of one of its readings from their mean."""

    xyz: Row3
    covariance: Matrix3
    readings: int
    scatter_mm: float | None


class PlacedPoints(Model):
    """The set-up as fitted, and the points that were read."""

    fit: SetupFit
    points: dict[str, PlacedPoint]


def place_readings(request: PlaceReadings) -> PlacedPoints:
    """Fit the set-up and place every reading. Raises `Refused` when no pose can be had from the references."""
    points = points_by_code(request.sheet)
    for index, reading in enumerate(request.readings):
        find_point(points, reading.code, f"readings.{index}.code")
    fit = fit_setup(chosen_references(request))
    if fit.rotation is None or fit.translation is None or fit.pose_covariance is None:
        raise Refused(fit.warnings[-1].words, field="references", value=[r.code for r in request.references])
    rotation, translation = np.array(fit.rotation), np.array(fit.translation)
    pose_covariance = np.array(fit.pose_covariance)
    served = {(r.code, r.xyz) for r in request.references if r.code in fit.trusted}
    variance = request.sigma_mm**2
    full = variance + request.sheet.build_sigma_mm**2
    places = apply_pose(rotation, translation, np.array([r.xyz for r in request.readings], dtype=float).reshape(-1, 3))
    rows: dict[str, list[int]] = {}
    for row, reading in enumerate(request.readings):
        rows.setdefault(reading.code, []).append(row)
    means = np.array([places[own].mean(axis=0) for own in rows.values()]).reshape(-1, 3)
    through_pose = covariance_through_pose(means, pose_covariance)
    placed: dict[str, PlacedPoint] = {}
    for (code, own), mean, carried in zip(rows.items(), means, through_pose, strict=True):
        in_fit = any((code, request.readings[row].xyz) in served for row in own)
        share = 1 - 2 * variance / (len(own) * full) if in_fit else 1.0
        placed[code] = _mean_of(places[own], mean, variance, share * carried)
    return PlacedPoints(fit=fit, points=placed)


def chosen_references(request: PlaceReadings) -> FitSetup:
    """Return the fit to make: of all references, or of those a person chose. Raises `Refused` for a choice not read."""
    read = {reading.code for reading in request.references}
    missing = [code for code in request.trusted or () if code not in read]
    if missing:
        raise Refused(
            f"{', '.join(missing)} cannot be trusted: not read in this set-up.", field="trusted", value=missing
        )
    kept = tuple(r for r in request.references if request.trusted is None or r.code in request.trusted)
    return FitSetup(sheet=request.sheet, readings=kept, sigma_mm=request.sigma_mm)


def _mean_of(places: Floats, mean: Floats, variance: float, through_pose: Floats) -> PlacedPoint:
    """Return the mean of the readings (n, 3) of one point.

    One axis of the mean has variance max(σ², s²)/n, s² the sample variance: what is scattered more than it should be
    is not made better by the formula. The pose adds J Σ Jᵀ; where one of the n readings served the fit, its error is in
    both, with covariance −(σ²/n) J (ΣJᵀJ)⁻¹ Jᵀ = −(σ²/(n·s²)) J Σ Jᵀ, which the caller has taken into `through_pose`.
    """
    count = len(places)
    own = np.full(3, variance) if count == 1 else np.maximum(variance, places.var(axis=0, ddof=1))
    covariance = np.diag(own / count) + (through_pose + through_pose.T) / 2
    rows = [(float(row[0]), float(row[1]), float(row[2])) for row in covariance]
    scatter = float(np.linalg.norm(places - mean, axis=1).max()) if count > 1 else None
    return PlacedPoint(
        xyz=(float(mean[0]), float(mean[1]), float(mean[2])),
        covariance=(rows[0], rows[1], rows[2]),
        readings=count,
        scatter_mm=scatter,
    )
