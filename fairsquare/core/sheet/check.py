"""Does the sheet agree with itself? Each contradiction is traced to the single slip that explains most of it.

Nothing is changed: findings carry suggestions, and where several slips explain equally much, all of them.
"""

from collections import Counter
from collections.abc import Iterable
from typing import Literal, NamedTuple

from fairsquare.core.model import Model, Row3
from fairsquare.core.sheet.contradictions import Change, Contradiction, Draft, draft_of, lots
from fairsquare.core.sheet.model import Sheet, SpanMode, check_span_ends, partner_code, points_by_first_code
from fairsquare.core.sheet.slips import INCH, Kind, Slip, slips_of_point, slips_of_span

_NAMES = ("length", "width", "height")


class CheckSheet(Model):
    """The sheet to look through."""

    sheet: Sheet


class SuggestedPoint(Model):
    """A place for a point that would agree, mm."""

    code: str
    xyz: Row3


class SuggestedSpan(Model):
    """A span that would agree, mm, and its index on the sheet."""

    index: int
    a: str
    b: str
    mode: SpanMode
    mm: float


class Suggestion(Model):
    """What to write instead."""

    points: tuple[SuggestedPoint, ...] = ()
    spans: tuple[SuggestedSpan, ...] = ()


class Alternative(Model):
    """Another slip that explains as much; `detail` says which."""

    kind: Kind
    points: tuple[str, ...]
    spans: tuple[int, ...]
    suggestion: Suggestion
    detail: str


class Misfit(Model):
    """Two things on the sheet that cannot both be right, and by how much, mm (0 where two codes stand in one place)."""

    kind: Literal["pair", "side", "span", "place"]
    points: tuple[str, ...]
    by_mm: float


class Finding(Model):
    """One thing on the sheet that cannot be right. With alternatives the culprit is not known: a person must say.

    `detail` tells of the first four `values`: what contradicts, and by how much.
    """

    kind: Kind
    points: tuple[str, ...]
    spans: tuple[int, ...]
    detail: str
    suggestion: Suggestion | None
    alternatives: tuple[Alternative, ...] = ()
    values: tuple[Misfit, ...] = ()


class SheetChecked(Model):
    """What was found; nothing on a good sheet."""

    findings: tuple[Finding, ...]


class _Undone(NamedTuple):
    slip: Slip
    removed: int


class _Search:
    """The search for slips. Undoings that help are kept until something they touch changes."""

    def __init__(self, draft: Draft) -> None:
        self.draft = draft
        self.tried: dict[str | int, list[_Undone]] = {}

    def best(self, lot: list[Contradiction]) -> list[Slip]:
        """Return the slips that explain most of a lot, the one that leaves least first; none where nothing helps.

        What is left is the sum of squares over the lot; times 25.4² where the undoing divides by it, so that small
        figures do not look good by being small.
        """
        keys: list[str | int] = [
            *sorted({code for contradiction in lot for code in contradiction.codes}),
            *sorted({contradiction.number for contradiction in lot if contradiction.kind == "span"}),
        ]
        all_undone = [undone for key in keys for undone in self._undone(key)]
        most = max((undone.removed for undone in all_undone), default=0)
        plain = max((undone.removed for undone in all_undone if not undone.slip.last), default=0)
        best = [undone.slip for undone in all_undone if undone.removed == most and undone.slip.last == (plain < most)]
        if len(best) < 2:
            return best
        whole = self.draft.misfits({code for contradiction in lot for code in contradiction.codes})
        squares = {contradiction: whole.get(contradiction, 0.0) ** 2 for contradiction in lot}
        return sorted(best, key=lambda slip: self._left(squares, slip))

    def _left(self, squares: dict[Contradiction, float], slip: Slip) -> float:
        """Return the sum of squares over a lot, `squares` as it stands, with a slip undone."""
        touched = self._touched(slip.change)
        before, after = self.draft.misfits(touched), self.draft.misfits(touched, slip.change)
        changed = sum(
            after.get(contradiction, 0.0) ** 2 - squares[contradiction]
            for contradiction in before
            if contradiction in squares
        )
        return (sum(squares.values()) + changed) * (INCH**2 if slip.shrinks else 1)

    def take(self, change: Change) -> None:
        """Take a suggestion, and forget the undoings that it touches."""
        touched = self._touched(change)
        near = {code for contradiction in touched for code in self.draft.neighbours(contradiction)}
        self.draft.make(change)
        near |= {code for contradiction in touched for code in self.draft.neighbours(contradiction)}
        for code in near:
            self.tried.pop(code, None)
            for index in self.draft.reached.get(code, ()):
                self.tried.pop(index, None)

    def _touched(self, change: Change) -> set[str]:
        spans = (self.draft.spans[index] for index in change.spans)
        return set(change.places) | {end for span in spans for end in (span.a, span.b)}

    def _undone(self, key: str | int) -> list[_Undone]:
        """Return the slips of a point or a span whose undoing removes contradictions and makes no new ones."""
        if key not in self.tried:
            slips = slips_of_point(self.draft, key) if isinstance(key, str) else slips_of_span(self.draft, key)
            self.tried[key] = [undone for slip in slips if (undone := self._try(slip)).removed > 0]
        return self.tried[key]

    def _try(self, slip: Slip) -> _Undone:
        codes = self._touched(slip.change)
        before, after = self.draft.contradictions(codes), self.draft.contradictions(codes, slip.change)
        return _Undone(slip, 0 if after - before else len(before) - len(after))


def check_sheet(request: CheckSheet) -> SheetChecked:
    """Look for slips of sign, side, unit, column and digit. Raises `UnknownCode` for a span with an end off the sheet."""
    check_span_ends(request.sheet)
    return SheetChecked(findings=(*_names(request.sheet), *_slips(draft_of(request.sheet))))


def apply_suggestion(sheet: Sheet, suggestion: Suggestion) -> Sheet:
    """Return the sheet with a suggestion taken."""
    places = {point.code: point.xyz for point in suggestion.points}
    spans = {span.index: span for span in suggestion.spans}
    return sheet.model_copy(
        update={
            "points": tuple(
                point.model_copy(update={"xyz": places[point.code]}) if point.code in places else point
                for point in sheet.points
            ),
            "spans": tuple(
                span.model_copy(update={"mode": spans[index].mode, "mm": spans[index].mm}) if index in spans else span
                for index, span in enumerate(sheet.spans)
            ),
        }
    )


def _names(sheet: Sheet) -> Iterable[Finding]:
    """Yield codes that stand twice, and partners that are none."""
    for code, count in Counter(point.code for point in sheet.points).items():
        if count > 1:
            yield _plain("duplicate", code, f"{code} stands {count} times: each code must name one point.")
    points = points_by_first_code(sheet)
    for code, point in points.items():
        named = partner_code(point)
        partner = points.get(named) if named else None
        if partner is None:
            if point.partner is not None:
                yield _plain("partner", code, f"{point.partner}, the partner of {code}, is not on the sheet.")
        elif (back := partner_code(partner)) not in (code, None):
            yield _plain("partner", code, f"{code} names {named} as its partner, but {named} names {back}.")


def _plain(kind: Kind, code: str, detail: str) -> Finding:
    return Finding(kind=kind, points=(code,), spans=(), detail=detail, suggestion=None)


def _slips(draft: Draft) -> Iterable[Finding]:
    """Yield a finding for each lot; its first suggestion is taken, and what is left of the lot looked at again."""
    search = _Search(draft)
    waiting = lots(draft.contradictions(draft.places))[::-1]
    while waiting:
        lot = [
            contradiction
            for contradiction in waiting.pop()
            if contradiction in draft.contradictions(contradiction.codes)
        ]
        if not lot:
            continue
        slips = search.best(lot)
        if not slips:
            yield _unexplained(draft, lot)
            continue
        yield _explained(draft, slips, lot)
        search.take(slips[0].change)
        waiting += lots(
            draft.contradictions({code for contradiction in lot for code in contradiction.codes}) & set(lot)
        )[::-1]


def _unexplained(draft: Draft, lot: list[Contradiction]) -> Finding:
    spans = tuple(contradiction.number for contradiction in lot if contradiction.kind == "span")
    kinds = {contradiction.kind for contradiction in lot}
    kind: Kind = "span" if spans else "duplicate" if kinds == {"place"} else "partner"
    codes = tuple(sorted({code for contradiction in lot for code in contradiction.codes}))
    return Finding(
        kind=kind,
        points=codes,
        spans=spans,
        detail=f"{_told(draft, lot)}. No single slip explains it: look at these lines again.",
        suggestion=None,
        values=_misfits(draft, lot),
    )


def _explained(draft: Draft, slips: list[Slip], lot: list[Contradiction]) -> Finding:
    first = _named(draft, slips[0])
    doubt = (
        f" So would {len(slips) - 1} other {'slip' if len(slips) == 2 else 'slips'}: which it was, the sheet does not tell."
        if len(slips) > 1
        else ""
    )
    solved = [
        contradiction
        for contradiction in lot
        if contradiction not in draft.contradictions(contradiction.codes, slips[0].change)
    ]
    return Finding(
        kind=first.kind,
        points=first.points,
        spans=first.spans,
        detail=f"{_told(draft, solved)}. {first.detail}{doubt}",
        suggestion=first.suggestion,
        alternatives=tuple(_named(draft, slip) for slip in slips[1:]),
        values=_misfits(draft, solved),
    )


def _named(draft: Draft, slip: Slip) -> Alternative:
    kind: Kind = slip.kind
    codes = tuple(slip.change.places)
    if kind == "partner" and any(contradiction.kind == "place" for contradiction in draft.contradictions(codes)):
        kind = "duplicate"
    suggestion = Suggestion(
        points=tuple(SuggestedPoint(code=code, xyz=place) for code, place in slip.change.places.items()),
        spans=tuple(
            SuggestedSpan(index=index, a=draft.spans[index].a, b=draft.spans[index].b, mode=mode, mm=mm)
            for index, (mode, mm) in slip.change.spans.items()
        ),
    )
    return Alternative(
        kind=kind,
        points=codes,
        spans=tuple(slip.change.spans),
        suggestion=suggestion,
        detail=f"{slip.words[:1].upper()}{slip.words[1:]}: {_wanted(draft, slip)} would agree.",
    )


def _wanted(draft: Draft, slip: Slip) -> str:
    """Return what to write instead, in words."""
    parts = []
    for code, place in slip.change.places.items():
        changed = [f"{_NAMES[k]} {place[k]:.6g} mm" for k in range(3) if place[k] != draft.places[code][k]]
        parts.append(f"{code} {', '.join(changed)}")
    for index, (mode, mm) in slip.change.spans.items():
        meant = "in space" if mode == "point_to_point" else "seen from above"
        parts.append(f"{draft.spans[index].a}–{draft.spans[index].b} {mm:.6g} mm {meant}")
    return " and ".join(parts)


def _misfits(draft: Draft, lot: list[Contradiction]) -> tuple[Misfit, ...]:
    off = draft.misfits({code for contradiction in lot for code in contradiction.codes})
    return tuple(
        Misfit(kind=contradiction.kind, points=contradiction.codes, by_mm=off[contradiction]) for contradiction in lot
    )


def _told(draft: Draft, lot: list[Contradiction]) -> str:
    """Return what contradicts, in words; the first four of many."""
    off = draft.misfits({code for contradiction in lot for code in contradiction.codes})
    words = []
    for contradiction in lot[:4]:
        a = contradiction.codes[0]
        if contradiction.kind == "pair":
            words.append(
                f"{a} and {contradiction.codes[1]} differ by {off[contradiction]:.1f} mm in {_NAMES[contradiction.number]}"
            )
        elif contradiction.kind == "side":
            words.append(f"{a} lies {off[contradiction]:.1f} mm on the wrong side of the centre")
        elif contradiction.kind == "span":
            words.append(f"the span {a}–{contradiction.codes[1]} differs by {off[contradiction]:.1f} mm from its ends")
        else:
            words.append(f"{a} and {contradiction.codes[1]} stand in one place")
    if len(lot) > 4:
        words.append(f"and {len(lot) - 4} more")
    told = ", ".join(words)
    return told[:1].upper() + told[1:]
