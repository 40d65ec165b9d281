"""A plan of the shop's day as it is kept: by name and by UTC, so that it can be read when everything else has changed."""

from pydantic import Field

from fairsquare.core.model import Many, Model
from fairsquare.job.plan.floor import NotNow


class KeptPiece(Model):
    """A piece of work in the plan: which vehicle, what, who, with whose help, where, from when until when (UTC, ISO 8601).

    `held_by` says what it waits for, in words; `fixed`: a person fixed it, planning anew leaves it, or begins it later where it
    cannot be at the time it was fixed for, which is `fixed_at`; `now`: it is being worked on.
    """

    job: str
    vehicle: str
    what: str
    station: str
    person: str
    helpers: Many[str] = ()
    place: str = ""
    start: str
    end: str
    held_by: str = ""
    late_min: int = 0
    in_chain: bool = False
    fixed: bool = False
    fixed_at: str = ""
    now: bool = False
    moved: bool = False

    @property
    def key(self) -> tuple[str, str]:
        """What it is known by from one plan to the next."""
        return self.job, self.what

    @property
    def asked_for(self) -> str:
        """When it is to begin: the time it was fixed for, else when it was planned last."""
        return self.fixed_at or self.start

    @property
    def is_pushed(self) -> bool:
        """Whether it begins later than the time it was fixed for."""
        return self.fixed and self.start > self.asked_for


class KeptPlan(Model):
    """A plan: its pieces, when all is done, how good it is proven to be, what could not be planned, and what each job was then.

    `seen` are the revisions of the jobs by number: another one means that the plan may be out of date. `changes` counts the pieces
    that moved against the plan before; `cost` says what a move by hand did to the finish and to what is promised.
    """

    made_for: str
    pieces: Many[KeptPiece] = ()
    finish: str = ""
    late_min: int = 0
    late_bound_min: int = 0
    optimal: bool = False
    not_now: Many[NotNow] = ()
    seen: dict[str, int] = Field(default_factory=dict)
    changes: int = 0
    cost: str = ""
