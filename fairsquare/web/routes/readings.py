"""What opens from measuring: why a point is judged as it is, the reading worth taking next, and settings to print."""

import numpy as np
from fastapi import APIRouter, Depends, Request, Response
from fastapi.responses import HTMLResponse
from markupsafe import Markup

from fairsquare.actions import Unsure
from fairsquare.actions.spine import spine
from fairsquare.core.sheet.model import find_point, partner_code, points_by_code, tolerances
from fairsquare.core.sheet.spans import SheetSpans, sheet_spans
from fairsquare.job.measure.advice import advise
from fairsquare.job.measure.counted import counting
from fairsquare.store.people import Session
from fairsquare.web.page import desk_of, drawn_once, part, render, signed_in, tools_of

router = APIRouter()


@router.get("/jobs/{number}/why/{code}")
def why(request: Request, number: str, code: str, session: Session = Depends(signed_in)) -> Response:
    """Open the figures of one point into their reason: readings, fit, rule, source, what would change them."""
    view = desk_of(request).view(number)
    if view.facts.sheet is None:
        raise Unsure("There is no sheet yet.")
    point = find_point(points_by_code(view.facts.sheet), code, "code")
    picture = view.state.picture
    placed = picture.placed.get(code) if picture else None
    return render(
        request,
        "why.html",
        session,
        view=view,
        spine=spine(view),
        at="measure",
        point=point,
        limits=tolerances(view.facts.sheet, point),
        picture=picture,
        placed=placed,
        sigmas=[float(np.sqrt(placed.covariance[k][k])) for k in range(3)] if placed else None,
        judged=picture.judged.get(code) if picture else None,
        readings=[r for r in view.facts.readings if code in r.codes],
        kept={reading.id for reading in counting(view.facts.readings)},
        used=set(picture.used.get(code, ())) if picture else set(),
        fits=picture.joined.readings if picture and picture.joined else {},
    )


@router.get("/jobs/{number}/measure/next", dependencies=[Depends(signed_in)])
def next_reading(request: Request, number: str) -> Response:
    """Say which reading would help most, with the tools that the shop owns."""
    view = desk_of(request).view(number)
    picture, sheet = view.state.picture, view.facts.sheet
    tools = tools_of(request)

    def make() -> Markup:
        advice = advise(view.facts, picture, sheet, tools) if picture and sheet else None
        return part("parts/next_reading.html", advice=advice)

    return HTMLResponse(drawn_once(request, ("next", view.job.id, view.job.revision, tools), make))


@router.get("/jobs/{number}/settings")
def settings(request: Request, number: str, session: Session = Depends(signed_in)) -> Response:
    """Show tram and gauge settings by the sheet, to print: set before a part goes in, they serve as a fixture for it."""
    view = desk_of(request).view(number)
    sheet = view.facts.sheet
    if sheet is None:
        raise Unsure("There is no sheet yet: settings are worked out from it.")
    points = points_by_code(sheet)
    across = [
        (code, other)
        for code, p in points.items()
        if code.endswith("L") and (other := partner_code(p)) and other in points
    ]
    asked = tuple(dict.fromkeys([*((span.a, span.b) for span in sheet.spans), *across]))
    spans = sheet_spans(SheetSpans(sheet=sheet, pairs=asked)).spans
    stations = [(points[a], points[b]) for a, b in sorted(across, key=lambda pair: -points[pair[0]].xyz[0])]
    return render(
        request,
        "settings.html",
        session,
        view=view,
        spine=spine(view),
        at="measure",
        spans=spans,
        stations=stations,
        lowest=min((p.xyz[2] for p in points.values()), default=0.0),
    )
