"""The floor: the jobs that are open, what each waits for, and the search."""

import datetime

from fastapi import APIRouter, Depends, Request, Response
from markupsafe import Markup

from fairsquare.actions import JobView
from fairsquare.actions.desk import number_of, of_each
from fairsquare.actions.spine import Waits, spine, waits
from fairsquare.drawings.spine import lying_spine
from fairsquare.store import clocks, shop, work
from fairsquare.store.people import Session
from fairsquare.store.search import MOST_COUNTED
from fairsquare.web.page import desk_of, render, signed_in

router = APIRouter()
PAGE = 20
_FIRST = {"work": 0, "sign": 1, "done": 2, "blocked": 3, "waits": 4}


@router.get("/")
def show(
    request: Request, q: str = "", page: int = 1, closed: bool = False, session: Session = Depends(signed_in)
) -> Response:
    """Show the open jobs, twenty a page, what can be worked on now first; `q` searches, `closed` shows those done with."""
    page = max(1, min(page, 100_000))
    views, many, unread = desk_of(request).views(q[:200], PAGE, (page - 1) * PAGE, closed=closed)
    rows, broken = of_each(views, _row, number_of)
    rows.sort(key=lambda row: (_FIRST[row[1].mood], row[1].due_at or "9999"))
    database = desk_of(request).database
    _, said = database.run(shop.said)
    working: dict[str, list[str]] = {}
    for clock in database.run(work.going_on):
        working.setdefault(clock.job, []).append(f"{clock.name}: {clock.operation}")
    return render(
        request,
        "parts/floor_jobs.html" if request.headers.get("hx-request") else "floor.html",
        session,
        rows=rows,
        many=many,
        broken=[*unread, *(view.job for view in broken)],
        q=q,
        page=page,
        closed=closed,
        pages=max(1, -(-many // PAGE)),
        working=working,
        clocks={clock.job: clock for clock in reversed(database.run(clocks.running))},
        next_hold=lambda view: next((hold for hold in view.state.holds if hold.status != "closed"), None),
        rack=said.at("set-up").place or "rack",
        racks={place.name: place.many for place in said.places},
        on_rack=[row[0].job.details.vehicle for row in rows if row[0].setup],
        now=datetime.datetime.now(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ"),
        most_counted=MOST_COUNTED,
        can_work=sum(row[1].mood in ("work", "sign") for row in rows),
    )


def _row(view: JobView) -> tuple[JobView, Waits, Markup]:
    return view, waits(view), lying_spine([(stop.kind, stop.title, stop.status) for stop in spine(view)])
