"""Which passwords are taken: long enough, and not among those that are tried first."""

import re
from functools import lru_cache
from pathlib import Path

from fairsquare.core.errors import Refused

SHORTEST, LONGEST, FEWEST_LETTERS, FEWEST_MORE = 12, 200, 5, 8
"""Characters, different ones among them, and those beside one's name. NIST SP 800-63B asks for eight, and a list."""
_COMMON = Path(__file__).with_name("common_passwords.txt")
_ROWS = (
    "abcdefghijklmnopqrstuvwxyz",
    "01234567890123456789",
    "qwertyuiopasdfghjklzxcvbnm",
    "qazwsxedcrfvtgbyhnujmikolp",
)
_LEET = str.maketrans("0134578@$!", "oieastbasi")


def check_password(password: str, name: str) -> None:
    """Raise `Refused` for a password that is short, is the name with a little more, or is among the first that are tried."""
    if not SHORTEST <= len(password) <= LONGEST:
        raise Refused(
            f"The password should have {SHORTEST} to {LONGEST} characters; a few words do well.", field="password"
        )
    if len(set(password.casefold())) < FEWEST_LETTERS or not password.strip():
        raise Refused("The password is one character over and over: a few words do well.", field="password")
    plain, own = password.casefold(), name.casefold()
    if len(own) > 2 and own in plain and len(plain) - len(own) < FEWEST_MORE:
        raise Refused("The password should not be the name with a little more.", field="password")
    if is_common(password):
        raise Refused(
            "That password is among the first that are tried: a few words that nobody guesses do well.",
            field="password",
        )


def is_common(password: str) -> bool:
    """Say whether a password is a common word, alone, repeated or with figures round it, or a row of the keyboard."""
    plain = re.sub(r"\s", "", password.casefold())
    rows = [row * 2 for row in (*_ROWS, *(row[::-1] for row in _ROWS))]
    if any(plain in row for row in rows):
        return True
    core = plain.strip("0123456789!?.-_#*")
    spellings = {
        core,
        *(re.sub(r"[^a-z]", "", spelling) for spelling in (plain, plain.translate(_LEET), core.translate(_LEET))),
    }
    return any(
        word in _common() or any(word == common * (len(word) // len(common)) for common in _common())
        for word in spellings
        if word
    )


@lru_cache(maxsize=1)
def _common() -> frozenset[str]:
    return frozenset(_COMMON.read_text(encoding="utf-8").split())
