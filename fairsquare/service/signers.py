"""Who signed a file, for the command line: by the keys that are known where it is asked."""

from pathlib import Path

import pymysql

from fairsquare.actions.keys import KnownKeys, signer_of
from fairsquare.core.errors import FairSquareError
from fairsquare.files.signing import SignedBy, in_groups
from fairsquare.service.keeping import database_that_runs
from fairsquare.store import keys
from fairsquare.store.database import Database


def signed_by_words(by: SignedBy, wanted: str, folder: Path) -> tuple[str, bool]:
    """Return who signed a file, in words, and whether that key is known: the one whose fingerprint is `wanted`, or one of here."""
    if by.signed == "yes" and wanted:
        if by.fingerprint == wanted:
            return f"{by.shop}, key {in_groups(wanted)}: the one that you gave", True
        return f"NOT the key that you gave: {by.shop or 'somebody'}, key {in_groups(by.fingerprint)}", False
    known = _known(folder)
    signer = signer_of(by, known or KnownKeys((), ()))
    if signer.known == "unknown":
        told = f"{signer.words} Its fingerprint is {in_groups(by.fingerprint)}: have it read to you by telephone."
        return told if known is not None else f"{told} No database was asked for keys that were accepted.", False
    return signer.words, signer.known in ("own", "accepted")


def _known(folder: Path) -> KnownKeys | None:
    """Return the keys of the installation that is there; None where there is none, or it does not answer."""
    url = database_that_runs(folder)
    if not url:
        return None
    try:
        database = Database(url, 1)
        try:
            return database.run(lambda c: KnownKeys(keys.own_keys(c), keys.other_keys(c)))
        finally:
            database.close()
    except (FairSquareError, pymysql.MySQLError, ValueError, OSError):
        return None
