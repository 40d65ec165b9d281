"""What a shop says of itself: its hours and holidays, its places, what its people can do, and what each station takes."""

import datetime
import re
from collections.abc import Iterator
from typing import Annotated, Literal
from zoneinfo import ZoneInfo, ZoneInfoNotFoundError

from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Many, Model
from fairsquare.core.weld.bonding import ProductSaid

Word = Annotated[str, Field(min_length=1, max_length=40)]
Clock = Annotated[str, Field(pattern=r"^[0-9]{2}:[0-9]{2}$")]
Day = Annotated[str, Field(pattern=r"^[0-9]{4}-[0-9]{2}-[0-9]{2}$")]
DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")
_TIME = re.compile(r"^([01]?\d|2[0-4]):?([0-5]\d)?$")


class Stretch(Model):
    """A stretch of a day that is worked, in the shop's own time; `until` may be 24:00."""

    since: Clock
    until: Clock


class PlaceSaid(Model):
    """A kind of place and how many of it there are."""

    name: Word
    many: Annotated[int, Field(ge=1, le=99)]


class HandSaid(Model):
    """A person, by the sign-in name, what he or she can do, and days (ISO dates) on which they are away."""

    name: Word
    skills: Many[Word] = ()
    away: Many[Day] = ()


class StationTakes(Model):
    """What work at a station takes: a skill (empty: anybody's) and a place (empty: anywhere)."""

    station: Word
    skill: Annotated[str, Field(max_length=40)] = ""
    place: Annotated[str, Field(max_length=40)] = ""


class Holiday(Model):
    """A day on which nobody works."""

    day: Day
    name: Annotated[str, Field(max_length=80)] = ""


_USUAL_DAY = (Stretch(since="08:00", until="12:00"), Stretch(since="12:40", until="17:00"))
_USUAL_TAKES = (
    StationTakes(station="take-in"),
    StationTakes(station="set-up", skill="structure", place="rack"),
    StationTakes(station="measure", skill="structure", place="rack"),
    StationTakes(station="decide", skill="structure"),
    StationTakes(station="pulls", skill="structure", place="rack"),
    StationTakes(station="board", skill="structure", place="rack"),
    StationTakes(station="cuts", skill="structure", place="rack"),
    StationTakes(station="fit", skill="structure", place="rack"),
    StationTakes(station="bond", skill="weld", place="rack"),
    StationTakes(station="weld", skill="weld", place="rack"),
    StationTakes(station="finish"),
)


class ShopSaid(Model):
    """The shop as its people describe it. `week`: the stretches of each day from Monday on.

    `units` are those in which lengths are shown to who chose none; `time_zone` is that of the shop's clock (empty: as the server
    was told); `products` are what it bonds, seals and paints with, as their labels say. A pull sets at most `most_chains`, and none
    that draws less than what sets a chain. `leads_second_factor`: leads sign in with a second factor. `thread_mm` is the
    pitch of the bolts by which hinges are set, `shim_mm` how thick its shims are; 0: they are not told in turns or shims.
    """

    week: Many[Many[Stretch]] = (_USUAL_DAY,) * 5 + ((),) * 2
    holidays: Many[Holiday] = ()
    places: Many[PlaceSaid] = (PlaceSaid(name="rack", many=1),)
    hands: Many[HandSaid] = ()
    takes: Many[StationTakes] = _USUAL_TAKES
    units: Literal["mm", "in"] = "mm"
    time_zone: Annotated[str, Field(max_length=60)] = ""
    products: Many[ProductSaid] = ()
    most_chains: Annotated[int, Field(ge=1, le=3)] = 2
    chain_sets_n: Annotated[float, Field(ge=0, le=100_000)] = 5000.0
    leads_second_factor: bool = False
    thread_mm: Annotated[float, Field(ge=0, le=20)] = 1.25
    shim_mm: Annotated[float, Field(ge=0, le=20)] = 0.5

    def zone(self, otherwise: ZoneInfo) -> ZoneInfo:
        """Return the shop's time zone, or another one where it named none."""
        return ZoneInfo(self.time_zone) if self.time_zone else otherwise

    def at(self, station: str) -> StationTakes:
        """Return what work at a station takes."""
        return next((take for take in self.takes if take.station == station), StationTakes(station=station or "other"))


def read_stretches(text: str, field: str) -> tuple[Stretch, ...]:
    """Return the stretches of a day as they are typed: `8-12, 12:40-17`. Raises `Refused` that names the field."""
    stretches: list[Stretch] = []
    for part in re.split(r"[,;]", text.replace("–", "-").replace(" to ", "-")):
        if not part.strip():
            continue
        ends = [_TIME.match(clock.strip()) for clock in part.split("-")]
        if len(ends) != 2 or not ends[0] or not ends[1]:
            raise Refused("Hours of a day are written like 8:00-12:00, 12:40-17:00.", field=field, value=text[:80])
        since, until = (f"{int(end[1]):02d}:{end[2] or '00'}" for end in ends if end)
        if until > "24:00":
            raise Refused("A day ends at 24:00.", field=field, value=part.strip())
        if until <= since:
            raise Refused(f"These hours end before they begin: {part.strip()}.", field=field, value=part.strip())
        if stretches and since < stretches[-1].until:
            raise Refused(
                f"{part.strip()} begins before {stretches[-1].until}, when the one before ends.",
                field=field,
                value=text[:80],
            )
        stretches.append(Stretch(since=since, until=until))
    return tuple(stretches)


_NAMED = {"holiday": "day", "product": "id"}


def check_shop(said: ShopSaid) -> None:
    """Raise `Refused` that names the field of the form, for what does not fit together."""
    try:
        said.zone(ZoneInfo("UTC"))
    except (ZoneInfoNotFoundError, ValueError, OSError):
        raise Refused(
            f"There is no time zone {said.time_zone}: name it as Atlantic/Faroe or Europe/Oslo.",
            field="time_zone",
            value=said.time_zone,
        ) from None
    if not any(said.week):
        raise Refused("Nobody works on any day: then nothing can be planned.", field="week-0")
    for kind, names in (
        ("place", [place.name for place in said.places]),
        ("hand", [hand.name for hand in said.hands]),
        ("holiday", [holiday.day for holiday in said.holidays]),
        ("product", [product.id for product in said.products]),
    ):
        seen: set[str] = set()
        for k, name in enumerate(names):
            if name.casefold() in seen:
                raise Refused(f"{name} stands there twice.", field=f"{kind}-{k}-{_NAMED.get(kind, 'name')}", value=name)
            seen.add(name.casefold())
    places = {place.name for place in said.places}
    skills = {skill for hand in said.hands for skill in hand.skills}
    for k, asked in enumerate(said.takes):
        if asked.place and asked.place not in places:
            raise Refused(
                f"There is no place {asked.place}: list it first.", field=f"takes-{k}-place", value=asked.place
            )
        if asked.skill and said.hands and asked.skill not in skills:
            raise Refused(
                f"Nobody can do {asked.skill}: give it to somebody first.", field=f"takes-{k}-skill", value=asked.skill
            )
    for k, holiday in enumerate(said.holidays):
        _day(holiday.day, f"holiday-{k}-day")
    for k, hand in enumerate(said.hands):
        for day in hand.away:
            _day(day, f"hand-{k}-away")


def working_hours(
    said: ShopSaid, zone: ZoneInfo, first: datetime.date, days: int, base: datetime.datetime
) -> list[tuple[int, int]]:
    """Return the stretches worked from a day on, in whole minutes of the clock since `base` (UTC).

    The shop's hours are those of its own clock; a night in which that is put on or back is an hour shorter or longer all the same.
    """
    hours: list[tuple[int, int]] = []
    for day in (first + datetime.timedelta(days=k) for k in range(days)):
        for since, until in _stretches(said, zone, day):
            start = -int((base - since).total_seconds() // 60)
            end = int((until - base).total_seconds() // 60)
            if end > start:
                hours.append((start, end))
    return hours


def _stretches(
    said: ShopSaid, zone: ZoneInfo, day: datetime.date
) -> Iterator[tuple[datetime.datetime, datetime.datetime]]:
    if any(holiday.day == day.isoformat() for holiday in said.holidays):
        return
    for shift in said.week[day.weekday()] if day.weekday() < len(said.week) else ():
        yield _moment(day, shift.since, zone), _moment(day, shift.until, zone)


def _moment(day: datetime.date, clock: str, zone: ZoneInfo) -> datetime.datetime:
    hours, minutes = int(clock[:2]), int(clock[3:])
    midnight = datetime.datetime.combine(day, datetime.time())
    wall = (midnight + datetime.timedelta(hours=hours, minutes=minutes)).replace(tzinfo=zone)
    return wall.astimezone(datetime.UTC)


def _day(text: str, field: str) -> None:
    try:
        datetime.date.fromisoformat(text)
    except ValueError:
        raise Refused("A day is written like 2026-12-24.", field=field, value=text) from None
