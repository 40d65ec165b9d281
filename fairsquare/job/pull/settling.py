"""What driving or loading takes back of what was pulled: learned apart from what comes back when a chain is let go.

Two ways: as it was read, for one structure; and as a share of the residual moments that the pulls left in its frame (see
`core/pull/relaxing.py`), which the shop's other jobs of that construction speak of too.
"""

import statistics
from typing import NamedTuple

import numpy as np

from fairsquare.core.errors import FairSquareError
from fairsquare.core.model import Code, Model, Row3
from fairsquare.core.pull.job import PlanSaid, chains_of, plan_request
from fairsquare.core.pull.plan import PlanPulls, game_of
from fairsquare.core.pull.relaxing import PRIOR, Relaxed, TakesBack, fitted_share, taken_along, takes_back
from fairsquare.core.pull.setting import Setting
from fairsquare.job.damage.job import damage_picture
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.pulls import Settled, SettlingFact
from fairsquare.job.measure.picture import current_setup, picture_of
from fairsquare.job.pull.board import setting_of
from fairsquare.job.pull.pulled import cycles_pulled

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


class SettledPoint(Model):
    """A point that was pulled, driven or loaded, and read again: how far back it would have gone along its pull were all residual
    moments to relax, and how far it went, mm."""

    code: Code
    would_mm: float
    did_mm: float


def settled_points(facts: JobFacts) -> tuple[SettledPoint, ...]:
    """Return every pulled point that was read again after driving or loading, by the frame as it is set; none where that cannot be
    played."""
    setting, drives = setting_of(facts), taken_back(facts)
    picture = damage_picture(facts)
    if not drives or setting is None or facts.sheet is None or picture is None:
        return ()
    places = {code: placed.xyz for code, placed in picture.placed.items()}
    found: list[SettledPoint] = []
    try:
        game = game_of(plan_request(facts.sheet, places, setting, "outward"))
        for drive in drives:
            before = facts.model_copy(
                update={"pull_events": tuple(e for e in facts.pull_events if e.by.at <= drive.settling.by.at)}
            )
            cycles = cycles_pulled(before, facts.sheet, setting, places)
            would = taken_along(game, game.play([(cycle.chains, cycle.ties) for cycle in cycles]))
            found += [
                SettledPoint(code=code, would_mm=would[code], did_mm=mm)
                for code, mm in drive.mm.items()
                if code in would
            ]
    except FairSquareError:
        return ()
    return tuple(found)


def relaxed_share(facts: JobFacts, before: Relaxed = PRIOR) -> Relaxed:
    """Return the share of residual moments that driving relaxes, from this job's settlings and what was known `before`."""
    return fitted_share(((point.would_mm, point.did_mm) for point in settled_points(facts)), before)


def expected_settling(
    request: PlanPulls, setting: Setting, plan: PlanSaid, pull: int, share: Relaxed
) -> dict[Code, TakesBack]:
    """Return what driving is expected to take back after the first `pull` pulls of a plan, of the points that it moves, along the
    way they were pulled."""
    game = game_of(request)
    pulls = [(chains_of(setting, work), work.ties) for work in plan.pulls[:pull]]
    return {code: takes_back(mm, share) for code, mm in taken_along(game, game.play(pulls)).items()}
