"""The pulls of a job: how the vehicle is held and pulled, the plan, and what was done of it, worked out from the facts."""

from collections.abc import Callable, Mapping, Sequence
from functools import lru_cache
from typing import Literal, NamedTuple

import numpy as np
from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Model, Row3
from fairsquare.core.pull.game import Chain
from fairsquare.core.pull.plan import (
    AtNode,
    PlanPoint,
    PlanPulls,
    PlanSkeleton,
    PullMachine,
    PullMode,
    PullRig,
    PullsPlanned,
    PullTie,
    School,
    play_pulls,
)
from fairsquare.core.pull.plan import Tower as PlanTower
from fairsquare.core.pull.setting import Machine, PlacedHook, Setting, frame_of_setting
from fairsquare.core.pull.springback import Cycle, NextPull, Prior, PullAdvised, let_go_at, next_pull, with_room
from fairsquare.core.pull.statics import Anchor, Pull, PullsHeld, PullStatics, Vehicle, pull_statics
from fairsquare.core.said import Said, say
from fairsquare.core.sheet.model import Sheet, partner_code, points_by_code, points_by_first_code, tolerances
from fairsquare.core.structure.skeleton import Skeleton

Purpose = Literal["straighten", "reach", "try"]
PURPOSES: dict[Purpose, str] = {
    "straighten": "to straighten",
    "reach": "to reach or free something",
    "try": "to try, and see what moves",
}
HARM_MM = 0.25
"""A point that ends this much farther beyond its tolerance than it was has been made worse: less is rounding."""
UNKNOWN_N = 1e9
"""Stands for a capacity that nobody knows, where a calculation needs a number: never shown, and a caution goes with it."""
FIRST_RETURN = Prior(return_mm=8.0, sigma_mm=4.0)
"""What comes back where the frame tells nothing of it: wide, for the stop is only as good as it. Common practice, no source."""
_RETURN_SIGMA_MM, _RETURN_SHARE, _LEARNED_SHARE = 2.0, 0.25, 0.12
"""How sure the frame is of what comes back: 2 mm at least, and a quarter of it, or an eighth once something was learned. Ours, of
pulls simulated with metal other than the sections say; no source."""
HAND_MM = 1.5
"""How far a stroke of the pump carries a point beyond where one meant to stop. Common practice, no source."""
_SCATTER_SIGMAS = 2.0
"""A reading says that a limit is passed when it is not, in some 2 of 100 readings that far below it."""
_WORTH_WATCHING_MM, _WORTH_SHARE = 0.3, 0.3

JACK_CAUTIONS: tuple[tuple[str, str], ...] = (
    ("jack_line", "Jack in line with both places, on plates that bear and cannot slide: it can kick out"),
    ("jack_clear", "Nobody over, under or beside a jack under load, no hand near it, and nothing hangs over it"),
)
PULLER_CAUTION = (
    "puller",
    "Puller’s chain straight, hooks closed, both places looked at: what it bears on is pulled as hard",
)
TIE_CAUTION = ("ties", "Ties bolted home at both ends, finger tight, nobody astride: they carry while it is pulled")
"""Ticked besides where a pull bears on the vehicle itself, or ties it. Common practice, no source."""

CAUTIONS: tuple[tuple[str, str], ...] = (
    ("line", "Nobody in line with a chain, or astride it"),
    ("cover", "Restraint cable or blanket over every chain"),
    ("clear", "The shaded ground is clear, and stays so"),
    ("stands", "Vehicle on stands, clamps tight, stands bear"),
    ("hooks", "Hooks, clamps and tabs looked at, none home-made without a known limit"),
    ("eyes", "Eyes, hands and ears protected; who pumps can see who measures"),
)
"""Ticked by hand before the first tension of each pull. Common practice, no source."""
EVERY_CAUTION = (*CAUTIONS, *JACK_CAUTIONS, PULLER_CAUTION, TIE_CAUTION)


class ChainSet(Model):
    """A chain of a pull: hook, tower, height at the tower in mm, force in N."""

    hook: Code
    tower: Code
    height_mm: float
    force_n: float = Field(gt=0)


class WorkPull(Model):
    """One pull as it is to be made: what for, its chains, the ties that are put on for it, what comes off first and the hours for
    that, what is cleaned before.

    `past_mm` sets the target that much past the sheet along the pull, on purpose, for the reason in `past_reason`.
    """

    purpose: Purpose = "straighten"
    chains: Many[ChainSet]
    ties: Many[Code] = ()
    first_off: str = Field(default="", max_length=300)
    first_hours: float | None = Field(default=None, ge=0, le=1000)
    body_off: bool = False
    clean: str = Field(default="", max_length=300)
    words: str = Field(default="", max_length=500)
    past_mm: float = Field(default=0.0, ge=-50, le=50)
    past_reason: str = Field(default="", max_length=500)


class PlanSaid(Model):
    """The plan as a person keeps it: the school whose order is followed, and the pulls in their order.

    `title`: what the search found it by, empty for a person's own. `overpull_reason`: why points may be drawn farther past where
    they belong than common practice has it.
    """

    school: School
    pulls: Many[WorkPull]
    title: str = Field(default="", max_length=300)
    overpull_reason: str = Field(default="", max_length=500)


class PlanSeen(NamedTuple):
    """A plan played through the frame, whether it holds pull by pull, and the rules that it breaks, in words by pull."""

    played: PullsPlanned
    held: tuple[PullsHeld | None, ...]
    broken: tuple[tuple[Said | str, ...], ...]


def plan_request(sheet: Sheet, places: Mapping[str, Row3], setting: Setting, school: School) -> PlanPulls:
    """Return the request that plans the pulls of a job from where points stand. Raises `Refused` for what does not fit together."""
    if not places:
        raise Refused(
            "Nothing is measured yet: a plan runs the damage backwards, so read the points first.",
            field="points",
            value={},
        )
    skeleton = frame_of_setting(sheet, setting)
    hooks = [hook for hook in setting.hooks if hook.code in skeleton.nodes]
    drawn = {anchor.code for anchor in setting.anchors if anchor.kind != "stand"}
    return PlanPulls(
        sheet=sheet,
        points={code: PlanPoint(xyz=place) for code, place in places.items()},
        skeleton=PlanSkeleton(
            nodes=skeleton.nodes,
            members=skeleton.members,
            sections=skeleton.sections,
            supports=skeleton.supports,
            codes={code: code for code in skeleton.nodes if code in places},
        ),
        rig=PullRig(
            towers=tuple(
                PlanTower(id=t.id, at=t.at, z=t.z, capacity_n=t.capacity_n or UNKNOWN_N) for t in setting.towers
            ),
            hooks=tuple(AtNode(id=h.id, node=h.code, capacity_n=h.capacity_n or UNKNOWN_N) for h in hooks),
            anchors=tuple(
                AtNode(id=a.id, node=a.code, capacity_n=a.capacity_n or UNKNOWN_N)
                for a in setting.anchors
                if a.kind != "stand" or a.code not in drawn
            ),
            machines=tuple(
                PullMachine(
                    id=m.id,
                    kind="jack" if m.pushes else "puller",
                    node=m.bears_on,
                    capacity_n=min(m.capacity_n or UNKNOWN_N, m.bears_capacity_n or UNKNOWN_N),
                )
                for m in setting.machines
                if m.bears_on in skeleton.nodes
            ),
            ties=tuple(
                PullTie(id=tie.id, nodes=tie.between, capacity_n=tie.capacity_n or UNKNOWN_N, ea_n=tie.ea_n)
                for tie in setting.ties
                if set(tie.between) <= skeleton.nodes.keys()
            ),
        ),
        school=school,
    )


def seen_plan(request: PlanPulls, setting: Setting, plan: PlanSaid) -> PlanSeen:
    """Return what a person's plan does, pull by pull, and which rules it breaks. Raises `Refused` for a hook or tower that
    is not there."""
    _known(setting, plan)
    played = play_pulls(request, [(chains_of(setting, work), work.ties) for work in plan.pulls])
    held: list[PullsHeld | None] = []
    broken: list[tuple[Said | str, ...]] = []
    for number, work in enumerate(plan.pulls):
        statics, words = will_hold(request.skeleton, setting, work)
        held.append(statics)
        broken.append((*words, *_rules(request, setting, plan, played, number)))
    return PlanSeen(played, tuple(held), tuple(broken))


def chains_of(setting: Setting, work: WorkPull, forces: Mapping[str, float] | None = None) -> tuple[Chain, ...]:
    """Return the chains of a pull as they are played: those that were read pull with `forces` (N) by tower or machine, others as
    planned."""
    inside = {machine.id for machine in setting.machines}
    return tuple(
        Chain(c.hook, c.tower, c.height_mm, (forces or {}).get(c.tower, c.force_n), c.tower in inside)
        for c in work.chains
    )


def set_there(setting: Setting, work: WorkPull) -> bool:
    """Say whether everything that a pull is made by is in a setting."""
    hooks = {hook.id for hook in setting.hooks}
    by = {tower.id for tower in setting.towers} | {machine.id for machine in setting.machines}
    return all(chain.hook in hooks and chain.tower in by for chain in work.chains) and {
        tie.id for tie in setting.ties
    } >= set(work.ties)


def harm_of(sheet: Sheet, stands: Mapping[str, Row3], played: PullsPlanned) -> tuple[Said, ...]:
    """Return the points that a plan leaves worse than they stand (deviations, mm): farther beyond tolerance, or out of it."""
    points = points_by_code(sheet)
    words = []
    for code, point in played.predicted.items():
        limits = np.array(tolerances(sheet, points[code]))
        before, after = (
            float(np.maximum(np.abs(by) - limits, 0.0).sum())
            for by in (np.array(stands[code]), np.array(point.deviation))
        )
        if after > before + HARM_MM:
            worse = (
                say("points.by", code=code, by_mm=after - before) if before > 0 else say("points.spoiled", code=code)
            )
            words.append(worse)
    return tuple(words)


def will_hold(skeleton: Skeleton, setting: Setting, work: WorkPull) -> tuple[PullsHeld | None, tuple[str, ...]]:
    """Return the statics of one pull on its anchors, or none and why in words: the vehicle is not held."""
    try:
        return pull_statics(statics_request(skeleton, setting, work)), ()
    except Refused as refused:
        return None, (refused.title,)


def undone_sense(sheet: Sheet, before: Mapping[str, Row3], after: Mapping[str, Row3], mode: PullMode) -> float:
    """Return how much of a mode a pull takes away, mm, with the sign of the mode (see `read-damage`): positive where it was short,
    left fore, to the left, apart, high, left high."""
    points = points_by_first_code(sheet)
    known = [point.xyz[0] for point in sheet.points if point.reference] or [point.xyz[0] for point in sheet.points]
    middle, total = float(np.mean(known)), 0.0
    for code, left in points.items():
        other = partner_code(left)
        if left.xyz[1] <= 0 or other is None or not {code, other} <= before.keys() & after.keys():
            continue
        gone_left, gone_right = np.subtract(before[code], after[code]), np.subtract(before[other], after[other])
        end = 1.0 if left.xyz[0] >= middle else -1.0
        together, apart = (gone_left + gone_right) / 2, gone_left - gone_right
        total += {
            "mash": -end * together[0],
            "skew": apart[0],
            "sway": together[1],
            "spread": apart[1],
            "rise": together[2],
            "twist": apart[2],
        }[mode]
    return float(total)


def works_hardest(held: PullsHeld | None, work: WorkPull) -> tuple[str, float] | None:
    """Return what works hardest in a pull as planned, of anchors and chains alike, and its use; None where no limit is known."""
    if held is None:
        return None
    uses = {name: anchor.use for name, anchor in held.anchors.items() if anchor.use is not None}
    for number, chain in enumerate(work.chains, 1):
        use = held.pulls[f"chain {number}"].use
        if use is not None:
            uses[f"{chain.hook} to {chain.tower}"] = use
    return max(uses.items(), key=lambda use: use[1], default=None)


def cautions_of(setting: Setting | None, work: WorkPull) -> tuple[tuple[str, str], ...]:
    """Return what is ticked by hand before the first tension of a pull, by name and in words."""
    by = {chain.tower for chain in work.chains}
    used = [machine for machine in setting.machines if machine.id in by] if setting else []
    more = list(JACK_CAUTIONS) if any(machine.pushes for machine in used) else []
    more += [PULLER_CAUTION] if any(not machine.pushes for machine in used) else []
    return (*CAUTIONS, *more, *((TIE_CAUTION,) if work.ties else ()))


def statics_request(skeleton: Skeleton, setting: Setting, work: WorkPull) -> PullStatics:
    """Return the request of the statics of one pull."""
    nodes = skeleton.nodes
    towers = {tower.id: tower for tower in setting.towers}
    hooks = {hook.id: hook for hook in setting.hooks}
    machines = {machine.id: machine for machine in setting.machines}
    pulls = []
    for number, chain in enumerate(work.chains, 1):
        hook = hooks[chain.hook]
        if chain.tower in machines:
            pulls.append(_by_machine(f"chain {number}", nodes, hook, machines[chain.tower], chain.force_n))
            continue
        tower = towers[chain.tower]
        limits = [limit for limit in (hook.capacity_n, tower.capacity_n) if limit is not None]
        pulls.append(
            Pull(
                id=f"chain {number}",
                hook=nodes[hook.code],
                tower=(*tower.at, chain.height_mm),
                force_n=chain.force_n,
                capacity_n=min(limits, default=None),
            )
        )
    return PullStatics(
        vehicle=Vehicle(mass_kg=setting.mass_kg, cg=setting.cg),
        pulls=tuple(pulls),
        anchors=tuple(
            Anchor(
                id=a.id, at=nodes[a.code], kind=a.kind, stiffness=a.stiffness, toward=a.toward, capacity_n=a.capacity_n
            )
            for a in setting.anchors
            if a.code in nodes
        ),
    )


def _by_machine(name: str, nodes: Mapping[str, Row3], hook: PlacedHook, machine: Machine, force_n: float) -> Pull:
    """Return the pull of a machine that bears on the vehicle: a jack pushes to a place beyond the hook."""
    place, bears = nodes[hook.code], nodes[machine.bears_on]
    beyond = tuple(2 * a - b for a, b in zip(place, bears, strict=True))
    limits = [limit for limit in (hook.capacity_n, machine.capacity_n) if limit is not None]
    return Pull(
        id=name,
        hook=place,
        tower=(beyond[0], beyond[1], beyond[2]) if machine.pushes else bears,
        force_n=force_n,
        capacity_n=min(limits, default=None),
        reacts_at=bears,
        reacts_capacity_n=machine.bears_capacity_n,
    )


def _known(setting: Setting, plan: PlanSaid) -> None:
    hooks = {hook.id for hook in setting.hooks}
    towers = {tower.id for tower in setting.towers} | {machine.id for machine in setting.machines}
    bears = {machine.id: machine.bears_on for machine in setting.machines}
    at = {hook.id: hook.code for hook in setting.hooks}
    for number, work in enumerate(plan.pulls):
        if not work.chains:
            raise Refused(f"Pull {number + 1} has no chain.", field=f"pulls.{number}.chains", value=[])
        for k, tie in enumerate(work.ties):
            if tie not in {one.id for one in setting.ties}:
                raise Refused(
                    f"Pull {number + 1}: there is no tie “{tie}” in the setting.",
                    field=f"pulls.{number}.ties.{k}",
                    value=tie,
                )
        for k, chain in enumerate(work.chains):
            for name, known, value in (("hook", hooks, chain.hook), ("tower", towers, chain.tower)):
                if value not in known:
                    raise Refused(
                        f"Pull {number + 1}: there is no {name} “{value}” in the setting.",
                        field=f"pulls.{number}.chains.{k}.{name}",
                        value=value,
                    )
            if bears.get(chain.tower) == at[chain.hook]:
                raise Refused(
                    f"Pull {number + 1}: {chain.tower} bears where its hook is: it would do nothing.",
                    field=f"pulls.{number}.chains.{k}.tower",
                    value=chain.tower,
                )


def _rules(request: PlanPulls, setting: Setting, plan: PlanSaid, played: PullsPlanned, number: int) -> list[Said | str]:
    """Return the rules of a plan that a pull breaks, and the cautions that go with unknown gear."""
    work, done = plan.pulls[number], played.pulls[number]
    towers = [chain.tower for chain in work.chains]
    words: list[Said | str] = [
        f"{chain.hook} to {chain.tower}: {chain.force_n / 1000:.0f} kN is more than it takes."
        for chain in done.chains
        if chain.use > 1
    ]
    words += [f"{anchor} carries {use:.0%} of what it can." for anchor, use in done.anchors.items() if use > 1]
    ties = {tie.id: tie.capacity_n for tie in setting.ties}
    words += [
        f"{tie} carries {max(map(abs, carried)) / 1000:.0f} kN, more than it takes."
        for tie, carried in done.tie_forces_n.items()
        if max(map(abs, carried)) > (ties[tie] or UNKNOWN_N)
    ]
    if len(set(towers)) < len(towers):
        words.append("One tower draws two chains at once.")
    reach = {tower.id: tower.z for tower in setting.towers}
    for machine in setting.machines:
        drawn = sum(chain.force_n for chain in work.chains if chain.tower == machine.id)
        if machine.bears_capacity_n and drawn > machine.bears_capacity_n:
            words.append(f"{machine.bears_on}, where {machine.id} bears, is asked for more than it takes.")
    words += [
        say("plan.out_of_reach", tower=chain.tower, height_mm=chain.height_mm)
        for chain in work.chains
        if chain.tower in reach and not reach[chain.tower][0] - 1e-6 <= chain.height_mm <= reach[chain.tower][1] + 1e-6
    ]
    if number and plan.school == "reverse" and _order(done.mode) < _order(played.pulls[number - 1].mode):
        words.append(f"Out of order: {done.mode} is undone before {played.pulls[number - 1].mode}.")
    elif number and plan.school == "outward":
        nearer = _distance(setting, request, plan.pulls[number - 1]) - _distance(setting, request, work)
        if nearer > 1:
            words.append(
                "Out of order: from the middle outward, this pull is nearer to the middle than the one before."
            )
    return [*words, *_unknown_gear(setting, work)]


def _unknown_gear(setting: Setting, work: WorkPull) -> list[str]:
    """Return a loud caution for each hook and tower of a pull of which nobody knows what it takes."""
    hooks, towers = {chain.hook for chain in work.chains}, {chain.tower for chain in work.chains}
    unknown = [hook.id for hook in setting.hooks if hook.capacity_n is None and hook.id in hooks]
    unknown += [f"tower {tower.id}" for tower in setting.towers if tower.capacity_n is None and tower.id in towers]
    used = [machine for machine in setting.machines if machine.id in towers]
    unknown += [anchor.id for anchor in used if anchor.capacity_n is None]
    unknown += [f"tie {tie.id}" for tie in setting.ties if tie.capacity_n is None and tie.id in work.ties]
    unknown += [f"{anchor.bears_on}, where {anchor.id} bears," for anchor in used if anchor.bears_capacity_n is None]
    return [
        f"NOBODY KNOWS WHAT {name.upper()} TAKES. Home-made or unknown gear: find its limit, or use another."
        for name in unknown
    ]


def _order(mode: PullMode) -> int:
    return ("twist", "skew", "mash", "rise", "sway", "spread").index(mode)


def _distance(setting: Setting, request: PlanPulls, work: WorkPull) -> float:
    nodes = request.skeleton.nodes
    middle = float(np.mean([nodes[a.code][0] for a in setting.anchors])) if setting.anchors else 0.0
    at = {hook.id: nodes[hook.code][0] for hook in setting.hooks if hook.code in nodes}
    bears = {machine.id: nodes[machine.bears_on][0] for machine in setting.machines if machine.bears_on in nodes}
    xs = [at[chain.hook] for chain in work.chains] + [bears[c.tower] for c in work.chains if c.tower in bears]
    return float(np.mean([abs(x - middle) for x in xs]))


# ── the board ────────────────────────────────────────────────────────────────

BoardState = Literal[
    "cautions", "test", "look", "pulling", "hold", "relieve", "let_go", "read_free", "stopped", "ended"
]
UNDER_LOAD: frozenset[BoardState] = frozenset({"test", "look", "pulling", "hold", "relieve", "stopped"})
"""States in which chains are, or may be, tight."""
BOARD_WORDS: dict[BoardState, str] = {
    "cautions": "Before the first tension",
    "test": "Light test pull",
    "look": "Look again at every clamp",
    "pulling": "Pull on, slowly",
    "hold": "Hold",
    "relieve": "Relieve the buckle",
    "let_go": "Let go",
    "read_free": "Read free",
    "stopped": "Stop",
    "ended": "Pull ended",
}


class Watched(Model):
    """A point that is watched along the pull (`way`, a unit vector): mm from the sheet along it, + the way it goes.

    `return_mm` ± `return_sigma_mm` is what it is expected to give back when it is let go, before it has been pulled once: what the
    frame says, times what the structure `learned` us of that share in the pulls before; `basis` says so in words.

    The first cycle goes `first_share` of the way: a frame that nobody has proven is tried with little.
    """

    code: Code
    way: Row3
    target_mm: float
    tolerance_mm: float
    was_mm: float
    return_mm: float = FIRST_RETURN.return_mm
    return_sigma_mm: float = FIRST_RETURN.sigma_mm
    learned: float = 1.0
    basis: str = ""
    first_share: float = 1.0


FIRST_SHARE = 0.5
"""The first pull of a frame that nobody has proven goes half the way. Common practice, no source."""


def first_tried(watched: tuple[Watched, ...], setting: Setting, *, proven: bool) -> tuple[Watched, ...]:
    """Return what is watched so that a frame of which sections are assumed is tried with little first, until it is `proven`."""
    if proven or not setting.assumed:
        return watched
    return tuple(point.model_copy(update={"first_share": FIRST_SHARE}) for point in watched)


class SharePast(NamedTuple):
    """What the shop's past says of the share that comes back of what a frame says: mean, sigma, in how many jobs, of what kind."""

    mean: float
    sigma: float
    jobs: int
    of: str


class PointCycle(Model):
    """What one cycle did to a watched point, mm along the pull. `loaded_mm` None: nobody can say (a clamp slipped, no reading), and
    nothing is learned from it."""

    code: Code
    before_mm: float
    loaded_mm: float | None = None
    after_mm: float


class AfterPull(Model):
    """What was looked for after a pull: heat (°C and minutes, None: none), the dolly, stress relief, cracks, seams, the
    dye test."""

    heat_c: float | None = Field(default=None, ge=0, le=1500)
    heat_min: float | None = Field(default=None, ge=0, le=600)
    dolly: bool = False
    relieved: bool = False
    cracks: str = Field(default="", max_length=500)
    seams: str = Field(default="", max_length=500)
    dye_test: Literal["", "clear", "found"] = ""
    words: str = Field(default="", max_length=500)


def watched_points(
    sheet: Sheet,
    places: Mapping[str, Row3],
    work: WorkPull,
    played: PullsPlanned,
    number: int,
    most: int = 3,
    learned: float | None = None,
    past: Callable[[str], SharePast | None] = lambda _: None,
) -> tuple[Watched, ...]:
    """Return the points that matter most in a pull: those off that it brings farthest on their way home, along the way they go.

    Along that way a point is home where it comes nearest to where it belongs: what is across it is for other pulls. A point
    that goes all but across what it is off by is watched along its own way home. Points that a pull hardly brings nearer are
    not waited for. Where it brings none nearer, those that it moves farthest. `learned` is what the structure has given back so
    far as a share of what the frame said; None: nothing is known of that yet, and the shop's `past` tells of a point by its
    code, where it has one.
    """
    points = points_by_code(sheet)
    free = played.pulls[number].free
    stands = {code: np.subtract(places[code], points[code].xyz) for code in free}
    before = {code: np.array(xyz) for code, xyz in played.pulls[number - 1].free.items()} if number else stands
    moves = {code: np.subtract(free[code], before[code]) for code in free}
    sizes = {code: float(np.linalg.norm(move)) for code, move in moves.items()}
    off = [code for code, now in stands.items() if (np.abs(now) > tolerances(sheet, points[code])).any()]
    nearer = {code: float(np.linalg.norm(before[code]) - np.linalg.norm(free[code])) for code in off if sizes[code] > 0}
    worth = max(_WORTH_WATCHING_MM, _WORTH_SHARE * max(nearer.values(), default=0.0))
    chosen = sorted((code for code in nearer if nearer[code] > worth), key=lambda code: -nearer[code])
    if not chosen:
        chosen = sorted((code for code in moves if sizes[code] > _WORTH_WATCHING_MM), key=lambda code: -sizes[code])
    homeward = {code: -stands[code] / np.linalg.norm(stands[code]) for code in off}
    ways = {code: moves[code] / sizes[code] for code in chosen}
    for code, way in ways.items():  # where it hardly goes the way that it is off, what is wanted is watched
        limits = np.array(tolerances(sheet, points[code]))
        if code in homeward and abs(float(stands[code] @ way)) <= _tolerance_along(limits, way):
            ways[code] = homeward[code]
    loaded = played.pulls[number].loaded
    ways = ways or homeward or _drawn_along(before, loaded)
    back = {code: max(0.0, float(np.subtract(loaded[code], free[code]) @ way)) for code, way in ways.items()}
    shares = {code: _share(learned, past(code)) for code in ways}
    return tuple(
        Watched(
            code=code,
            way=(float(way[0]), float(way[1]), float(way[2])),
            target_mm=work.past_mm,
            tolerance_mm=_tolerance_along(np.array(tolerances(sheet, points[code])), way),
            was_mm=float(stands[code] @ way),
            return_mm=shares[code][0] * back[code],
            return_sigma_mm=max(_RETURN_SIGMA_MM, shares[code][1] * back[code]),
            learned=shares[code][0],
            basis=shares[code][2],
        )
        for code, way in list(ways.items())[:most]
    )


def _drawn_along(before: Mapping[str, np.ndarray], loaded: Mapping[str, Row3]) -> dict[str, np.ndarray]:
    """Return the way in which the two points go that are drawn farthest, where a pull leaves everything as it was."""
    drawn = {code: np.subtract(loaded[code], before[code]) for code in loaded}
    sizes = {code: float(np.linalg.norm(move)) for code, move in drawn.items()}
    most = sorted((code for code, size in sizes.items() if size > 0), key=lambda code: -sizes[code])[:2]
    return {code: drawn[code] / sizes[code] for code in most}


def _share(learned: float | None, past: SharePast | None) -> tuple[float, float, str]:
    """Return what comes back as a share of what the frame says, how sure that is, and by what, in words."""
    if learned is not None:
        return learned, _LEARNED_SHARE, f"by calculation, times {learned:.2f} as this structure has given back so far"
    if past is not None:
        seen = f"{past.jobs} job{'' if past.jobs == 1 else 's'}"
        words = f"by calculation, times {past.mean:.2f} as {past.of} did in {seen} of this shop"
        return past.mean, max(past.sigma, _LEARNED_SHARE), words
    return 1.0, _RETURN_SHARE, "by calculation alone: nothing like it was pulled here before"


def _tolerance_along(limits: np.ndarray, way: np.ndarray) -> float:
    """Return how far a point may be along a way before one of its coordinates is out of tolerance, mm; at least 0.5."""
    return max(0.5, float(np.min(limits / np.maximum(np.abs(way), 1e-3))))


def along(watched: Watched, sheet: Sheet, place: Row3) -> float:
    """Return how far past the sheet a place is along a watched point's way, mm."""
    return float(np.subtract(place, points_by_code(sheet)[watched.code].xyz) @ np.array(watched.way))


def _should_have_yielded(watched: Watched, own: Sequence[Cycle]) -> bool:
    """Say whether pulls that brought nothing went farther than what is given back by all that is known of it.

    Only then something is stuck, and is relieved before more force. Pulls that were let go before the metal could yield, because so
    little was known of what it gives back, have taught just that: the next goes farther.
    """
    strokes = [cycle.loaded - cycle.before for cycle in own[-2:]]
    return max(strokes, default=0.0) > watched.return_mm + 2.0 * watched.return_sigma_mm


@lru_cache(maxsize=256)
def _advised(request: NextPull) -> PullAdvised:
    return with_room(request, next_pull(request), room_mm(request.reading_sigma_mm))


def room_mm(sigma: float = 0.3) -> float:
    """Return how far below what it must not pass a point is let go: what a hand at the pump and the readings scatter, mm."""
    return HAND_MM + _SCATTER_SIGMAS * sigma


def advice_for(watched: Watched, now_mm: float, cycles: Sequence[PointCycle], sigma: float = 0.3) -> PullAdvised:
    """Return how far to pull a watched point now, from the cycles that it has been through in this job.

    It is let go below what it must not pass by at least what a hand at the pump and the readings scatter.
    """
    own = tuple(
        Cycle(before=c.before_mm, loaded=max(c.loaded_mm, c.before_mm), after=c.after_mm)
        for c in cycles
        if c.code == watched.code and c.loaded_mm is not None
    )
    request = NextPull(
        target_mm=watched.target_mm,
        tolerance_mm=watched.tolerance_mm,
        now_mm=now_mm,
        prior=Prior(return_mm=watched.return_mm, sigma_mm=watched.return_sigma_mm),
        reading_sigma_mm=sigma,
        cycles=own,
    )
    advised = _advised(request)
    if advised.advice == "relieve" and not _should_have_yielded(watched, own):
        farther = min(watched.target_mm + advised.return_mm, advised.must_not_pass_mm - room_mm(sigma))
        return let_go_at(request, advised, farther).model_copy(update={"advice": "pull"})
    if own or watched.first_share >= 1.0 or advised.pull_to_mm is None or now_mm >= watched.target_mm:
        return advised
    part = now_mm + watched.first_share * (watched.target_mm - now_mm) + advised.return_mm
    return let_go_at(request, advised, min(advised.pull_to_mm, part))
