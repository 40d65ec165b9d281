"""What driving or loading takes back of what was pulled: the frame gives as the residual moments of the pulls relax.

Metal that was bent over and let go keeps moments that hold one another in balance. Shaken or loaded, ends that yielded let go of a
share of theirs; the frame moves until it is in balance again. How large that share is nobody can calculate: it is one number, the
same for all ends, with a wide prior, fitted by Bayes' rule for normals (any handbook of statistics) to what driving took back in
this shop. The model is ours, no source.
"""

import math
from collections.abc import Iterable
from typing import NamedTuple

import numpy as np

from fairsquare.core.pull.game import Game, Played
from fairsquare.core.structure.frame import Floats

SETTLED_SIGMA_MM = 0.7
"""How well a settling is known from readings in the set-ups before and after it. Common practice, no source."""
_LEAST_MM, _MODEL_MM = 0.05, 0.4
"""What settles besides: seats, bushes, the rest of the body. Ours, no source."""
_YIELDED = 1e-12


class Relaxed(NamedTuple):
    """The share of residual moments that relaxes, how sure that is, and of how many points it was learned."""

    mean: float = 0.2
    sigma: float = 0.2
    points: int = 0


PRIOR = Relaxed()
"""Nothing to two fifths. Ours, no source: wide, so that a few settlings speak for themselves."""


class TakesBack(NamedTuple):
    """How far along its pull driving or loading is expected to take a point back, mm, and its standard deviation."""

    mm: float
    sigma_mm: float


def relaxed_all(game: Game, played: Played) -> Floats:
    """Return how points (k, 3) would move, mm, were the moments of all ends that yielded in the pulls to relax, each as if held."""
    frame, standing = game.frame, played.standing
    natural = standing.natural[0]
    yielded = (np.abs(standing.plastic).max(axis=0) > _YIELDED).T
    changed = np.zeros_like(natural)
    for component, places in ((2, (2, 3)), (3, (4, 5))):
        own, other = frame.stiffness[component, :, 0], frame.stiffness[component, :, 1]
        turns = [np.where(yielded[:, end], natural[:, place] / own, 0.0) for end, place in enumerate(places)]
        changed[:, places[0]] = -(own * turns[0] + other * turns[1])
        changed[:, places[1]] = -(other * turns[0] + own * turns[1])
    moved = -frame.gathered(changed[None]) @ frame.flexibility
    return np.asarray(game.at(moved)[0] - game.start)


def taken_along(game: Game, played: Played) -> dict[str, float]:
    """Return how far back along the way it was pulled each point that moved would go, mm, were all of it to relax."""
    back = relaxed_all(game, played)
    went = played.deviations - game.start
    size = np.linalg.norm(went, axis=1)
    return {code: float(-back[k] @ went[k] / size[k]) for k, code in enumerate(game.codes) if size[k] > _LEAST_MM}


def fitted_share(settlings: Iterable[tuple[float, float]], prior: Relaxed = PRIOR) -> Relaxed:
    """Return the share that relaxes, from what would go back were all to relax and what did, mm, point by point."""
    weight, sum_, points = 1.0 / prior.sigma**2, prior.mean / prior.sigma**2, prior.points
    for would, did in settlings:
        weight += (would / SETTLED_SIGMA_MM) ** 2
        sum_ += would * did / SETTLED_SIGMA_MM**2
        points += 1
    return Relaxed(max(sum_ / weight, 0.0), math.sqrt(1.0 / weight), points)


def takes_back(would: float, share: Relaxed) -> TakesBack:
    """Return what is expected to go back of a point that would go back so far were all to relax."""
    return TakesBack(share.mean * would, math.hypot(share.sigma * would, _MODEL_MM))
