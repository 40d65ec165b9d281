"""What the pull board says beside its one word, and what is said of plans while they are looked for."""

from collections.abc import Mapping
from typing import Any

from fairsquare.words.said import Reader, Table


def _spoiled(values: Mapping[str, Any], _reader: Reader) -> str:
    were = "was fair and is" if len(values["spoiled"]) == 1 else "were fair and are"
    return f"{{short}} short, but {{spoiled}} {were} off now: end this pull, plan the rest"


def _in_frame(values: Mapping[str, Any]) -> str:
    return " if the frame is {frame}" if values["frame"] else ""


WORDS: Table = {
    "board.full": "{gear} is at {use:.0%} of what it takes: no more, let go",
    "board.nearly_full": "{gear} is at {use:.0%} of what it takes: let go, then read free",
    "board.void_under_load": "{cause}. Let go, look at every clamp",
    "board.void": "{cause}: what was read with the old set-up says nothing of where it stands",
    "board.far_enough": "far enough: let go, then read free",
    "board.no_farther": "{full} may go no farther, {short} or not: let go, then read free",
    "board.close": "close the cycle",
    "board.spoiled": _spoiled,
    "board.gives_no_more": "{short} short, and {gear} can give no more: end this pull, plan the rest",
    "board.again": "{short} short, pull again",
    "board.past_home": "{short} short, but {home} would go past home: end this pull, plan the rest",
    "board.past_limit": "{passed} past the limit: let go",
    "board.stopped": "say why, look, then go on or let go",
    "board.brought_nothing": "two pulls brought nothing: stress-relieve, look at the anchors, before more force",
    "board.to_go": "{left_mm} to go at {code}",
    "board.unread": "no reading under load yet",
    "board.read_free": "read {codes} free",
    "board.all_read": "all watched points are read: {onward}",
    "board.cautions": "tick each by hand, each time",
    "board.test": "pump, ram and chain move, oil is high enough; then look at every clamp",
    "board.look": "again, now that there was tension on them",
    "board.hold": "chains stay tight; nobody in line with one",
    "board.relieve": "hammer with a dolly round the buckle, under tension",
    "board.nothing": "",
    "plan.form_tried": "{form}: {before_mm} → {after_mm} beyond tolerance",
    "plan.spoils": lambda values, _reader: f"It takes what is fair out of tolerance{_in_frame(values)}: {{codes}}.",
    "plan.moves_still": "{code} is to be left where it stands, and is moved by {by_mm}.",
    "plan.worse": lambda values, _reader: f"It makes points worse than they are{_in_frame(values)}: {{each}}.",
    "plan.out_of_reach": "{tower} does not reach {height_mm:0}.",
    "points.spoiled": "{code}, which is fair now",
    "plan.write_why": "{why} Write why, in a sentence.",
    "plan.overpull": "It draws a point {past_mm:0} past where it belongs, {times:.1f} times the longest way that any has to go: by "
    "common practice no more than that way. It may be allowed with a reason.",
}
