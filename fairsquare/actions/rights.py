"""The table of deeds: which role may do what, and what practice has. docs/roles.md is written from it, and a test holds both."""

from typing import Literal, NamedTuple

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
    "judge readings",
    "decide",
    "plan pulls",
    "pull",
    "stop a pull",
    "open welds",
    "fit up",
    "weld",
    "finish",
    "run clocks",
    "sign",
    "make record",
    "close",
    "manage people",
    "say hours",
    "work",
    "note wait",
    "say shop",
    "plan day",
    "keep tools",
    "keep keys",
    "practise",
]


class Right(NamedTuple):
    """Who may do a deed, whether practice has it, and what it is, as a sentence that goes on with “by a …”."""

    roles: frozenset[Role]
    practised: bool
    words: str


_ALL: frozenset[Role] = frozenset({"technician", "lead", "estimator", "apprentice"})
_OFFICE: frozenset[Role] = frozenset({"lead", "estimator"})
_TRAINED: frozenset[Role] = frozenset({"technician", "lead"})
_HANDS: frozenset[Role] = _TRAINED | {"apprentice"}
_NOT_LEARNING: frozenset[Role] = _ALL - {"apprentice"}
_LEAD: frozenset[Role] = frozenset({"lead"})

RIGHTS: dict[Deed, Right] = {
    "take in": Right(_NOT_LEARNING, False, "Vehicles are taken in"),
    "walk round": Right(_ALL, False, "What is seen is noted"),
    "estimate": Right(_OFFICE, False, "Value and cost are weighed"),
    "find more": Right(_NOT_LEARNING, False, "Supplement lines are raised"),
    "send supplement": Right(_OFFICE, False, "Supplements are sent and answers recorded"),
    "go ahead": Right(_LEAD, False, "Work without the payer's word is let go on"),
    "check parts in": Right(_ALL, False, "Parts are checked in"),
    "answer safety": Right(_TRAINED, False, "The made-safe list is answered"),
    "accept sheet": Right(_NOT_LEARNING, True, "Sheets are accepted"),
    "measure": Right(_HANDS, True, "Readings are taken"),
    "judge readings": Right(_TRAINED, True, "What contradicts is settled"),
    "decide": Right(_TRAINED, False, "This is decided"),
    "plan pulls": Right(_TRAINED, True, "Pulls are planned"),
    "pull": Right(_TRAINED, True, "Pulls are made"),
    "stop a pull": Right(_HANDS, True, "A pull is stopped"),
    "open welds": Right(_HANDS, False, "Opened welds are ticked off"),
    "fit up": Right(_TRAINED, False, "Panels are hung and the vehicle is let down"),
    "weld": Right(_TRAINED, False, "Welds are made and logged"),
    "finish": Right(_TRAINED, False, "Protection and what is left to do are recorded"),
    "run clocks": Right(_HANDS, False, "Clocks of products are started and ended"),
    "sign": Right(_TRAINED, False, "Hold points are signed"),
    "make record": Right(_NOT_LEARNING, False, "Records are made"),
    "close": Right(_LEAD, False, "Jobs are closed and opened again"),
    "manage people": Right(_LEAD, False, "People are managed"),
    "say hours": Right(_NOT_LEARNING, False, "Hours are planned and sold"),
    "work": Right(_HANDS, False, "Work is clocked"),
    "note wait": Right(_ALL, False, "What a job waits for is noted"),
    "say shop": Right(_LEAD, False, "What the shop has is said"),
    "plan day": Right(_OFFICE, False, "The day is planned"),
    "keep tools": Right(_TRAINED, False, "Tools and gear are kept"),
    "keep keys": Right(_LEAD, False, "Keys with which shops sign are kept"),
    "practise": Right(_ALL, True, "Practice is begun and ended"),
}
ROLES_IN_ORDER: tuple[Role, ...] = ("apprentice", "technician", "estimator", "lead")


class NotYours(FairSquareError):
    """The person's role does not allow it."""

    status = 403
    kind = "not-yours"


def may(person: Person, deed: Deed) -> bool:
    """Return whether the person's role allows the deed."""
    return person.role in RIGHTS[deed].roles


def roles_that_may(deed: Deed) -> frozenset[Role]:
    """Return the roles that may do a deed."""
    return RIGHTS[deed].roles


def check_may(person: Person, deed: Deed) -> None:
    """Raise `NotYours`, in words, when the person's role does not allow the deed."""
    if not may(person, deed):
        who = " or a ".join(sorted(RIGHTS[deed].roles, reverse=True))
        raise NotYours(f"{RIGHTS[deed].words} by a {who}; you are signed in as {person.role}.")


def check_own(person: Person, by: int | None) -> None:
    """Raise `NotYours` when an apprentice would take back what somebody else recorded, `by` the id of that person."""
    if person.role == "apprentice" and by != person.id:
        raise NotYours(
            "What somebody else recorded is taken back by a technician or a lead; you are signed in as apprentice."
        )
