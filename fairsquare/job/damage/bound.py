"""What was seen at the walk-round binds: each finding stands on the member and layer that it is on, or asks on which it is."""

import re
from collections.abc import Iterable, Iterator, Mapping
from functools import lru_cache
from typing import NamedTuple

from fairsquare.core.damage.decide import Sign
from fairsquare.core.damage.deviations import side_of
from fairsquare.core.same import Same
from fairsquare.job.damage.job import counting_walk, does_not_fit, side_said, unit_of, units_of
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.walk_round import WalkFact, WalkKind

BINDS: frozenset[WalkKind] = frozenset(
    {
        "kink",
        "buckle",
        "crack",
        "torn_seam",
        "rust",
        "earlier_repair",
        "split_arm",
        "witness_mark",
        "misfit",
        "plate",
    }
)
"""What is on a member, and has to be said on which."""
STRUCTURAL: frozenset[WalkKind] = BINDS - {"plate"}
"""What opens “Decision made” again when it is seen, or taken back, after it was signed. So does a gap where panels do not fit."""
_SIGNS: dict[WalkKind, tuple[Sign, ...]] = {
    "kink": ("kinked", "folded"),
    "buckle": ("buckled", "folded"),
    "crack": ("cracked", "torn"),
    "torn_seam": ("seam_torn", "torn"),
    "rust": ("thinned_by_rust", "rusted_through"),
    "earlier_repair": ("repaired_before",),
}
"""The signs that each kind of finding stands for on its member, the plain one first; any of them takes it up."""
_ENDS = (frozenset({"front"}), frozenset({"rear", "back"}))
_WORDS = re.compile(r"[^\W\d_]+")
_FILLERS = frozenset(
    {
        "a",
        "an",
        "the",
        "in",
        "on",
        "at",
        "of",
        "near",
        "by",
        "to",
        "from",
        "under",
        "over",
        "behind",
        "ahead",
        "through",
    }
    | {"front", "rear", "left", "right", "back", "top", "bottom", "inner", "outer", "upper", "lower", "other"}
    | {"mm", "cm", "inch", "inches", "ft", "it", "is", "was", "has", "moved"}
)
"""Words that name no part of a vehicle."""


class OnMember(NamedTuple):
    """A finding, and the member and layer that it is on; `member` alone where it is not known which of its layers.

    `by_words`: nobody said so but the words of the finding. `since`: the UTC moment at which it came to stand there.
    """

    seen: WalkFact
    member: str | None
    layer: str | None
    by_words: bool
    since: str

    @property
    def placed(self) -> bool:
        """Whether member and layer are both known."""
        return self.member is not None and self.layer is not None

    @property
    def signs(self) -> tuple[Sign, ...]:
        """The signs that it stands for, the one to be ticked first; none where it stands for no sign."""
        usual = _SIGNS.get(self.seen.kind, ())
        said = self.seen.said.lower()
        first: Sign | None = None
        if self.seen.kind == "rust" and "through" in said:
            first = "rusted_through"
        elif self.seen.kind == "buckle" and "fold" in said:
            first = "folded"
        return (first, *(sign for sign in usual if sign != first)) if first else usual


def on_members(facts: JobFacts) -> tuple[OnMember, ...]:
    """Return every finding that binds, with the member that it is on: as a person said, else as its own words tell."""
    return _on_members(Same(facts))


@lru_cache(maxsize=64)
def _on_members(held: Same[JobFacts]) -> tuple[OnMember, ...]:
    return tuple(_found(held.held))


def unplaced(facts: JobFacts) -> tuple[OnMember, ...]:
    """Return the findings of which nobody knows on which member, or which layer of it, they are."""
    return tuple(on_member for on_member in on_members(facts) if not on_member.placed)


def structural(facts: JobFacts) -> tuple[WalkFact, ...]:
    """Return what was seen that opens a decision again: what is on a member, and gaps where panels do not fit."""
    return tuple(seen for seen in counting_walk(facts) if seen.kind in STRUCTURAL or does_not_fit(seen))


def known_members(facts: JobFacts) -> tuple[str, ...]:
    """Return the members of the sheet and those that were described or named in this job."""
    named = [fact.member for fact in facts.members] + [binding.member for binding in facts.bound]
    return tuple(dict.fromkeys([*(units_of(facts.sheet) if facts.sheet else ()), *named]))


def _found(facts: JobFacts) -> Iterator[OnMember]:
    bindings = {binding.finding: binding for binding in facts.bound}
    members = known_members(facts)
    layers: dict[str, list[str]] = {}
    for fact in facts.members:
        own = layers.setdefault(fact.member, [])
        if fact.layer not in own:
            own.append(fact.layer)
    for tie in facts.bound:
        own = layers.setdefault(tie.member, [])
        if tie.layer and tie.layer not in own:
            own.append(tie.layer)
    points = {point.code: unit_of(point) for point in facts.sheet.points} if facts.sheet else {}
    sides = {point.code: side_of(point) for point in facts.sheet.points} if facts.sheet else {}
    for seen in counting_walk(facts):
        if seen.kind not in BINDS:
            continue
        told = bindings.get(seen.id)
        member = told.member if told else _by_words(seen, members, points, sides)
        layer = None if member is None else _layer(seen, told.layer if told else "", layers.get(member, []))
        yield OnMember(seen, member, layer, told is None, max(seen.by.at, told.by.at) if told else seen.by.at)


def _layer(seen: WalkFact, said: str, known: list[str]) -> str | None:
    """Return the layer: as said, the only one there is, or the one that the words name; None where it has to be asked."""
    if said in known or not known:
        return said
    if len(known) == 1:
        return known[0]
    named = [layer for layer in known if layer and re.search(rf"\b{re.escape(layer)}\b", seen.said, re.I)]
    return named[0] if len(named) == 1 else None


def _by_words(
    seen: WalkFact, members: Iterable[str], points: Mapping[str, str | None], sides: Mapping[str, int]
) -> str | None:
    """Return the member that the words of a finding tell: that of the point they name, where they name no other part than it; else
    the only one of that name and side. None where they do not tell."""
    said = side_said(seen.said)
    code = seen.code if seen.code in points else None
    side = {1: "left", -1: "right"}.get(sides[code]) if code else None
    if said and side and said != side:
        return None
    named = [member for member in members if _names(seen.said, member, said or side)]
    at_point = points[code] if code else None
    if at_point is not None:
        alone = seen.kind == "misfit" or not _parts_named(seen)
        return at_point if at_point in named or (alone and not named) else None
    return named[0] if len(named) == 1 else None


def _parts_named(seen: WalkFact) -> bool:
    """Say whether the place of a finding names any part of the vehicle, beside a point, a side and how far from there."""
    words = [word.strip(".,;:") for word in seen.place.split()]
    return any(
        word.lower() not in _FILLERS
        for word in words
        if word.upper() != (seen.code or "").upper()
        and _WORDS.fullmatch(word)
        and word.upper() != (seen.code or "")[:-1]
    )


def _names(said: str, member: str, side: str | None) -> bool:
    """Say whether words name a member: by its noun, on its side, and not at the other end of the vehicle."""
    words = {word.lower() for word in _WORDS.findall(said)}
    own = [word.lower() for word in _WORDS.findall(member)]
    if not own or own[-1] not in words:
        return False
    own_side = side_said(member)
    if own_side and side and own_side != side:
        return False
    return not any(end & words and other & set(own) for end, other in (_ENDS, _ENDS[::-1]))
