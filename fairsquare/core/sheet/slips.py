"""The single slips of pen and keyboard by which a number on a sheet goes wrong, each undone."""

from collections.abc import Iterator
from decimal import Decimal
from typing import Literal, NamedTuple

from fairsquare.core.model import LARGEST_MM, Row3
from fairsquare.core.sheet.contradictions import Change, Draft, length
from fairsquare.core.sheet.model import SpanMode

Kind = Literal["sign", "side", "swap", "unit", "digits", "mode", "span", "partner", "duplicate"]
INCH = 25.4
_NAMES = ("length", "width", "height")


class Slip(NamedTuple):
    """A slip that may have been made. `change` undoes it; `words` say what was done wrong, and to what.

    `last` marks what is thought of only where no plain slip explains as much; `shrinks` an undoing by ÷25.4.
    """

    kind: Kind
    change: Change
    words: str
    last: bool = False
    shrinks: bool = False


def slips_of_point(draft: Draft, code: str) -> Iterator[Slip]:
    """Yield every slip of one point, undone, and (last) the mirror image of its partner in its place."""
    here = draft.places[code]
    for axis, name in enumerate(_NAMES):
        for kind, value, words, shrinks in _other_values(here[axis]):
            yield Slip(kind, _put(code, here, axis, value), f"the {name} of {code} {words}", shrinks=shrinks)
    for a, b in ((0, 1), (0, 2), (1, 2)):
        if here[a] != here[b]:
            swapped = list(here)
            swapped[a], swapped[b] = here[b], here[a]
            yield Slip(
                "swap",
                Change({code: (swapped[0], swapped[1], swapped[2])}, {}),
                f"{_NAMES[a]} and {_NAMES[b]} of {code} exchanged",
            )
    other = draft.mutual.get(code)
    if other and code < other and here != draft.places[other]:
        yield Slip(
            "side", Change({code: draft.places[other], other: here}, {}), f"the rows of {code} and {other} exchanged"
        )
    if partner := draft.partners.get(code):
        x, y, z = draft.places[partner]
        yield Slip("partner", Change({code: (x, -y, z)}, {}), f"{code} does not mirror {partner}", last=True)


def slips_of_span(draft: Draft, index: int) -> Iterator[Slip]:
    """Yield every slip of one span, undone, and (last) the distance of its ends in its place."""
    span = draft.spans[index]
    named = f"the span {span.a}–{span.b}"
    for kind, value, words, shrinks in _other_values(span.mm):
        if kind != "sign":
            yield Slip(kind, _read(index, span.mode, value), f"{named} {words}", shrinks=shrinks)
    other: SpanMode = "datum_parallel" if span.mode == "point_to_point" else "point_to_point"
    meant = "seen from above" if other == "datum_parallel" else "in space"
    yield Slip("mode", _read(index, other, span.mm), f"{named} is meant {meant}")
    apart = length(draft.places[span.a], draft.places[span.b], span.mode)
    if apart > 0:
        yield Slip("span", _read(index, span.mode, apart), f"{named} does not fit its ends", last=True)


def _other_values(value: float) -> Iterator[tuple[Kind, float, str, bool]]:
    """Yield what a number may have been meant to be: kind of slip, value, words, whether it is made smaller by 25.4."""
    if value == 0:
        return
    yield "sign", -value, "has its minus lost or added", False
    if abs(value) * INCH <= LARGEST_MM:
        yield "unit", value * INCH, "is in inches", False
    yield "unit", value / INCH, "was turned into millimetres twice", True
    for other in exchanged_digits(value):
        yield "digits", other, "has two digits exchanged", False


def exchanged_digits(value: float) -> Iterator[float]:
    """Yield the numbers with two neighbouring digits left of the decimal point exchanged."""
    sign = "-" if value < 0 else ""
    whole, _, rest = format(Decimal(repr(abs(value))), "f").partition(".")
    for place in range(len(whole) - 1):
        if whole[place] != whole[place + 1]:
            digits = whole[:place] + whole[place + 1] + whole[place] + whole[place + 2 :]
            yield float(f"{sign}{digits}.{rest or 0}")


def _put(code: str, here: Row3, axis: int, value: float) -> Change:
    moved = list(here)
    moved[axis] = value
    return Change({code: (moved[0], moved[1], moved[2])}, {})


def _read(index: int, mode: SpanMode, mm: float) -> Change:
    return Change({}, {index: (mode, mm)})
