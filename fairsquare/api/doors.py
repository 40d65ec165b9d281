"""What every route of the API asks for: the desk, and the person of the bearer token."""

from typing import Annotated

from fastapi import Depends, Request
from fastapi.security import HTTPAuthorizationCredentials, HTTPBearer

from fairsquare.actions import Desk
from fairsquare.store.people import Person, Session

_bearer = HTTPBearer(auto_error=False, description="the token that /session gave")


def _desk(request: Request) -> Desk:
    desk: Desk = request.app.state.desk
    return desk


def _person(request: Request, given: Annotated[HTTPAuthorizationCredentials | None, Depends(_bearer)]) -> Person:
    """Return the person that was let in at the door; the credentials are there for the API's description of itself."""
    del given
    session: Session = request.state.session
    return session.person


At = Annotated[Desk, Depends(_desk)]
By = Annotated[Person, Depends(_person)]
