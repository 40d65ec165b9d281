"""Practice: begin one, go on with it, and what came of it with the truth shown."""

import secrets

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import practice
from fairsquare.actions.spine import spine
from fairsquare.core.axes import less
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.model import Row3
from fairsquare.core.pull.job import undone_sense
from fairsquare.core.pull.setting import frame_of_setting
from fairsquare.core.sheet.model import Sheet, points_by_code
from fairsquare.drawings.pulls import pull_drawing
from fairsquare.job.pull.practice import LARGEST_SEED, lessons
from fairsquare.stand_ins.to_practise import vehicle_to_practise
from fairsquare.stand_ins.vehicles import VEHICLES
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.forms import whole
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in
from fairsquare.web.room import drawing_px
from fairsquare.web.words import blow_words, undone_words

router = APIRouter()


@router.get("/practice")
def show(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show one's practices, and how to begin another."""
    return _page(request, session)


def _page(
    request: Request, session: Session, *, fault: FairSquareError | None = None, typed: dict[str, str] | None = None
) -> Response:
    return render(
        request,
        "practice.html",
        session,
        fault=fault,
        typed=typed,
        practices=practice.practices(desk_of(request), session.person),
        vehicles={vehicle.name: vehicle.name for vehicle in VEHICLES},
        largest=LARGEST_SEED,
    )


@router.post("/practice")
@shown_again(_page)
def begin(request: Request, form: Form = Depends(sent_form)) -> Response:
    """Begin a practice; without a number its damage is any."""
    said = form.text("seed").strip()
    seed = whole(said, "seed") if said else secrets.randbelow(LARGEST_SEED + 1)
    vehicle = form.text("vehicle")
    sheet, setting = vehicle_to_practise(vehicle)
    number = practice.begin(desk_of(request), form.session.person, form.key, sheet, setting, vehicle, seed)
    return go_to(job_path(number, "measure"))


@router.get("/jobs/{number}/practice")
def came_of_it(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show what came of a practice, with the truth once it has ended."""
    return _told_page(request, session, number)


def _told_page(request: Request, session: Session, number: str, *, fault: FairSquareError | None = None) -> Response:
    desk = desk_of(request)
    told, view = practice.told(desk, number), desk.view(number)
    drawn = None
    if told is not None:
        sheet, setting = practice.first_setting(view)
        before = _less_sheet(sheet, told.start)
        skeleton = frame_of_setting(sheet, setting)
        drawn = pull_drawing(
            sheet, skeleton, setting, before, None, None, told.score.left_mm or before, width=drawing_px(request)
        )
    return render(
        request,
        "practice_told.html",
        session,
        fault=fault,
        view=view,
        spine=spine(view),
        at="practice",
        told=told,
        drawn=drawn,
        undone=_undone(view.facts.sheet, told) if told and view.facts.sheet else [],
        blow=blow_words(told.code, told.force) if told else "",
        names={p.code: p.name for p in view.facts.sheet.points} if view.facts.sheet else {},
        before=_less_sheet(view.facts.sheet, told.start) if told and view.facts.sheet else {},
        lessons=lessons(told.score) if told else (),
    )


@router.post("/jobs/{number}/practice/end")
@shown_again(_told_page, typed=False)
def end(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """End a practice and score it."""
    practice.end(desk_of(request), form.session.person, form.key, number)
    return go_to(job_path(number, "practice"))


def _undone(sheet: Sheet, told: practice.Told) -> list[str]:
    """Return what each pull of the calculation's own plan undoes, in true words."""
    undone, before = [], _less_sheet(sheet, told.start)
    for pull in told.planned.pulls:
        undone.append(undone_words(pull.mode, undone_sense(sheet, before, pull.free, pull.mode)))
        before = {**before, **pull.free}
    return undone


def _less_sheet(sheet: Sheet, places: dict[str, Row3]) -> dict[str, Row3]:
    points = points_by_code(sheet)
    if not places:
        raise Refused("There is nothing to show.", field="number")
    return {code: less(place, points[code].xyz) for code, place in places.items()}
