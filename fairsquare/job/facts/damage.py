"""From what was read to what is decided, member by member."""

from typing import Literal

from fairsquare.core.damage.decide import MakersWord, Material, MemberRole, Sign
from fairsquare.core.model import Model
from fairsquare.core.who import Who

LineAnswer = Literal["sound", "hurt", "absent", "open"]

Chosen = Literal[
    "keep", "straighten", "section", "replace_at_seams", "inspect", "try", "straighten_then_replace", "leave"
]
"""What may be decided: the five plain decisions, and three in-betweens that a person may choose."""
SaidMaterial = Material | Literal["unknown"]
"""What a member is made of, as it was said: `unknown` where nobody did."""


class BoundFact(Model):
    """The member, and its layer where it has several, that a person said a finding of the walk-round is on."""

    id: int
    finding: int
    member: str
    layer: str
    by: Who


class LineFact(Model):
    """The last answer for one mechanical part along the line of the push."""

    id: int
    item: str
    answer: LineAnswer
    words: str
    by: Who


class WorthFact(Model):
    """What the vehicle is worth and what its repair would cost, in hundredths of the shop's money."""

    id: int
    value_cents: int
    cost_cents: int
    words: str
    by: Who


class SettlementFact(Model):
    """A contradiction that a person settled, with the reason; `finding` is its key."""

    id: int
    finding: str
    reason: str
    by: Who


class MemberFact(Model):
    """A member, or one layer of it, as it was last seen, and the maker's word on it with its source.

    A material that nobody said is `unknown`. `contradicts`: why something that was seen on it is not among its signs.
    """

    id: int
    member: str
    layer: str
    material: SaidMaterial
    role: MemberRole
    signs: tuple[Sign, ...]
    maker: MakersWord
    source: str
    by: Who
    contradicts: str = ""


class DecisionFact(Model):
    """What is done with a member as it was seen in `seen`, and what goes with that choice.

    `gives_up`: what would make us give up trying; `remains`: what stays out, with whose `consent`; `first`: what has to come
    off or come home before; `hours` that it drags along; `donor`: in what state that is.
    """

    id: int
    seen: int
    decision: Chosen
    reason: str
    gives_up: str
    remains: str
    consent: str
    first: str
    hours: float | None
    donor: str
    by: Who
