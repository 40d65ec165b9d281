"""People: who they are, and how they sign in."""

from typing import Any, Literal, NamedTuple, cast

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError

from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.who import Role
from fairsquare.store.database import OF_YESTERDAY, Connection, execute, forget, insert, select, select_one
from fairsquare.store.passwords import check_password

ROLES: tuple[Role, ...] = ("technician", "lead", "estimator", "apprentice")
_WINDOW_MINUTES = 5

_hasher = PasswordHasher()
"""argon2id with the library's recommended cost (RFC 9106, low-memory profile)."""
_NOBODY = _hasher.hash("nobody has this password")


class SignInRefused(FairSquareError):
    """Name and password do not go together."""

    status = 401
    kind = "sign-in"


class TooManyTries(FairSquareError):
    """Too many failed sign-ins from one place or for one name."""

    status = 429
    kind = "too-many-tries"


class Person(NamedTuple):
    """Somebody who is signed in."""

    id: int
    name: str
    full_name: str
    role: Role


class Session(NamedTuple):
    """A person with the token that stands for the sign-in; `csrf` guards the writes of pages. `second`: the person has a second
    factor."""

    token: str
    csrf: str
    person: Person
    id: int = 0
    second: bool = False


def add_person(
    connection: Connection, name: str, full_name: str, role: Role, password: str, *, demo: bool = False
) -> int:
    """Add a person and return the id. Raises `Refused` that names the field."""
    name, full_name = name.strip(), full_name.strip()
    if not name or len(name) > 80 or any(character.isspace() for character in name):
        raise Refused("The sign-in name should be one word of up to 80 letters.", field="name", value=name)
    if not full_name or len(full_name) > 120:
        raise Refused("Give the person's name, up to 120 letters.", field="full_name", value=full_name)
    if role not in ROLES:
        raise Refused(f"The role should be one of {', '.join(ROLES)}.", field="role", value=role)
    check_password(password, name)
    if select_one(connection, "SELECT id FROM person WHERE name = %s", name):
        raise Refused(f"Somebody signs in as {name} already: choose another name.", field="name", value=name)
    return insert(
        connection,
        """INSERT INTO person (name, full_name, role, password_hash, demo, created_at)
           VALUES (%(name)s, %(full_name)s, %(role)s, %(password_hash)s, %(demo)s, UTC_TIMESTAMP(6))""",
        name=name,
        full_name=full_name,
        role=role,
        password_hash=_hasher.hash(password),
        demo=demo,
    )


def set_password(connection: Connection, person_id: int, password: str) -> None:
    """Give a person a new password and end all their sessions."""
    row = select_one(connection, "SELECT name FROM person WHERE id = %s", person_id)
    check_password(password, row["name"] if row else "")
    execute(
        connection,
        "UPDATE person SET password_hash = %(password_hash)s, demo = FALSE WHERE id = %(id)s",
        password_hash=_hasher.hash(password),
        id=person_id,
    )
    execute(connection, "DELETE FROM session WHERE person_id = %s", person_id)


def set_active(connection: Connection, person_id: int, active: bool) -> None:
    """Let a person sign in, or not any more; what they did stays theirs."""
    execute(connection, "UPDATE person SET active = %(active)s WHERE id = %(id)s", active=active, id=person_id)
    if not active:
        execute(connection, "DELETE FROM session WHERE person_id = %s", person_id)


def people(connection: Connection) -> list[dict[str, Any]]:
    """Return everybody, in the order of their names."""
    return select(
        connection,
        """SELECT p.id, p.name, p.full_name, p.role, p.demo, p.active, t.confirmed_at IS NOT NULL AS second
           FROM person p LEFT JOIN person_totp t ON t.person_id = p.id ORDER BY p.full_name, p.id""",
    )


def set_role(connection: Connection, person_id: int, role: Role) -> None:
    """Give a person another role. Raises `Refused`."""
    if role not in ROLES:
        raise Refused(f"The role should be one of {', '.join(ROLES)}.", field="role", value=role)
    execute(connection, "UPDATE person SET role = %(role)s WHERE id = %(id)s", role=role, id=person_id)


def demo_people(connection: Connection) -> int:
    """Return how many may sign in with a password of the demo."""
    row = select_one(connection, "SELECT COUNT(*) AS many FROM person WHERE demo AND active")
    return int(row["many"]) if row else 0


def leads(connection: Connection) -> int:
    """Return how many leads may sign in."""
    row = select_one(connection, "SELECT COUNT(*) AS many FROM person WHERE role = 'lead' AND active")
    return int(row["many"]) if row else 0


def begin_try(connection: Connection, name: str, address: str, *, second: bool = False) -> int:
    """Remember that somebody signs in, as failed until it has succeeded, and return its id; what is a day old is forgotten.

    `second`: it is the second factor that is tried. It is written down before the password is looked at, so that guesses sent all
    at once count one another.
    """
    forget(connection, "sign_in_attempt", OF_YESTERDAY)
    return insert(
        connection,
        """INSERT INTO sign_in_attempt (name, address, succeeded, second, at)
           VALUES (%(name)s, %(address)s, FALSE, %(second)s, UTC_TIMESTAMP(6))""",
        name=name.strip()[:80],
        address=address[:64],
        second=second,
    )


def end_try(connection: Connection, number: int, *, succeeded: bool) -> None:
    """Say that a sign-in succeeded, or forget one that was not looked at because too many had failed."""
    if succeeded:
        execute(connection, "UPDATE sign_in_attempt SET succeeded = TRUE WHERE id = %s", number)
    else:
        execute(connection, "DELETE FROM sign_in_attempt WHERE id = %s", number)


def failed_tries(connection: Connection, name: str, address: str) -> int:
    """Return how often signing in failed in the last minutes, for this name from this address, the one that goes on among them.

    A third of the failures from this address for any name, and a twenty-fifth of those for this name from anywhere, count as
    much: one who tries many names has to wait, and nobody elsewhere shuts a person out with a few wrong guesses.
    """
    name, address = name.strip()[:80], address[:64]
    row = select_one(
        connection,
        f"""SELECT COALESCE(SUM(name = %s AND address = %s), 0) AS both_alike,
              COALESCE(SUM(address = %s), 0) AS by_address, COALESCE(SUM(name = %s), 0) AS by_name
            FROM sign_in_attempt
            WHERE at > UTC_TIMESTAMP(6) - INTERVAL {_WINDOW_MINUTES} MINUTE AND NOT succeeded
              AND (name = %s OR address = %s)""",  # noqa: S608 - a constant
        name,
        address,
        address,
        name,
        name,
        address,
    )
    if row is None:
        return 0
    return max(int(row["both_alike"]), int(row["by_address"]) // 3, int(row["by_name"]) // 25)


def failed_codes(connection: Connection, name: str) -> int:
    """Return how often a second factor of this name was wrong in the last hour, from anywhere: who tries it has the password."""
    row = select_one(
        connection,
        """SELECT COUNT(*) AS many FROM sign_in_attempt
           WHERE name = %s AND second AND NOT succeeded AND at > UTC_TIMESTAMP(6) - INTERVAL 1 HOUR""",
        name,
    )
    return int(row["many"]) if row else 0


def find_by_password(connection: Connection, name: str, password: str) -> Person | None:
    """Return the active person of that name and password, or None; takes as long whether or not the name is known."""
    row = select_one(
        connection,
        "SELECT id, name, full_name, role, password_hash FROM person WHERE name = %s AND active",
        name.strip()[:80],
    )
    try:
        _hasher.verify(row["password_hash"] if row else _NOBODY, password[:200])
    except (VerifyMismatchError, InvalidHashError):
        return None
    return person_of(row) if row else None


Recorded = Literal["reading", "walk_finding", "work_clock", "weld_tick"]


def who_recorded(connection: Connection, what: Recorded, number: int) -> int | None:
    """Return the id of the person who recorded a row of a table, or None where there is no such row."""
    row = select_one(connection, f"SELECT person_id FROM {what} WHERE id = %s", number)  # noqa: S608 - one of a few names
    return int(row["person_id"]) if row else None


def person_of(row: dict[str, Any]) -> Person:
    """Return the person of a row: `id`, `name`, `full_name` and `role`."""
    return Person(row["id"], row["name"], row["full_name"], cast(Role, row["role"]))
