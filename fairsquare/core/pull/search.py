"""The search for pulls. A plan is a game: the frame moves as it must, and each move is a set of chains with heights and forces.

A move begins with one chain, the best of all hooks, towers, machines and heights at the force where it helps most. From there the
forces of several are bettered together: how every point and anchor answers to forces at the nodes is found by small changes (each
played through the frame), the best forces that can be given are a least-squares problem without negatives (Lawson and Hanson 1974),
with anchors that would be full held to what they take, and what is really gained is played again. Where there are ties, the same is
tried with all of them on and with each alone. The best few moves go on to the next pull.
"""

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import NDArray
from scipy.optimize import nnls

from fairsquare.core.pull.game import Chain, Game, Limits, Line, Played
from fairsquare.core.structure.frame import Floats
from fairsquare.core.structure.hinges import spread, spread_forces
from fairsquare.core.structure.path import Standing

_LEVELS, _LEVEL_RATIO = 28, 1.08
_STARTS, _BEAM = 3, 2
_ROUNDS, _ROUNDS_FAIR, _BETTER = 20, 3, 0.995
_FINER, _MOST_FINER = 10.0, 1
"""Metal that yields along its whole section answers to small changes otherwise than to large ones: where nothing better is found,
the changes are made so many times smaller."""
_ROUGH_STEPS = 4
_SLOPE_NODES, _SLOPE_NODES_INSIDE = 4, 16
_PRICE = 5e-5
_DAMPINGS = (1e-3, 1e-2, 1e-1, 1.0, 10.0)
_ASIDE = 0.3
_FULL = 0.995
_NEARLY_FULL, _HELD_TO, _HOLDS, _HOLD_WEIGHT = 0.97, 0.95, 6, 30.0
_LITTLE_SHARES = (0.02, 0.05, 0.15, 0.35)
_WORTH = 0.97
_SMALL_N, _SHARES = 10.0, (0.5, 0.7, 0.85, 1.0, 1.2, 1.4, 1.7, 2.0)


@dataclass(frozen=True)
class _Move:
    """Chains and ties tried from somewhere, where that ends, and how far from what is wanted."""

    chains: tuple[Chain, ...]
    free: Floats
    height: float
    ties: tuple[str, ...] = ()


class _Answers(NamedTuple):
    """How deviations (3k, 3u) and what anchors bear (3a, 3u) answer to forces at u nodes, and what anchors bear now (3a)."""

    nodes: tuple[int, ...]
    slopes: Floats
    holds: Floats
    held: Floats


def found_plan(game: Game, school: Literal["outward", "reverse"], most: int) -> Played:
    """Return the best plan found, no pulls where none helps."""
    nothing = game.begun()
    if game.done(game.start):
        return nothing
    beam, best = [nothing], nothing
    for _ in range(most):
        onward: list[Played] = []
        for so_far in beam:
            if game.spent:
                break
            for move in _moves(game, so_far, school):
                played = game.pulled(so_far, move.chains, move.ties)
                if _within(game, played) and _allowed(game, played, school):
                    onward.append(played)
        onward = [
            after
            for after in onward
            if float(game.height(after.deviations)) < _WORTH * float(game.height(_before(game, after)))
        ]
        if not onward:
            break
        onward.sort(key=lambda step: _rank(game, step))
        beam = _beam(game, onward, school)
        best = min([best, *beam], key=lambda step: _rank(game, step))
        if game.done(beam[0].deviations):
            break
    return best


def _beam(game: Game, onward: Sequence[Played], school: str) -> list[Played]:
    """Return the best plan so far, and the best other one, rather one that leaves more open of what may follow in this school."""
    best, *others = onward
    ends = [_distance(game, one.pulls[-1].chains) if school == "outward" else one.pulls[-1].mode for one in onward]
    open_still = [one for one, end in zip(others, ends[1:], strict=True) if end < ends[0]]
    return [best, *(open_still or others)[: _BEAM - 1]]


def _before(game: Game, played: Played) -> Floats:
    return played.pulls[-2].free if len(played.pulls) > 1 else game.start


def _rank(game: Game, played: Played) -> tuple[float, ...]:
    """Return what is least for the best plan: points off (fair ones lost count most), then pulls, chains and ties, then what is
    left."""
    fair = game.fair(played.deviations)
    lost = int((game.fair(game.start) & ~fair).sum())
    off = int((~fair & ~game.still).sum())
    done = off == 0
    chains = sum(len(pull.chains) + len(pull.ties) for pull in played.pulls)
    harms = game.asked.worse_mm is not None and game.worse(played.deviations) > game.asked.worse_mm
    return (
        float(lost > 0 or harms),
        off,
        len(played.pulls) if done else 0.0,
        chains if done else 0.0,
        float(game.height(played.deviations)),
    )


def _within(game: Game, played: Played) -> bool:
    """Say whether everything in the last pull takes what is asked of it."""
    last = played.pulls[-1]
    takes = max(last.anchors.values(), default=0.0) <= 1.0 and all(
        chain.force <= game.rig.limit(chain) for chain in last.chains
    )
    ties = all(max(map(abs, carried)) <= game.rig.ties[tie].capacity_n for tie, carried in last.ties.items())
    return takes and ties and game.asked_for(_before(game, played), played)


def _allowed(game: Game, played: Played, school: str) -> bool:
    """Say whether the last pull may follow the one before it in this school."""
    if len(played.pulls) < 2:
        return True
    before, last = played.pulls[-2:]
    if school == "reverse":
        return last.mode >= before.mode
    return _distance(game, last.chains) >= _distance(game, before.chains) - 1e-9


def _distance(game: Game, chains: Sequence[Chain]) -> float:
    """Return the mean distance along x of a pull's hooks, and of where its machines bear, from the middle of the anchors."""
    return float(np.mean([far for chain in chains for far in game.reach(chain)]))


def _moves(game: Game, so_far: Played, school: str) -> list[_Move]:
    """Return the moves that better a plan most, the best first: without ties, then, where points are left off, with them."""
    least = _distance(game, so_far.pulls[-1].chains) if school == "outward" and so_far.pulls else 0.0
    lines = [line for line in game.lines if line.reach >= least - 1e-9]
    if not lines:
        return []
    moves: list[_Move] = []
    for ties in _tie_sets(game):
        firsts = _scanned(game, so_far, lines, ties)
        starts = [*_guided(game, so_far, lines, ties), *firsts[: _STARTS if not so_far.pulls and not ties else _BEAM]]
        for first in (*starts, *_before_it(game, so_far, firsts, school)):
            moves.extend(_bettered(game, so_far, first, firsts, lines))
            if game.spent or any(game.done(move.free) for move in moves):
                return sorted(moves, key=lambda move: move.height)
    return sorted(moves, key=lambda move: move.height)


def _before_it(game: Game, so_far: Played, firsts: Sequence[_Move], school: str) -> list[_Move]:
    """Return the best single chain after which the best of all may still come in this school, where that is another."""
    if not firsts:
        return []
    orders = [_order(game, so_far, first, school) for first in firsts]
    return [first for first, order in zip(firsts, orders, strict=True) if order < orders[0]][:1]


def _order(game: Game, so_far: Played, move: _Move, school: str) -> float:
    """Return what does not fall from pull to pull: how far from the middle it draws, or the number of its mode."""
    if school == "outward":
        return _distance(game, move.chains)
    inside = bool(move.ties) or any(chain.inside for chain in move.chains)
    return float(game.mode(so_far.deviations, move.free, inside=inside))


def _tie_sets(game: Game) -> Iterator[tuple[str, ...]]:
    """Yield no ties, all of them, and each alone."""
    ties = tuple(game.rig.ties)
    yield ()
    if len(ties) > 1:
        yield ties
    for tie in ties:
        yield (tie,)


def _scanned(game: Game, so_far: Played, lines: Sequence[Line], ties: tuple[str, ...]) -> list[_Move]:
    """Return single chains at the force at which each helps most, the best first, one for each line of hook and tower.

    Every chain is drawn on from where something first yields, in steps of a twelfth, up to its limit; what would stay if it
    were let go there is taken as elastic. A chain that makes things far worse is not drawn on.
    """
    rays, owners, levels = [], [], []
    for number, line in enumerate(lines):
        chain = line.chain
        low, high = game.rig.towers[chain.tower][1] if not chain.inside else (0.0, 0.0)
        for height in sorted({low, (low + high) / 2, high}):
            rays.append(game.direction(chain._replace(height=height)))
            owners.append(number)
            levels.append(height)
    count, nodes = len(rays), len(game.frame.nodes)
    full = np.stack(
        [
            lines[owner].at_nodes(ray * lines[owner].limit * _FULL, nodes)
            for ray, owner in zip(rays, owners, strict=True)
        ]
    )
    whole, follower = game.loads(full), game.follower(ties)
    now = float(game.height(so_far.deviations))
    best = np.full(count, now)
    frees = np.repeat(so_far.deviations[None], count, axis=0)
    share = np.zeros(count)
    alive = np.arange(count)
    begun, shift = follower.begun(so_far.standing), follower.shift(so_far.standing)
    standing = begun.picked(np.zeros(count, dtype=np.intp))
    part = np.minimum(0.99 * _first_yield(game, so_far.standing, whole, follower.flexibility), 1.0)
    for _ in range(_LEVELS):
        standing = follower.advance(standing, part[alive, None] * whole[alive] + shift)
        let_go, carried = follower.let_go(standing), follower.tie_forces(begun, standing)
        free = game.at(let_go.moved - let_go.loads @ game.frame.flexibility)
        forces = follower.with_ties(part[alive, None, None] * full[alive], carried)
        uses = game.uses(game.held(standing.natural, forces)).max(axis=1, initial=0.0)
        if ties:
            uses = np.maximum(uses, (np.abs(carried) / game.tie_limits(ties)).max(axis=1))
        far = game.height(free)
        better = (far < best[alive] - 1e-12) & (uses <= _FULL)
        best[alive[better]], share[alive[better]] = far[better], part[alive[better]]
        frees[alive[better]] = free[better]
        keep = np.flatnonzero((uses <= _FULL) & (far <= 3.0 * now + 1.0) & (part[alive] < 1.0))
        if not len(keep):
            break
        alive, standing = alive[keep], standing.picked(keep)
        part[alive] = np.minimum(part[alive] * _LEVEL_RATIO, 1.0)
    scanned: dict[int, _Move] = {}
    for case in np.argsort(best, kind="stable"):
        owner = owners[case]
        if share[case] > 0 and owner not in scanned:
            line = lines[owner]
            chain = line.chain._replace(height=levels[case], force=float(share[case] * line.limit * _FULL))
            scanned[owner] = _Move((chain,), frees[case], float(best[case]), ties)
    return list(scanned.values())


def _guided(game: Game, so_far: Played, lines: Sequence[Line], ties: tuple[str, ...]) -> list[_Move]:
    """Return the best of the chains that would draw the frame to where it belongs were it elastic, more or less of them.

    Where no single chain makes anything yield, several together do, and this tells which.
    """
    used = tuple(sorted({node for line in lines for node in line.nodes}))
    nowhere = _Move((), so_far.deviations, np.inf, ties)
    answers = _answered(game, so_far, nowhere, used, _SMALL_N)
    flexible = np.zeros((game.frame.freedoms + 1,) * 2)
    flexible[:-1, :-1] = game.follower(ties).flexibility
    slopes = flexible[game.code_slots.ravel()][:, game.slot[list(used)].ravel()]
    answers = answers._replace(slopes=slopes)
    sets = []
    for damping in _DAMPINGS[:3]:
        chains = _wanted(game, nowhere, answers, lines, damping)
        if chains:
            most = min(_FULL * game.rig.limit(chain) / chain.force for chain in chains)
            shares = {min(share, most) for share in _SHARES}
            sets += [tuple(chain._replace(force=share * chain.force) for chain in chains) for share in sorted(shares)]
    moves = [move for move in _tried(game, so_far, sets, ties) if move.height < game.height(so_far.deviations)]
    return sorted(moves, key=lambda move: move.height)[:1]


def _first_yield(game: Game, standing: Standing, loads: Floats, flexibility: Floats) -> Floats:
    """Return the share of each of the loads (c, f) at which, from where the frame stands, an end first yields."""
    frame = game.frame
    rest = spread_forces(standing.natural[0]) - frame.back[:, None] * standing.plastic
    strained = frame.deformations(loads @ flexibility)
    shares = np.empty(len(loads))
    for case, deformed in enumerate(strained):
        stretched = spread(deformed)
        k11, k12 = frame.stiffness[..., 0], frame.stiffness[..., 1]
        force = np.stack(
            [k11 * stretched[:, 0] + k12 * stretched[:, 1], k12 * stretched[:, 0] + k11 * stretched[:, 1]], axis=1
        )
        a = ((force / frame.yields[:, None]) ** 2).sum(axis=0)
        b = ((force * rest) / frame.yields[:, None] ** 2).sum(axis=0)
        c = np.minimum(((rest / frame.yields[:, None]) ** 2).sum(axis=0) - 1.0, 0.0)
        with np.errstate(divide="ignore", invalid="ignore"):
            at = (-b + np.sqrt(np.maximum(b * b - a * c, 0.0))) / a
        shares[case] = np.min(np.where(a > 0, at, np.inf), initial=np.inf)
    return np.maximum(shares, 1e-3)


def _bettered(game: Game, so_far: Played, first: _Move, others: Sequence[_Move], lines: Sequence[Line]) -> list[_Move]:
    """Return the best move near a first one, and on the way the best of a single chain, as their forces are bettered together."""
    ties = first.ties
    tried = game.tried(so_far.standing, game.forces(first.chains)[None], ties)
    now = _Move(first.chains, tried.free[0], float(game.height(tried.free)[0]), ties)
    inside = any(line.chain.inside for line in lines)
    used = _nodes_of(game, first, others, _SLOPE_NODES_INSIDE if inside else _SLOPE_NODES)
    lines = [line for line in lines if set(line.nodes) <= set(used)]
    step = 0.02 * max(chain.force for chain in first.chains)
    rounds, finer = _ROUNDS, 0
    while rounds > 0:
        rounds = min(rounds - 1, _ROUNDS_FAIR) if game.done(now.free) else rounds - 1
        if game.done(now.free) and now.height < 0.05:
            break
        answers = _answered(game, so_far, now, used, step)
        trials = []
        for damping in _DAMPINGS:
            chains = _wanted(game, now, answers, lines, damping)
            if chains:
                trials.append(chains)
        if not trials:
            break
        tried = game.tried(so_far.standing, np.stack([game.forces(chains) for chains in trials]), ties)
        heights = np.where(tried.uses <= _FULL, game.height(tried.free), np.inf)
        pick = int(np.argmin(heights))
        if game.spent:
            break
        if heights[pick] >= now.height * _BETTER:
            finer += 1
            step /= _FINER
            if finer > _MOST_FINER:
                break
            continue
        now = _Move(trials[pick], tried.free[pick], float(heights[pick]), ties)
        step = 0.01 * float(np.linalg.norm(game.forces(now.chains), axis=1).max()) / _FINER**finer
    return [now, *_fewer(game, so_far, now)]


def _nodes_of(game: Game, first: _Move, others: Iterable[_Move], most: int) -> tuple[int, ...]:
    """Return the nodes at which forces are bettered: those of a first move, and those that the best single chains load, so many."""
    nodes = _loaded(game, first)
    for move in others:
        own = _loaded(game, move)
        if len(nodes | own) > most:
            break
        nodes |= own
    return tuple(sorted(nodes))


def _loaded(game: Game, move: _Move) -> set[int]:
    """Return the nodes that a move's chains load."""
    return {game.node_index[node] for chain in move.chains for node in game.rig.nodes_of(chain)}


def _answered(game: Game, so_far: Played, now: _Move, used: tuple[int, ...], step: float) -> _Answers:
    """Return how points and anchors answer to forces at the used nodes, by a small change (N) of each."""
    forces = game.forces(now.chains)
    nudged = np.repeat(forces[None], 3 * len(used) + 1, axis=0)
    for place, number in enumerate(used):
        for axis in range(3):
            nudged[3 * place + axis, number, axis] += step
    tried = game.tried(so_far.standing, nudged, now.ties, _ROUGH_STEPS)
    slopes, holds = (((of[:-1] - of[-1]) / step).reshape(3 * len(used), -1).T for of in (tried.free, tried.held))
    return _Answers(used, slopes, holds, tried.held[-1].ravel())


def _fewer(game: Game, so_far: Played, move: _Move) -> list[_Move]:
    """Return the move without the chains that draw little, for more than one meaning of little, and without its ties."""
    most = max(chain.force for chain in move.chains)
    sets = {tuple(chain for chain in move.chains if chain.force > share * most) for share in _LITTLE_SHARES}
    less = sorted((chains for chains in sets if len(chains) < len(move.chains)), key=len)
    tried = _tried(game, so_far, less, move.ties)
    return [*tried, *_tried(game, so_far, [move.chains], ())] if move.ties else tried


def _tried(game: Game, so_far: Played, sets: Sequence[tuple[Chain, ...]], ties: tuple[str, ...]) -> list[_Move]:
    """Return the moves of these chains that everything takes."""
    if not sets:
        return []
    tried = game.tried(so_far.standing, np.stack([game.forces(chains) for chains in sets]), ties)
    heights = game.height(tried.free)
    return [
        _Move(chains, free, float(height), ties)
        for chains, free, height, use in zip(sets, tried.free, heights, tried.uses, strict=True)
        if use <= _FULL
    ]


def _wanted(game: Game, now: _Move, answers: _Answers, lines: Sequence[Line], damping: float) -> tuple[Chain, ...]:
    """Return the chains whose forces, as points answer to them now, leave the least: those that go together, none over its
    limit."""
    little = 1e-3 * float(np.abs(game.forces(now.chains)).max() or lines[0].limit)
    for settled in (False, True):
        drawn = _drawn(game, now, answers, lines, damping)
        if drawn is None:
            return ()
        chosen = _together(game.asked, lines, drawn, little)
        if settled or len(chosen) == sum(float(np.linalg.norm(force)) > little for force in drawn):
            return tuple(_chain(game, line, force) for line, force in chosen)
        lines = [line for line, _ in chosen]
    return ()


def _drawn(
    game: Game, now: _Move, answers: _Answers, lines: Sequence[Line], damping: float
) -> tuple[Floats, ...] | None:
    """Return the forces (3) along lines that leave the least, no anchor of which the answers are known over what it takes."""
    weights = 1.0 / game.tolerances
    near = np.abs(now.free) > 0.5 * game.tolerances
    weights = (weights * np.where(near, np.sqrt(game.guard), _ASIDE)).ravel()
    used, count = list(answers.nodes), len(game.frame.nodes)
    forces = game.forces(now.chains)[used].ravel()
    scale = float(np.abs(forces).max()) or lines[0].limit
    matrix = answers.slopes * weights[:, None]
    unit = float(np.abs(matrix).max()) or 1.0
    rays = np.stack([line.at_nodes(ray, count)[used].ravel() for line in lines for ray in line.rays], axis=1)
    aim = np.concatenate([(matrix @ forces - weights * now.free.ravel()), np.sqrt(damping) * unit * forces])
    system = np.vstack([matrix @ rays, np.sqrt(damping) * unit * rays])
    # a price on every newton, linear in it: ½(ε Σx + price/ε)² is that price, and nothing else where ε is small
    price = _PRICE * float(np.abs(system.T @ aim).max())
    slight = 1e-3 * unit
    system = np.vstack([system, np.full((1, rays.shape[1]), slight)])
    aim = np.append(aim, -price / slight)
    starts = np.cumsum([0, *(len(line.rays) for line in lines)])
    shares: Floats = np.zeros(rays.shape[1])
    capped = np.zeros(rays.shape[1], dtype=bool)
    for _ in range(_HOLDS):
        try:
            shares[~capped], _ = nnls(system[:, ~capped] * scale, aim - system[:, capped] @ shares[capped])
        except RuntimeError:
            return None
        shares[~capped] *= scale
        more = _cap(lines, starts, shares, capped)
        rows, limits = _full_anchors(game, answers, rays @ shares - forces)
        if (not len(rows) and not more) or capped.all():
            break
        if len(rows):
            weight = _HOLD_WEIGHT * unit / np.abs(rows).max(axis=1)
            system = np.vstack([system, weight[:, None] * (rows @ rays)])
            aim = np.append(aim, weight * (limits + rows @ forces))
    return tuple(shares[a:b] @ line.rays for line, a, b in zip(lines, starts, starts[1:], strict=False))


def _cap(lines: Sequence[Line], starts: NDArray[np.intp], shares: Floats, capped: NDArray[np.bool_]) -> bool:
    """Hold lines that would draw more than they take to that, in their direction; say whether there were any."""
    found = False
    for line, a, b in zip(lines, starts, starts[1:], strict=False):
        size = float(np.linalg.norm(shares[a:b] @ line.rays))
        if size > line.limit and not capped[a]:
            shares[a:b] *= _FULL * line.limit / size
            capped[a:b], found = True, True
    return found


def _full_anchors(game: Game, answers: _Answers, change: Floats) -> tuple[Floats, Floats]:
    """Return rows (r, 3u) and limits (r) of rows @ change ≤ limits, one for each anchor that would be full after a change (3u) of
    the forces at the nodes: as what it bears lies then, no more than it takes."""
    bears = (answers.held + answers.holds @ change).reshape(-1, 3)
    size = np.linalg.norm(bears, axis=1)
    full = np.flatnonzero(size > _NEARLY_FULL * game.anchor_limits)
    along = bears[full] / np.maximum(size[full], 1e-12)[:, None]
    holds, held = answers.holds.reshape(len(size), 3, len(change))[full], answers.held.reshape(-1, 3)[full]
    rows = np.einsum("ai,aiu->au", along, holds)
    limits = _HELD_TO * game.anchor_limits[full] - (along * held).sum(axis=1)
    known = np.abs(rows).max(axis=1, initial=0.0) > 1e-9
    return rows[known], limits[known]


def _together(
    asked: Limits, lines: Sequence[Line], drawn: Sequence[Floats], little: float
) -> list[tuple[Line, Floats]]:
    """Return which lines may be drawn at once, each with its force (3), the strongest first: no tower and no machine twice, and no
    node twice where a machine is among them; as many as there may be, and none that draws too little beside another."""
    sizes = [float(np.linalg.norm(force)) for force in drawn]
    chosen: list[tuple[Line, Floats]] = []
    for k in sorted(range(len(lines)), key=lambda k: -sizes[k]):
        if sizes[k] <= little or len(chosen) == (asked.most_chains or len(lines)):
            break
        others = [other for other, _ in chosen]
        inside = lines[k].chain.inside or any(other.chain.inside for other in others)
        taken = {node for other in others for node in other.nodes}
        if inside and not taken.isdisjoint(lines[k].nodes):
            continue
        free = [one for one in (lines[k], *lines[k].others) if not _twice(asked, one, others)]
        if not free:
            continue
        if chosen and sizes[k] < asked.least_n:
            break
        chosen.append((free[0], drawn[k]))
    return chosen


def _twice(asked: Limits, line: Line, others: Sequence[Line]) -> bool:
    """Say whether a line is drawn by a tower or a piece that others are drawn by."""
    return any(_piece(asked, line.chain) == _piece(asked, other.chain) for other in others)


def _piece(asked: Limits, chain: Chain) -> tuple[str, bool]:
    return (asked.pieces.get(chain.tower, chain.tower) if chain.inside else chain.tower), chain.inside


def _chain(game: Game, line: Line, force: Floats) -> Chain:
    """Return the chain that draws with a force (3) in the upright plane of a line, or with its limit where that is less."""
    size = min(float(np.linalg.norm(force)), _FULL * line.limit)
    if line.chain.inside:
        return line.chain._replace(force=size)
    (x, y), (low, high), _ = game.rig.towers[line.chain.tower]
    place = game.frame.places[line.nodes[0]]
    level = float(np.hypot(force[0], force[1]))
    height = place[2] + force[2] / level * float(np.hypot(x - place[0], y - place[1])) if level > 0 else low
    return line.chain._replace(height=float(min(max(height, low), high)), force=size)
