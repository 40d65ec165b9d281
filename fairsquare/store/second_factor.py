"""The second factor: a secret shared with a person's telephone, from which both work out a code every thirty seconds (TOTP, RFC
6238), and codes on paper for when the telephone is lost."""

import hashlib
import secrets
import time
from typing import NamedTuple

import pyotp

from fairsquare.store.database import Connection, execute, insert_many, select_one

STEP_S = 30
RECOVERY_CODES = 10
_LETTERS = "abcdefghjkmnpqrstuvwxyz23456789"
"""Without those that are taken for one another on paper."""
_NEAR = 1
"""Steps before and after the one of now that are taken too: clocks are not alike."""


class SecondFactor(NamedTuple):
    """A person's second factor: whether it is in force, and how many codes on paper are left."""

    confirmed: bool
    recovery_codes: int


def second_factor(connection: Connection, person_id: int) -> SecondFactor | None:
    """Return a person's second factor; None where none was begun."""
    row = select_one(
        connection,
        """SELECT t.confirmed_at IS NOT NULL AS confirmed,
                  (SELECT COUNT(*) FROM recovery_code r WHERE r.person_id = t.person_id AND r.used_at IS NULL) AS codes
           FROM person_totp t WHERE t.person_id = %s""",
        person_id,
    )
    return SecondFactor(bool(row["confirmed"]), int(row["codes"])) if row else None


def begin(connection: Connection, person_id: int) -> None:
    """Make a secret that is not in force until a code of it was typed; one that is in force stays."""
    execute(
        connection,
        """INSERT INTO person_totp (person_id, secret) VALUES (%(person_id)s, %(secret)s)
           ON DUPLICATE KEY UPDATE secret = IF(confirmed_at IS NULL, VALUES(secret), secret)""",
        person_id=person_id,
        secret=pyotp.random_base32(),
    )


def secret_to_show(connection: Connection, person_id: int) -> str | None:
    """Return the secret that is still to be put into a telephone; None where it is in force, or was not begun."""
    row = select_one(
        connection, "SELECT secret FROM person_totp WHERE person_id = %s AND confirmed_at IS NULL", person_id
    )
    return str(row["secret"]) if row else None


def confirm(connection: Connection, person_id: int) -> list[str]:
    """Put a second factor in force, and return its codes on paper, which are not kept."""
    execute(
        connection,
        "UPDATE person_totp SET confirmed_at = COALESCE(confirmed_at, UTC_TIMESTAMP(6)) WHERE person_id = %s",
        person_id,
    )
    return new_recovery_codes(connection, person_id)


def new_recovery_codes(connection: Connection, person_id: int) -> list[str]:
    """Make codes on paper in the place of those before, and return them: they are not kept."""
    codes = ["".join(secrets.choice(_LETTERS) for _ in range(10)) for _ in range(RECOVERY_CODES)]
    execute(connection, "DELETE FROM recovery_code WHERE person_id = %s", person_id)
    insert_many(
        connection,
        "INSERT INTO recovery_code (person_id, code_sha256) VALUES (%s, %s)",
        [(person_id, _hashed(person_id, code)) for code in codes],
    )
    return [f"{code[:5]}-{code[5:]}" for code in codes]


def end(connection: Connection, person_id: int) -> None:
    """Forget a person's second factor."""
    execute(connection, "DELETE FROM recovery_code WHERE person_id = %s", person_id)
    execute(connection, "DELETE FROM person_totp WHERE person_id = %s", person_id)


def code_is_right(connection: Connection, person_id: int, typed: str, *, now: float | None = None) -> bool:
    """Return whether a code is that of the telephone now, or one on paper; whichever it is, it is taken once."""
    plain = "".join(typed.split()).replace("-", "").lower()[:20]
    return _of_telephone(connection, person_id, plain, time.time() if now is None else now) or _of_paper(
        connection, person_id, plain
    )


def _of_telephone(connection: Connection, person_id: int, plain: str, now: float) -> bool:
    if not (len(plain) == 6 and plain.isascii() and plain.isdigit()):
        return False
    row = select_one(connection, "SELECT secret, last_step FROM person_totp WHERE person_id = %s FOR UPDATE", person_id)
    if row is None:
        return False
    totp, step = pyotp.TOTP(row["secret"], interval=STEP_S), int(now // STEP_S)
    for number in range(step - _NEAR, step + _NEAR + 1):
        if number > row["last_step"] and secrets.compare_digest(totp.generate_otp(number), plain):
            execute(
                connection,
                """UPDATE person_totp SET last_step = %(last_step)s WHERE person_id = %(person_id)s""",
                last_step=number,
                person_id=person_id,
            )
            return True
    return False


def _of_paper(connection: Connection, person_id: int, plain: str) -> bool:
    return bool(
        execute(
            connection,
            """UPDATE recovery_code SET used_at = UTC_TIMESTAMP(6)
               WHERE person_id = %(person_id)s AND code_sha256 = %(code_sha256)s AND used_at IS NULL""",
            person_id=person_id,
            code_sha256=_hashed(person_id, plain),
        )
    )


def _hashed(person_id: int, code: str) -> bytes:
    return hashlib.sha256(f"{person_id}:{code}".encode(errors="replace")).digest()
