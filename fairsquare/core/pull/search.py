"""The search for pulls. A plan is a game: the frame moves as it must, and each move is a set of chains with heights and forces.

A move begins with one chain, the best of all hooks, towers and heights at the force where it helps most. From there the forces
at all hooks are bettered together: how every point answers to them is found by small changes (each played through the frame),
the best forces that towers can give are a least-squares problem without negatives (Lawson and Hanson 1974), and what is really
gained is played again. The best few moves go on to the next pull.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.optimize import nnls

from fairsquare.core.pull.game import Chain, Game, Limits, Line, Played
from fairsquare.core.structure.frame import Floats
from fairsquare.core.structure.hinges import spread, spread_forces
from fairsquare.core.structure.path import Standing

_LEVELS, _LEVEL_RATIO = 28, 1.08
_STARTS, _BEAM = 3, 2
_ROUNDS = 14
_ROUGH_STEPS = 4
_SLOPE_HOOKS = 4
_PRICE = 5e-5
_DAMPINGS = (1e-3, 1e-2, 1e-1, 1.0)
_ASIDE = 0.3
_FULL = 0.995
_LITTLE_SHARES = (0.02, 0.05, 0.15, 0.35)
_WORTH = 0.97


@dataclass(frozen=True)
class _Move:
    """Chains tried from somewhere, where that ends, and how far from what is wanted."""

    chains: tuple[Chain, ...]
    free: Floats
    height: float


def found_plan(game: Game, school: Literal["outward", "reverse"], most: int) -> Played:
    """Return the best plan found, no pulls where none helps."""
    nothing = game.begun()
    if game.fair(game.start).all():
        return nothing
    beam, best = [nothing], nothing
    for _ in range(most):
        onward: list[Played] = []
        for so_far in beam:
            if game.follower.work > game.asked.effort:
                break
            for move in _moves(game, so_far, school):
                played = game.pulled(so_far, move.chains)
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
        beam = onward[:_BEAM]
        best = min([best, *beam], key=lambda step: _rank(game, step))
        if game.fair(beam[0].deviations).all():
            break
    return best


def _before(game: Game, played: Played) -> Floats:
    return played.pulls[-2].free if len(played.pulls) > 1 else game.start


def _rank(game: Game, played: Played) -> tuple[float, ...]:
    """Return what is least for the best plan: points off (fair ones lost count most), then pulls and chains, then what is left."""
    fair = game.fair(played.deviations)
    lost = int((game.fair(game.start) & ~fair).sum())
    off = int((~fair).sum())
    done = off == 0
    chains = sum(len(pull.chains) for pull in played.pulls)
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
    return takes and game.asked_for(_before(game, played), played)


def _allowed(game: Game, played: Played, school: str) -> bool:
    """Say whether the last pull may follow the one before it in this school."""
    if len(played.pulls) < 2:
        return True
    before, last = played.pulls[-2:]
    if school == "reverse":
        return last.mode >= before.mode
    return _distance(game, last.chains) >= _distance(game, before.chains) - 1e-9


def _distance(game: Game, chains: Sequence[Chain]) -> float:
    """Return the mean distance along x of a pull's hooks from the middle of the anchors."""
    return float(np.mean([game.reach[chain.hook] for chain in chains]))


def _moves(game: Game, so_far: Played, school: str) -> list[_Move]:
    """Return the moves that better a plan most, the best first."""
    least = _distance(game, so_far.pulls[-1].chains) if school == "outward" and so_far.pulls else 0.0
    lines = [line for line in game.lines if game.reach[line.hook] >= least - 1e-9]
    if not lines:
        return []
    firsts = _scanned(game, so_far, lines)
    moves = []
    for first in firsts[: _STARTS if not so_far.pulls else _BEAM]:
        moves.extend(_bettered(game, so_far, first, firsts, lines))
        if game.follower.work > game.asked.effort or any(game.fair(move.free).all() for move in moves):
            break
    return sorted(moves, key=lambda move: move.height)


def _scanned(game: Game, so_far: Played, lines: Sequence[Line]) -> list[_Move]:
    """Return single chains at the force at which each helps most, the best first, one for each line of hook and tower.

    Every chain is drawn on from where something first yields, in steps of a twelfth, up to its limit; what would stay if it
    were let go there is taken as elastic. A chain that makes things far worse is not drawn on.
    """
    rays, owners, levels = [], [], []
    for number, line in enumerate(lines):
        low, high = game.rig.towers[line.tower][1]
        for height in sorted({low, (low + high) / 2, high}):
            rays.append(game.direction(line.hook, line.tower, height))
            owners.append(number)
            levels.append(height)
    count = len(rays)
    full = np.zeros((count, len(game.hooks), 3))
    for case, (ray, owner) in enumerate(zip(rays, owners, strict=True)):
        full[case, lines[owner].number] = ray * lines[owner].limit * _FULL
    whole = game.loads(full)
    now = float(game.height(so_far.deviations))
    best = np.full(count, now)
    share = np.zeros(count)
    alive = np.arange(count)
    standing = so_far.standing.picked(np.zeros(count, dtype=np.intp))
    part = np.minimum(0.99 * _first_yield(game, so_far.standing, whole), 1.0)
    for _ in range(_LEVELS):
        standing = game.follower.advance(standing, part[alive, None] * whole[alive])
        free = game.at(standing.moved - standing.loads @ game.frame.flexibility)
        uses = game.anchor_uses(standing.natural, part[alive, None, None] * full[alive]).max(axis=1, initial=0.0)
        far = game.height(free)
        better = (far < best[alive] - 1e-12) & (uses <= _FULL)
        best[alive[better]], share[alive[better]] = far[better], part[alive[better]]
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
            chain = Chain(line.hook, line.tower, levels[case], float(share[case] * line.limit * _FULL))
            scanned[owner] = _Move((chain,), so_far.deviations, float(best[case]))
    return list(scanned.values())


def _first_yield(game: Game, standing: Standing, loads: Floats) -> Floats:
    """Return the share of each of the loads (c, f) at which, from where the frame stands, an end first yields."""
    frame = game.frame
    rest = spread_forces(standing.natural[0]) - frame.back[:, None] * standing.plastic
    strained = frame.deformations(loads @ frame.flexibility)
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
    forces = game.forces(first.chains)
    free, _ = game.tried(so_far.standing, forces[None])
    now = _Move(first.chains, free[0], float(game.height(free)[0]))
    hooks = [first.chains[0].hook, *dict.fromkeys(move.chains[0].hook for move in others)]
    used = sorted(game.hooks.index(hook) for hook in list(dict.fromkeys(hooks))[:_SLOPE_HOOKS])
    lines = [line for line in lines if line.number in used]
    step = 0.02 * float(np.linalg.norm(forces, axis=1).max())
    for _ in range(_ROUNDS):
        if game.fair(now.free).all() and now.height < 0.05:
            break
        forces = game.forces(now.chains)
        nudged = np.repeat(forces[None], 3 * len(used) + 1, axis=0)
        for place, number in enumerate(used):
            for axis in range(3):
                nudged[3 * place + axis, number, axis] += step
        answers, _ = game.tried(so_far.standing, nudged, _ROUGH_STEPS)
        slopes = ((answers[:-1] - answers[-1]) / step).reshape(3 * len(used), -1).T
        trials = []
        for damping in _DAMPINGS:
            chains = _wanted(game, now, slopes, used, lines, damping)
            if chains:
                trials.append(chains)
        if not trials:
            break
        frees, uses = game.tried(so_far.standing, np.stack([game.forces(chains) for chains in trials]))
        heights = np.where(uses <= _FULL, game.height(frees), np.inf)
        pick = int(np.argmin(heights))
        if heights[pick] >= now.height * 0.98 or game.follower.work > game.asked.effort:
            break
        now = _Move(trials[pick], frees[pick], float(heights[pick]))
        step = 0.01 * float(np.linalg.norm(game.forces(now.chains), axis=1).max())
    return [now, *_fewer(game, so_far, now)]


def _fewer(game: Game, so_far: Played, move: _Move) -> list[_Move]:
    """Return the move without the chains that draw little, for more than one meaning of little."""
    most = max(chain.force for chain in move.chains)
    sets = {tuple(chain for chain in move.chains if chain.force > share * most) for share in _LITTLE_SHARES}
    tried = [chains for chains in sets if len(chains) < len(move.chains)]
    if not tried:
        return []
    tried.sort(key=len)
    frees, uses = game.tried(so_far.standing, np.stack([game.forces(chains) for chains in tried]))
    heights = game.height(frees)
    return [
        _Move(chains, free, float(height))
        for chains, free, height, use in zip(tried, frees, heights, uses, strict=True)
        if use <= _FULL
    ]


def _wanted(
    game: Game, now: _Move, slopes: Floats, used: Sequence[int], lines: Sequence[Line], damping: float
) -> tuple[Chain, ...]:
    """Return the chains whose forces, as points answer to them now, leave the least: no tower twice, none over its limit.

    `slopes` (3k, 3 len(used)) is how deviations answer to forces at the used hooks.
    """
    weights = 1.0 / game.tolerances
    near = np.abs(now.free) > 0.5 * game.tolerances
    weights = (weights * np.where(near, np.sqrt(game.guard), _ASIDE)).ravel()
    place = {number: k for k, number in enumerate(used)}
    forces = game.forces(now.chains)[list(used)].ravel()
    scale = float(np.abs(forces).max())
    matrix = slopes * weights[:, None]
    unit = float(np.abs(matrix).max()) or 1.0
    open_lines = list(lines)
    chosen: list[Line] = []
    for _ in range(2):
        rays = np.zeros((len(forces), 2 * len(open_lines)))
        for k, line in enumerate(open_lines):
            rows = slice(3 * place[line.number], 3 * place[line.number] + 3)
            rays[rows, 2 * k], rays[rows, 2 * k + 1] = line.rays
        aim = np.concatenate([(matrix @ forces - weights * now.free.ravel()), np.sqrt(damping) * unit * forces])
        system = np.vstack([matrix @ rays, np.sqrt(damping) * unit * rays])
        # a price on every newton, linear in it: ½(ε Σx + price/ε)² is that price, and nothing else where ε is small
        price = _PRICE * float(np.abs(system.T @ aim).max())
        slight = 1e-3 * unit
        last = np.full((1, rays.shape[1]), slight)
        try:
            shares, _ = nnls(np.vstack([system, last]) * scale, np.append(aim, -price / slight))
        except RuntimeError:
            return ()
        shares = shares.reshape(-1, 2) * scale
        size = [float(np.linalg.norm(pair @ line.rays)) for pair, line in zip(shares, open_lines, strict=True)]
        strongest: dict[str, int] = {}
        for k, line in enumerate(open_lines):
            if size[k] > 1e-3 * scale and (line.tower not in strongest or size[k] > size[strongest[line.tower]]):
                strongest[line.tower] = k
        strongest = _most_and_least(game.asked, strongest, size)
        if len(strongest) == sum(size_n > 1e-3 * scale for size_n in size) or chosen:
            return tuple(
                _chain(game, open_lines[k], shares[k] @ open_lines[k].rays) for k in sorted(strongest.values())
            )
        chosen = [open_lines[k] for k in sorted(strongest.values())]
        open_lines = chosen
    return ()


def _most_and_least(asked: Limits, strongest: Mapping[str, int], size: Sequence[float]) -> dict[str, int]:
    """Return the lines that stay, by tower: as many as there may be, and none that draws too little beside another."""
    order = sorted(strongest.items(), key=lambda item: -size[item[1]])[: asked.most_chains]
    return dict(item for k, item in enumerate(order) if k == 0 or size[item[1]] >= asked.least_n)


def _chain(game: Game, line: Line, force: Floats) -> Chain:
    """Return the chain that draws with a force (3) in the upright plane of a line, or with its limit where that is less."""
    (x, y), (low, high), _ = game.rig.towers[line.tower]
    place = game.frame.places[game.node_index[game.rig.hooks[line.hook][0]]]
    level = float(np.hypot(force[0], force[1]))
    height = place[2] + force[2] / level * float(np.hypot(x - place[0], y - place[1])) if level > 0 else low
    size = min(float(np.linalg.norm(force)), _FULL * line.limit)
    return Chain(line.hook, line.tower, float(min(max(height, low), high)), size)
