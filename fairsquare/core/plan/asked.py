"""What a day plan is asked with and answers: operations, people, places, hours; who does what, where and when."""

from typing import Annotated

from pydantic import Field

from fairsquare.core.model import Code, Many, Model

MOST = 10**9
Minute = Annotated[int, Field(ge=-MOST, le=MOST)]
Minutes = Annotated[int, Field(ge=0, le=MOST)]
Above0 = Annotated[int, Field(ge=1, le=MOST)]
Helpers = Annotated[int, Field(ge=0, le=1000)]


class WithinOf(Model):
    """The operation after whose end another has to begin soon, and how soon."""

    id: Code
    minutes: Minutes


class Operation(Model):
    """A piece of work: its minutes, who may do it, how many help, where, after what, and until when it should be done.

    `wait_after_min` runs on the clock after its end, before what comes after it may begin. `unbroken`: in one stretch of the hours.
    """

    id: Code
    minutes: Above0
    skill: Code | None = None
    helpers: Helpers = 0
    place: Code | None = None
    after: Many[Code] = ()
    wait_after_min: Minutes = 0
    not_before_min: Minute = 0
    within_min_of: WithinOf | None = None
    unbroken: bool = False
    due_min: Minute | None = None


class Worker(Model):
    """A person and what he or she can do."""

    id: Code
    skills: Many[Code]


Stretched = Annotated[tuple[Minute, Minute], Field(strict=False)]


class DayPlan(Model):
    """The work, the people, the places with how many there are of each, and the hours, in minutes of one clock."""

    operations: Many[Operation]
    people: Many[Worker]
    places: dict[Code, Above0] = Field(default_factory=dict)
    hours: Many[Stretched]


class PlannedOperation(Model):
    """An operation in the plan: who, with whose help, where, from when until when."""

    id: str
    person: str
    helpers: tuple[str, ...]
    place: str | None
    start: int
    end: int


class DayPlanned(Model):
    """The plan, when all is done, what is late by how much, how good it is proven to be, and what sets the finish.

    `bound`: no plan of so little lateness finishes earlier; none where the lateness itself may not be the least. `late_bound`: no
    plan is late by less in all.
    """

    plan: tuple[PlannedOperation, ...]
    finish: int
    late: dict[str, int]
    late_bound: int
    bound: int | None
    optimal: bool
    chain: tuple[str, ...]
