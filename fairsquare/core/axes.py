"""Vehicle axes, poses, and covariance carried through them.

A pose takes instrument axes to vehicle axes, ``vehicle = rotation @ instrument + translation``. Its error is (ω, τ) with
``fitted = exp(ω) · true + τ``: a small rotation in rad about the vehicle axes through their origin, then a translation in mm.
"""

import numpy as np
import numpy.typing as npt

from fairsquare.core.model import Row3

Floats = npt.NDArray[np.float64]


def cross_matrix(points: Floats) -> Floats:
    """Return [p]× with [p]× v = p × v. Shapes: (..., 3) -> (..., 3, 3)."""
    x, y, z = np.moveaxis(np.asarray(points, dtype=float), -1, 0)
    nought = np.zeros_like(x)
    rows = [[nought, -z, y], [z, nought, -x], [-y, x, nought]]
    return np.stack([np.stack(row, axis=-1) for row in rows], axis=-2)


def pose_jacobian(points: Floats) -> Floats:
    """Return J = [−[p]× I]: how a point in vehicle axes moves with the pose's error. Shapes: (..., 3) -> (..., 3, 6)."""
    cross = cross_matrix(points)
    return np.concatenate([-cross, np.broadcast_to(np.eye(3), cross.shape)], axis=-1)


def covariance_through_pose(points: Floats, pose_covariance: Floats) -> Floats:
    """Return J Σ Jᵀ, the share of the pose in each point's covariance, mm². Shapes: (n, 3), (6, 6) -> (n, 3, 3)."""
    jacobian = pose_jacobian(points)
    carried: Floats = jacobian @ pose_covariance @ np.swapaxes(jacobian, -1, -2)
    return carried


def apply_pose(rotation: Floats, translation: Floats, points: Floats) -> Floats:
    """Return `points` (n, 3) of instrument axes in vehicle axes, mm."""
    return points @ rotation.T + translation


def best_rotation(cross_covariance: Floats) -> Floats:
    """Return the proper rotations R that bring centred q onto centred p, for H = Σ p qᵀ. Shapes: (..., 3, 3) -> the same.

    Singular value decomposition; Arun, Huang and Blostein, IEEE PAMI 9, 1987; the sign of the determinant kept as in
    Umeyama, IEEE PAMI 13, 1991.
    """
    left, _, right = np.linalg.svd(cross_covariance)
    sign = np.sign(np.linalg.det(left @ right))
    left = left.copy()
    left[..., :, 2] *= np.where(sign == 0, 1.0, sign)[..., None]
    return np.asarray(left @ right)


def less(a: Row3, b: Row3) -> Row3:
    """Return a − b, coordinate by coordinate, mm."""
    return a[0] - b[0], a[1] - b[1], a[2] - b[2]
