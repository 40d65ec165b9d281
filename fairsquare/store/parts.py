"""The parts that came, counted off against the old ones and measured. Rows are appended; the last count of an item counts."""

from typing import Any

from fairsquare.core.errors import Refused
from fairsquare.job.facts.parts import Blank, PartFact, PartItemFact, PartItemKind, PartSpanFact
from fairsquare.store.database import Connection, insert, select, select_one, who
from fairsquare.store.recorded import Recorded

_WHO = "w.full_name, w.role"


def take_part_in(
    connection: Connection,
    job_id: int,
    name: str,
    origin: str,
    source: str,
    identity: str,
    blank: Blank | None,
    person_id: int,
) -> int:
    """Record a part that came, or is made in the shop from a blank, and return its id."""
    return insert(
        connection,
        """INSERT INTO part (job_id, name, origin, source, identity, blank, person_id, at)
           VALUES (%(job_id)s, %(name)s, %(origin)s, %(source)s, %(identity)s, %(blank)s, %(person_id)s,
             UTC_TIMESTAMP(6))""",
        job_id=job_id,
        name=name,
        origin=origin,
        source=source,
        identity=identity,
        blank=blank.model_dump_json() if blank else None,
        person_id=person_id,
    )


def count_item(
    connection: Connection,
    job_id: int,
    part: int,
    kind: PartItemKind,
    words: str,
    old_count: int,
    new_count: int,
    plan: str,
    person_id: int,
) -> int:
    """Record how many of an item the old part has, and how many the new one."""
    _check_of_job(connection, job_id, part)
    return insert(
        connection,
        """INSERT INTO part_item (part_id, kind, words, old_count, new_count, plan, person_id, at)
           VALUES (%(part_id)s, %(kind)s, %(words)s, %(old_count)s, %(new_count)s, %(plan)s, %(person_id)s,
             UTC_TIMESTAMP(6))""",
        part_id=part,
        kind=kind,
        words=words,
        old_count=old_count,
        new_count=new_count,
        plan=plan,
        person_id=person_id,
    )


def measure_part(
    connection: Connection,
    job_id: int,
    part: int,
    a: str,
    b: str,
    said: str,
    mm: float,
    sigma_mm: float,
    person_id: int,
) -> int:
    """Record a span measured on a part."""
    _check_of_job(connection, job_id, part)
    return insert(
        connection,
        """INSERT INTO part_measured (part_id, a, b, said, mm, sigma_mm, person_id, at)
           VALUES (%(part_id)s, %(a)s, %(b)s, %(said)s, %(mm)s, %(sigma_mm)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        part_id=part,
        a=a,
        b=b,
        said=said,
        mm=mm,
        sigma_mm=sigma_mm,
        person_id=person_id,
    )


def parts(connection: Connection, job_id: int) -> tuple[PartFact, ...]:
    """Return the parts that came, oldest first."""
    rows = _rows(
        connection,
        f"""SELECT p.id, p.name, p.origin, p.source, p.identity, p.blank, p.at, {_WHO}
            FROM part p JOIN person w ON w.id = p.person_id
            WHERE p.job_id = %s ORDER BY p.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        PartFact.model_validate({**row, "blank": Blank.model_validate_json(row["blank"]) if row["blank"] else None})
        for row in rows
    )


def items(connection: Connection, job_id: int) -> tuple[PartItemFact, ...]:
    """Return the last count of every item, in the order in which they were first counted."""
    rows = _rows(
        connection,
        f"""SELECT i.id, i.part_id AS part, i.kind, i.words, i.old_count, i.new_count, i.plan, i.at, {_WHO}
            FROM part_item i JOIN part p ON p.id = i.part_id JOIN person w ON w.id = i.person_id
            WHERE p.job_id = %s ORDER BY i.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    latest = {(row["part"], row["kind"], row["words"].lower()): PartItemFact.model_validate(row) for row in rows}
    return tuple(latest.values())


def spans(connection: Connection, job_id: int) -> tuple[PartSpanFact, ...]:
    """Return the last reading of every span on a part."""
    rows = _rows(
        connection,
        f"""SELECT m.id, m.part_id AS part, m.a, m.b, m.said, m.mm, m.sigma_mm, m.at, {_WHO}
            FROM part_measured m JOIN part p ON p.id = m.part_id JOIN person w ON w.id = m.person_id
            WHERE p.job_id = %s ORDER BY m.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    latest = {(row["part"], frozenset((row["a"], row["b"]))): PartSpanFact.model_validate(row) for row in rows}
    return tuple(latest.values())


def _rows(connection: Connection, sql: str, job_id: int) -> list[dict[str, Any]]:
    own = ("at", "full_name", "role")
    return [
        {**{name: value for name, value in row.items() if name not in own}, "by": who(row)}
        for row in select(connection, sql, job_id)
    ]


def _check_of_job(connection: Connection, job_id: int, part: int) -> None:
    if select_one(connection, "SELECT id FROM part WHERE id = %s AND job_id = %s", part, job_id) is None:
        raise Refused(f"There is no part {part} in this job.", field="part", value=part)


RECORDED = {
    "parts": Recorded("SELECT COUNT(*), MAX(id) FROM part WHERE job_id = {job}", parts),
    "part_items": Recorded(
        "SELECT COUNT(*), MAX(i.id) FROM part_item i JOIN part p ON p.id = i.part_id WHERE p.job_id = {job}",
        items,
    ),
    "part_spans": Recorded(
        "SELECT COUNT(*), MAX(m.id) FROM part_measured m JOIN part p ON p.id = m.part_id WHERE p.job_id = {job}",
        spans,
    ),
}
"""The facts of a job that are kept here, and how they are read."""
