"""How far to pull now: what a structure gives back when it is let go, learned from the pulls already made."""

from itertools import pairwise
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field
from scipy.optimize import brentq
from scipy.special import ndtr

from fairsquare.core.errors import Refused
from fairsquare.core.model import Many, Millimetres, Model

Floats = NDArray[np.float64]
Sigma = Annotated[float, Field(gt=0, le=1e5)]
Advice = Literal["stop", "done", "relieve", "pull"]

RISK = 0.05
"""The share of pulls to `must_not_pass_mm` that end beyond the tolerance."""
_NO_GAIN_SIGMAS = 3.0
_NODES = np.polynomial.legendre.leggauss(120)
_WIDE = 12.0


class Prior(Model):
    """What a structure of this kind gives back, before anything is known of this one: mean and standard deviation in mm."""

    return_mm: Millimetres
    sigma_mm: Sigma


class Cycle(Model):
    """One pull: the reading before, with the chains tight, and after letting go; mm along the pull, + the way it goes."""

    before: Millimetres
    loaded: Millimetres
    after: Millimetres


class NextPull(Model):
    """Where a point has to go and stands, along the pull, and the pulls so far."""

    target_mm: Millimetres
    tolerance_mm: Sigma
    now_mm: Millimetres
    prior: Prior
    reading_sigma_mm: Sigma = 0.3
    cycles: Many[Cycle]


class PullAdvised(Model):
    """How far to pull, what must not be passed under load, where it will stand after, what it gives back, and what to do.

    `earlier_mm`: how much short of that it is let go, so that the limit is not passed by what hand and readings scatter.
    """

    pull_to_mm: float | None
    must_not_pass_mm: float
    expected_after_mm: float
    return_mm: float
    return_sigma_mm: float
    advice: Advice
    earlier_mm: float = 0.0


class Returned:
    """The posterior of what comes back, r, as weights on nodes: between the strokes of the cycles it is a piece of a normal.

    Prior normal; a cycle of stroke s = loaded − before and gain g = after − before multiplies it by
    exp(−(g − max(0, s − r))²/(2τ²)), τ = √2 · reading sigma.
    """

    def __init__(self, prior: Prior, cycles: tuple[Cycle, ...], reading_sigma: float, also: float) -> None:
        tau = np.sqrt(2.0) * reading_sigma
        strokes = np.array([cycle.loaded - cycle.before for cycle in cycles])
        gains = np.array([cycle.after - cycle.before for cycle in cycles])
        edges = np.concatenate([[-np.inf], np.unique(np.append(strokes, also)), [np.inf]])
        nodes, logs = [], []
        for low, high in pairwise(edges):
            moving = strokes >= high
            precision = prior.sigma_mm**-2 + moving.sum() / tau**2
            mean = (prior.return_mm / prior.sigma_mm**2 + ((strokes - gains)[moving] / tau**2).sum()) / precision
            at, weight = _piece(mean, precision**-0.5, low, high)
            gained = np.maximum(0.0, strokes[:, None] - at[None])
            height = -0.5 * ((at - prior.return_mm) / prior.sigma_mm) ** 2
            height = height - 0.5 * (((gains[:, None] - gained) / tau) ** 2).sum(axis=0)
            nodes.append(at)
            logs.append(height + np.log(weight))
        self.nodes = np.concatenate(nodes)
        height = np.concatenate(logs)
        weights = np.exp(height - height.max())
        self.weights: Floats = weights / weights.sum()

    def mean(self, values: Floats) -> float:
        """Return the mean of values at the nodes."""
        return float(self.weights @ values)


def _piece(mean: float, sigma: float, low: float, high: float) -> tuple[Floats, Floats]:
    """Return nodes and weights for a normal between two limits, where it has its weight: near its mean, or near the limit
    that is."""
    nearest = min(max(mean, low), high)
    behind = abs(nearest - mean)
    reach = _WIDE * sigma if behind == 0 else min(_WIDE * sigma, 45.0 * sigma**2 / behind)
    start, end = max(low, nearest - reach), min(high, nearest + reach)
    if not end > start:
        start, end = nearest - 1e-9, nearest + 1e-9
    at, weight = _NODES
    half = (end - start) / 2
    return (start + end) / 2 + half * at, half * weight


def next_pull(request: NextPull) -> PullAdvised:
    """Say how far to pull next so that it comes back to the target, and where to stop, from what this structure gave back so far.

    The posterior of the return is taken as it is, in pieces of normals, not as a normal put in its place. Raises `Refused` for a
    cycle whose loaded reading lies more than 3 τ behind its reading before.
    """
    sigma = request.reading_sigma_mm
    tau = float(np.sqrt(2.0) * sigma)
    for k, cycle in enumerate(request.cycles):
        if cycle.loaded < cycle.before - 3 * tau:
            raise Refused(
                f"Pull {k + 1} read {cycle.loaded:g} mm with the chains tight and {cycle.before:g} mm before: it went backwards. "
                "Read it again, along the pull, + the way it goes.",
                field=f"cycles.{k}.loaded",
                value=cycle.loaded,
            )
    now, limit = request.now_mm, request.target_mm + request.tolerance_mm
    returned = Returned(request.prior, request.cycles, sigma, also=request.prior.return_mm)
    mean = returned.mean(returned.nodes)
    spread = float(np.sqrt(max(0.0, returned.mean((returned.nodes - mean) ** 2))))

    def beyond(loaded: float) -> float:
        return returned.mean(ndtr((loaded - returned.nodes - limit) / sigma)) - RISK

    reach = 15.0 * (spread + sigma) + 1.0
    must_not_pass = float(brentq(beyond, limit + mean - reach, limit + mean + reach, xtol=1e-10))
    advice = _advice(request)
    if advice in ("stop", "done"):
        pull_to, after = None, now
    else:
        pull_to = min(request.target_mm + mean, must_not_pass)
        if advice == "relieve":
            pull_to = min(pull_to, max(cycle.loaded for cycle in request.cycles))
        kinked = Returned(request.prior, request.cycles, sigma, also=pull_to - now)
        after = kinked.mean(np.maximum(now, pull_to - kinked.nodes))
    return PullAdvised(
        pull_to_mm=pull_to,
        must_not_pass_mm=must_not_pass,
        expected_after_mm=after,
        return_mm=mean,
        return_sigma_mm=spread,
        advice=advice,
    )


def with_room(request: NextPull, advised: PullAdvised, room_mm: float) -> PullAdvised:
    """Return the advice with at least `room_mm` between where it is let go and what it must not pass: less is pulled where there is
    not as much."""
    if advised.pull_to_mm is None or advised.pull_to_mm <= advised.must_not_pass_mm - room_mm:
        return advised
    pull_to = advised.must_not_pass_mm - room_mm
    earlier = advised.pull_to_mm - pull_to
    return let_go_at(request, advised, pull_to).model_copy(update={"earlier_mm": earlier})


def let_go_at(request: NextPull, advised: PullAdvised, pull_to: float) -> PullAdvised:
    """Return the advice with the point let go elsewhere, and where it is expected to stand then."""
    returned = Returned(request.prior, request.cycles, request.reading_sigma_mm, also=pull_to - request.now_mm)
    after = returned.mean(np.maximum(request.now_mm, pull_to - returned.nodes))
    return advised.model_copy(update={"pull_to_mm": pull_to, "expected_after_mm": after})


def _advice(request: NextPull) -> Advice:
    now, target, tolerance = request.now_mm, request.target_mm, request.tolerance_mm
    if now > target + tolerance:
        return "stop"
    if now >= target - tolerance:
        return "done"
    last = request.cycles[-2:]
    if len(last) == 2 and all(
        cycle.after - cycle.before <= _NO_GAIN_SIGMAS * request.reading_sigma_mm for cycle in last
    ):
        return "relieve"
    return "pull"
