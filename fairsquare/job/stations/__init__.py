"""The table of stations and hold points, in the order of the work: what each is called, its page, who signs, what practice has.

Everything else that asks for one of these reads it here: the spine, holds, waits, the floor, the plan of the day, pages. A station
that comes as files of its own has its row in a module of this package, `ROW`, and nothing here is changed for it.
"""

from fairsquare.core.gathered import modules
from fairsquare.core.who import Role
from fairsquare.job.stations.row import Station, hold, in_order, station

_TRAINED: frozenset[Role] = frozenset({"technician", "lead"})
_LEAD: frozenset[Role] = frozenset({"lead"})
_OWN: tuple[Station, ...] = (
    station("take-in", "Take in", holds_up=False),
    station("walk-round", "Walk round", holds_up=False),
    hold("made_safe", "Made safe", "take-in", _TRAINED, holds_up=True),
    station("sheet", "Sheet", practised=True, holds_up=False),
    station("set-up", "Set up", practised=True),
    hold("setup_accepted", "Set-up accepted", "set-up", _TRAINED),
    station("measure", "Measure", practised=True),
    station("damage", "Read the damage", practised=True, holds_up=False),
    station("decide", "Decide"),
    hold("decision_made", "Decision made", "decide", _TRAINED),
    station("pulls", "Plan the pulls", practised=True),
    station("board", "Pull", practised=True),
    hold("pulls_done", "Pulls done", "board", _TRAINED),
    station("cuts", "Cut"),
    station("fit", "Dry fit"),
    hold("fit_accepted", "Fit accepted: weld", "fit", _LEAD, onward="weld"),
    station("bond", "Bond"),
    station("weld", "Weld"),
    station("finish", "Finish and prove"),
    hold("released", "Released", "finish", _LEAD, onward="record", holds_up=True),
    station("record", "Record", holds_up=False),
)
STATIONS: tuple[Station, ...] = in_order(_OWN, tuple(row for _, row in modules(__name__, "ROW")))
PRACTICE_ENDS = station("practice", "What came of it", practised=True, holds_up=False)
"""The last station of practice, which has no record."""

BY_KEY: dict[str, Station] = {station.key: station for station in (*STATIONS, PRACTICE_ENDS)}
ORDER: tuple[str, ...] = tuple(station.key for station in STATIONS)
ADDED: tuple[Station, ...] = tuple(station for station in STATIONS if station not in _OWN)
"""The stations whose rows stand in modules of their own."""
HELD_UP: dict[str, str] = {station.key: station.title for station in STATIONS if station.holds_up}
"""The stations and hold points that a wait may hold up, in working order; before the first it holds up whatever comes next."""


def is_hold(key: str) -> bool:
    """Return whether a key is that of a hold point."""
    return key in BY_KEY and BY_KEY[key].kind == "hold"
