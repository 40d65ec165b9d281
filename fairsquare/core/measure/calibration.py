"""How far a measuring tool is to be trusted: its calibrations and its checks on a bar, and what they say of what it read.

A calibration answers for what is read until it is due again. A check that fails throws doubt on everything since the tool was last
seen to be good, and after it, until it is calibrated again or a check finds it good. Common practice, as ISO 10012 asks for.
"""

from bisect import bisect_right
from collections.abc import Iterable, Sequence
from functools import lru_cache
from typing import Annotated, Literal, NamedTuple

from pydantic import Field

from fairsquare.core.measure.bar_check import ACT, WARN, CheckTool, ToolChecked, check_tool
from fairsquare.core.model import Many, Model
from fairsquare.core.said import Said, say
from fairsquare.core.who import Who

Day = Annotated[str, Field(pattern=r"^[0-9]{4}-[0-9]{2}-[0-9]{2}$")]


class Calibrated(Model):
    """A calibration: on which day, until which day it is good (empty: nobody said), by whom or by which certificate."""

    kind: Literal["calibration"] = "calibration"
    done_on: Day
    due_on: Day | Literal[""] = ""
    words: Annotated[str, Field(max_length=200)] = ""


class BarRead(Model):
    """A check on a reference bar: on which day it was read, which bar, as it was said, and everything that its judgement takes."""

    kind: Literal["check"] = "check"
    read_on: Day
    bar: Annotated[str, Field(max_length=120)]
    said: Annotated[str, Field(max_length=2000)]
    check: CheckTool


ToolSaid = Annotated[Calibrated | BarRead, Field(discriminator="kind")]


class ToolEventFact(Model):
    """A calibration or a check of a tool."""

    id: int
    what: ToolSaid
    by: Who
    taken_back: Who | None = None


class ToolFact(Model):
    """A tool of the shop, by the name under which it reads, with its calibrations and checks, oldest first."""

    name: str
    kind: str
    sigma_mm: float
    events: Many[ToolEventFact] = ()


Level = Literal["good", "unknown", "overdue", "bad"]
_WORSE: tuple[Level, ...] = ("good", "unknown", "overdue", "bad")


class Standing(NamedTuple):
    """How far a tool is to be trusted in what it read, and why; `until` which day its calibration is good."""

    name: str
    level: Level
    said: Said
    until: str = ""


def check_said(found: ToolChecked) -> Said:
    """Return how a check on the bar came out, with its figures, mm."""
    if found.scatter_mm > found.scatter_limit_mm:
        return say("check.scatters", scatter_mm=found.scatter_mm, limit_mm=found.scatter_limit_mm)
    allowed = (WARN if found.verdict == "good" else ACT) * found.error_sigma_mm
    return say(f"check.{found.verdict}", by_mm=abs(found.error_mm), long=found.error_mm > 0, allowed_mm=allowed)


def standing(tool: ToolFact, at: str) -> Standing:
    """Return how far a tool is to be trusted in what it read at a moment (UTC, ISO 8601); days are those of UTC."""
    return _History(tool).at(at)


class _History:
    """A tool's calibrations and checks in the order of time, each check judged once."""

    def __init__(self, tool: ToolFact) -> None:
        self._name = tool.name
        events = [event for event in tool.events if event.taken_back is None]
        self._done = sorted(
            (event.what for event in events if isinstance(event.what, Calibrated)),
            key=lambda event: (event.done_on, event.due_on),
        )
        known = sorted(((_when(event), event, judged(event)) for event in events), key=lambda event: event[0])
        self._known = [
            (when, event, check) for when, event, check in known if check is None or check.verdict != "again"
        ]
        self._whens = [when for when, _, _ in self._known]
        self._found: dict[tuple[int, str], Standing] = {}

    def at(self, at: str) -> Standing:
        """Return how far the tool is to be trusted in what it read at a moment: the same on all of a day between two events."""
        place, day = bisect_right(self._whens, at), at[:10]
        found = self._found.get((place, day))
        if found is None:
            found = self._found[place, day] = self._between(place, day)
        return found

    def _between(self, place: int, day: str) -> Standing:
        """Return the same on a day, after the first events in the order of time and before the event at `place`."""
        for since, nearest in ((False, self._known[:place][-1:]), (True, self._known[place:][:1])):
            for _, event, found in nearest:
                if found is not None and found.verdict == "bad" and isinstance(event.what, BarRead):
                    check = {"day": event.what.read_on, "bar": event.what.bar, "check": check_said(found)}
                    return Standing(self._name, "bad", say("tool.found_bad", since=since, **check))
        done = [event for event in self._done if event.done_on <= day]
        if not done:
            return Standing(self._name, "unknown", say("tool.no_calibration"))
        last = done[-1]
        if last.due_on and last.due_on < day:
            return Standing(self._name, "overdue", say("tool.overdue", since=last.due_on))
        return Standing(self._name, "good", say("tool.calibrated", day=last.done_on, until=last.due_on), last.due_on)


def _when(event: ToolEventFact) -> str:
    """Return when it was done: when it was written down, if on its day; else a calibration at midnight, a check at noon of it."""
    day = day_of(event.what)
    if day == event.by.at[:10]:
        return event.by.at
    return f"{day}T00:00" if isinstance(event.what, Calibrated) else f"{day}T12:00"


def day_of(said: Calibrated | BarRead) -> str:
    """Return the day on which it was calibrated or read."""
    return said.done_on if isinstance(said, Calibrated) else said.read_on


def judged(event: ToolEventFact) -> ToolChecked | None:
    """Return how a check came out; none of a calibration."""
    return _judged(event.what.check) if isinstance(event.what, BarRead) else None


@lru_cache(maxsize=4096)
def _judged(check: CheckTool) -> ToolChecked:
    return check_tool(check)


def standings(tools: Sequence[ToolFact], read: Iterable[tuple[str, str]]) -> tuple[Standing, ...]:
    """Return how far each tool is to be trusted in everything it `read` (its name, when), at its worst, in the order of reading."""
    by_name = {tool.name: _History(tool) for tool in tools}
    worst: dict[str, Standing] = {}
    for name, at in read:
        history = by_name.get(name)
        standing = history.at(at) if history else Standing(name, "unknown", say("tool.unlisted"))
        kept = worst.get(name)
        if kept is None or _WORSE.index(standing.level) > _WORSE.index(kept.level):
            worst[name] = standing
    return tuple(worst.values())
