"""What is said of the damage: contradictions, what is open of a member, what a decision lacks."""

from collections.abc import Mapping
from typing import Any

from fairsquare.core.damage.read import push_words
from fairsquare.words.said import Reader, Table

WAITS = {
    "draft": "not sent to the payer yet",
    "sent": "not answered by the payer yet",
    "refused": "refused by the payer",
    "asked": "asked about by the payer",
}


def _against_the_hit(values: Mapping[str, Any], _reader: Reader) -> str:
    told, read = push_words(values["told_deg"], 0.0), push_words(values["read_deg"], values["above_deg"])
    return f"Told: {told}. Read: {read}. They differ by {{apart_deg:.0f}}°: was there another hit, or an older one?"


def _unplaced(values: Mapping[str, Any], _reader: Reader) -> str:
    where = "on which layer of {member} is not said" if values["member"] else "it is not said on which member"
    return f"Seen: “{{seen}}”, and {where}. Say it: what was seen binds what is decided."


def _off_no_member(values: Mapping[str, Any], _reader: Reader) -> str:
    them = "it" if len(values["codes"]) == 1 else "them"
    return (
        f"{{codes}}: out of tolerance, and on no member, so nothing is decided of {them}. "
        f"Touch {them} on the sheet’s drawing and name the member."
    )


WORDS: Table = {
    "damage.hit": _against_the_hit,
    "damage.fit": "{code} reads fair, yet the panels there do not fit. Read it again; look at hinges and the panel itself.",
    "damage.between": "{code} reads fair between {ahead} and {behind}, which are off. "
    "Metal does not skip a station: read it again, or look at what is there.",
    "member.unseen": "not looked at yet",
    "member.seen_since": "seen since it was looked at: “{seen}”",
    "member.left_out": "“{seen}” is not among its signs: tick it, or say why it is not there",
    "member.material_unknown": "nobody has said what it is made of, and it is not sound",
    "member.undecided": "not decided",
    "member.seen_anew": "seen anew since it was decided",
    "member.inspect": "to be looked into before it is decided",
    "decision.unmeasured": "No point is measured: what cannot be seen is not decided.",
    "decision.supplement": lambda values, _reader: (
        f"Supplement: “{{line}}” is {WAITS.get(values['status'], values['status'])}. A lead may let it go on, with a reason."
    ),
    "decision.unread": "{codes:point} not known: {codes}. What is not read is not proven sound.",
    "decision.unplaced": _unplaced,
    "decision.undecided": "{members}: {why}.",
    "decision.read_again": "Read {codes} again; where that stays so, settle it with a reason.",
    "decision.stays_so": "It was read again and stays so: look, then settle it with a reason.",
    "decision.off_no_member": _off_no_member,
    "decision.no_members": "The sheet names no member, so nothing is decided of any. Touch points on its drawing and name the "
    "members.",
    "decision.kept_off": lambda values, _reader: (
        f"{{member}}: kept, though {{codes}} {'is' if len(values['codes']) == 1 else 'are'} off. "
        "Straighten it, or leave it with the owner's consent."
    ),
    "todo.decide": "Decide {member}",
    "todo.settle": "Settle it",
}
