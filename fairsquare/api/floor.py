"""Hours, waits, the shop and its day, as JSON."""

import datetime
from typing import Annotated

from fastapi import APIRouter, Request
from pydantic import AfterValidator, BaseModel, ConfigDict, Field

from fairsquare.actions import learning, planning, waiting, working
from fairsquare.api.doors import At, By
from fairsquare.api.models import Given, Key, KeyOnly, KeyWords, Sent
from fairsquare.core.plan.hours import HoursFound
from fairsquare.core.plan.said import HoursSaid
from fairsquare.core.plan.shop_said import ShopSaid
from fairsquare.job.facts.hours import WaitKind, WorkFact
from fairsquare.job.plan.kept import KeptPlan
from fairsquare.job.plan.operations import WorkRow
from fairsquare.job.waiting import waiting as waited_for
from fairsquare.job.went import JobWent
from fairsquare.settings import Settings
from fairsquare.store import shop


def _utc(moment: datetime.datetime) -> str:
    if moment.tzinfo is None:
        raise ValueError("say the zone too, such as 2026-11-26T14:10Z")
    return moment.astimezone(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")


Moment = Annotated[datetime.datetime, Field(strict=False), AfterValidator(_utc)]


class SayHours(Sent):
    """Operations and parts of a job, as read at a version; 0 where nothing was said yet."""

    request_key: Key
    version: Annotated[int, Field(ge=0)]
    hours: HoursSaid


class StartWork(Sent):
    """The operation, by its name, on which one's clock starts."""

    request_key: Key
    operation: str


class StopWork(Sent):
    """When it stopped, where that is not now."""

    request_key: Key
    ended_at: Moment | None = None
    words: Annotated[str, Field(max_length=500)] = ""


class NoteWait(Sent):
    """What a job waits for: who was asked, until when (null: nobody knows), from which station on, since when (null: now)."""

    request_key: Key
    kind: WaitKind
    words: str
    asked_of: str = ""
    due_at: Moment | None = None
    station: str = ""
    since: Moment | None = None


class SayShop(Sent):
    """What the shop says of itself, as read at a version; 0 where nothing was said yet."""

    request_key: Key
    version: Annotated[int, Field(ge=0)]
    shop: ShopSaid


class PlanDay(Sent):
    """`afresh`: as if nothing had been planned before."""

    request_key: Key
    afresh: bool = False


class RowShown(BaseModel):
    """A row of a job's hours: an operation, or a part that comes off and on (`is_part`); all hours in hours of all its people."""

    model_config = ConfigDict(frozen=True)

    name: str
    station: str
    why: str
    is_part: bool
    hours: float
    needs_off: tuple[str, ...]
    sold_h: float
    worked_h: float | None
    worked_by: dict[str, float]
    gap_h: float
    people: int
    done: bool


class WaitShown(BaseModel):
    """What a job waits for; `wait` is null where nobody noted it: a clock that runs, an answer that is out."""

    model_config = ConfigDict(frozen=True)

    kind: WaitKind
    words: str
    asked_of: str
    due_at: str
    station: str
    since: str
    wait: int | None


class HoursShown(BaseModel):
    """The hours of a job: rows in working order, sums, what was said of them, the work that counts, what is waited for."""

    model_config = ConfigDict(frozen=True)

    rows: tuple[RowShown, ...]
    found: HoursFound
    version: int
    said: HoursSaid
    worked: tuple[WorkFact, ...]
    waiting: tuple[WaitShown, ...]


class ShopShown(BaseModel):
    """What the shop says of itself, and its version."""

    model_config = ConfigDict(frozen=True)

    version: int
    shop: ShopSaid


router = APIRouter(prefix="/api/v1", tags=["floor"])


@router.get("/jobs/{number}/hours")
def hours(number: str, desk: At, person: By) -> HoursShown:
    """Show the hours of a job, the work that was clocked, and what it waits for."""
    del person
    view = desk.view(number)
    job_work = working.work_on(desk, view)
    return HoursShown(
        rows=tuple(_row(row) for row in job_work.rows),
        found=job_work.found,
        version=view.facts.hours.version if view.facts.hours else 0,
        said=job_work.said,
        worked=view.facts.worked,
        waiting=tuple(WaitShown(**wait._asdict()) for wait in waited_for(view.facts)),
    )


def _row(row: WorkRow) -> RowShown:
    return RowShown(
        name=row.name,
        station=row.station,
        why=row.why,
        is_part=row.part is not None,
        hours=row.hours,
        needs_off=row.needs_off,
        sold_h=row.all_sold_h,
        worked_h=row.worked_h,
        worked_by=dict(row.by),
        gap_h=row.gap_h,
        people=row.people,
        done=row.done,
    )


@router.put("/jobs/{number}/hours")
def say_hours(number: str, sent: SayHours, desk: At, person: By) -> Given:
    """Keep operations and parts."""
    return Given(version=working.say_hours(desk, person, sent.request_key, number, sent.hours, sent.version))


@router.post("/jobs/{number}/work", status_code=201)
def start_work(number: str, sent: StartWork, desk: At, person: By) -> Given:
    """Start one's clock on an operation; what one worked on until now ends by it."""
    return Given(ids=(working.start_work(desk, person, sent.request_key, number, sent.operation),))


@router.post("/jobs/{number}/work/{clock}/stop")
def stop_work(number: str, clock: int, sent: StopWork, desk: At, person: By) -> Given:
    """Stop a clock of work, now or at a time."""
    working.stop_work(desk, person, sent.request_key, number, clock, sent.ended_at, sent.words)  # type: ignore[arg-type]
    return Given()


@router.post("/jobs/{number}/work/{clock}/back")
def take_work_back(number: str, clock: int, sent: KeyOnly, desk: At, person: By) -> Given:
    """Take a clock back that was started by mistake."""
    working.take_work_back(desk, person, sent.request_key, number, clock)
    return Given()


@router.post("/jobs/{number}/waits", status_code=201)
def note_wait(number: str, sent: NoteWait, desk: At, person: By) -> Given:
    """Note what a job waits for."""
    wait = waiting.note_wait(
        desk,
        person,
        sent.request_key,
        number,
        sent.kind,
        sent.words,
        asked_of=sent.asked_of,
        due_at=str(sent.due_at or ""),
        since=str(sent.since or ""),
        station=sent.station,
    )
    return Given(ids=(wait,))


@router.post("/jobs/{number}/waits/{wait}/over")
def end_wait(number: str, wait: int, sent: KeyWords, desk: At, person: By) -> Given:
    """Record that it came."""
    waiting.end_wait(desk, person, sent.request_key, number, wait, sent.words)
    return Given()


@router.get("/shop")
def show_shop(desk: At, person: By) -> ShopShown:
    """Show what the shop says of itself."""
    del person
    version, said = desk.database.run(shop.said)
    return ShopShown(version=version, shop=said)


@router.put("/shop")
def say_shop(sent: SayShop, desk: At, person: By) -> Given:
    """Keep what the shop says of itself."""
    planning.say_shop(desk, person, sent.request_key, sent.shop, sent.version)
    return Given(version=sent.version + 1)


@router.get("/jobs/{number}/went")
def job_went(number: str, desk: At, person: By) -> JobWent:
    """Return how a job went, or goes so far: springback, first set-up against last, hours, waits."""
    del person
    return learning.how_it_went(desk.view(number))


@router.get("/past")
def past(desk: At, person: By) -> tuple[JobWent, ...]:
    """Return how every released job went."""
    del person
    return learning.whole_past(desk).jobs


@router.get("/day")
def show_day(desk: At, person: By) -> KeptPlan | None:
    """Show the plan of the day as it was last made; null where none was."""
    del person
    last = desk.database.run(shop.last_plan)
    return last[1] if last else None


@router.post("/day", status_code=201)
def plan_day(sent: PlanDay, request: Request, desk: At, person: By) -> Given:
    """Plan the day over all open jobs."""
    settings: Settings = request.app.state.settings
    zone = desk.database.run(shop.said)[1].zone(settings.zone)
    planning.plan_day(desk, person, sent.request_key, zone, afresh=sent.afresh)
    return Given()
