"""What a frame that does not harden can carry at all: the static theorem of limit analysis.

A load can be carried where forces in balance with it exist that no end is yielded by (Prager 1959; from memory). How far a load can
grow is then the top of a convex problem with ellipsoids, followed here by its logarithmic barrier (Boyd and Vandenberghe 2004,
section 11.3), each step of which is one solve of the size of the stiffness. Ends that harden carry whatever comes.
"""

import numpy as np
from numpy.typing import NDArray

from fairsquare.core.structure.frame import Frame

Floats = NDArray[np.float64]

_CLOSE = 2e-5
_ENOUGH = 1.0 + 1e-6
_LOOSE = 1e-9
_FAR = 3e3
_ENDS = (
    np.array([[1, 0, 0, 0, 0, 0], [0, 1, 0, 0, 0, 0], [0, 0, 1, 0, 0, 0], [0, 0, 0, 0, 1, 0]], dtype=float),
    np.array([[1, 0, 0, 0, 0, 0], [0, 1, 0, 0, 0, 0], [0, 0, 0, 1, 0, 0], [0, 0, 0, 0, 0, 1]], dtype=float),
)
"""What an end feels, (N, T, My, Mz), of the natural forces (pull, twist, yi, yj, zi, zj)."""


def carried_share(frame: Frame, start: Floats, end: Floats) -> float | None:
    """Return the share of the way from loads `start` to `end` (f) that the frame can carry, to 1e-4; None where all of it.

    `start` itself can be carried.
    """
    if not frame.no_hardening.any() or not np.any(end):
        return None
    limits = _Limits(frame, np.maximum(np.abs(start), np.abs(end)))
    share = 1.0
    for _ in range(60):
        load = start + share * (end - start)
        factor, mechanism, dissipated = limits.factor(load)
        if factor >= _ENOUGH or (share == 1.0 and factor >= 1.0 - _CLOSE):
            return None if share == 1.0 else share
        if factor >= 1.0 - _CLOSE:
            return share
        along = float(mechanism @ (end - start))
        if along <= 0:
            return share
        new = (dissipated - float(mechanism @ start)) / along
        if not 0.0 <= new < share:
            return max(0.0, min(share, new))
        share = new
    return share


def _most_that_matters(frame: Frame, loads: Floats) -> Floats:
    """Return the sizes (4) beyond which a section counts as never yielding by that force: so far above all that the loads (f) can
    ask for that it changes nothing, and not so far that the numbers lose their digits."""
    size = float(np.mean(frame.lengths))
    kinds = np.flatnonzero(frame.free) % 6
    asked = float(np.where(kinds < 3, loads, loads / size).sum())
    return _FAR * asked * np.array([1.0, size, size, size])


class _Limits:
    """The barrier problem of one frame, in forces scaled by what sections take."""

    def __init__(self, frame: Frame, loads: Floats) -> None:
        self.frame = frame
        members = len(frame.member_ids)
        pull, twist, y, z = np.minimum(frame.yields, _most_that_matters(frame, loads)[:, None])
        self.unit = np.stack([pull, twist, y, y, z, z], axis=1)
        rows = np.zeros((members * 6, frame.freedoms + 1))
        for k, slot in enumerate(frame.slots):
            np.add.at(rows[6 * k : 6 * k + 6].T, slot, (frame.strain[k] * self.unit[k][:, None]).T)
        self.balance = rows[:, :-1]
        scale = np.abs(self.balance).max(axis=0)
        self.scale = np.where(scale > 0, scale, 1.0)
        self.balance = self.balance / self.scale
        self.bounded = frame.no_hardening

    def factor(self, load: Floats) -> tuple[float, Floats, float]:
        """Return how many times the load can be carried (at least up to a little over 1), the mechanism (f) in which it gives way,
        and the work that this takes, with the mechanism scaled so that the load does a work of `factor`⁻¹ times it."""
        members = len(self.unit)
        wanted = load / self.scale
        forces, factor = np.zeros((members, 6)), 0.0
        cones = 2 * int(self.bounded.sum())
        multiplier = np.zeros(len(wanted))
        weight = 1.0
        while True:
            for _ in range(60):
                gradient, hessian = self._barrier(forces)
                inverse = np.linalg.inv(hessian)
                # Newton for: weight·factor + Σ log(...) at balance·forces = factor·wanted
                solved = (inverse @ gradient[..., None])[..., 0]
                rows = self.balance.reshape(members, 6, -1)
                spread = (inverse @ rows).reshape(members * 6, -1)
                matrix = self.balance.T @ spread
                residual = factor * wanted - self.balance.T @ forces.ravel()
                both = np.linalg.solve(matrix, np.stack([wanted, residual + self.balance.T @ solved.ravel()], axis=1))
                # factor is linear in the aim, so its row gives: wanted·multiplier = weight
                change = (weight - float(wanted @ both[:, 1])) / float(wanted @ both[:, 0])
                multiplier = both[:, 0] * change + both[:, 1]
                move = (spread @ multiplier).reshape(members, 6) - solved
                decrement = float(np.einsum("mi,mij,mj->", move, hessian, move))
                if decrement < 1e-8:
                    break
                part = self._part(forces, move, weight * change, decrement)
                if part == 0.0:
                    break
                forces, factor = forces + part * move, factor + part * change
            mechanism = multiplier / self.scale
            dissipated = self._dissipated(multiplier)
            upper = dissipated / float(mechanism @ load)
            if factor > _ENOUGH or upper - factor <= 0.5 * _CLOSE * max(1.0, upper) or weight > 1e14 * cones:
                return factor, mechanism, dissipated
            weight *= 8.0

    def _squares(self, forces: Floats) -> Floats:
        return np.stack([(forces[:, [0, 1, 2, 4]] ** 2).sum(axis=1), (forces[:, [0, 1, 3, 5]] ** 2).sum(axis=1)])

    def _part(self, forces: Floats, move: Floats, gain: float, decrement: float) -> float:
        """Return the share of the move that lowers barrier less gain enough, inside what bounded ends take; 0 where none does."""
        before, part = self._height(forces), 1.0
        for _ in range(60):
            if self._height(forces + part * move) - part * gain <= before - 0.2 * part * decrement + 1e-12 * abs(
                before
            ):
                return part
            part *= 0.5
        return 0.0

    def _height(self, forces: Floats) -> float:
        room = 1.0 - self._squares(forces[self.bounded])
        if (room <= 0).any():
            return np.inf
        return float(-np.log(room).sum() + 0.5 * _LOOSE * (forces**2).sum())

    def _barrier(self, forces: Floats) -> tuple[Floats, Floats]:
        """Return gradient (m, 6) and Hessian (m, 6, 6) of −Σ log(1 − Σ(s/p)²) over both ends of bounded members."""
        gradient = _LOOSE * forces
        hessian = np.tile(_LOOSE * np.eye(6), (len(forces), 1, 1))
        for ends in _ENDS:
            felt = forces @ ends.T
            room = 1.0 - (felt**2).sum(axis=1)
            room = np.where(self.bounded, room, 1.0)
            mask = self.bounded[:, None]
            first = 2.0 * felt / room[:, None] * mask
            gradient = gradient + first @ ends
            own = np.einsum("mi,mj->mij", first, first) + (2.0 * self.bounded / room)[:, None, None] * np.eye(4)
            hessian = hessian + ends.T @ own @ ends
        return gradient, hessian

    def _dissipated(self, multiplier: Floats) -> float:
        """Return the most work that forces within yield do in a mechanism, an upper bound by the kinematic theorem.

        Both ends share pull and twist, of size r at most 1, which leaves √(1 − r²) for the moments of either: the most of
        r·a + √(1 − r²)·(ti + tj) is √(a² + (ti + tj)²).
        """
        rates = (self.balance @ multiplier).reshape(-1, 6)[self.bounded]
        turns = np.hypot(rates[:, 2], rates[:, 4]) + np.hypot(rates[:, 3], rates[:, 5])
        return float(np.sqrt((rates[:, :2] ** 2).sum(axis=1) + turns**2).sum())
