"""A demo vehicle straightened as its board says, on a simulated vehicle whose frame is not quite the one that is assumed."""

import time
from collections.abc import Mapping
from functools import partial
from typing import NamedTuple

import numpy as np

from fairsquare.core.model import Row3
from fairsquare.core.pull.gear import Gear
from fairsquare.core.pull.job import (
    PlanSaid,
    PointCycle,
    Watched,
    WorkPull,
    advice_for,
    along,
    chains_of,
    first_tried,
    plan_request,
    seen_plan,
    watched_points,
    will_hold,
)
from fairsquare.core.pull.learned import FrameFactors, PulledCycle, fitted_factors, with_factors
from fairsquare.core.pull.rigging import PullRules
from fairsquare.core.pull.setting import frame_of_setting
from fairsquare.core.sheet.model import points_by_code, tolerances
from fairsquare.demo.rig import RIG
from fairsquare.job.pull.board import WatchedNow, points_again, points_let_go, share_given_back, spoiled_points
from fairsquare.job.pull.full import Fullest, fullest_of
from fairsquare.job.pull.proposals import Asked, Proposal, proposals
from fairsquare.job.pull.spent import Pulled, spent_in
from fairsquare.stand_ins.rigged import setting_of_vehicle
from fairsquare.stand_ins.vehicle import NOISE_MM, SimulatedVehicle
from fairsquare.stand_ins.vehicles import Vehicle, seed_of

_MOST_PLANS, _MOST_CYCLES, _MOST_STROKES = 4, 8, 120
_WORSE_MM = 1.0
"""By so much more beyond its tolerance a point was made worse: three times what a reading scatters."""
_FRAMES = ("ladder", "truck", "trailer")


class Straightened(NamedTuple):
    """What became of a vehicle: points off before and after, those worse than they were, STOPs, plans, pulls, cycles, seconds."""

    vehicle: str
    strength: float
    learning: bool
    seed: int
    off_before: int
    off_after: tuple[str, ...]
    worse: tuple[str, ...]
    stops: int
    plans: int
    pulls: int
    cycles: int
    seconds: float
    promised: tuple[str, ...] = ()


GEAR = tuple(
    Gear(id=number, name=name, kind=kind, capacity_n=takes, area_mm2=area, made=made, words=words, found="sound")
    for number, (name, kind, takes, area, made, words) in enumerate(RIG)
)
"""The demo's rig, all of it sound."""


class _Shop:
    """One vehicle on the rig, what was read of it, and what its cycles taught."""

    def __init__(self, vehicle: Vehicle, strength: float, seed: int, *, learning: bool) -> None:
        self.vehicle, self.sheet, self.learning = vehicle, vehicle.sheet, learning
        self.setting = setting_of_vehicle(vehicle)
        self.school = "reverse" if vehicle.sheet.construction in _FRAMES else "outward"
        true = vehicle.true_places(seed_of(f"bench {seed}"))
        self.truly = SimulatedVehicle(vehicle.sheet, true, 1000 + seed, strength=strength, soft=True)
        self.random = np.random.default_rng(seed)
        self.began = self.read()
        self.now = dict(self.began)
        self.pairs: list[tuple[Watched, PointCycle]] = []
        self.pulled: list[PulledCycle] = []
        self.spent: list[Pulled] = []
        self.stops = self.pulls = self.cycles = self.plans = 0

    def read(self) -> dict[str, Row3]:
        """Read every point free, twice, as a careful hand does."""
        noise = NOISE_MM / np.sqrt(2)
        return {code: _row(place + self.random.normal(0, noise, 3)) for code, place in self.truly.places().items()}

    def off(self, places: Mapping[str, Row3]) -> tuple[str, ...]:
        points = points_by_code(self.sheet)
        return tuple(code for code in points if self.beyond(code, places[code]) > 0)

    def beyond(self, code: str, place: Row3) -> float:
        point = points_by_code(self.sheet)[code]
        over = np.abs(np.subtract(place, point.xyz)) - np.array(tolerances(self.sheet, point))
        return float(np.maximum(over, 0.0).sum())

    @property
    def factors(self) -> FrameFactors:
        if not self.learning or not self.pulled:
            return FrameFactors()
        request = plan_request(self.sheet, self.began, self.setting, self.school)
        return fitted_factors(request, self.setting, self.pulled)

    def planned(self) -> Proposal | None:
        asked = Asked(
            self.sheet, self.now, self.setting, self.school, PullRules(), self.factors, spent_in(self.spent), GEAR
        )
        best: Proposal | None = None
        for looked in proposals(asked):
            best = next((one for one in looked.best if not one.refused), None)
        return best

    def pull(self, plan: PlanSaid, number: int) -> None:
        """Pull one pull of a plan as the board says, in as many cycles as it takes."""
        work = plan.pulls[number]
        request = with_factors(
            plan_request(self.sheet, self.now, self.setting, self.school), self.setting, self.factors
        )
        played = seen_plan(request, self.setting, PlanSaid(school=plan.school, pulls=(work,))).played
        learned = share_given_back(self.pairs) if self.learning else None
        watched = watched_points(self.sheet, self.now, work, played, 0, learned=learned)
        watched = first_tried(watched, self.setting, proven=bool(self.cycles))
        if not watched:
            return
        self.pulls += 1
        own: list[PointCycle] = []
        self.filled = False
        stands = {one.code: one.was_mm for one in watched}
        for cycle in range(1, _MOST_CYCLES + 1):
            again = self._cycle(work, watched, own, stands, cycle, last=number == len(plan.pulls) - 1)
            if not again:
                break
        self.spent.append(Pulled(work, self.filled, own))
        self.now = self.read()

    def _cycle(
        self,
        work: WorkPull,
        watched: tuple[Watched, ...],
        own: list[PointCycle],
        stands: dict[str, float],
        cycle: int,
        *,
        last: bool,
    ) -> bool:
        codes = [one.code for one in watched]
        advised = {one.code: advice_for(one, stands[one.code], own) for one in watched}
        most = dict(stands)

        def now(one: Watched, at: float, *, loaded: bool) -> WatchedNow:
            advice = advised[one.code]
            return WatchedNow(one, at, loaded, None, most[one.code], advice, tuple(own), stands[one.code])

        step = partial(self.truly.step, pull=self.pulls, cycle=cycle, work=work, setting=self.setting, watched=codes)
        statics, _ = will_hold(frame_of_setting(self.sheet, self.setting), self.setting, work)
        step("test")
        forces: dict[str, float] = {}
        gear: Fullest | None = None
        for _ in range(_MOST_STROKES):
            told = step("pulling")
            forces = {tower: max(force, forces.get(tower, 0.0)) for tower, force in told.forces.items()}
            gear = fullest_of(statics, work, forces)
            places = self.truly.places()
            points = [
                now(
                    one,
                    along(one, self.sheet, _row(places[one.code] + self.random.normal(0, NOISE_MM, 3))),
                    loaded=True,
                )
                for one in watched
            ]
            most |= {one.watched.code: max(most[one.watched.code], one.now_mm or 0.0) for one in points}
            if any(one.passed for one in points) or (gear and gear.full):
                self.stops += 1
                break
            if points_let_go(points) or (gear and gear.let_go):
                break
        step("read_free")
        self.cycles += 1
        free = self.read()
        made, learned = [], []
        for one in watched:
            after = along(one, self.sheet, free[one.code])
            made.append(PointCycle(code=one.code, before_mm=stands[one.code], loaded_mm=most[one.code], after_mm=after))
            stood = along(one, self.sheet, self.began[one.code])
            learned.append((one.code, one.way, most[one.code] - stood, after - stood))
            stands[one.code] = after
        own += made
        self.pairs += list(zip(watched, made, strict=True))
        chains = chains_of(self.setting, work, forces)
        self.pulled.append(PulledCycle(chains, all(c.tower in forces for c in work.chains), tuple(learned), work.ties))
        self.filled = self.filled or bool(gear and gear.let_go)
        spent = bool(gear and gear.let_go) or (last and bool(spoiled_points(self.sheet, self.now, free)))
        return points_again([now(one, stands[one.code], loaded=False) for one in watched]) and not spent


def straightened(vehicle: Vehicle, strength: float, seed: int, *, learning: bool) -> Straightened:
    """Plan, pull as the board says, plan what is left again; at most four plans."""
    began = time.perf_counter()
    shop = _Shop(vehicle, strength, seed, learning=learning)
    promised: tuple[str, ...] = ()
    for _ in range(_MOST_PLANS):
        if not shop.off(shop.now):
            break
        plan = shop.planned()
        if plan is None or not plan.plan.pulls:
            break
        promised = plan.nominal.off
        shop.plans += 1
        shop.setting = plan.setting
        for number in range(len(plan.plan.pulls)):
            shop.pull(plan.plan, number)
    truth = {code: _row(place) for code, place in shop.truly.places().items()}
    worse = tuple(c for c in truth if shop.beyond(c, truth[c]) > shop.beyond(c, shop.began[c]) + _WORSE_MM)
    return Straightened(
        vehicle.name,
        strength,
        learning,
        seed,
        len(shop.off(shop.began)),
        shop.off(truth),
        worse,
        shop.stops,
        shop.plans,
        shop.pulls,
        shop.cycles,
        time.perf_counter() - began,
        promised,
    )


def _row(place: np.ndarray) -> Row3:
    return float(place[0]), float(place[1]), float(place[2])
