"""What the log says of doors: who signed in or could not, what a role was refused, links made and used, data brought back.

Each is one line with `event` “security” and its `kind`, so that they are found apart from everything else. Nothing secret stands in
them: a code is told by the beginning of its hash.
"""

import hashlib
import re
from typing import Literal

import structlog

Kind = Literal[
    "signed in",
    "sign-in refused",
    "sign-in too often",
    "sign-in ended",
    "second factor refused",
    "second factor on",
    "second factor off",
    "second factor forgotten",
    "recovery codes made",
    "token made",
    "role changed",
    "let go",
    "let in again",
    "key accepted",
    "key not accepted",
    "key taken back",
    "key replaced",
    "role refused",
    "link made",
    "link used",
    "link refused",
    "restored",
]
_CODE_IN_PATH = re.compile(r"^/(handover|supplement)/([^/]+)")
_log = structlog.get_logger("fairsquare.security")


def security(kind: Kind, **told: str | int | None) -> None:
    """Write a line about something that concerns who gets in."""
    _log.warning("security", kind=kind, **told)


def told_code(code: str) -> str:
    """Return what is told of a link's code: enough to find its lines, too little to open it."""
    return f"#{hashlib.sha256(code.encode(errors='replace')).hexdigest()[:12]}"


def told_path(path: str) -> str:
    """Return a path as it is logged: the code of a link is not in it."""
    return _CODE_IN_PATH.sub(lambda found: f"/{found.group(1)}/{told_code(found.group(2))}", path)
