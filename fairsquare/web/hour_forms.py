"""The form of a job's hours: operations and parts as rows, hours as they are typed."""

import re
from collections.abc import Mapping

from fairsquare.core.errors import Refused
from fairsquare.core.plan.hours import PartHours
from fairsquare.core.plan.said import HoursSaid, OperationSaid, PartSaid, hours_of
from fairsquare.job.plan.operations import JobWork, WorkRow
from fairsquare.web.forms import figures
from fairsquare.web.rows import Row, made, made_of, plain, typed_rows

HOUR_ROWS: dict[str, tuple[str, ...]] = {
    "operation": ("name", "hours", "sold", "off", "left"),
    "part": ("name", "off", "on", "under", "scrap", "trials", "sold"),
}
_CLOCK = re.compile(r"(\d{1,4}):([0-5]\d)")


def hours_typed(typed: Mapping[str, str], before: JobWork) -> HoursSaid:
    """Return the hours as they were typed; what is typed as it follows from the job is left to follow. Raises `Refused`."""
    rows = typed_rows(typed, HOUR_ROWS)
    following = {row.name: row for row in before.rows if row.part is None and row.why != "added by hand"}

    def operation(row: Row, field: str) -> OperationSaid:
        hours = typed_hours(row["hours"], f"{field}-hours")
        off = _names(row["off"])
        own = following.get(row["name"])
        return made_of(
            OperationSaid,
            field,
            name=" ".join(row["name"].split()),
            hours=None if own is not None and hours is not None and abs(hours - own.hours) < 0.005 else hours,
            sold_h=typed_hours(row["sold"], f"{field}-sold"),
            needs_off=None if own is not None and off == own.needs_off else off,
            left_out=row["left"] == "yes",
        )

    def part(row: Row, field: str) -> PartSaid:
        trials = figures(row["trials"].strip() or "0", 3)
        if trials is None:
            raise Refused("Trial fits are counted: 0, 1, 2 …", field=f"{field}-trials", value=row["trials"][:20])
        return made_of(
            PartSaid,
            field,
            name=" ".join(row["name"].split()),
            off_h=typed_hours(row["off"], f"{field}-off") or 0.0,
            on_h=typed_hours(row["on"], f"{field}-on") or 0.0,
            under=_names(row["under"]),
            scrap=row["scrap"] == "yes",
            trials=trials,
            sold_h=typed_hours(row["sold"], f"{field}-sold"),
        )

    operations = made(rows["operation"], "operation", operation)
    return made_of(
        HoursSaid,
        "",
        operations=tuple(
            operation for operation in operations if operation.name not in following or _says_something(operation)
        ),
        parts=made(rows["part"], "part", part),
        promised=typed.get("promised", "").strip(),
    )


def hour_rows(work: JobWork) -> dict[str, list[Row]]:
    """Return the rows of the form as they stand: what follows from the job, and what was said."""
    said_by_part = {part.name: part for part in work.said.parts}
    parts = [row.part for row in work.rows if row.part is not None]
    listed = {part.id for part in parts}
    parts += [hours_of(part) for part in work.said.parts if part.name not in listed]
    return {
        "operation": [_operation_row(row) for row in work.rows if row.part is None and row.hours]
        + [_left_row(operation) for operation in work.said.operations if operation.left_out],
        "part": [_part_row(part, said_by_part.get(part.id)) for part in parts],
    }


def _operation_row(row: WorkRow) -> Row:
    return {
        "name": row.name,
        "hours": plain(row.hours),
        "sold": _hours(row.sold_h),
        "off": ", ".join(row.needs_off),
        "left": "",
    }


def _left_row(operation: OperationSaid) -> Row:
    return {
        "name": operation.name,
        "hours": _hours(operation.hours),
        "sold": _hours(operation.sold_h),
        "off": "",
        "left": "yes",
    }


def _part_row(part: PartHours, said: PartSaid | None) -> Row:
    return {
        "name": part.id,
        "off": plain(part.off_h),
        "on": plain(part.on_h),
        "under": ", ".join(part.under),
        "scrap": "yes" if part.scrap else "",
        "trials": str(said.trials if said else part.trials),
        "sold": _hours(said.sold_h if said else None),
    }


def typed_hours(text: str, field: str) -> float | None:
    """Return hours as they were typed, 2.5 or 2:30, or none where nothing was. Raises `Refused`."""
    plain_text = text.strip().replace(",", ".").removesuffix("h").strip()
    if not plain_text:
        return None
    clock = _CLOCK.fullmatch(plain_text)
    if clock:
        return int(clock[1]) + int(clock[2]) / 60
    try:
        hours = float(plain_text)
    except ValueError:
        raise Refused("Hours are a number, such as 2.5 or 2:30.", field=field, value=text[:40]) from None
    if not 0 <= hours <= 1000:
        raise Refused("Hours are 0 to 1000.", field=field, value=text[:40])
    return hours


def _says_something(operation: OperationSaid) -> bool:
    return operation.left_out or not (
        operation.hours is None and operation.sold_h is None and operation.needs_off is None
    )


def _names(text: str) -> tuple[str, ...]:
    return tuple(dict.fromkeys(name for piece in text.split(",") if (name := " ".join(piece.split()))))


def _hours(value: float | None) -> str:
    return "" if value is None else plain(value)
