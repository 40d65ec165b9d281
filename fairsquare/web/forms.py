"""Fields that more than one station's forms have: the unit of a call, the set-up it speaks of, what was moved."""

from typing import cast

from fastapi import Response

from fairsquare.core.errors import Refused
from fairsquare.core.lengths import MM_PER, Unit
from fairsquare.web.page import Form

MOVED = {"vehicle": "the vehicle", "bench": "the bench", "bridge": "the measuring bridge", "structure": "the structure"}


def unit_of(text: str) -> Unit:
    """Return the unit of a form's field, mm where it names none."""
    return cast(Unit, text) if text in MM_PER else "mm"


def remember_unit(answer: Response, unit: Unit) -> Response:
    """Remember the unit in which calls are made."""
    answer.set_cookie("call_unit", unit, max_age=60 * 60 * 24 * 365, samesite="lax", httponly=True)
    return answer


def setup_number(form: Form) -> int:
    """Return the set-up that a form speaks of."""
    return whole(form.text("setup"), "setup")


def whole(text: str, field: str) -> int:
    """Return a whole number. Raises `Refused` that names the field."""
    if not text.isdigit() or len(text) > 18:
        raise Refused("This should be a whole number: load the page anew.", field=field, value=text[:40])
    return int(text)
