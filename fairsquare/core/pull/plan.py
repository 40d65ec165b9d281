"""The pull plan: which chains to set, which way, how high and how hard, in which order, so that points end within tolerance."""

from collections.abc import Sequence
from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Millimetres, Model, Row3, Vector
from fairsquare.core.pull.game import NO_LIMITS, Chain, Game, Limits, MachineAt, Played, PlayedPull, Rig, TieAt
from fairsquare.core.pull.search import found_plan
from fairsquare.core.sheet.model import Sheet, find_point, partner_code, points_by_code, tolerances
from fairsquare.core.structure.frame import Floats, frame_of
from fairsquare.core.structure.skeleton import Skeleton

Above0 = Annotated[float, Field(gt=0, le=1e12)]
School = Literal["outward", "reverse"]
PullMode = Literal["twist", "skew", "mash", "rise", "sway", "spread"]
Verdict = Literal["complete", "partial", "none"]

MODES: tuple[PullMode, ...] = ("twist", "skew", "mash", "rise", "sway", "spread")
"""In the order of the school `reverse`: that in which damage happens, backwards, as in `damage.read.UNDO_ORDER`."""
_NEAR_LIMIT = 0.8


class PlanPoint(Model):
    """Where a point was read, mm."""

    xyz: Vector


class PlanSkeleton(Skeleton):
    """A skeleton at sheet places, and the codes of the points that its nodes carry."""

    codes: dict[Code, Code]


class Tower(Model):
    """A tower: where it stands in plan, how low and high its chain can go, and what it takes."""

    id: Code
    at: Annotated[tuple[Millimetres, Millimetres], Field(strict=False)]
    z: Annotated[tuple[Millimetres, Millimetres], Field(strict=False)]
    capacity_n: Above0


class AtNode(Model):
    """A hook or an anchor at a node, and what it takes."""

    id: Code
    node: Code
    capacity_n: Above0


class PullMachine(Model):
    """A machine that bears on the vehicle at a node: a puller draws the hook's node and its own together, a jack pushes them
    apart."""

    id: Code
    kind: Literal["jack", "puller"]
    node: Code
    capacity_n: Above0


class PullTie(Model):
    """A straight bar that can be put on between two nodes: what it takes, and its stiffness times its length."""

    id: Code
    nodes: Annotated[tuple[Code, Code], Field(strict=False)]
    capacity_n: Above0
    ea_n: Above0 = 1e8


class PullRig(Model):
    """What there is to pull with and to hold by."""

    towers: Many[Tower]
    hooks: Many[AtNode]
    anchors: Many[AtNode]
    machines: Many[PullMachine] = ()
    ties: Many[PullTie] = ()


class PlanPulls(Model):
    """A sheet, what was read, the skeleton, the rig, the school whose order is followed, and how many pulls at most."""

    sheet: Sheet
    points: dict[Code, PlanPoint]
    skeleton: PlanSkeleton
    rig: PullRig
    school: School
    max_pulls: Annotated[int, Field(ge=1, le=20)] = 6


class PlannedChain(Model):
    """A chain: hook, tower, the height at the tower in mm, the force in N, and that over the lesser capacity of the two."""

    hook: str
    tower: str
    height_mm: float
    force_n: float
    use: float


class PlannedInside(Model):
    """A machine that bears on the vehicle: hook, machine, the force in N, and that over the least capacity of hook, machine, and
    the strongest hook where it bears."""

    hook: str
    machine: str
    force_n: float
    use: float

    @property
    def tower(self) -> str:
        """What it is drawn by."""
        return self.machine

    @property
    def height_mm(self) -> float:
        """None: it lies between its two places."""
        return 0.0


class PlannedPull(Model):
    """One pull: what it mainly undoes, its chains, what anchors carry of their capacity, and every deviation loaded and free.

    `ties` are put on before it, and `tie_forces_n` is what each carries at the end of each of the ten steps up, tension positive.
    """

    mode: PullMode
    chains: Many[PlannedChain | PlannedInside]
    anchors: dict[str, float]
    loaded: dict[str, Row3]
    free: dict[str, Row3]
    ties: tuple[str, ...] = Field(default=(), exclude_if=lambda ties: not ties)
    tie_forces_n: dict[str, tuple[float, ...]] = Field(default={}, exclude_if=lambda forces: not forces)


class Predicted(Model):
    """A point at the end of the plan."""

    deviation: Row3
    fair: bool


class PullsPlanned(Model):
    """The plan, where it leads, the largest use of anything, and what to mind."""

    verdict: Verdict
    pulls: Many[PlannedPull]
    predicted: dict[str, Predicted]
    worst_use: float
    cautions: Many[str]


def plan_pulls(request: PlanPulls, limits: Limits = NO_LIMITS) -> PullsPlanned:
    """Plan the pulls that bring points home: most of them fair first, then as few pulls as may be.

    Every plan is played through the elastic-plastic frame (see `simulate_frame`), which is taken as never yielded where it now
    stands. Raises `Refused` or `UnknownCode` for what does not fit together.
    """
    game = game_of(request, limits)
    plan = found_plan(game, request.school, request.max_pulls)
    return _told(request, game, plan)


def play_pulls(request: PlanPulls, pulls: Sequence[tuple[Sequence[Chain], Sequence[str]]]) -> PullsPlanned:
    """Return what pulls that a person set (chains and ties) do, played in their order, whatever rule of a plan they break."""
    game = game_of(request)
    return _told(request, game, game.play([(tuple(chains), tuple(ties)) for chains, ties in pulls]))


def game_of(request: PlanPulls, limits: Limits = NO_LIMITS) -> Game:
    """Return a request as the game that is searched and played. Raises `Refused` or `UnknownCode` for what does not fit."""
    frame = frame_of(request.skeleton, "skeleton.")
    points = points_by_code(request.sheet)
    for code in request.points:
        find_point(points, code, f"points.{code}")
    taken: dict[str, str] = {}
    for node, code in request.skeleton.codes.items():
        at = f"skeleton.codes.{node}"
        if node not in request.skeleton.nodes:
            raise Refused(f"{node} is not a node of the skeleton.", field=at, value=node)
        find_point(points, code, at)
        if code not in request.points:
            raise Refused(
                f"{code} was not read: read it, or take it out of the skeleton's codes.", field=at, value=code
            )
        if code in taken:
            raise Refused(f"{code} is carried by {taken[code]} already.", field=at, value=code)
        taken[code] = node
    _rig_checked(request)
    codes = tuple(code for code in points if code in taken)
    rig = request.rig
    return Game(
        frame=frame,
        codes=codes,
        nodes=tuple(taken[code] for code in codes),
        partners=tuple(partner_code(points[code]) for code in codes),
        deviations=tuple(
            tuple(read - told for read, told in zip(request.points[code].xyz, points[code].xyz, strict=True))
            for code in codes
        ),
        tolerances=tuple(tolerances(request.sheet, points[code]) for code in codes),
        rig=Rig(
            towers={tower.id: (tower.at, tower.z, tower.capacity_n) for tower in rig.towers},
            hooks={hook.id: (hook.node, hook.capacity_n) for hook in rig.hooks},
            anchors={anchor.id: (anchor.node, anchor.capacity_n) for anchor in rig.anchors},
            machines={m.id: MachineAt(m.node, m.kind == "jack", m.capacity_n) for m in rig.machines},
            ties={tie.id: TieAt(tie.nodes, tie.capacity_n, tie.ea_n) for tie in rig.ties},
        ),
        limits=limits,
    )


def _rig_checked(request: PlanPulls) -> None:
    rig, skeleton = request.rig, request.skeleton
    for kind in ("towers", "hooks", "anchors", "machines", "ties"):
        _once(kind, [one.id for one in getattr(rig, kind)])
    for k, tower in enumerate(rig.towers):
        if tower.z[0] > tower.z[1]:
            raise Refused(
                f"Tower {tower.id} goes from {tower.z[0]:g} mm to {tower.z[1]:g} mm: the lower height comes first.",
                field=f"rig.towers.{k}.z",
                value=tower.z,
            )
    for kind in ("hooks", "anchors", "machines"):
        for k, at_node in enumerate(getattr(rig, kind)):
            _node_checked(skeleton, at_node.node, f"{at_node.id} is at", f"rig.{kind}.{k}.node")
    for k, anchor in enumerate(rig.anchors):
        if not any(skeleton.supports.get(anchor.node, (False,))[:3]):
            raise Refused(
                f"Anchor {anchor.id} is at {anchor.node}, which the skeleton does not hold: an anchor's node is held.",
                field=f"rig.anchors.{k}.node",
                value=anchor.node,
            )
    for k, tie in enumerate(rig.ties):
        for end, node in enumerate(tie.nodes):
            _node_checked(skeleton, node, f"{tie.id} is put on at", f"rig.ties.{k}.nodes.{end}")
        if skeleton.nodes[tie.nodes[0]] == skeleton.nodes[tie.nodes[1]]:
            raise Refused(
                f"{tie.id} is put on between {tie.nodes[0]} and {tie.nodes[1]}: a tie is between two different places.",
                field=f"rig.ties.{k}.nodes",
                value=list(tie.nodes),
            )


def _once(kind: str, ids: Sequence[str]) -> None:
    for k, name in enumerate(ids):
        if name in ids[:k]:
            raise Refused(f"{name} stands there twice among the {kind}.", field=f"rig.{kind}.{k}.id", value=name)


def _node_checked(skeleton: Skeleton, node: str, is_at: str, field: str) -> None:
    if node not in skeleton.nodes:
        raise Refused(f"{is_at} {node}, which is not a node of the skeleton.", field=field, value=node)


def _told(request: PlanPulls, game: Game, plan: Played) -> PullsPlanned:
    """Return a played plan in words and figures."""
    pulls = tuple(_pull_told(game, pull) for pull in plan.pulls)
    fair = game.fair(plan.deviations)
    predicted = {
        code: Predicted(deviation=row, fair=bool(ok))
        for (code, row), ok in zip(_rows(game.codes, plan.deviations).items(), fair, strict=True)
    }
    uses = [chain.use for pull in pulls for chain in pull.chains]
    uses += [use for pull in pulls for use in pull.anchors.values()]
    tie_uses = [_tie_uses(game, pull) for pull in plan.pulls]
    uses += [use for of in tie_uses for use in of.values()]
    unseen = _off_without_node(request, game)
    verdict: Verdict = "complete" if fair.all() and not unseen else "partial" if pulls else "none"
    return PullsPlanned(
        verdict=verdict,
        pulls=pulls,
        predicted=predicted,
        worst_use=max(uses, default=0.0),
        cautions=tuple(_cautions(pulls, tie_uses, predicted, unseen)),
    )


def _pull_told(game: Game, pull: PlayedPull) -> PlannedPull:
    return PlannedPull(
        mode=MODES[pull.mode],
        chains=tuple(_chain_told(chain, chain.force / game.rig.limit(chain)) for chain in pull.chains),
        anchors=dict(pull.anchors),
        loaded=_rows(game.codes, pull.loaded),
        free=_rows(game.codes, pull.free),
        ties=tuple(pull.ties),
        tie_forces_n=dict(pull.ties),
    )


def _chain_told(chain: Chain, use: float) -> PlannedChain | PlannedInside:
    if chain.inside:
        return PlannedInside(hook=chain.hook, machine=chain.tower, force_n=chain.force, use=use)
    return PlannedChain(hook=chain.hook, tower=chain.tower, height_mm=chain.height, force_n=chain.force, use=use)


def _tie_uses(game: Game, pull: PlayedPull) -> dict[str, float]:
    """Return the largest use of each tie on the way up."""
    return {tie: max(map(abs, carried)) / game.rig.ties[tie].capacity_n for tie, carried in pull.ties.items()}


def _off_without_node(request: PlanPulls, game: Game) -> list[str]:
    known, points = set(game.codes), points_by_code(request.sheet)
    return [
        code
        for code, read in request.points.items()
        if code not in known
        and any(
            abs(a - b) > limit
            for a, b, limit in zip(read.xyz, points[code].xyz, tolerances(request.sheet, points[code]), strict=True)
        )
    ]


def _cautions(
    pulls: Sequence[PlannedPull],
    tie_uses: Sequence[dict[str, float]],
    predicted: dict[str, Predicted],
    unseen: Sequence[str],
) -> list[str]:
    words = [
        f"Pull {number}: {chain.hook} to {chain.tower} takes {chain.use:.0%} of what it can."
        for number, pull in enumerate(pulls, 1)
        for chain in pull.chains
        if chain.use > _NEAR_LIMIT
    ]
    words += [
        f"Pull {number}: tie {tie} carries {use:.0%} of what it can."
        for number, uses in enumerate(tie_uses, 1)
        for tie, use in uses.items()
        if use > _NEAR_LIMIT
    ]
    words += [
        f"Pull {number}: anchor {anchor} carries {use:.0%} of what it can."
        for number, pull in enumerate(pulls, 1)
        for anchor, use in pull.anchors.items()
        if use > _NEAR_LIMIT
    ]
    off = [code for code, point in predicted.items() if not point.fair]
    if off and pulls:
        words.append(f"Still off at the end: {', '.join(off)}.")
    if off and not pulls:
        words.append(
            f"No pull of this rig was found that helps {', '.join(off)}: look at hooks, towers and what is held."
        )
    if unseen:
        words.append(f"Off, and on no node of the skeleton, so the plan says nothing of it: {', '.join(unseen)}.")
    return words


def _rows(codes: Sequence[str], deviations: Floats) -> dict[str, tuple[float, float, float]]:
    return {code: (float(x), float(y), float(z)) for code, (x, y, z) in zip(codes, deviations, strict=True)}
