"""Readings as they were taken, and what was chosen of them."""

from typing import Any, Literal

from fairsquare.core.measure.observations import Axis
from fairsquare.core.model import Code, Model, Row3
from fairsquare.core.sheet.model import SpanMode
from fairsquare.core.who import Who

Purpose = Literal["reference", "point", "watch"]
"""What a point is read for: to tie the set-up, to be judged, or only to be watched while something near it is welded."""
ReadingKind = Literal["point", "span", "difference", "height", "offset", "gauge"]


class KeptOut(Model):
    """A person's decision that a reading is not to be used, and why."""

    reason: str
    by: Who


class Read(Model):
    """What was read of one point or two, mm, by whatever way it came: called out, sent, recorded.

    A `point` has `xyz` in the instrument's axes; a span `b`, `mode` and `mm`; a difference `b`, `axis` and `mm`; a height or
    an offset `mm`; a gauge `b`, `pin_mm`, `level_mm` and the mark at which both arms hang, `arm_mm`.
    """

    kind: ReadingKind = "point"
    code: Code
    b: Code | None = None
    xyz: Row3 | None = None
    mode: SpanMode | None = None
    axis: Axis | None = None
    mm: float | None = None
    pin_mm: float | None = None
    level_mm: float | None = None
    arm_mm: float | None = None

    @property
    def codes(self) -> tuple[str, ...]:
        """The codes of the points it reads."""
        return (self.code,) if self.b is None else (self.code, self.b)

    @property
    def read(self) -> dict[str, Any]:
        """What was read, for another value that is of the same."""
        return {name: getattr(self, name) for name in Read.model_fields}


class NewReading(Read):
    """A reading to record: as it was said, mm, and with which tool; a point's `sigma_mm` is its set-up's.

    `called_ago_s` is how long before it was sent it was called out, by the clock of the page that kept it; `order` what it was
    asked for by.
    """

    purpose: Purpose
    said: str
    loaded: bool = False
    instrument: str | None = None
    sigma_mm: float | None = None
    replaces: int | None = None
    order: int | None = None
    called_ago_s: float | None = None


class ReadingFact(Read):
    """One reading as it was recorded: as it was said and as it was understood, mm.

    `sigma_mm` is the tool's; a point's is its set-up's. A span or difference taken with no set-up in force has none.
    `replaces` names the reading that this one corrects; a reading that is `taken_back`, corrected or `kept_out` no longer
    counts. `called_at` is when it was called out, where that was before it could be sent.
    """

    id: int
    setup: int | None
    purpose: Purpose
    said: str
    loaded: bool
    instrument: str
    by: Who
    sigma_mm: float | None = None
    replaces: int | None = None
    taken_back: Who | None = None
    stale: bool = False
    kept_out: KeptOut | None = None
    called_at: str | None = None


class ChoiceFact(Model):
    """Which references a person decided to trust, and why."""

    id: int
    trusted: tuple[Code, ...]
    reason: str
    by: Who
