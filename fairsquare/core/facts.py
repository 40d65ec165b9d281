"""What happened in a job, as it was recorded: facts are appended and never changed; everything else is worked out from them."""

from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.model import Code, Model, Row3
from fairsquare.core.sheet.model import Sheet

Role = Literal["technician", "lead", "estimator", "apprentice"]
HoldName = Literal["made_safe", "setup_accepted", "fit_accepted"]
Purpose = Literal["reference", "point"]
Moved = Literal["vehicle", "bench", "bridge", "structure"]
SafetyAnswer = Literal["done", "absent", "undone"]

RefitNeeded = frozenset({"vehicle", "bench", "bridge"})
"""What, when moved, makes a set-up void. A moved structure makes readings old and leaves the set-up as it is."""


class Who(Model):
    """A person at a moment; `at` is UTC, ISO 8601."""

    name: str
    role: Role
    at: str


class ReadingFact(Model):
    """One reading as it was said and as it was understood, in the instrument's axes, mm.

    `replaces` names the reading that this one corrects; a reading that is `taken_back` or corrected no longer counts.
    """

    id: int
    setup: int
    purpose: Purpose
    code: Code
    xyz: Row3
    said: str
    loaded: bool
    instrument: str
    by: Who
    replaces: int | None = None
    taken_back: Who | None = None
    stale: bool = False


class ChoiceFact(Model):
    """Which references a person decided to trust, and why."""

    id: int
    trusted: tuple[Code, ...]
    reason: str
    by: Who


class MovementFact(Model):
    """Something was moved; `setup` is the set-up that was in force."""

    id: int
    what: Moved
    words: str
    setup: int | None
    by: Who


class SetupFact(Model):
    """One set-up: which instrument, how well it reads, the choice of references if one was made, and what voided it."""

    number: int
    instrument: str
    sigma_mm: Annotated[float, Field(gt=0, le=1e4)]
    sheet_version: int
    opened: Who
    choice: ChoiceFact | None = None
    voided: MovementFact | None = None


class SafetyFact(Model):
    """The last answer to one item of the list that makes the vehicle safe."""

    id: int
    item: str
    answer: SafetyAnswer
    words: str
    by: Who


class GapFact(Model):
    """A gap or flushness as read at the dry fit, mm; `setup` and later movements tell whether it still speaks."""

    id: int
    place: str
    said: str
    mm: float
    target_mm: float
    tolerance_mm: float
    by: Who
    stale: bool = False


class SignatureFact(Model):
    """A signed hold point: `evidence` is what was seen, `reason` why what was missing was overridden."""

    id: int
    hold: HoldName
    evidence: dict[str, str]
    overridden: tuple[str, ...]
    reason: str | None
    by: Who


class JobFacts(Model):
    """Everything recorded of one job, oldest first."""

    number: str
    sheet: Sheet | None
    sheet_version: int | None
    safety: tuple[SafetyFact, ...] = ()
    setups: tuple[SetupFact, ...] = ()
    readings: tuple[ReadingFact, ...] = ()
    movements: tuple[MovementFact, ...] = ()
    gaps: tuple[GapFact, ...] = ()
    signatures: tuple[SignatureFact, ...] = ()
