"""Does the picture keep its word? Blunders named, good readings lost, coordinates called fair, over jobs with every mix of tools.

The truth is known here: each simulated vehicle is built to the sheet with its build sigma, and damaged by about its tolerance.
"""

from collections.abc import Callable
from typing import Any, NamedTuple

import numpy as np

from fairsquare.core.measure.adjust import adjust_network
from fairsquare.core.measure.conformity import JudgePoints, judge_points
from tests.core.network import OTHERS, built, careful_job, instrument_job, read, request

SMALLEST_BLUNDER_MM, LARGEST_BLUNDER_MM = 12.0, 60.0
TOLERANCE_MM = 3.0
Random = np.random.Generator
Places = dict[str, Any]


class Honesty(NamedTuple):
    """What was measured, as shares: 0.02 is one in fifty."""

    named: float
    told_apart: float
    good_rejected: float
    fair_but_out: float
    fair: int


def by_hand(random: Random, places: Places) -> tuple[list[dict[str, Any]], str]:
    """Gauges, offsets, heights and spans of an ordinary careful job."""
    return careful_job(random, places), "line"


def sparse(random: Random, places: Places) -> tuple[list[dict[str, Any]], str]:
    """A third to all of those, whichever came to hand."""
    job = careful_job(random, places)
    kept = random.random(len(job)) < random.uniform(0.35, 1.0)
    return [one for one, keep in zip(job, kept, strict=True) if keep], "line"


def by_instrument(random: Random, places: Places) -> tuple[list[dict[str, Any]], str]:
    """Every point by an instrument, some twice."""
    job, pose = instrument_job(random, places)
    again = [one for one in job if random.random() < 0.4]
    more = [{**read(one, places, random, {"arm": pose}), "id": f"again {one['id']}"} for one in again]
    return [*job, *more], "arm"


def mixed(random: Random, places: Places) -> tuple[list[dict[str, Any]], str]:
    """An instrument for some points, spans by tram for all."""
    job, _ = by_instrument(random, places)
    spans = [{**one, "id": f"s{one['id']}"} for one in careful_job(random, places) if one["kind"] == "span"]
    kept = [one for one in job if one["code"] not in OTHERS or random.random() < 0.6]
    return [*kept, *spans], "arm"


MIXES: dict[str, Callable[[Random, Places], tuple[list[dict[str, Any]], str]]] = {
    "gauges, line, tape and tram": by_hand,
    "the same, some left out": sparse,
    "instrument": by_instrument,
    "instrument and tram": mixed,
}


def honesty(mix: str, jobs: int, seed: int = 1, blunder_every: int = 2) -> Honesty:
    """Simulate jobs with one mix of tools; every `blunder_every`-th has one reading that is 12 to 60 mm wrong."""
    random = np.random.default_rng(seed)
    planted = named = told = good = rejected = fair = out = 0
    for number in range(jobs):
        places = built(random, damage=TOLERANCE_MM)
        readings, setup = MIXES[mix](random, places)
        bad = plant(readings, random) if number % blunder_every == 0 else None
        found = adjust_network(request(readings, setup=setup))
        suspected = {name for group in found.suspects for name in group} | set(found.rejected)
        planted += bad is not None
        named += bad is not None and bad in suspected
        told += bad is not None and found.rejected == (bad,)
        good += len(readings) - (bad is not None)
        rejected += len(set(found.rejected) - {bad})
        judged = judge_points(
            JudgePoints(sheet=request([]).sheet, points={c: p.model_dump() for c, p in found.points.items()})
        )
        for code in OTHERS:
            sheet = next(p.xyz for p in request([]).sheet.points if p.code == code)
            for axis in range(3):
                if judged.points[code].states[axis] == "fair":
                    fair += 1
                    out += abs(places[code][axis] - sheet[axis]) > TOLERANCE_MM
    return Honesty(named / max(planted, 1), told / max(planted, 1), rejected / good, out / max(fair, 1), fair)


def plant(readings: list[dict[str, Any]], random: Random) -> str:
    """Make one reading of a point or a span grossly wrong, and return its id."""
    can = [one for one in readings if one["kind"] in ("point", "span", "offset", "height")]
    bad = can[random.integers(len(can))]
    off = float(random.choice([-1, 1]) * random.uniform(SMALLEST_BLUNDER_MM, LARGEST_BLUNDER_MM))
    if bad["kind"] == "point":
        axis = random.integers(3)
        bad["xyz"] = [value + off * (k == axis) for k, value in enumerate(bad["xyz"])]
    else:
        bad["mm"] += off
    return str(bad["id"])
