"""The API of supplements and of the parts that came."""

from typing import Annotated, Literal

from fastapi import APIRouter, Request
from pydantic import Field

from fairsquare.actions import parts, supplements
from fairsquare.api.doors import At, By
from fairsquare.api.models import Given, Key, KeyOnly, Sent
from fairsquare.core.lengths import Unit
from fairsquare.core.model import Code
from fairsquare.job.facts.parts import Blank, PartItemKind
from fairsquare.job.facts.supplements import PayersAnswer
from fairsquare.settings import Settings


class AddLine(Sent):
    """Something that the estimate missed, found at a station; the amount is for parts, in hundredths."""

    request_key: Key
    words: str
    hours: float
    parts: str = ""
    amount_cents: Annotated[int, Field(ge=0, le=10**12)] = 0
    station: Annotated[str, Field(max_length=30)] = "API"


class SendSupplement(Sent):
    """Lines to send to a payer; the answer gives the code of the link, once."""

    request_key: Key
    payer: str
    lines: tuple[int, ...]
    days: int = 30


class RecordAnswer(Sent):
    """What the payer told us of a line that was sent."""

    request_key: Key
    answer: PayersAnswer
    named: str
    words: str = ""


class GoAhead(Sent):
    """Why work on a line goes on without the payer's word."""

    request_key: Key
    reason: str


class PartIn(Sent):
    """A part that came."""

    request_key: Key
    name: str
    origin: Literal["new", "donor", "made"]
    identity: str = ""
    blank: Blank | None = None
    source: str = ""


class CountItem(Sent):
    """How many of an item the old part has and how many the new; `plan`: what is done about what is missing."""

    request_key: Key
    kind: PartItemKind
    words: str
    old_count: int
    new_count: int
    plan: str = ""


class MeasurePart(Sent):
    """A span measured on a part between two points of the sheet, in any unit."""

    request_key: Key
    a: Code
    b: Code
    said: str
    unit: Unit = "mm"


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
