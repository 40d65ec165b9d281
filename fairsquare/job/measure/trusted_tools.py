"""The tools behind a job's figures: what each was worth when it read what counts."""

from bisect import bisect_left
from functools import lru_cache
from operator import attrgetter

from fairsquare.core.measure.calibration import Standing, standings
from fairsquare.core.same import Same
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import ReadingFact
from fairsquare.job.measure.counted import reference_readings
from fairsquare.job.measure.picture import Picture

_ID = attrgetter("id")


def read_at(reading: ReadingFact) -> str:
    """Return when a reading was taken: when it was called out, where that was before it could be sent."""
    return min(reading.by.at, reading.called_at) if reading.called_at else reading.by.at


def _of_ids(readings: tuple[ReadingFact, ...], wanted: set[int]) -> list[ReadingFact]:
    """Return the readings of those ids, oldest first; they stand in the order of their ids, whichever shop gave them."""
    places = (bisect_left(readings, number, key=_ID) for number in sorted(wanted))
    kept = [readings[place] for place in places if place < len(readings) and readings[place].id in wanted]
    return kept if len(kept) == len(wanted) else [reading for reading in readings if reading.id in wanted]


def tools_behind(facts: JobFacts, picture: Picture | None, *, setup_only: bool = False) -> tuple[Standing, ...]:
    """Return how far each tool is to be trusted behind a picture: in its references and, but for `setup_only`, all that counts.

    Worked out once for the same facts: both last holds and the page ask for it.
    """
    if picture is None or facts.practice:
        return ()
    return _tools_behind(Same(facts), Same(picture), setup_only)


@lru_cache(maxsize=32)
def _tools_behind(of: Same[JobFacts], seen: Same[Picture], setup_only: bool) -> tuple[Standing, ...]:
    facts, picture = of.held, seen.held
    used = set() if setup_only else {number for numbers in picture.used.values() for number in numbers}
    used |= {reading.id for reading in reference_readings(facts, picture.setup.number)}
    counted = sorted(_of_ids(facts.readings, used), key=read_at)
    return standings(facts.tools, ((reading.instrument, read_at(reading)) for reading in counted))
