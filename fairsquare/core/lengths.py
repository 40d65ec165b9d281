"""Lengths as people write and say them, read exactly and turned into millimetres once.

A text is read into an exact rational number, so that `mm` is the double nearest to what was meant. The grammar is one
pattern; the `regex` library's partial matching tells how far a text could still have become a length, which is
where the error points.
"""

import unicodedata
from fractions import Fraction
from functools import lru_cache
from typing import Literal, NamedTuple

import regex
from pydantic import Field

from fairsquare.core.errors import NotALength
from fairsquare.core.model import Model, NotNegative

Unit = Literal["mm", "cm", "m", "in", "ft"]

MM_PER: dict[str, Fraction] = {
    "mm": Fraction(1),
    "cm": Fraction(10),
    "m": Fraction(1000),
    "in": Fraction(254, 10),
    "ft": Fraction(3048, 10),
}
"""Millimetres in one of each unit; the inch is 25.4 mm exactly (international yard and pound agreement, 1959)."""

METRIC = frozenset({"mm", "cm", "m"})
LONGEST_TEXT = 200

_UNIT_WORDS: dict[str, tuple[str, ...]] = {
    "mm": (r"millimet(?:re|er)s?", r"mms?\.?"),
    "cm": (r"centimet(?:re|er)s?", r"cms?\.?"),
    "m": (r"met(?:re|er)s?", r"m\.?"),
    "in": (r"inch(?:es)?", r"ins?\.?", r"[\"“”″]", r"['‘’′]{2}"),
    "ft": (r"foot", r"feet", r"ft\.?", r"['‘’′]"),
}
_DASH = r"[-\u2010\u2011\u2013\u2212]"
_VULGAR = r"[¼½¾⅐⅑⅒⅓⅔⅕⅖⅗⅘⅙⅚⅛⅜⅝⅞]"
_RATIO = rf"(?:\d+[/⁄]\d+|{_VULGAR})"
_DECIMAL = r"(?:\d+(?:[.,]\d+)?|[.,]\d+)"
_MIXED = rf"(?:\d+(?:\s*{_VULGAR}|\s+{_RATIO}|{_DASH}{_RATIO})|{_RATIO})"
_FEET = "|".join(_UNIT_WORDS["ft"])
_INCHES = "|".join(_UNIT_WORDS["in"])
_ANY_UNIT = "|".join(rf"(?P<{name}>{'|'.join(words)})" for name, words in _UNIT_WORDS.items())

_GRAMMAR = regex.compile(
    rf"""\s*(?P<sign>[-\u2013\u2212+]?)\s*(?:
        (?P<feet>\d+)\s*(?:{_FEET})\s*(?:{_DASH}\s*)?(?P<inches>{_MIXED}|{_DECIMAL})(?:\s*(?:{_INCHES}))?
      | (?P<number>{_MIXED}|{_DECIMAL})(?:\s*(?:{_ANY_UNIT}))?
    )\s*""",
    regex.VERBOSE | regex.IGNORECASE | regex.ASCII,
)
_THOUSANDS = regex.compile(r"(?<![\d.,])(\d{1,3}),\d{3}(?!\d)", regex.ASCII)
_STROKE = regex.compile(r"(?:(\d+)(?:\s+|[-\u2010\u2011\u2013\u2212]))?(\d+)/(\d+)", regex.ASCII)


class ParseLength(Model):
    """A length as it was written; a bare number is in `unit`."""

    text: str = Field(max_length=LONGEST_TEXT)
    unit: Unit = "mm"


class ParsedLength(Model):
    """`mm`: nearest double; `unit`: the one the text was taken in; `canonical` reads back to the same three."""

    mm: float
    unit: Unit
    canonical: str


class CompareLengths(Model):
    """Two texts that claim to be the same length; bare numbers are in `unit`."""

    a: str = Field(max_length=LONGEST_TEXT)
    b: str = Field(max_length=LONGEST_TEXT)
    unit: Unit = "mm"
    within_mm: NotNegative = 0.5


class ComparedLengths(Model):
    """`difference_mm` is b - a; `same` when its size is at most `within_mm`."""

    a_mm: float
    b_mm: float
    difference_mm: float
    same: bool
    words: str


class Length(NamedTuple):
    """An exact length: `mm` as a rational, the unit it was given in, and its canonical text."""

    mm: Fraction
    unit: Unit
    canonical: str


class _Fault(NamedTuple):
    at: int
    words: str


def parse_length(request: ParseLength) -> ParsedLength:
    """Read one length. Raises `NotALength` with `at`, the index of the first character that cannot be part of one."""
    length = read_length(request.text, request.unit)
    return ParsedLength(mm=float(length.mm), unit=length.unit, canonical=length.canonical)


def compare_lengths(request: CompareLengths) -> ComparedLengths:
    """Compare two lengths that should be one. Raises `NotALength` that names the field, `a` or `b`."""
    a = read_length(request.a, request.unit, field="a")
    b = read_length(request.b, request.unit, field="b")
    difference = float(b.mm - a.mm)
    same = abs(difference) <= request.within_mm
    verdict = "the same" if same else f"{abs(difference):.2f} mm apart: one of them is not what was meant"
    return ComparedLengths(
        a_mm=float(a.mm),
        b_mm=float(b.mm),
        difference_mm=difference,
        same=same,
        words=f"{a.canonical} is {float(a.mm):.2f} mm, {b.canonical} is {float(b.mm):.2f} mm: {verdict}",
    )


_LONGEST = 200
"""Characters: what is longer is no length, and might be larger than any number that a computer holds."""


def read_length(text: str, unit: Unit = "mm", *, field: str = "text") -> Length:
    """Read `text` exactly; a bare number is in `unit`. Raises `NotALength` that names `field`."""
    if len(text) > _LONGEST:
        words = f"“{text[:20]}…” is not a length: nobody writes one with more than {_LONGEST} characters."
        raise NotALength(words, field=field, value=text[:_LONGEST], details={"at": _LONGEST})
    plain = _same_length_ascii(text)
    match = _GRAMMAR.fullmatch(plain)
    faults = [] if match else [_first_stranger(plain)]
    sound = match or _GRAMMAR.fullmatch(plain, 0, _longest_whole(plain, faults[0].at))
    if sound:
        faults += _faults_of_meaning(plain, sound, unit)
    if faults or match is None:
        raise _refusal(text, min(faults), field)
    return _length_of(match, unit)


def _same_length_ascii(text: str) -> str:
    """Return `text` with kinds of space and stroke made plain, character by character, so that indices stay."""
    return "".join(" " if character.isspace() else "/" if character == "⁄" else character for character in text)


@lru_cache(maxsize=4096)
def _could_begin(text: str) -> bool:
    return _GRAMMAR.fullmatch(text, partial=True) is not None


def _first_stranger(text: str) -> _Fault:
    for at in range(len(text)):
        if not _could_begin(text[: at + 1]):
            return _Fault(at, f"“{text[at]}” cannot stand here")
    return _Fault(len(text), "the text ends too soon" if text.strip() else "there is nothing here")


def _longest_whole(text: str, end: int) -> int:
    return next((stop for stop in range(end, 0, -1) if _GRAMMAR.fullmatch(text, 0, stop)), 0)


def _faults_of_meaning(text: str, match: "regex.Match[str]", unit: Unit) -> list[_Fault]:
    """What the grammar lets through and a careful reader would not."""
    faults = [
        _Fault(comma.end(1), "a comma before three digits may part thousands or decimals: leave it out")
        for comma in _THOUSANDS.finditer(text, 0, match.end())
        if comma[1].strip("0")
    ]
    for stroke in _STROKE.finditer(text, 0, match.end()):
        if int(stroke[3]) == 0:
            faults.append(_Fault(stroke.start(3), "nothing can be divided by nought"))
        elif stroke[1] is not None and int(stroke[2]) >= int(stroke[3]):
            faults.append(_Fault(stroke.end(3), "the fraction behind a whole number must be less than one"))
    if faults:
        return faults
    if match["inches"] is not None and _value(match["inches"]) >= 12:
        faults.append(_Fault(match.start("inches"), "inches behind feet must be less than 12"))
    elif match["number"] is not None and _unit_of(match) is None and unit in METRIC and _is_fraction(match["number"]):
        faults.append(_Fault(len(text), f"a fraction without a unit: say inches (in), or give {unit} as a decimal"))
    return faults


def _refusal(text: str, fault: _Fault, field: str) -> NotALength:
    title = f"“{text}” is not a length: {fault.words}. Write it like 543, 54.3 cm, 21 3/8 in or 5 ft 2 1/2 in."
    return NotALength(title, field=field, value=text, details={"at": fault.at})


def _unit_of(match: "regex.Match[str]") -> Unit | None:
    names: tuple[Unit, ...] = ("mm", "cm", "m", "in", "ft")
    return next((name for name in names if match[name] is not None), None)


def _is_fraction(number: str) -> bool:
    return "/" in number or any(unicodedata.numeric(character, 0) % 1 for character in number)


def _value(number: str) -> Fraction:
    """Return the exact value of a decimal, a ratio or a mixed number that the grammar has let through."""
    if not _is_fraction(number):
        return Fraction(number.replace(",", "."))
    spelled = unicodedata.normalize("NFKC", "".join(f" {c} " if not c.isascii() else c for c in number))
    parts = regex.split(r"[^\d⁄/]+", spelled.strip())
    return sum((Fraction(part.replace("⁄", "/")) for part in parts if part), Fraction(0))


def _plain_number(number: str) -> str:
    """Return a decimal without needless noughts, or a fraction in lowest terms behind its whole part."""
    if _is_fraction(number):
        whole, rest = divmod(_value(number), 1)
        return f"{whole} {rest}" if whole and rest else str(rest or whole)
    whole_digits, _, decimals = number.replace(",", ".").partition(".")
    decimals = decimals.rstrip("0")
    return f"{whole_digits.lstrip('0') or '0'}{'.' + decimals if decimals else ''}"


def _length_of(match: "regex.Match[str]", unit: Unit) -> Length:
    sign = "" if match["sign"] in ("", "+") else "-"
    taken_in: Unit
    if match["feet"] is not None:
        taken_in = "ft"
        size = (int(match["feet"]) * 12 + _value(match["inches"])) * MM_PER["in"]
        words = f"{int(match['feet'])} ft {_plain_number(match['inches'])} in"
    else:
        taken_in = _unit_of(match) or unit
        size = _value(match["number"]) * MM_PER[taken_in]
        words = f"{_plain_number(match['number'])} {taken_in}"
    return Length(-size if sign else size, taken_in, sign + words if size else words)
