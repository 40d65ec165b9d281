"""The page of rows that are typed: what was typed stands in it again beside what is wrong with it."""

from collections.abc import Mapping
from typing import Any

from fastapi import Request, Response

from fairsquare.actions.desk import JobView
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError
from fairsquare.store.people import Session
from fairsquare.web.page import render
from fairsquare.web.rows import Row, field_words, typed_rows

BLANK, MORE = 3, 12
"""How many empty rows stand below each kind, and how many when more are asked for."""


def asks_for_more(typed: Mapping[str, str]) -> bool:
    """Say whether the form asks for more rows, and not to be kept yet."""
    return typed.get("do") == "more"


def row_page(
    request: Request,
    session: Session,
    template: str,
    view: JobView,
    at: str,
    kinds: dict[str, tuple[str, ...]],
    rows: dict[str, list[Row]],
    fault: FairSquareError | None,
    typed: dict[str, str] | None,
    wrong: str,
    **context: Any,
) -> Response:
    """Return the page of rows of these `kinds`: as they were typed, else as they were said; `wrong` is the field at fault."""
    return render(
        request,
        template,
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at=at,
        rows=typed_rows(typed, kinds) if typed else rows,
        blank=MORE if typed and asks_for_more(typed) else BLANK,
        wrong_field=wrong,
        wrong_words=field_words(wrong),
        **context,
    )
