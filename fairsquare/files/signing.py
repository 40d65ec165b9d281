"""Signatures: by which shop a record or a job's file was made. A checksum says only that nothing was changed by accident.

A shop signs with Ed25519 (RFC 8032). What is signed is the canonical form (RFC 8785) of a statement: what kind of file it is, its
SHA-256, what it is bound to, and the name of the shop. A key is told by its fingerprint: the first half of the SHA-256 of its
public half, in groups that can be read out over the telephone.
"""

import hashlib
import re
import string
from typing import Any, Literal, NamedTuple

import rfc8785
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Model

Signed = Literal["yes", "no", "wrong"]
"""Signed by whoever has the key that it names; by nobody; or with a signature that is not of this content."""
FINGERPRINT_DIGITS, _GROUP = 32, 4


class Signature(Model):
    """A signature as it stands in a file: the public key and the signature in hexadecimal, and what the shop calls itself."""

    key: str = Field(pattern=r"^[0-9a-f]{64}$")
    shop: str = Field(max_length=200)
    value: str = Field(pattern=r"^[0-9a-f]{128}$")


class SigningKey(NamedTuple):
    """A shop's key: both halves, 32 bytes each, and the name under which it signs."""

    private: bytes
    public: bytes
    shop: str


class SignedBy(Model):
    """What a signature says: whether it holds, the fingerprint of its key, and what the shop calls itself."""

    signed: Signed
    fingerprint: str = ""
    shop: str = ""


NOBODY = SignedBy(signed="no")


def new_key(shop: str) -> SigningKey:
    """Return a key that was never there before."""
    private = Ed25519PrivateKey.generate()
    return SigningKey(private.private_bytes_raw(), private.public_key().public_bytes_raw(), shop)


def fingerprint_of(public: bytes) -> str:
    """Return the fingerprint of a public key of 32 bytes: 32 hexadecimal digits."""
    return hashlib.sha256(public).hexdigest()[:FINGERPRINT_DIGITS]


def in_groups(fingerprint: str) -> str:
    """Return a fingerprint as it is read out: in groups of four."""
    return " ".join(fingerprint[k : k + _GROUP] for k in range(0, len(fingerprint), _GROUP))


def read_fingerprint(typed: str, field: str = "fingerprint") -> str:
    """Return a fingerprint as it was typed, with blanks or dashes wherever one likes. Raises `Refused`."""
    plain = re.sub(r"[\s:.·-]", "", typed).lower()
    if len(plain) != FINGERPRINT_DIGITS or set(plain) - set(string.hexdigits):
        raise Refused(
            "A fingerprint has eight groups of four, of figures and the letters a to f, such as 3f2a 91bc 0d4e 7788 …",
            field=field,
            value=typed[:60],
        )
    return plain


def signed(kind: str, bound: dict[str, Any], key: SigningKey) -> Signature:
    """Return the signature of a file of a kind, told by what it is bound to."""
    private = Ed25519PrivateKey.from_private_bytes(key.private)
    return Signature(key=key.public.hex(), shop=key.shop, value=private.sign(_said(kind, bound, key.shop)).hex())


def signed_by(kind: str, bound: dict[str, Any], given: Any) -> SignedBy:
    """Return what the signature of a file says, as it stands in it; never raises."""
    if given is None:
        return NOBODY
    try:
        signature = Signature.model_validate(given)
        public = bytes.fromhex(signature.key)
        statement = _said(kind, bound, signature.shop)
        Ed25519PublicKey.from_public_bytes(public).verify(bytes.fromhex(signature.value), statement)
    except (InvalidSignature, ValueError, RecursionError):
        return SignedBy(signed="wrong")
    return SignedBy(signed="yes", fingerprint=fingerprint_of(public), shop=signature.shop)


def _said(kind: str, bound: dict[str, Any], shop: str) -> bytes:
    return rfc8785.dumps({"signed": kind, "bound": bound, "shop": shop})
