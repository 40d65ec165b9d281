"""Supplements and what payers answered."""

from typing import Literal

from fairsquare.core.model import Model
from fairsquare.core.who import Who

PayersAnswer = Literal["approved", "refused", "asked"]


class SupplementLineFact(Model):
    """Something that the estimate missed, found at a `station`: hours, parts and their amount in hundredths.

    `structural`: found on the structure, so that nothing is decided past it; hours that were left out are not.
    """

    id: int
    station: str
    words: str
    hours: float
    parts: str
    amount_cents: int
    by: Who
    taken_back: Who | None = None
    structural: bool = True


class SupplementFact(Model):
    """A supplement that was sent to a payer, with its lines; its link shows it until it expires or is withdrawn."""

    id: int
    number: int
    payer: str
    lines: tuple[int, ...]
    expires_at: str
    by: Who
    withdrawn: Who | None = None


class SupplementAnswerFact(Model):
    """What the payer said of a line: by the link (no person of ours), or told to `by`; `named` is who said it."""

    id: int
    line: int
    supplement: int
    answer: PayersAnswer
    words: str
    named: str
    at: str
    by: Who | None


class GoAheadFact(Model):
    """A lead's word that work on a line goes on without the payer's, and why."""

    id: int
    line: int
    reason: str
    by: Who
