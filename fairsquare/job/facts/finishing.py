"""What was said of fit, seams, bonds and hours, what was done, and clocks of products."""

from typing import Literal

from fairsquare.core.fit.said import FitSaid
from fairsquare.core.model import Model
from fairsquare.core.weld.bonding import BondSaid
from fairsquare.core.weld.seam import SeamPlan
from fairsquare.core.who import Who
from fairsquare.job.facts.done import Done, DoneKind

ClockKind = Literal["open", "cure", "stop", "other"]

SaidTopic = Literal["fit", "seam", "bond", "hours"]


class JobSaidFact(Model):
    """What was last said of the fit, of a seam (by its number) or of the bonding; one of them is there."""

    id: int
    topic: Literal["fit", "seam", "bond"]
    subject: int
    version: int
    fit: FitSaid | None = None
    seam: SeamPlan | None = None
    bond: BondSaid | None = None
    by: Who


class DoneFact(Model):
    """Something that was done, tried or found between the dry fit and the handing over."""

    id: int
    kind: DoneKind
    what: Done
    by: Who
    taken_back: Who | None = None


class ClockFact(Model):
    """A clock that was started, and when it was ended, if it was. `product`: whose working or curing time it counts."""

    id: int
    kind: ClockKind
    product: str
    label: str
    minutes: float
    by: Who
    ended: Who | None = None
    words: str = ""
