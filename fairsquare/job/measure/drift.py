"""Has the vehicle or the instrument moved? References that are read again tell, in the instrument's own axes."""

from collections.abc import Sequence

import numpy as np

from fairsquare.core.measure.setup import chi2_limit
from fairsquare.job.facts.measure import ReadingFact

FEWEST_MOVED = 2
"""One reference that reads differently may be a wrong hole; two are a move."""


def moved_references(readings: Sequence[ReadingFact], setup: int, sigma_mm: float) -> dict[str, float]:
    """Return how far each reference, read again in a set-up, came out from where it was first read, mm, where that is no noise.

    Both readings scatter by sigma in each coordinate; the limit is what 999 of 1000 pairs stay under (χ² with three degrees
    of freedom). Readings that were taken back say nothing.
    """
    limit = float(np.sqrt(2 * chi2_limit(3))) * sigma_mm
    first: dict[str, ReadingFact] = {}
    moved: dict[str, float] = {}
    for reading in readings:
        if reading.setup != setup or reading.purpose != "reference" or reading.xyz is None or reading.taken_back:
            continue
        before = first.setdefault(reading.code, reading)
        apart = float(np.linalg.norm(np.array(reading.xyz) - np.array(before.xyz)))
        moved.pop(reading.code, None)
        if apart > limit:
            moved[reading.code] = apart
    return moved
