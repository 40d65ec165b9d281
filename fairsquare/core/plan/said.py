"""What people say of the hours of a job: operations and parts as they are, what was sold, and when it was promised."""

from typing import Annotated

from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Many, Model
from fairsquare.core.plan.hours import Hours, JobHours, PartHours, Trials, job_hours

Name = Annotated[str, Field(min_length=1, max_length=40)]
Day = Annotated[str, Field(pattern=r"^([0-9]{4}-[0-9]{2}-[0-9]{2})?$")]
MOST_OPERATIONS, MOST_PARTS = 200, 100


class OperationSaid(Model):
    """An operation of the job by its name: one that follows from the job, with other hours, or one more.

    `hours` and `needs_off` none: as they follow from the job. `left_out`: it is not done here, and counts nothing.
    """

    name: Name
    hours: Hours | None = None
    sold_h: Hours | None = None
    needs_off: Many[Name] | None = None
    left_out: bool = False


class PartSaid(Model):
    """A part that may be in the way: hours off and on, what lies over it, how often it is tried, what was sold for it."""

    name: Name
    off_h: Hours
    on_h: Hours
    under: Many[Name] = ()
    scrap: bool = False
    trials: Trials = 0
    sold_h: Hours | None = None


class HoursSaid(Model):
    """The hours of a job as people know them. `promised`: the day (ISO date) by which the vehicle was promised, or empty."""

    operations: Many[OperationSaid] = ()
    parts: Many[PartSaid] = ()
    promised: Day = ""


def check_hours(said: HoursSaid) -> None:
    """Raise `Refused` that names the field of the form, for names that repeat, unknown parts, circles, too many rows."""
    if len(said.operations) > MOST_OPERATIONS or len(said.parts) > MOST_PARTS:
        raise Refused(f"At most {MOST_OPERATIONS} operations and {MOST_PARTS} parts.", field="operation-0-name")
    for kind, names in (
        ("operation", [operation.name for operation in said.operations]),
        ("part", [part.name for part in said.parts]),
    ):
        seen: set[str] = set()
        for k, name in enumerate(names):
            if name.casefold() in seen:
                raise Refused(f"{name} stands there twice.", field=f"{kind}-{k}-name", value=name)
            seen.add(name.casefold())
    both = {operation.name.casefold() for operation in said.operations}
    for k, part in enumerate(said.parts):
        if part.name.casefold() in both:
            raise Refused(f"{part.name} is the name of an operation already.", field=f"part-{k}-name", value=part.name)
    known = {part.name for part in said.parts}
    for kind, k, field, wanted in (
        *(("part", k, "under", part.under) for k, part in enumerate(said.parts)),
        *(("operation", k, "off", operation.needs_off or ()) for k, operation in enumerate(said.operations)),
    ):
        unknown = next((name for name in wanted if name not in known), None)
        if unknown is not None:
            raise Refused(
                f"{unknown} is not among the parts: list it there first.", field=f"{kind}-{k}-{field}", value=unknown
            )
    try:
        job_hours(JobHours(operations=(), parts=tuple(hours_of(part) for part in said.parts)))
    except Refused as fault:
        k = int((fault.field or "parts.0").split(".")[1])
        raise Refused(fault.title, field=f"part-{k}-under", value=fault.value) from None


def hours_of(part: PartSaid, trials: int = 0) -> PartHours:
    """Return a part as the hours are worked out with it; `trials` is how often it was tried by now."""
    return PartHours(
        id=part.name,
        off_h=part.off_h,
        on_h=part.on_h,
        under=part.under,
        scrap=part.scrap,
        trials=max(part.trials, trials),
    )
