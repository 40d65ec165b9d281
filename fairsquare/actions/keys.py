"""Deeds of keys: who signed a file, the shop's own key made anew, and another shop's key accepted once by a person."""

from collections.abc import Sequence
from typing import Any, Literal, NamedTuple

from fairsquare.actions.desk import Desk
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.files.signing import SignedBy, in_groups, read_fingerprint
from fairsquare.security_log import security
from fairsquare.store import keys
from fairsquare.store.database import Connection
from fairsquare.store.keys import OtherKey, OwnKey
from fairsquare.store.people import Person

Known = Literal["own", "accepted", "unknown", "nobody", "wrong"]


class KnownKeys(NamedTuple):
    """The keys that are known here."""

    own: Sequence[OwnKey]
    other: Sequence[OtherKey]


class Signer(NamedTuple):
    """Who signed a file, as it is known here, and that in words."""

    known: Known
    words: str


def known_keys(connection: Connection, shop: str) -> KnownKeys:
    """Return the keys that are known here; the shop's own is made where there is none yet."""
    keys.signing_key(connection, shop)
    return KnownKeys(keys.own_keys(connection), keys.other_keys(connection))


def signer_of(by: SignedBy, known: KnownKeys) -> Signer:
    """Return who signed a file, and how that is known."""
    if by.signed == "no":
        return Signer("nobody", "Nobody: it was made before records were signed, or its signature was cut away.")
    if by.signed == "wrong":
        return Signer("wrong", "Nobody who is known: the signature in it is not of this content.")
    grouped = in_groups(by.fingerprint)
    own = next((ours for ours in known.own if ours.fingerprint == by.fingerprint), None)
    if own is not None:
        return Signer("own", f"This shop, as {by.shop}, with its {'' if own.in_force else 'earlier '}key {grouped}.")
    for theirs in known.other:
        if theirs.fingerprint == by.fingerprint and theirs.taken_back_at is None:
            return Signer(
                "accepted",
                f"{theirs.shop}, key {grouped}, which {theirs.by} accepted here on {theirs.at[:10]} after it was read out.",
            )
    back = next((theirs for theirs in known.other if theirs.fingerprint == by.fingerprint), None)
    if back is not None:
        return Signer(
            "unknown", f"A key of {back.shop} that {back.taken_back_by} took back on {(back.taken_back_at or '')[:10]}."
        )
    another = next(
        (theirs for theirs in known.other if theirs.taken_back_at is None and _alike(theirs.shop, by.shop)),
        None,
    )
    warning = f" {another.shop} has another key here: ask them whether they made a new one." if another else ""
    return Signer(
        "unknown",
        f"Somebody who calls themselves {by.shop or 'nothing'}, with a key that is not known here.{warning}",
    )


def accept_key(desk: Desk, person: Person, key: str, shop: str, fingerprint: str) -> None:
    """Accept another shop's key, told by its fingerprint as it was read out by them."""
    check_may(person, "keep keys")
    told, name = read_fingerprint(fingerprint), " ".join(shop.split())
    if not 2 <= len(name) <= 200:
        raise Refused("Whose key is it? Name the shop that read it to you.", field="shop", value=shop[:200])

    def work(connection: Connection) -> dict[str, Any]:
        known = known_keys(connection, desk.workshop)
        if any(ours.fingerprint == told for ours in known.own):
            raise Refused("That is this shop's own key.", field="fingerprint", value=told)
        if any(theirs.fingerprint == told and theirs.taken_back_at is None for theirs in known.other):
            raise Refused("That key was accepted before.", field="fingerprint", value=told)
        return {"id": keys.accept_key(connection, told, name, person.id)}

    desk.once(person, key, "accept key", work)
    security("key accepted", person=person.name, shop=name, fingerprint=told)


def accept_key_of_file(desk: Desk, person: Person, key: str, by: SignedBy, fingerprint: str) -> None:
    """Accept the key with which a file was signed, once its fingerprint was read out by the shop that it names."""
    check_may(person, "keep keys")
    if read_fingerprint(fingerprint) != by.fingerprint:
        security("key not accepted", person=person.name, shop=by.shop, fingerprint=by.fingerprint)
        raise Refused(
            "That is not the fingerprint of the key with which this was signed. If it was read to you rightly, this file is not "
            "from them.",
            field="fingerprint",
            value=fingerprint[:60],
        )
    accept_key(desk, person, key, by.shop, fingerprint)


def take_key_back(desk: Desk, person: Person, key: str, number: int) -> None:
    """Trust another shop's key no longer."""
    check_may(person, "keep keys")

    def work(connection: Connection) -> dict[str, Any]:
        keys.take_back(connection, number, person.id)
        return {}

    desk.once(person, key, f"take key back {number}", work)
    security("key taken back", person=person.name, key=number)


def replace_key(desk: Desk, person: Person, key: str) -> None:
    """Make a new key for this shop; what was signed with those before stays signed by it."""
    check_may(person, "keep keys")

    def work(connection: Connection) -> dict[str, Any]:
        keys.replace_key(connection, desk.workshop, person.id)
        return {}

    desk.once(person, key, "replace key", work)
    security("key replaced", person=person.name)


def _alike(own: str, other: str) -> bool:
    return "".join(own.split()).casefold() == "".join(other.split()).casefold()
