"""The keys with which records are signed, as JSON."""

from fastapi import APIRouter

from fairsquare.actions.keys import known_keys
from fairsquare.api.doors import At, By
from fairsquare.core.model import Many, Model

router = APIRouter(prefix="/api/v1", tags=["jobs"])


class OwnKeyShown(Model):
    """A key of this shop; `in_force`: records are signed with it now."""

    fingerprint: str
    in_force: bool
    at: str


class OtherKeyShown(Model):
    """A key of another shop that a person accepted after its fingerprint was read out."""

    fingerprint: str
    shop: str
    by: str
    at: str
    taken_back_at: str | None


class KeysShown(Model):
    """The keys that are known here."""

    own: Many[OwnKeyShown]
    other: Many[OtherKeyShown]


@router.get("/keys")
def keys(desk: At, person: By) -> KeysShown:
    """List the shop's own keys, the one that signs now first, and those of other shops that were accepted."""
    del person
    known = desk.database.run(lambda c: known_keys(c, desk.workshop))
    return KeysShown(
        own=tuple(
            OwnKeyShown(fingerprint=own_key.fingerprint, in_force=own_key.in_force, at=own_key.at)
            for own_key in known.own
        ),
        other=tuple(
            OtherKeyShown(
                fingerprint=other_key.fingerprint,
                shop=other_key.shop,
                by=other_key.by,
                at=other_key.at,
                taken_back_at=other_key.taken_back_at,
            )
            for other_key in known.other
        ),
    )
