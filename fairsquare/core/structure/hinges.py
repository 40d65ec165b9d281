"""The plastic hinges at the two ends of each member: one implicit step from given deformations to the forces they make.

Each end yields where Σ((s − b)/p)² passes 1, s = (N, T, My, Mz) of the end, b the back force of its plastic parts (Prager's
kinematic hardening), p what the section takes. The plastic increment is normal to that surface and taken at the end of the step
(backward Euler; Simo and Hughes 1998, chapter 2, for the scheme; from memory). With a multiplier μ ≥ 0 for each end the
increment is μ p⁻² (s − b), so for given multipliers everything else is linear: only the two multipliers of a member are sought.
The work of the step is convex in them, and 1/√Σ((s − b)/p)² is nearly linear in μ, which is why the iteration below takes few
rounds.

Arrays have the shape (4 components, 2 ends, k members) unless something else is said.
"""

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

Floats = NDArray[np.float64]

_ROUNDS = 80
_PLAIN_ROUNDS = 12
_EXACT = 1e-12
_NATURAL = ((0, 0), (1, 0), (2, 0), (2, 1), (3, 0), (3, 1))
"""Component and end of each natural deformation: stretch, twist, turns about y at i and j, turns about z at i and j."""


class Yielded(NamedTuple):
    """The members that yielded in the step: their numbers (k), multipliers (2, k), plastic parts, and softer stiffness (k,
    6, 6)."""

    members: NDArray[np.intp]
    multipliers: Floats
    plastic: Floats
    softening: Floats


class Ends(NamedTuple):
    """What given deformations make: natural forces (k, 6), and the members that yielded."""

    natural: Floats
    yielded: Yielded


def spread(natural: Floats) -> Floats:
    """Return natural deformations (k, 6) as (4, 2, k); stretch and twist stand at end i alone."""
    spread = np.zeros((4, 2, len(natural)))
    for column, (component, end) in enumerate(_NATURAL):
        spread[component, end] = natural[:, column]
    return spread


def spread_forces(natural: Floats) -> Floats:
    """Return natural forces (k, 6) as what each end feels, (4, 2, k): pull and twist are felt at both ends."""
    felt = spread(natural)
    felt[:2, 1] = felt[:2, 0]
    return felt


def respond(
    deformed: Floats, plastic: Floats, stiffness: Floats, back: Floats, yields: Floats, guess: Floats | None = None
) -> Ends:
    """Return the forces that natural deformations (k, 6) make in members with plastic parts (4, 2, k) from the step before.

    `stiffness` (4, k, 2), `back` and `yields` (4, k) as in `Frame`; `guess` (2, k) are multipliers to begin with.
    """
    wanted = spread(deformed)
    k11, k12 = stiffness[..., 0], stiffness[..., 1]
    rest = wanted - plastic
    force = np.empty_like(rest)
    force[:, 0] = k11 * rest[:, 0] + k12 * rest[:, 1]
    force[:, 1] = k12 * rest[:, 0] + k11 * rest[:, 1]
    passed = (((force - back[:, None] * plastic) / yields[:, None]) ** 2).sum(axis=0)
    members = np.flatnonzero((passed > 1.0 + _EXACT).any(axis=0))
    natural = np.stack([force[component, end] for component, end in _NATURAL], axis=1)
    if not len(members):
        none = np.zeros((2, 0))
        return Ends(natural, Yielded(members, none, np.zeros((4, 2, 0)), np.zeros((0, 6, 6))))
    hinge = _Hinge(
        wanted[..., members], plastic[..., members], stiffness[:, members], back[:, members], yields[:, members]
    )
    start = np.zeros((2, len(members))) if guess is None else guess[:, members]
    multipliers, at = hinge.solved(start)
    natural[members] = np.stack([at.force[component, end] for component, end in _NATURAL], axis=1)
    return Ends(natural, Yielded(members, multipliers, hinge.plastic + at.increment, hinge.softening(multipliers, at)))


class _At(NamedTuple):
    """The state for given multipliers: forces, plastic increments, Σ((s−b)/p)² (2, k), normals, and the matrix of its fall
    (k of 2×2)."""

    force: Floats
    increment: Floats
    square: Floats
    normal: Floats
    own: tuple[Floats, Floats, Floats]
    fall: tuple[Floats, Floats, Floats]


class _Hinge:
    """The two hinges of k members that yield."""

    def __init__(self, wanted: Floats, plastic: Floats, stiffness: Floats, back: Floats, yields: Floats) -> None:
        self.plastic = plastic
        self.k11, self.k12 = stiffness[..., 0], stiffness[..., 1]
        self.determinant = self.k11**2 - self.k12**2
        self.determinant[:2] = 0.0
        self.back = back[:, None]
        self.give = 1.0 / yields[:, None] ** 2
        self.rest = wanted - plastic
        self.held = self.back * plastic
        self.both = self.give * self.back

    def at(self, multipliers: Floats) -> _At:
        harder = 1.0 + multipliers * self.both
        a = multipliers * self.give / harder
        ai, aj = a[:, 0], a[:, 1]
        scale = 1.0 / (1.0 + self.k11 * (ai + aj) + self.determinant * ai * aj)
        s11, s22 = (self.k11 + aj * self.determinant) * scale, (self.k11 + ai * self.determinant) * scale
        s12 = self.k12 * scale
        rest = self.rest + a * self.held
        force = np.empty_like(rest)
        force[:, 0] = s11 * rest[:, 0] + s12 * rest[:, 1]
        force[:, 1] = s12 * rest[:, 0] + s22 * rest[:, 1]
        over = (force - self.held) / harder
        normal = over * self.give
        square = (over * normal).sum(axis=0)
        t = normal / harder
        own = (t**2 * self.back * harder).sum(axis=0)
        fall = (
            (t[:, 0] ** 2 * s11).sum(axis=0) + own[0],
            (t[:, 0] * t[:, 1] * s12).sum(axis=0),
            (t[:, 1] ** 2 * s22).sum(axis=0) + own[1],
        )
        return _At(force, multipliers * normal, square, t, (s11, s12, s22), fall)

    def solved(self, start: Floats) -> tuple[Floats, _At]:
        """Return the multipliers (2, k) at which each end is on its yield surface or has not yielded, and the state there."""
        multipliers = start
        step = np.ones(multipliers.shape[1])
        wrong_before = np.full(multipliers.shape[1], np.inf)
        for round_ in range(_ROUNDS):
            at = self.at(multipliers)
            size = np.sqrt(at.square)
            wrong = np.where((multipliers > 0) | (size > 1.0), np.abs(size - 1.0), 0.0).max(axis=0)
            if wrong.max() <= _EXACT:
                break
            if round_ >= _PLAIN_ROUNDS:
                step = np.where(wrong > 0.7 * wrong_before, np.maximum(0.5 * step, 0.05), np.minimum(2.0 * step, 1.0))
            wrong_before = wrong
            multipliers = np.maximum(multipliers + step * _toward(at.fall, at.square * (size - 1.0), multipliers), 0.0)
        return multipliers, at

    def softening(self, multipliers: Floats, at: _At) -> Floats:
        """Return by how much the consistent stiffness (k, 6, 6) differs from the elastic one."""
        s11, s12, s22 = at.own
        count = multipliers.shape[1]
        change = np.zeros((count, 6, 6))
        change[:, 0, 0] = s11[0] - self.k11[0]
        change[:, 1, 1] = s11[1] - self.k11[1]
        for component, i, j in ((2, 2, 3), (3, 4, 5)):
            change[:, i, i] = s11[component] - self.k11[component]
            change[:, j, j] = s22[component] - self.k11[component]
            change[:, i, j] = change[:, j, i] = s12[component] - self.k12[component]
        t = at.normal
        across = np.empty((count, 6, 2))
        for row, (component, end) in enumerate(_NATURAL):
            own = (s11, s12) if end == 0 else (s12, s22)
            across[:, row, 0] = own[0][component] * t[component, 0]
            across[:, row, 1] = own[1][component] * t[component, 1]
        active = multipliers > 0
        across *= active.T[:, None, :]
        j11, j12, j22, bottom = _fall(at, active)
        turned = np.empty_like(across)
        turned[:, :, 0] = (across[:, :, 0] * j22[:, None] - across[:, :, 1] * j12[:, None]) / bottom[:, None]
        turned[:, :, 1] = (across[:, :, 1] * j11[:, None] - across[:, :, 0] * j12[:, None]) / bottom[:, None]
        return change - turned @ np.swapaxes(across, 1, 2)


def _fall(at: _At, active: NDArray[np.bool_]) -> tuple[Floats, Floats, Floats, Floats]:
    """Return the entries 11, 12, 22 of the fall's matrix, that of 1 for ends that are not active, and its determinant."""
    j11, j12, j22 = at.fall
    j11, j22 = np.where(active[0], j11, 1.0), np.where(active[1], j22, 1.0)
    j12 = np.where(active[0] & active[1], j12, 0.0)
    product = j11 * j22
    return j11, j12, j22, np.maximum(product - j12**2, 1e-14 * product)


def _toward(fall: tuple[Floats, Floats, Floats], aim: Floats, multipliers: Floats) -> Floats:
    """Return the moves (2, k) of the multipliers: the least of the quadratic of matrix `fall` and slope −`aim` that leaves
    none below 0."""
    j11, j12, j22 = fall
    bottom = np.maximum(j11 * j22 - j12**2, 1e-14 * j11 * j22)
    both = np.stack([j22 * aim[0] - j12 * aim[1], j11 * aim[1] - j12 * aim[0]]) / bottom
    below = (multipliers + both < 0).any(axis=0)
    if not below.any():
        return both
    first_held = np.stack([-multipliers[0], np.maximum((aim[1] + j12 * multipliers[0]) / j22, -multipliers[1])])
    second_held = np.stack([np.maximum((aim[0] + j12 * multipliers[1]) / j11, -multipliers[0]), -multipliers[1]])
    stays = j11 * first_held[0] + j12 * first_held[1] >= aim[0]
    return np.where(below, np.where(stays, first_held, second_held), both)
