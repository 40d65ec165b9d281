"""How a job went, and how all of the shop's did: what the next plan takes from the shop's own past."""

import math

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import learning
from fairsquare.actions.spine import spine
from fairsquare.drawings.went import WIDTH, DotRow, first_and_last, hours_by_operation, hours_waited, job_by_job
from fairsquare.job.plan.operations import OPERATION_KINDS
from fairsquare.job.stations import HELD_UP
from fairsquare.job.went import PLACES, JobWent, Past, share_of
from fairsquare.store.people import Session
from fairsquare.web.page import desk_of, render, signed_in, units_of
from fairsquare.web.room import drawing_px
from fairsquare.web.words import CONSTRUCTIONS
from fairsquare.words.lengths import length

router = APIRouter()
_SHOWN = 200


@router.get("/jobs/{number}/went")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show how a job went, or goes so far."""
    view, units = desk_of(request).view(number), units_of(request)
    went = learning.how_it_went(view)
    places = [(place, [spring for spring in went.springs if spring.place == place]) for place in PLACES]
    return render(
        request,
        "went.html",
        session,
        view=view,
        spine=spine(view),
        at="record",
        went=went,
        springs=[(place, own, share_of(own)) for place, own in places if own],
        points=first_and_last(went.points, lambda mm: length(mm, units), min(drawing_px(request), WIDTH)),
        hours=hours_by_operation(went.hours, min(drawing_px(request), WIDTH)),
        waits=hours_waited([(wait.words, wait.hours, 1) for wait in went.waits], min(drawing_px(request), WIDTH)),
        stations=HELD_UP,
    )


@router.get("/past")
def past(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show how all jobs went, and what that says of the next."""
    whole = learning.whole_past(desk_of(request))
    jobs = sorted(whole.jobs, key=lambda job: job.released_at, reverse=True)
    return render(
        request,
        "past.html",
        session,
        jobs=jobs[:_SHOWN],
        many=len(jobs),
        shares=job_by_job(_share_rows(whole), "what the frame says", min(drawing_px(request), WIDTH)),
        times=job_by_job(_time_rows(whole), "the usual hours", min(drawing_px(request), WIDTH)),
        waits=hours_waited(
            learning.waited_for(wait for job in jobs for wait in job.waits), min(drawing_px(request), WIDTH)
        ),
        sums=_sums(jobs),
    )


def _share_rows(past: Past) -> list[DotRow]:
    rows = []
    for construction, name in CONSTRUCTIONS.items():
        for place in PLACES:
            learned = past.share(construction, place)
            if learned is not None:
                expected = (max(0.05, learned.mean - learned.sigma), learned.mean, learned.mean + learned.sigma)
                rows.append(DotRow(f"{name}, {place}", past.shares(construction, place), expected))
    return rows


def _time_rows(past: Past) -> list[DotRow]:
    rows = []
    for kind, name in OPERATION_KINDS.items():
        learned = past.hours(kind)
        if learned is not None:
            times = math.exp(learned.sigma)
            rows.append(DotRow(name, past.times(kind), (learned.mean / times, learned.mean, learned.mean * times)))
    return rows


def _sums(jobs: list[JobWent]) -> dict[str, float]:
    return {
        "sold": sum(job.sold_h for job in jobs),
        "worked": sum(job.worked_h for job in jobs),
        "first": sum(job.off[0] for job in jobs),
        "last": sum(job.off[1] for job in jobs),
        "cycles": sum(len(job.springs) for job in jobs),
        "waited": sum(wait.hours for job in jobs for wait in job.waits),
    }
