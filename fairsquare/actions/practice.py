"""Practice: a simulated vehicle with hidden damage, worked on the same pages as a job, and scored. It signs and records nothing."""

import zlib
from typing import Any

import numpy as np
from pydantic import ConfigDict, Field

from fairsquare.actions.desk import Desk, JobView, Unsure
from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Model, Row3
from fairsquare.core.pull.job import plan_request
from fairsquare.core.pull.plan import PullsPlanned, plan_pulls
from fairsquare.core.pull.setting import Setting
from fairsquare.core.sheet.model import Sheet
from fairsquare.job.facts.job import PRACTICE
from fairsquare.job.facts.measure import NewReading
from fairsquare.job.pull.board import board_of
from fairsquare.job.pull.full import within_working
from fairsquare.job.pull.practice import LARGEST_SEED, Score, Stood, hidden_blow, score, worked_of
from fairsquare.store import jobs, measuring, sheets
from fairsquare.store import practice as kept
from fairsquare.store.database import Connection
from fairsquare.store.jobs import JobDetails
from fairsquare.store.people import Person
from fairsquare.store.pulls import keep_setting

SIGMA_MM = 0.3
INSTRUMENT = "simulated for practice"


class Ended(Model):
    """What of a simulated vehicle the score is made of: where points stood after each cycle, and the largest uses."""

    model_config = ConfigDict(extra="ignore")

    stood: tuple[Stood, ...] = ()
    peaks: dict[str, float] = Field(default_factory=dict)


class Told(Model):
    """What came of a practice: its score, and the truth that was hidden. `force` in N at `code`; `start` places in mm."""

    seed: int
    by: str
    score: Score
    code: Code
    force: Row3
    start: dict[Code, Row3]
    planned: PullsPlanned


def is_practice(number: str) -> bool:
    """Say whether a number is one of practice."""
    return number.startswith(PRACTICE)


def as_in_practice(person: Person) -> Person:
    """Return the person as they work in practice, where everybody may do what a technician may."""
    return person._replace(role="technician")


def begin(desk: Desk, person: Person, key: str, sheet: Sheet, setting: Setting, vehicle: str, seed: int) -> str:
    """Begin a practice on a vehicle with the damage of a seed, set up and with its references read; return its number."""
    if not 0 <= seed <= LARGEST_SEED:
        raise Refused(f"The number of a damage is 0 to {LARGEST_SEED:,}.", field="seed", value=seed)
    places = hidden_places(sheet, setting, seed)
    random = np.random.default_rng(zlib.crc32(f"references {seed}".encode()))
    references = [point.code for point in sheet.points if point.reference]

    def work(connection: Connection) -> dict[str, Any]:
        details = JobDetails(
            vehicle=vehicle,
            construction=sheet.construction,
            hit_words="practice: simulated damage, hidden until the end",
        )
        number = jobs.open_job(connection, details, person, PRACTICE)
        job = jobs.find_job(connection, number)
        kept.begin(connection, job.id, seed)
        version = sheets.accept_sheet(connection, job.id, sheet, {}, "practice", person.id)
        setup = measuring.open_setup(connection, job.id, "instrument", INSTRUMENT, SIGMA_MM, version, person.id)
        for code in references:
            xyz = noisy(places[code], random)
            reading = NewReading(purpose="reference", code=code, xyz=xyz, said=code, instrument=INSTRUMENT)
            measuring.take_reading(connection, job.id, setup, reading, person.id)
        keep_setting(connection, job.id, setting, person.id)
        return {"number": number}

    return str(desk.once(person, key, "begin practice", work)["number"])


def hidden_places(sheet: Sheet, setting: Setting, seed: int) -> dict[Code, Row3]:
    """Return where the points of a practice truly are: as built, and as the blow left them."""
    blow = hidden_blow(sheet, setting, seed)
    random = np.random.default_rng(seed)
    places: dict[Code, Row3] = {}
    for point in sheet.points:
        built = random.normal(0, sheet.build_sigma_mm, 3)
        x, y, z = np.array(point.xyz) + np.array(blow.moved.get(point.code, (0.0, 0.0, 0.0))) + built
        places[point.code] = (float(x), float(y), float(z))
    return places


def noisy(place: Row3, random: np.random.Generator) -> Row3:
    """Return a place as the simulated instrument reads it, to a tenth of a mm."""
    x, y, z = np.array(place) + random.normal(0, SIGMA_MM, 3)
    return round(float(x), 1), round(float(y), 1), round(float(z), 1)


def first_setting(view: JobView) -> tuple[Sheet, Setting]:
    """Return the sheet and the setting that a practice began with: its hidden blow was drawn on them."""
    if view.facts.sheet is None or not view.facts.pull_settings:
        raise Unsure("There is no such practice.", field="number")
    return view.facts.sheet, view.facts.pull_settings[0].setting


def end(desk: Desk, person: Person, key: str, number: str) -> None:
    """End a practice and score it. Raises `Unsure` while a pull is under way, `Refused` for somebody else's."""
    own = desk.database.run(lambda c: kept.find(c, number))
    if own["person"].id != person.id:
        raise Refused(f"{own['person'].full_name} practises here.", field="number", value=number)
    view = desk.view(number)
    if board_of(view.facts):
        raise Unsure("A pull is under way: let go, read free and end it first.", field="number", value=number)
    sheet, setting = first_setting(view)
    start = hidden_places(sheet, setting, own["seed"])
    planned = plan_pulls(plan_request(sheet, start, within_working(setting), "outward"))
    blow = hidden_blow(sheet, setting, own["seed"])
    state = Ended.model_validate_json(own["state"]) if own["state"] else Ended()
    result = Told(
        seed=own["seed"],
        by=own["person"].full_name,
        score=score(
            sheet,
            start,
            state.stood,
            state.peaks,
            len(planned.pulls),
            worked_of(view.facts, sheet, start, max((len(pull.chains) for pull in planned.pulls), default=0)),
        ),
        code=blow.code,
        force=blow.force,
        start=start,
        planned=planned,
    )

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        if board_of(view.facts):
            raise Unsure("A pull was begun meanwhile: end it first.", field="number", value=number)
        kept.end(connection, view.job.id, result.model_dump_json())
        return {}

    desk.in_job(person, key, f"end practice {number}", number, work)


def told(desk: Desk, number: str) -> Told | None:
    """Return what came of a practice, with the truth; None while it is not ended."""
    own = desk.database.run(lambda c: kept.find(c, number))
    return Told.model_validate_json(own["result"]) if own["result"] else None


def practices(desk: Desk, person: Person) -> list[dict[str, Any]]:
    """Return a person's practices; a lead sees everybody's. The seed is told once a practice has ended."""
    games = desk.database.run(lambda c: kept.practices(c, None if person.role == "lead" else person))
    return [game if game["ended_at"] else {**game, "seed": None} for game in games]
