"""What must be so before a reading is recorded: on this sheet, in this set-up, of this kind."""

from fairsquare.core.errors import Refused
from fairsquare.core.sheet.model import find_point, points_by_code
from fairsquare.core.who import Who
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import NewReading, Purpose, ReadingFact
from fairsquare.job.facts.setup import SetupFact
from fairsquare.job.measure.picture import check_reading


def checked_reading(facts: JobFacts, setup: SetupFact | None, reading: NewReading, index: int) -> NewReading:
    """Return a reading as it is to be recorded. Raises `Refused` for one that cannot be, on this sheet and set-up."""
    field = f"readings.{index}"
    if facts.sheet is None:
        return _without_sheet(reading, field)
    points = points_by_code(facts.sheet)
    for name, code in zip(("code", "b"), reading.codes, strict=False):
        find_point(points, code, f"{field}.{name}")
    if reading.kind == "point":
        if setup and setup.kind == "sight":
            raise Refused(
                f"Set-up {setup.number} has no instrument: call spans, gauges, offsets and heights.",
                field=field,
                value=reading.said,
            )
        if reading.purpose == "reference" and not points[reading.code].reference:
            raise Refused(
                f"{reading.code} is not a reference point on the sheet: read it under Measure.",
                field=f"{field}.code",
                value=reading.code,
            )
        return reading
    if not reading.sigma_mm or reading.sigma_mm <= 0:
        raise Refused("How well does this tool read? Give sigma_mm.", field=f"{field}.sigma_mm", value=reading.sigma_mm)
    check_reading(facts, facts.sheet, reading, field)
    sound = setup.choice.trusted if setup and setup.kind == "sight" and setup.choice else ()
    purpose: Purpose = "reference" if sound and set(reading.codes) <= set(sound) else "point"
    return reading.model_copy(update={"purpose": purpose})


def _without_sheet(reading: NewReading, field: str) -> NewReading:
    """Return a span, which needs no sheet, to be held against its mirror image. Raises `Refused` for any other reading."""
    if reading.kind == "span" and reading.code != reading.b and reading.sigma_mm:
        return reading
    raise Refused(
        "There is no sheet yet: until then only spans between two points are read.", field=field, value=reading.said
    )


def as_fact(reading: NewReading, setup: SetupFact, by: Who) -> ReadingFact:
    """Return a reading that a person is recording as the fact that it will be; its id is given later."""
    return ReadingFact(
        **reading.read,
        id=0,
        setup=setup.number,
        purpose=reading.purpose,
        said=reading.said,
        loaded=reading.loaded,
        instrument=reading.instrument or setup.instrument,
        by=by,
        sigma_mm=reading.sigma_mm,
        replaces=reading.replaces,
    )
