"""The page of rows that are typed of a section: its strip, or its welds."""

from typing import Any

from fastapi import Request, Response

from fairsquare.actions.cutting import section_of
from fairsquare.actions.desk import JobView
from fairsquare.core.errors import FairSquareError
from fairsquare.job.cut.job import SectionState
from fairsquare.store.people import Session
from fairsquare.web.page import desk_of
from fairsquare.web.row_editor import row_page
from fairsquare.web.rows import Row
from fairsquare.web.section_forms import form_field
from fairsquare.web.words import MATERIALS


def seen_section(request: Request, number: str, section: int) -> tuple[JobView, SectionState]:
    """Return a job and one of its sections."""
    view = desk_of(request).view(number)
    return view, section_of(view, section)


def editor(
    request: Request,
    session: Session,
    template: str,
    at: tuple[JobView, SectionState],
    kinds: dict[str, tuple[str, ...]],
    rows: dict[str, list[Row]],
    fault: FairSquareError | None,
    typed: dict[str, str] | None,
    **context: Any,
) -> Response:
    """Return the page of rows of these `kinds`: as they were typed, else as they were said."""
    view, state = at
    wrong = form_field(fault.field, typed or {}) if fault else ""
    return row_page(
        request,
        session,
        template,
        view,
        "cuts",
        kinds,
        rows,
        fault,
        typed,
        wrong,
        state=state,
        materials={"": "of what?", **MATERIALS},
        **context,
    )
