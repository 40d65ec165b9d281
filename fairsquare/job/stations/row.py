"""What the table of stations says of one: a row. A station of its own package brings with its row what others have in theirs."""

from collections.abc import Callable, Mapping
from types import MappingProxyType
from typing import Literal, NamedTuple

from fairsquare.core.said import Said
from fairsquare.core.who import Role
from fairsquare.job.facts.holds import HoldName
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.missing import Demand


class Act(NamedTuple):
    """A thing that is done and recorded: how that begins, what the audit calls it, and whether practice has it."""

    begins: str
    words: str
    practised: bool = False


class Asked(NamedTuple):
    """What a station asks for at a hold point: its demand, and the evidence that a signature stands on, as text."""

    demand: Demand
    evidence: str


class Station(NamedTuple):
    """A station of the work, or a hold point.

    `page`: of a job, where its work is done; `onward`: where one goes on when a hold was signed, if not to that page. `signers`: of
    a hold. `practised`: practice has it. `holds_up`: a wait may be said to hold the job up from here on.

    Of a station whose row stands in a module of its own: `after` is the key of the one that it comes behind; `done` whether it is
    done, `to_do` what there is to do until then; `asks` what it asks for at hold points; `acts` what is done there, by deeds.
    """

    kind: Literal["station", "hold"]
    key: str
    title: str
    page: str
    signers: frozenset[Role] = frozenset()
    onward: str = ""
    practised: bool = False
    holds_up: bool = False
    after: str = ""
    done: Callable[[JobFacts], bool] | None = None
    to_do: Callable[[JobFacts], Said] | None = None
    asks: Mapping[HoldName, Callable[[JobFacts], Asked]] = MappingProxyType({})
    acts: Mapping[str, tuple[Act, ...]] = MappingProxyType({})

    @property
    def address(self) -> str:
        """The page of a job that shows it: of a hold point its own, of a station the one where its work is done."""
        return f"holds/{self.key}" if self.kind == "hold" else self.page


def station(key: str, title: str, *, practised: bool = False, holds_up: bool = True) -> Station:
    """Return the row of a station, whose page has its name."""
    return Station("station", key, title, key, practised=practised, holds_up=holds_up)


def hold(
    key: HoldName, title: str, page: str, signers: frozenset[Role], *, onward: str = "", holds_up: bool = False
) -> Station:
    """Return the row of a hold point: the page where what it lacks is got, and who signs it."""
    return Station("hold", key, title, page, signers, onward, holds_up=holds_up)


def in_order(rows: tuple[Station, ...], more: tuple[Station, ...]) -> tuple[Station, ...]:
    """Return rows with further ones, each behind the one that it names."""
    ordered = list(rows)
    for station in more:
        keys = [row.key for row in ordered]
        if station.key in keys or station.after not in keys:
            raise ValueError(
                f"The row of station {station.key} stands after {station.after!r}: name one of {', '.join(keys)}"
            )
        ordered.insert(keys.index(station.after) + 1, station)
    return tuple(ordered)
