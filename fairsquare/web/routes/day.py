"""The day of the shop: its plan as a board by person and place, planned anew, fixed, printed; and what the shop says of itself."""

import datetime
import re
from zoneinfo import ZoneInfo

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import planning
from fairsquare.actions.rights import may
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.plan.shop_said import ShopSaid, working_hours
from fairsquare.core.weld.bonding import PRODUCT_KINDS
from fairsquare.drawings.day import BoardDay, day_board
from fairsquare.job.plan.kept import KeptPiece, KeptPlan
from fairsquare.job.stations import HELD_UP, is_hold
from fairsquare.store import people, restore_drills, shop
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import whole
from fairsquare.web.page import Form, desk_of, go_to, render, sent_form, signed_in
from fairsquare.web.row_editor import BLANK, MORE, asks_for_more
from fairsquare.web.rows import field_words, typed_rows
from fairsquare.web.shop_forms import SHOP_ROWS, shop_rows, shop_typed, week_rows
from fairsquare.web.times import shop_was_said, shown_time, zone_of

router = APIRouter()
STATIONS = {
    "take-in": "Take in, make safe",
    **{key: words for key, words in HELD_UP.items() if not is_hold(key)},
}


@router.get("/day")
def show(request: Request, days: int = 3, session: Session = Depends(signed_in)) -> Response:
    """Show the plan of the day."""
    return _page(request, session, "day.html", days=days)


@router.get("/day/print")
def printed(request: Request, days: int = 1, session: Session = Depends(signed_in)) -> Response:
    """Show the plan for the wall."""
    return _page(request, session, "day_print.html", days=days)


def _day(
    request: Request,
    session: Session,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    return _page(request, session, "day.html", fault=fault, typed=typed)


@router.post("/day/plan")
@shown_again(_day, typed=False)
def plan(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Plan the day, changing as little as must be, or afresh."""
    afresh = form.text("do") == "afresh"
    planning.plan_day(desk_of(request), form.session.person, form.key, zone_of(request), afresh=afresh)
    return go_to("/day")


@router.post("/day/fix")
@shown_again(_day, typed=False)
def fix(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Fix a piece where it is planned, or let it go again."""
    planning.fix_piece(
        desk_of(request),
        form.session.person,
        form.key,
        whole(form.text("plan"), "plan"),
        form.text("job"),
        form.text("what"),
        form.text("fixed") == "yes",
    )
    return go_to("/day")


@router.post("/day/move")
@shown_again(_day)
def move(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Move a piece to another person or time; the rest is planned round it, and what that costs is told."""
    planning.move_piece(
        desk_of(request),
        form.session.person,
        form.key,
        zone_of(request),
        whole(form.text("plan"), "plan"),
        form.text("job"),
        form.text("what"),
        form.text("to"),
        _moment(form.text("at"), form.text("day"), zone_of(request)),
    )
    return go_to("/day#cost")


def _moment(text: str, day: str, zone: ZoneInfo) -> datetime.datetime:
    """Return a time as it was typed, such as 14:30, on a day (ISO). Raises `Refused`."""
    match = re.fullmatch(r"\s*(\d{1,2})[:.](\d{2})\s*", text)
    try:
        if match is None:
            raise ValueError
        return datetime.datetime.combine(
            datetime.date.fromisoformat(day), datetime.time(int(match[1]), int(match[2])), zone
        )
    except ValueError:
        raise Refused("When should it begin? A time, such as 14:30.", field="at", value=text[:20]) from None


@router.get("/shop")
def shop_page(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show what the shop says of itself."""
    return _shop(request, session)


def _shop(
    request: Request,
    session: Session,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    desk = desk_of(request)
    version, said = desk.database.run(shop.said)
    wrong = (fault.field or "") if fault else ""
    return render(
        request,
        "shop.html",
        session,
        fault=fault,
        typed=typed,
        said=said,
        version=version,
        by=desk.database.run(shop.who_said),
        tried=desk.database.run(restore_drills.last),
        old_days=restore_drills.OLD_DAYS,
        week=week_rows(said, typed),
        rows=typed_rows(typed, SHOP_ROWS) if typed else shop_rows(said),
        blank=MORE if typed and asks_for_more(typed) else BLANK,
        people=[row for row in desk.database.run(people.people) if row["active"]],
        stations=STATIONS,
        zone=zone_of(request).key,
        product_kinds=PRODUCT_KINDS,
        wrong_field=wrong,
        wrong_words=field_words(wrong),
    )


@router.post("/shop")
@shown_again(_shop)
def say(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Keep what the shop says of itself."""
    typed = form.typed()
    if asks_for_more(typed):
        return _shop(request, form.session, typed=typed)
    seen = whole(form.text("version"), "version")
    planning.say_shop(desk_of(request), form.session.person, form.key, shop_typed(typed), seen)
    shop_was_said(request)
    return go_to("/shop")


def _page(
    request: Request,
    session: Session,
    template: str,
    *,
    days: int = 3,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    desk, zone = desk_of(request), zone_of(request)
    last = desk.database.run(shop.last_plan)
    _, said = desk.database.run(shop.said)
    now = datetime.datetime.now(datetime.UTC)
    full = {row["name"]: row["full_name"] for row in desk.database.run(people.people)}
    names = {hand.name: full.get(hand.name, hand.name) for hand in said.hands}
    plan = last[1] if last else None
    board = _days(said, zone, now, max(1, min(days, 5)))
    first = board[0].end if board else now
    today = _until(plan, first) if plan else []
    later = [piece for piece in plan.pieces if datetime.datetime.fromisoformat(piece.start) >= first] if plan else []
    return render(
        request,
        template,
        session,
        fault=fault,
        typed=typed,
        day_of=lambda moment: datetime.datetime.fromisoformat(moment).astimezone(zone).date().isoformat(),
        plan=plan,
        plan_id=last[0] if last else 0,
        by=last[2] if last else None,
        stale=planning.out_of_date(desk, plan) if plan else [],
        said=said,
        names=names,
        days=days,
        board=board,
        drawing=day_board(
            plan.pieces,
            board,
            names,
            {place.name: place.many for place in said.places},
            now.astimezone(zone),
            movable=may(session.person, "plan day"),
        )
        if plan and board
        else None,
        today=today,
        beside=_is_beside(typed or {}, today),
        by_hand={name: [piece for piece in today if name in (piece.person, *piece.helpers)] for name in names},
        later=later,
        chain=[piece for piece in plan.pieces if piece.in_chain] if plan else [],
        next_ones=list({piece.job: piece for piece in reversed(later)}.values())[::-1],
        stopped=list({waiting_task.job: waiting_task for waiting_task in reversed(plan.not_now)}.values())[::-1]
        if plan
        else [],
        time=lambda moment: shown_time(moment, zone),
    )


def _is_beside(typed: dict[str, str], today: list[KeptPiece]) -> bool:
    """Say whether the page has a form for what was typed, beside which is told what is wrong with it."""
    moved = typed.get("job"), typed.get("what")
    return typed.get("by") == "board" or any((piece.job, piece.what) == moved for piece in today)


def _until(plan: KeptPlan, end: datetime.datetime) -> list[KeptPiece]:
    return [piece for piece in plan.pieces if datetime.datetime.fromisoformat(piece.start) < end]


def _days(said: ShopSaid, zone: ZoneInfo, now: datetime.datetime, many: int) -> list[BoardDay]:
    """Return the next days on which anybody works, today first where there is any of it left."""
    days: list[BoardDay] = []
    base = now.replace(second=0, microsecond=0)
    day = now.astimezone(zone).date()
    for _ in range(60):
        hours = working_hours(said, zone, day, 1, base)
        stretches = [
            (
                (base + datetime.timedelta(minutes=a)).astimezone(zone),
                (base + datetime.timedelta(minutes=b)).astimezone(zone),
            )
            for a, b in hours
        ]
        if stretches and stretches[-1][1] > now:
            title = "Today" if day == now.astimezone(zone).date() else f"{day:%A}"
            days.append(BoardDay(f"{title}, {day.day} {day:%B}", stretches[0][0], stretches[-1][1], stretches))
        if len(days) == many:
            break
        day += datetime.timedelta(days=1)
    return days
