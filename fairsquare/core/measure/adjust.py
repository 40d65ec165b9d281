"""One picture from observations of every kind, with honest uncertainty; wrong readings found and put aside.

Least squares with priors over all points and set-ups at once (`settle`); each observation, and the place of each trusted
point, is tested against all the others (`solve`, `checking`).
"""

import math
from dataclasses import replace

import numpy as np
from scipy.special import chdtrc

from fairsquare.core.measure.network import Bools, Floats
from fairsquare.core.measure.observations import NetworkSetup
from fairsquare.core.measure.settle import linearise, variances
from fairsquare.core.measure.solve import Network, Solved, check_places, solve_network
from fairsquare.core.model import Code, Flags, Many, Matrix3, Model, Row3
from fairsquare.core.sheet.model import find_point, points_by_code, tolerances

_LEAST_DOF = 0.5


class AdjustNetwork(Network):
    """The network to solve; `joint` names points whose covariance is wanted together."""

    joint: Many[Code] | None = None


class AdjustedPoint(Model):
    """A point in the picture, mm. `determined` says which coordinates the readings give to within their tolerance."""

    xyz: Row3
    covariance: Matrix3
    deviation: Row3
    sigma: Row3
    determined: Flags


class InstrumentPose(Model):
    """Where an instrument stands: vehicle = rotation · reading + translation."""

    rotation: Matrix3
    translation: Row3


class SightLine(Model):
    """Where a sight runs: y = l0 + l1·x, z = c0 + c1·x + c2·y."""

    l0: float
    l1: float
    c0: float
    c1: float
    c2: float


class AdjustedObservation(Model):
    """An observation in the picture: observed − computed, mm; `p` is null where nothing checks it."""

    id: str
    residual: tuple[float, ...]
    p: float | None
    redundancy: float
    rejected: bool


class AdjustedPlace(Model):
    """The sheet place of a trusted point, tested like an observation."""

    p: float | None
    redundancy: float
    distrusted: bool


class JointCovariance(Model):
    """The 3n×3n covariance of some points together, mm², x, y, z of each in the order of `codes`."""

    codes: tuple[str, ...]
    covariance: tuple[tuple[float, ...], ...]


class Adjusted(Model):
    """The picture. `suspects` are groups of which the readings cannot tell the wrong one; `sheet:CODE` is a trusted place."""

    points: dict[str, AdjustedPoint]
    setups: dict[str, InstrumentPose | SightLine]
    observations: tuple[AdjustedObservation, ...]
    places: dict[str, AdjustedPlace]
    rejected: tuple[str, ...]
    distrusted: tuple[str, ...]
    suspects: tuple[tuple[str, ...], ...]
    chi2: float
    dof: float
    p: float | None
    joint: JointCovariance | None


def adjust_network(request: AdjustNetwork) -> Adjusted:
    """Join all observations into one picture. Raises `Refused` or `UnknownCode` for what cannot be part of one."""
    points = points_by_code(request.sheet)
    for index, code in enumerate(request.joint or ()):
        find_point(points, code, f"joint.{index}")
    solved = solve_network(request)
    return _result(solved, request.joint)


def _result(solved: Solved, joint: tuple[str, ...] | None) -> Adjusted:
    """Write a solved network as the result; the tests of what was put aside are those it had then."""
    codes = list(solved.points)
    components = float(np.sum(solved.equations.given * solved.in_use[:, None]) + 3 * np.sum(solved.trusted))
    chi2, used = _misfit(solved)
    dof = components - used
    asked = np.isin(codes, list(solved.request.trusted))
    return Adjusted(
        points=_points(solved),
        setups={setup.id: _setup(solved, setup) for setup in solved.request.setups},
        observations=_observations(solved),
        places={
            codes[row]: AdjustedPlace(
                p=_number(solved.places.p[row]),
                redundancy=float(solved.places.redundancy[row]),
                distrusted=not solved.trusted[row],
            )
            for row in np.flatnonzero(asked)
        },
        rejected=tuple(o.id for o, used in zip(solved.request.observations, solved.in_use, strict=True) if not used),
        distrusted=tuple(codes[row] for row in np.flatnonzero(asked & ~solved.trusted)),
        suspects=tuple(solved.suspects),
        chi2=chi2,
        dof=dof,
        p=float(chdtrc(dof, chi2)) if dof >= _LEAST_DOF else None,
        joint=None if joint is None else _joint(solved, joint),
    )


def _misfit(solved: Solved) -> tuple[float, float]:
    """Return χ² over the observations in use and the trusted places, and trace(J C Jᵀ) over them."""
    redundancy = solved.now.redundancy
    components = solved.equations.given.sum(axis=1)
    priors = solved.priors
    places = check_places(priors, solved.state, solved.covariance, solved.trusted).redundancy
    count = solved.layout.coordinates
    off = ((priors.values - solved.state.values)[:count] ** 2 * priors.weights[:count]).reshape(-1, 3)
    chi2 = float(np.sum(solved.at.residuals**2) + np.sum(off[solved.trusted]))
    used = float(np.sum((1 - redundancy) * components * solved.in_use) + np.sum(3 * (1 - places[solved.trusted])))
    return chi2, used


def _points(solved: Solved) -> dict[str, AdjustedPoint]:
    places = solved.state.values[: solved.layout.coordinates].reshape(-1, 3)
    sheet = np.array([point.xyz for point in solved.points.values()], dtype=float).reshape(-1, 3)
    determined = _determined(solved)
    first = np.arange(0, solved.layout.coordinates, 3)[:, None] + np.arange(3)
    blocks = solved.covariance[first[:, :, None], first[:, None, :]]
    rows = zip(
        solved.points,
        places.tolist(),
        blocks.tolist(),
        (places - sheet).tolist(),
        np.sqrt(np.einsum("nkk->nk", blocks)).tolist(),
        determined.tolist(),
        strict=True,
    )
    return {
        code: AdjustedPoint.unchecked(
            xyz=tuple(xyz),
            covariance=(tuple(own[0]), tuple(own[1]), tuple(own[2])),
            deviation=tuple(deviation),
            sigma=tuple(sigma),
            determined=tuple(known),
        )
        for code, xyz, own, deviation, sigma, known in rows
    }


def _determined(solved: Solved) -> Bools:
    """Say which coordinates the readings give to within tolerance, their own priors left out, shape (n, 3).

    Both at the answer and with all points at their sheet places: a height that a few nearly flat spans seem to fix only
    because the search has drifted to one of two mirrored answers is not known.
    """
    count = solved.layout.coordinates
    priors = solved.priors
    limits = np.array([tolerances(solved.request.sheet, p) for p in solved.points.values()], dtype=float).reshape(-1, 3)
    values = solved.state.values.copy()
    values[:count] = priors.values[:count]
    at_sheet = linearise(solved.equations, solved.in_use, priors, replace(solved.state, values=values))
    good = np.ones((count // 3, 3), dtype=bool)
    for variance in (np.diag(solved.covariance), variances(at_sheet.normal, solved.equations.alone)):
        told = (1 / variance[:count] - priors.weights[:count]).reshape(-1, 3)
        certain = told > 1e-9 * priors.weights[:count].reshape(-1, 3)
        sigma = np.divide(1.0, np.sqrt(np.maximum(told, 0)), out=np.full_like(told, np.inf), where=certain)
        good &= sigma <= limits
    return np.asarray(good & _read_rows(solved)[:, None])


def _read_rows(solved: Solved) -> Bools:
    """Say of each point whether any observation in use reads it, shape (n,)."""
    columns = solved.equations.columns[solved.in_use > 0].ravel()
    read = np.zeros(solved.layout.size, dtype=bool)
    read[columns] = True
    return np.asarray(read[: solved.layout.coordinates].reshape(-1, 3).any(axis=1))


def _setup(solved: Solved, setup: NetworkSetup) -> InstrumentPose | SightLine:
    if setup.kind == "instrument":
        place = solved.layout.instruments.index(setup.id)
        return InstrumentPose(
            rotation=_matrix3(solved.state.rotations[place]), translation=_row3(solved.state.translations[place])
        )
    first = solved.layout.setups[setup.id]
    l0, l1, c0, c1, c2 = (float(value) for value in solved.state.values[first : first + 5])
    return SightLine(l0=l0, l1=l1, c0=c0, c1=c1, c2=c2)


def _observations(solved: Solved) -> tuple[AdjustedObservation, ...]:
    equations = solved.equations
    residuals = (equations.values - equations.computed(solved.state)[0]).tolist()
    rows = zip(
        solved.request.observations,
        residuals,
        equations.given.tolist(),
        solved.readings.p.tolist(),
        solved.readings.redundancy.tolist(),
        solved.in_use.tolist(),
        strict=True,
    )
    return tuple(
        AdjustedObservation.unchecked(
            id=observation.id,
            residual=tuple(
                residual if all(given) else [value for value, has in zip(residual, given, strict=True) if has]
            ),
            p=None if math.isnan(p) else p,
            redundancy=redundancy,
            rejected=not used,
        )
        for observation, residual, given, p, redundancy, used in rows
    )


def _joint(solved: Solved, codes: tuple[str, ...]) -> JointCovariance:
    columns = np.array([solved.layout.points[code] + axis for code in codes for axis in range(3)], dtype=np.int64)
    rows = solved.covariance[columns[:, None], columns[None, :]]
    return JointCovariance(codes=codes, covariance=tuple(tuple(float(value) for value in row) for row in rows))


def _number(value: float) -> float | None:
    return None if np.isnan(value) else float(value)


def _row3(values: Floats) -> Row3:
    return float(values[0]), float(values[1]), float(values[2])


def _matrix3(rows: Floats) -> Matrix3:
    return _row3(rows[0]), _row3(rows[1]), _row3(rows[2])
