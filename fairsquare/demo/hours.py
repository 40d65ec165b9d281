"""The hours of the demo's jobs: what was sold, what was promised, who worked on what, and what they wait for."""

import datetime
import secrets
from typing import NamedTuple

from fairsquare.actions import Desk, planning, waiting, working
from fairsquare.core.plan.said import HoursSaid, OperationSaid, PartSaid
from fairsquare.core.plan.shop_said import HandSaid, PlaceSaid, ShopSaid
from fairsquare.core.weld.bonding import ProductSaid
from fairsquare.stand_ins.vehicles import DUNLIN_TWO, TEAL, TURNSTONE, Vehicle
from fairsquare.store.people import Person


class _Hours(NamedTuple):
    """What was sold by operation, the parts in the way, in how many days it is promised, and the work done: who, on what, hours."""

    sold: tuple[tuple[str, float], ...]
    parts: tuple[PartSaid, ...]
    promised_in: int
    worked: tuple[tuple[str, str, float], ...]
    needs_off: tuple[tuple[str, tuple[str, ...]], ...] = ()


_TEAL = _Hours(
    sold=(("Set up and clamp", 2.0), ("Measure", 1.0), ("Cut right rear rail", 2.0), ("Cut luggage floor", 2.0)),
    parts=(
        PartSaid(name="rear bumper", off_h=0.4, on_h=0.5, sold_h=0.9),
        PartSaid(name="tailgate", off_h=0.6, on_h=0.9, trials=3),
        PartSaid(name="floor trim", off_h=0.3, on_h=0.4),
        PartSaid(name="tank", off_h=1.2, on_h=1.4, under=("floor trim",)),
    ),
    promised_in=6,
    worked=(
        ("mateus", "Set up and clamp", 1.7),
        ("ngozi", "Set up and clamp", 1.7),
        ("ngozi", "Measure", 1.25),
        ("solveig", "Read and decide", 0.8),
    ),
    needs_off=(
        ("Cut right rear rail", ("rear bumper", "tank")),
        ("Cut luggage floor", ("floor trim", "tailgate", "tank")),
    ),
)
_DUNLIN_TWO = _Hours(
    sold=(
        ("Set up and clamp", 3.0),
        ("Measure", 1.0),
        ("Cut right apron", 2.0),
        ("Weld right apron to rail", 1.0),
        ("Prove and hand over", 0.5),
    ),
    parts=(
        PartSaid(name="lid", off_h=0.3, on_h=0.5, trials=2),
        PartSaid(name="right lamp", off_h=0.2, on_h=0.3, sold_h=0.5),
    ),
    promised_in=2,
    worked=(
        ("ngozi", "Set up and clamp", 1.4),
        ("mateus", "Set up and clamp", 1.4),
        ("ngozi", "Measure", 1.1),
        ("mateus", "Cut right apron", 2.3),
    ),
    needs_off=(("Cut right apron", ("right lamp",)),),
)
_OF = {TEAL.name: _TEAL, DUNLIN_TWO.name: _DUNLIN_TWO}


def say_the_shop(desk: Desk, lead: Person) -> None:
    """Say what the shop of the demo is: hours, places, and what its people can do."""
    hands = (
        HandSaid(name="ngozi", skills=("structure", "weld")),
        HandSaid(name="mateus", skills=("structure", "weld", "mechanic")),
        HandSaid(name="solveig", skills=("structure",)),
        HandSaid(name="keahi"),
    )
    places = (PlaceSaid(name="rack", many=2), PlaceSaid(name="bay", many=2))
    products = (
        ProductSaid(id="adhesive", kind="adhesive", open_min=90.0, at_c=23.0, cure_min=480.0),
        ProductSaid(id="sealer", kind="sealer", open_min=20.0, at_c=23.0, cure_min=120.0),
        ProductSaid(id="foam", kind="foam", open_min=15.0, at_c=20.0, cure_min=60.0),
        ProductSaid(id="wax", kind="wax", open_min=30.0, at_c=20.0, cure_min=240.0, range_c=(10.0, 30.0)),
    )
    planning.say_shop(desk, lead, _key(), ShopSaid(places=places, hands=hands, products=products), 0)


def hours_of(desk: Desk, persons: dict[str, Person], number: str, vehicle: Vehicle) -> None:
    """Say the hours of a job of the demo, and what it waits for."""
    now = datetime.datetime.now(datetime.UTC)
    if vehicle.name == TURNSTONE.name:
        due = (now + datetime.timedelta(days=2)).replace(hour=14, minute=0, second=0, microsecond=0)
        words = "left rear node, casting from the maker"
        asked = {"asked_of": "Ines Quillfeather, parts", "due_at": _utc(due), "station": "cuts"}
        waiting.note_wait(desk, persons["tomasz"], _key(), number, "part", words, **asked)
    hours = _OF.get(vehicle.name)
    if hours is None:
        return
    off, sold = dict(hours.needs_off), dict(hours.sold)
    said = HoursSaid(
        operations=tuple(
            OperationSaid(name=name, sold_h=sold.get(name), needs_off=off.get(name))
            for name in dict.fromkeys((*sold, *off))
        ),
        parts=hours.parts,
        promised=(now + datetime.timedelta(days=hours.promised_in)).date().isoformat(),
    )
    working.say_hours(desk, persons["tomasz"], _key(), number, said, 0)
    _work(desk, persons, number, hours, now - datetime.timedelta(days=1 + len(hours.parts)))


def _work(desk: Desk, persons: dict[str, Person], number: str, hours: _Hours, day: datetime.datetime) -> None:
    """Record the work, one thing after another for each person, from eight in the morning on."""
    free = dict.fromkeys(persons, day.replace(hour=8, minute=0, second=0, microsecond=0))
    for name, operation, took in hours.worked:
        since, until = free[name], free[name] + datetime.timedelta(hours=took)
        working.add_work(desk, persons[name], _key(), number, operation, _utc(since), _utc(until), "")
        free[name] = until


def _utc(moment: datetime.datetime) -> str:
    return moment.astimezone(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")


def _key() -> str:
    return secrets.token_urlsafe(18)
