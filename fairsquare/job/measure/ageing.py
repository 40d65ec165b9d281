"""What has become old: readings of points, spans and gaps from before something moved; and what the vehicle stands on."""

from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import ReadingFact, ReadingKind
from fairsquare.job.facts.setup import MovementFact, Stand
from fairsquare.job.facts.walk_round import GapFact
from fairsquare.job.moves import LastMoves, MoveMade, last_moves


def moves_of(movements: tuple[MovementFact, ...]) -> LastMoves:
    """Return when readings last became old."""
    return last_moves([MoveMade(move.what, move.by.at, move.after_reading, move.after_gap) for move in movements])


def reading_is_old(number: int, kind: ReadingKind, purpose: str, read_at: str, last: LastMoves) -> bool:
    """Say whether a reading is from before something moved. A span needs no set-up, so only what moves the body counts.

    When it was read is when it was called out, which may be before it could be sent.
    """
    if kind in ("span", "difference"):
        return last.spans.is_past(read_at, number)
    return purpose == "point" and last.points.is_past(read_at, number)


def read_at(reading: ReadingFact) -> str:
    """Return when a reading was taken: when it was called out, where that was before it came."""
    return min(reading.by.at, reading.called_at) if reading.called_at else reading.by.at


def aged(facts: JobFacts) -> JobFacts:
    """Return the facts with what is old marked as such, worked out anew from their moves."""
    last = moves_of(facts.movements)

    def reading(fact: ReadingFact) -> ReadingFact:
        old = reading_is_old(fact.id, fact.kind, fact.purpose, read_at(fact), last)
        return fact if old == fact.stale else fact.model_copy(update={"stale": old})

    def gap(fact: GapFact) -> GapFact:
        old = last.gaps.is_past(fact.by.at, fact.id)
        return fact if old == fact.stale else fact.model_copy(update={"stale": old})

    return facts.model_copy(
        update={
            "readings": tuple(reading(fact) for fact in facts.readings),
            "gaps": tuple(gap(fact) for fact in facts.gaps),
        }
    )


def lowering(facts: JobFacts) -> MovementFact | None:
    """Return when it was let down on its wheels, where it stands on them still: no set-up was opened since."""
    last = next((move for move in reversed(facts.movements) if move.what == "lowered"), None)
    if last is None or any(setup.opened.at > last.by.at for setup in facts.setups):
        return None
    return last


def stands_on(facts: JobFacts) -> Stand:
    """Return what the vehicle stands on."""
    return "wheels" if lowering(facts) else "rack"
