"""Words of moves: what was recorded of them, which is ours where Fair Square noted the move itself, and a person's otherwise."""

import re

from fairsquare.words.lengths import Units, in_units

_OURS = re.compile(
    r"the vehicle or the instrument has moved: references read again are off, .+"
    r"|\S+ slipped [\d.]+ mm in pull \d+: the vehicle moved"
    r"|.+: (?:final|access) cut at [-\d.]+ mm"
)


def moved_words(words: str, units: Units) -> str:
    """Return what was recorded of a move in the units that are shown; what a person wrote stays as it was written."""
    return in_units(words, units) if _OURS.fullmatch(words) else words
