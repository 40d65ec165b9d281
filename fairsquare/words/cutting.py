"""What cuts wait for, and what of a section is to be done yet."""

from collections.abc import Mapping
from typing import Any

from fairsquare.job.damage.choices import CHOICES
from fairsquare.words.said import Reader, Table, listed


def _not_decided(values: Mapping[str, Any], _reader: Reader) -> str:
    known: Mapping[str, str] = {str(key): words for key, words in CHOICES.items()}
    named = [known.get(one, one) for one in values["decided"]]
    words = f"decided: {', '.join(named)}" if named else "nothing is decided of it"
    return f"{{member}}, {{layer}}, is not decided to be cut across ({words})."


def _stuck(values: Mapping[str, Any], _reader: Reader) -> str:
    more = " and more" if len(values["welds"]) > 8 else ""
    return f"{{member}}: cannot be done as they lie: {listed(values['welds'][:8])}{more}"


WORDS: Table = {
    "cut.not_decided": _not_decided,
    "cut.nowhere": "There is no place for this cut: describe the strip, and settle where it goes.",
    "cut.contradiction": "A contradiction is not settled: {of}",
    "cut.rule_broken": "The cuts stand where a rule is broken: say why, or put them elsewhere.",
    "cut.beneath": "{member} is not home beneath it: {codes}.",
    "cut.plate": "An identity plate or label comes off with it ({at_mm} {way} {datum}): photograph it first.",
    "cut.plate_seen": "“{seen}”: photograph the plate or label first.",
    "cut.unplanned": "{member}: decided to come off, and not planned",
    "cut.done": lambda values, _reader: "{many} done" if values["many"] else "nothing is cut",
    "cut.layers": "{member}: its layers are not described",
    "cut.no_place": "{member}: there is no place for its cuts yet",
    "cut.uncut": "{member}: not cut yet: {layers}",
    "cut.unmapped": "{member}: its welds are not mapped",
    "cut.stuck": _stuck,
    "cut.welds": "{member}: {many:weld} to open on the {whose}",
    "cut.not_yet": lambda values, _reader: (
        "Not yet: {missing:~~}" + (" Only a lead may let it go on, with a reason." if values["led"] else "")
    ),
    "cut.plan": "Plan how to replace the {member}",
    "demand.cuts": "What was planned to be cut is cut",
    "todo.cuts": "Make the cut and tick the welds, or plan it anew.",
    "todo.describe_strip": "Describe the strip",
    "todo.elsewhere": "Put the cuts elsewhere",
    "todo.bring_home": "Bring it home",
    "todo.photograph": "Photograph it",
}
