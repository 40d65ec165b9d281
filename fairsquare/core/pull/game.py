"""What pulls are searched in: a rig, a frame that moves as it must, and pulls played through it."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fairsquare.core.structure.frame import Floats, Frame
from fairsquare.core.structure.path import Follower, Standing

STEPS = 10
"""Steps of a leg to the loads, and of the leg that lets go, when a plan is played."""
_EFFORT = 700_000
"""Members whose hinges may be worked out in one search: 1 to 5 s of one core. No clock, so that the answer is the same
everywhere."""
_CLOSE_ENOUGH = 0.75
_GUARD = 4.0
_ON_THE_WAY = 20.0
"""Between two pulls a point may stand worse by so many times what it may at the end."""


class Chain(NamedTuple):
    """A chain from a hook to a tower at a height (mm), with a force (N)."""

    hook: str
    tower: str
    height: float
    force: float


@dataclass(frozen=True)
class Rig:
    """Towers (place in plan, lowest and highest, capacity), hooks and anchors (node, capacity), by name.

    `machines` bear on the vehicle itself (node, whether they push or draw, capacity): a person may pull by them, the search
    does not.
    """

    towers: Mapping[str, tuple[tuple[float, float], tuple[float, float], float]]
    hooks: Mapping[str, tuple[str, float]]
    anchors: Mapping[str, tuple[str, float]]
    machines: Mapping[str, tuple[str, bool, float]] = field(default_factory=dict)

    def limit(self, chain: Chain) -> float:
        """Return the lesser capacity of a chain's hook and tower in N."""
        other = self.machines[chain.tower] if chain.tower in self.machines else self.towers[chain.tower]
        return min(self.hooks[chain.hook][1], other[2])


@dataclass(frozen=True)
class Limits:
    """What a workshop asks of a plan besides what the calculation promises; each None or empty: nothing is asked.

    `most_chains` at once, none that draws less than `least_n`, none along `barred` (hook, tower); at the end no point worse beyond
    its tolerance than it was by more than `worse_mm` (on the way by no more than some times that), and under load no point farther
    past where it belongs than `overpull_share` of the longest way that any has to go, or `overpull_least_mm`.
    """

    most_chains: int | None = None
    least_n: float = 0.0
    barred: frozenset[tuple[str, str]] = frozenset()
    worse_mm: float | None = None
    overpull_share: float | None = None
    overpull_least_mm: float = 0.0
    effort: int = _EFFORT


NO_LIMITS = Limits()


@dataclass(frozen=True)
class PlayedPull:
    """A pull as played: its chains, the number of the mode it mainly undoes, uses of anchors, deviations (k, 3) loaded and free."""

    chains: tuple[Chain, ...]
    mode: int
    anchors: Mapping[str, float]
    loaded: Floats
    free: Floats


@dataclass(frozen=True)
class Played:
    """Pulls as played, the deviations (k, 3) they end in, and where the frame stands."""

    pulls: tuple[PlayedPull, ...]
    deviations: Floats
    standing: Standing


class Game:
    """A frame with deviations, and a rig to pull it by. k codes, h hooks, f free degrees of freedom."""

    def __init__(
        self,
        frame: Frame,
        codes: tuple[str, ...],
        nodes: tuple[str, ...],
        partners: Sequence[str | None],
        deviations: Sequence[Sequence[float]],
        tolerances: Sequence[Sequence[float]],
        rig: Rig,
        limits: Limits = NO_LIMITS,
    ) -> None:
        self.frame, self.codes, self.rig, self.asked = frame, codes, rig, limits
        self.follower = Follower(frame)
        self.start: Floats = np.array(deviations, dtype=float).reshape(-1, 3)
        self.tolerances: Floats = np.maximum(np.array(tolerances, dtype=float).reshape(-1, 3), 1e-9)
        self.limits: Floats = np.array(tolerances, dtype=float).reshape(-1, 3)
        self.guard: Floats = np.where(self.fair(self.start), _GUARD, 1.0)[:, None]
        self.node_index = {node: number for number, node in enumerate(frame.nodes)}
        slot = np.where(frame.free, np.cumsum(frame.free) - 1, frame.freedoms).reshape(-1, 6)[:, :3]
        self.slot = slot
        self.code_slots = slot[[self.node_index[node] for node in nodes]].reshape(-1, 3)
        self.hooks = tuple(rig.hooks)
        self.hook_slots = slot[[self.node_index[rig.hooks[hook][0]] for hook in self.hooks]].reshape(-1, 3)
        self.anchor_nodes = [self.node_index[node] for node, _ in rig.anchors.values()]
        self.anchor_limits = np.array([limit for _, limit in rig.anchors.values()])
        self.pairs = _pairs(codes, partners)
        middle = float(np.mean(frame.places[self.anchor_nodes, 0])) if rig.anchors else 0.0
        self.reach = {
            hook: abs(float(frame.places[self.node_index[node], 0]) - middle) for hook, (node, _) in rig.hooks.items()
        }
        self.lines = tuple(self._lines())

    def fair(self, deviations: Floats) -> NDArray[np.bool_]:
        """Return which points (..., k) are within tolerance in each coordinate."""
        within: NDArray[np.bool_] = np.all(np.abs(deviations) <= self.limits, axis=-1)
        return within

    def beyond(self, deviations: Floats) -> Floats:
        """Return how far points (..., k) are beyond their tolerances, all coordinates together, mm."""
        return np.asarray(np.maximum(np.abs(deviations) - self.limits, 0.0).sum(axis=-1))

    def asked_for(self, before: Floats, played: "Played") -> bool:
        """Say whether the last pull of a plan keeps to what the workshop asks; `before` (k, 3) is where it began."""
        asked, last = self.asked, played.pulls[-1]
        if asked.most_chains is not None and len(last.chains) > asked.most_chains:
            return False
        if any(chain.force < asked.least_n for chain in last.chains):
            return False
        if asked.worse_mm is not None and self.worse(played.deviations) > _ON_THE_WAY * asked.worse_mm:
            return False
        if asked.overpull_share is None:
            return True
        most = max(asked.overpull_share * self.to_go(before), asked.overpull_least_mm)
        return float(overpull(before, last.loaded, self.limits).max(initial=0.0)) <= most + 1e-9

    def to_go(self, before: Floats) -> float:
        """Return the longest way that a point which is off has to go, mm."""
        off = (np.abs(before) > self.limits).any(axis=-1)
        return float(np.linalg.norm(before[off], axis=-1).max(initial=0.0))

    def worse(self, deviations: Floats) -> float:
        """Return by how much the point that was made worst stands farther beyond its tolerance than it did, mm."""
        return float((self.beyond(deviations) - self.beyond(self.start)).max(initial=0.0))

    def height(self, deviations: Floats) -> Floats:
        """Return how far deviations (..., k, 3) are from what is wanted: squares of what passes a part of the tolerance."""
        size = np.abs(deviations) / self.tolerances
        past = np.maximum(size - _CLOSE_ENOUGH, 0.0)
        return np.asarray((self.guard * past**2).sum(axis=(-1, -2)) + 1e-3 * (size**2).sum(axis=(-1, -2)))

    def at(self, moved: Floats) -> Floats:
        """Return deviations (c, k, 3) under displacements (c, f)."""
        padded = np.concatenate([moved, np.zeros((len(moved), 1))], axis=1)
        return np.asarray(self.start + padded[:, self.code_slots])

    def loads(self, forces: Floats) -> Floats:
        """Return loads (c, f) of forces (c, h, 3) at hooks."""
        loads = np.zeros((len(forces), self.frame.freedoms + 1))
        for number, slots in enumerate(self.hook_slots):
            np.add.at(loads.T, slots, forces[:, number].T)
        return loads[:, :-1]

    def anchor_uses(self, natural: Floats, forces: Floats, bearing: Floats | None = None) -> Floats:
        """Return the uses (c, a) of anchors, from natural forces (c, m, 6) of members and forces (c, h, 3) at hooks.

        `bearing` (n, 3) are the forces of machines at the nodes that they bear on.
        """
        if not len(self.anchor_nodes):
            return np.zeros((len(natural), 0))
        asked = np.stack([self.frame.node_loads(pull)[:, :3] for pull in natural])
        for number, hook in enumerate(self.hooks):
            asked[:, self.node_index[self.rig.hooks[hook][0]]] -= forces[:, number]
        if bearing is not None:
            asked = asked - bearing
        held = np.where(self.frame.free.reshape(-1, 6)[:, :3], 0.0, asked)
        return np.asarray(np.linalg.norm(held[:, self.anchor_nodes], axis=2) / self.anchor_limits)

    def direction(self, hook: str, tower: str, height: float) -> Floats:
        """Return the unit vector (3) in which a chain draws, or a machine pushes or draws what is at the hook."""
        place = self.frame.places[self.node_index[self.rig.hooks[hook][0]]]
        if tower in self.rig.machines:
            node, pushes, _ = self.rig.machines[tower]
            bears = self.frame.places[self.node_index[node]]
            along = place - bears if pushes else bears - place
        else:
            (x, y), _, _ = self.rig.towers[tower]
            along = np.array([x, y, height]) - place
        size = float(np.linalg.norm(along))
        unit: Floats = along / size if size > 0 else along
        return unit

    def forces(self, chains: Sequence[Chain]) -> Floats:
        """Return the forces (h, 3) of chains at hooks."""
        total = np.zeros((len(self.hooks), 3))
        for chain in chains:
            total[self.hooks.index(chain.hook)] += chain.force * self.direction(chain.hook, chain.tower, chain.height)
        return total

    def bearing(self, chains: Sequence[Chain]) -> Floats:
        """Return the forces (n, 3) that machines put on the nodes that they bear on: as hard as they pull, the other way."""
        total = np.zeros((len(self.frame.nodes), 3))
        for chain in chains:
            if chain.tower in self.rig.machines:
                node = self.node_index[self.rig.machines[chain.tower][0]]
                total[node] -= chain.force * self.direction(chain.hook, chain.tower, chain.height)
        return total

    def _lines(self) -> Iterator["Line"]:
        for number, hook in enumerate(self.hooks):
            place = self.frame.places[self.node_index[self.rig.hooks[hook][0]]]
            for tower, ((x, y), (low, high), limit) in self.rig.towers.items():
                if np.hypot(x - place[0], y - place[1]) < 1.0 or (hook, tower) in self.asked.barred:
                    continue
                rays = np.stack([self.direction(hook, tower, low), self.direction(hook, tower, high)])
                yield Line(number, hook, tower, rays, min(limit, self.rig.hooks[hook][1]))

    # ── playing ──────────────────────────────────────────────────────────────

    def play(self, pulls: Sequence[tuple[Chain, ...]]) -> Played:
        """Play pulls in their order, each a leg to its loads and a leg that lets go, in ten steps each."""
        played = self.begun()
        for chains in pulls:
            played = self.pulled(played, chains)
        return played

    def begun(self) -> Played:
        """Return the plan without pulls: everything where it was read."""
        return Played((), self.start, self.follower.rest())

    def pulled(self, so_far: Played, chains: tuple[Chain, ...]) -> Played:
        """Return a plan with one more pull, played."""
        forces, bearing = self.forces(chains)[None], self.bearing(chains)
        borne = np.zeros((1, self.frame.freedoms + 1))
        borne[:, self.slot.ravel()] = bearing.ravel()
        loaded = self.follower.follow(so_far.standing, self.loads(forces) + borne[:, :-1], STEPS)
        standing = self.follower.follow(loaded, np.zeros((1, self.frame.freedoms)), STEPS)
        free = self.at(standing.moved)[0]
        uses = self.anchor_uses(loaded.natural, forces, bearing)[0]
        pull = PlayedPull(
            chains=chains,
            mode=self.mode(so_far.deviations, free),
            anchors=dict(zip(self.rig.anchors, map(float, uses), strict=True)),
            loaded=self.at(loaded.moved)[0],
            free=free,
        )
        return Played((*so_far.pulls, pull), free, standing)

    def tried(self, standing: Standing, forces: Floats, steps: int = STEPS) -> tuple[Floats, Floats]:
        """Return the free deviations (c, k, 3) and the largest use of an anchor (c) after pulling with forces (c, h, 3)."""
        start = standing.picked(np.zeros(len(forces), dtype=np.intp))
        loaded = self.follower.follow(start, self.loads(forces), steps)
        uses = self.anchor_uses(loaded.natural, forces).max(axis=1, initial=0.0)
        free = self.follower.follow(loaded, np.zeros_like(loaded.loads), 1)
        return self.at(free.moved), uses

    def mode(self, before: Floats, after: Floats) -> int:
        """Return the number of the mode, in the order in which they are undone, that went down most from before to after (k, 3)."""
        gained = [self._amounts(before)[k] - self._amounts(after)[k] for k in range(6)]
        return int(np.argmax(gained))

    def _amounts(self, deviations: Floats) -> list[float]:
        """Return the size of each mode: sums of squares in mm², of a pair's mean and half difference; a lone point is all mean."""
        sizes = dict.fromkeys(("twist", "skew", "mash", "rise", "sway", "spread"), 0.0)
        for left, right in self.pairs:
            if right is None:
                mean, half, count = deviations[left], np.zeros(3), 1.0
            else:
                mean, half, count = (
                    (deviations[left] + deviations[right]) / 2,
                    (deviations[left] - deviations[right]) / 2,
                    2.0,
                )
            for axis, (together, apart) in enumerate((("mash", "skew"), ("sway", "spread"), ("rise", "twist"))):
                sizes[together] += count * float(mean[axis]) ** 2
                sizes[apart] += count * float(half[axis]) ** 2
        return list(sizes.values())


def overpull(before: Floats, loaded: Floats, limits: Floats) -> Floats:
    """Return how far past where it belongs each point (k) that is off stands under load, along its way home, mm; others 0."""
    size = np.linalg.norm(before, axis=-1)
    off = (np.abs(before) > limits).any(axis=-1) & (size > 0)
    home = -before / np.where(size > 0, size, 1.0)[..., None]
    return np.asarray(np.where(off, np.maximum((loaded * home).sum(axis=-1), 0.0), 0.0))


class Line(NamedTuple):
    """A hook drawn to a tower: number and name of the hook, the tower, the lowest and highest direction (2, 3), and its
    limit in N."""

    number: int
    hook: str
    tower: str
    rays: Floats
    limit: float


def _pairs(codes: Sequence[str], partners: Sequence[str | None]) -> tuple[tuple[int, int | None], ...]:
    """Return the numbers of left and right codes of each pair; those without a partner alone."""
    index = {code: number for number, code in enumerate(codes)}
    pairs: list[tuple[int, int | None]] = []
    done: set[int] = set()
    for number, partner in enumerate(partners):
        other = index.get(partner or "")
        if number not in done:
            pairs.append((number, None if other == number else other))
            done |= {number} if other is None else {number, other}
    return tuple(pairs)
