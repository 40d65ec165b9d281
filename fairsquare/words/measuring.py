"""What is said of the reading worth taking next."""

from fairsquare.job.measure.tools import TOOL_KINDS
from fairsquare.words.said import Table

_SINGLE = {
    "height": f"Read the height of {{code}} ({TOOL_KINDS['level']})",
    "offset": f"Read the offset of {{code}} ({TOOL_KINDS['line']})",
    "point": "Read the point {code} (instrument)",
}
_GAIN = {
    "fixes": "it fixes {code}'s {axis}, which is hardly known",
    "halves": "it halves what is not known of {code}'s {axis}",
    "third": "it takes a third from what is not known of {code}'s {axis}",
    "little": "it takes a little from what is not known of {code}'s {axis}",
}

WORDS: Table = {
    "next.reading": "{what}: {does}.",
    "next.span": lambda values, _reader: "{tool} {a} to {b}, " + ("seen from above" if values["flat"] else "in space"),
    "next.gauge": "Hang a gauge on {a} and {b}",
    "next.difference": "Read {a} against {b}",
    "next.single": lambda values, _reader: _SINGLE[values["of"]],
    "next.gain": lambda values, _reader: _GAIN[values["how"]],
}
