"""The API of the pulls: the rig, the plan, the board's steps, and loads as they are read."""

from typing import Annotated, Any

from fastapi import APIRouter
from pydantic import Field

from fairsquare.actions import pull_plans, pulling
from fairsquare.api.doors import At, By
from fairsquare.api.models import Given, KeyOnly
from fairsquare.core.model import Many, Model
from fairsquare.core.pull.gear import Gear
from fairsquare.core.pull.job import AfterPull, BoardState, PlanSaid, PointCycle, Watched
from fairsquare.core.pull.plan import PullsPlanned, School
from fairsquare.core.pull.setting import Setting
from fairsquare.job.facts.pulls import Settled
from fairsquare.job.pull.board import board_of, plan_of, setting_of
from fairsquare.job.pull.slip import voided_last
from fairsquare.job.pull.verdict import verdict_of
from fairsquare.store import pulls
from fairsquare.words.tell import tell

router = APIRouter(prefix="/api/v1")


class FindPlan(KeyOnly):
    """Work out a plan and keep it. `plan_version` is the plan it takes the place of, 0 for the first."""

    school: School
    plan_version: int = 0
    overpull_reason: str = ""


class KeepPlan(KeyOnly):
    """Keep a plan of one's own."""

    plan: PlanSaid
    plan_version: int = 0


class KeepSetting(KeyOnly):
    """Keep how the vehicle is held and pulled."""

    setting: Setting
    setting_version: int = 0


class BeginPull(KeyOnly):
    """Begin a pull of the plan, counted from 1."""

    pull: Annotated[int, Field(ge=1)]


class GoOn(KeyOnly):
    """Take the board from the state that was seen into the next one; cautions are ticked by name."""

    seen: BoardState
    state: BoardState
    ticked: Many[str] = ()
    words: str = ""


class CloseCycle(KeyOnly):
    """What a cycle did to each watched point, what was looked for after it, and whether it is pulled again."""

    cycles: Many[PointCycle]
    after: AfterPull = AfterPull()
    again: bool = False


class ReadLoad(KeyOnly):
    """What a load cell (N) or a pump's gauge (MPa) says at a tower."""

    tower: str
    force_n: float | None = None
    pressure_mpa: float | None = None


class PlanShown(Model):
    """The plan that counts, what it does, and the rules that each pull breaks."""

    version: int
    plan: PlanSaid
    played: PullsPlanned
    broken: Many[Many[str]]


class PointShown(Model):
    """A watched point: along its way, mm from the sheet."""

    watched: Watched
    now_mm: float | None
    loaded: bool
    pull_to_mm: float | None
    must_not_pass_mm: float | None
    advice: str | None


class BoardShown(Model):
    """The pull under way, of which version of the plan; all null where none is.

    `let_go`: it is far enough, or a point or what works hardest of the rig may go no farther. `stop`: let go at once, whatever the
    points say. `say` and `why` are the words of the board. `setup`: the number of the set-up in force, in which what is pulled is
    read.
    """

    setup: int | None = None

    plan_version: int | None = None
    pull: int | None
    state: BoardState | None
    cycle: int | None
    let_go: bool = False
    stop: bool = False
    say: str = ""
    why: str = ""
    points: Many[PointShown]
    forces_n: dict[str, float]


class JobPulled(Model):
    """A job in which pulling has begun."""

    job: str
    under_way: bool


@router.get("/instrument/pulls", tags=["instrument"])
def pulled(desk: At, person: By) -> list[JobPulled]:
    """List the jobs in which pulling has begun: whoever stands in for their rigs follows their boards."""
    del person
    return [JobPulled(job=row["job"], under_way=bool(row["under_way"])) for row in desk.database.run(pulls.jobs_pulled)]


class Settle(KeyOnly):
    """The vehicle is let down and driven, or loaded, after pulls."""

    how: Settled
    words: str = ""


@router.post("/jobs/{number}/settlings", tags=["pulls"], status_code=201)
def settle(number: str, sent: Settle, desk: At, person: By) -> Given:
    """Record that the vehicle is driven or loaded: its set-up is void, and its pulled points are read again."""
    pulling.settle(desk, person, sent.request_key, number, sent.how, sent.words)
    return Given()


@router.post("/jobs/{number}/settlings/read", tags=["pulls"])
def read_settled(number: str, sent: KeyOnly, desk: At, person: By) -> Given:
    """Keep where the pulled points stand, now that they are read again: what it took back is learned from that."""
    pulling.read_settled(desk, person, sent.request_key, number)
    return Given()


@router.get("/rig", tags=["pulls"])
def rig(desk: At, person: By) -> list[Gear]:
    """Return the rig in use."""
    del person
    return list(pull_plans.rig(desk))


@router.get("/jobs/{number}/pulls", tags=["pulls"])
def show(number: str, desk: At, person: By) -> PlanShown | None:
    """Return the plan that counts, and what it does from where points stand; null where there is none."""
    del person
    view = desk.view(number)
    plan = plan_of(view.facts)
    if plan is None:
        return None
    seen = pull_plans.seen(view.facts, plan.plan)
    return PlanShown(
        version=plan.version,
        plan=plan.plan,
        played=seen.played,
        broken=tuple(tuple(map(tell, each)) for each in seen.broken),
    )


@router.get("/jobs/{number}/pulls/setting", tags=["pulls"])
def show_setting(number: str, desk: At, person: By) -> Setting | None:
    """Return how the vehicle is held and pulled, as kept or the usual for its sheet; null without a sheet."""
    del person
    return setting_of(desk.view(number).facts)


@router.post("/jobs/{number}/pulls/find", tags=["pulls"], status_code=201)
def find(number: str, sent: FindPlan, desk: At, person: By) -> Given:
    """Work out a plan and keep the best as the next version; one that draws past by more than is usual needs its reason."""
    kept = pull_plans.find_plan(
        desk, person, sent.request_key, number, sent.school, sent.plan_version, sent.overpull_reason
    )
    return Given(ids=(kept,))


@router.post("/jobs/{number}/pulls", tags=["pulls"], status_code=201)
def keep(number: str, sent: KeepPlan, desk: At, person: By) -> Given:
    """Keep a plan of one's own as the next version."""
    return Given(ids=(pull_plans.keep_plan(desk, person, sent.request_key, number, sent.plan, sent.plan_version),))


@router.post("/jobs/{number}/pulls/setting", tags=["pulls"], status_code=201)
def keep_setting(number: str, sent: KeepSetting, desk: At, person: By) -> Given:
    """Keep how the vehicle is held and pulled as the next version."""
    version = pull_plans.keep_setting(desk, person, sent.request_key, number, sent.setting, sent.setting_version)
    return Given(ids=(version,))


@router.get("/jobs/{number}/board", tags=["pulls"])
def board(number: str, desk: At, person: By) -> BoardShown:
    """Return the board of the pull under way."""
    del person
    view = desk.quick_view(number)
    board_now = board_of(view.facts)
    forces = {tower: force for tower, (force, _) in pulling.loads(desk, view).items()}
    if board_now is None:
        return BoardShown(pull=None, state=None, cycle=None, points=(), forces_n=forces)
    gear = pulling.fullest_now(desk, view, board_now)
    verdict = verdict_of(board_now, gear, voided_last(view.facts))
    points: list[dict[str, Any]] = [
        {
            "watched": point.watched,
            "now_mm": point.now_mm,
            "loaded": point.loaded,
            "pull_to_mm": point.advice.pull_to_mm if point.advice else None,
            "must_not_pass_mm": point.advice.must_not_pass_mm if point.advice else None,
            "advice": point.advice.advice if point.advice else None,
        }
        for point in board_now.points
    ]
    return BoardShown(
        setup=view.setup.number if view.setup else None,
        plan_version=board_now.plan.version,
        let_go=board_now.state == "pulling" and (board_now.let_go or bool(gear and gear.let_go)),
        stop=verdict.stop,
        say=verdict.word,
        why=tell(verdict.why),
        pull=board_now.pull,
        state=board_now.state,
        cycle=board_now.cycle,
        points=tuple(PointShown(**point) for point in points),
        forces_n=forces,
    )


@router.post("/jobs/{number}/board/begin", tags=["pulls"], status_code=201)
def begin(number: str, sent: BeginPull, desk: At, person: By) -> Given:
    """Begin a pull."""
    pulling.begin(desk, person, sent.request_key, number, sent.pull)
    return Given()


@router.post("/jobs/{number}/board", tags=["pulls"])
def go_on(number: str, sent: GoOn, desk: At, person: By) -> Given:
    """Take the pull into its next state."""
    pulling.go_on(desk, person, sent.request_key, number, sent.seen, sent.state, sent.ticked, sent.words)
    return Given()


@router.post("/jobs/{number}/board/cycle", tags=["pulls"])
def close_cycle(number: str, sent: CloseCycle, desk: At, person: By) -> Given:
    """Close a cycle, and go round again or end the pull."""
    pulling.close_cycle(desk, person, sent.request_key, number, sent.cycles, again=sent.again, after=sent.after)
    return Given()


@router.post("/jobs/{number}/load", tags=["pulls"], status_code=201)
def read_load(number: str, sent: ReadLoad, desk: At, person: By) -> Given:
    """Record a load as it is read."""
    pulling.read_load(desk, person, sent.request_key, number, sent.tower, sent.force_n, sent.pressure_mpa)
    return Given()
