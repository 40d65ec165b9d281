"""The call line: what is called out, in the order in which people say it, and what was understood."""

from itertools import combinations
from typing import NamedTuple

from fairsquare.core.errors import FairSquareError, Refused, UnknownCode
from fairsquare.core.lengths import Unit, read_length
from fairsquare.core.model import LARGEST_MM, Row3
from fairsquare.core.sheet.model import nearest_codes

_HOW = "Call a point and its three numbers, such as F4R 2162.4 -504.1 351; part numbers with ; where it is not plain."
_LOADED_WORDS = frozenset({"loaded", "load"})
_FREE_WORDS = frozenset({"free"})
_MOST_WORDS = 24


class Call(NamedTuple):
    """A call as understood: a point of the sheet, its three numbers in mm, and whether it was said to be under load."""

    code: str
    xyz: Row3
    loaded: bool | None


def understand_call(text: str, codes: list[str], unit: Unit = "mm") -> Call:
    """Understand "f4r 2162.4 -504.1 351": a code in any case, then three lengths in any unit; bare numbers are in `unit`.

    A trailing `loaded` or `free` says how it was read. Raises `UnknownCode` that proposes the nearest codes, and
    `Refused` or `NotALength` that say what would be right; their field is `call`.
    """
    words = text.replace(";", " ; ").split()
    if not words:
        raise Refused(_HOW, field="call", value=text)
    loaded = None
    if words[-1].lower() in _LOADED_WORDS | _FREE_WORDS:
        loaded = words.pop().lower() in _LOADED_WORDS
    if not words:
        raise Refused(_HOW, field="call", value=text)
    code = _code(words[0], codes)
    return Call(code, _three_lengths(code, words[1:], unit, text), loaded)


def _code(said: str, codes: list[str]) -> str:
    if said in codes:
        return said
    found = [code for code in codes if code.upper() == said.upper()]
    if len(found) == 1:
        return found[0]
    nearest = found or nearest_codes(said, codes)
    hint = f"Did you mean {' or '.join(nearest)}?" if nearest else _HOW
    raise UnknownCode(f"{said} is not on the sheet. {hint}", field="call", value=said, details={"nearest": nearest})


def _three_lengths(code: str, words: list[str], unit: Unit, text: str) -> Row3:
    groups = _groups(words)
    if len(words) > _MOST_WORDS:
        raise Refused(f"That is too much for one call. {_HOW}", field="call", value=text)
    readable = [group for group in groups if all(_readable(part, unit) for part in group)]
    if len(readable) > 1:
        raise Refused(
            f"“{' '.join(words)}” can be parted in {len(readable)} ways: put ; between the three numbers.",
            field="call",
            value=text,
        )
    if not readable:
        return _say_what_is_wrong(code, words, unit, text)
    return _in_mm(readable[0], unit, text)


def _groups(words: list[str]) -> list[tuple[str, str, str]]:
    """Return every way to part the words into three runs; a ; parts where it stands."""
    if ";" in words:
        parts = [" ".join(part.split()) for part in " ".join(words).split(";") if part.strip()]
        return [(parts[0], parts[1], parts[2])] if len(parts) == 3 else []
    cuts = combinations(range(1, len(words)), 2) if len(words) <= _MOST_WORDS else ()
    return [(" ".join(words[:a]), " ".join(words[a:b]), " ".join(words[b:])) for a, b in cuts]


def _readable(part: str, unit: Unit) -> bool:
    try:
        read_length(part, unit)
    except FairSquareError:
        return False
    return True


def _in_mm(parts: tuple[str, str, str], unit: Unit, text: str) -> Row3:
    exact = [read_length(part, unit, field="call").mm for part in parts]
    if any(abs(value) > LARGEST_MM for value in exact):
        raise Refused("One of these numbers is longer than any vehicle.", field="call", value=text)
    return float(exact[0]), float(exact[1]), float(exact[2])


def _say_what_is_wrong(code: str, words: list[str], unit: Unit, text: str) -> Row3:
    """Raise the fault that helps most: how many numbers were heard, or which one is no length."""
    if len(words) == 3:
        for word in words:
            read_length(word, unit, field="call")
    heard = len(words)
    if heard < 3:
        raise Refused(f"{code} needs three numbers: {heard} heard so far.", field="call", value=text)
    raise Refused(f"“{' '.join(words)}” cannot be read as three lengths. {_HOW}", field="call", value=text)
