"""What hold points say: who signs, what was seen to change, what a set-up and its sound points lack."""

from collections.abc import Mapping
from typing import Any

from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.job.stations import BY_KEY
from fairsquare.words.said import Reader, Table

_SAFETY = {item.key: item for item in SAFETY_ITEMS}
CHANGED = {
    "sheet": "the sheet is another version than the one that was signed",
    "setup": "the set-up is another one, or none is in force any more",
    "references": "reference points were read again",
    "choice": "other references are relied on",
    "safety": "an answer on the made-safe list has changed",
    "readings": "points were read, corrected or taken back",
    "movements": "something was moved",
    "gaps": "gaps were read again",
    "parts": "a part was checked again",
    "cuts": "a cut was planned anew or made, or a weld was opened",
    "walk": "something was seen at the walk-round, or taken back",
    "bound": "it was said anew on which member something is that was seen",
    "members": "a member was looked at again",
    "decisions": "a member was decided anew",
    "settled": "a contradiction was settled",
    "pulls": "pulls were made since",
    "supplements": "a supplement waits for the payer's word",
    "fit": "the panels and gaps were listed anew",
    "seams": "a seam is welded otherwise than was planned",
    "done": "something was done, found or taken back",
}


def title(hold: str) -> str:
    """Return what a hold point is called; its name where it is none of ours."""
    return BY_KEY[hold].title if hold in BY_KEY else hold


def _item(values: Mapping[str, Any]) -> tuple[str, str]:
    item = _SAFETY.get(values["item"])
    return (item.title, item.qualified or "") if item else (values["item"], "")


def _changed(values: Mapping[str, Any], _reader: Reader) -> str:
    return CHANGED.get(values["of"]) or f"{title(values['of'])} has changed"


def _no_other_reference(values: Mapping[str, Any], _reader: Reader) -> str:
    more = (
        " {sound} read fair and would help: make them references on the sheet, and read them as such."
        if values["sound"]
        else ""
    )
    return (
        f"The sheet has no other reference.{more} Cross spans over the whole length, with the tram, check it too. Or a lead signs "
        "it with a reason: what is measured keeps that uncertainty, and says so."
    )


def _refused(values: Mapping[str, Any], _reader: Reader) -> str:
    return (
        f"No {'three' if values['many'] == 3 else 'four'} of the {{many}} references agree with the sheet. "
        "Look for a wrong sheet, swapped codes or left and right exchanged; read them again."
    )


WORDS: Table = {
    "as_told": "{told}",
    "row": "{each:~}",
    "of": "{many} of {many}",
    "sentence": "{of}.",
    "signed": "signed",
    "all_signed": "all signed, and what they rest on stands",
    "not_signed": lambda values, _reader: f"“{title(values['hold'])}” is not signed.",
    "changed": _changed,
    "hold.not_past": lambda values, _reader: (
        f"“{title(values['hold'])}” is not signed{' any more' if values['reopened'] else ''}, "
        "and the job may not go past it: {why}"
    ),
    "hold.sign_it": "all its evidence is there; sign it",
    "hold.not_welded": lambda values, _reader: (
        f"“Fit accepted” is not signed{' any more' if values['reopened'] else ''}: nothing is welded for good. {{why}}"
    ),
    "hold.open_again": lambda values, _reader: f"{title(values['hold'])} is open again: {{why}}",
    "hold.to_sign": lambda values, _reader: (
        f"{title(values['hold'])}: to be signed by a {' or a '.join(values['signers'])}"
    ),
    "hold.and_more": "{why} And {more} more.",
    "hold.signed_by": "signed by {by}",
    "hold.again": "open again: {why}",
    "hold.ready": "ready to be signed",
    "sign.practice": "This is practice: nothing is signed.",
    "sign.role": lambda values, _reader: (
        f"{title(values['hold'])} is signed by a {' or a '.join(values['signers'])}; you are signed in as {{role}}."
    ),
    "sign.signed": lambda values, _reader: f"{title(values['hold'])} is signed already, on the evidence as it stands.",
    "sign.blocked": "Not yet: {missing:~~}",
    "sign.lead": "Only a lead may override what is missing: {missing:~~}",
    "practice.ends": "Practice ends with the pulls: nothing is welded on it.",
    "setup.no_sheet": "There is no sheet: import one or type it in.",
    "setup.void": "Set-up {number} is void: {cause}. Make a new one.",
    "setup.none": "There is no set-up: open one and read the reference points.",
    "setup.fault": lambda values, _reader: (
        "{told}" if values.get("told") else "The reference points do not make a set-up."
    ),
    "setup.ambiguous": "More than one set of references fits. Read another reference, or choose which to trust, with a reason.",
    "setup.choice_disagrees": "The references chosen do not agree any more: choose again.",
    "setup.left_to_read": "Left to read: {codes}.",
    "setup.no_other_reference": _no_other_reference,
    "setup.rests": "set-up {number}, {tool}, on {codes}",
    "fit.refused": _refused,
    "fit.minority": "Only {agree} of {many} references agree. No more than half: the others may be the sound ones. "
    "Read more references, or say with a reason which to trust.",
    "fit.unchecked": "Three references carry the set-up and nothing checks them: if one of them was hit, every figure is wrong "
    "with it. Read a fourth, better a fifth.",
    "fit.weak": "The references hold the turn about the {about} axis only to ± {turn_deg:.3f}°: at {code} that alone is ± {at_mm} "
    "in {along}, more than a third of its tolerance of {limit_mm}. Read references farther apart.",
    "sound.none": "Say which points stand on sound frame: that is chosen, never assumed.",
    "sound.too_few": "Choose two stations or more on sound frame, left and right, at least {apart_mm} apart along the vehicle.",
    "sound.unchecked": "Nothing checks the sound points against one another: read a cross span between them, or hang a third "
    "gauge.",
    "sound.doubted": "{codes}: not where the sheet says, by the other readings. Choose other sound points.",
    "safety.unanswered": lambda values, _reader: f"{_item(values)[0]}: not answered yet.",
    "safety.unqualified": lambda values, _reader: (
        f"{_item(values)[0]}: say by whom, and the number of the {_item(values)[1]}."
    ),
}
