"""Gaps as they are called: “gap door rear top 4.5”, “flush lid left 0.5 proud”."""

import difflib
import re
from typing import NamedTuple

from fairsquare.core.errors import Refused
from fairsquare.core.fit.said import FARTHEST_GAP_MM, FitSaid, GapSaid
from fairsquare.core.lengths import Unit, read_length

_CALL = re.compile(
    r"\s*(?:(?P<kind>gap|flush(?:ness)?)\s+)?(?P<place>.*?[^\W\d_].*?)[\s,:=]+(?P<mm>[-\u2212+]?(?:\d|[.,]\d|[¼½¾⅛⅜⅝⅞]).*?)"
    r"(?:\s+(?P<way>proud|high|deep|low|shy))?\s*",
    re.IGNORECASE,
)
_DOWN = frozenset({"deep", "low", "shy"})


class GapCall(NamedTuple):
    """A gap that was called: which of those that are listed, what was read, mm, and as it was said."""

    gap: GapSaid
    mm: float
    said: str


def understand_gap(text: str, said: FitSaid, unit: Unit) -> GapCall:
    """Understand a call. Raises `Refused` that names `call` where it is none, or of a gap that is not listed and has no target."""
    match = _CALL.fullmatch(text.strip())
    if match is None:
        raise Refused("Call the place, then what it reads: “gap lid left front 4.5”.", field="call", value=text[:120])
    gap = _meant(match["place"], bool(match["kind"]) and match["kind"].lower() != "gap", said, text)
    mm = float(read_length(match["mm"].replace("\u2212", "-"), unit, field="call").mm)
    if match["way"] and not gap.flush:
        raise Refused(
            "Proud and deep are said of flushness: “flush lid left 0.5 proud”.", field="call", value=text[:120]
        )
    if match["way"] and match["way"].lower() in _DOWN:
        mm = -abs(mm)
    if abs(mm) > FARTHEST_GAP_MM:
        raise Refused("That is no gap: it is over a metre.", field="call", value=text[:120])
    return GapCall(gap, mm, text.strip()[:200])


def _meant(place: str, flush: bool, said: FitSaid, text: str) -> GapSaid:
    names = {gap.place.casefold(): gap for gap in said.gaps}
    wanted = " ".join(place.casefold().split())
    for key in (wanted, f"{wanted} flush") if flush else (wanted,):
        if key in names:
            return names[key]
    flat = [gap for gap in said.gaps if gap.flush == flush and set(wanted.split()) <= set(gap.place.casefold().split())]
    if len(flat) == 1:
        return flat[0]
    near = difflib.get_close_matches(wanted, names, n=1, cutoff=0.5)
    hint = f" Did you mean “{names[near[0]].place}”?" if near else ""
    raise Refused(
        f"“{place.strip()}” is not listed, so nobody knows what it should be: list it with its target and tolerance.{hint}",
        field="call",
        value=text[:120],
    )
