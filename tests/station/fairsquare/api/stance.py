"""The API of how a vehicle stands on its wheels."""

from fastapi import APIRouter

from fairsquare.actions import stance
from fairsquare.api.doors import At, By
from fairsquare.api.models import Given, Key, Sent
from fairsquare.job.facts.stance import Axle

router = APIRouter(prefix="/api/v1")
DOORS = {"finish": ("POST /api/v1/jobs/{number}/stances",)}


class ReadStance(Sent):
    """The heights of an axle's wheel arches above the ground."""

    request_key: Key
    axle: Axle
    left_mm: float
    right_mm: float


@router.post("/jobs/{number}/stances", tags=["stance"], status_code=201)
def read(number: str, sent: ReadStance, desk: At, person: By) -> Given:
    """Record how an axle stands."""
    made = stance.read(desk, person, sent.request_key, number, sent.axle, sent.left_mm, sent.right_mm)
    return Given(ids=(made,))
