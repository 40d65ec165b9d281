"""Which role may do what. An apprentice may read and measure, and sign or decide nothing."""

from typing import Literal

from fairsquare.core.errors import FairSquareError
from fairsquare.core.who import Role
from fairsquare.store.people import Person

Deed = Literal[
    "take in",
    "walk round",
    "estimate",
    "find more",
    "send supplement",
    "go ahead",
    "check parts in",
    "answer safety",
    "accept sheet",
    "measure",
    "decide",
    "sign",
    "make record",
    "close",
    "manage people",
    "say hours",
    "work",
    "note wait",
    "say shop",
    "plan day",
]

_MAY: dict[Deed, frozenset[Role]] = {
    "take in": frozenset({"technician", "lead", "estimator"}),
    "walk round": frozenset({"technician", "lead", "estimator", "apprentice"}),
    "estimate": frozenset({"lead", "estimator"}),
    "find more": frozenset({"technician", "lead", "estimator"}),
    "send supplement": frozenset({"lead", "estimator"}),
    "go ahead": frozenset({"lead"}),
    "check parts in": frozenset({"technician", "lead", "estimator", "apprentice"}),
    "answer safety": frozenset({"technician", "lead"}),
    "accept sheet": frozenset({"technician", "lead", "estimator"}),
    "measure": frozenset({"technician", "lead", "apprentice"}),
    "decide": frozenset({"technician", "lead"}),
    "sign": frozenset({"technician", "lead"}),
    "make record": frozenset({"technician", "lead", "estimator"}),
    "close": frozenset({"lead"}),
    "manage people": frozenset({"lead"}),
    "say hours": frozenset({"technician", "lead", "estimator"}),
    "work": frozenset({"technician", "lead", "apprentice"}),
    "say shop": frozenset({"lead"}),
    "plan day": frozenset({"lead", "estimator"}),
    "note wait": frozenset({"technician", "lead", "estimator", "apprentice"}),
}
_WORDS: dict[Deed, str] = {
    "take in": "Vehicles are taken in",
    "walk round": "What is seen is noted",
    "estimate": "Value and cost are weighed",
    "find more": "Supplement lines are raised",
    "send supplement": "Supplements are sent and answers recorded",
    "go ahead": "Work without the payer's word is let go on",
    "check parts in": "Parts are checked in",
    "answer safety": "The made-safe list is answered",
    "accept sheet": "Sheets are accepted",
    "measure": "Readings are taken",
    "decide": "This is decided",
    "sign": "Hold points are signed",
    "make record": "Records are made",
    "close": "Jobs are closed and opened again",
    "manage people": "People are managed",
    "say hours": "Hours are planned and sold",
    "work": "Work is clocked",
    "say shop": "What the shop has is said",
    "plan day": "The day is planned",
    "note wait": "What a job waits for is noted",
}


class NotYours(FairSquareError):
    """The person's role does not allow it."""

    status = 403
    kind = "not-yours"


def may(person: Person, deed: Deed) -> bool:
    """Return whether the person's role allows the deed."""
    return person.role in _MAY[deed]


def roles_that_may(deed: Deed) -> frozenset[Role]:
    """Return the roles that may do a deed."""
    return _MAY[deed]


def check_may(person: Person, deed: Deed) -> None:
    """Raise `NotYours`, in words, when the person's role does not allow the deed."""
    if not may(person, deed):
        who = " or a ".join(sorted(_MAY[deed], reverse=True))
        raise NotYours(f"{_WORDS[deed]} by a {who}; you are signed in as {person.role}.")
