"""Answers on the made-safe list, and signatures over what was seen."""

import json

from fairsquare.core.errors import Refused
from fairsquare.core.intake.safety import SAFETY_KEYS
from fairsquare.job.facts.holds import HoldName
from fairsquare.job.facts.intake import SafetyAnswer
from fairsquare.store.database import Connection, insert


def answer_safety(
    connection: Connection,
    job_id: int,
    item: str,
    answer: SafetyAnswer,
    words: str,
    person_id: int,
    done_by: str | None = None,
    qualification: str | None = None,
) -> int:
    """Record an answer to one item. Raises `Refused` for an item that is not on the list."""
    if item not in SAFETY_KEYS:
        raise Refused("That is not on the list.", field="item", value=item)
    return insert(
        connection,
        """INSERT INTO safety_answer (job_id, item, answer, words, done_by, qualification, person_id, at)
           VALUES (%(job_id)s, %(item)s, %(answer)s, %(words)s, %(done_by)s, %(qualification)s, %(person_id)s,
             UTC_TIMESTAMP(6))""",
        job_id=job_id,
        item=item,
        answer=answer,
        words=words,
        done_by=done_by,
        qualification=qualification,
        person_id=person_id,
    )


def sign(
    connection: Connection,
    job_id: int,
    hold: HoldName,
    evidence: dict[str, str],
    overridden: tuple[str, ...],
    reason: str | None,
    seen: str,
    person_id: int,
) -> int:
    """Keep a signature with the evidence it rests on and, as JSON, everything that was seen."""
    return insert(
        connection,
        """INSERT INTO signature (job_id, hold, evidence, overridden, reason, seen, person_id, at)
           VALUES (%(job_id)s, %(hold)s, %(evidence)s, %(overridden)s, %(reason)s, %(seen)s, %(person_id)s,
             UTC_TIMESTAMP(6))""",
        job_id=job_id,
        hold=hold,
        evidence=json.dumps(evidence),
        overridden=json.dumps(overridden),
        reason=reason,
        seen=seen,
        person_id=person_id,
    )
