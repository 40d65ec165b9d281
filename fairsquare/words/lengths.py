"""How lengths are shown: in mm, or in inches and fractions, by the person's choice; always the same value underneath."""

from fractions import Fraction
from typing import Literal

from fairsquare.core.measure.conformity import axis_words
from fairsquare.core.model import Row3

Units = Literal["mm", "in"]
FINEST = 64
"""Fractions of an inch are shown to a sixty-fourth, 0.4 mm; a figure that is smaller shows as 0."""


def length(mm: float | None, units: Units, digits: int = 1) -> str:
    """Return a length without its unit: "14.2", or "9/16"; a dash where there is none."""
    if mm is None:
        return "–"
    if units == "mm":
        text = f"{mm:.{digits}f}"
        return text[1:] if text.strip("-0.") == "" and text.startswith("-") else text.replace("-", "−")
    sixty_fourths = round(abs(mm) / 25.4 * FINEST)
    whole, rest = divmod(Fraction(sixty_fourths, FINEST), 1)
    number = f"{whole} {rest}" if whole and rest else str(rest if rest else whole)
    return f"−{number}" if mm < 0 and sixty_fourths else number


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
    parts = zip(deviation, axis_words(deviation, place), strict=True)
    said = [f"{size(mm, units)} {word}" for mm, word in parts if not is_nought(mm, units)]
    return ", ".join(said) or "on the sheet"


def short_word(deviation: Row3, place: Row3, axis: int, units: Units) -> str:
    """Return the one word beside a figure in a table: short, left, high ...; nothing beside a nought."""
    if is_nought(deviation[axis], units):
        return ""
    return axis_words(deviation, place)[axis].split()[0]
