"""Sheets of few points: one that has none is refused, and no page breaks on one that has hardly any."""

import pytest

from fairsquare.actions import measuring
from fairsquare.core.errors import Refused, UnknownCode
from fairsquare.core.sheet.model import Point, Sheet, Span
from fairsquare.store.jobs import JobDetails
from tests.conftest import key
from tests.web.test_fuzz import PAGES
from tests.web.test_job import make_safe

AT = {
    "alone": [(0.0, 0.0, 0.0)],
    "twice": [(500.0, 300.0, 20.0)] * 2,
    "in a row": [(0.0, 0.0, 0.0), (900.0, 0.0, 0.0), (1800.0, 0.0, 0.0)],
}


def sheet_of(places: list[tuple[float, float, float]]) -> Sheet:
    points = tuple(Point(code=f"P{k}L", name="", xyz=xyz, reference=True) for k, xyz in enumerate(places))
    return Sheet(name="small", construction="ladder", points=points)


@pytest.mark.parametrize("places", AT.values(), ids=AT)
def test_no_page_breaks_on_a_sheet_of_few_points(as_role, desk, persons, places) -> None:
    job = desk.open_job(persons["lead"], key(), JobDetails(vehicle="Sandpiper launch trailer"))
    lead = as_role("lead")
    make_safe(lead, job)
    desk.accept_sheet(persons["lead"], key(), job, sheet_of(places), {}, "small.csv")
    measuring.open_setup(desk, persons["lead"], key(), job, "3-D instrument", 0.3)
    statuses = {page: lead.http.get(f"/jobs/{job}/{page}").status_code for page in PAGES}
    assert {page: status for page, status in statuses.items() if status != 200} == {}


def test_a_span_to_a_point_that_is_not_there_is_refused_and_nothing_is_accepted(desk, persons) -> None:
    job = desk.open_job(persons["lead"], key(), JobDetails(vehicle="Sandpiper launch trailer"))
    own = sheet_of(AT["in a row"])
    for b, fault in (("X9", UnknownCode), ("P0L", Refused)):
        astray = own.model_copy(update={"spans": (Span(a="P0L", b=b, mode="point_to_point", mm=100.0),)})
        with pytest.raises(fault) as refused:
            desk.accept_sheet(persons["lead"], key(), job, astray, {}, "small.csv")
        assert refused.value.field == "sheet.spans.0.b"
    assert desk.view(job).facts.sheet is None


def test_a_sheet_without_a_point_is_refused(desk, persons) -> None:
    job = desk.open_job(persons["lead"], key(), JobDetails(vehicle="Sandpiper launch trailer"))
    with pytest.raises(Refused, match="has no point") as refused:
        desk.accept_sheet(persons["lead"], key(), job, sheet_of([]), {}, "small.csv")
    assert refused.value.field == "points"
