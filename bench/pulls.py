"""Pulling on simulated structures: the advice against two simple habits, plans played again, and the frame against plain solves."""

import json
import time
from collections.abc import Callable
from typing import NamedTuple

import numpy as np

from fairsquare.core.pull.plan import PlanPulls, plan_pulls
from fairsquare.core.pull.springback import Cycle, NextPull, Prior, next_pull
from fairsquare.core.structure.simulate import simulate_frame
from tests.core.frames import frame, ladder
from tests.core.test_plan import hit

TARGET, TOLERANCE, READ_SIGMA, MOST = 12.0, 1.5, 0.3, 8
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
    off, left, pulls, took = 0, 0, [], []
    whole = 0
    for seed in range(frames):
        request = hit(
            100 + seed,
            far=float(random.uniform(8, 40)),
            school=str(random.choice(["outward", "reverse"])),
            stations=int(random.integers(5, 10)),
        )
        read = PlanPulls.model_validate_json(json.dumps(request))
        began = time.perf_counter()
        plan = plan_pulls(read)
        took.append(time.perf_counter() - began)
        places = {point.code: point.xyz for point in read.sheet.points}
        were = sum(bool(np.abs(np.subtract(p.xyz, places[code])).max() > 3.0) for code, p in read.points.items())
        off += were
        left += sum(not one.fair for one in plan.predicted.values())
        whole += plan.verdict == "complete"
        pulls.append(len(plan.pulls))
    return Planned(frames, 1 - left / off, whole / frames, float(np.mean(pulls)), float(np.mean(took)), max(took))


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
