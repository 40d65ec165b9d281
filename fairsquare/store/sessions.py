"""Sessions: what follows from a sign-in, page by page or as a token of the API; only hashes of tokens are kept."""

import hashlib
import secrets
from typing import Literal, NamedTuple

from fairsquare.store.database import Connection, execute, forget, insert, select, select_one, utc
from fairsquare.store.people import Person, Session, person_of

Kind = Literal["page", "token", "half"]
"""A browser's, a program's, and one of a person whose password was right and whose second factor is still asked for."""
_SEEN_MINUTES = 5


class SignIn(NamedTuple):
    """A sign-in as its owner sees it: with what, from where, since when, when it was used last, and when it ends."""

    id: int
    kind: Kind
    name: str
    address: str
    browser: str
    at: str
    seen_at: str
    expires_at: str
    this_one: bool


def open_session(
    connection: Connection,
    person: Person,
    hours: int,
    kind: Kind = "page",
    *,
    name: str = "",
    address: str = "",
    browser: str = "",
) -> Session:
    """Begin a session; `name` is that of a token, `browser` what its program calls itself."""
    token, csrf = secrets.token_urlsafe(32), secrets.token_urlsafe(32)
    number = insert(
        connection,
        """INSERT INTO session (token_sha256, person_id, csrf, kind, name, address, browser, created_at, seen_at,
             expires_at)
           VALUES (%(token_sha256)s, %(person_id)s, %(csrf)s, %(kind)s, %(name)s, %(address)s, %(browser)s,
             UTC_TIMESTAMP(6), UTC_TIMESTAMP(6), UTC_TIMESTAMP(6) + INTERVAL %(hours)s HOUR)""",
        token_sha256=_hashed(token),
        person_id=person.id,
        csrf=csrf,
        kind=kind,
        name=name[:120],
        address=address[:64],
        browser=browser[:200],
        hours=hours,
    )
    forget(connection, "session", "expires_at < UTC_TIMESTAMP(6)")
    return Session(token, csrf, person, number)


def find_session(connection: Connection, token: str, kind: Kind) -> Session | None:
    """Return the session of a token, unless it has run out or its person is no longer active; note that it was used."""
    row = select_one(
        connection,
        f"""SELECT p.id, p.name, p.full_name, p.role, s.csrf, s.id AS session_id, t.confirmed_at IS NOT NULL AS second,
                  s.seen_at IS NULL OR s.seen_at < UTC_TIMESTAMP(6) - INTERVAL {_SEEN_MINUTES} MINUTE AS seen_long_ago
           FROM session s JOIN person p ON p.id = s.person_id LEFT JOIN person_totp t ON t.person_id = p.id
           WHERE s.token_sha256 = %s AND s.kind = %s AND s.expires_at > UTC_TIMESTAMP(6) AND p.active""",  # noqa: S608 - a constant
        _hashed(token),
        kind,
    )
    if row is None:
        return None
    if row["seen_long_ago"]:
        execute(connection, "UPDATE session SET seen_at = UTC_TIMESTAMP(6) WHERE id = %s", row["session_id"])
    return Session(token, row["csrf"], person_of(row), row["session_id"], bool(row["second"]))


def close_session(connection: Connection, token: str) -> None:
    """End a session."""
    execute(connection, "DELETE FROM session WHERE token_sha256 = %s", _hashed(token))


def sign_ins_of(connection: Connection, session: Session) -> list[SignIn]:
    """Return where a person is signed in, and their tokens: this session first, then the latest used."""
    rows = select(
        connection,
        """SELECT id, kind, name, address, browser, created_at, COALESCE(seen_at, created_at) AS seen_at, expires_at
           FROM session WHERE person_id = %s AND kind <> 'half' AND expires_at > UTC_TIMESTAMP(6)
           ORDER BY id = %s DESC, seen_at DESC, id DESC""",
        session.person.id,
        session.id,
    )
    return [
        SignIn(
            row["id"],
            row["kind"],
            row["name"],
            row["address"],
            row["browser"],
            utc(row["created_at"]),
            utc(row["seen_at"]),
            utc(row["expires_at"]),
            row["id"] == session.id,
        )
        for row in rows
    ]


def end_sign_in(connection: Connection, person_id: int, number: int) -> bool:
    """End a session of a person, and return whether there was one."""
    return bool(
        execute(
            connection,
            "DELETE FROM session WHERE id = %(id)s AND person_id = %(person_id)s",
            id=number,
            person_id=person_id,
        )
    )


def end_others(connection: Connection, session: Session, kind: Kind = "page") -> int:
    """End every other session of a kind, and return how many there were."""
    return execute(
        connection,
        "DELETE FROM session WHERE person_id = %(person_id)s AND id <> %(id)s AND kind = %(kind)s",
        person_id=session.person.id,
        id=session.id,
        kind=kind,
    )


def end_all(connection: Connection, person_id: int) -> None:
    """End all sessions of a person, tokens too."""
    execute(connection, "DELETE FROM session WHERE person_id = %s", person_id)


def _hashed(token: str) -> bytes:
    return hashlib.sha256(token.encode(errors="replace")).digest()
