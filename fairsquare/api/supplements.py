"""The API of supplements and of the parts that came."""

from fastapi import APIRouter, Request

from fairsquare.actions import parts, supplements
from fairsquare.api.doors import At, By
from fairsquare.api.models import (
    AddLine,
    CountItem,
    Given,
    GoAhead,
    KeyOnly,
    MeasurePart,
    PartIn,
    RecordAnswer,
    SendSupplement,
)
from fairsquare.settings import Settings

router = APIRouter(prefix="/api/v1")


@router.post("/jobs/{number}/supplements/lines", tags=["supplements"], status_code=201)
def add_line(number: str, sent: AddLine, desk: At, person: By) -> Given:
    """Record a line that the estimate missed."""
    line = supplements.add_line(
        desk,
        person,
        sent.request_key,
        number,
        sent.station,
        sent.words,
        sent.hours,
        sent.parts,
        sent.amount_cents,
    )
    return Given(ids=(line,))


@router.post("/jobs/{number}/supplements/lines/{line}/take-back", tags=["supplements"])
def take_line_back(number: str, line: int, sent: KeyOnly, desk: At, person: By) -> Given:
    """Ask for a line no more."""
    supplements.take_line_back(desk, person, sent.request_key, number, line)
    return Given()


@router.post("/jobs/{number}/supplements/lines/{line}/answer", tags=["supplements"])
def record_answer(number: str, line: int, sent: RecordAnswer, desk: At, person: By) -> Given:
    """Record what the payer told us of a line."""
    supplements.record_answer(desk, person, sent.request_key, number, line, sent.answer, sent.words, sent.named)
    return Given()


@router.post("/jobs/{number}/supplements/lines/{line}/go-ahead", tags=["supplements"])
def go_ahead(number: str, line: int, sent: GoAhead, desk: At, person: By) -> Given:
    """Let work on a line go on without the payer's word."""
    supplements.go_ahead(desk, person, sent.request_key, number, line, sent.reason)
    return Given()


@router.post("/jobs/{number}/supplements", tags=["supplements"], status_code=201)
def send(number: str, sent: SendSupplement, request: Request, desk: At, person: By) -> Given:
    """Send lines to a payer; the code of the link is in this answer and nowhere else."""
    settings: Settings = request.app.state.settings
    code = supplements.send(
        desk, person, sent.request_key, number, sent.payer, sent.lines, sent.days, settings.workshop
    )
    return Given(code=code)


@router.post("/jobs/{number}/supplements/{supplement}/withdraw", tags=["supplements"])
def withdraw(number: str, supplement: int, sent: KeyOnly, desk: At, person: By) -> Given:
    """Have a supplement's link lead nowhere any more."""
    supplements.withdraw(desk, person, sent.request_key, number, supplement)
    return Given()


@router.post("/jobs/{number}/parts", tags=["parts"], status_code=201)
def take_part_in(number: str, sent: PartIn, desk: At, person: By) -> Given:
    """Record a part that came."""
    kept = parts.take_part_in(
        desk,
        person,
        sent.request_key,
        number,
        sent.name,
        sent.origin,
        sent.source,
        sent.identity,
        sent.blank,
    )
    return Given(ids=(kept,))


@router.post("/jobs/{number}/parts/{part}/items", tags=["parts"], status_code=201)
def count_item(number: str, part: int, sent: CountItem, desk: At, person: By) -> Given:
    """Count an item on the old part and on the new."""
    parts.count_item(
        desk,
        person,
        sent.request_key,
        number,
        part,
        sent.kind,
        sent.words,
        sent.old_count,
        sent.new_count,
        sent.plan,
    )
    return Given()


@router.post("/jobs/{number}/parts/{part}/spans", tags=["parts"], status_code=201)
def measure_part(number: str, part: int, sent: MeasurePart, desk: At, person: By) -> Given:
    """Record a span measured on a part."""
    parts.measure_part(desk, person, sent.request_key, number, part, sent.a, sent.b, sent.said, sent.unit)
    return Given()
