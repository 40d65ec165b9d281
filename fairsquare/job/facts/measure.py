"""Readings as they were taken, and what was chosen of them."""

from typing import Literal

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


class ReadingFact(Model):
    """One reading as it was said and as it was understood, mm.

    A `point` has `xyz` in the instrument's axes; a span `b`, `mode` and `mm`; a difference `b`, `axis` and `mm`; a height or
    an offset `mm`; a gauge `b`, `pin_mm`, `level_mm` and the mark at which both arms hang, `arm_mm`. `sigma_mm` is the
    tool's; a point's is its set-up's. A span or difference taken with no set-up in force has none.
    `replaces` names the reading that this one corrects; a reading that is `taken_back`, corrected or `kept_out` no longer
    counts. `called_at` is when it was called out, where that was before it could be sent.
    """

    id: int
    setup: int | None
    purpose: Purpose
    code: Code
    xyz: Row3 | None
    said: str
    loaded: bool
    instrument: str
    by: Who
    replaces: int | None = None
    taken_back: Who | None = None
    stale: bool = False
    kind: ReadingKind = "point"
    b: Code | None = None
    mode: SpanMode | None = None
    axis: Axis | None = None
    mm: float | None = None
    pin_mm: float | None = None
    level_mm: float | None = None
    arm_mm: float | None = None
    sigma_mm: float | None = None
    kept_out: KeptOut | None = None
    called_at: str | None = None

    @property
    def codes(self) -> tuple[str, ...]:
        """The codes of the points it reads."""
        return (self.code,) if self.b is None else (self.code, self.b)


class ChoiceFact(Model):
    """Which references a person decided to trust, and why."""

    id: int
    trusted: tuple[Code, ...]
    reason: str
    by: Who
