"""What on a sheet contradicts what: left and right, a point and its side, a span and its ends, two codes in one place."""

import math
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Literal, NamedTuple

from fairsquare.core.model import Row3
from fairsquare.core.sheet.model import Sheet, Span, SpanMode, partner_code, points_by_first_code

APART_MM = 2.0
"""What differs by more contradicts (common practice, no source)."""
ONE_PLACE_MM = 0.05
_ROUNDING = 1e-9


class Contradiction(NamedTuple):
    """Two things on the sheet that cannot both be right: `kind` with the codes, axis or span it is about.

    Kinds: `pair` (axis of a left and a right point), `side`, `span`, `place` (two codes in one place).
    """

    kind: Literal["pair", "side", "span", "place"]
    codes: tuple[str, ...]
    number: int
    """The axis of a pair, the index of a span, else 0."""


class Change(NamedTuple):
    """Other places for some points, and other spans under their indices: a slip undone."""

    places: dict[str, Row3]
    spans: dict[int, tuple[SpanMode, float]]


@dataclass
class Draft:
    """A sheet that is being put right: where each code stands and what each span reads, now.

    `partners` holds only pairs that are mirror images of each other; `sides` the sign that a point's y must have.
    """

    places: dict[str, Row3]
    spans: list[Span]
    partners: dict[str, str] = field(default_factory=dict)
    mutual: dict[str, str] = field(default_factory=dict)
    sides: dict[str, int] = field(default_factory=dict)
    reached: dict[str, list[int]] = field(default_factory=lambda: defaultdict(list))
    columns: dict[int, set[str]] = field(default_factory=lambda: defaultdict(set))

    def at(self, code: str, change: Change | None = None) -> Row3:
        """Return where a code stands, with a change made."""
        return (change.places if change else {}).get(code) or self.places[code]

    def misfits(self, codes: Iterable[str], change: Change | None = None) -> dict[Contradiction, float]:
        """Return all that can contradict at these codes, with by how much, mm; a side or place not at fault is left out."""
        off_mm: dict[Contradiction, float] = {}
        for code in codes:
            here = self.at(code, change)
            if partner := self.partners.get(code):
                there = self.at(partner, change)
                pair = (min(code, partner), max(code, partner))
                for axis, off in enumerate((here[0] - there[0], here[1] + there[1], here[2] - there[2])):
                    off_mm[Contradiction("pair", pair, axis)] = abs(off)
            if here[1] * self.sides.get(code, 0) < -APART_MM - _ROUNDING:
                off_mm[Contradiction("side", (code,), 0)] = abs(here[1])
            for index in self.reached.get(code, ()):
                off_mm[Contradiction("span", self._ends(index), index)] = self._span_off(index, change)
            for other in self._same_place(code, here, change):
                off_mm[Contradiction("place", (min(code, other), max(code, other)), 0)] = 0.0
        return off_mm

    def contradictions(self, codes: Iterable[str], change: Change | None = None) -> set[Contradiction]:
        """Return what contradicts at these codes, with a change made."""
        return {
            contradiction
            for contradiction, off in self.misfits(codes, change).items()
            if _contradicts(contradiction, off)
        }

    def neighbours(self, code: str) -> set[str]:
        """Return the codes that a pair or a span joins to this one, and itself."""
        joined = {end for index in self.reached.get(code, ()) for end in self._ends(index)}
        return joined | {code} | ({self.partners[code]} if code in self.partners else set())

    def make(self, change: Change) -> None:
        """Take a change."""
        for code, place in change.places.items():
            self.columns[_column(self.places[code])].discard(code)
            self.places[code] = place
            self.columns[_column(place)].add(code)
        for index, (mode, mm) in change.spans.items():
            self.spans[index] = self.spans[index].model_copy(update={"mode": mode, "mm": mm})

    def _ends(self, index: int) -> tuple[str, str]:
        return self.spans[index].a, self.spans[index].b

    def _span_off(self, index: int, change: Change | None) -> float:
        span = self.spans[index]
        mode, mm = change.spans.get(index, (span.mode, span.mm)) if change else (span.mode, span.mm)
        return abs(mm - length(self.at(span.a, change), self.at(span.b, change), mode))

    def _same_place(self, code: str, here: Row3, change: Change | None) -> list[str]:
        moved = change.places if change else {}
        column = _column(here)
        near = (
            self.columns.get(column - 1, set()) | self.columns.get(column, set()) | self.columns.get(column + 1, set())
        )
        return [
            other
            for other in (near | set(moved)) - {code}
            if all(abs(a - b) <= ONE_PLACE_MM + _ROUNDING for a, b in zip(here, self.at(other, change), strict=True))
        ]


def draft_of(sheet: Sheet) -> Draft:
    """Return the sheet as a draft; of a code that stands twice the first counts."""
    points = points_by_first_code(sheet)
    draft = Draft(places={code: point.xyz for code, point in points.items()}, spans=list(sheet.spans))
    for code, point in points.items():
        draft.columns[_column(point.xyz)].add(code)
        named = partner_code(point)
        if named and code[-1] + named[-1] in ("LR", "RL"):
            draft.sides[code] = 1 if code[-1] == "L" else -1
        partner = points.get(named) if named else None
        if partner is None or partner.code == code or partner_code(partner) not in (code, None):
            continue
        draft.mutual[code], draft.mutual[partner.code] = partner.code, code
        if not (point.asymmetric or partner.asymmetric):
            draft.partners[code], draft.partners[partner.code] = partner.code, code
    for index, span in enumerate(sheet.spans):
        draft.reached[span.a].append(index)
        draft.reached[span.b].append(index)
    return draft


def _contradicts(contradiction: Contradiction, off: float) -> bool:
    """Say whether what differs by `off` mm contradicts."""
    return contradiction.kind in ("side", "place") or off > APART_MM + _ROUNDING


def length(a: Row3, b: Row3, mode: SpanMode) -> float:
    """Return the distance of two places in a mode, mm."""
    return math.dist(a, b) if mode == "point_to_point" else math.dist(a[:2], b[:2])


def lots(found: Iterable[Contradiction]) -> list[list[Contradiction]]:
    """Return contradictions parted into lots: those that share a point, directly or by others, belong together."""
    leader: dict[str, str] = {}

    def lead(code: str) -> str:
        while leader.setdefault(code, code) != code:
            leader[code] = leader[leader[code]]
            code = leader[code]
        return code

    ordered = sorted(found)
    for contradiction in ordered:
        for code in contradiction.codes[1:]:
            leader[lead(code)] = lead(contradiction.codes[0])
    parted: dict[str, list[Contradiction]] = defaultdict(list)
    for contradiction in ordered:
        parted[lead(contradiction.codes[0])].append(contradiction)
    return list(parted.values())


def _column(place: Row3) -> int:
    """Return the slice along the length, 1 mm thick, in which a place lies: what is in one place lies in the same or the next."""
    return math.floor(place[0])
