"""Links that lead a stranger to one thing: what is kept of their codes, and how often somebody may try."""

import hashlib

from fairsquare.core.errors import FairSquareError
from fairsquare.store.database import OF_YESTERDAY, Connection, forget, insert, select_one

_WINDOW_MINUTES, _MOST_WRONG, _MOST_IN_ALL = 10, 12, 240


class NoSuchLink(FairSquareError):
    """The link leads nowhere: it was mistyped, has run out, or was withdrawn. Which of these is not said."""

    status = 404
    kind = "no-such-link"

    def __init__(self) -> None:
        super().__init__(
            "This link leads nowhere: it may have run out or been withdrawn. Ask the workshop for a new one."
        )


class TooManyLinks(FairSquareError):
    """Too many links were tried from one address."""

    status = 429
    kind = "too-many"

    def __init__(self) -> None:
        super().__init__("Too many tries from here. Wait ten minutes, then open the link again.")


def check_tries(connection: Connection, address: str) -> None:
    """Raise `TooManyLinks` for an address that tried many links that lead nowhere, or opened very many."""
    row = select_one(
        connection,
        f"""SELECT COALESCE(SUM(NOT found), 0) AS wrong, COUNT(*) AS many FROM link_try
            WHERE address = %s AND at > UTC_TIMESTAMP(6) - INTERVAL {_WINDOW_MINUTES} MINUTE""",  # noqa: S608 - a constant
        address[:64],
    )
    if row and (int(row["wrong"]) >= _MOST_WRONG or int(row["many"]) >= _MOST_IN_ALL):
        raise TooManyLinks


def note_try(connection: Connection, address: str, found: bool) -> None:
    """Remember that a link was opened, and forget those of more than a day ago."""
    insert(
        connection,
        "INSERT INTO link_try (address, found, at) VALUES (%(address)s, %(found)s, UTC_TIMESTAMP(6))",
        address=address[:64],
        found=found,
    )
    forget(connection, "link_try", OF_YESTERDAY)


def hash_of(code: str) -> bytes:
    """Return what is kept of a link's code."""
    return hashlib.sha256(code.encode()).digest()
