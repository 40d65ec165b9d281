"""Writes that are safe to repeat: a key made by the client, and the answer that its first use was given."""

import json
from collections.abc import Callable
from typing import Any

from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.store.database import Connection, execute, select_one

LONGEST_KEY, LONGEST_PURPOSE = 64, 80


class KeyReused(FairSquareError):
    """A request key came a second time, for something else."""

    status = 409
    kind = "key-reused"


def once(
    connection: Connection, key: str, person_id: int, purpose: str, work: Callable[[], dict[str, Any]]
) -> tuple[dict[str, Any], bool]:
    """Do `work` unless `key` was used before; return its answer, and whether this was a repetition.

    The key is inserted first: of two that come at once the second waits for the first and then finds its answer.
    Raises `KeyReused` when the key stands for another purpose or person, and `Refused` for what is none.
    """
    if not (key.isascii() and key.isprintable() and 1 <= len(key) <= LONGEST_KEY):
        raise Refused(
            f"A request key has up to {LONGEST_KEY} letters, figures and signs: make one for each thing that is recorded.",
            field="request_key",
            value=key[:LONGEST_KEY],
        )
    purpose = purpose[:LONGEST_PURPOSE]
    taken = execute(
        connection,
        """INSERT IGNORE INTO request_key (request_key, person_id, purpose, answer, at)
           VALUES (%(request_key)s, %(person_id)s, %(purpose)s, 'null', UTC_TIMESTAMP(6))""",
        request_key=key,
        person_id=person_id,
        purpose=purpose,
    )
    if taken:
        answer = work()
        execute(
            connection,
            """UPDATE request_key SET answer = %(answer)s WHERE request_key = %(request_key)s""",
            answer=json.dumps(answer),
            request_key=key,
        )
        return answer, False
    row = select_one(
        connection, "SELECT person_id, purpose, answer FROM request_key WHERE request_key = %s LOCK IN SHARE MODE", key
    )
    if row is None or row["person_id"] != person_id or row["purpose"] != purpose:
        raise KeyReused(
            "This request key was used for something else: make a new one for each thing that is recorded.",
            field="request_key",
            value=key,
        )
    return json.loads(row["answer"]), True
