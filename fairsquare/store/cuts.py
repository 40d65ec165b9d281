"""The sections of a job: members that are replaced, what was said of each, welds ticked off, cuts made. Rows are appended only."""

import json

from fairsquare.core.cut.lines import Whose
from fairsquare.core.cut.section import LinesSaid, SectionHow, StripSaid, Topic, WeldsSaid
from fairsquare.core.errors import Refused
from fairsquare.job.facts.cuts import CutKind, CutMadeFact, SectionFact, SectionSaidFact, WeldTickFact
from fairsquare.store.database import Connection, execute, insert, row, rows, who

_WHO = "p.full_name, p.role"
Said = StripSaid | LinesSaid | WeldsSaid


def begin_section(connection: Connection, job_id: int, member: str, how: SectionHow, person_id: int) -> int:
    """Begin to plan the replacement of a member and return its number. Raises `Refused` where that has begun."""
    if row(connection, "SELECT id FROM section WHERE job_id = %s AND member = %s", job_id, member) is not None:
        raise Refused(f"{member} is being planned already: open it.", field="member", value=member)
    last = row(connection, "SELECT MAX(number) AS last FROM section WHERE job_id = %s FOR UPDATE", job_id)
    number = int((last or {}).get("last") or 0) + 1
    insert(
        connection,
        "INSERT INTO section (job_id, number, member, how, person_id, at) VALUES (%s, %s, %s, %s, %s, UTC_TIMESTAMP(6))",
        job_id,
        number,
        member,
        how,
        person_id,
    )
    return number


def say(connection: Connection, job_id: int, section: int, topic: Topic, said: Said, person_id: int) -> int:
    """Keep what is said of a section as the next version, and return that."""
    own = _id(connection, job_id, section)
    last = row(
        connection,
        "SELECT MAX(version) AS last FROM section_said WHERE section_id = %s AND topic = %s FOR UPDATE",
        own,
        topic,
    )
    version = int((last or {}).get("last") or 0) + 1
    insert(
        connection,
        "INSERT INTO section_said (section_id, topic, version, body, person_id, at) VALUES (%s, %s, %s, %s, %s, UTC_TIMESTAMP(6))",
        own,
        topic,
        version,
        said.model_dump_json(),
        person_id,
    )
    return version


def tick(
    connection: Connection, job_id: int, section: int, whose: Whose, weld: str, did: str, person_id: int, *, done: bool
) -> int:
    """Tick a weld off, or take its tick back; `did` is what the map says of it."""
    return insert(
        connection,
        """INSERT INTO weld_tick (section_id, whose, weld, done, did, person_id, at)
           VALUES (%s, %s, %s, %s, %s, %s, UTC_TIMESTAMP(6))""",
        _id(connection, job_id, section),
        whose,
        weld,
        done,
        did[:500],
        person_id,
    )


def make_cut(
    connection: Connection,
    job_id: int,
    section: int,
    layer: str,
    kind: CutKind,
    at_mm: float,
    tool: str,
    words: str,
    overridden: tuple[str, ...],
    reason: str,
    person_id: int,
) -> int:
    """Record a cut that was made."""
    return insert(
        connection,
        """INSERT INTO cut_made (section_id, layer, kind, at_mm, tool, words, overridden, reason, person_id, at)
           VALUES (%s, %s, %s, %s, %s, %s, %s, %s, %s, UTC_TIMESTAMP(6))""",
        _id(connection, job_id, section),
        layer,
        kind,
        at_mm,
        tool,
        words,
        json.dumps(overridden, ensure_ascii=False),
        reason,
        person_id,
    )


def take_cut_back(connection: Connection, cut: int, person_id: int) -> None:
    """Record that a cut was recorded by mistake: it stays, and counts no longer."""
    execute(
        connection,
        "INSERT INTO cut_taken_back (cut_id, person_id, at) VALUES (%s, %s, UTC_TIMESTAMP(6))",
        cut,
        person_id,
    )


def sections(connection: Connection, job_id: int) -> tuple[SectionFact, ...]:
    """Return the sections of a job by their numbers."""
    found = rows(
        connection,
        f"""SELECT s.id, s.number, s.member, s.how, s.at, {_WHO} FROM section s JOIN person p ON p.id = s.person_id
            WHERE s.job_id = %s ORDER BY s.number""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        SectionFact(id=one["id"], number=one["number"], member=one["member"], how=one["how"], by=who(one))
        for one in found
    )


def said_of(connection: Connection, job_id: int) -> tuple[SectionSaidFact, ...]:
    """Return the last version of everything said of the sections of a job."""
    found = rows(
        connection,
        f"""SELECT t.id, s.number, t.topic, t.version, t.body, t.at, {_WHO}
            FROM section_said t JOIN section s ON s.id = t.section_id JOIN person p ON p.id = t.person_id
            WHERE s.job_id = %s AND t.version = (
              SELECT MAX(n.version) FROM section_said n WHERE n.section_id = t.section_id AND n.topic = t.topic)
            ORDER BY t.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        SectionSaidFact(
            id=one["id"],
            section=one["number"],
            topic=one["topic"],
            version=one["version"],
            strip=StripSaid.model_validate_json(one["body"]) if one["topic"] == "strip" else None,
            lines=LinesSaid.model_validate_json(one["body"]) if one["topic"] == "lines" else None,
            welds=WeldsSaid.model_validate_json(one["body"]) if one["topic"] == "welds" else None,
            by=who(one),
        )
        for one in found
    )


def ticks(connection: Connection, job_id: int) -> tuple[WeldTickFact, ...]:
    """Return every tick and every tick taken back, oldest first."""
    found = rows(
        connection,
        f"""SELECT t.id, s.number, t.whose, t.weld, t.done, t.did, t.at, {_WHO}
            FROM weld_tick t JOIN section s ON s.id = t.section_id JOIN person p ON p.id = t.person_id
            WHERE s.job_id = %s ORDER BY t.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        WeldTickFact(
            id=one["id"],
            section=one["number"],
            whose=one["whose"],
            weld=one["weld"],
            done=bool(one["done"]),
            did=one["did"],
            by=who(one),
        )
        for one in found
    )


def cuts(connection: Connection, job_id: int) -> tuple[CutMadeFact, ...]:
    """Return the cuts that were made, oldest first."""
    found = rows(
        connection,
        f"""SELECT c.id, s.number, c.layer, c.kind, c.at_mm, c.tool, c.words, c.overridden, c.reason, c.at, {_WHO},
                   b.at AS back_at, q.full_name AS back_name, q.role AS back_role
            FROM cut_made c JOIN section s ON s.id = c.section_id JOIN person p ON p.id = c.person_id
            LEFT JOIN cut_taken_back b ON b.cut_id = c.id LEFT JOIN person q ON q.id = b.person_id
            WHERE s.job_id = %s ORDER BY c.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    plain = ("id", "layer", "kind", "at_mm", "tool", "words", "reason")
    return tuple(
        CutMadeFact(
            **{name: one[name] for name in plain},
            section=one["number"],
            overridden=tuple(json.loads(one["overridden"])),
            by=who(one),
            taken_back=who({"full_name": one["back_name"], "role": one["back_role"], "at": one["back_at"]})
            if one["back_at"]
            else None,
        )
        for one in found
    )


def _id(connection: Connection, job_id: int, section: int) -> int:
    found = row(connection, "SELECT id FROM section WHERE job_id = %s AND number = %s", job_id, section)
    if found is None:
        raise Refused(f"There is no section {section} in this job.", field="section", value=section)
    return int(found["id"])
