"""The station where a vehicle stands on its wheels: its row, and what the release asks of it."""

from typing import get_args

from fairsquare.core.said import Said, say
from fairsquare.core.stance import MOST_MM, leans_by, stands_level
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.stance import Axle, StanceFact, stances
from fairsquare.job.missing import Missing, demand, lacks
from fairsquare.job.stations.row import Act, Asked, Station


def wants(facts: JobFacts) -> list[Missing]:
    """Return what it lacks: axles that were not read, and those that lean."""
    read = stances(facts)
    unread = [lacks("stance.unread", axle=axle, page="stance") for axle in get_args(Axle) if axle not in read]
    return [*unread, *(_leans(one) for one in read.values() if not stands_level(one.left_mm, one.right_mm))]


def _leans(one: StanceFact) -> Missing:
    by = leans_by(one.left_mm, one.right_mm)
    side = "left" if by > 0 else "right"
    return lacks(
        "stance.leans", axle=one.axle, by_mm=abs(by), most_mm=MOST_MM, side=side, overridable=True, page="stance"
    )


def asked(facts: JobFacts) -> Asked:
    """Return what the release asks: both axles read, and level."""
    missing, read = tuple(wants(facts)), stances(facts)
    return Asked(
        demand("stance", None if missing else say("stance.level"), missing, page="stance"),
        " ".join(str(one.id) for one in read.values()),
    )


def to_do(facts: JobFacts) -> Said:
    """Return what is to be done next."""
    return next(iter(wants(facts))).said


ROW = Station(
    "station",
    "stance",
    "Stance",
    "stance",
    holds_up=True,
    after="weld",
    done=lambda facts: not wants(facts),
    to_do=to_do,
    asks={"released": asked},
    acts={"finish": (Act("stance", "read how it stands on its wheels"),)},
)
