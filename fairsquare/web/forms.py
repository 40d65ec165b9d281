"""Fields that more than one station's forms have: the unit of a call, the set-up it speaks of, what was moved."""

from typing import cast

from fastapi import Request, Response

from fairsquare.core.errors import Refused
from fairsquare.core.lengths import MM_PER, Unit
from fairsquare.core.sheet.model import Sheet
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.moves import MOVES, SIMPLE
from fairsquare.web.page import Form
from fairsquare.web.times import shop_of

MOVED = {what: MOVES[what].title for what in SIMPLE}
LONGEST_KEPT_S = 14 * 24 * 3600.0
"""What a tablet kept for longer is recorded as that old."""


def unit_of(text: str) -> Unit:
    """Return the unit of a form's field, mm where it names none."""
    return cast(Unit, text) if text in MM_PER else "mm"


def call_unit_of(request: Request) -> Unit:
    """Return the unit of bare numbers that are called: as it was said last here, else as the shop shows lengths."""
    return unit_of(request.cookies.get("call_unit") or shop_of(request).units)


def remember_unit(answer: Response, unit: Unit) -> Response:
    """Remember the unit in which calls are made."""
    answer.set_cookie("call_unit", unit, max_age=60 * 60 * 24 * 365, samesite="lax", httponly=True)
    return answer


def setup_number(form: Form) -> int:
    """Return the set-up that a form speaks of."""
    return whole(form.text("setup"), "setup")


def setup_or_none(form: Form) -> int | None:
    """Return the set-up that a form speaks of, or none: spans need none."""
    return setup_number(form) if form.text("setup") else None


def called_ago(form: Form) -> float | None:
    """Return how many seconds before it was sent a call was made, where the page had to keep it; else none."""
    sent = figures(form.text("called_ago_ms"), 15)
    if sent is None:
        return None
    seconds = sent / 1000
    return min(seconds, LONGEST_KEPT_S) if seconds >= 1 else None


def whole(text: str, field: str) -> int:
    """Return a whole number. Raises `Refused` that names the field."""
    numbers = figures(text)
    if numbers is None:
        raise Refused("This should be a whole number: load the page anew.", field=field, value=text[:40])
    return numbers


def figures(text: str, most: int = 18) -> int | None:
    """Return the number of a text that is figures alone, 0 to 9, and no more of them than said; None for anything else.

    What Python takes for a digit is more than that: “²” is one to `str.isdigit`, and no number to `int`.
    """
    return int(text) if text.isascii() and text.isdigit() and len(text) <= most else None


def hours_of(text: str) -> float | None:
    """Return hours as they were typed, or none. Raises `Refused`."""
    plain_text = text.strip().replace(",", ".")
    if not plain_text:
        return None
    try:
        return float(plain_text)
    except ValueError:
        raise Refused("Hours as a number, such as 2.5.", field="hours", value=text[:40]) from None


def photos_of(facts: JobFacts, about: str) -> dict[int, list[int]]:
    """Return the photos of each finding, member, line or part, by its id."""
    photos: dict[int, list[int]] = {}
    for photo in facts.photos:
        if photo.about == about and photo.about_id is not None:
            photos.setdefault(photo.about_id, []).append(photo.id)
    return photos


def number_of(text: str, field: str) -> float | None:
    """Return a number as it was typed, comma or point, or none where nothing was. Raises `Refused`."""
    plain_text = text.strip().replace(",", ".").replace("−", "-")
    if not plain_text:
        return None
    try:
        value = float(plain_text)
    except ValueError:
        raise Refused("This should be a number, such as 12.5.", field=field, value=text[:40]) from None
    if not -1e12 < value < 1e12:
        raise Refused("This should be a number, such as 12.5.", field=field, value=text[:40])
    return value


def code_on(sheet: Sheet | None, text: str) -> str:
    """Return a code as the sheet writes it, whatever its capitals; as it was typed where the sheet has none such."""
    plain_text = text.strip()
    known = {point.code.casefold(): point.code for point in sheet.points} if sheet else {}
    return known.get(plain_text.casefold(), plain_text)
