"""What every route of the API asks for: the desk, and the person of the bearer token."""

from typing import Annotated

from fastapi import Depends, Request
from fastapi.security import HTTPAuthorizationCredentials, HTTPBearer

from fairsquare.actions import Desk
from fairsquare.actions.practice import as_in_practice, is_practice
from fairsquare.store import people
from fairsquare.store.people import Person, SignInRefused

_bearer = HTTPBearer(auto_error=False, description="the token that /session gave")


def _desk(request: Request) -> Desk:
    desk: Desk = request.app.state.desk
    return desk


def _person(request: Request, given: Annotated[HTTPAuthorizationCredentials | None, Depends(_bearer)]) -> Person:
    token = given.credentials if given else ""
    session = token and _desk(request).database.run(lambda c: people.find_session(c, token, "token"))
    if not session:
        raise SignInRefused(
            "Sign in first: POST /api/v1/session gives a token; send it as Authorization: Bearer TOKEN."
        )
    request.state.person = session.person.name
    number = request.path_params.get("number", "")
    if is_practice(number):
        request.app.state.yard.look(number)
        return as_in_practice(session.person)
    return session.person


At = Annotated[Desk, Depends(_desk)]
By = Annotated[Person, Depends(_person)]
