"""Where a vehicle stands on its wheels: how its axles stand, and the form to read them."""

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.actions import stance
from fairsquare.actions.spine import spine
from fairsquare.core.errors import FairSquareError
from fairsquare.core.lengths import read_length
from fairsquare.core.stance import leans_by
from fairsquare.job.facts.stance import stances
from fairsquare.job.stations.stance import wants
from fairsquare.store.people import Session
from fairsquare.web.again import shown_again
from fairsquare.web.page import Form, desk_of, go_to, job_path, render, sent_form, signed_in

router = APIRouter()
DOORS = {"see a job": ("GET /jobs/{number}/stance",), "finish": ("POST /jobs/{number}/stance",)}


@router.get("/jobs/{number}/stance")
def show(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show how the axles stand."""
    return _page(request, session, number)


def _page(
    request: Request,
    session: Session,
    number: str,
    *,
    fault: FairSquareError | None = None,
    typed: dict[str, str] | None = None,
) -> Response:
    view = desk_of(request).view(number)
    return render(
        request,
        "stance.html",
        session,
        fault=fault,
        typed=typed,
        view=view,
        spine=spine(view),
        at="stance",
        read=[(one, leans_by(one.left_mm, one.right_mm)) for one in stances(view.facts).values()],
        wants=wants(view.facts),
    )


@router.post("/jobs/{number}/stance")
@shown_again(_page)
def read(request: Request, number: str, form: Form = Depends(sent_form)) -> Response:
    """Record how an axle stands."""
    left, right = (float(read_length(form.text(side), field=side).mm) for side in ("left", "right"))
    stance.read(desk_of(request), form.session.person, form.key, number, form.text("axle"), left, right)
    return go_to(job_path(number, "stance"))
