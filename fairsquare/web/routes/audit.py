"""Who did what: every deed, by person, by day, by job or by words."""

import datetime

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.job.deeds import beginnings, told
from fairsquare.store import audit, people
from fairsquare.store.people import Session
from fairsquare.web.page import desk_of, render, signed_in
from fairsquare.web.times import shown_time, zone_of

router = APIRouter()
PAGE = 100


@router.get("/audit")
def show(
    request: Request,
    q: str = "",
    person: str = "",
    day: str = "",
    page: int = 1,
    session: Session = Depends(signed_in),
) -> Response:
    """Show who did what, the newest first, a hundred a page."""
    page, zone = max(1, min(page, 100_000)), zone_of(request)
    database, fault, since, until = desk_of(request).database, None, "", ""
    try:
        if day:
            since, until = _of_day(day, zone)
    except FairSquareError as wrong:
        fault = wrong
    words = q.strip()
    read = database.run(
        lambda c: audit.deeds(
            c,
            words=words,
            beginnings=beginnings(words) if words else None,
            person=person,
            since=since,
            until=until,
            most=PAGE + 1,
            skip=(page - 1) * PAGE,
        )
    )
    return render(
        request,
        "audit.html",
        session,
        fault=fault,
        entries=[(row, told(row.purpose)) for row in read[:PAGE]],
        more=len(read) > PAGE,
        q=q,
        who=person,
        day=day,
        page=page,
        people=database.run(people.people),
        time=lambda moment: shown_time(moment, zone),
    )


def _of_day(day: str, zone: datetime.tzinfo) -> tuple[str, str]:
    try:
        first = datetime.datetime.combine(datetime.date.fromisoformat(day), datetime.time(), zone)
    except ValueError:
        raise Refused("A day is written like 2026-11-26.", field="day", value=day[:20]) from None
    after = datetime.datetime.combine(first.date() + datetime.timedelta(days=1), datetime.time(), zone)
    return tuple(f"{moment.astimezone(datetime.UTC):%Y-%m-%d %H:%M:%S}" for moment in (first, after))  # type: ignore[return-value]
