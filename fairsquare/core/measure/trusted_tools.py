"""The tools behind a job's figures: what each was worth when it read what counts."""

from functools import lru_cache

from fairsquare.core.facts import JobFacts, ReadingFact
from fairsquare.core.measure.calibration import Standing, standings
from fairsquare.core.measure.picture import Picture, reference_readings
from fairsquare.core.same import Same


@lru_cache(maxsize=32)
def _by_id(readings: Same[tuple[ReadingFact, ...]]) -> dict[int, ReadingFact]:
    return {reading.id: reading for reading in readings.held}


def read_at(reading: ReadingFact) -> str:
    """Return when a reading was taken: when it was called out, where that was before it could be sent."""
    return min(reading.by.at, reading.called_at) if reading.called_at else reading.by.at


def tools_behind(facts: JobFacts, picture: Picture | None, *, setup_only: bool = False) -> tuple[Standing, ...]:
    """Return how far each tool is to be trusted behind a picture: in its references and, but for `setup_only`, all that counts."""
    if picture is None or facts.practice:
        return ()
    used = set() if setup_only else {number for numbers in picture.used.values() for number in numbers}
    used |= {reading.id for reading in reference_readings(facts, picture.setup.number)}
    known = _by_id(Same(facts.readings))
    counted = sorted((known[number] for number in sorted(used) if number in known), key=read_at)
    return standings(facts.tools, ((reading.instrument, read_at(reading)) for reading in counted))
