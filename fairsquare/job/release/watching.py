"""Points that are watched while something near them is welded: each reading at once against where the point was accepted."""

import math
from typing import NamedTuple

import numpy as np

from fairsquare.core.measure.setup import chi2_limit
from fairsquare.core.model import Code, Row3
from fairsquare.core.sheet.model import points_by_code, tolerances
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import ReadingFact
from fairsquare.job.measure.counted import watched_readings
from fairsquare.job.measure.picture import Picture


class Drift(NamedTuple):
    """The last watched reading of a point: how far it stands from where it was accepted, mm, whether that is more than noise, and
    whether it is out of its tolerance."""

    code: Code
    reading: ReadingFact
    moved: Row3
    limit_mm: float
    off: bool

    @property
    def mm(self) -> float:
        """How far it stands from where it was accepted."""
        return math.dist(self.moved, (0.0, 0.0, 0.0))

    @property
    def drifts(self) -> bool:
        """Whether it has moved by more than two readings scatter (999 of 1000 pairs stay under that)."""
        return self.mm > self.limit_mm


def drifts(facts: JobFacts, picture: Picture | None) -> tuple[Drift, ...]:
    """Return the last watched reading of each point in the set-up in force, newer than every other reading of it."""
    if picture is None or picture.fit is None or picture.fit.rotation is None or facts.sheet is None:
        return ()
    rotation, translation = np.array(picture.fit.rotation), np.array(picture.fit.translation)
    points = points_by_code(facts.sheet)
    accepted = {code: max(numbers) for code, numbers in picture.used.items() if numbers}
    last: dict[str, ReadingFact] = {}
    for reading in watched_readings(facts, picture.setup.number):
        if reading.xyz is not None:
            last[reading.code] = reading
    limit = float(np.sqrt(2 * chi2_limit(3))) * picture.setup.sigma_mm
    watched = []
    for code, reading in last.items():
        placed = picture.placed.get(code)
        if placed is None or code not in points or reading.id < accepted.get(code, 0):
            continue
        at = rotation @ np.array(reading.xyz) + translation
        out = np.abs(at - np.array(points[code].xyz)) > np.array(tolerances(facts.sheet, points[code]))
        x, y, z = (at - np.array(placed.xyz)).tolist()
        moved = math.dist((x, y, z), (0.0, 0.0, 0.0)) > limit
        watched.append(Drift(code, reading, (x, y, z), limit, bool(out.any()) and moved))
    return tuple(sorted(watched, key=lambda drift: drift.code))
