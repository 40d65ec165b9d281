"""Which readings count, of all that were recorded: a list of thousands, worked out of what was known of the shorter one."""

from collections.abc import Callable, Container
from functools import lru_cache
from typing import NamedTuple

from fairsquare.core.grown import Grown
from fairsquare.core.model import Code
from fairsquare.core.same import Same
from fairsquare.core.sheet.model import Sheet, points_by_code
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import ReadingFact
from fairsquare.job.facts.setup import SetupFact

Readings = tuple[ReadingFact, ...]


def counting(readings: Readings) -> Readings:
    """Return the readings that still count: neither taken back, nor kept out, nor replaced by one that was not taken back."""
    return _COUNTING.of(readings)


def _counted(among: Callable[[ReadingFact], bool]) -> Grown[ReadingFact, Readings]:
    """Return what finds the readings that count and are `among` those asked for, oldest first."""

    def go_on(before: Readings, newer: Readings) -> Readings:
        """One that is new replaces whichever it says, whatever that was."""
        kept = tuple(reading for reading in newer if reading.taken_back is None)
        replaced = {reading.replaces for reading in kept} - {None}
        still = tuple(r for r in before if r.id not in replaced) if replaced else before
        added = tuple(r for r in kept if r.id not in replaced and r.kept_out is None and among(r))
        return (*still, *added) if added else still

    return Grown(lambda readings: go_on((), readings), go_on)


_COUNTING = _counted(lambda _: True)


def reference_readings(facts: JobFacts, setup: int) -> Readings:
    """Return the reference readings that count in a set-up: of each point of an instrument the last, else all."""
    return _last_of_points(Same(_references(setup).of(facts.readings)))


@lru_cache(maxsize=256)
def _references(setup: int) -> Grown[ReadingFact, Readings]:
    return _counted(lambda r: r.setup == setup and r.purpose == "reference")


@lru_cache(maxsize=64)
def _last_of_points(references: Same[Readings]) -> Readings:
    last = {reading.code: reading.id for reading in references.held if reading.kind == "point"}
    return tuple(r for r in references.held if r.kind != "point" or last[r.code] == r.id)


def watched_readings(facts: JobFacts, setup: int) -> Readings:
    """Return the readings of points that are watched in a set-up while something near them is welded, that count."""
    return _watched(setup).of(facts.readings)


@lru_cache(maxsize=256)
def _watched(setup: int) -> Grown[ReadingFact, Readings]:
    return _counted(lambda r: r.setup == setup and r.purpose == "watch")


class OwnReadings(NamedTuple):
    """The readings that count for a picture of one set-up, of codes that stand on the sheet, oldest first.

    `references` are its own, of each point the last; `points` the other ones that were read free, spans and differences of any
    set-up among them. Of those that were not taken free, or before the structure moved, `loaded` and `stale` are the codes.
    """

    references: Readings
    points: Readings
    loaded: frozenset[Code]
    stale: frozenset[Code]


def own_readings(facts: JobFacts, setup: SetupFact, sheet: Sheet, *, include_stale: bool = False) -> OwnReadings:
    """Return the readings that count for a picture of a set-up; `include_stale` takes those from before a move as points too."""
    codes, on = points_by_code(sheet), Same(sheet)
    aside = _aside(setup.number, on).of(facts.readings)
    return OwnReadings(
        tuple(r for r in reference_readings(facts, setup.number) if _known(r, codes)),
        _free(setup.number, on, include_stale).of(facts.readings),
        *_AGES.of(aside),
    )


@lru_cache(maxsize=256)
def _free(setup: int, on: Same[Sheet], include_stale: bool) -> Grown[ReadingFact, Readings]:
    codes = points_by_code(on.held)
    return _counted(
        lambda r: not r.loaded and (include_stale or not r.stale) and _is_point(r, setup) and _known(r, codes)
    )


@lru_cache(maxsize=256)
def _aside(setup: int, on: Same[Sheet]) -> Grown[ReadingFact, Readings]:
    codes = points_by_code(on.held)
    return _counted(lambda r: (r.loaded or r.stale) and _is_point(r, setup) and _known(r, codes))


def _is_point(r: ReadingFact, setup: int) -> bool:
    return r.purpose == "point" if r.setup == setup else r.kind in ("span", "difference")


def _known(r: ReadingFact, codes: Container[Code]) -> bool:
    return r.code in codes and (r.b is None or r.b in codes)


_Ages = tuple[frozenset[Code], frozenset[Code]]


def _go_on(before: _Ages, newer: Readings) -> _Ages:
    loaded, stale = before
    now_loaded = {code for r in newer if not r.stale for code in r.codes} - loaded
    now_stale = {code for r in newer if r.stale for code in r.codes} - stale
    return loaded | now_loaded if now_loaded else loaded, stale | now_stale if now_stale else stale


_AGES: Grown[ReadingFact, _Ages] = Grown(lambda readings: _go_on((frozenset(), frozenset()), readings), _go_on)
"""The codes that were read under load, and those that were read before the structure moved, of readings that are either."""
