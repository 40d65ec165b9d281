"""Load the demo: people, and jobs at different stations of the work, recorded by the same deeds as any other."""

import datetime
import secrets
from collections.abc import Callable, Iterable
from functools import partial
from typing import NamedTuple

import numpy as np

from fairsquare.actions import Desk, measuring, pull_plans
from fairsquare.actions.hearing import reading_of
from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.demo.by_hand import SOUND, ByHand
from fairsquare.demo.cuts import cuts_of
from fairsquare.demo.damage import decisions_of, walk_round_of
from fairsquare.demo.finishing import finishing_of
from fairsquare.demo.hours import hours_of, say_the_shop
from fairsquare.demo.past import load_past
from fairsquare.demo.people import INSTRUMENT, SIGN_INS, SignIn
from fairsquare.demo.rig import RIG
from fairsquare.demo.tool_shelf import fill_the_shelf
from fairsquare.job.facts.intake import SafetyAnswer
from fairsquare.job.facts.measure import NewReading, Purpose
from fairsquare.job.measure.calls import Context, understand_call
from fairsquare.job.pull.board import setting_of
from fairsquare.stand_ins.rigged import setting_of_vehicle
from fairsquare.stand_ins.vehicles import (
    DUNLIN,
    DUNLIN_TWO,
    HERON,
    PUFFIN,
    TEAL,
    TURNSTONE,
    Vehicle,
    instrument_reading,
    seed_of,
)
from fairsquare.store import people
from fairsquare.store.database import Connection
from fairsquare.store.jobs import JobDetails
from fairsquare.store.people import Person

_SEED = 417


class _Story(NamedTuple):
    """A job of the demo and how far it has come."""

    vehicle: Vehicle
    details: JobDetails
    safe: bool = False
    sheet: bool = False
    references: tuple[str, ...] = ()
    accepted: bool = False
    unread: frozenset[str] | None = None
    by_hand: bool = False


_ALL_SIX = ("C1L", "C1R", "C2L", "C2R", "C3L", "C3R")
_STORIES = (
    _Story(
        PUFFIN,
        JobDetails(
            vehicle=PUFFIN.name,
            construction="trailer",
            hit_where="underneath",
            hit_words="lifted by one sling and set down hard; floor frame racked out of square, right side rail bowed",
            notes="Not before Thursday: the slip is taken.",
        ),
        safe=True,
        sheet=True,
        references=_ALL_SIX,
        accepted=True,
        unread=frozenset(),
    ),
    _Story(
        TURNSTONE,
        JobDetails(
            vehicle=TURNSTONE.name,
            construction="aluminium",
            hit_where="left",
            hit_from_deg=225,
            hit_height="low",
            hit_force="middling",
            hit_moved="pushed",
            hit_words="a swinging cargo net struck it low at the left rear; cast node cracked, bonded joint torn open",
        ),
        safe=True,
        sheet=True,
        references=_ALL_SIX,
        accepted=True,
        unread=frozenset(),
    ),
    _Story(
        TEAL,
        JobDetails(
            vehicle=TEAL.name,
            construction="unibody",
            hit_where="rear",
            hit_from_deg=180,
            hit_height="middle",
            hit_force="middling",
            hit_moved="stopped",
            hit_words="rolled stern first into a bollard on the marshalling lane; the tailgate no longer closes",
        ),
        safe=True,
        sheet=True,
        references=_ALL_SIX,
        accepted=True,
        unread=frozenset(),
    ),
    _Story(
        HERON,
        JobDetails(
            vehicle=HERON.name,
            construction="ladder",
            hit_where="underneath",
            hit_words="one wheel dropped off the edge of a slipway; twisted, skewed, swayed ahead of the cab mounts",
        ),
        safe=True,
        sheet=True,
        by_hand=True,
    ),
    _Story(
        DUNLIN,
        JobDetails(
            vehicle=DUNLIN.name,
            construction="unibody",
            vin="9ZZDUN1V1NS000417",
            hit_where="front",
            hit_from_deg=45,
            hit_height="low",
            hit_force="middling",
            hit_moved="pushed",
            hit_words="a freight cage broke loose in a cross sea and struck low at the right front corner",
            notes="Lid sits proud at the right, lamp gap closed.",
        ),
        safe=True,
        sheet=True,
        references=_ALL_SIX,
        accepted=True,
        unread=frozenset({"R2L", "R2R", "R3L", "R3R"}),
    ),
    _Story(
        DUNLIN_TWO,
        JobDetails(
            vehicle=DUNLIN_TWO.name,
            construction="unibody",
            vin="9ZZDUN1V5NS000421",
            hit_where="front",
            hit_from_deg=45,
            hit_height="middle",
            hit_force="light",
            hit_moved="stood",
            hit_words="a loose pallet slid into the right apron while it was parked on deck two; rails not touched",
            notes="The apron is in its place, clamped. To be proven, welded and handed over.",
        ),
        safe=True,
        sheet=True,
        references=_ALL_SIX,
        accepted=True,
        unread=frozenset(),
    ),
)


def load(desk: Desk, tell: Callable[[str], None] = lambda _words: None) -> list[str]:
    """Load people and jobs where there are none, and return the numbers of the jobs that were made."""
    who = desk.database.run(lambda c: {person["name"]: person for person in people.people(c)})
    for sign_in in (*SIGN_INS, INSTRUMENT):
        if sign_in.name not in who:
            desk.database.run(partial(_add, sign_in))
    if desk.views("", 1, 0)[1]:
        return []
    everybody = desk.database.run(lambda c: {person["name"]: person["id"] for person in people.people(c)})
    persons = {
        sign_in.name: Person(everybody[sign_in.name], sign_in.name, sign_in.full_name, sign_in.role)
        for sign_in in SIGN_INS
    }
    tell("loading the demo's jobs")
    fill_the_shelf(desk, persons["solveig"], persons["ngozi"], datetime.datetime.now(datetime.UTC).date())
    say_the_shop(desk, persons["solveig"])
    for gear in RIG:
        item = pull_plans.add_gear(desk, persons["solveig"], _key(), *gear)
        if gear[4] == "maker":
            pull_plans.look_at_gear(desk, persons["solveig"], _key(), item, "sound", "")
    return [_tell_story(desk, persons, story, index) for index, story in enumerate(_STORIES)]


def load_all(desk: Desk, tell: Callable[[str], None] = lambda _words: None) -> list[str]:
    """Load all that the demo has, the jobs of the past too, and return the numbers; nothing where it was loaded before."""
    loaded = load(desk, tell)
    return [*loaded, *load_past(desk)] if loaded else []


def _add(sign_in: SignIn, connection: Connection) -> None:
    people.add_person(connection, sign_in.name, sign_in.full_name, sign_in.role, sign_in.password, demo=True)


def _key() -> str:
    return secrets.token_urlsafe(18)


def _tell_story(desk: Desk, persons: dict[str, Person], story: _Story, index: int) -> str:
    technician, lead = persons["ngozi" if index % 2 == 0 else "mateus"], persons["solveig"]
    number = desk.open_job(persons["tomasz"], _key(), story.details)
    walk_round_of(desk, persons, number, story.vehicle)
    if story.safe:
        _make_safe(desk, technician, number, story)
    if story.sheet:
        desk.accept_sheet(technician, _key(), number, story.vehicle.sheet, {}, f"{story.vehicle.sheet.name}.csv")
    if story.by_hand:
        _measure_by_hand(desk, technician, lead, number, story)
    if story.references:
        measuring.open_setup(desk, technician, _key(), number, "3-D instrument", 0.3)
        _read(desk, technician, number, story, list(story.references), "reference")
    if story.accepted:
        hold = desk.view(number).state.hold("setup_accepted")
        desk.sign(lead, _key(), number, "setup_accepted", hold.evidence, "")
    if story.unread is not None:
        codes = [p.code for p in story.vehicle.sheet.points if not p.reference and p.code not in story.unread]
        _read(desk, technician, number, story, codes, "point")
    decisions_of(desk, technician, lead, number, story.vehicle)
    cuts_of(desk, technician, number, story.vehicle)
    finishing_of(desk, persons, number, story.vehicle)
    hours_of(desk, persons, number, story.vehicle)
    setting = setting_of_vehicle(story.vehicle)
    if setting != setting_of(desk.view(number).facts):
        pull_plans.keep_setting(desk, technician, _key(), number, setting, 0)
    return number


def _make_safe(desk: Desk, technician: Person, number: str, story: _Story) -> None:
    for item in SAFETY_ITEMS:
        absent = item.key == "high_voltage" or (item.key == "fuel" and story.details.construction == "trailer")
        by, licence = ("Pernille Ostrander", "KR-2231") if item.key == "refrigerant" else ("", "")
        answer: SafetyAnswer = "absent" if absent else "done"
        desk.answer_safety(technician, _key(), number, item.key, answer, "", by, licence)
    desk.sign(technician, _key(), number, "made_safe", desk.view(number).state.hold("made_safe").evidence, "")


def _measure_by_hand(desk: Desk, technician: Person, lead: Person, number: str, story: _Story) -> None:
    """Measure with gauges, line, level and tram: sound frame first, then, once that is signed, what is ahead of it."""
    by_hand = ByHand(story.vehicle.true_places(seed_of(number)), _SEED)
    setup = measuring.open_setup(desk, technician, _key(), number, "gauges, line, tape and tram", 1.0, "sight")
    why = "rails straight and unmarked behind the cab mounts, paint whole"
    measuring.choose(desk, technician, _key(), number, setup, SOUND, why)
    _call(desk, technician, number, setup, by_hand.on_sound_frame())
    hold = desk.view(number).state.hold("setup_accepted")
    desk.sign(lead, _key(), number, "setup_accepted", hold.evidence, "")
    _call(desk, technician, number, setup, by_hand.ahead())


def _call(desk: Desk, person: Person, number: str, setup: int, calls: Iterable[str]) -> None:
    sheet = desk.view(number).facts.sheet
    tools = desk.tools()
    places = {point.code: point.xyz for point in sheet.points} if sheet else {}
    gauges = next((tool.pin_mm for tool in tools if tool.kind == "gauges"), None)
    context = Context(places=places, pin_mm=gauges)
    taken = [reading_of(understand_call(text, context), text, tools) for text in calls]
    measuring.take_readings(desk, person, _key(), number, setup, taken)


def _read(desk: Desk, technician: Person, number: str, story: _Story, codes: list[str], purpose: Purpose) -> None:
    random = np.random.default_rng(_SEED + len(codes))
    places = story.vehicle.true_places(seed_of(number))
    taken = []
    for code in codes:
        xyz = instrument_reading(places[code], seed_of(number, 1), random.normal(0, 0.3, 3))
        call = f"{code} " + " ".join(f"{value:.1f}" for value in xyz)
        taken.append(NewReading(purpose=purpose, code=code, xyz=xyz, said=call))
    measuring.take_readings(desk, technician, _key(), number, 1, taken)
