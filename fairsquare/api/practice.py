"""The API of practice: begin one, end it, and what came of it."""

from typing import Annotated, Any

from fastapi import APIRouter
from pydantic import Field

from fairsquare.actions import practice
from fairsquare.api.doors import At, By
from fairsquare.api.models import Given, KeyOnly
from fairsquare.core.errors import FairSquareError
from fairsquare.job.pull.practice import LARGEST_SEED
from fairsquare.stand_ins.to_practise import vehicle_to_practise

router = APIRouter(prefix="/api/v1")


class BeginPractice(KeyOnly):
    """Begin a practice on a vehicle, with the damage of a seed."""

    vehicle: str
    seed: Annotated[int, Field(ge=0, le=LARGEST_SEED)]


@router.get("/practice", tags=["practice"])
def practices(desk: At, person: By) -> list[dict[str, Any]]:
    """Return one's own practices, the newest first; a lead's are everybody's."""
    return practice.practices(desk, person)


@router.post("/practice", tags=["practice"], status_code=201)
def begin(sent: BeginPractice, desk: At, person: By) -> Given:
    """Begin a practice; the number is used like a job's."""
    sheet, setting = vehicle_to_practise(sent.vehicle)
    return Given(number=practice.begin(desk, person, sent.request_key, sheet, setting, sent.vehicle, sent.seed))


@router.post("/jobs/{number}/practice/end", tags=["practice"])
def end(number: str, sent: KeyOnly, desk: At, person: By) -> Given:
    """End a practice and score it."""
    practice.end(desk, person, sent.request_key, number)
    return Given()


@router.get("/jobs/{number}/practice", tags=["practice"])
def told(number: str, desk: At, person: By) -> practice.Told:
    """Return what came of a practice that has ended, with the truth."""
    del person
    game = practice.told(desk, number)
    if game is None:
        fault = FairSquareError("The truth is shown when the practice has ended.", field="number", value=number)
        fault.status, fault.kind = 409, "not-yet"
        raise fault
    return game
