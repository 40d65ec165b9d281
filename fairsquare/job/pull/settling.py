"""What driving or loading takes back of what was pulled: learned apart from what comes back when a chain is let go."""

import statistics
from typing import NamedTuple

import numpy as np

from fairsquare.core.model import Code, Row3
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.pulls import Settled, SettlingFact
from fairsquare.job.measure.picture import current_setup, picture_of

SETTLED: dict[Settled, str] = {"driven": "driven round the yard", "loaded": "loaded as it will be"}


class TakenBack(NamedTuple):
    """What one settling took back of each pulled point along its pull, mm; + against the way it was pulled."""

    settling: SettlingFact
    mm: dict[Code, float]


class Learned(NamedTuple):
    """What driving, or loading, takes back along the pull: mean and spread in mm (None: of one reading), and of how many."""

    mean_mm: float
    spread_mm: float | None
    readings: int


def pulled_ways(facts: JobFacts) -> dict[Code, Row3]:
    """Return the way in which each point was last watched in a pull that was let go."""
    ways: dict[Code, Row3] = {}
    watched: dict[Code, Row3] = {}
    for event in facts.pull_events:
        watched |= {point.code: point.way for point in event.watched}
        ways |= {cycle.code: watched[cycle.code] for cycle in event.cycles if cycle.code in watched}
    return ways


def stands_free(facts: JobFacts) -> dict[Code, Row3]:
    """Return where the pulled points stand, as read free in the set-up in force since anything last moved."""
    setup, ways = current_setup(facts), pulled_ways(facts)
    if setup is None or facts.sheet is None:
        return {}
    picture = picture_of(facts, setup, facts.sheet)
    return {code: at.xyz for code, at in picture.placed.items() if code in ways and code in picture.used}


def open_settling(facts: JobFacts) -> SettlingFact | None:
    """Return the settling whose points were not read again yet."""
    last = facts.settlings[-1] if facts.settlings else None
    return last if last and last.read_by is None else None


def taken_back(facts: JobFacts) -> tuple[TakenBack, ...]:
    """Return what each settling took back, oldest first."""
    ways = pulled_ways(facts)
    taken = []
    for settling in facts.settlings:
        mm = {
            code: float(np.subtract(settling.stood[code], settling.stands[code]) @ np.array(ways[code]))
            for code in settling.stands
            if code in settling.stood and code in ways
        }
        if mm:
            taken.append(TakenBack(settling, mm))
    return tuple(taken)


def learned(facts: JobFacts, how: Settled) -> Learned | None:
    """Return what driving, or loading, takes back in this structure, or None before it was read once."""
    values = [mm for drive in taken_back(facts) if drive.settling.how == how for mm in drive.mm.values()]
    if not values:
        return None
    return Learned(statistics.fmean(values), statistics.stdev(values) if len(values) > 1 else None, len(values))
