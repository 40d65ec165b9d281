"""What stands behind pulls done, fit accepted and released: points, spans, gaps, tools, finish, papers of others."""

from collections.abc import Mapping
from typing import Any

from fairsquare.job.facts.done import OUTSIDES
from fairsquare.words.moves import moved_words
from fairsquare.words.said import Reader, Table


def _fair(values: Mapping[str, Any], _reader: Reader) -> str:
    return "{fair} of {many}, with their uncertainty" + (
        "; {consented} left out with consent" if values["consented"] else ""
    )


def _work(values: Mapping[str, Any]) -> str:
    what = str(values["what"])
    return dict[str, str](OUTSIDES.items()).get(what, what)


WORDS: Table = {
    "demand.before": "The hold points before it are signed",
    "todo.before": "Open the hold point: it says what it lacks.",
    "todo.look_at_hold": "Look at what it waits for",
    "demand.fit_before": "Fit was accepted before welding",
    "demand.setup": "A set-up is valid",
    "todo.setup": "Set up and read the reference points again.",
    "demand.tools": "The tools that read it are good",
    "todo.tools": "Check the tool on the reference bar again; else read again with a good one.",
    "tools.bad": "{tool}, {why}: what it read is no evidence. Read again with a tool that is good.",
    "tools.stands": lambda values, _reader: "{tool}: {why}" if values["level"] == "good" else "{tool}: NB {why}",
    "tools.nothing_read": "nothing was read",
    "demand.read": "Every point is read",
    "todo.new_setup": "Open a new set-up, then read them.",
    "todo.read_free": "Read them free.",
    "points.of": "{many} of {many} points",
    "points.unmeasured": "No point is measured: there is no set-up in force.",
    "points.unread": "{codes:point} not read: {codes}.",
    "demand.free": "Read free, not under load",
    "todo.free": "Let go of every chain, then read them again.",
    "points.no_chain": "no chain was tight",
    "points.loaded": "Read only under load: {codes}. Let go and read free.",
    "points.before_pull": "Read before the last pull: {codes}. Read again, free.",
    "demand.fresh": "Read after the last time anything moved",
    "points.moved": lambda values, reader: (
        f"nothing has moved since: {moved_words(values['move'], reader.units)}, {{last_at}}"
    ),
    "points.unmoved": "nothing has moved since",
    "points.stale": "Older than the last move: {codes}. Read again.",
    "demand.known": "Known to within tolerance",
    "todo.known": "The measuring page names the reading that helps most.",
    "points.known": "every direction of every point",
    "points.vague": "{codes:point} not known to within tolerance in every direction: {codes}. Read more of them.",
    "demand.agree": "Readings agree with one another",
    "todo.agree": "Read it again, or keep it out with a reason.",
    "points.agree": "each agrees with the others",
    "points.contradicted": "{readings}: contradicted by other readings. Read again, or keep out with a reason.",
    "demand.fair": "Every point is fair",
    "todo.fair": "Bring it home, or read more where it is close. A lead may let it stand, with a reason.",
    "points.fair": _fair,
    "points.off": "{codes:point} out of tolerance: {codes}.",
    "points.close": "{codes:point} inside, but not by more than the uncertainty: {codes}.",
    "demand.still": "Nothing moves while it is welded",
    "todo.still": "Stop welding. Let it cool, find what pulls, then read the point free on the measuring page.",
    "points.by": "{code} by {by_mm}",
    "points.drift": "Out of tolerance while welding: {each}. Let it cool, then read it free.",
    "demand.carried": "On the wheels it is as it was on the rack",
    "todo.carried": "Call the spans on the measuring page: they need no set-up.",
    "spans.apart": "{a} to {b} {apart_mm:+}",
    "spans.by": "{a} to {b} by {apart_mm:+}",
    "spans.between": "{a} to {b}",
    "spans.agreed": "spans before and after: {each}",
    "spans.too_few": "{many} free spans were read before it was let down: {fewest} between {points} points are needed. "
    "Set it up again, read them, and let it down again.",
    "spans.differ": "Spans differ from before it was let down: {each}. Set it up again and measure.",
    "spans.again": "Read the same spans again on the wheels: {each}.",
    "demand.gaps": "Gaps are read",
    "todo.gaps": "List the gaps, or say why nothing is hung on what was repaired.",
    "gaps.none_hung": "nothing is hung on it: “{why}”",
    "gaps.unlisted": "The gap check is not made: read the gaps on the dry fit.",
    "demand.gaps_rack": "Gaps are read on the rack",
    "todo.gaps_rack": "Call them: “gap lid left front 4.5”.",
    "gaps.unread_rack": "Gaps not read on the rack: {places}.",
    "demand.strips": "Panels hang on their weatherstrip",
    "todo.strips": "Record the hanging, with the weatherstrip on.",
    "gaps.panels": lambda values, _reader: "{panels}" if values["panels"] else "no panel is listed",
    "gaps.bare": "Not hung with its weatherstrip on: {panels}.",
    "demand.gaps_wheels": lambda values, _reader: (
        "Gaps are read on the wheels" + (", after welding" if values.get("welded") else "")
    ),
    "todo.gaps_wheels": "Call them again.",
    "todo.let_down": "Let it down on its wheels, record that, and call them again.",
    "gaps.unread_wheels": "Gaps not read on the wheels: {places}.",
    "gaps.stale": "Gaps read before the last move: {places}. Read them again.",
    "demand.gaps_in": "Gaps are within",
    "todo.gaps_in": "The panel's page says how far to move which hinge, or that the structure is out.",
    "gaps.in": "every gap, on the wheels",
    "gaps.out": "Gaps out of tolerance: {places}.",
    "demand.findings": "Fit and measurement do not contradict each other",
    "todo.findings": "Read again what may be wrong, or write why both are right.",
    "fit.settled": "every contradiction is settled, with its reason",
    "fit.agree": "they agree",
    "fit.home_by_eye": lambda values, _reader: (
        f"{{place}} fits by eye, and {{points}} {'is' if values['many'] == 1 else 'are'} out by reading."
    ),
    "fit.home_by_reading": lambda values, _reader: (
        f"{{place}} is {'wide' if values['wide'] else 'tight'}, and "
        + ("every point is" if values["every"] else "{points} is" if values["many"] == 1 else "{points} are")
        + " home by reading."
    ),
    "fit.contradicts": lambda values, _reader: (
        "{told} Settle it." if "told" in values else f"{values['of'].replace('_', ' ')}: settle it."
    ),
    "pulls.under_way": "A pull is under way: let go, read free, and end it.",
    "pulls.found_after": "Found after pull {pull}: {found}. Put it among the members' signs and decide on it.",
    "demand.clocks": "No clock runs any more",
    "todo.clocks": "End each when what it counts is over.",
    "clocks.ended": "all ended",
    "clocks.run": "Clocks run: {clocks}.",
    "demand.finish": "Protected and closed",
    "todo.finish": "List primer, sealer, wax, pads and seams for later, and tick them off.",
    "finish.done": "{many} of {many} done",
    "finish.unlisted": "No protection, pads or later seams are listed.",
    "finish.undone": "Not done yet: {items}.",
    "demand.outside": lambda values, _reader: _work(values)[0].upper() + _work(values)[1:],
    "todo.outside": "Have it done, and write down by whom and the number of the paper; or the maker's word that it is not needed.",
    "outside.no_word": lambda values, _reader: f"No word on {_work(values)}.",
    "outside.failed": lambda values, _reader: f"{_work(values)} failed at {{by}}: {{why}}.",
    "outside.done": "{by}, {paper}",
    "outside.not_needed": "not needed: {why} ({by})",
}
