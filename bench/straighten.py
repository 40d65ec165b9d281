"""All demo vehicles straightened as their boards say, their true frames weaker and stronger than assumed, with softer joints.

`python -m bench.straighten [--only NAME ...] [--strength 0.6 1.0 1.6] [--learning yes no] [--seeds N] [--at-once N]`
"""

import argparse
import sys
from concurrent.futures import ProcessPoolExecutor

import numpy as np

from fairsquare.stand_ins.vehicles import VEHICLES
from tests.straightening import Straightened, straightened

_STRENGTHS = (0.6, 0.8, 1.0, 1.3, 1.6)


def _one(case: tuple[str, float, int, bool]) -> Straightened:
    name, strength, seed, learning = case
    vehicle = next(one for one in VEHICLES if one.name == name)
    return straightened(vehicle, strength, seed, learning=learning)


def main() -> int:
    """Straighten them all and tell what became of each, then in sum."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--only", nargs="*", default=[])
    parser.add_argument("--strength", nargs="*", type=float, default=list(_STRENGTHS))
    parser.add_argument("--learning", nargs="*", default=["yes", "no"])
    parser.add_argument("--seeds", type=int, default=1)
    parser.add_argument("--at-once", type=int, default=1)
    asked = parser.parse_args()
    names = [one.name for one in VEHICLES if not asked.only or any(part in one.name for part in asked.only)]
    cases = [
        (name, strength, seed, learning == "yes")
        for name in dict.fromkeys(names)
        for strength in asked.strength
        for learning in asked.learning
        for seed in range(asked.seeds)
    ]
    done: list[Straightened] = []
    with ProcessPoolExecutor(asked.at_once) as pool:
        for one in pool.map(_one, cases):
            done.append(one)
            sys.stdout.write(
                f"{one.vehicle}, {one.strength:g} times, {'learning' if one.learning else 'not learning'}: {one.off_before} off → "
                f"{len(one.off_after)} {' '.join(one.off_after)} (the last plan left {' '.join(one.promised) or 'none'}); worse: "
                f"{' '.join(one.worse) or 'none'}; STOP {one.stops}; {one.plans} plans, {one.pulls} pulls, {one.cycles} cycles, "
                f"{one.seconds:.0f} s\n"
            )
            sys.stdout.flush()
    for learning in (True, False):
        own = [one for one in done if one.learning == learning]
        if own:
            home = 1 - sum(len(one.off_after) for one in own) / sum(one.off_before for one in own)
            sys.stdout.write(
                f"{'with' if learning else 'without'} learning: {home:.1%} of points off come home, "
                f"{sum(bool(one.worse) for one in own)} of {len(own)} vehicles with a point worse, "
                f"{sum(one.stops for one in own)} STOPs, {np.mean([one.cycles for one in own]):.1f} cycles\n"
            )
    return 0


if __name__ == "__main__":
    sys.exit(main())
