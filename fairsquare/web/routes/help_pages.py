"""The page of shortcuts and words, and the API's pages, served from files of ours."""

from fastapi import APIRouter, Depends, Request, Response

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.store.people import Session
from fairsquare.web.page import render, signed_in

router = APIRouter()


@router.get("/help")
def show(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show shortcuts, signs and words."""
    return render(request, "help.html", session, room="help")


@router.get("/api/docs")
def api_docs(request: Request) -> Response:
    """Show the API, by Swagger UI from files of ours."""
    return render(request, "api_docs.html", None)


@router.get("/calculations")
def calculations(request: Request, session: Session = Depends(signed_in)) -> Response:
    """Show the catalogue of calculations with their schemas."""
    return render(request, "calculations.html", session, catalogue=CATALOGUE, room="calculations")
