"""The part that came, laid beside the old one: what is missing on it, and whether its own shape is right."""

import math
from typing import NamedTuple

from fairsquare.core.metals import metals_touch
from fairsquare.core.said import Said, say
from fairsquare.core.sheet.model import Sheet, points_by_first_code, tolerances
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.parts import PartFact, PartItemFact, PartSpanFact

COVERAGE = 2.0


class PartSpan(NamedTuple):
    """A span on a part against the sheet, mm: `off` where it is out, `unsure` where it is within by less than its uncertainty."""

    span: PartSpanFact
    sheet_mm: float | None
    tolerance_mm: float | None
    off: bool
    unsure: bool


class PartState(NamedTuple):
    """A part, counted off and measured. `missing` are items of which it has fewer than the old one, without a plan."""

    part: PartFact
    items: tuple[PartItemFact, ...]
    missing: tuple[PartItemFact, ...]
    spans: tuple[PartSpan, ...]

    @property
    def counted(self) -> tuple[PartItemFact, ...]:
        """What was counted off against the old part."""
        return tuple(item for item in self.items if item.kind != "comes_off")

    @property
    def comes_off(self) -> tuple[PartItemFact, ...]:
        """What comes off the new part before it goes in: old sealer, foam, a neighbour's flange."""
        return tuple(item for item in self.items if item.kind == "comes_off")

    @property
    def caution(self) -> str:
        """What is to be said of a part made in the shop, where two metals would touch; empty where nothing is."""
        blank = self.part.blank
        return metals_touch(blank.material, blank.touches) if blank else ""

    @property
    def faults(self) -> tuple[Said, ...]:
        """What stands in the way of cutting for it."""
        if self.part.origin == "made":
            return ()
        reasons = [say("part.fewer", item=item.words, new=item.new_count, old=item.old_count) for item in self.missing]
        reasons += [say("part.still_on", item=item.words) for item in self.comes_off if not item.plan]
        away = [
            (span.span, span.span.mm - span.sheet_mm) for span in self.spans if span.off and span.sheet_mm is not None
        ]
        reasons += [
            say("part.too_long" if mm > 0 else "part.too_short", a=span.a, b=span.b, by_mm=abs(mm)) for span, mm in away
        ]
        if not self.counted:
            reasons.append(say("part.uncounted"))
        if self.part.origin == "donor" and not self.spans:
            reasons.append(say("part.unmeasured"))
        if self.part.origin == "donor" and not any(item.kind == "layer" for item in self.counted):
            reasons.append(say("part.layers"))
        if self.part.origin == "donor" and not self.part.identity:
            reasons.append(say("part.identity"))
        return tuple(reasons)


def part_states(facts: JobFacts) -> tuple[PartState, ...]:
    """Return the parts that came, with what is missing on each."""
    return tuple(_state(facts, part) for part in facts.parts)


def _state(facts: JobFacts, part: PartFact) -> PartState:
    items = tuple(part_item for part_item in facts.part_items if part_item.part == part.id)
    missing = tuple(item for item in items if item.new_count < item.old_count and not item.plan)
    spans = tuple(_span(facts.sheet, part_span) for part_span in facts.part_spans if part_span.part == part.id)
    return PartState(part, items, missing, spans)


def _span(sheet: Sheet | None, span: PartSpanFact) -> PartSpan:
    """Hold a span against the sheet; its tolerance is that of its ends along it (as in `sheet-spans`)."""
    points = points_by_first_code(sheet) if sheet else {}
    a, b = points.get(span.a), points.get(span.b)
    if sheet is None or a is None or b is None or a.code == b.code:
        return PartSpan(span, None, None, off=False, unsure=False)
    apart = [u - v for u, v in zip(a.xyz, b.xyz, strict=True)]
    length = math.hypot(*apart)
    ends = zip(apart, tolerances(sheet, a), tolerances(sheet, b), strict=True)
    tolerance = math.sqrt(sum((u / max(length, 1e-9)) ** 2 * (ta**2 + tb**2) for u, ta, tb in ends))
    away, wide = abs(span.mm - length), COVERAGE * span.sigma_mm
    return PartSpan(span, length, tolerance, off=away > tolerance, unsure=away <= tolerance < away + wide)
