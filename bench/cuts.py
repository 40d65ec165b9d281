"""How quickly a strip follows a cut that is dragged, and how long a map of many welds takes: by the pages' own addresses."""

import json
import secrets
import time
from typing import NamedTuple

import httpx
import numpy as np

from bench.stage import Stage
from fairsquare.actions import cutting
from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.cut.section import StripSaid, WeldsSaid
from fairsquare.demo.people import SIGN_INS
from fairsquare.store import people
from fairsquare.store.people import Person

LAYERS, FEATURES, WELDS, MOVES = 6, 200, 300, 60
JOB = "SL-0005"


class Dragged(NamedTuple):
    """Seconds: of a move of a dragged cut in the median and at the 95th percentile, of placing the cuts, of map and its page."""

    median: float
    late: float
    placing: float
    mapping: float
    map_page: float


def dragged(at: Stage) -> Dragged:
    """Plan a member of many layers, features and welds in the demo's Dunlin; drag one of its cuts, and open its map."""
    found = at.desk.database.run(lambda c: {one["name"]: one["id"] for one in people.people(c)})
    ngozi = Person(found["ngozi"], "ngozi", SIGN_INS[0].full_name, SIGN_INS[0].role)
    strip, welds = many_features(), many_welds()
    section = cutting.begin(at.desk, ngozi, secrets.token_hex(12), JOB, "a long member", "cut")
    cutting.keep_strip(at.desk, ngozi, secrets.token_hex(12), JOB, section, strip, 0)
    cutting.keep_welds(at.desk, ngozi, secrets.token_hex(12), JOB, section, welds, 0)
    http = httpx.Client(base_url=at.address, follow_redirects=True, timeout=30)
    http.post("/sign-in", data={"name": SIGN_INS[0].name, "password": SIGN_INS[0].password})
    base = f"/jobs/{JOB}/cuts/{section}"
    _timed(http, base)
    moves = [_timed(http, f"{base}/try?words=1&cut-0={at_mm}") for at_mm in np.linspace(400, 1900, MOVES).round(1)]
    request = strip.place.model_dump_json()
    began = time.perf_counter()
    CATALOGUE["place-cuts"].run_json(request)
    placing = time.perf_counter() - began
    asked = json.dumps({"welds": [_asked(weld.id, weld.stack, welds) for weld in welds.welds], "donor": "used"})
    began = time.perf_counter()
    CATALOGUE["drill-map"].run_json(asked)
    mapping = time.perf_counter() - began
    return Dragged(
        float(np.median(moves)), float(np.quantile(moves, 0.95)), placing, mapping, _timed(http, f"{base}/map")
    )


def _timed(http: httpx.Client, path: str) -> float:
    began = time.perf_counter()
    answer = http.get(path)
    spent = time.perf_counter() - began
    if answer.status_code != 200:
        raise RuntimeError(f"{path}: {answer.status_code}")
    return spent


def many_features() -> StripSaid:
    """Return a strip of 3 m with many layers, and many holes over them."""
    random = np.random.default_rng(3)
    names = [f"layer {k}" for k in range(LAYERS)]
    layers = [
        {
            "id": name,
            "from": 0.0,
            "to": 3000.0,
            "thickness_mm": 1.0 + 0.1 * k,
            "material": "mild",
            "damage": [2000.0 + 10 * k, 2500.0],
        }
        for k, name in enumerate(names)
    ]
    features = [
        {
            "kind": "hole",
            "from": float(x),
            "to": float(x + random.uniform(1, 10)),
            "layers": None if random.random() < 0.3 else [str(random.choice(names))],
        }
        for x in random.uniform(0, 2980, FEATURES)
    ]
    windows = [{"layer": name, "from": 100.0, "to": 2400.0} for name in names]
    return StripSaid.model_validate({"layers": layers, "features": features, "windows": windows}, strict=False)


def many_welds() -> WeldsSaid:
    """Return many welds of two to four layers, of all fates and hardness, by chance."""
    random = np.random.default_rng(4)
    fates = ("stays", "returns", "donor")
    materials = ("mild", "ultra_high_strength")
    parts = [
        {"id": f"{fate} {material} {k}", "fate": fate, "material": material}
        for fate in fates
        for material in materials
        for k in range(2)
    ]
    names = [part["id"] for part in parts]
    welds = [
        {
            "id": str(k),
            "at_mm": 10.0 * k,
            "flange": f"flange {k // 100}",
            "stack": random.choice(names, int(random.integers(2, 5)), replace=False).tolist(),
            "vehicle": ["top"] if random.random() < 0.5 else ["top", "bottom"],
            "squeeze": bool(random.random() < 0.5),
        }
        for k in range(WELDS)
    ]
    return WeldsSaid.model_validate({"donor": "used", "parts": parts, "welds": welds}, strict=False)


def _asked(name: str, stack: tuple[str, ...], welds: WeldsSaid) -> dict[str, object]:
    layers = {part.id: part.layer.model_dump() for part in welds.parts}
    own = next(weld for weld in welds.welds if weld.id == name)
    return {
        "id": name,
        "stack": [layers[part] for part in stack],
        "reach_before": {"vehicle": own.vehicle},
        "reach_after": own.after,
        "squeeze": own.squeeze,
    }
