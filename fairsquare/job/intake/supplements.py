"""What the estimate missed: how each line stands, and whether the structure was measured at all before an estimate leaves."""

from typing import Literal, NamedTuple

from fairsquare.core.sheet.model import partner_code
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.supplements import GoAheadFact, SupplementAnswerFact, SupplementFact, SupplementLineFact
from fairsquare.job.measure.counted import counting

LineStatus = Literal["draft", "sent", "approved", "refused", "asked"]
CROSS_SPANS = 2
"""Cross spans that are taken before an estimate leaves. Common practice, no source."""
UNPROVEN = (
    "No cross spans were taken: nothing proves the structure sound, however it looks. Hidden damage may be found when it is "
    "measured."
)


class LineState(NamedTuple):
    """A line with how it stands: in which supplement it was last sent, what the payer said last, and a lead's word."""

    line: SupplementLineFact
    status: LineStatus
    supplement: SupplementFact | None
    answers: tuple[SupplementAnswerFact, ...]
    go_ahead: GoAheadFact | None

    @property
    def blocks(self) -> bool:
        """Whether work on it has to wait."""
        return self.status != "approved" and self.go_ahead is None

    @property
    def opens_decision(self) -> bool:
        """Whether nothing is decided until it is answered: it was found on the structure, and waits."""
        return self.line.structural and self.blocks


def line_states(facts: JobFacts) -> tuple[LineState, ...]:
    """Return the lines that are asked for, oldest first."""
    return tuple(_state(facts, line) for line in facts.supplement_lines if line.taken_back is None)


def _state(facts: JobFacts, line: SupplementLineFact) -> LineState:
    sent = [
        supplement for supplement in facts.supplements if line.id in supplement.lines and supplement.withdrawn is None
    ]
    answers = tuple(answer for answer in facts.supplement_answers if answer.line == line.id)
    status: LineStatus = answers[-1].answer if answers else "sent" if sent else "draft"
    word = next((go_ahead for go_ahead in reversed(facts.go_aheads) if go_ahead.line == line.id), None)
    return LineState(line, status, sent[-1] if sent else None, answers, word)


def cross_spans(facts: JobFacts) -> tuple[tuple[str, str], ...]:
    """Return two spans from side to side that tell whether it is square, crosswise between the two farthest pairs of its sheet.

    None where the sheet has no two pairs. Common practice, no source.
    """
    sheet = facts.sheet
    by_code = {point.code: point for point in sheet.points} if sheet else {}
    pairs = [
        (point, by_code[other])
        for point in by_code.values()
        if point.xyz[1] > 0 and (other := partner_code(point)) in by_code
    ]
    if len(pairs) < CROSS_SPANS:
        return ()
    fore, aft = max(pairs, key=lambda pair: pair[0].xyz[0]), min(pairs, key=lambda pair: pair[0].xyz[0])
    return (fore[0].code, aft[1].code), (fore[1].code, aft[0].code)


def is_cross_checked(facts: JobFacts) -> bool:
    """Say whether a few spans from side to side were taken, or pairs of points measured, so that an estimate may leave."""
    sides = {"L", "R"}
    crossed = {
        frozenset(reading.codes)
        for reading in counting(facts.readings)
        if reading.kind == "span" and reading.b and {reading.code[-1:].upper(), reading.b[-1:].upper()} == sides
    }
    read = {
        reading.code for reading in counting(facts.readings) if reading.kind == "point" and reading.purpose == "point"
    }
    points = facts.sheet.points if facts.sheet else ()
    pairs = {frozenset((p.code, other)) for p in points if p.code in read and (other := partner_code(p)) in read}
    return len(crossed) + len(pairs) >= CROSS_SPANS
