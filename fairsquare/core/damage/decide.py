"""Straighten or replace, member by member and layer by layer. All of it is common practice, no source; the maker's procedure
comes first."""

from collections.abc import Callable, Iterator
from typing import Literal, NamedTuple

from fairsquare.core.model import Many, Model

Material = Literal[
    "mild", "high_strength", "ultra_high_strength", "press_hardened", "aluminium", "casting", "composite"
]
MemberRole = Literal["structural", "crush_zone", "closing", "sacrificial"]
Sign = Literal[
    "bent",
    "kinked",
    "buckled",
    "folded",
    "stretched",
    "cracked",
    "torn",
    "seam_torn",
    "rusted_through",
    "thinned_by_rust",
    "repaired_before",
    "heat_marked",
]
Decision = Literal["keep", "straighten", "section", "replace_at_seams", "inspect"]
Rule = Literal[
    "no_signs",
    "sacrificial",
    "composite",
    "press_hardened",
    "maker_forbids",
    "casting",
    "ultra_high_strength",
    "crush_zone",
    "broken",
    "aluminium_stretched",
    "unknown_past",
    "bent",
]
Override = Literal["lead", "never"]

_NO_LONGER_FOLDS = frozenset({"folded", "kinked", "buckled", "cracked", "torn"})
_BROKEN = frozenset({"kinked", "folded", "cracked", "torn", "rusted_through"})
_STRETCHED = frozenset({"stretched", "buckled"})
_UNKNOWN = frozenset({"thinned_by_rust", "repaired_before", "heat_marked"})


class MemberSeen(Model):
    """One member, or one layer of it: what it is made of, what it is there for, and what it looks like."""

    material: Material
    role: MemberRole
    signs: Many[Sign]


class MakersWord(Model):
    """What the maker allows; null where nothing is said."""

    straighten: bool | None = None
    section: bool | None = None
    heat: bool | None = None


class DecideMember(Model):
    """A member as it is seen, and the maker's word on it."""

    member: MemberSeen
    maker: MakersWord = MakersWord()


class MemberDecided(Model):
    """What is done with it, by which rule, who may decide otherwise, and what goes with it."""

    decision: Decision
    rule: Rule
    override: Override
    words: str
    conditions: tuple[str, ...]


class _Row(NamedTuple):
    """One row of the rules: when it applies, what follows (`off`: section or replace at seams), who may override, and why."""

    rule: Rule
    applies: Callable[[MemberSeen, MakersWord], bool]
    decision: Literal["keep", "straighten", "inspect", "off"]
    override: Override
    when: str
    why: str


RULES: tuple[_Row, ...] = (
    _Row("no_signs", lambda m, _: not m.signs, "keep", "lead", "no signs", "nothing was seen on it"),
    _Row(
        "sacrificial",
        lambda m, _: m.role == "sacrificial",
        "off",
        "lead",
        "sacrificial part",
        "it comes off in any case; left on, or its end left long, it is something to pull by",
    ),
    _Row(
        "composite",
        lambda m, _: m.material == "composite",
        "inspect",
        "never",
        "composite",
        "what is broken inside does not show outside: only one qualified for it can tell",
    ),
    _Row(
        "press_hardened",
        lambda m, _: m.material == "press_hardened",
        "off",
        "never",
        "press-hardened",
        "bent cold it cracks, heated it is soft: it cannot be brought back",
    ),
    _Row(
        "maker_forbids",
        lambda _, w: w.straighten is False,
        "off",
        "never",
        "the maker forbids straightening",
        "the maker knows what it was made for",
    ),
    _Row("casting", lambda m, _: m.material == "casting", "off", "lead", "casting", "a casting cracks before it bends"),
    _Row(
        "ultra_high_strength",
        lambda m, _: m.material == "ultra_high_strength",
        "off",
        "lead",
        "ultra-high-strength",
        "it springs back, work-hardens and cracks at the next load",
    ),
    _Row(
        "crush_zone",
        lambda m, _: m.role == "crush_zone" and bool(_NO_LONGER_FOLDS & set(m.signs)),
        "off",
        "lead",
        "crush zone: folded, kinked, buckled, cracked or torn",
        "it folded as it was made to; straightened it would fold elsewhere the next time",
    ),
    _Row(
        "broken",
        lambda m, _: bool(_BROKEN & set(m.signs)),
        "off",
        "lead",
        "kinked, folded, cracked, torn or rusted through",
        "bent is straightened, kinked is replaced: at a kink the metal has been past what it can give",
    ),
    _Row(
        "aluminium_stretched",
        lambda m, _: m.material == "aluminium" and bool(_STRETCHED & set(m.signs)),
        "off",
        "lead",
        "aluminium: stretched or buckled",
        "aluminium that has stretched does not shrink back, and cracks when it is pushed together",
    ),
    _Row(
        "unknown_past",
        lambda m, _: bool(_UNKNOWN & set(m.signs)),
        "inspect",
        "lead",
        "thinned by rust, repaired before or heat-marked",
        "what is left of its strength is not known until it is looked into",
    ),
    _Row(
        "bent", lambda *_: True, "straighten", "lead", "whatever is left", "bent and nothing worse: it is straightened"
    ),
)
"""The first row that applies decides."""


def decide_member(request: DecideMember) -> MemberDecided:
    """Decide whether a member is kept, straightened, sectioned, replaced at its seams, or looked into first."""
    member, maker = request.member, request.maker
    row = next(row for row in RULES if row.applies(member, maker))
    decision: Decision = row.decision if row.decision != "off" else "section" if maker.section else "replace_at_seams"
    return MemberDecided(
        decision=decision,
        rule=row.rule,
        override=row.override,
        words=row.why[:1].upper() + row.why[1:] + ".",
        conditions=tuple(_conditions(member, maker, row, decision)),
    )


def _conditions(member: MemberSeen, maker: MakersWord, row: _Row, decision: Decision) -> Iterator[str]:
    stays = decision in ("straighten", "inspect")
    if row.rule == "sacrificial":
        yield "Leave it on, or leave its end long, to pull by; it comes off after the last pull."
    if row.decision == "off" and maker.section is None:
        yield "Ask for the maker's window: without one it goes at its factory seams."
    if decision == "inspect":
        who = "one qualified for composites" if row.rule == "composite" else "a lead, with the surface bare"
        yield f"To be looked into by {who} before anything is decided."
    if stays or row.rule == "sacrificial":
        if maker.heat is not True:
            yield "No heat."
        if member.material == "aluminium":
            yield "Dye test after every pull."
    if stays and "seam_torn" in member.signs:
        yield "The torn seam is bonded or welded anew."
    if stays and "buckled" in member.signs:
        yield "Stress relief round the buckle while it is under tension."
