"""How lengths are shown: in mm, or in inches and fractions, by the person's choice; always the same value underneath."""

import re
from collections.abc import Sequence
from fractions import Fraction
from typing import Literal

from fairsquare.core.measure.conformity import PointJudgement, axis_words
from fairsquare.core.model import Row3

Units = Literal["mm", "in"]
FINEST = 64
COARSE = 16
"""Fractions of an inch are shown to a sixty-fourth, 0.4 mm; a figure that is smaller shows as 0. Where whole millimetres are enough
(`digits` 0) they are shown to a sixteenth."""


def length(mm: float | None, units: Units, digits: int = 1) -> str:
    """Return a length without its unit: "14.2", or "9/16"; a dash where there is none."""
    if mm is None:
        return "–"
    if units == "mm":
        text = f"{mm:.{digits}f}"
        return text[1:] if text.strip("-0.") == "" and text.startswith("-") else text.replace("-", "−")
    parts = FINEST if digits else COARSE
    many = round(abs(mm) / 25.4 * parts)
    whole, rest = divmod(Fraction(many, parts), 1)
    number = f"{whole} {rest}" if whole and rest else str(rest if rest else whole)
    return f"−{number}" if mm < 0 and many else number


def measure(mm: float | None, units: Units, digits: int = 1) -> str:
    """Return a length with its unit: "14.2 mm", or "9/16 in"; a dash where there is none."""
    return "–" if mm is None else f"{length(mm, units, digits)} {units}"


def signed(mm: float, units: Units) -> str:
    """Return a length with its sign and without its unit: "+3.2", "−1/8"."""
    text = length(mm, units)
    return f"+{text}" if mm > 0 and text.strip("0.") else text


def station(mm: float, units: Units) -> str:
    """Return a station with its sign and without its unit: "+628", or "+24 3/4"."""
    text = length(mm, units, 0)
    return f"+{text}" if mm > 0 and text != "0" else text


def fine(mm: float | None, units: Units, digits: int = 2) -> str:
    """Return a length with its unit that a sixty-fourth of an inch is too coarse for, such as a sheet's thickness or a sigma: in
    decimals, "0.80 mm" or "0.031 in"; a dash where there is none."""
    if mm is None:
        return "–"
    return f"{mm:.{digits}f} mm" if units == "mm" else f"{mm / 25.4:.{digits + 1}f} in"


def sheets(mm: Sequence[float], said: str, units: Units) -> str:
    """Return the sheets of a stack with their unit: as they were `said` in mm, "0.8 + 1.4 mm", or "0.031 + 0.055 in"."""
    if units == "mm":
        return f"{said or ' + '.join(f'{sheet:g}' for sheet in mm)} mm"
    return " + ".join(f"{sheet / 25.4:.3f}" for sheet in mm) + " in"


def area(mm2: float, units: Units) -> str:
    """Return an area with its unit: "1430 mm²", or "2.22 in²"."""
    return f"{mm2:.0f} mm²" if units == "mm" else f"{mm2 / 25.4**2:.2f} in²"


def in_units(sentence: str, units: Units) -> str:
    """Return a sentence of a calculation, which tells lengths in mm, in the units that are shown. Each of its lengths has its unit;
    what somebody typed stands in “quotation marks” and stays as it is, as do speeds and the like."""
    if units == "mm" or " mm" not in sentence:
        return sentence
    return _TOLD.sub(lambda found: found[0] if found[1] is None else _as_told(found[1], units), sentence)


_TOLD = re.compile(r"“[^”]*”|(?<![\w.,])([-−+]?\d+(?:\.\d+)?) mm\b(?![²³/])")
"""What is quoted, or a length in mm with its figure."""


def _as_told(figure: str, units: Units) -> str:
    """Return a length as fine as its figure was: with two decimals or more, or below 2 mm, in decimals of an inch."""
    mm = float(figure.replace("−", "-"))
    decimals = len(figure.partition(".")[2])
    text = fine(mm, units) if decimals > 1 or 0 < abs(mm) < 2 else measure(mm, units)
    return f"+{text}" if figure.startswith("+") else text


def size(mm: float | None, units: Units) -> str:
    """Return the size of a deviation without its sign; its word tells the direction."""
    return length(None if mm is None else abs(mm), units)


def is_nought(mm: float, units: Units) -> bool:
    """Return whether a length shows as nought."""
    return size(mm, units) in ("0", "0.0")


def words(deviation: Row3 | None, place: Row3, units: Units) -> str:
    """Return a deviation in words, "14.2 short, 5.1 left (narrow), 6.9 high", in the units that are shown."""
    if deviation is None:
        return "not read"
    return _ways(deviation, place, units, (True, True, True))


def judged(found: PointJudgement | None, place: Row3, units: Units) -> str:
    """Return a judged deviation in words, as far as its directions are known."""
    known = tuple(state != "unread" for state in found.states) if found else ()
    if found is None or found.deviation is None or not any(known):
        return "not read"
    return _ways(found.deviation, place, units, known)


def _ways(deviation: Row3, place: Row3, units: Units, known: tuple[bool, ...]) -> str:
    parts = zip(deviation, axis_words(deviation, place), known, strict=True)
    parts_told = [f"{size(mm, units)} {word}" for mm, word, shown in parts if shown and not is_nought(mm, units)]
    return ", ".join(parts_told) or "on the sheet"


def short_word(deviation: Row3, place: Row3, axis: int, units: Units) -> str:
    """Return the one word beside a figure in a table: short, left, high ...; nothing beside a nought."""
    if is_nought(deviation[axis], units):
        return ""
    return axis_words(deviation, place)[axis].split()[0]


def in_quarters(many: float) -> str:
    """Return how many turns or shims that is, to the nearest quarter, whichever way: “1¾”; less than an eighth is a hair."""
    quarters = round(abs(many) * 4)
    if quarters == 0:
        return "a hair of a"
    whole, rest = divmod(quarters, 4)
    return f"{whole or ''}{('', '¼', '½', '¾')[rest]}"
