"""How a vehicle is held and pulled, and what happened on the board."""

from typing import Literal

from pydantic import Field

from fairsquare.core.model import Code, Many, Model, Row3
from fairsquare.core.pull.job import AfterPull, BoardState, PlanSaid, PointCycle, Watched
from fairsquare.core.pull.setting import Setting
from fairsquare.core.who import Who


class PullSettingFact(Model):
    """How the vehicle is held and pulled, as it was last kept."""

    id: int
    version: int
    setting: Setting
    by: Who


class PullPlanFact(Model):
    """A pull plan as it was kept; the last one counts, the others are what it was before."""

    id: int
    version: int
    plan: PlanSaid
    by: Who


class PullEventFact(Model):
    """What happened on the board: pull `pull` (from 1) of plan version `plan` went into `state`.

    `forces`: with a cycle that is closed, the most that was read at each tower in it, N. The first of a pull says what is
    watched; `ticked` are the cautions that were ticked by hand; a free reading closes a cycle of each watched point; the end
    says what was looked for after the pull.
    """

    id: int
    plan: int
    pull: int
    state: BoardState
    by: Who
    watched: Many[Watched] = ()
    ticked: Many[str] = ()
    cycles: Many[PointCycle] = ()
    after: AfterPull | None = None
    words: str = ""
    forces: dict[str, float] = Field(default_factory=dict)


Settled = Literal["driven", "loaded"]


class SettlingFact(Model):
    """A vehicle that was let down and driven, or loaded, after pulls: where the pulled points stood before (`stood`, mm) and, once
    they were read again, where they stand (`stands`)."""

    id: int
    how: Settled
    words: str
    stood: dict[Code, Row3]
    by: Who
    stands: dict[Code, Row3] = Field(default_factory=dict)
    read_by: Who | None = None
