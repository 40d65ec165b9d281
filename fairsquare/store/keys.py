"""The keys with which this shop signs, and those of other shops that a person accepted."""

from typing import Any, NamedTuple

import pymysql

from fairsquare.files.signing import SigningKey, fingerprint_of, new_key
from fairsquare.store.database import Connection, execute, insert, select, select_one, utc


class OwnKey(NamedTuple):
    """A key of this shop: its fingerprint, whether it signs now, since when, and who made it, where it was a person."""

    fingerprint: str
    in_force: bool
    at: str
    by: str | None


class OtherKey(NamedTuple):
    """A key of another shop that a person accepted, and until when, where it was taken back."""

    id: int
    fingerprint: str
    shop: str
    by: str
    at: str
    taken_back_by: str | None
    taken_back_at: str | None


def signing_key(connection: Connection, shop: str) -> SigningKey:
    """Return the key that signs now, for a shop of that name; it is made where there is none, as at the first start."""
    for latest in ("", " LOCK IN SHARE MODE"):  # the second time what somebody else has just committed
        row = select_one(
            connection,
            f"""SELECT k.public_key, s.private_key FROM shop_key k JOIN shop_key_secret s ON s.key_id = k.id
                WHERE k.in_force = 1{latest}""",  # noqa: S608 - one of two words of our own
        )
        if row is not None:
            return SigningKey(bytes(row["private_key"]), bytes(row["public_key"]), shop)
        execute(
            connection,
            """UPDATE shop_key SET in_force = NULL
               WHERE in_force = 1 AND id NOT IN (SELECT key_id FROM shop_key_secret)""",
        )
        made = _put_in_force(connection, new_key(shop), None)
        if made is not None:
            return made
    raise RuntimeError("no key can be made")


def replace_key(connection: Connection, shop: str, person_id: int) -> None:
    """Make a new key that signs from now on; the one before stays known."""
    execute(connection, "UPDATE shop_key SET in_force = NULL WHERE in_force = 1")
    _put_in_force(connection, new_key(shop), person_id)


def _put_in_force(connection: Connection, key: SigningKey, person_id: int | None) -> SigningKey | None:
    """Keep a key that signs from now on; None where another one was put in force just now."""
    try:
        number = insert(
            connection,
            """INSERT INTO shop_key (public_key, in_force, person_id, at)
               VALUES (%(public_key)s, 1, %(person_id)s, UTC_TIMESTAMP(6))""",
            public_key=key.public,
            person_id=person_id,
        )
    except pymysql.IntegrityError:
        return None
    execute(
        connection,
        "INSERT INTO shop_key_secret (key_id, private_key) VALUES (%(key_id)s, %(private_key)s)",
        key_id=number,
        private_key=key.private,
    )
    execute(connection, "DELETE FROM shop_key_secret WHERE key_id <> %s", number)
    return key


def own_keys(connection: Connection) -> list[OwnKey]:
    """Return this shop's keys, the one that signs now first."""
    rows = select(
        connection,
        """SELECT k.public_key, k.in_force, k.at, p.full_name FROM shop_key k LEFT JOIN person p ON p.id = k.person_id
           ORDER BY k.id DESC""",
    )
    return [
        OwnKey(fingerprint_of(bytes(row["public_key"])), bool(row["in_force"]), utc(row["at"]), row["full_name"])
        for row in rows
    ]


def other_keys(connection: Connection) -> list[OtherKey]:
    """Return the keys of other shops that were ever accepted, the latest first."""
    rows = select(
        connection,
        """SELECT k.id, k.fingerprint, k.shop, k.at, p.full_name AS name, k.taken_back_at, b.full_name AS back_by
           FROM other_key k JOIN person p ON p.id = k.person_id LEFT JOIN person b ON b.id = k.taken_back_by
           ORDER BY k.id DESC""",
    )
    return [_other(row) for row in rows]


def accept_key(connection: Connection, fingerprint: str, shop: str, person_id: int) -> int:
    """Record that a person accepted another shop's key, and return its id."""
    return insert(
        connection,
        """INSERT INTO other_key (fingerprint, shop, person_id, at)
           VALUES (%(fingerprint)s, %(shop)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        fingerprint=fingerprint,
        shop=shop,
        person_id=person_id,
    )


def take_back(connection: Connection, number: int, person_id: int) -> None:
    """Record that another shop's key is not trusted any more."""
    execute(
        connection,
        """UPDATE other_key SET taken_back_by = %(taken_back_by)s, taken_back_at = UTC_TIMESTAMP(6)
           WHERE id = %(id)s AND taken_back_at IS NULL""",
        taken_back_by=person_id,
        id=number,
    )


def _other(row: dict[str, Any]) -> OtherKey:
    back = row["taken_back_at"]
    return OtherKey(
        row["id"],
        row["fingerprint"],
        row["shop"],
        row["name"],
        utc(row["at"]),
        row["back_by"],
        utc(back) if back else None,
    )
