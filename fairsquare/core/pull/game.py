"""What pulls are searched in: a rig, a frame that moves as it must, and pulls played through it."""

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from fairsquare.core.structure.frame import Floats, Frame
from fairsquare.core.structure.path import Follower, Standing, ties_between

STEPS = 10
"""Steps of a leg to the loads, and of the leg that lets go, when a plan is played."""
_EFFORT, _EFFORT_INSIDE = 640_000, 900_000
"""Members whose hinges may be worked out in one search: 1 to 5 s of one core, with machines or ties up to 10 s. No clock, so that
the answer is the same everywhere."""
_CLOSE_ENOUGH = 0.75
_GUARD = 4.0
_ON_THE_WAY = 20.0
"""Between two pulls a point may stand worse by so many times what it may at the end."""


class Chain(NamedTuple):
    """A chain from a hook to a tower at a height (mm), with a force (N); `inside`: to a machine that bears on the vehicle, whatever
    the height."""

    hook: str
    tower: str
    height: float
    force: float
    inside: bool = False


class MachineAt(NamedTuple):
    """A machine that bears on the vehicle at a node: whether it pushes what is at the hook away from there or draws it there, and
    what it takes, N."""

    node: str
    pushes: bool
    capacity_n: float


class TieAt(NamedTuple):
    """A straight bar between two nodes: what it takes in N, and its stiffness times its length, N."""

    nodes: tuple[str, str]
    capacity_n: float
    ea_n: float


@dataclass(frozen=True)
class Rig:
    """Towers (place in plan, lowest and highest, capacity), hooks and anchors (node, capacity), machines and ties, by name."""

    towers: Mapping[str, tuple[tuple[float, float], tuple[float, float], float]]
    hooks: Mapping[str, tuple[str, float]]
    anchors: Mapping[str, tuple[str, float]]
    machines: Mapping[str, MachineAt] = field(default_factory=dict)
    ties: Mapping[str, TieAt] = field(default_factory=dict)

    def limit(self, chain: Chain) -> float:
        """Return the least capacity of a chain's hook, its tower or machine, and the strongest hook where that bears, N."""
        hook = self.hooks[chain.hook][1]
        if not chain.inside:
            return min(hook, self.towers[chain.tower][2])
        machine = self.machines[chain.tower]
        bears = [capacity for node, capacity in self.hooks.values() if node == machine.node]
        return min(hook, machine.capacity_n, max(bears, default=machine.capacity_n))

    def nodes_of(self, chain: Chain) -> tuple[str, ...]:
        """Return the node that a chain hooks, and the one that its machine bears on."""
        own = self.hooks[chain.hook][0]
        return (own, self.machines[chain.tower].node) if chain.inside else (own,)


@dataclass(frozen=True)
class Limits:
    """What a workshop asks of a plan besides what the calculation promises; each None or empty: nothing is asked.

    `most_chains` at once, none that draws less than `least_n`, none along `barred` (hook, tower); at the end no point worse beyond
    its tolerance than it was by more than `worse_mm` (on the way by no more than some times that), and under load no point farther
    past where it belongs than `overpull_share` of the longest way that any has to go, or `overpull_least_mm`.
    Machines of one piece (`pieces`, by machine) are one: only one of them at once. Points of `still` are left where they stand when
    let go, within `still_mm`.
    """

    most_chains: int | None = None
    least_n: float = 0.0
    barred: frozenset[tuple[str, str]] = frozenset()
    worse_mm: float | None = None
    overpull_share: float | None = None
    overpull_least_mm: float = 0.0
    effort: int | None = None
    pieces: Mapping[str, str] = field(default_factory=dict)
    still: frozenset[str] = frozenset()
    still_mm: float = 1.0


NO_LIMITS = Limits()


@dataclass(frozen=True)
class PlayedPull:
    """A pull as played: its chains, the number of the mode it mainly undoes, uses of anchors, deviations (k, 3) loaded and free.

    `ties`: what each tie carries at the end of each of the ten steps up, N, tension positive.
    """

    chains: tuple[Chain, ...]
    mode: int
    anchors: Mapping[str, float]
    loaded: Floats
    free: Floats
    ties: Mapping[str, tuple[float, ...]] = field(default_factory=dict)


@dataclass(frozen=True)
class Played:
    """Pulls as played, the deviations (k, 3) they end in, and where the frame stands."""

    pulls: tuple[PlayedPull, ...]
    deviations: Floats
    standing: Standing


class Tried(NamedTuple):
    """What c pulls do: deviations (c, k, 3) when let go; forces at anchors (c, a, 3) and the largest use of an anchor or tie (c),
    both loaded."""

    free: Floats
    held: Floats
    uses: Floats


class Game:
    """A frame with deviations, and a rig to pull it by. k codes, n nodes, a anchors, f free degrees of freedom.

    Forces of a pull are at nodes (n, 3): a machine puts on the node that it bears on as much as on the hook, the other way.
    """

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
        self._followers: dict[tuple[str, ...], Follower] = {}
        self.start: Floats = np.array(deviations, dtype=float).reshape(-1, 3)
        self.tolerances: Floats = np.maximum(np.array(tolerances, dtype=float).reshape(-1, 3), 1e-9)
        self.limits: Floats = np.array(tolerances, dtype=float).reshape(-1, 3)
        self.guard: Floats = np.where(self.fair(self.start), _GUARD, 1.0)[:, None]
        self.still = np.array([code in limits.still for code in codes], dtype=bool)
        if self.still.any():
            self.tolerances[self.still], self.guard[self.still] = limits.still_mm, _GUARD
        self._aim: Floats = np.where(self.still[:, None], self.start, 0.0)
        self.node_index = {node: number for number, node in enumerate(frame.nodes)}
        slot = np.where(frame.free, np.cumsum(frame.free) - 1, frame.freedoms).reshape(-1, 6)[:, :3]
        self.slot = slot
        self.code_slots = slot[[self.node_index[node] for node in nodes]].reshape(-1, 3)
        self.anchor_nodes = [self.node_index[node] for node, _ in rig.anchors.values()]
        self.anchor_limits = np.array([limit for _, limit in rig.anchors.values()])
        self._holds = ~frame.free.reshape(-1, 6)[self.anchor_nodes, :3]
        self._bearing = self._borne()
        self.pairs = _pairs(codes, partners)
        self._middle = float(np.mean(frame.places[self.anchor_nodes, 0])) if rig.anchors else 0.0
        self.lines = tuple(self._lines())

    def _borne(self) -> Floats:
        """Return what each natural force of each member puts on each anchor (6m, 3a), where that holds."""
        frame = self.frame
        ends = frame.strain.reshape(len(frame.ends), 6, 2, 6)[..., :3]
        at = frame.ends[:, :, None] == np.array(self.anchor_nodes, dtype=int)
        return np.asarray(np.einsum("mked,mea,ad->mkad", ends, at, self._holds).reshape(6 * len(ends), -1))

    @property
    def work(self) -> int:
        """Members whose hinges were worked out so far, and some for each call: effort, the same on every machine."""
        return sum(follower.work for follower in self._followers.values())

    @property
    def spent(self) -> bool:
        """Whether the search has done all the work that it may."""
        inside = bool(self.rig.machines or self.rig.ties)
        return self.work > (self.asked.effort or (_EFFORT_INSIDE if inside else _EFFORT))

    def follower(self, ties: tuple[str, ...] = ()) -> Follower:
        """Return what takes the frame along paths, with ties on."""
        if ties not in self._followers:
            bars = [(*self.rig.ties[tie].nodes, self.rig.ties[tie].ea_n) for tie in ties]
            self._followers[ties] = Follower(self.frame, ties_between(self.frame, bars) if ties else None)
        return self._followers[ties]

    def _between(self, a: str, b: str) -> Floats:
        places = self.frame.places
        return np.asarray(places[self.node_index[b]] - places[self.node_index[a]])

    def tie_limits(self, ties: tuple[str, ...]) -> Floats:
        """Return what ties take (t), N."""
        return np.array([self.rig.ties[tie].capacity_n for tie in ties])

    def reach(self, chain: Chain) -> list[float]:
        """Return how far along x a chain's hook, and the node that its machine bears on, are from the middle of the anchors."""
        return [
            abs(float(self.frame.places[self.node_index[node], 0]) - self._middle) for node in self.rig.nodes_of(chain)
        ]

    def fair(self, deviations: Floats) -> NDArray[np.bool_]:
        """Return which points (..., k) are within tolerance in each coordinate."""
        within: NDArray[np.bool_] = np.all(np.abs(deviations) <= self.limits, axis=-1)
        return within

    def done(self, deviations: Floats) -> bool:
        """Say whether no point (k, 3) is left to bring home."""
        return bool((self.fair(deviations) | self.still).all())

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
        pieces = [asked.pieces.get(chain.tower, chain.tower) for chain in last.chains if chain.inside]
        if len(set(pieces)) < len(pieces) or (np.abs(last.free - self.start)[self.still] > asked.still_mm).any():
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
        size = np.abs(deviations - self._aim) / self.tolerances
        past = np.maximum(size - _CLOSE_ENOUGH, 0.0)
        return np.asarray((self.guard * past**2).sum(axis=(-1, -2)) + 1e-3 * (size**2).sum(axis=(-1, -2)))

    def at(self, moved: Floats) -> Floats:
        """Return deviations (c, k, 3) under displacements (c, f)."""
        padded = np.concatenate([moved, np.zeros((len(moved), 1))], axis=1)
        return np.asarray(self.start + padded[:, self.code_slots])

    def loads(self, forces: Floats) -> Floats:
        """Return loads (c, f) of forces (c, n, 3) at nodes."""
        loads = np.zeros((len(forces), self.frame.freedoms + 1))
        loads[:, self.slot.ravel()] = forces.reshape(len(forces), -1)
        return loads[:, :-1]

    def held(self, natural: Floats, forces: Floats) -> Floats:
        """Return what anchors bear (c, a, 3), from natural forces (c, m, 6) of members and forces (c, n, 3) at nodes."""
        bears = (natural.reshape(len(natural), -1) @ self._bearing).reshape(len(natural), -1, 3)
        return np.asarray(bears - np.where(self._holds, forces[:, self.anchor_nodes], 0.0))

    def uses(self, held: Floats) -> Floats:
        """Return the uses (c, a) of anchors that bear (c, a, 3)."""
        return np.asarray(np.linalg.norm(held, axis=2) / self.anchor_limits)

    def direction(self, chain: Chain) -> Floats:
        """Return the unit vector (3) in which a chain draws, or a machine pushes or draws what is at the hook."""
        hook = self.rig.hooks[chain.hook][0]
        if chain.inside:
            machine = self.rig.machines[chain.tower]
            along = self._between(machine.node, hook) if machine.pushes else self._between(hook, machine.node)
        else:
            (x, y), _, _ = self.rig.towers[chain.tower]
            along = np.array([x, y, chain.height]) - self.frame.places[self.node_index[hook]]
        size = float(np.linalg.norm(along))
        unit: Floats = along / size if size > 0 else along
        return unit

    def forces(self, chains: Sequence[Chain]) -> Floats:
        """Return the forces (n, 3) of chains at nodes: where a machine bears, as hard as it pulls, the other way."""
        total = np.zeros((len(self.frame.nodes), 3))
        for chain in chains:
            force = chain.force * self.direction(chain)
            for node, sign in zip(self.rig.nodes_of(chain), (1.0, -1.0), strict=False):
                total[self.node_index[node]] += sign * force
        return total

    def _lines(self) -> Iterator["Line"]:
        for hook, (node, _) in self.rig.hooks.items():
            place = self.frame.places[self.node_index[node]]
            for tower, ((x, y), (low, high), _) in self.rig.towers.items():
                if np.hypot(x - place[0], y - place[1]) < 1.0 or (hook, tower) in self.asked.barred:
                    continue
                yield self._line([Chain(hook, tower, low, 1.0), Chain(hook, tower, high, 1.0)])
        yield from self._inside()

    def _inside(self) -> Iterator["Line"]:
        """Yield the lines of machines, one for each kind and two places: by that which takes most, the others as alternatives."""
        found: dict[tuple[frozenset[str], bool], list[Chain]] = {}
        for machine, at in self.rig.machines.items():
            for hook, (node, _) in self.rig.hooks.items():
                if node == at.node or (hook, machine) in self.asked.barred:
                    continue
                if float(np.linalg.norm(self._between(at.node, node))) < 1.0:
                    continue
                chain = Chain(hook, machine, 0.0, 1.0, inside=True)
                found.setdefault((frozenset((node, at.node)), at.pushes), []).append(chain)
        for chains in found.values():
            first, *others = sorted(chains, key=self.rig.limit, reverse=True)
            yield self._line([first], others)

    def _line(self, chains: Sequence[Chain], others: Sequence[Chain] = ()) -> "Line":
        nodes = tuple(self.node_index[node] for node in self.rig.nodes_of(chains[0]))
        rays = np.stack([self.direction(chain) for chain in chains])
        return Line(
            chains[0],
            nodes,
            rays,
            self.rig.limit(chains[0]),
            float(np.mean(self.reach(chains[0]))),
            tuple(self._line([other]) for other in others if self._other_piece(chains[0], other)),
        )

    def _other_piece(self, first: Chain, other: Chain) -> bool:
        """Say whether a machine is another piece than one that takes more."""
        pieces = self.asked.pieces
        return pieces.get(first.tower, first.tower) != pieces.get(other.tower, other.tower)

    # ── playing ──────────────────────────────────────────────────────────────

    def play(self, pulls: Sequence[tuple[tuple[Chain, ...], tuple[str, ...]]]) -> Played:
        """Play pulls (chains and ties) in their order, each a leg to its loads and a leg that lets go, in ten steps each."""
        played = self.begun()
        for chains, ties in pulls:
            played = self.pulled(played, chains, ties)
        return played

    def begun(self) -> Played:
        """Return the plan without pulls: everything where it was read."""
        return Played((), self.start, self.follower().rest())

    def pulled(self, so_far: Played, chains: tuple[Chain, ...], ties: tuple[str, ...] = ()) -> Played:
        """Return a plan with one more pull, played. Ties are put on before it; chains and ties are let go together, evenly."""
        forces, follower = self.forces(chains)[None], self.follower(ties)
        start = follower.begun(so_far.standing)
        carried, loaded = [], start
        for step in follower.followed(start, self.loads(forces) + follower.shift(so_far.standing), STEPS):
            carried.append(follower.tie_forces(start, step)[0])
            loaded = step
        loaded = follower.let_go(loaded)
        standing = self.follower().follow(loaded, np.zeros((1, self.frame.freedoms)), STEPS)
        free = self.at(standing.moved)[0]
        uses = self.uses(self.held(loaded.natural, follower.with_ties(forces, np.array(carried[-1:]))))[0]
        inside = bool(ties) or any(chain.inside for chain in chains)
        pull = PlayedPull(
            chains=chains,
            mode=self.mode(so_far.deviations, free, inside=inside),
            anchors=dict(zip(self.rig.anchors, map(float, uses), strict=True)),
            loaded=self.at(loaded.moved)[0],
            free=free,
            ties=dict(zip(ties, (tuple(map(float, of)) for of in np.transpose(carried)), strict=True)),
        )
        return Played((*so_far.pulls, pull), free, standing)

    def tried(self, standing: Standing, forces: Floats, ties: tuple[str, ...] = (), steps: int = STEPS) -> Tried:
        """Return what pulling with forces (c, n, 3) and ties on does."""
        follower = self.follower(ties)
        start = follower.begun(standing.picked(np.zeros(len(forces), dtype=np.intp)))
        most, loaded = np.zeros(len(forces)), start
        for step in follower.followed(start, self.loads(forces) + follower.shift(standing), steps):
            loaded = step
            if ties:
                most = np.maximum(most, (np.abs(follower.tie_forces(start, step)) / self.tie_limits(ties)).max(axis=1))
        held = self.held(loaded.natural, follower.with_ties(forces, follower.tie_forces(start, loaded)))
        loaded = follower.let_go(loaded)
        free = self.follower().follow(loaded, np.zeros_like(loaded.loads), 1)
        return Tried(self.at(free.moved), held, np.maximum(most, self.uses(held).max(axis=1, initial=0.0)))

    def mode(self, before: Floats, after: Floats, *, inside: bool = False) -> int:
        """Return the number of the mode, in the order in which they are undone, that went down most from before to after (k, 3).

        `inside`: by the sizes of pairs as `read_damage` names them.
        """
        amounts = self._sizes if inside else self._amounts
        gained = [was - now for was, now in zip(amounts(before), amounts(after), strict=True)]
        return int(np.argmax(gained))

    def _sizes(self, deviations: Floats) -> list[float]:
        """Return the size of each mode in mm: of what pairs have in common and of how left and right differ, summed over pairs."""
        both = [(left, right) for left, right in self.pairs if right is not None]
        if not both:
            return [0.0] * 6
        left, right = (deviations[list(side)] for side in zip(*both, strict=True))
        together, apart = np.abs(left + right).sum(axis=0) / 2, np.abs(left - right).sum(axis=0)
        return [float(size) for size in (apart[2], apart[0], together[0], together[2], together[1], apart[1])]

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
    """A hook drawn to a tower, or a machine at it: a chain along it, the nodes that it loads (the hook's, and where the machine
    bears), the directions (r, 3) between which it draws what is at the hook, its limit in N, and how far it is from the middle of
    the anchors. `others` do the same by another machine, which takes no more.
    """

    chain: Chain
    nodes: tuple[int, ...]
    rays: Floats
    limit: float
    reach: float
    others: "tuple[Line, ...]" = ()

    def at_nodes(self, force: Floats, count: int) -> Floats:
        """Return the forces (count, 3) at nodes of a force (3) at the hook."""
        total = np.zeros((count, 3))
        for node, sign in zip(self.nodes, (1.0, -1.0), strict=False):
            total[node] = sign * force
        return total


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
