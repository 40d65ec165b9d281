"""Signing in: name and password, then a second factor where the person has one; refused for a while after many failures."""

from fairsquare.core.errors import FairSquareError
from fairsquare.security_log import security
from fairsquare.store import people, second_factor
from fairsquare.store.database import Database
from fairsquare.store.people import Person, SignInRefused, TooManyTries

_CODES_AN_HOUR = 20
"""Of a million codes three are right at any time: 20 an hour find one within a year with a chance of two in five, and each
of them stands in the log."""


class SecondFactorFirst(FairSquareError):
    """Who signs in with this role has to have a second factor, and has none."""

    status = 403
    kind = "second-factor"

    def __init__(self) -> None:
        super().__init__(
            "In this shop leads sign in with a second factor: set yours up under “Your sign-in” before anything else."
        )


def check_sign_in(database: Database, name: str, password: str, address: str, tries: int) -> Person:
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
    return person


def asks_second(database: Database, person: Person) -> bool:
    """Return whether a person has a second factor."""
    second = database.run(lambda c: second_factor.second_factor(c, person.id))
    return second is not None and second.confirmed


def check_second(database: Database, person: Person, code: str, address: str, tries: int) -> None:
    """Raise `SignInRefused` unless the code is that of the person's telephone now, or one on paper; `TooManyTries` after many."""
    own = database.run(lambda c: people.begin_try(c, person.name, address, second=True))
    often = database.run(lambda c: people.failed_codes(c, person.name)) > max(_CODES_AN_HOUR, tries)
    if often or database.run(lambda c: people.failed_tries(c, person.name, address)) > tries:
        database.run(lambda c: people.end_try(c, own, succeeded=False))
        security("sign-in too often", name=person.name, address=address, second=True)
        raise TooManyTries("Too many codes were wrong. Wait, then try again.", field="code")
    if not database.run(lambda c: second_factor.code_is_right(c, person.id, code)):
        security("second factor refused", name=person.name, address=address)
        raise SignInRefused(
            "That is not the code of now: wait for the next one, or take one of your codes on paper.", field="code"
        )
    database.run(lambda c: people.end_try(c, own, succeeded=True))


def signed_in(person: Person, address: str) -> None:
    """Say that a person is signed in, where it is looked up."""
    security("signed in", name=person.name, address=address)
