"""What a reading should be by the sheet, how far it is from that in words, and cross spans held against one another."""

from collections.abc import Iterable, Sequence
from math import hypot, sqrt

from fairsquare.core.measure.adjust import SightLine
from fairsquare.core.measure.observations import AXES, Axis
from fairsquare.core.model import Model, Row3
from fairsquare.core.sheet.model import Sheet, find_point, points_by_code, tolerances
from fairsquare.core.sheet.spans import SheetSpans, sheet_spans
from fairsquare.job.facts.measure import ReadingFact
from fairsquare.job.measure.calls import Call

_AHEAD: dict[Axis, tuple[str, str]] = {
    "length": ("ahead", "behind"),
    "width": ("to the left", "to the right"),
    "height": ("higher", "lower"),
}


Readable = Call | ReadingFact
"""What was called, or what was recorded."""


class Part(Model):
    """One number of a reading, mm: what was read, what it should be (null where that is not known), and the difference.

    `word` says which way: long or short, wide or narrow, high or low, left or right. `read_word` is the side as read.
    """

    name: str
    read_mm: float
    read_word: str = ""
    expected_mm: float | None = None
    difference_mm: float | None = None
    word: str = ""
    tolerance_mm: float | None = None

    @property
    def outside(self) -> bool:
        """Whether the difference is larger than the tolerance."""
        return (
            self.difference_mm is not None
            and self.tolerance_mm is not None
            and abs(self.difference_mm) > self.tolerance_mm
        )


class Meaning(Model):
    """What a reading means. `remark` says where it makes sense only in the other mode, or is wide of the sheet."""

    parts: tuple[Part, ...]
    pointers_mm: tuple[float, float] | None = None
    remark: str | None = None


class CrossPair(Model):
    """A span and its mirror image: on a square structure they are alike. `sigma_mm` is that of the difference."""

    span: tuple[str, str]
    mm: float
    mirror: tuple[str, str]
    mirror_mm: float
    difference_mm: float
    sigma_mm: float

    @property
    def differs(self) -> bool:
        """Whether they differ by more than two sigma and more than a millimetre."""
        return abs(self.difference_mm) > max(2 * self.sigma_mm, 1.0)


def meaning_of(sheet: Sheet | None, read: Readable, sight: SightLine | None = None) -> Meaning:
    """Return what a reading of any kind but a point means; without a sheet, only what was read."""
    if sheet is None:
        return Meaning(parts=(Part(name="span", read_mm=read.mm or 0.0),))
    points = points_by_code(sheet)
    a = find_point(points, read.code, "call")
    place, limits = a.xyz, tolerances(sheet, a)
    if read.kind == "offset":
        expected = None if sight is None else place[1] - (sight.l0 + sight.l1 * place[0])
        return Meaning(parts=(_sideways("offset", read.mm or 0.0, expected, limits[1], place),))
    if read.kind == "height":
        expected = None if sight is None else place[2] - (sight.c0 + sight.c1 * place[0] + sight.c2 * place[1])
        part = _part("height", read.mm or 0.0, expected, limits[2], ("high", "low"))
        return Meaning(parts=(part,))
    b = find_point(points, read.b or "", "call")
    both = tuple(hypot(limit, other) for limit, other in zip(limits, tolerances(sheet, b), strict=True))
    if read.kind == "span":
        return _span(sheet, read)
    if read.kind == "difference":
        axis = AXES.index(read.axis or "length")
        apart = place[axis] - b.xyz[axis]
        part = _part("difference", read.mm or 0.0, apart, both[axis], _AHEAD[read.axis or "length"])
        return Meaning(parts=(part.model_copy(update={"read_word": _AHEAD[read.axis or "length"][part.read_mm < 0]}),))
    return Meaning(parts=tuple(_gauge(read, place, b.xyz, (both[1] / 2, both[2]), sight)))


def _span(sheet: Sheet, read: Readable) -> Meaning:
    span = sheet_spans(SheetSpans(sheet=sheet, pairs=((read.code, read.b or ""),))).spans[0]
    flat = read.mode == "datum_parallel"
    own, other = (span.datum_parallel, span.point_to_point) if flat else (span.point_to_point, span.datum_parallel)
    mm = read.mm or 0.0
    part = _part("span", mm, own.mm, own.tolerance_mm, ("long", "short"))
    remark = None
    if part.outside and other.tolerance_mm is not None and abs(mm - other.mm) <= other.tolerance_mm:
        meant = "in space (point to point)" if flat else "seen from above (flat)"
        remark = f"It fits only {meant}: {other.mm:.1f} mm. Was it read so?"
    elif abs(part.difference_mm or 0.0) > max(100.0, 0.2 * own.mm):
        remark = "Far from the sheet: other holes, or another unit?"
    return Meaning(parts=(part,), pointers_mm=span.pointers_mm if flat else None, remark=remark)


def _gauge(read: Readable, a: Row3, b: Row3, limits: tuple[float, float], sight: SightLine | None) -> Iterable[Part]:
    if read.pin_mm is not None:
        expected = None if sight is None else (a[1] + b[1]) / 2 - (sight.l0 + sight.l1 * (a[0] + b[0]) / 2)
        part = _part("pin", read.pin_mm, expected, limits[0], ("left", "right"))
        yield part.model_copy(update={"read_word": _word(part.read_mm, ("left", "right"))})
    if read.level_mm is not None:
        expected = None if sight is None else (a[2] - b[2]) - sight.c2 * (a[1] - b[1])
        sides = ("left high", "right high") if a[1] >= b[1] else ("right high", "left high")
        part = _part("level", read.level_mm, expected, limits[1], sides)
        yield part.model_copy(update={"read_word": _word(part.read_mm, sides)})


def _sideways(name: str, mm: float, expected: float | None, limit: float, place: Row3) -> Part:
    words = ("wide", "narrow") if place[1] > 0 else ("narrow", "wide") if place[1] < 0 else ("left", "right")
    part = _part(name, mm, expected, limit, words)
    return part.model_copy(update={"read_word": _word(mm, ("left", "right"))})


def _part(name: str, mm: float, expected: float | None, limit: float | None, words: tuple[str, str]) -> Part:
    off = None if expected is None else mm - expected
    return Part(
        name=name,
        read_mm=mm,
        expected_mm=expected,
        difference_mm=off,
        word="" if off is None else _word(off, words),
        tolerance_mm=limit,
    )


def _word(mm: float, words: tuple[str, str]) -> str:
    return words[0] if mm > 0 else words[1] if mm < 0 else ""


def cross_pairs(readings: Sequence[ReadingFact], partners: dict[str, str]) -> tuple[CrossPair, ...]:
    """Return the free spans whose mirror image was read too, in the same mode; of several readings of one the last.

    `partners` are the codes of the other side; needs no sheet and no set-up.
    """
    last: dict[tuple[str, frozenset[str]], ReadingFact] = {}
    for reading in readings:
        if reading.kind == "span" and reading.b and not reading.loaded and not reading.stale:
            last[(reading.mode or "", frozenset(reading.codes))] = reading
    pairs, done = [], set()
    for (mode, ends), reading in last.items():
        mirrored = tuple(partners.get(code, code) for code in reading.codes)
        other = last.get((mode, frozenset(mirrored)))
        key = frozenset({ends, frozenset(mirrored)})
        if other is None or len(key) < 2 or key in done:
            continue
        done.add(key)
        pairs.append(
            CrossPair(
                span=(reading.code, reading.b or ""),
                mm=reading.mm or 0.0,
                mirror=(mirrored[0], mirrored[1]),
                mirror_mm=other.mm or 0.0,
                difference_mm=(reading.mm or 0.0) - (other.mm or 0.0),
                sigma_mm=sqrt((reading.sigma_mm or 1.0) ** 2 + (other.sigma_mm or 1.0) ** 2),
            )
        )
    return tuple(pairs)


def partners_by_letter(codes: Iterable[str]) -> dict[str, str]:
    """Return the code of the other side by the last letter alone, L and R exchanged, where there is no sheet to say."""
    swap = {"L": "R", "R": "L", "l": "r", "r": "l"}
    return {code: code[:-1] + swap[code[-1]] for code in codes if code and code[-1] in swap}
