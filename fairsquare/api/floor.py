"""Hours, waits, the shop and its day, as JSON."""

from fastapi import APIRouter, Request

from fairsquare.actions import learning, planning, waiting, working
from fairsquare.api.doors import At, By
from fairsquare.api.models import (
    Given,
    HoursShown,
    KeyOnly,
    KeyWords,
    NoteWait,
    PlanDay,
    RowShown,
    SayHours,
    SayShop,
    ShopShown,
    StartWork,
    StopWork,
    WaitShown,
)
from fairsquare.job.plan.kept import KeptPlan
from fairsquare.job.plan.operations import WorkRow
from fairsquare.job.waiting import waiting as waited_for
from fairsquare.job.went import JobWent
from fairsquare.settings import Settings
from fairsquare.store import shop

router = APIRouter(prefix="/api/v1", tags=["floor"])


@router.get("/jobs/{number}/hours")
def hours(number: str, desk: At, person: By) -> HoursShown:
    """Show the hours of a job, the work that was clocked, and what it waits for."""
    del person
    view = desk.view(number)
    found = working.work_on(desk, view)
    return HoursShown(
        rows=tuple(_row(row) for row in found.rows),
        found=found.found,
        version=view.facts.hours.version if view.facts.hours else 0,
        said=found.said,
        worked=view.facts.worked,
        waiting=tuple(WaitShown(**one._asdict()) for one in waited_for(view.facts)),
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
