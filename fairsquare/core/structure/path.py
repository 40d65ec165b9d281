"""A path of loads followed step by step, each step implicit, for one frame or for many loads on it side by side.

A step is the minimum of a convex work in the displacements (the plastic parts are minimised away in `hinges`), so Newton's method
with its consistent stiffness and a line search finds the one answer.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.linalg.lapack import dposv

from fairsquare.core.structure.frame import Frame
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


class Follower:
    """Takes a frame along paths of loads. The arrays of hinges are flattened: c cases of m members make c m."""

    def __init__(self, frame: Frame) -> None:
        self.frame = frame
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

    def advance(self, before: Standing, loads: Floats, guess: Floats | None = None) -> Standing:
        """Return where the cases stand under `loads` (c, f), reached in one implicit step.

        `guess` (c, f) are displacements to begin the search with.
        """
        frame, scale = self.frame, self._scale
        cases, members = before.natural.shape[:2]
        if not frame.freedoms:
            return before
        moved = before.moved + (loads - before.loads) @ frame.flexibility if guess is None else guess.copy()
        stiffness, back, yields = self._for(cases)
        multipliers = before.multipliers.copy()

        def at(moved: Floats, picked: NDArray[np.intp]) -> tuple[Floats, Floats, Yielded]:
            self.work += len(picked) * members + _CALL
            chosen = self._numbers(picked, members)
            whole = len(picked) == cases
            deformed = frame.deformations(moved).reshape(-1, 6)
            ends = respond(
                deformed,
                before.plastic if whole else before.plastic[:, :, chosen],
                stiffness if whole else stiffness[:, chosen],
                back if whole else back[:, chosen],
                yields if whole else yields[:, chosen],
                multipliers if whole else multipliers[:, chosen],
            )
            natural = ends.natural.reshape(-1, members, 6)
            return loads[picked] - frame.gathered(natural), natural, ends.yielded

        limit, nearly = self._limits(before, loads)
        picked = np.arange(cases)
        left, natural, yielded = at(moved, picked)
        all_natural = natural
        plastic = before.plastic.copy()
        best = np.full(cases, np.inf)
        stuck = np.zeros(cases, dtype=int)
        self._keep(plastic, multipliers, yielded, picked, members, before)
        for _ in range(_ROUNDS):
            off = np.abs(left * scale).max(axis=1)
            better = off < 0.5 * best[picked]
            stuck[picked] = np.where(better, 0, stuck[picked] + 1)
            best[picked] = np.minimum(best[picked], off)
            going = (off > limit[picked]) & ~((stuck[picked] > 3) & (off <= nearly[picked]))
            if not going.any():
                break
            where = np.flatnonzero(going)
            left, picked, yielded = left[where], picked[where], _only(yielded, going, members)
            move = self._step(left, yielded, len(picked), members)
            fall = (left * move).sum(axis=1)
            low, high = np.zeros(len(picked)), np.ones(len(picked))
            slope_low, part = -fall, np.ones(len(picked))
            tried, trial_natural, trial_yielded = at(moved[picked] + move, picked)
            for _ in range(_HALVINGS):
                slope = -(tried * move).sum(axis=1)
                beyond = (slope > _OVERSHOT * np.abs(fall)) & (np.abs(tried * scale).max(axis=1) > limit[picked])
                short = (part < 1.0) & (slope < -_UNDERSHOT * np.abs(fall))
                if not (beyond | short).any():
                    break
                high = np.where(beyond, part, high)
                low, slope_low = np.where(short, part, low), np.where(short, slope, slope_low)
                falls = np.where(beyond, slope_low / np.where(beyond, slope_low - slope, -1.0), 0.5)
                part = np.where(beyond | short, low + np.clip(falls, 0.1, 0.9) * (high - low), part)
                tried, trial_natural, trial_yielded = at(moved[picked] + part[:, None] * move, picked)
            moved[picked] += part[:, None] * move
            left, natural, yielded = tried, trial_natural, trial_yielded
            all_natural[picked] = natural
            self._keep(plastic, multipliers, yielded, picked, members, before)
        return Standing(loads, moved, plastic, all_natural, multipliers)

    def _limits(self, before: Standing, loads: Floats) -> tuple[Floats, Floats]:
        """Return how much may be left out of balance (c), and how much where rounding lets it come no nearer."""
        size = np.abs((loads - before.loads) * self._scale).max(axis=1)
        floor = np.abs(loads * self._scale).max(axis=1) + np.abs(before.natural).max(axis=(1, 2), initial=0.0)
        return np.maximum(_EXACT * size, _ROUNDING * floor), 1e-9 * (size + 1e-3 * floor)

    def follow(self, start: Standing, loads: Floats, steps: int) -> Standing:
        """Return where the cases stand after `steps` equal increments to `loads` (c, f)."""
        first, change = start.loads, loads - start.loads
        standing, guess = start, None
        for step in range(1, steps + 1):
            before = standing
            standing = self.advance(before, loads if step == steps else first + change * (step / steps), guess)
            guess = 2.0 * standing.moved - before.moved
        return standing

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

    def _keep(
        self,
        plastic: Floats,
        multipliers: Floats,
        yielded: Yielded,
        picked: NDArray[np.intp],
        members: int,
        before: Standing,
    ) -> None:
        """Write the plastic parts and multipliers of the picked cases."""
        chosen = self._numbers(picked, members)
        plastic[:, :, chosen] = before.plastic[:, :, chosen]
        multipliers[:, chosen] = 0.0
        where = chosen[yielded.members]
        plastic[:, :, where] = yielded.plastic
        multipliers[:, where] = yielded.multipliers

    def _step(self, left: Floats, yielded: Yielded, cases: int, members: int) -> Floats:
        """Return Newton's step (c, f) for what is left out of balance (c, f)."""
        frame = self.frame
        move = left @ frame.flexibility
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
        stiffness = frame.elastic + change.reshape(len(soft), width, width)[:, :-1, :-1]
        for number, one in zip(soft, stiffness, strict=True):
            _, solved, failed = dposv(one, left[number], lower=True)
            move[number] = solved if not failed else np.linalg.lstsq(one, left[number], rcond=None)[0]
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
