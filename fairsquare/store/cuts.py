"""The sections of a job: members that are replaced, what was said of each, welds ticked off, cuts made. Rows are appended only."""

import json

from fairsquare.core.cut.lines import Whose
from fairsquare.core.cut.section import LinesSaid, SectionHow, StripSaid, Topic, WeldsSaid
from fairsquare.core.errors import Refused
from fairsquare.job.facts.cuts import CutKind, CutMadeFact, SectionFact, SectionSaidFact, WeldTickFact
from fairsquare.store.database import Connection, as_model, execute, insert, select, select_one, who
from fairsquare.store.recorded import Recorded

_WHO = "p.full_name, p.role"
Said = StripSaid | LinesSaid | WeldsSaid


def begin_section(connection: Connection, job_id: int, member: str, how: SectionHow, person_id: int) -> int:
    """Begin to plan the replacement of a member and return its number. Raises `Refused` where that has begun."""
    if select_one(connection, "SELECT id FROM section WHERE job_id = %s AND member = %s", job_id, member) is not None:
        raise Refused(f"{member} is being planned already: open it.", field="member", value=member)
    last = select_one(connection, "SELECT MAX(number) AS last FROM section WHERE job_id = %s FOR UPDATE", job_id)
    number = int((last or {}).get("last") or 0) + 1
    insert(
        connection,
        """INSERT INTO section (job_id, number, member, how, person_id, at)
           VALUES (%(job_id)s, %(number)s, %(member)s, %(how)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        number=number,
        member=member,
        how=how,
        person_id=person_id,
    )
    return number


def say(connection: Connection, job_id: int, section: int, topic: Topic, said: Said, person_id: int) -> int:
    """Keep what is said of a section as the next version, and return that."""
    own = _id(connection, job_id, section)
    last = select_one(
        connection,
        "SELECT MAX(version) AS last FROM section_said WHERE section_id = %s AND topic = %s FOR UPDATE",
        own,
        topic,
    )
    version = int((last or {}).get("last") or 0) + 1
    insert(
        connection,
        """INSERT INTO section_said (section_id, topic, version, body, person_id, at)
           VALUES (%(section_id)s, %(topic)s, %(version)s, %(body)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        section_id=own,
        topic=topic,
        version=version,
        body=said.model_dump_json(),
        person_id=person_id,
    )
    return version


def tick(
    connection: Connection, job_id: int, section: int, whose: Whose, weld: str, did: str, person_id: int, *, done: bool
) -> int:
    """Tick a weld off, or take its tick back; `did` is what the map says of it."""
    return insert(
        connection,
        """INSERT INTO weld_tick (section_id, whose, weld, done, did, person_id, at)
           VALUES (%(section_id)s, %(whose)s, %(weld)s, %(done)s, %(did)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        section_id=_id(connection, job_id, section),
        whose=whose,
        weld=weld,
        done=done,
        did=did[:500],
        person_id=person_id,
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
           VALUES (%(section_id)s, %(layer)s, %(kind)s, %(at_mm)s, %(tool)s, %(words)s, %(overridden)s, %(reason)s,
             %(person_id)s, UTC_TIMESTAMP(6))""",
        section_id=_id(connection, job_id, section),
        layer=layer,
        kind=kind,
        at_mm=at_mm,
        tool=tool,
        words=words,
        overridden=json.dumps(overridden, ensure_ascii=False),
        reason=reason,
        person_id=person_id,
    )


def take_cut_back(connection: Connection, cut: int, person_id: int) -> None:
    """Record that a cut was recorded by mistake: it stays, and counts no longer."""
    execute(
        connection,
        "INSERT INTO cut_taken_back (cut_id, person_id, at) VALUES (%(cut_id)s, %(person_id)s, UTC_TIMESTAMP(6))",
        cut_id=cut,
        person_id=person_id,
    )


def sections(connection: Connection, job_id: int) -> tuple[SectionFact, ...]:
    """Return the sections of a job by their numbers."""
    rows = select(
        connection,
        f"""SELECT s.id, s.number, s.member, s.how, s.at, {_WHO} FROM section s JOIN person p ON p.id = s.person_id
            WHERE s.job_id = %s ORDER BY s.number""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(as_model(SectionFact, row) for row in rows)


def said_of(connection: Connection, job_id: int) -> tuple[SectionSaidFact, ...]:
    """Return the last version of everything said of the sections of a job."""
    rows = select(
        connection,
        f"""SELECT t.id, s.number, t.topic, t.version, t.body, t.at, {_WHO}
            FROM section_said t JOIN section s ON s.id = t.section_id JOIN person p ON p.id = t.person_id
            WHERE s.job_id = %s AND t.version = (
              SELECT MAX(n.version) FROM section_said n WHERE n.section_id = t.section_id AND n.topic = t.topic)
            ORDER BY t.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        as_model(
            SectionSaidFact,
            row,
            section=row["number"],
            strip=StripSaid.model_validate_json(row["body"]) if row["topic"] == "strip" else None,
            lines=LinesSaid.model_validate_json(row["body"]) if row["topic"] == "lines" else None,
            welds=WeldsSaid.model_validate_json(row["body"]) if row["topic"] == "welds" else None,
        )
        for row in rows
    )


def ticks(connection: Connection, job_id: int) -> tuple[WeldTickFact, ...]:
    """Return every tick and every tick taken back, oldest first."""
    rows = select(
        connection,
        f"""SELECT t.id, s.number, t.whose, t.weld, t.done, t.did, t.at, {_WHO}
            FROM weld_tick t JOIN section s ON s.id = t.section_id JOIN person p ON p.id = t.person_id
            WHERE s.job_id = %s ORDER BY t.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(as_model(WeldTickFact, row, section=row["number"]) for row in rows)


def cuts(connection: Connection, job_id: int) -> tuple[CutMadeFact, ...]:
    """Return the cuts that were made, oldest first."""
    rows = select(
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
            **{name: row[name] for name in plain},
            section=row["number"],
            overridden=tuple(json.loads(row["overridden"])),
            by=who(row),
            taken_back=who({"full_name": row["back_name"], "role": row["back_role"], "at": row["back_at"]})
            if row["back_at"]
            else None,
        )
        for row in rows
    )


def _id(connection: Connection, job_id: int, section: int) -> int:
    row = select_one(connection, "SELECT id FROM section WHERE job_id = %s AND number = %s", job_id, section)
    if row is None:
        raise Refused(f"There is no section {section} in this job.", field="section", value=section)
    return int(row["id"])


RECORDED = {
    "sections": Recorded("SELECT COUNT(*), MAX(id) FROM section WHERE job_id = {job}", sections),
    "section_said": Recorded(
        "SELECT COUNT(*), MAX(t.id) FROM section_said t JOIN section s ON s.id = t.section_id WHERE s.job_id = {job}",
        said_of,
    ),
    "weld_ticks": Recorded(
        "SELECT COUNT(*), MAX(t.id) FROM weld_tick t JOIN section s ON s.id = t.section_id WHERE s.job_id = {job}",
        ticks,
    ),
    "cuts_made": Recorded(
        """SELECT COUNT(*) + COUNT(b.cut_id), MAX(c.id) FROM cut_made c JOIN section s ON s.id = c.section_id
           LEFT JOIN cut_taken_back b ON b.cut_id = c.id WHERE s.job_id = {job}""",
        cuts,
    ),
}
"""The facts of a job that are kept here, and how they are read."""
