"""Pulling on simulated structures: the advice against two simple habits, plans played again, and the frame against plain solves."""

import json
import time
from collections.abc import Callable, Mapping, Sequence
from typing import Any, NamedTuple

import numpy as np

from fairsquare.core.pull.job import plan_request
from fairsquare.core.pull.plan import PlanPulls, School, plan_pulls
from fairsquare.core.pull.setting import Setting
from fairsquare.core.pull.springback import Cycle, NextPull, Prior, next_pull
from fairsquare.core.sheet.model import tolerances
from fairsquare.core.structure.simulate import simulate_frame
from fairsquare.job.pull.practice import hidden_blow
from fairsquare.stand_ins.rigged import setting_of_vehicle
from fairsquare.stand_ins.to_practise import vehicle_to_practise
from fairsquare.stand_ins.vehicles import VEHICLES, Floats, Vehicle, places_of, seed_of
from tests.core.distorted import bowed, hit_twice, racked
from tests.core.frames import frame, ladder
from tests.core.test_plan import hit

TARGET, TOLERANCE, READ_SIGMA, MOST = 12.0, 1.5, 0.3, 8
_FRAMES = ("ladder", "truck", "trailer")
_Habit = Callable[[float, list[Cycle]], float | None]


class Loop(NamedTuple):
    """What a way of choosing pulls does to many structures: shares that end inside and beyond, and pulls each."""

    inside: float
    beyond: float
    pulls: float


def closed_loop(structures: int, prior: Prior) -> dict[str, Loop]:
    """Pull structures that give back 5 ± 2 mm home by 12 mm, by the advice and by two habits."""

    def advice(read: float, cycles: list[Cycle]) -> float | None:
        request = NextPull(
            target_mm=TARGET,
            tolerance_mm=TOLERANCE,
            now_mm=read,
            prior=prior,
            reading_sigma_mm=READ_SIGMA,
            cycles=tuple(cycles),
        )
        return next_pull(request).pull_to_mm

    def last_return(read: float, cycles: list[Cycle]) -> float | None:
        if read >= TARGET - TOLERANCE:
            return None
        return TARGET + (cycles[-1].loaded - cycles[-1].after if cycles else prior.return_mm)

    def same_extra(read: float, cycles: list[Cycle]) -> float | None:
        del cycles
        return None if read >= TARGET - TOLERANCE else TARGET + prior.return_mm

    ways = {"the advice": advice, "the last return once more": last_return, "always the same extra": same_extra}
    return {name: _played(structures, way) for name, way in ways.items()}


def _played(structures: int, way: _Habit) -> Loop:
    random = np.random.default_rng(23)
    ends, pulls = [], []
    for _ in range(structures):
        gives, stands, cycles = max(0.0, random.normal(5, 2)), 0.0, list[Cycle]()
        for _ in range(MOST):
            read = stands + random.normal(0, READ_SIGMA)
            aim = way(read, cycles)
            if aim is None:
                break
            loaded = aim + random.normal(0, READ_SIGMA)
            stands = max(stands, loaded - gives)
            cycles.append(Cycle(before=read, loaded=max(loaded, read), after=stands + random.normal(0, READ_SIGMA)))
        ends.append(stands - TARGET)
        pulls.append(len(cycles))
    off = np.array(ends)
    return Loop(float((np.abs(off) <= TOLERANCE).mean()), float((off > TOLERANCE).mean()), float(np.mean(pulls)))


class Planned(NamedTuple):
    """What plans do to frames that were hit once at an end: share of points off that come home, pulls, seconds a frame."""

    frames: int
    home: float
    complete: float
    pulls: float
    seconds: float
    slowest: float


def plans(frames: int) -> Planned:
    """Plan the pulls of ladders of 10 to 18 nodes that a single push left 8 to 40 mm out."""
    random = np.random.default_rng(41)
    requests = [
        hit(
            100 + seed,
            far=float(random.uniform(8, 40)),
            school=str(random.choice(["outward", "reverse"])),
            stations=int(random.integers(5, 10)),
        )
        for seed in range(frames)
    ]
    return _of_requests(requests)


def inside(frames: int) -> dict[str, Planned]:
    """Plan ladders racked, bowed and hit at two places, with what bears or ties inside the vehicle and by towers alone."""
    makers: dict[str, Callable[[int, bool], Any]] = {
        "racked": lambda seed, own: racked(seed, 4 + seed % 5, machines=own),
        "racked all along a rail": lambda seed, own: racked(seed, 4 + seed % 5, machines=own, evenly=True),
        "both rails bowed": lambda seed, own: bowed(seed, 5 + seed % 4, ties=own),
        "hit at two places": lambda seed, own: hit_twice(seed, 5 + seed % 4, machines=own),
    }
    return {
        f"{name}, {'with' if own else 'without'}": _of_requests([make(seed, own) for seed in range(frames)])
        for name, make in makers.items()
        for own in (True, False)
    }


def _of_requests(requests: Sequence[Any]) -> Planned:
    off, left, whole, pulls, took = 0, 0, 0, [], []
    for request in requests:
        read = PlanPulls.model_validate_json(json.dumps(request))
        began = time.perf_counter()
        plan = plan_pulls(read)
        took.append(time.perf_counter() - began)
        places = {point.code: point.xyz for point in read.sheet.points}
        off += sum(bool(np.abs(np.subtract(p.xyz, places[code])).max() > 3.0) for code, p in read.points.items())
        left += sum(not one.fair for one in plan.predicted.values())
        whole += plan.verdict == "complete"
        pulls.append(len(plan.pulls))
    return Planned(
        len(requests), 1 - left / off, whole / len(requests), float(np.mean(pulls)), float(np.mean(took)), max(took)
    )


def of_vehicles(job_numbers: Sequence[str]) -> Planned:
    """Plan the pulls of the demo's vehicles, each in the school of its kind, as their jobs were built."""
    cases = [
        (vehicle, vehicle.true_places(seed_of(job)), "reverse" if vehicle.sheet.construction in _FRAMES else "outward")
        for vehicle, job in zip(VEHICLES, job_numbers, strict=True)
    ]
    return _of_jobs([(v, setting_of_vehicle(v), places, school) for v, places, school in cases])


def of_seeds(each: int) -> Planned:
    """Plan the pulls of the demo's vehicles with the hidden blows of practice, `each` of every one."""
    cases = []
    for vehicle in VEHICLES:
        sheet, setting = vehicle_to_practise(vehicle.name)
        for seed in range(each):
            blow = hidden_blow(sheet, setting, 31 * seed + 5)
            cases.append((vehicle, setting, places_of(sheet, blow.moved, seed), ("outward", "reverse")[seed % 2]))
    return _of_jobs(cases)


def _of_jobs(cases: Sequence[tuple[Vehicle, Setting, Mapping[str, Floats], School]]) -> Planned:
    off, left, pulls, took, whole = 0, 0, [], [], 0
    for vehicle, setting, places, school in cases:
        stands = {code: (float(x), float(y), float(z)) for code, (x, y, z) in places.items()}
        began = time.perf_counter()
        plan = plan_pulls(plan_request(vehicle.sheet, stands, setting, school))
        took.append(time.perf_counter() - began)
        for point in vehicle.sheet.points:
            limits = np.array(tolerances(vehicle.sheet, point))
            off += bool((np.abs(np.subtract(stands[point.code], point.xyz)) > limits).any())
        left += sum(not one.fair for one in plan.predicted.values())
        whole += plan.verdict == "complete"
        pulls.append(len(plan.pulls))
    return Planned(
        len(cases), 1 - left / off, whole / len(cases), float(np.mean(pulls)), float(np.mean(took)), max(took)
    )


def frame_over_solves() -> float:
    """Return how many times as long 40 steps of a frame of 60 members take as 40 · 40 plain solves of 120 unknowns."""
    made = ladder(10, np.random.default_rng(1), hardening=0.01)
    for k in range(32):
        a, b = (f"L{k % 9}", f"R{k % 9 + 1}") if k < 9 else (f"R{k % 9}", f"L{k % 9 + 1}")
        made["members"][f"D{k}"] = (a, b, "cross")
    load = {"L9": (-40e3, -9e3, 12e3), "R0": (0.0, 20e3, 9e3), "L0": (30e3, 0.0, 20e3)}
    request = frame(*made.values(), load, steps=40)
    simulate_frame(request)
    began = time.perf_counter()
    simulate_frame(request)
    ours = time.perf_counter() - began
    random = np.random.default_rng(2)
    matrix, side = random.normal(size=(120, 120)) + 12 * np.eye(120), random.normal(size=120)
    began = time.perf_counter()
    for _ in range(1600):
        np.linalg.solve(matrix, side)
    return ours / (time.perf_counter() - began)
