"""What cuts wait for, and what of a section is to be done yet."""

from collections.abc import Mapping
from typing import Any

from fairsquare.job.damage.choices import CHOICES
from fairsquare.words.said import Reader, Table, listed


def _not_decided(values: Mapping[str, Any], _reader: Reader) -> str:
    known: Mapping[str, str] = {str(key): words for key, words in CHOICES.items()}
    named = [known.get(way, way) for way in values["decided"]]
    words = f"decided: {', '.join(named)}" if named else "nothing is decided of it"
    return f"{{member}}, {{layer}}, is not decided to be cut across ({words})."


def _stuck(values: Mapping[str, Any], _reader: Reader) -> str:
    more = " and more" if len(values["welds"]) > 8 else ""
    return f"{{member}}: cannot be done as they lie: {listed(values['welds'][:8])}{more}"


WORDS: Table = {
    "rejoin.unknown": "–",
    "rejoin.by": "{each:&}",
    "rejoin.squeeze": "squeeze-type weld",
    "rejoin.plug": "plug, {hole_mm:0}, from the {side}",
    "rejoin.nothing_to_weld": "nothing to weld",
    "rejoin.nothing": "nothing to join",
    "rejoin.rivet": "new rivet as the maker has it",
    "rejoin.bolt": "new bolt, torque as the maker has it",
    "rejoin.adhesive": "adhesive as the maker has it, on bare clean metal",
    "strip.station": "{at_mm} {way} {datum}",
    "strip.off_layer": "it is off the layer, which reaches from {from_mm:bare} to {to_mm:0}",
    "strip.too_near": "{away_mm:0} from the {feature} at {at_mm:bare}, which needs {clear_mm:bare} clear",
    "strip.stagger": "{apart_mm:0} from the cut of {other}: {wanted_mm:bare} apart is wanted",
    "strip.damage": "in the damage",
    "strip.window": "outside the maker's window",
    "strip.access": "where saw and torch do not reach",
    "strip.not_out": "Not further out: {why}.",
    "strip.not_in": "Not further in: {why}.",
    "strip.ends": "the layer ends there",
    "strip.keeps_clear": "the {feature} from {from_mm:bare} to {to_mm:bare} needs {clear_mm:0} clear",
    "strip.damage_begins": "the damage begins at {at_mm:bare}, kept clear of by {clear_mm:0}",
    "strip.damage_ends": "the damage ends at {at_mm:bare}, kept clear of by {clear_mm:0}",
    "strip.window_ends": "the maker's window ends",
    "strip.access_ends": "saw and torch reach no further",
    "strip.stagger_beside": "the cuts of the layers beside it would be less than {wanted_mm:0} away",
    "strip.more_off": "more would come off",
    "cut.not_decided": _not_decided,
    "cut.kerf_wide": (
        "The saw cut is {kerf_mm:fine} wide, the gap {gap_mm:fine}: vehicle and donor laid over each other and cut in one "
        "stroke would be left too far apart. Cut each to its own line."
    ),
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
