"""What is recorded of how a vehicle stands on its wheels."""

from typing import Literal

from fairsquare.core.model import Model
from fairsquare.core.who import Who
from fairsquare.job.facts.job import JobFacts

Axle = Literal["front", "rear"]


class StanceFact(Model):
    """The heights of the two wheel arches of an axle above the ground, in mm; the last one of an axle counts."""

    id: int
    axle: Axle
    left_mm: float
    right_mm: float
    by: Who


FURTHER = {"stances": StanceFact}


def stances(facts: JobFacts) -> dict[Axle, StanceFact]:
    """Return how the axles stand, each as it was read last."""
    return {one.axle: one for one in facts.of("stances", StanceFact)}
