"""The cuts of all layers together: each in a stretch of its own, neighbours a stagger apart, and the least metal off.

Layers form a chain, so the best cuts are found layer by layer. A station matters only where a stretch of some layer ends, or whole
staggers away from there: any other set of cuts can be moved, as far as they hang together, without getting worse, until one of them
meets such a limit.
"""

from collections.abc import Sequence
from itertools import pairwise
from typing import NamedTuple

import numpy as np
from scipy.optimize import Bounds, LinearConstraint, milp

from fairsquare.core.cut.stretches import ROUNDING_MM, Floats, Interval, Rule

TIE_MM = 1e-6
"""Sums of removed lengths that differ by less are equal; then the metal decides."""

_NEVER = 1e9
"""What breaking a rule that holds costs, where every other rule broken costs one."""

Key = tuple[str, str | int]


class ChainLayer(NamedTuple):
    """A layer that is cut: its ends, its thickness and its rules."""

    low: float
    high: float
    thickness_mm: float
    rules: tuple[Rule, ...]


class Chain(NamedTuple):
    """The layers that are cut, in order; a cut further along `sign` takes more off."""

    layers: tuple[ChainLayer, ...]
    stagger_mm: float
    sign: float


def best_cuts(chain: Chain, feasible: Sequence[Sequence[Interval]]) -> list[float] | None:
    """Return the station of each layer's cut, or None where there is no place for all of them.

    `feasible` are the stretches of each layer in which its cut may stand.
    """
    if not all(feasible):
        return None
    limits = [limit for stretches in feasible for stretch in stretches for limit in stretch]
    stations = [
        _inside(candidates, stretches)
        for candidates, stretches in zip(_candidates(chain, limits), feasible, strict=True)
    ]
    lengths = [
        chain.sign * at - (chain.sign * (layer.low if chain.sign > 0 else layer.high))
        for at, layer in zip(stations, chain.layers, strict=True)
    ]
    never = [np.inf] * len(stations)
    forward = _sums(stations, lengths, chain.stagger_mm, never)
    if not np.isfinite(forward[-1]).any():
        return None
    backward = _sums(stations[::-1], lengths[::-1], chain.stagger_mm, never)[::-1]
    least = float(forward[-1].min())
    through = [f + b - own <= least + TIE_MM for f, b, own in zip(forward, backward, lengths, strict=True)]
    kept = [at[chosen] for at, chosen in zip(stations, through, strict=True)]
    own = [length[chosen] for length, chosen in zip(lengths, through, strict=True)]
    return _least_metal(chain, kept, own, least)


def _candidates(chain: Chain, limits: Sequence[float]) -> list[Floats]:
    """Return for each layer the stations that may matter: limits of all layers, and whole staggers away from them, on the layer."""
    many = len(chain.layers)
    steps = np.arange(1 - many, many) * chain.stagger_mm
    at = np.unique((np.unique(np.array(limits))[:, None] + steps[None, :]).ravel())
    return [at[(at >= layer.low - ROUNDING_MM) & (at <= layer.high + ROUNDING_MM)] for layer in chain.layers]


def _inside(at: Floats, stretches: Sequence[Interval]) -> Floats:
    """Return the stations that lie in one of the stretches, moved onto its end where rounding put them beside it."""
    starts, ends = (np.array([stretch[end] for stretch in stretches]) for end in (0, 1))
    own = np.clip(np.searchsorted(starts, at + ROUNDING_MM, side="right") - 1, 0, None)
    within = (at >= starts[own] - ROUNDING_MM) & (at <= ends[own] + ROUNDING_MM)
    return np.unique(np.concatenate((np.clip(at, starts[own], ends[own])[within], starts, ends)))


def _sums(at: Sequence[Floats], costs: Sequence[Floats], apart: float, near: Sequence[float]) -> list[Floats]:
    """Return for each station the least sum of costs of this layer and those before it; infinite where there is none.

    Cuts of layer k that stand nearer than `apart` to that of the layer before cost `near[k]` more.
    """
    sums = [costs[0]]
    for k in range(1, len(at)):
        before = np.searchsorted(at[k - 1], at[k] - apart + ROUNDING_MM, side="right")
        after = np.searchsorted(at[k - 1], at[k] + apart - ROUNDING_MM, side="left")
        lowest = np.concatenate(([np.inf], np.minimum.accumulate(sums[-1])))
        highest = np.concatenate((np.minimum.accumulate(sums[-1][::-1])[::-1], [np.inf]))
        sums.append(costs[k] + np.minimum(np.minimum(lowest[before], highest[after]), lowest[-1] + near[k]))
    return sums


def _least_metal(chain: Chain, at: Sequence[Floats], lengths: Sequence[Floats], least: float) -> list[float]:
    """Return, of the cuts that remove the least length, those that remove the least metal.

    Stations are few here. Sums below are kept with their metal while neither is beaten in both by another at the same station.
    """
    rest = _sums(at[::-1], lengths[::-1], chain.stagger_mm, [np.inf] * len(at))[::-1]
    ways: list[list[tuple[float, float, tuple[float, ...]]]] = [[(0.0, 0.0, ())]]
    for k, layer in enumerate(chain.layers):
        stretches: list[list[tuple[float, float, tuple[float, ...]]]] = []
        for station, length, left in zip(at[k], lengths[k], rest[k], strict=True):
            grown = [
                (sum_ + length, metal + length * layer.thickness_mm, (*cuts, float(station)))
                for kept in ways
                for sum_, metal, cuts in kept
                if (not cuts or abs(cuts[-1] - station) >= chain.stagger_mm - ROUNDING_MM)
                and sum_ + left <= least + TIE_MM
            ]
            if grown:
                stretches.append(_not_beaten(grown))
        ways = stretches
    return list(min((way for kept in ways for way in kept), key=lambda way: way[1])[2])


def _not_beaten(ways: list[tuple[float, float, tuple[float, ...]]]) -> list[tuple[float, float, tuple[float, ...]]]:
    kept: list[tuple[float, float, tuple[float, ...]]] = []
    for way in sorted(ways, key=lambda way: (round(way[0], 9), way[1])):
        if not kept or way[1] < kept[-1][1] - ROUNDING_MM:
            kept.append(way)
    return kept


def smallest_conflict(chain: Chain) -> list[Key]:
    """Return a smallest set of rules that leave no place for the cuts, even without all others.

    Every set of cuts breaks some rules; rules that leave no place at all hold one of each such set. So the smallest set that meets
    all those found so far is tried, and where cuts are still possible under it, the rules that they break are one more set to meet
    (implicit hitting sets: Moreno-Centeno and Karp, Operations Research 61, 2013).
    """
    limits = [limit for layer in chain.layers for rule in layer.rules for stretch in rule.forbids for limit in stretch]
    ends = [end for layer in chain.layers for end in (layer.low, layer.high)]
    at = _candidates(chain, [limit for limit in (*limits, *ends) if np.isfinite(limit)])
    broken = [_broken(layer, stations) for layer, stations in zip(chain.layers, at, strict=True)]
    staggers: list[Key] = [("stagger", k) for k in range(len(at) - 1)]
    keys = list(dict.fromkeys([*(rule.key for layer in chain.layers for rule in layer.rules), *staggers]))
    met: list[frozenset[Key]] = []
    while True:
        hard = _meeting(met, keys)
        breaks = _least_broken(chain, at, broken, hard)
        if breaks is None:
            return [key for key in keys if key in hard]
        also = hard
        while breaks is not None:
            met.append(breaks)
            also |= breaks
            breaks = _least_broken(chain, at, broken, also)


def _broken(layer: ChainLayer, at: Floats) -> Floats:
    """Return for each rule of a layer and each station 1 where a cut there breaks the rule, else 0; (rules, stations)."""
    broken = np.zeros((len(layer.rules), len(at)))
    for row, rule in enumerate(layer.rules):
        for a, b in rule.forbids:
            broken[row, (at > a + ROUNDING_MM) & (at < b - ROUNDING_MM)] = 1.0
    return broken


def _least_broken(
    chain: Chain, at: Sequence[Floats], broken: Sequence[Floats], hard: frozenset[Key]
) -> frozenset[Key] | None:
    """Return the rules that cuts break which keep to all the hard rules and break few others; None where there are no such cuts."""
    weights = [np.array([_NEVER if rule.key in hard else 1.0 for rule in layer.rules]) for layer in chain.layers]
    costs = [weight @ own for own, weight in zip(broken, weights, strict=True)]
    near = [_NEVER if ("stagger", k - 1) in hard else 1.0 for k in range(len(at))]
    sums = _sums(at, costs, chain.stagger_mm, near)
    if sums[-1].min() >= _NEVER:
        return None
    chosen = [int(np.argmin(sums[-1]))]
    for k in range(len(at) - 1, 0, -1):
        close = np.abs(at[k - 1] - at[k][chosen[0]]) < chain.stagger_mm - ROUNDING_MM
        chosen.insert(0, int(np.argmin(sums[k - 1] + np.where(close, near[k], 0.0))))
    keys_broken: set[Key] = set()
    for layer, own, index in zip(chain.layers, broken, chosen, strict=True):
        keys_broken |= {rule.key for rule, breaks in zip(layer.rules, own[:, index], strict=True) if breaks}
    for k, (a, b) in enumerate(pairwise(at[k][index] for k, index in enumerate(chosen))):
        if abs(a - b) < chain.stagger_mm - ROUNDING_MM:
            keys_broken.add(("stagger", k))
    return frozenset(keys_broken)


def _meeting(sets: Sequence[frozenset[Key]], keys: Sequence[Key]) -> frozenset[Key]:
    """Return a smallest set of keys that holds one of each set."""
    if not sets:
        return frozenset()
    rows = np.array([[key in broken for key in keys] for broken in sets], dtype=float)
    many = len(keys)
    every = LinearConstraint(rows, lb=1)
    solved = milp(np.ones(many), constraints=every, integrality=np.ones(many, dtype=int), bounds=Bounds(0, 1))
    return frozenset(key for key, taken in zip(keys, np.asarray(solved.x), strict=True) if taken > 0.5)
