"""Signing in by name and password, with a wait after too many failures."""

from fairsquare.security_log import security
from fairsquare.store import people
from fairsquare.store.database import Database
from fairsquare.store.people import SignInRefused, TooManyTries


def check_sign_in(database: Database, name: str, password: str, address: str, tries: int) -> people.Person:
    """Return the person of that name and password. Raises `SignInRefused` and `TooManyTries`."""
    own = database.run(lambda c: people.begin_try(c, name, address))
    if database.run(lambda c: people.failed_tries(c, name, address)) > tries:
        database.run(lambda c: people.end_try(c, own, succeeded=False))
        security("sign-in too often", name=name[:80], address=address)
        raise TooManyTries("Too many tries. Wait five minutes, then sign in again.", field="name", value=name[:80])
    person = database.run(lambda c: people.find_by_password(c, name, password))
    if person is None:
        security("sign-in refused", name=name[:80], address=address)
        raise SignInRefused("Name and password do not go together. Try again.", field="password")
    database.run(lambda c: people.end_try(c, own, succeeded=True))
    security("signed in", name=person.name, address=address)
    return person
