"""Hours that were worked: sums by hand, and two people of one name who are two."""

import pytest

from fairsquare.core.who import Who
from fairsquare.job.facts.hours import WorkFact
from fairsquare.job.plan.worked import by_operation, by_person


def worked(number: int, name: str, person: int | None, operation: str, since: str, until: str | None) -> WorkFact:
    by = Who(name=name, role="technician", at=f"2026-11-20T{since}:00Z")
    return WorkFact(
        id=number, operation=operation, by=by, person=person, ended_at=f"2026-11-20T{until}:00Z" if until else None
    )


WORK = (
    worked(1, "Ada Holm", 7, "Measure", "08:00", "09:30"),
    worked(2, "Ada Holm", 9, "Measure", "08:00", "08:15"),
    worked(3, "Ada Holm", 7, "Weld", "10:00", "10:30"),
    worked(4, "Ida Holm", 4, "Weld", "10:00", "12:00"),
    worked(5, "Ada Holm", 9, "Weld", "13:00", None),
    worked(6, "Ada Holm", None, "Measure", "08:00", "08:30"),
)


def test_two_of_one_name_are_two() -> None:
    assert by_person(WORK) == pytest.approx(
        {"Ida Holm": 2.0, "Ada Holm": 2.0, "Ada Holm (2)": 0.25, "Ada Holm (3)": 0.5}
    )
    assert by_operation(WORK)["Measure"] == pytest.approx({"Ada Holm": 1.5, "Ada Holm (2)": 0.25, "Ada Holm (3)": 0.5})
    assert by_operation(WORK)["Weld"] == pytest.approx({"Ada Holm": 0.5, "Ida Holm": 2.0})


def test_what_was_called_otherwise_before_is_one_operation() -> None:
    old = worked(1, "Ada Holm", 7, "Goes with right rail", "08:00", "09:00")
    new = worked(2, "Ada Holm", 7, "Off first for right rail", "09:00", "09:30")
    assert by_operation((old, new)) == {"Off first for right rail": {"Ada Holm": 1.5}}
