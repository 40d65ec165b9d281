"""Ladders racked to a diamond, bowed in both rails, and hit at two places, each damaged on its own frame; rigs about them."""

import json
from typing import Any

import numpy as np

from fairsquare.core.structure.simulate import simulate_frame
from tests.core.frames import PINNED, frame, ladder

Request = dict[str, Any]
ON_FLOOR = (False, False, True, False, False, False)


def pushed(made: dict[str, Any], loads: Any, far: float, watched: Any = None) -> tuple[dict[str, np.ndarray], float]:
    """How far nodes moved when loads were put on one after the other, as large as leaves one `far` mm from home; and that size."""
    low, high = 0.0, 1e6
    moved, force = {}, 0.0
    for _ in range(30):
        force = (low + high) / 2
        legs = [leg for load in loads for leg in ({n: tuple(force * np.array(way)) for n, way in load.items()}, {})]
        done = simulate_frame(frame(*made.values(), *legs, steps=6))
        if done.collapse is not None:
            high = force
            continue
        moved = {node: np.array(six[:3]) for node, six in done.legs[-1].displacements.items()}
        now = max(float(np.abs(v).max()) for node, v in moved.items() if watched is None or node in watched)
        if abs(now - far) < 1.0:
            break
        low, high = (force, high) if now < far else (low, force)
    return moved, force


def asked(made: dict[str, Any], moved: dict[str, np.ndarray], rig: Request, school: str = "outward") -> Request:
    """The request of a plan for a frame whose nodes moved."""
    code = {node: f"F{node[1:]}{node[0]}" for node in made["nodes"]}
    whole = json.loads(frame(*made.values()).model_dump_json())
    return {
        "sheet": {
            "name": "frame",
            "construction": "ladder",
            "points": [{"code": code[n], "xyz": list(p)} for n, p in made["nodes"].items()],
        },
        "points": {code[n]: {"xyz": list(np.add(p, moved[n]).round(3))} for n, p in made["nodes"].items()},
        "skeleton": {name: whole[name] for name in ("nodes", "members", "sections", "supports")} | {"codes": code},
        "rig": rig,
        "school": school,
    }


def rig_about(made: dict[str, Any], capacity: float, anchors: dict[str, float]) -> Request:
    """Towers at both ends and on both sides, a hook at every node, and what anchors take."""
    xs = [x for x, _, _ in made["nodes"].values()]
    front, rear = max(xs) + 1800, min(xs) - 1800
    towers = [(front, 290), (front, -290), (rear, 290), (rear, -290)]
    towers += [(x, y) for x in (max(xs) - 100, min(xs) + 100) for y in (2170, -2170)]
    return {
        "towers": [
            {"id": f"t{k}", "at": list(at), "z": [150, 900], "capacity_n": capacity} for k, at in enumerate(towers)
        ],
        "hooks": [{"id": f"h{n}", "node": n, "capacity_n": capacity} for n in made["nodes"]],
        "anchors": [{"id": f"a{n}", "node": n, "capacity_n": takes} for n, takes in anchors.items()],
    }


def racked(seed: int, stations: int = 4, *, machines: bool = True, evenly: bool = False) -> Request:
    """A ladder whose right rail was pushed back along the vehicle, held by its left rail, its right one on the floor: a diamond.

    `evenly`: all along the rail, not at one end of it.
    Anchors take 0.5 to 1.5 times what it was racked with; jacks and pullers may bear on the corners.
    """
    random = np.random.default_rng(seed)
    made = ladder(stations, random)
    held = stations // 2
    made["supports"] = {f"{s}{k}": PINNED if s == "L" else ON_FLOOR for s in "LR" for k in (held - 1, held)}
    ends = [f"R{k}" for k in range(stations)] if evenly else [f"R{random.choice([0, stations - 1])}"]
    load = {node: (-1.0 / len(ends), 0.0, 0.0) for node in ends}
    moved, force = pushed(made, [load], float(random.uniform(8, 40)))
    rig = rig_about(made, 1.4 * force, {n: force * float(random.uniform(0.5, 1.5)) for n in made["supports"]})
    if machines:
        corners = [f"{side}{k}" for k in (0, stations - 1) for side in "LR"]
        rig["machines"] = [
            {"id": f"{kind[0]}{node}", "kind": kind, "node": node, "capacity_n": 1.2 * force}
            for node in corners
            for kind in ("puller", "jack")
        ]
    return asked(made, moved, rig)


def bowed(seed: int, stations: int = 5, *, ties: bool = True) -> Request:
    """A ladder held at its ends, both rails bowed sideways where no cross member joins them; hooks on the near rail alone."""
    random = np.random.default_rng(seed)
    made = ladder(stations, random)
    middle = stations // 2
    made["members"] = {name: of for name, of in made["members"].items() if name != f"X{middle}"}
    made["supports"] = {f"{side}{k}": PINNED for side in "LR" for k in (0, stations - 1)}
    nodes = made["nodes"]
    load = {f"{side}{middle}": (0.0, 1.0, 0.0) for side in "LR"}
    moved, force = pushed(made, [load], float(random.uniform(8, 30)))
    capacity = 4.0 * force
    return asked(
        made,
        moved,
        {
            "towers": [
                {"id": f"t{k}", "at": [nodes[f"R{middle}"][0] + x, -2170], "z": [100, 700], "capacity_n": capacity}
                for k, x in enumerate((-500.0, 0.0, 500.0))
            ],
            "hooks": [{"id": f"hR{k}", "node": f"R{k}", "capacity_n": capacity} for k in range(1, stations - 1)],
            "anchors": [{"id": f"a{n}", "node": n, "capacity_n": capacity} for n in made["supports"]],
        }
        | ({"ties": [{"id": "tie", "nodes": [f"L{middle}", f"R{middle}"], "capacity_n": capacity}]} if ties else {}),
    )


def hit_twice(seed: int, stations: int = 6, *, machines: bool = True) -> Request:
    """A ladder that was hit at its front, and then at its rear or its side."""
    random = np.random.default_rng(seed)
    made = ladder(stations, random)
    front = {f"{random.choice(list('LR'))}{stations - 1}": (-1.0, random.normal(0, 0.4), random.normal(0, 0.4))}
    side = random.choice(list("LR"))
    rear = {
        f"{side}0": (random.uniform(0, 1), (-1.0 if side == "L" else 1.0) * random.uniform(0, 1), random.normal(0, 0.3))
    }
    moved, force = pushed(made, [front, rear], float(random.uniform(8, 30)))
    rig = rig_about(made, 2.5 * force, dict.fromkeys(made["supports"], 2.5 * force))
    if machines:
        corners = [f"{s}{k}" for k in (0, stations - 1) for s in "LR"]
        rig["machines"] = [
            {"id": f"{kind[0]}{node}", "kind": kind, "node": node, "capacity_n": 1.5 * force}
            for node in corners
            for kind in ("puller", "jack")
        ]
    return asked(made, moved, rig)
