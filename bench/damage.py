"""Reading the damage on simulated damage: how often the onset's interval holds the truth, how near onset, push and groups come."""

from typing import NamedTuple

import numpy as np

from fairsquare.core.damage.read import ReadDamage, read_damage
from tests.core.damaged import pushed_in, read_at, sheet, turned

PUSHES = ((-0.016, 0.006, 0.005), (-0.02, 0.0, 0.0), (-0.006, 0.016, -0.004))


class Recovered(NamedTuple):
    """Shares and medians over simulated jobs; angles in degrees, lengths in mm."""

    found: float
    covered: float
    onset_off: float
    width: float
    push_off: float
    false_onsets: float
    groups_right: float
    turn_off: float


def recovered(jobs: int) -> Recovered:
    """Push in as many front ends as there are jobs, from 1450 to 1900 mm, and swing as many more as one piece."""
    random = np.random.default_rng(17)
    covered, off, widths, pushes, false_onsets, right, turns = [], [], [], [], 0, 0, []
    for number in range(jobs):
        push = np.array(PUSHES[number % len(PUSHES)])
        truth = float(random.uniform(1450, 1900))
        ends = read_damage(pushed_in(random, truth, push).request).ends
        false_onsets += ends["rear"].onset is not None
        onset, found = ends["front"].onset, ends["front"].push
        if onset and found:
            covered.append(onset.low_mm <= truth <= onset.high_mm)
            off.append(abs(onset.at_mm - truth))
            widths.append(onset.high_mm - onset.low_mm)
            cosine = np.dot(found.vector, push) / np.linalg.norm(push)
            pushes.append(float(np.degrees(np.arccos(min(1.0, cosine)))))
        groups, turn = _swung(random)
        right += groups
        turns.append(turn)
    return Recovered(
        found=len(covered) / jobs,
        covered=float(np.mean(covered)),
        onset_off=float(np.median(off)),
        width=float(np.median(widths)),
        push_off=float(np.median(pushes)),
        false_onsets=false_onsets / jobs,
        groups_right=right / jobs,
        turn_off=float(np.nanmedian(turns)),
    )


def _swung(random: np.random.Generator) -> tuple[bool, float]:
    """Swing both front rails as one piece; say whether they, and nothing else, are told as the group that moved."""
    own = sheet()
    turn = random.normal(0, 0.25, 3)
    places = turned(own, ("left rail", "right rail"), turn, random.normal(0, 6, 3))
    measured = {
        p.code: read_at(places.get(p.code, np.array(p.xyz)) + random.normal(0, np.hypot(0.5, 0.4), 3))
        for p in own.points
    }
    groups = read_damage(ReadDamage(sheet=own, points=measured)).groups
    moved = [group for group in groups if group.moved]
    right = len(moved) == 1 and set(moved[0].members) == {"left rail", "right rail"} and moved[0].rigid
    away = float(np.abs(np.array(moved[0].rotation_deg) - turn).max()) if right else float("nan")
    return right, away
