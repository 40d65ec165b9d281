"""Simulated structures and readings for tests, and an implementation of the residuals that shares nothing with the program's."""

import numpy as np
from scipy.spatial.transform import Rotation

from fairsquare.core.measure.adjust import AdjustNetwork

STATIONS = {"C1": 940, "C2": 100, "C3": -930, "F1": 1630, "F2": 2210, "R1": -1800}
TRUSTED = ("C1L", "C1R", "C2L", "C2R", "C3L", "C3R")
OTHERS = ("F1L", "F1R", "F2L", "F2R", "R1L", "R1R")
SIGHT = {"l0": -3.0, "l1": 0.01, "c0": -20.0, "c1": -0.008, "c2": 0.004}
_AXES = {"length": 0, "width": 1, "height": 2}


def sheet(build: float = 0.5, **more):
    points = [
        {
            "code": f"{name}{side}",
            "xyz": [float(x), sign * (480.0 + 17 * k), 150.0 + 41 * k],
            "reference": name[0] == "C",
        }
        for k, (name, x) in enumerate(STATIONS.items())
        for side, sign in (("L", 1), ("R", -1))
    ]
    return {"name": "s", "construction": "unibody", "build_sigma_mm": build, "points": points, **more}


def built(random, build: float = 0.5, damage: float = 6.0, given=None):
    """Return where the points of a vehicle are: as built where trusted, damaged elsewhere."""
    return {
        p["code"]: np.array(p["xyz"]) + random.normal(0, build if p["code"] in TRUSTED else damage, 3)
        for p in (given or sheet())["points"]
    }


def computed(observation, places, sights, poses):
    """Return what an observation reads, by the table of the contract, one formula a kind."""
    kind = observation["kind"]
    if kind == "point":
        rotation, translation = poses[observation["setup"]]
        return rotation.T @ (places[observation["code"]] - translation)
    if kind in ("height", "offset"):
        x, y, z = places[observation["code"]]
        s = sights.get(observation.get("setup"), dict.fromkeys(SIGHT, 0.0))
        if kind == "height":
            return np.array([z - (s["c0"] + s["c1"] * x + s["c2"] * y)])
        return np.array([y - (s["l0"] + s["l1"] * x)])
    a, b = places[observation["a"]], places[observation["b"]]
    if kind == "difference":
        return np.array([(a - b)[_AXES[observation["axis"]]]])
    if kind == "span":
        return np.array([np.linalg.norm((a - b)[: 3 if observation["mode"] == "point_to_point" else 2])])
    s = sights[observation["setup"]]
    both = {
        "pin_mm": (a[1] + b[1]) / 2 - (s["l0"] + s["l1"] * (a[0] + b[0]) / 2),
        "level_mm": (a[2] - b[2]) - s["c2"] * (a[1] - b[1]),
    }
    return np.array([value for key, value in both.items() if observation.get(key) is not None])


def read(observation, places, random, poses=None):
    """Return the observation as read: with its own noise."""
    whole = {"pin_mm": 0.0, "level_mm": 0.0, **observation} if observation["kind"] == "gauge" else observation
    true = computed(whole, places, {"line": SIGHT}, poses or {})
    seen = true + random.normal(0, observation["sigma"], len(true))
    if observation["kind"] == "point":
        return {**observation, "xyz": seen.tolist()}
    if observation["kind"] == "gauge":
        return {**observation, "pin_mm": float(seen[0]), "level_mm": float(seen[1])}
    return {**observation, "mm": float(seen[0])}


def careful_job(random, places, *, sigma: float = 1.0):
    """Return the readings of an ordinary careful job with tape, tram and gauges."""
    plan = [
        {"kind": kind, "setup": "line", "code": code, "sigma": sigma}
        for code in places
        for kind in ("height", "offset")
    ]
    plan += [{"kind": "gauge", "setup": "line", "a": f"{s}L", "b": f"{s}R", "sigma": sigma} for s in STATIONS]
    for code in OTHERS:
        ends = ("C1L", "C1R", "C2L", "C2R") if code[0] == "F" else ("C3L", "C3R", "C2L", "C2R")
        plan += [{"kind": "span", "a": code, "b": end, "mode": "point_to_point", "sigma": sigma} for end in ends]
        plan.append({"kind": "span", "a": code, "b": ends[0], "mode": "datum_parallel", "sigma": sigma})
    return [{"id": f"o{k}", **read(one, places, random)} for k, one in enumerate(plan)]


def instrument_job(random, places, *, sigma: float = 0.3):
    """Return every point read by an instrument in any attitude, and its pose."""
    pose = Rotation.random(random_state=random).as_matrix(), random.uniform(-2000, 2000, 3)
    plan = [{"kind": "point", "setup": "arm", "code": code, "sigma": sigma} for code in places]
    return [{"id": f"o{k}", **read(one, places, random, {"arm": pose})} for k, one in enumerate(plan)], pose


def request(observations, *, setup: str = "line", **more):
    kind = "sight" if setup == "line" else "instrument"
    whole = {
        "sheet": sheet(),
        "trusted": TRUSTED,
        "setups": [{"id": setup, "kind": kind}] if setup else [],
        "observations": observations,
        **more,
    }
    return AdjustNetwork.model_validate(whole, strict=False)
