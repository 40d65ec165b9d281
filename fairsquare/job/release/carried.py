"""Whether the proof from the rack still stands on the wheels: a few spans that need no set-up, taken before and after, agree."""

import math
from typing import NamedTuple

from fairsquare.core.said import Said, say
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import ReadingFact
from fairsquare.job.measure.ageing import lowering, read_at
from fairsquare.job.measure.counted import counting

FEWEST_SPANS = 3
FEWEST_POINTS = 4
"""Fewer say too little: common practice, no source."""
SIGMAS = 3.0
USUAL_SIGMA_MM = 1.0
"""How well a tape reads, mm, where nobody said."""


class SpanPair(NamedTuple):
    """A span before it was let down and after, mm, and how far apart they may be: as far as noise alone would bring them, and no
    farther than a point may be out."""

    a: str
    b: str
    before: ReadingFact
    after: ReadingFact | None
    limit_mm: float

    @property
    def apart_mm(self) -> float | None:
        """By how much it differs, after less before."""
        return None if self.after is None else (self.after.mm or 0.0) - (self.before.mm or 0.0)

    @property
    def agrees(self) -> bool:
        """Whether it was read again and is the same."""
        return self.apart_mm is not None and abs(self.apart_mm) <= self.limit_mm


class Carried(NamedTuple):
    """The spans, and what is missing for the rack's proof to stand; None where it stands."""

    pairs: tuple[SpanPair, ...]
    missing: Said | None

    @property
    def agreed(self) -> tuple[SpanPair, ...]:
        """The spans that agree."""
        return tuple(pair for pair in self.pairs if pair.agrees)


def carried(facts: JobFacts) -> Carried | None:
    """Return whether the rack's proof stands on the wheels; None where the vehicle was not let down."""
    lowered = lowering(facts)
    if lowered is None:
        return None
    before: dict[tuple[str, str, str], ReadingFact] = {}
    after: dict[tuple[str, str, str], ReadingFact] = {}
    for reading in counting(facts.readings):
        if reading.kind != "span" or reading.b is None or reading.loaded or reading.stale or reading.mm is None:
            continue
        first, second = sorted((reading.code, reading.b))
        since = read_at(reading) > lowered.by.at and reading.id > lowered.after_reading
        own = after if since else before
        own[(first, second, reading.mode or "point_to_point")] = reading
    most = facts.sheet.tolerance_mm if facts.sheet else math.inf
    pairs = tuple(
        SpanPair(key[0], key[1], span, after.get(key), min(_limit(span, after.get(key)), most))
        for key, span in before.items()
    )
    return Carried(pairs, _missing(pairs))


def _limit(before: ReadingFact, after: ReadingFact | None) -> float:
    sigmas = [span.sigma_mm or USUAL_SIGMA_MM for span in (before, after) if span is not None]
    return SIGMAS * math.hypot(*sigmas)


def _missing(pairs: tuple[SpanPair, ...]) -> Said | None:
    ends = {code for pair in pairs for code in (pair.a, pair.b)}
    if len(pairs) < FEWEST_SPANS or len(ends) < FEWEST_POINTS:
        return say("spans.too_few", many=len(pairs), fewest=FEWEST_SPANS, points=FEWEST_POINTS)
    apart = [pair for pair in pairs if pair.apart_mm is not None and not pair.agrees]
    if apart:
        return say("spans.differ", each=[say("spans.by", a=pair.a, b=pair.b, apart_mm=pair.apart_mm) for pair in apart])
    agreed = [pair for pair in pairs if pair.agrees]
    reached = {code for pair in agreed for code in (pair.a, pair.b)}
    if len(agreed) < FEWEST_SPANS or len(reached) < FEWEST_POINTS:
        left = [pair for pair in pairs if pair.after is None]
        return say("spans.again", each=[say("spans.between", a=pair.a, b=pair.b) for pair in left])
    return None
