"""Deeds of the shop: what it says of itself, and the plan of its day over all open jobs."""

import datetime
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

import pymysql

from fairsquare.actions.desk import Desk, JobView, Unsure, number_of, of_each
from fairsquare.actions.rights import check_may, roles_that_may
from fairsquare.actions.working import work_on
from fairsquare.core.errors import Refused
from fairsquare.core.plan.asked import DayPlanned, PlannedOperation
from fairsquare.core.plan.day import plan_again
from fairsquare.core.plan.shop_said import ShopSaid, check_shop, working_hours
from fairsquare.core.plan.solve import SAME_MIN
from fairsquare.job.plan.floor import FloorWork, JobToPlan, floor_work
from fairsquare.job.plan.kept import KeptPiece, KeptPlan
from fairsquare.job.waiting import waiting
from fairsquare.store import people, shop, work
from fairsquare.store.database import Connection, now_of
from fairsquare.store.people import Person

DAYS_AHEAD = 45
"""How far the plan looks. What does not fit into it is told by name."""
_MOST_JOBS = 60


class ShopNow(NamedTuple):
    """The shop at a moment: what it says of itself, its zone, the moment (UTC), the names of its people by sign-in, and their
    sign-ins by id."""

    said: ShopSaid
    zone: ZoneInfo
    now: datetime.datetime
    names: Mapping[str, str]
    sign_ins: Mapping[int, str]
    may_not_sign: frozenset[str] = frozenset()


def say_shop(desk: Desk, person: Person, key: str, said: ShopSaid, seen: int) -> None:
    """Keep what the shop says of itself, as read at version `seen`. Raises `Refused`, and `Unsure` when somebody was faster."""
    check_may(person, "say shop")
    check_shop(said)

    def keep(connection: Connection) -> dict[str, Any]:
        known = {person["name"] for person in people.people(connection) if person["active"]}
        unknown = next((k for k, hand in enumerate(said.hands) if hand.name not in known), None)
        if unknown is not None:
            name = said.hands[unknown].name
            raise Refused(f"Nobody signs in as {name}.", field=f"hand-{unknown}-name", value=name)
        version = shop.said(connection)[0]
        if version != seen:
            raise Unsure(
                "Somebody changed this meanwhile: look at it again, then put in what you had.", field="version"
            )
        try:
            shop.say(connection, version + 1, said, person.id)
        except pymysql.err.IntegrityError:
            raise Unsure("Somebody changed this just now: look at it again.", field="version") from None
        return {}

    desk.once(person, key, "say shop", keep)


def plan_day(desk: Desk, person: Person, key: str, zone: ZoneInfo, *, afresh: bool = False) -> None:
    """Plan the shop's day over all open jobs and keep the plan; `afresh`: as if there were none before.

    What is being worked on and what is fixed stays; of the rest as little as must be moves. Raises `Refused` in words.
    """
    check_may(person, "plan day")
    last = None if afresh else desk.database.run(shop.last_plan)
    plan = _plan_now(desk, person, zone, last[1] if last else None)
    desk.once(person, key, "plan day", lambda connection: {"id": shop.keep_plan(connection, plan, person.id)})


def _plan_now(desk: Desk, person: Person, zone: ZoneInfo, last: KeptPlan | None) -> KeptPlan:
    """Return the plan over all jobs that are open and not released. Raises `TooBusy` where too many ask for one."""
    now = desk.database.run(now_of)
    views = desk.views("", _MOST_JOBS, 0).views
    going_on = desk.database.run(work.going_on)
    here = _shop_now(desk, zone, now)
    open_ones = [view for view in views if not _released(view)]
    jobs, _ = of_each(open_ones, lambda view: _job(desk, view, going_on, here.sign_ins), number_of)
    seen = {view.job.number: view.job.revision for view in views}
    made: KeptPlan = desk.think(person.name, planned, here, jobs, seen, last)
    return made


def _released(view: JobView) -> bool:
    """Say whether a vehicle is released: there is nothing left to plan."""
    return view.state.hold("released").status == "closed"


def move_piece(
    desk: Desk,
    person: Person,
    key: str,
    zone: ZoneInfo,
    plan: int,
    job: str,
    what: str,
    to: str,
    at: datetime.datetime,
) -> None:
    """Move a piece of the plan to another person or time and fix it there; the rest moves round it as little as must be.

    The plan says what that costs. Raises `Unsure` when the plan is another by now, `Refused` where it cannot be there.
    """
    check_may(person, "plan day")
    last = desk.database.run(shop.last_plan)
    if last is None or last[0] != plan:
        raise Unsure("The day was planned anew meanwhile: look at it again.", field="plan", value=plan)
    own = next((piece for piece in last[1].pieces if piece.key == (job, what)), None)
    if own is None:
        raise Refused("This is not in the plan.", field="what", value=what)
    if own.now:
        raise Refused("It is being worked on now: stop its clock first.", field="what", value=what)
    start = _utc(at.astimezone(datetime.UTC))
    moved = own.model_copy(update={"person": to, "start": start, "fixed": True, "fixed_at": start, "helpers": ()})
    asked = last[1].model_copy(update={"pieces": tuple(moved if piece is own else piece for piece in last[1].pieces)})
    made = _plan_now(desk, person, zone, asked)
    there = next((piece for piece in made.pieces if piece.key == (job, what)), None)
    if there is None or there.person != to or abs(_apart_min(there.start, start)) > SAME_MIN:
        words = (
            "It cannot be there: what comes before is not done by then, nobody works then, or it takes another skill."
        )
        raise Refused(words, field="at", value=at.strftime("%H:%M"))
    gives_way = _gives_way(last[1], made, own.key)
    if gives_way is not None:
        words = (
            f"It cannot be there: {gives_way.job}, “{gives_way.what}”, is fixed and would have to give way. "
            "Let that go first, or plan the day anew."
        )
        raise Refused(words, field="at", value=at.strftime("%H:%M"))
    made = made.model_copy(update={"cost": _cost(last[1], made, own.key)})
    desk.once(person, key, f"move piece {plan}", lambda connection: {"id": shop.keep_plan(connection, made, person.id)})


def _gives_way(before: KeptPlan, after: KeptPlan, own: tuple[str, str]) -> KeptPiece | None:
    """Return what else was fixed already and would begin later than it did, if anything."""
    starts = {key: piece.start for key, piece in _by_key(before).items() if piece.fixed and key != own}
    return next((p for p in after.pieces if p.key in starts and _apart_min(p.start, starts[p.key]) > SAME_MIN), None)


def _apart_min(a: str, b: str) -> float:
    return (datetime.datetime.fromisoformat(a) - datetime.datetime.fromisoformat(b)).total_seconds() / 60


def _cost(before: KeptPlan, after: KeptPlan, own: tuple[str, str]) -> str:
    """Say what a move by hand of a piece costs: later finish, promises missed by more, and how much else moved."""
    later = round(_apart_min(after.finish, before.finish)) if before.finish and after.finish else 0
    late, planned_before = after.late_min - before.late_min, _by_key(before)
    others = sum(
        _moved(piece.person, piece.start, planned_before.get(piece.key)) for piece in after.pieces if piece.key != own
    )
    told = [
        f"all is done {abs(later)} min {'later' if later > 0 else 'sooner'}" if abs(later) > SAME_MIN else "",
        f"promises are missed by {abs(late)} min {'more' if late > 0 else 'less'}" if abs(late) > 0 else "",
        f"{others} more piece{'' if others == 1 else 's'} moved" if others else "",
    ]
    return "; ".join(words for words in told if words) or "it costs nothing: nothing else moved"


def fix_piece(desk: Desk, person: Person, key: str, plan: int, job: str, what: str, fixed: bool) -> None:
    """Fix a piece where it is planned, or let it go again. Raises `Unsure` when the plan is another by now."""
    check_may(person, "plan day")

    def keep(connection: Connection) -> dict[str, Any]:
        last = shop.last_plan(connection)
        if last is None or last[0] != plan:
            raise Unsure("The day was planned anew meanwhile: look at it again.", field="plan", value=plan)
        if not any(piece.key == (job, what) for piece in last[1].pieces):
            raise Refused("This is not in the plan.", field="what", value=what)
        pieces = tuple(
            piece.model_copy(update={"fixed": fixed, "fixed_at": piece.start if fixed else ""})
            if piece.key == (job, what)
            else piece
            for piece in last[1].pieces
        )
        return {"id": shop.keep_plan(connection, last[1].model_copy(update={"pieces": pieces}), person.id)}

    desk.once(person, key, f"fix {plan}", keep)


def out_of_date(desk: Desk, plan: KeptPlan) -> list[str]:
    """Return the open jobs of which something was recorded since the plan was made, or that it does not know."""
    views = desk.views("", _MOST_JOBS, 0).views
    return [view.job.number for view in views if plan.seen.get(view.job.number) != view.job.revision]


def _shop_now(desk: Desk, zone: ZoneInfo, now: str) -> ShopNow:
    _, said = desk.database.run(shop.said)
    active = [person_row for person_row in desk.database.run(people.people) if person_row["active"]]
    names = {person["name"]: person["full_name"] for person in active}
    sign_ins = {person["id"]: person["name"] for person in active}
    may_not_sign = frozenset(person["name"] for person in active if person["role"] not in roles_that_may("sign"))
    moment = datetime.datetime.fromisoformat(now)
    today = moment.astimezone(zone).date().isoformat()
    hands = tuple(hand for hand in said.hands if hand.name in names and today not in hand.away)
    return ShopNow(said.model_copy(update={"hands": hands}), zone, moment, names, sign_ins, may_not_sign)


def _job(desk: Desk, view: JobView, going_on: Sequence[work.OpenWork], sign_ins: Mapping[int, str]) -> JobToPlan:
    return JobToPlan(
        view.job.number,
        view.job.details.vehicle,
        work_on(desk, view),
        waiting(view.facts),
        tuple((work.operation, sign_ins.get(work.person, "")) for work in going_on if work.job == view.job.number),
        view.setup is not None,
    )


def planned(here: ShopNow, jobs: Sequence[JobToPlan], seen: dict[str, int], last: KeptPlan | None) -> KeptPlan:
    """Return the plan of a shop's day over jobs. Raises `Refused` where there is nobody to plan for, or no hours."""
    if not here.said.hands:
        raise Refused(
            "Nobody is there to plan for: say who works here, and what they can do, on the shop's page.", field="hands"
        )
    base = here.now.replace(second=0, microsecond=0)
    today = base.astimezone(here.zone).date()
    hours = _from_now(working_hours(here.said, here.zone, today, DAYS_AHEAD, base))
    if not hours:
        raise Refused(
            "No hours are worked in the weeks to come: look at the shop's hours and holidays.", field="week-0"
        )
    floor = floor_work(jobs, here.said, hours, base, _dues(jobs, here, base), here.may_not_sign)
    if not floor.asked.operations:
        return KeptPlan(made_for=_utc(base), not_now=floor.not_now, seen=seen)
    was = _was(floor, last, base, hours[0][0])
    there = [k for k, stay in enumerate(floor.stays) if floor.pieces[stay[0]].job in floor.on_rack]
    places = floor.asked.places.get(here.said.at("set-up").place, 0)
    there = there if len(there) <= places else []
    made = plan_again(floor.asked, stays=floor.stays, there=there, was=was, begun=floor.at_it)
    return _kept(floor, made, base, seen, last)


def _from_now(hours: Sequence[tuple[int, int]]) -> list[tuple[int, int]]:
    return [(max(start, 0), end) for start, end in hours if end > 0]


def _dues(jobs: Sequence[JobToPlan], here: ShopNow, base: datetime.datetime) -> dict[str, int]:
    """Return by which minute each promised job is to be ready: when the last stretch of that day ends."""
    dues = {}
    for job in jobs:
        if job.work.said.promised:
            day = datetime.date.fromisoformat(job.work.said.promised)
            ends = working_hours(here.said, here.zone, day, 1, base)
            midnight = datetime.datetime.combine(day + datetime.timedelta(days=1), datetime.time(), here.zone)
            dues[job.number] = ends[-1][1] if ends else int((midnight - base).total_seconds() // 60)
    return dues


def _was(
    found: FloorWork, last: KeptPlan | None, base: datetime.datetime, first: int
) -> dict[str, tuple[int, str, bool]]:
    was = {id: (first, name, True) for id, name in found.at_it.items() if name}
    before = _by_key(last)
    for id, piece in found.pieces.items():
        old = before.get((piece.job, piece.what))
        if old is not None and id not in was:
            start = int((datetime.datetime.fromisoformat(old.asked_for) - base).total_seconds() // 60)
            was[id] = (start, old.person, old.fixed)
    return was


def _by_key(plan: KeptPlan | None) -> dict[tuple[str, str], KeptPiece]:
    return {piece.key: piece for piece in plan.pieces} if plan else {}


def _kept(
    found: FloorWork,
    made: DayPlanned,
    base: datetime.datetime,
    seen: dict[str, int],
    last: KeptPlan | None,
) -> KeptPlan:
    pieces, planned_before = [], _by_key(last)
    for operation in sorted(made.plan, key=lambda operation: (operation.start, operation.id)):
        piece = found.pieces[operation.id]
        start, now = _at(base, operation.start), operation.id in found.at_it
        old = planned_before.get((piece.job, piece.what))
        fixed = old is not None and old.fixed and not now
        pieces.append(
            KeptPiece(
                job=piece.job,
                vehicle=piece.vehicle,
                what=piece.what,
                station=piece.station,
                person=operation.person,
                helpers=operation.helpers,
                place=operation.place or "",
                start=start,
                end=_at(base, operation.end),
                held_by=_held_by(operation, made, found),
                late_min=made.late.get(operation.id, 0),
                in_chain=operation.id in made.chain,
                fixed=fixed,
                fixed_at=old.asked_for if fixed and old else "",
                now=now,
                moved=last is not None and not now and _moved(operation.person, start, old),
            )
        )
    return KeptPlan(
        made_for=_utc(base),
        pieces=tuple(pieces),
        finish=_at(base, made.finish),
        late_min=sum(made.late.values()),
        late_bound_min=made.late_bound,
        optimal=made.optimal,
        not_now=found.not_now,
        seen=seen,
        changes=sum(piece.moved for piece in pieces),
    )


def _moved(person: str, start: str, old: KeptPiece | None) -> bool:
    return old is None or old.person != person or abs(_apart_min(old.start, start)) > SAME_MIN


def _held_by(operation: PlannedOperation, made: DayPlanned, found: FloorWork) -> str:
    """Say what a piece of the plan waits for: the last to end of what comes before it, holds its place, or binds its people."""
    asked = {op.id: op for op in found.asked.operations}
    own = asked[operation.id]
    if own.not_before_min >= operation.start and own.not_before_min > 0:
        return "what it waits for is due then"
    bound, piece = {operation.person, *operation.helpers}, found.pieces[operation.id]
    best: tuple[int, str] = (-1, "")
    for other in made.plan:
        if other.id == operation.id or other.end > operation.start:
            continue
        words = found.pieces[other.id]
        if other.id in own.after:
            best = max(best, (other.end, f"after “{words.what}”"))
        elif bound & {other.person, *other.helpers}:
            best = max(best, (other.end, f"after {words.job}, “{words.what}”: the same hands"))
        elif operation.place is not None and other.place == operation.place and words.job != piece.job:
            best = max(best, (other.end, f"after {words.job} left the {operation.place}"))
    return best[1]


def _at(base: datetime.datetime, minute: int) -> str:
    return _utc(base + datetime.timedelta(minutes=minute))


def _utc(moment: datetime.datetime) -> str:
    return moment.astimezone(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
