"""The table of stations and hold points, in the order of the work: what each is called, its page, who signs, what practice has.

Everything else that asks for one of these reads it here: the spine, holds, waits, the floor, the plan of the day, pages.
"""

from typing import Literal, NamedTuple

from fairsquare.core.who import Role
from fairsquare.job.facts.holds import HoldName

_TRAINED: frozenset[Role] = frozenset({"technician", "lead"})
_LEAD: frozenset[Role] = frozenset({"lead"})


class Station(NamedTuple):
    """A station of the work, or a hold point.

    `page`: of a job, where its work is done; `onward`: where one goes on when a hold was signed, if not to that page. `signers`: of
    a hold. `practised`: practice has it. `holds_up`: a wait may be said to hold the job up from here on.
    """

    kind: Literal["station", "hold"]
    key: str
    title: str
    page: str
    signers: frozenset[Role] = frozenset()
    onward: str = ""
    practised: bool = False
    holds_up: bool = False

    @property
    def address(self) -> str:
        """The page of a job that shows it: of a hold point its own, of a station the one where its work is done."""
        return f"holds/{self.key}" if self.kind == "hold" else self.page


def _station(key: str, title: str, *, practised: bool = False, holds_up: bool = True) -> Station:
    return Station("station", key, title, key, practised=practised, holds_up=holds_up)


def _hold(
    key: HoldName,
    title: str,
    page: str,
    signers: frozenset[Role] = _TRAINED,
    *,
    onward: str = "",
    holds_up: bool = False,
) -> Station:
    return Station("hold", key, title, page, signers, onward, holds_up=holds_up)


STATIONS: tuple[Station, ...] = (
    _station("take-in", "Take in", holds_up=False),
    _station("walk-round", "Walk round", holds_up=False),
    _hold("made_safe", "Made safe", "take-in", holds_up=True),
    _station("sheet", "Sheet", practised=True, holds_up=False),
    _station("set-up", "Set up", practised=True),
    _hold("setup_accepted", "Set-up accepted", "set-up"),
    _station("measure", "Measure", practised=True),
    _station("damage", "Read the damage", practised=True, holds_up=False),
    _station("decide", "Decide"),
    _hold("decision_made", "Decision made", "decide"),
    _station("pulls", "Plan the pulls", practised=True),
    _station("board", "Pull", practised=True),
    _hold("pulls_done", "Pulls done", "board"),
    _station("cuts", "Cut"),
    _station("fit", "Dry fit"),
    _hold("fit_accepted", "Fit accepted: weld", "fit", _LEAD, onward="weld"),
    _station("bond", "Bond"),
    _station("weld", "Weld"),
    _station("finish", "Finish and prove"),
    _hold("released", "Released", "finish", _LEAD, onward="record", holds_up=True),
    _station("record", "Record", holds_up=False),
)
PRACTICE_ENDS = _station("practice", "What came of it", practised=True, holds_up=False)
"""The last station of practice, which has no record."""

BY_KEY: dict[str, Station] = {one.key: one for one in (*STATIONS, PRACTICE_ENDS)}
ORDER: tuple[str, ...] = tuple(one.key for one in STATIONS)
HELD_UP: dict[str, str] = {one.key: one.title for one in STATIONS if one.holds_up}
"""The stations and hold points that a wait may hold up, in working order; before the first it holds up whatever comes next."""


def is_hold(key: str) -> bool:
    """Return whether a key is that of a hold point."""
    return key in BY_KEY and BY_KEY[key].kind == "hold"
