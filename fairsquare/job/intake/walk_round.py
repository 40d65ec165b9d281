"""What is seen at the walk-round, as it is said in short: “kink right rail 420 ahead of F2”, “gap lid to fender left 4 right 7”."""

import re
from collections.abc import Mapping
from typing import NamedTuple

from fairsquare.core.errors import FairSquareError, Refused, UnknownCode
from fairsquare.core.lengths import Unit, read_length
from fairsquare.core.model import Row3
from fairsquare.core.sheet.model import nearest_codes
from fairsquare.job.facts.walk_round import WalkKind

KINDS: dict[WalkKind, str] = {
    "gap": "gap",
    "misfit": "does not fit",
    "kink": "kink",
    "buckle": "buckle",
    "crack": "crack",
    "torn_seam": "torn seam",
    "split_arm": "split arm",
    "earlier_repair": "earlier repair",
    "rust": "rust",
    "witness_mark": "witness mark moved",
    "mechanical": "mechanical part",
    "plate": "plate or label",
    "other": "something else",
}
_SAID: tuple[tuple[str, WalkKind], ...] = (
    (r"gaps?", "gap"),
    (r"split(?: \w+)? arm|arm (?:is )?split", "split_arm"),
    (r"torn seam|seam (?:is )?(?:torn|open)|torn bond|bond (?:is )?torn", "torn_seam"),
    (r"witness marks?(?: moved)?|paint marks?(?: moved)?", "witness_mark"),
    (r"earlier repairs?|old repairs?|repaired before|filler", "earlier_repair"),
    (r"does not (?:fit|close|open)|no longer (?:fits|closes|opens)|misfit|proud", "misfit"),
    (r"kink(?:s|ed)?", "kink"),
    (r"buckle[sd]?|folded|fold", "buckle"),
    (r"crack(?:s|ed)?", "crack"),
    (r"rust(?:y|ed)?(?: through)?", "rust"),
    (r"plate|label|sticker", "plate"),
    (r"axle|manifold|compressor|radiator|steering|strut|mechanical", "mechanical"),
    (r"other|note", "other"),
)
_WAYS = {"ahead of": (1, 0), "in front of": (1, 0), "behind": (-1, 0), "left of": (0, 1), "right of": (0, -1)}
_FROM = re.compile(
    r"(?P<far>.*?)\s*\b(?P<way>ahead of|in front of|behind|left of|right of|at|near)\s+(?P<code>\S+)\s*$", re.I
)
_FAR = re.compile(r"(?P<before>.*?)(?P<far>[-+]?[\d.,/'\"′″½¼¾⅛⅜⅝⅞]+(?:\s+\d+/\d+)?\s*[a-z\"']*)\s*$", re.I)
_SIDE = re.compile(r"\b(left|right)\b", re.I)
_GAP = re.compile(r"\b(?:left|l)\s+(?P<left>[^a-z]+?[a-z\"']*)\s+(?:right|r)\s+(?P<right>.+?)\s*$", re.I)
_EXAMPLES = "kink right rail 420 ahead of F2; gap lid to fender left 4 right 7; crack at F4R; tailgate does not close"


class Seen(NamedTuple):
    """A finding as understood: what it is, where in words, the point named, the place from above, and a gap's readings, mm."""

    kind: WalkKind
    place: str
    code: str | None = None
    xy: tuple[float, float] | None = None
    left_mm: float | None = None
    right_mm: float | None = None


def understand_seen(text: str, places: Mapping[str, Row3], unit: Unit = "mm") -> Seen:
    """Understand a finding said in short. Raises `Refused` or `UnknownCode` for the field `call`."""
    call = " ".join(text.split())
    worded = next(
        ((match, kind) for words, kind in _SAID if (match := re.search(rf"\b(?:{words})\b", call, re.I))), None
    )
    if not call or worded is None:
        kinds = ", ".join(KINDS[kind] for kind in KINDS if kind not in ("other", "misfit"))
        raise Refused(
            f"Say what it is: {kinds}, or “other” with your own words. Such as: {_EXAMPLES}.",
            field="call",
            value=text[:200],
        )
    match, kind = worded
    rest = (
        " ".join(f"{call[: match.start()]} {call[match.end() :]}".split())
        if kind not in ("misfit", "mechanical")
        else call
    )
    if kind == "gap":
        return _gap(rest, places, unit)
    return _placed(kind, rest, places, unit)


def _gap(rest: str, places: Mapping[str, Row3], unit: Unit) -> Seen:
    sides = _GAP.search(rest)
    if sides is None:
        raise Refused("Read a gap on both sides: gap lid to fender left 4 right 7.", field="call", value=rest)
    tail = sides["right"].split(" at ")
    left, right = (_length(words, unit) for words in (sides["left"], tail[0]))
    where = rest[: sides.start()].strip() + (f" at {tail[1]}" if len(tail) > 1 else "")
    seen = _placed("gap", where, places, unit)
    return seen._replace(left_mm=left, right_mm=right)


def _placed(kind: WalkKind, rest: str, places: Mapping[str, Row3], unit: Unit) -> Seen:
    """Return a finding with its place: a point named behind “at”, or so far ahead of, behind, left or right of one."""
    match = _FROM.search(rest)
    if match is None:
        return Seen(kind, rest)
    code = _code(match["code"], rest, places)
    if code is None:
        return Seen(kind, rest)
    x, y, _ = places[code]
    way = match["way"].lower()
    if way in ("at", "near"):
        return Seen(kind, rest, code, (x, y))
    far = _FAR.search(match["far"])
    if far is None:
        raise Refused(f"How far {way} {code}? Such as: 420 {way} {code}.", field="call", value=rest)
    mm = _length(far["far"], unit)
    along, across = _WAYS[way]
    return Seen(kind, rest, code, (x + along * mm, y + across * mm))


def _code(said: str, rest: str, places: Mapping[str, Row3]) -> str | None:
    """Return the point named, with the side that was said where its own is left out; None where there is no sheet."""
    known = {code.upper(): code for code in places}
    name = said.strip(".,;").upper()
    side = _SIDE.search(rest)
    for tried in (name, name + (side.group(1)[0].upper() if side else "")):
        if tried in known:
            return known[tried]
    if not places:
        return None
    sides = [known[name + letter] for letter in "LR" if name + letter in known]
    if len(sides) == 2:
        raise Refused(f"{said}: left or right? Say {sides[0]} or {sides[1]}.", field="call", value=said)
    nearest = nearest_codes(name, list(places))
    hint = f"Did you mean {' or '.join(nearest)}?" if nearest else "Look at the sheet for its codes."
    raise UnknownCode(f"{said} is not on the sheet. {hint}", field="call", value=said, details={"nearest": nearest})


def _length(words: str, unit: Unit) -> float:
    try:
        return float(read_length(words.strip(), unit, field="call").mm)
    except FairSquareError as fault:
        raise Refused(f"“{words.strip()}” is not a length: {fault.title}", field="call", value=words) from fault


LINE_ITEMS: tuple[tuple[str, str], ...] = (
    ("rolls", "It rolls"),
    ("axle", "Axle, cradle and their mounts"),
    ("arms", "Control arms, struts, wheel and hub"),
    ("steering", "Steering gear and column"),
    ("engine", "Engine and gearbox mounts, manifold, sump"),
    ("cooling", "Radiator, condenser, compressor"),
    ("fuel_exhaust", "Tank, lines, exhaust"),
    ("wiring", "Battery, wiring, sensors along the line"),
)
"""Mechanical parts that lie along the line of a push. Common practice, no source."""
WORTH_SHARE = 0.7
"""A repair that costs more than this share of the value is in doubt. Common practice, no source: payers' shares differ."""
