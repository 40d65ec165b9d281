"""Signatures: the published vectors of Ed25519, and records that were forged, sealed anew or signed by others told apart."""

import hashlib
import json

import pytest
import rfc8785
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey

from fairsquare.core.errors import Refused
from fairsquare.files.records import check_record, sealed
from fairsquare.files.signing import (
    NOBODY,
    SigningKey,
    fingerprint_of,
    in_groups,
    new_key,
    read_fingerprint,
    signed,
    signed_by,
)
from tests.job.test_record import record

KEY = new_key("Sandlark Sound Ferries")
SIGNED, DIGEST = sealed(record(), "", KEY)


def test_the_library_signs_as_the_standard_says() -> None:
    # RFC 8032, section 7.1, TEST 3: key, message of two bytes, signature.
    private = bytes.fromhex("c5aa8df43f9f837bedb7442f31dcb7b166d38535076f094b85ce3a2e0b4458f7")
    signature = (
        "6291d657deec24024827e69c3abe01a30ce548a284743a445e3680d7db5ac3ac"
        "18ff9b538d16f290ae67f760984dc6594a7c15e9716ed28dc027beceea1ec40a"
    )
    assert Ed25519PrivateKey.from_private_bytes(private).sign(bytes.fromhex("af82")).hex() == signature


def test_a_signature_is_of_the_statement_and_nothing_else() -> None:
    given = signed("k", {"sha256": "ab"}, KEY).model_dump()
    assert signed_by("k", {"sha256": "ab"}, given).signed == "yes"
    said = rfc8785.dumps({"signed": "k", "bound": {"sha256": "ab"}, "shop": KEY.shop})
    Ed25519PrivateKey.from_private_bytes(KEY.private).public_key().verify(bytes.fromhex(given["value"]), said)
    for kind, bound, more in (
        ("other", {"sha256": "ab"}, {}),
        ("k", {"sha256": "ac"}, {}),
        ("k", {"sha256": "ab"}, {"shop": "Tern Bay Garage"}),
        ("k", {"sha256": "ab"}, {"key": new_key("x").public.hex()}),
        ("k", {"sha256": "ab"}, {"value": "00" * 64}),
        ("k", {"sha256": "ab"}, {"value": "00"}),
        ("k", {"sha256": "ab"}, {"more": 1}),
    ):
        assert signed_by(kind, bound, {**given, **more}).signed == "wrong"
    assert [signed_by("k", {}, given).signed for given in (None, 7, [], "x", {})] == ["no", *["wrong"] * 4]


def body_and_integrity(text: str) -> tuple[dict, dict]:
    loaded = json.loads(text)
    return loaded, loaded["integrity"]


def test_a_record_says_by_whom_it_was_signed() -> None:
    check = check_record(SIGNED.encode())
    assert (check.whole, check.follows, check.good) == (True, True, True)
    assert (check.signed_by.signed, check.signed_by.shop) == ("yes", "Sandlark Sound Ferries")
    assert check.signed_by.fingerprint == hashlib.sha256(KEY.public).hexdigest()[:32] == fingerprint_of(KEY.public)
    plain = check_record(sealed(record())[0].encode())
    assert (plain.good, plain.signed_by) == (True, NOBODY)


def test_a_record_that_was_changed_and_sealed_anew_is_told_from_ours() -> None:
    other = record().model_copy(update={"workshop": "somebody else"})
    forged, digest = sealed(other)
    _, ours = body_and_integrity(SIGNED)
    loaded, theirs = body_and_integrity(forged)
    assert digest != DIGEST
    stripped = check_record(forged.encode())
    assert (stripped.whole, stripped.signed_by.signed) == (True, "no"), "the seal holds: nobody signed it"
    kept = rfc8785.dumps({**loaded, "integrity": {**theirs, "signature": ours["signature"]}})
    check = check_record(kept)
    assert (check.whole, check.follows, check.signed_by.signed, check.good) == (True, True, "wrong", False)
    assert "/integrity/signature" in check.findings[0]
    own = check_record(sealed(other, "", new_key("Sandlark Sound Ferries"))[0].encode())
    assert (own.good, own.signed_by.shop) == (True, "Sandlark Sound Ferries")
    assert own.signed_by.fingerprint != fingerprint_of(KEY.public), "the name is theirs to choose, the key is not"


def test_what_a_record_is_bound_to_is_signed_as_well() -> None:
    after, _ = sealed(record(), "ab" * 32, KEY)
    loaded, integrity = body_and_integrity(after)
    alone, _ = sealed(record())
    moved = {**json.loads(alone)["integrity"], "signature": integrity["signature"]}
    assert check_record(rfc8785.dumps({**loaded, "integrity": moved})).signed_by.signed == "wrong"
    more = rfc8785.dumps({**loaded, "integrity": {**integrity, "note": "trust me"}})
    assert check_record(more).findings == ("/integrity/note: added to the record",)


def test_a_fingerprint_is_read_however_it_is_typed() -> None:
    own = fingerprint_of(KEY.public)
    assert in_groups(own).count(" ") == 7
    for typed in (own, in_groups(own), in_groups(own).upper(), "-".join(in_groups(own).split()), f"  {own}\n"):
        assert read_fingerprint(typed) == own
    for typed in ("", own[:-1], own + "0", "g" * 32, "²" * 32):
        with pytest.raises(Refused, match="eight groups of four"):
            read_fingerprint(typed)
    assert SigningKey(*KEY) == KEY
