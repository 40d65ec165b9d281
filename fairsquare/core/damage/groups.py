"""What moved as one piece: the rigid motion of each member, and members joined while together they still kept their shape."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from scipy.spatial.transform import Rotation
from scipy.stats import chi2

from fairsquare.core.axes import cross_matrix
from fairsquare.core.damage.deviations import Deviations, Floats
from fairsquare.core.measure.setup import fit_pose
from fairsquare.core.model import Model, Row3

RIGID = 0.001
"""Points whose distances changed so much that it comes by chance less often than this did not move as one piece."""
_MOVED = 0.999
_LINE_MM = 20.0
"""Points nearer to a line than this (second singular value of the centred coordinates) say nothing of a turn about it."""
_TURNS = 100


class Group(Model):
    """Members that moved as one piece: x → R(x − at) + at + translation, mm, degrees; a bent member is not `rigid`."""

    members: tuple[str, ...]
    codes: tuple[str, ...]
    at: Row3
    rotation_deg: Row3
    translation: Row3
    residual_mm: float
    p: float
    rigid: bool
    moved: bool


@dataclass(frozen=True)
class _Motion:
    members: tuple[str, ...]
    rows: tuple[int, ...]
    rotation: Floats
    translation: Floats
    at: Floats
    residuals: Floats
    p: float


def find_groups(deviations: Deviations) -> tuple[Group, ...]:
    """Return the groups in the order in which their first members stand on the sheet.

    Each member with three or more read points that are not on a line gets its rigid motion by least rᵀV⁻¹r, tested with χ²
    of 3m − 6 degrees of freedom. Rigid members are joined, those first that fit best together, while the union is rigid.
    """
    members: dict[str, list[int]] = {}
    for row, point in enumerate(deviations.points):
        if point.member is not None:
            members.setdefault(point.member, []).append(row)
    motions = [
        _fit(deviations, (member,), tuple(rows))
        for member, rows in members.items()
        if len(rows) >= 3 and not _on_a_line(deviations.places[rows])
    ]
    order = {member: place for place, member in enumerate(members)}
    joined = _join(deviations, [motion for motion in motions if motion.p >= RIGID])
    every = [*joined, *(motion for motion in motions if motion.p < RIGID)]
    every.sort(key=lambda group: min(order[member] for member in group.members))
    return tuple(_group(deviations, group) for group in every)


def _join(deviations: Deviations, rigid: list[_Motion]) -> list[_Motion]:
    """Join the pair whose union has the largest p, again and again, while that is rigid."""
    tried: dict[tuple[str, ...], _Motion] = {}
    while True:
        unions = []
        for place, group in enumerate(rigid):
            for other in rigid[place + 1 :]:
                key = (*group.members, *other.members)
                if key not in tried:
                    tried[key] = _fit(deviations, key, tuple(sorted((*group.rows, *other.rows))))
                unions.append((tried[key], group, other))
        best = max(unions, key=lambda union: union[0].p, default=None)
        if best is None or best[0].p < RIGID:
            return rigid
        at = rigid.index(best[1])
        rigid = [group for group in rigid if group is not best[1] and group is not best[2]]
        rigid.insert(at, best[0])


def _on_a_line(places: Floats) -> bool:
    singular = np.linalg.svd(places - places.mean(axis=0), compute_uv=False)
    return bool(singular[1] < _LINE_MM)


def _fit(deviations: Deviations, members: tuple[str, ...], rows: tuple[int, ...]) -> _Motion:
    """Return the rigid motion of some points by Gauss-Newton on all six unknowns, from the unweighted fit."""
    own = deviations.some(rows)
    weights = own.weights()
    places = own.places
    at = places.mean(axis=0)
    arms, read = places - at, places + own.d - at
    rotation, translation = fit_pose(arms, read)
    for _ in range(_TURNS):
        turned = arms @ rotation.T
        slopes = np.concatenate([-cross_matrix(turned), np.broadcast_to(np.eye(3), (len(arms), 3, 3))], axis=2)
        slopes = slopes.reshape(-1, 6)
        residuals = (read - turned - translation).ravel()
        normal, pull = slopes.T @ weights @ slopes, slopes.T @ weights @ residuals
        scale = 1 / np.sqrt(np.diag(normal))
        step = scale * np.linalg.solve(normal * scale[:, None] * scale, scale * pull)
        rotation = Rotation.from_rotvec(step[:3]).as_matrix() @ rotation
        translation = translation + step[3:]
        if np.abs(step[:3]).max() < 1e-13 and np.abs(step[3:]).max() < 1e-10:
            break
    residuals = (read - arms @ rotation.T - translation).ravel()
    misfit = float(residuals @ weights @ residuals)
    p = float(chi2.sf(misfit, 3 * len(rows) - 6))
    return _Motion(members, rows, rotation, translation, at, residuals.reshape(-1, 3), p)


def _group(deviations: Deviations, motion: _Motion) -> Group:
    own = deviations.some(motion.rows)
    d = own.d.ravel()
    count = len(motion.rows)
    return Group(
        members=motion.members,
        codes=own.codes,
        at=_row3(motion.at),
        rotation_deg=_row3(np.degrees(Rotation.from_matrix(motion.rotation).as_rotvec())),
        translation=_row3(motion.translation),
        residual_mm=float(np.sqrt(np.sum(motion.residuals**2) / count)),
        p=motion.p,
        rigid=motion.p >= RIGID,
        moved=bool(d @ own.weights() @ d > chi2.ppf(_MOVED, 3 * count)),
    )


def _row3(values: Sequence[float] | Floats) -> Row3:
    return float(values[0]), float(values[1]), float(values[2])
