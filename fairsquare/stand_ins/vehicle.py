"""A vehicle that is pulled in simulation: where its points truly are, what a pull does to them, and what was asked of the rig.

The frame yields and springs back by itself; its metal is not quite what the sections of the setting say, by a seed. It can be told
to misbehave: oil that runs low, a clamp that slips, a chain that goes slack, a chain that turns the rail.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from pydantic import Field

from fairsquare.core.model import Code, Model, Row3, Vector
from fairsquare.core.pull.job import BoardState, ChainSet, WorkPull
from fairsquare.core.pull.learned import scaled
from fairsquare.core.pull.setting import PlacedTie, Setting, frame_of_setting
from fairsquare.core.sheet.model import Sheet
from fairsquare.core.structure.frame import Floats, Frame, frame_of
from fairsquare.core.structure.path import Follower, Standing, ties_between
from fairsquare.core.structure.skeleton import Skeleton
from fairsquare.job.pull.practice import Stood

NOISE_MM, NOISE_SHARE = 0.3, 0.01
STEP_SHARE, MOST_SHARE, LIGHT_SHARE = 0.03, 2.5, 0.05
STROKE_MM = 1.5
_HALVINGS = 6
_METAL = 0.06
_SOFT_JOINTS, _SOFTER, _BENDS = 0.2, 0.75, ("iy", "iz", "mpy", "mpz")
_SLIP_MM = np.array([-6.0, 3.0, 1.0])
_UNDER_TENSION: frozenset[BoardState] = frozenset({"test", "look", "pulling", "hold", "relieve", "stopped"})


@dataclass
class RigFaults:
    """What goes wrong, by the share of the planned force: above `low_oil` no more is reached; at `slip` a clamp lets the vehicle
    creep at once; at `slack` the chain hangs loose; `twist_mm` is the arm by which a twisted chain turns what it draws."""

    low_oil: float | None = None
    slip: float | None = None
    slack: float | None = None
    twist_mm: float = 0.0


class Told(Model):
    """What a load cell and an instrument tell after a step: force at each tower in N; points read, and whether under load."""

    forces: dict[str, float] = Field(default_factory=dict)
    codes: tuple[Code, ...] = ()
    loaded: bool = False


class VehicleState(Model):
    """All of a pulled vehicle that is to be kept: where its points stood with its frame at rest, the frame since, and the rig."""

    places: dict[Code, Vector]
    held: tuple[Code, ...]
    loads: list[float]
    moved: list[float]
    plastic: list[float]
    natural: list[float]
    multipliers: list[float]
    crept: Vector
    peaks: dict[str, float]
    stood: tuple[Stood, ...] = ()
    read_free: tuple[int, int] = (0, 0)
    share: float = 0.0
    ties: tuple[Code, ...] = ()
    tied_at: list[float] = Field(default_factory=list)


@dataclass
class _Frame:
    frame: Frame
    follower: Follower
    standing: Standing
    held: tuple[Code, ...]
    tied: Follower | None = None
    ties: tuple[Code, ...] = ()
    tied_at: Floats | None = None

    def put_on(self, ties: Sequence[PlacedTie], at: Floats | None = None) -> None:
        """Put ties on, without force where the frame stands now, or where it stood `at` (1, f)."""
        bars = ties_between(self.frame, [(*tie.between, tie.ea_n) for tie in ties])
        self.tied, self.ties = Follower(self.frame, bars), tuple(tie.id for tie in ties)
        self.tied_at = self.standing.moved if at is None else at

    def take_off(self) -> None:
        """Let the ties go: what they carry goes with the chains."""
        self.tied, self.ties, self.tied_at = None, (), None

    def under(self, loads: Floats) -> Standing:
        """Return where the frame stands under loads (1, f), with the ties that are on; their forces are in its loads."""
        before = self.standing
        if self.tied is None or self.tied_at is None:
            return self.follower.follow(before, loads, 2)
        shift = self.tied.shift(replace(before, moved=self.tied_at))
        return self.tied.let_go(self.tied.follow(self.tied.begun(before), loads + shift, 2))

    def carried(self) -> Floats:
        """Return what the ties carry (1, t), N."""
        if self.tied is None or self.tied_at is None:
            return np.zeros((1, 0))
        return self.tied.tie_forces(replace(self.standing, moved=self.tied_at), self.standing)


class SimulatedVehicle:
    """One vehicle on its rig. `places` (3,) by code are where its points are before any pull, mm in vehicle axes.

    Its sections are `strength` times as stiff and as strong as the setting says, and each a little otherwise by the seed `metal`;
    where its joints are `soft`, some of them by that seed, members that meet there bend and yield sooner.
    """

    def __init__(
        self,
        sheet: Sheet,
        places: Mapping[str, Floats],
        metal: int,
        faults: RigFaults | None = None,
        strength: float = 1.0,
        *,
        soft: bool = False,
    ) -> None:
        self.sheet, self.faults = sheet, faults or RigFaults()
        self._places = {code: np.array(place, dtype=float) for code, place in places.items()}
        random = np.random.default_rng(metal)
        self._metal = {name: float(random.uniform(1 - _METAL, 1 + _METAL)) for name in sorted(_names(sheet))}
        self._strength, self._soft, self._seed = strength, soft, metal
        self._now: _Frame | None = None
        self._crept = np.zeros(3)
        self.peaks: dict[str, float] = {}
        self.stood: list[Stood] = []
        self.share = 0.0
        self._read_free: tuple[int, int] = (0, 0)

    # ── what it is told to do ────────────────────────────────────────────────

    def step(
        self, state: BoardState, pull: int, cycle: int, work: WorkPull, setting: Setting, watched: Sequence[str]
    ) -> Told:
        """Do what a board says for one step, and tell what instruments would read."""
        self._stand(setting)
        if state in ("test", "look"):
            self.share, self._read_free = LIGHT_SHARE, (0, 0)
        elif state == "pulling":
            self._tie(work, setting)
            self._pull_on(work.chains, setting)
        elif state in ("read_free", "cautions", "ended", "let_go"):
            self.share = 0.0
        share = self._faulty()
        if share > 0:
            self._tie(work, setting)
        elif self._now is not None:
            self._now.take_off()
        self._pull(work.chains, share, setting)
        if state in _UNDER_TENSION:
            towers = {tower.id for tower in setting.towers} | {machine.id for machine in setting.machines}
            held = [anchor.code for anchor in setting.anchors]
            return Told(
                forces={chain.tower: share * chain.force_n for chain in work.chains if chain.tower in towers},
                codes=tuple(dict.fromkeys([*watched, *held])),
                loaded=True,
            )
        if state == "read_free" and self._read_free != (pull, cycle):
            self._read_free = (pull, cycle)
            truly = {code: _row(place) for code, place in self.places().items()}
            self.stood.append(Stood(pull=pull, cycle=cycle, places=truly))
            return Told(codes=tuple(self._places))
        return Told()

    def places(self) -> dict[str, Floats]:
        """Return where each point truly is now, with whatever draws on it."""
        if self._now is None:
            return {code: place + self._crept for code, place in self._places.items()}
        now = self._now
        moved = np.zeros(now.frame.free.shape)
        moved[now.frame.free] = now.standing.moved[0]
        by_node = dict(zip(now.frame.nodes, moved.reshape(-1, 6)[:, :3], strict=True))
        still = np.zeros(3)
        return {code: place + by_node.get(code, still) + self._crept for code, place in self._places.items()}

    def _tie(self, work: WorkPull, setting: Setting) -> None:
        """Put on the ties of a pull, unless they are on."""
        ties = [tie for tie in setting.ties if tie.id in work.ties]
        if self._now is not None and ties and not self._now.ties:
            self._now.put_on(ties)

    def _pull_on(self, chains: Sequence[ChainSet], setting: Setting) -> None:
        """Pump a stroke: less force where the metal gives, so that nothing goes farther at once than a pump drives it."""
        now = self._now
        if now is None:
            return
        before, more = now.standing, STEP_SHARE
        loads = self._loads(now.frame, chains, setting).ravel()[now.frame.free][None]
        for _ in range(_HALVINGS):
            after = now.under(min(self.share + more, MOST_SHARE) * loads)
            if (
                np.abs((after.moved - before.moved)[0][np.flatnonzero(now.frame.free) % 6 < 3]).max(initial=0.0)
                <= STROKE_MM
            ):
                break
            more /= 2
        self.share = min(self.share + more, MOST_SHARE)

    def _faulty(self) -> float:
        faults = self.faults
        if faults.slip is not None and self.share >= faults.slip:
            self._crept = self._crept + _SLIP_MM
            faults.slip = None
        if faults.slack is not None and self.share >= faults.slack:
            return 0.0
        return self.share if faults.low_oil is None else min(self.share, faults.low_oil)

    # ── the frame ────────────────────────────────────────────────────────────

    def _stand(self, setting: Setting) -> None:
        """Make the frame as it is held now. Where it is held elsewhere than before, it begins again from where it stands."""
        held = tuple(sorted({anchor.code for anchor in setting.anchors}))
        if self._now is not None and self._now.held == held:
            return
        if self._now is not None:
            crept = self._crept
            self._places = {code: place - crept for code, place in self.places().items()}
        frame = self._frame(setting)
        follower = Follower(frame)
        self._now = _Frame(frame, follower, follower.rest(), held)

    def _frame(self, setting: Setting) -> Frame:
        skeleton = frame_of_setting(self.sheet, setting)
        sections = {
            name: scaled(section, self._strength, self._strength * self._metal.get(name, 1.0))
            for name, section in skeleton.sections.items()
        }
        skeleton = skeleton.model_copy(update={"sections": sections})
        return frame_of(self._softened(skeleton) if self._soft else skeleton)

    def _softened(self, skeleton: Skeleton) -> Skeleton:
        """Return a skeleton in which one joint in five, by the seed, is softer in bending, with the members that meet there."""
        random = np.random.default_rng([self._seed, 5])
        joints = {node for node in skeleton.nodes if random.random() < _SOFT_JOINTS}
        sections, members = dict(skeleton.sections), []
        for member in skeleton.members:
            if not {member.i, member.j} & joints:
                members.append(member)
                continue
            name, own = f"{member.section}, softer", sections[member.section]
            sections[name] = own.model_copy(update={key: getattr(own, key) * _SOFTER for key in _BENDS})
            members.append(member.model_copy(update={"section": name}))
        return skeleton.model_copy(update={"sections": sections, "members": tuple(members)})

    def _pull(self, chains: Sequence[ChainSet], share: float, setting: Setting) -> None:
        now = self._now
        if now is None:
            return
        loads = share * self._loads(now.frame, chains, setting)
        if now.ties or np.any(loads.ravel()[now.frame.free][None] != now.standing.loads):
            now.standing = now.under(loads.ravel()[now.frame.free][None])
        if share > 0:
            self._keep_peaks(now, chains, share, setting, loads)

    def _loads(self, frame: Frame, chains: Sequence[ChainSet], setting: Setting) -> Floats:
        """Return the planned forces and moments (n, 6) of chains and of machines that bear on the vehicle."""
        loads = np.zeros((len(frame.nodes), 6))
        hooks = {hook.id: hook.code for hook in setting.hooks}
        towers = {tower.id: tower.at for tower in setting.towers}
        machines = {machine.id: machine for machine in setting.machines}
        for chain in chains:
            node = frame.nodes.index(hooks[chain.hook])
            if chain.tower in machines:
                machine = machines[chain.tower]
                bears = frame.nodes.index(machine.bears_on)
                along = frame.places[node] - frame.places[bears]
                unit = along / np.linalg.norm(along) * (1 if machine.pushes else -1)
                loads[bears, :3] -= chain.force_n * unit
            else:
                along = np.array([*towers[chain.tower], chain.height_mm]) - frame.places[node]
                unit = along / np.linalg.norm(along)
            loads[node, :3] += chain.force_n * unit
            loads[node, 3:] += chain.force_n * self.faults.twist_mm * unit
        return loads

    def _keep_peaks(
        self, now: _Frame, chains: Sequence[ChainSet], share: float, setting: Setting, loads: Floats
    ) -> None:
        """Keep the largest use so far of each chain and anchor whose limit is known."""
        hooks = {hook.id: hook.capacity_n for hook in setting.hooks}
        towers = {tower.id: tower.capacity_n for tower in setting.towers}
        towers |= {machine.id: machine.capacity_n for machine in setting.machines}
        for chain in chains:
            limits = [limit for limit in (hooks.get(chain.hook), towers.get(chain.tower)) if limit]
            if limits:
                self._peak(f"{chain.hook} → {chain.tower}", share * chain.force_n / min(limits))
        carried, forces = now.carried(), loads[None, :, :3]
        for tie, force in zip(now.ties, carried[0], strict=True):
            takes = next((one.capacity_n for one in setting.ties if one.id == tie), None)
            if takes:
                self._peak(tie, abs(float(force)) / takes)
        drawn = forces if now.tied is None else now.tied.with_ties(forces, carried)
        held = now.frame.node_loads(now.standing.natural[0])[:, :3] - drawn[0]
        for anchor in setting.anchors:
            if anchor.capacity_n and anchor.code in now.frame.nodes:
                asked = float(np.linalg.norm(held[now.frame.nodes.index(anchor.code)]))
                self._peak(anchor.id, asked / anchor.capacity_n)

    def _peak(self, name: str, use: float) -> None:
        self.peaks[name] = max(self.peaks.get(name, 0.0), use)

    # ── kept ─────────────────────────────────────────────────────────────────

    def kept(self) -> VehicleState | None:
        """Return all of it that is to be kept between steps, or None before the first."""
        if self._now is None:
            return None
        standing = self._now.standing
        return VehicleState(
            places={code: _row(place) for code, place in self._places.items()},
            held=self._now.held,
            loads=standing.loads.ravel().tolist(),
            moved=standing.moved.ravel().tolist(),
            plastic=standing.plastic.ravel().tolist(),
            natural=standing.natural.ravel().tolist(),
            multipliers=standing.multipliers.ravel().tolist(),
            crept=_row(self._crept),
            peaks=self.peaks,
            stood=tuple(self.stood),
            read_free=self._read_free,
            share=self.share,
            ties=self._now.ties,
            tied_at=[] if self._now.tied_at is None else self._now.tied_at.ravel().tolist(),
        )

    def take_up(self, kept: VehicleState, setting: Setting) -> None:
        """Go on from what was kept. Where it is held elsewhere by now, its frame begins again from where its points stood."""
        self._places = {code: np.array(place) for code, place in kept.places.items()}
        self._crept, self.peaks, self.stood = np.array(kept.crept), dict(kept.peaks), list(kept.stood)
        self._read_free, self.share = kept.read_free, kept.share
        held = tuple(sorted({anchor.code for anchor in setting.anchors}))
        if held != kept.held:
            return
        frame = self._frame(setting)
        f, m = frame.freedoms, len(frame.member_ids)
        standing = Standing(
            np.array(kept.loads).reshape(1, f),
            np.array(kept.moved).reshape(1, f),
            np.array(kept.plastic).reshape(4, 2, m),
            np.array(kept.natural).reshape(1, m, 6),
            np.array(kept.multipliers).reshape(2, m),
        )
        self._now = _Frame(frame, Follower(frame), standing, held)
        ties = [tie for tie in setting.ties if tie.id in kept.ties]
        if ties and len(ties) == len(kept.ties):
            self._now.put_on(ties, np.array(kept.tied_at).reshape(1, f))


def _row(place: Floats) -> Row3:
    return float(place[0]), float(place[1]), float(place[2])


def _names(sheet: Sheet) -> set[str]:
    return {point.member or "along" for point in sheet.points} | {"across", "uprights"}


def told_force(force_n: float, random: Any) -> float:
    """Return a force as a load cell tells it, in N, with its noise."""
    return round(max(0.0, force_n * (1 + float(random.normal(0, NOISE_SHARE)))), 1)
