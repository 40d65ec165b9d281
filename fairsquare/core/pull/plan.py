"""The pull plan: which chains to set, which way, how high and how hard, in which order, so that points end within tolerance."""

from collections.abc import Mapping, Sequence
from types import MappingProxyType
from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Millimetres, Model, Row3, Vector
from fairsquare.core.pull.game import NO_LIMITS, Chain, Game, Limits, Played, PlayedPull, Rig
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


class PullRig(Model):
    """What there is to pull with and to hold by."""

    towers: Many[Tower]
    hooks: Many[AtNode]
    anchors: Many[AtNode]


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


class PlannedPull(Model):
    """One pull: what it mainly undoes, its chains, what anchors carry of their capacity, and every deviation loaded and free."""

    mode: PullMode
    chains: Many[PlannedChain]
    anchors: dict[str, float]
    loaded: dict[str, Row3]
    free: dict[str, Row3]


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
    game = game_of(request, limits=limits)
    plan = found_plan(game, request.school, request.max_pulls)
    return _told(request, game, plan)


def play_pulls(
    request: PlanPulls,
    pulls: Sequence[Sequence[Chain]],
    machines: Mapping[str, tuple[str, bool, float]] | None = None,
) -> PullsPlanned:
    """Return what pulls that a person set do, played in their order, whatever rule of a plan they break.

    `machines` bear on the vehicle itself: by name the node, whether they push or draw, and what they take (see `Rig`).
    """
    game = game_of(request, machines or {})
    return _told(request, game, game.play([tuple(chains) for chains in pulls]))


def game_of(
    request: PlanPulls,
    machines: Mapping[str, tuple[str, bool, float]] = MappingProxyType({}),
    limits: Limits = NO_LIMITS,
) -> Game:
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
            machines=dict(machines),
        ),
        limits=limits,
    )


def _rig_checked(request: PlanPulls) -> None:
    rig, skeleton = request.rig, request.skeleton
    names = {
        "towers": [tower.id for tower in rig.towers],
        "hooks": [hook.id for hook in rig.hooks],
        "anchors": [anchor.id for anchor in rig.anchors],
    }
    for kind, ids in names.items():
        for k, name in enumerate(ids):
            if name in ids[:k]:
                raise Refused(f"{name} stands there twice among the {kind}.", field=f"rig.{kind}.{k}.id", value=name)
    for k, tower in enumerate(rig.towers):
        if tower.z[0] > tower.z[1]:
            raise Refused(
                f"Tower {tower.id} goes from {tower.z[0]:g} mm to {tower.z[1]:g} mm: the lower height comes first.",
                field=f"rig.towers.{k}.z",
                value=tower.z,
            )
    for kind, at_nodes in (("hooks", rig.hooks), ("anchors", rig.anchors)):
        for k, at_node in enumerate(at_nodes):
            if at_node.node not in skeleton.nodes:
                raise Refused(
                    f"{at_node.id} is at {at_node.node}, which is not a node of the skeleton.",
                    field=f"rig.{kind}.{k}.node",
                    value=at_node.node,
                )
            if kind == "anchors" and not any(skeleton.supports.get(at_node.node, ())[:3]):
                raise Refused(
                    f"Anchor {at_node.id} is at {at_node.node}, which the skeleton does not hold: an anchor's node is held.",
                    field=f"rig.anchors.{k}.node",
                    value=at_node.node,
                )


def _told(request: PlanPulls, game: Game, plan: Played) -> PullsPlanned:
    """Return a played plan in words and figures."""
    pulls = tuple(_pull_told(game, pull) for pull in plan.pulls)
    fair = game.fair(plan.deviations)
    predicted = {
        code: Predicted(deviation=row, fair=bool(ok))
        for (code, row), ok in zip(_rows(game.codes, plan.deviations).items(), fair, strict=True)
    }
    uses = [chain.use for pull in pulls for chain in pull.chains] + [
        use for pull in pulls for use in pull.anchors.values()
    ]
    unseen = _off_without_node(request, game)
    verdict: Verdict = "complete" if fair.all() and not unseen else "partial" if pulls else "none"
    return PullsPlanned(
        verdict=verdict,
        pulls=pulls,
        predicted=predicted,
        worst_use=max(uses, default=0.0),
        cautions=tuple(_cautions(pulls, predicted, unseen)),
    )


def _pull_told(game: Game, pull: PlayedPull) -> PlannedPull:
    return PlannedPull(
        mode=MODES[pull.mode],
        chains=tuple(
            PlannedChain(
                hook=chain.hook,
                tower=chain.tower,
                height_mm=chain.height,
                force_n=chain.force,
                use=chain.force / game.rig.limit(chain),
            )
            for chain in pull.chains
        ),
        anchors=dict(pull.anchors),
        loaded=_rows(game.codes, pull.loaded),
        free=_rows(game.codes, pull.free),
    )


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


def _cautions(pulls: Sequence[PlannedPull], predicted: dict[str, Predicted], unseen: Sequence[str]) -> list[str]:
    words = [
        f"Pull {number}: {chain.hook} to {chain.tower} takes {chain.use:.0%} of what it can."
        for number, pull in enumerate(pulls, 1)
        for chain in pull.chains
        if chain.use > _NEAR_LIMIT
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
