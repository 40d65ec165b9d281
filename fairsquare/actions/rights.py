"""Who may do what, held to the table of deeds."""

from fairsquare.core.errors import FairSquareError
from fairsquare.core.who import Role
from fairsquare.job.deeds import RIGHTS, Deed
from fairsquare.store.people import Person


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
