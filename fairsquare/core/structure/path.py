"""A path of loads followed step by step, each step implicit, for one frame or for many loads on it side by side.

A step is the minimum of a convex work in the displacements (the plastic parts are minimised away in `hinges`), so Newton's method
with its consistent stiffness and a line search finds the one answer.
"""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.linalg.lapack import dposv

from fairsquare.core.structure.frame import Frame, inverse
from fairsquare.core.structure.hinges import Yielded, respond

Floats = NDArray[np.float64]

_EXACT = 1e-11
_ROUNDING = 4e-14
_ROUNDS = 200
_HALVINGS = 40
_CALL = 120
_OVERSHOT, _UNDERSHOT = 0.2, 0.8


@dataclass(frozen=True)
class Standing:
    """Where c cases stand: loads and displacements of free degrees of freedom (c, f), plastic parts (4, 2, c m), and the natural
    forces (c, m, 6), and the multipliers (2, c m) of the step that led there, with which the search for the next begins."""

    loads: Floats
    moved: Floats
    plastic: Floats
    natural: Floats
    multipliers: Floats

    def picked(self, cases: NDArray[np.intp]) -> "Standing":
        """Return the cases with these numbers, in this order; one may stand there more than once."""
        count, members = self.natural.shape[:2]
        plastic = self.plastic.reshape(4, 2, count, members)[:, :, cases].reshape(4, 2, -1)
        multipliers = self.multipliers.reshape(2, count, members)[:, cases].reshape(2, -1)
        return Standing(self.loads[cases], self.moved[cases], plastic, self.natural[cases], multipliers)


@dataclass(frozen=True)
class Ties:
    """Straight bars put on between nodes, without force where a path begins: `rows` (t, f) give their lengthening from what the
    free degrees of freedom move, `stiffness` (t) is in N/mm, `ways` (t, n, 3) is what a newton of tension puts on the nodes."""

    rows: Floats
    stiffness: Floats
    ways: Floats


def ties_between(frame: Frame, bars: Sequence[tuple[str, str, float]]) -> Ties:
    """Return bars between two nodes each, of a stiffness times length (N), as ties of a frame."""
    ways, stiffness = np.zeros((len(bars), len(frame.nodes), 3)), np.zeros(len(bars))
    for number, (a, b, ea_n) in enumerate(bars):
        start, end = frame.nodes.index(a), frame.nodes.index(b)
        along = frame.places[end] - frame.places[start]
        length = float(np.linalg.norm(along))
        ways[number, start], ways[number, end] = along / length, -along / length
        stiffness[number] = ea_n / length
    loads = np.zeros((len(bars), len(frame.nodes), 6))
    loads[:, :, :3] = ways
    return Ties(-loads.reshape(len(bars), -1)[:, frame.free], stiffness, ways)


class Follower:
    """Takes a frame along paths of loads. The arrays of hinges are flattened: c cases of m members make c m.

    With `ties` the loads are what is put on from outside, without the ties' own forces: see `begun`, `let_go` and `tie_forces`.
    """

    def __init__(self, frame: Frame, ties: Ties | None = None) -> None:
        self.frame, self.ties = frame, ties
        self.elastic, self.flexibility = frame.elastic, frame.flexibility
        self._drawn = np.zeros((0, 0))
        if ties is not None:
            self._drawn = ties.rows.T @ (ties.stiffness[:, None] * ties.rows)
            self.elastic = frame.elastic + self._drawn
            self.flexibility = inverse(self.elastic)
        self._size = float(np.mean(frame.lengths))
        kinds = np.flatnonzero(frame.free) % 6
        self._scale = np.where(kinds < 3, 1.0, 1.0 / self._size)
        self.work = 0
        """Members whose hinges were worked out so far, and some for each call: effort, the same on every machine."""
        self._tiled: dict[int, tuple[Floats, Floats, Floats]] = {}

    def rest(self, cases: int = 1) -> Standing:
        """Return the frame without loads, never yielded."""
        frame = self.frame
        f, m = frame.freedoms, len(frame.member_ids)
        return Standing(
            np.zeros((cases, f)),
            np.zeros((cases, f)),
            np.zeros((4, 2, cases * m)),
            np.zeros((cases, m, 6)),
            np.zeros((2, cases * m)),
        )

    # ── ties ─────────────────────────────────────────────────────────────────

    def begun(self, start: Standing) -> Standing:
        """Return where the cases stand with the ties put on there, without force.

        The loads of what is returned, and of all that follows from it, hold besides the loads themselves what the ties would draw
        if the frame stood undeformed: it is the same all along the path, and `shift` of these loads (c, f).
        """
        return start if self.ties is None else replace(start, loads=start.loads + start.moved @ self._drawn)

    def shift(self, start: Standing) -> Floats:
        """Return what `begun` adds to the loads (c, f)."""
        return np.zeros_like(start.loads) if self.ties is None else start.moved @ self._drawn

    def let_go(self, standing: Standing) -> Standing:
        """Return where the cases stand with the ties taken off and their forces put on as loads in their place."""
        return standing if self.ties is None else replace(standing, loads=standing.loads - standing.moved @ self._drawn)

    def tie_forces(self, start: Standing, standing: Standing) -> Floats:
        """Return what the ties carry (c, t) that were put on at `start`, tension positive, N."""
        if self.ties is None:
            return np.zeros((len(standing.moved), 0))
        return np.asarray((standing.moved - start.moved) @ self.ties.rows.T * self.ties.stiffness)

    def with_ties(self, forces: Floats, carried: Floats) -> Floats:
        """Return forces at nodes (c, n, 3) and those of the ties that carry (c, t) N."""
        return forces if self.ties is None else forces + np.einsum("ct,tnd->cnd", carried, self.ties.ways)

    # ── the way ──────────────────────────────────────────────────────────────

    def advance(self, before: Standing, loads: Floats, guess: Floats | None = None) -> Standing:
        """Return where the cases stand under `loads` (c, f), reached in one implicit step.

        `guess` (c, f) are displacements to begin the search with.
        """
        if not self.frame.freedoms:
            return before
        moved = before.moved + (loads - before.loads) @ self.flexibility if guess is None else guess.copy()
        return _Step(self, before, loads, moved).found()

    def _at(self, step: "_Step", moved: Floats, picked: NDArray[np.intp]) -> "_Tried":
        """Return what the picked cases (k) answer to displacements (k, f)."""
        before, loads, (cases, members) = step.before, step.loads, step.before.natural.shape[:2]
        stiffness, back, yields = self._for(cases)
        self.work += len(picked) * members + _CALL
        chosen = self._numbers(picked, members)
        whole = len(picked) == cases
        deformed = self.frame.deformations(moved).reshape(-1, 6)
        ends = respond(
            deformed,
            before.plastic if whole else before.plastic[:, :, chosen],
            stiffness if whole else stiffness[:, chosen],
            back if whole else back[:, chosen],
            yields if whole else yields[:, chosen],
            step.multipliers if whole else step.multipliers[:, chosen],
        )
        natural = ends.natural.reshape(-1, members, 6)
        left = loads[picked] - self.frame.gathered(natural)
        if self.ties is not None:
            left -= moved @ self._drawn
        return _Tried(left, natural, ends.yielded)

    def _limits(self, before: Standing, loads: Floats) -> tuple[Floats, Floats]:
        """Return how much may be left out of balance (c), and how much where rounding lets it come no nearer."""
        size = np.abs((loads - before.loads) * self._scale).max(axis=1)
        floor = np.abs(loads * self._scale).max(axis=1) + np.abs(before.natural).max(axis=(1, 2), initial=0.0)
        return np.maximum(_EXACT * size, _ROUNDING * floor), 1e-9 * (size + 1e-3 * floor)

    def follow(self, start: Standing, loads: Floats, steps: int) -> Standing:
        """Return where the cases stand after `steps` equal increments to `loads` (c, f)."""
        standing = start
        for step in self.followed(start, loads, steps):
            standing = step
        return standing

    def followed(self, start: Standing, loads: Floats, steps: int) -> Iterator[Standing]:
        """Yield where the cases stand after each of `steps` equal increments to `loads` (c, f)."""
        first, change = start.loads, loads - start.loads
        standing, guess = start, None
        for step in range(1, steps + 1):
            before = standing
            standing = self.advance(before, loads if step == steps else first + change * (step / steps), guess)
            guess = 2.0 * standing.moved - before.moved
            yield standing

    def _for(self, cases: int) -> tuple[Floats, Floats, Floats]:
        if cases not in self._tiled:
            frame = self.frame
            self._tiled[cases] = (
                np.tile(frame.stiffness, (1, cases, 1)),
                np.tile(frame.back, (1, cases)),
                np.tile(frame.yields, (1, cases)),
            )
        return self._tiled[cases]

    def _numbers(self, picked: NDArray[np.intp], members: int) -> NDArray[np.intp]:
        return (picked[:, None] * members + np.arange(members)).ravel()

    def _step(self, left: Floats, yielded: Yielded, cases: int, members: int) -> Floats:
        """Return Newton's step (c, f) for what is left out of balance (c, f)."""
        frame = self.frame
        move = left @ self.flexibility
        case = yielded.members // members
        if not len(case):
            return move
        soft = np.unique(case)
        place = np.zeros(cases, dtype=np.intp)
        place[soft] = np.arange(len(soft))
        strain, slots = frame.strain[yielded.members % members], frame.slots[yielded.members % members]
        blocks = np.swapaxes(strain, 1, 2) @ yielded.softening @ strain
        width = frame.freedoms + 1
        where = (place[case] * width * width)[:, None, None] + slots[:, :, None] * width + slots[:, None, :]
        change = np.bincount(where.ravel(), blocks.ravel(), minlength=len(soft) * width * width)
        stiffness = self.elastic + change.reshape(len(soft), width, width)[:, :-1, :-1]
        for number, own in zip(soft, stiffness, strict=True):
            _, solved, failed = dposv(own, left[number], lower=True)
            move[number] = solved if not failed else np.linalg.lstsq(own, left[number], rcond=None)[0]
        return move


def _only(yielded: Yielded, going: NDArray[np.bool_], members: int) -> Yielded:
    """Return what yielded in the cases that go on, numbered anew."""
    if going.all():
        return yielded
    case = yielded.members // members
    keep = going[case]
    number = np.cumsum(going) - 1
    return Yielded(
        number[case[keep]] * members + yielded.members[keep] % members,
        yielded.multipliers[:, keep],
        yielded.plastic[..., keep],
        yielded.softening[keep],
    )


class _Tried(NamedTuple):
    """What k cases answer to displacements: forces left out of balance (k, f), natural forces (k, m, 6), hinges."""

    left: Floats
    natural: Floats
    yielded: Yielded


class _Step:
    """One implicit step of c cases, from where they stood to `loads` (c, f): Newton's method, beginning at `moved` (c, f)."""

    def __init__(self, follower: Follower, before: Standing, loads: Floats, moved: Floats) -> None:
        self.before, self.loads, self.multipliers = before, loads, before.multipliers.copy()
        self._follower, self._moved, self._plastic = follower, moved, before.plastic.copy()
        self._limit, self._nearly = follower._limits(before, loads)
        cases = len(moved)
        self._best, self._stuck = np.full(cases, np.inf), np.zeros(cases, dtype=int)

    def found(self) -> Standing:
        """Return where the cases stand when nothing is left out of balance."""
        follower, members = self._follower, self.before.natural.shape[1]
        picked = np.arange(len(self._moved))
        tried = follower._at(self, self._moved, picked)
        natural = tried.natural
        self._keep(tried, picked)
        for _ in range(_ROUNDS):
            going = self._going(tried.left, picked)
            if not going.any():
                break
            left, picked = tried.left[going], picked[going]
            move = follower._step(left, _only(tried.yielded, going, members), len(picked), members)
            part, tried = self._along(move, left, picked)
            self._moved[picked] += part[:, None] * move
            natural[picked] = tried.natural
            self._keep(tried, picked)
        return Standing(self.loads, self._moved, self._plastic, natural, self.multipliers)

    def _keep(self, tried: _Tried, picked: NDArray[np.intp]) -> None:
        """Keep the plastic parts and multipliers of the picked cases."""
        chosen = self._follower._numbers(picked, self.before.natural.shape[1])
        self._plastic[:, :, chosen] = self.before.plastic[:, :, chosen]
        self.multipliers[:, chosen] = 0.0
        where = chosen[tried.yielded.members]
        self._plastic[:, :, where] = tried.yielded.plastic
        self.multipliers[:, where] = tried.yielded.multipliers

    def _off(self, left: Floats) -> Floats:
        """Return how much is left out of balance in each case (k)."""
        off: Floats = np.abs(left * self._follower._scale).max(axis=1)
        return off

    def _going(self, left: Floats, picked: NDArray[np.intp]) -> NDArray[np.bool_]:
        """Return which of the picked cases go on: out of balance, and not stuck where rounding lets them come no nearer."""
        off = self._off(left)
        self._stuck[picked] = np.where(off < 0.5 * self._best[picked], 0, self._stuck[picked] + 1)
        self._best[picked] = np.minimum(self._best[picked], off)
        stuck: NDArray[np.bool_] = (self._stuck[picked] > 3) & (off <= self._nearly[picked])
        return (off > self._limit[picked]) & ~stuck

    def _along(self, move: Floats, left: Floats, picked: NDArray[np.intp]) -> tuple[Floats, _Tried]:
        """Return how much of a move (k, f) each picked case makes, to where the work hardly falls on, and what it answers there."""
        fall = (left * move).sum(axis=1)
        low, high, part = np.zeros(len(picked)), np.ones(len(picked)), np.ones(len(picked))
        slope_low = -fall
        tried = self._follower._at(self, self._moved[picked] + move, picked)
        for _ in range(_HALVINGS):
            slope = -(tried.left * move).sum(axis=1)
            beyond = (slope > _OVERSHOT * np.abs(fall)) & (self._off(tried.left) > self._limit[picked])
            short = (part < 1.0) & (slope < -_UNDERSHOT * np.abs(fall))
            if not (beyond | short).any():
                break
            high = np.where(beyond, part, high)
            low, slope_low = np.where(short, part, low), np.where(short, slope, slope_low)
            falls = np.where(beyond, slope_low / np.where(beyond, slope_low - slope, -1.0), 0.5)
            part = np.where(beyond | short, low + np.clip(falls, 0.1, 0.9) * (high - low), part)
            tried = self._follower._at(self, self._moved[picked] + part[:, None] * move, picked)
        return part, tried
