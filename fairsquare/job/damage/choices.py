"""What is decided on each member and layer of a job: the rules' proposal, what a person may choose instead, and what is open."""

from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache
from typing import NamedTuple

from fairsquare.core.damage.decide import DecideMember, MemberDecided, MemberSeen, Sign, decide_member
from fairsquare.core.errors import Refused
from fairsquare.core.said import Said, say
from fairsquare.core.same import Same
from fairsquare.core.who import Role
from fairsquare.job.damage.bound import OnMember, known_members, on_members
from fairsquare.job.facts.damage import Chosen, DecisionFact, MemberFact
from fairsquare.job.facts.job import JobFacts

CHOICES: dict[Chosen, str] = {
    "keep": "keep",
    "straighten": "straighten",
    "section": "section",
    "replace_at_seams": "replace at seams",
    "inspect": "look into it first",
    "try": "try",
    "straighten_then_replace": "straighten, then replace",
    "leave": "leave as it is",
}
LETTERS: dict[Chosen, str] = {
    "keep": "K",
    "straighten": "S",
    "section": "X",
    "replace_at_seams": "R",
    "inspect": "?",
    "try": "T",
    "straighten_then_replace": "SR",
    "leave": "L",
}
"""The letter of each decision on the drawing."""
_OFF: frozenset[Chosen] = frozenset({"section", "replace_at_seams", "straighten_then_replace"})
_BENDS_BACK: frozenset[Chosen] = frozenset({"straighten", "try"})
_ENDS_REPLACED: frozenset[Chosen] = frozenset({"straighten_then_replace"})


class MemberState(NamedTuple):
    """A member, or one layer of it, in a job: as it was seen, what the rules say, and what was decided of that.

    `found`: what was seen on it at the walk-round.
    """

    member: str
    layer: str
    seen: MemberFact | None
    proposal: MemberDecided | None
    decision: DecisionFact | None
    found: tuple[OnMember, ...] = ()

    @property
    def name(self) -> str:
        """The member with its layer."""
        return f"{self.member}, {self.layer}" if self.layer else self.member

    @property
    def open(self) -> Said | None:
        """Why it is not decided; None where it is."""
        if self.seen is None:
            return say("member.unseen")
        return self._not_taken_up(self.seen) or self._not_decided(self.seen)

    def _not_taken_up(self, seen: MemberFact) -> Said | None:
        left_out = self.left_out(seen.signs)
        since = [left for left in left_out if left.since > seen.by.at]
        if since:
            return say("member.seen_since", seen=since[0].seen.said)
        if left_out and not seen.contradicts:
            return say("member.left_out", seen=left_out[0].seen.said)
        return None

    def _not_decided(self, seen: MemberFact) -> Said | None:
        if self.proposal is None:
            return say("member.material_unknown")
        if self.decision is None:
            return say("member.undecided")
        if self.decision.seen != seen.id:
            return say("member.seen_anew")
        return say("member.inspect") if self.decision.decision == "inspect" else None

    @property
    def ticked(self) -> tuple[Sign, ...]:
        """The signs that what was seen on it stands for, one for each finding."""
        return tuple(dict.fromkeys(finding.signs[0] for finding in self.found if finding.signs))

    def left_out(self, signs: Iterable[Sign]) -> tuple[OnMember, ...]:
        """Return what was seen on it that none of these signs takes up."""
        given = set(signs)
        return tuple(finding for finding in self.found if finding.signs and not given & set(finding.signs))


def member_states(facts: JobFacts) -> tuple[MemberState, ...]:
    """Return every member of the sheet, told apart by side, and every other member and layer that was named.

    Worked out once for the same facts: holds, spine and pages ask for it with every reading.
    """
    return _member_states(Same(facts))


@lru_cache(maxsize=64)
def _member_states(held: Same[JobFacts]) -> tuple[MemberState, ...]:
    facts = held.held
    latest: dict[tuple[str, str], MemberFact] = {}
    for fact in facts.members:
        latest[fact.member, fact.layer] = fact
    return tuple(_states(facts, known_members(facts), latest))


def _states(
    facts: JobFacts, members: Sequence[str], latest: dict[tuple[str, str], MemberFact]
) -> Iterator[MemberState]:
    findings_of: dict[tuple[str, str], list[OnMember]] = {}
    for on_member in on_members(facts):
        if on_member.member is not None and on_member.layer is not None:
            findings_of.setdefault((on_member.member, on_member.layer), []).append(on_member)
    by_seen = {fact.id: (fact.member, fact.layer) for fact in facts.members}
    decided = {by_seen[decision.seen]: decision for decision in facts.decisions if decision.seen in by_seen}
    for member in members:
        layers = dict.fromkeys(layer for known, layer in [*latest, *findings_of] if known == member)
        for layer in layers or ("",):
            seen = latest.get((member, layer))
            proposal = propose(seen) if seen else None
            own = tuple(findings_of.get((member, layer), ()))
            yield MemberState(member, layer, seen, proposal, decided.get((member, layer)), own)


def propose(seen: MemberFact) -> MemberDecided | None:
    """Return what the rules say of a member as it was seen; None where that hangs on its material, and nobody has said it.

    Where no signs are seen, whatever it is made of is kept.
    """
    if seen.material == "unknown" and seen.signs:
        return None
    material = "mild" if seen.material == "unknown" else seen.material
    own = MemberSeen(material=material, role=seen.role, signs=seen.signs)
    return decide_member(DecideMember(member=own, maker=seen.maker))


def check_choice(
    seen: MemberFact, chosen: Chosen, role: Role, *, reason: str, gives_up: str, remains: str, consent: str
) -> None:
    """Raise `Refused`, naming the field, where a person of that role may not choose this, or does not say what goes with it."""
    proposal = propose(seen)
    if proposal is None or (seen.material == "unknown" and chosen != "keep"):
        raise Refused(
            "Say what it is made of first: ask the maker, or look it up. That decides whether it may be straightened.",
            field="material",
            value="unknown",
        )
    if chosen == proposal.decision:
        return
    if seen.material == "press_hardened" and chosen in _BENDS_BACK:
        raise Refused(
            "Press-hardened parts are never straightened, whoever decides: bent cold they crack, heated they are soft.",
            field="decision",
            value=chosen,
        )
    never = proposal.override == "never"
    if never and chosen not in _ENDS_REPLACED and not (chosen == "leave" and role == "lead"):
        raise Refused(
            f"{proposal.words} Nobody may decide otherwise here: {CHOICES[proposal.decision]}.",
            field="decision",
            value=chosen,
        )
    if chosen == "try" and len(gives_up) < 8:
        raise Refused("Say what would make us give it up, in a sentence.", field="gives_up", value=gives_up)
    if chosen == "leave" and len(remains) < 8:
        raise Refused("Say what remains out, in a sentence.", field="remains", value=remains)
    if chosen == "leave" and len(consent) < 3:
        raise Refused("Name the owner who consents, and how: it goes into the record.", field="consent", value=consent)
    if chosen not in ("try", "leave", "straighten_then_replace") and role != "lead":
        raise Refused(
            f"The rules say {CHOICES[proposal.decision]}: {proposal.words} Only a lead may decide otherwise, with a reason.",
            field="decision",
            value=chosen,
        )
    if len(reason) < 8:
        raise Refused("Write why, in a sentence: it goes into the record.", field="reason", value=reason)


def order_of_work(states: Sequence[MemberState]) -> dict[str, tuple[str, ...]]:
    """Return, by the names of members and layers, what has to be done before them or with them, in words.

    Common practice, no source: an inner panel is brought home before the outer one over it is cut for good, and what comes off in
    any case stays on, or its end is left long, to pull by.
    """
    orders: dict[str, tuple[str, ...]] = {}
    for state in states:
        order = [state.decision.first] if state.decision and state.decision.first else []
        if state.decision and state.decision.decision in _OFF:
            inner = [
                other.name
                for other in states
                if other.member == state.member and _is_under(other.layer, state.layer) and _is_worked_on(other)
            ]
            order += [f"after {name} is home" for name in inner]
        if state.proposal and state.proposal.rule == "sacrificial":
            order.append("after the last pull: it is something to pull by")
        orders[state.name] = tuple(order)
    return orders


def _is_under(layer: str, over: str) -> bool:
    depth = ("inner", "reinforcement", "middle", "outer")
    places = [next((place for place, word in enumerate(depth) if word in name.lower()), None) for name in (layer, over)]
    return places[0] is not None and places[1] is not None and places[0] < places[1]


def _is_worked_on(state: MemberState) -> bool:
    return state.decision is not None and state.decision.decision in ("straighten", "try", "straighten_then_replace")
