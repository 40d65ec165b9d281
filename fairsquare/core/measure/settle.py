"""Least squares over a network: damped Gauss-Newton, finished with the whole second derivative.

The answer is the minimum of the sum of squares of all normalised residuals, priors included (the method of least squares in
its non-linear form; the damping is Levenberg's and Marquardt's, SIAM J. Appl. Math. 11, 1963, scaled by the diagonal of the
normal matrix).
"""

from dataclasses import dataclass
from typing import Any

import numpy as np
from scipy.linalg import LinAlgError, cho_factor, cho_solve, eigh
from scipy.linalg.lapack import dpotrf, dpotri

from fairsquare.core.errors import Refused
from fairsquare.core.measure.network import Equations, Floats, Ints, State

STEP = 1e-5
"""The answer is settled when a full Gauss-Newton step moves no coordinate by more than this, in mm or in its sigma."""
_AIM = 1e-3
NEAR = 1e6
"""Steps shorter than this many times `STEP` (10 mm, 10 sigma) may follow the whole second derivative."""
_SLOW = 0.2
"""A step that is not this much shorter than the one before does not contract well: the whole second derivative is taken."""
_PATIENCE = 10
"""After so many steps the valley is a crooked one, which the first derivatives alone follow only in small steps."""
_LITTLE_MM, _LAST_MM = 1e-3, 1e-8
_MOST_STEPS = 300


@dataclass(frozen=True)
class Priors:
    """What is taken of the unknowns before anything is read: values and weights (1/sigma²), both (size,); 0 is none."""

    values: Floats
    weights: Floats


@dataclass(frozen=True)
class Linearised:
    """A network at one state: normalised residuals (m, 3), normalised derivatives (m, 3, 9), normal matrix and gradient."""

    residuals: Floats
    slopes: Floats
    normal: Floats
    gradient: Floats
    cost: float


def linearise(equations: Equations, in_use: Floats, priors: Priors, state: State) -> Linearised:
    """Return the network at `state`; `in_use` (m,) is 1 for the observations that count and 0 for the others."""
    computed, slopes = equations.computed(state)
    weight = (in_use / equations.sigmas)[:, None] * equations.given
    residuals = (equations.values - computed) * weight
    slopes = slopes * weight[:, :, None]
    normal = assemble(equations, np.einsum("mri,mrj->mij", slopes, slopes), state.layout.size)
    off = priors.values - state.values
    normal[np.diag_indices_from(normal)] += priors.weights
    pulls = np.einsum("mri,mr->mi", slopes, residuals).ravel()
    gradient = priors.weights * off
    np.add.at(gradient, equations.columns.ravel(), pulls)
    cost = float(np.sum(residuals**2) + np.sum(priors.weights * off**2))
    return Linearised(residuals, slopes, normal, gradient, cost)


def assemble(equations: Equations, blocks: Floats, size: int) -> Floats:
    """Return the (size, size) matrix to which every observation adds its block (9, 9) at its columns."""
    flat = equations.columns[:, :, None] * size + equations.columns[:, None, :]
    return np.asarray(np.bincount(flat.ravel(), blocks.ravel(), minlength=size * size), dtype=float).reshape(size, size)


def inverse(normal: Floats, alone: Ints | None = None) -> Floats:
    """Return the inverse of a positive definite matrix. Raises `LinAlgError` where it is none.

    `alone` (a, 3) are the columns of points that nothing joins to another point: they are eliminated first, block by block
    (the Schur complement), which leaves a small matrix where all was read by instruments.
    """
    scale = 1 / np.sqrt(np.diag(normal))
    scaled = _scaled(normal, scale)
    if alone is None or len(alone) == 0:
        whole = _dense_inverse(scaled)
    else:
        whole = _inverse_by_blocks(_eliminate(scaled, alone), len(scaled))
    whole *= scale[:, None]
    whole *= scale[None, :]
    return whole


def _scaled(normal: Floats, scale: Floats) -> Floats:
    scaled = normal * scale[:, None]
    scaled *= scale[None, :]
    return scaled


def _dense_inverse(matrix: Floats) -> Floats:
    factor, fault = dpotrf(matrix, lower=False)
    if fault:
        raise LinAlgError("not positive definite")
    return _whole(np.ones(len(matrix)), factor)


@dataclass(frozen=True)
class _Eliminated:
    """A scaled normal matrix with the points that stand alone eliminated (the Schur complement)."""

    columns: Ints | slice
    rest: Ints | slice
    blocks: Floats
    carried: Floats
    kept: Floats


def _eliminate(matrix: Floats, alone: Ints) -> _Eliminated:
    """Return the parts of a symmetric matrix's inverse. Raises `LinAlgError` where it is not positive definite."""
    columns = _together(alone.ravel())
    rest = _together(np.setdiff1d(np.arange(len(matrix)), alone.ravel(), assume_unique=True))
    own = matrix[alone[:, :, None], alone[:, None, :]]
    np.linalg.cholesky(own)
    blocks = np.asarray(np.linalg.inv(own), dtype=float)
    across = matrix[_meeting(columns, rest)]
    carried = (blocks @ across.reshape(len(alone), 3, -1)).reshape(across.shape)
    kept = _dense_inverse(matrix[_meeting(rest, rest)] - across.T @ carried)
    return _Eliminated(columns, rest, blocks, carried, kept)


def _together(columns: Ints) -> Ints | slice:
    """Return columns that follow one another as a slice, which is quicker to take and to fill."""
    if len(columns) and columns[-1] - columns[0] == len(columns) - 1 and np.all(np.diff(columns) == 1):
        return slice(int(columns[0]), int(columns[-1]) + 1)
    return columns


def _meeting(rows: Ints | slice, columns: Ints | slice) -> Any:
    """Return the index of a matrix where `rows` meet `columns`."""
    if isinstance(rows, slice) or isinstance(columns, slice):
        return rows, columns
    return np.ix_(rows, columns)


def _solve_by_blocks(parts: _Eliminated, right: Floats) -> Floats:
    solved = np.empty_like(right)
    own = (parts.blocks @ right[parts.columns].reshape(-1, 3, 1)).ravel()
    solved[parts.rest] = parts.kept @ (right[parts.rest] - parts.carried.T @ right[parts.columns])
    solved[parts.columns] = own - parts.carried @ solved[parts.rest]
    return solved


def _inverse_by_blocks(parts: _Eliminated, size: int) -> Floats:
    spread = parts.carried @ parts.kept
    whole = np.empty((size, size))
    own = spread @ parts.carried.T
    for k in range(3):
        for other in range(3):
            own[np.arange(k, len(own), 3), np.arange(other, len(own), 3)] += parts.blocks[:, k, other]
    whole[_meeting(parts.columns, parts.columns)] = own
    whole[_meeting(parts.columns, parts.rest)] = -spread
    whole[_meeting(parts.rest, parts.columns)] = -spread.T
    whole[_meeting(parts.rest, parts.rest)] = parts.kept
    return whole


def variances(normal: Floats, alone: Ints) -> Floats:
    """Return the diagonal of the inverse of a positive definite matrix, (size,), without the rest where it can be had so."""
    if len(alone) == 0:
        return np.asarray(np.diag(inverse(normal)))
    scale = 1 / np.sqrt(np.diag(normal))
    parts = _eliminate(_scaled(normal, scale), alone)
    each = np.empty(len(normal))
    each[parts.rest] = np.diag(parts.kept)
    each[parts.columns] = np.einsum("nkk->nk", parts.blocks).ravel() + np.einsum(
        "ij,ij->i", parts.carried @ parts.kept, parts.carried
    )
    return np.asarray(each * scale**2)


def settle(
    equations: Equations, in_use: Floats, priors: Priors, state: State, damping: float = 0.0
) -> tuple[State, Linearised, Floats]:
    """Return the minimum, the network there, and the covariance (size, size), the inverse of the Gauss-Newton normal matrix.

    `damping` is how carefully it sets out: 0 with full steps. Raises `Refused` where no minimum is reached.
    """
    whole, before = False, np.inf
    at = linearise(equations, in_use, priors, state)
    for turn in range(_MOST_STEPS):
        step, left, covariance = _full_step(equations, at, state, before)
        if covariance is not None and left <= _AIM:
            escape = _downhill(equations, at, state)
            if escape is None:
                return state, at, covariance
            state, at, damping, whole = _roll_off(equations, in_use, priors, state, at, escape)
            before = np.inf
            continue
        whole = whole or turn >= _PATIENCE or (left < NEAR and left > _SLOW * before)
        if whole or damping:
            step = _damped_step(equations, at, state, damping, whole)
        trial = state.moved(step)
        then = linearise(equations, in_use, priors, trial)
        if then.cost <= at.cost + 1e-13 * (1 + at.cost):
            state, at, before = trial, then, left
            damping = damping / 10 if damping > 1e-9 else 0.0
        else:
            if covariance is not None and left <= 1:
                return state, at, covariance
            damping = max(10 * damping, 1e-6)
    raise Refused(
        "These readings do not settle into one picture: some contradict the sheet grossly. "
        "Look for swapped codes, a wrong unit or a wrong sheet, or begin with fewer readings.",
        field="observations",
    )


def _full_step(
    equations: Equations, at: Linearised, state: State, before: float
) -> tuple[Floats, float, Floats | None]:
    """Return the Gauss-Newton step, how far it goes in units of what is allowed, and the covariance where it may be the last.

    `before` is how far the step before went: one that is little and does not shrink any more is as good as the numbers allow.
    """
    covariance: Floats | None = None
    scale = 1 / np.sqrt(np.diag(at.normal))
    scaled = _scaled(at.normal, scale)
    parts: _Eliminated | None = None
    if len(equations.alone):
        parts = _eliminate(scaled, equations.alone)
        step = scale * _solve_by_blocks(parts, scale * at.gradient)
    else:
        factor, fault = dpotrf(scaled, lower=False)
        if fault:
            raise LinAlgError("not positive definite")
        step = scale * cho_solve((factor, False), scale * at.gradient, check_finite=False)
    longest = float(np.abs(step[: state.layout.coordinates]).max(initial=0.0))
    if longest <= _LAST_MM or (longest <= _LITTLE_MM and longest / STEP > _SLOW * before):
        covariance = _whole(scale, factor) if parts is None else _scaled(_inverse_by_blocks(parts, len(scale)), scale)
    sigma = np.ones(state.layout.size) if covariance is None else np.sqrt(np.diag(covariance))
    moves = np.abs(step) / (STEP * np.maximum(1.0, sigma))
    return np.asarray(step), float(moves[: state.layout.coordinates].max(initial=0.0)), covariance


def _whole(scale: Floats, factor: Floats) -> Floats:
    """Return the inverse of the matrix that was scaled and factored."""
    upper, _ = dpotri(factor, lower=False)
    whole = upper + upper.T
    whole[np.diag_indices_from(whole)] /= 2
    whole *= scale[:, None]
    whole *= scale[None, :]
    return np.asarray(whole)


def _hessian(equations: Equations, at: Linearised, state: State) -> Floats:
    """Return half the whole second derivative of the cost, (size, size)."""
    pull = at.residuals / equations.sigmas[:, None]
    return at.normal - assemble(equations, equations.bending(state, pull), state.layout.size)


def _damped_step(equations: Equations, at: Linearised, state: State, damping: float, whole: bool) -> Floats:
    matrix = _hessian(equations, at, state) if whole else at.normal
    scale = np.diag(at.normal)
    for _ in range(60):
        try:
            return np.asarray(cho_solve(cho_factor(matrix + np.diag(damping * scale)), at.gradient))
        except LinAlgError:
            damping = max(4 * damping, 1e-6)
    return np.asarray(inverse(at.normal, equations.alone) @ at.gradient)


def _downhill(equations: Equations, at: Linearised, state: State) -> Floats | None:
    """Return a way down from a place without slope that is no minimum (a saddle), or null where it is one."""
    scale = 1 / np.sqrt(np.diag(at.normal))
    hessian = _scaled(_hessian(equations, at, state), scale)
    raised = hessian.copy()
    raised[np.diag_indices_from(raised)] += 1e-10
    if _positive(raised, equations.alone):
        return None
    _, vectors = eigh(hessian, subset_by_index=[0, 0])
    return np.asarray(vectors[:, 0] * scale)


def _positive(matrix: Floats, alone: Ints) -> bool:
    if len(alone) == 0:
        return not dpotrf(matrix)[1]
    try:
        _eliminate(matrix, alone)
    except LinAlgError:
        return False
    return True


def _roll_off(
    equations: Equations, in_use: Floats, priors: Priors, state: State, at: Linearised, way: Floats
) -> tuple[State, Linearised, float, bool]:
    """Leave a saddle along `way`, to whichever side and as far as goes lowest."""
    best = (state, at)
    for length in (0.1, 1.0, 10.0, 100.0):
        for side in (1, -1):
            trial = state.moved(side * length * way)
            then = linearise(equations, in_use, priors, trial)
            if then.cost < best[1].cost:
                best = (trial, then)
    if best[1] is at:
        raise Refused(
            "These readings leave the picture open between two mirrored answers: add a height or an offset.",
            field="observations",
        )
    return *best, 0.0, True
