"""The page of rows that are typed: a strip, or welds. What was typed stands in it again beside what is wrong with it."""

from typing import Any

from fastapi import Request, Response

from fairsquare.actions.cutting import section_of
from fairsquare.actions.desk import JobView
from fairsquare.actions.spine import spine
from fairsquare.core.cut.job import SectionState
from fairsquare.core.errors import FairSquareError
from fairsquare.store.people import Session
from fairsquare.web.page import desk_of, render
from fairsquare.web.rows import Row, field_words, typed_rows
from fairsquare.web.section_forms import form_field
from fairsquare.web.words import MATERIALS

_BLANK, _MORE = 3, 12
"""How many empty rows stand below each kind, and how many when more are asked for."""


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
    return render(
        request,
        template,
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="cuts",
        state=state,
        rows=typed_rows(typed, kinds) if typed else rows,
        blank=_MORE if typed and typed.get("do") == "more" else _BLANK,
        wrong_field=wrong,
        wrong_words=field_words(wrong),
        materials=MATERIALS,
        **context,
    )
