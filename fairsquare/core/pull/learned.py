"""What a vehicle's frame has taught by being pulled: how stiff and how strong it is, as multiples of what was assumed."""

import math
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

import numpy as np
from pydantic import Field
from scipy.optimize import minimize_scalar

from fairsquare.core.errors import FairSquareError
from fairsquare.core.model import Model, Row3
from fairsquare.core.pull.game import Chain, Game
from fairsquare.core.pull.plan import PlanPulls, game_of
from fairsquare.core.pull.setting import Setting
from fairsquare.core.structure.frame import Floats
from fairsquare.core.structure.skeleton import Section

_STIFF = ("area", "iy", "iz", "j")
_STRONG = ("np", "tp", "mpy", "mpz")


class FrameFactors(Model):
    """How many times as stiff, and as strong, the frame is as its sections say.

    `cycles`: from how many it is known (0: nothing is).
    """

    stiff: float = Field(default=1.0, gt=0)
    strong: float = Field(default=1.0, gt=0)
    cycles: int = 0


def with_factors(request: PlanPulls, setting: Setting, factors: FrameFactors, strength: float = 1.0) -> PlanPulls:
    """Return a request with its sections as learned; what is assumed of them, or all, is `strength` times as strong."""
    assumed = set(setting.assumed) & set(request.skeleton.sections) or set(request.skeleton.sections)
    sections: Mapping[str, Section] = request.skeleton.sections
    changed = {
        name: scaled(
            section,
            factors.stiff * (strength if name in assumed else 1.0),
            factors.strong * (strength if name in assumed else 1.0),
        )
        for name, section in sections.items()
    }
    skeleton = request.skeleton.model_copy(update={"sections": changed})
    return request.model_copy(update={"skeleton": skeleton})


def scaled(section: Section, stiff: float, strong: float) -> Section:
    """Return a section so many times as stiff and as strong."""
    if stiff == 1.0 and strong == 1.0:
        return section
    update = {name: getattr(section, name) * stiff for name in _STIFF}
    return section.model_copy(update={**update, **{name: getattr(section, name) * strong for name in _STRONG}})


_PRIOR_SIGMA = math.log(2.0) / 1.64
"""Half to double holds nine in ten frames of which nothing is known but their kind. Ours, no source."""
_MODEL_SHARE, _READ_MM = 0.15, 0.5
"""How far a rough frame may be out of what a pull does, as a share of how far it goes; what readings scatter. Ours, no source."""
_MOST_CYCLES = 16
"""What was pulled is played from the first cycle on; after so many nothing new is learned of the frame as a whole."""
_IMPOSSIBLE = 1e9
_APART, _REFINED = 0.35, 6
_GRID = (-0.7, -0.35, 0.0, 0.35, 0.7)
"""Logarithms of strength that are tried first: a frame that does not yield says nothing of its strength."""


class PulledCycle(NamedTuple):
    """One cycle as it was pulled: forces at the chains (None: nobody read them), and by watched point its way, and mm along it from
    where it stood when the first pull began: loaded (None: not known) and free."""

    chains: tuple[Chain, ...]
    measured: bool
    points: tuple[tuple[str, Row3, float | None, float], ...]
    ties: tuple[str, ...] = ()


def fitted_factors(request: PlanPulls, setting: Setting, cycles: Sequence[PulledCycle]) -> FrameFactors:
    """Return how many times as strong as assumed the frame is, by least squares over what cycles did, with a prior.

    Stiffness and strength go together here: what comes back for how far a point goes is learned apart, from cycle to cycle. It is
    told by cycles whose forces were read at the chains; the others are played as they were planned, and what they did is not held
    against the frame. A frame that could not have taken what was pulled is not this one.
    """
    own = tuple(cycles)[:_MOST_CYCLES]
    told = sum(cycle.measured and any(loaded is not None for _, _, loaded, _ in cycle.points) for cycle in own)
    if not told:
        return FrameFactors()

    def misfit(log_strength: float) -> float:
        strength = math.exp(log_strength)
        factors = FrameFactors(stiff=strength, strong=strength)
        game = game_of(with_factors(request, setting, factors))
        try:
            return (log_strength / _PRIOR_SIGMA) ** 2 + sum(float((part**2).sum()) for part in _misfits(game, own))
        except FairSquareError:  # such a frame would not have taken what was pulled
            return _IMPOSSIBLE

    try:
        misfits = {at: misfit(at) for at in _GRID}
        best = min(misfits, key=lambda at: misfits[at])
        if misfits[best] >= _IMPOSSIBLE:  # none of them took it: it was held or pulled otherwise then, and says nothing
            return FrameFactors()
        near = minimize_scalar(
            misfit,
            bounds=(best - _APART, best + _APART),
            method="bounded",
            options={"xatol": 0.03, "maxiter": _REFINED},
        )
    except FairSquareError:
        return FrameFactors()
    strength = math.exp(float(near.x) if float(near.fun) < misfits[best] else best)
    return FrameFactors(stiff=strength, strong=strength, cycles=told)


def _misfits(game: Game, cycles: Sequence[PulledCycle]) -> Iterator[Floats]:
    """Yield, for each cycle, what was read less what is played, over how sure both are."""
    index = {code: k for k, code in enumerate(game.codes)}
    so_far = game.begun()
    for cycle in cycles:
        known = [
            (index[code], np.array(way), loaded, after) for code, way, loaded, after in cycle.points if code in index
        ]
        so_far = game.pulled(so_far, cycle.chains, cycle.ties)
        if not cycle.measured:
            continue
        pull = so_far.pulls[-1]
        out = []
        for k, way, loaded, after in known:
            free = float((pull.free[k] - game.start[k]) @ way)
            scale = float(np.hypot(_MODEL_SHARE * max(abs(loaded or 0.0), abs(after)), _READ_MM))
            out.append((free - after) / scale)
            if loaded is not None:
                out.append((float((pull.loaded[k] - game.start[k]) @ way) - loaded) / scale)
        yield np.array(out)
