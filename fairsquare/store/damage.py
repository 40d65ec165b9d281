"""What was seen, settled and decided of the damage of a job. Rows are appended; what is newest counts."""

import json
from typing import Any

from fairsquare.core.errors import Refused
from fairsquare.job.facts.damage import BoundFact, DecisionFact, LineFact, MemberFact, SettlementFact, WorthFact
from fairsquare.job.facts.walk_round import WalkFact, WalkKind
from fairsquare.store.database import Connection, as_model, execute, insert, select, select_one, who
from fairsquare.store.recorded import Recorded

_WHO = "p.full_name, p.role"


def note_finding(
    connection: Connection,
    job_id: int,
    kind: WalkKind,
    said: str,
    place: str,
    code: str | None,
    xy: tuple[float, float] | None,
    left_mm: float | None,
    right_mm: float | None,
    person_id: int,
) -> int:
    """Record something seen at the walk-round and return its id."""
    return insert(
        connection,
        """INSERT INTO walk_finding (job_id, kind, said, place, code, x, y, left_mm, right_mm, person_id, at)
           VALUES (%(job_id)s, %(kind)s, %(said)s, %(place)s, %(code)s, %(x)s, %(y)s, %(left_mm)s, %(right_mm)s,
             %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        kind=kind,
        said=said,
        place=place,
        code=code,
        x=xy[0] if xy else None,
        y=xy[1] if xy else None,
        left_mm=left_mm,
        right_mm=right_mm,
        person_id=person_id,
    )


def take_finding_back(connection: Connection, job_id: int, finding: int, reason: str, person_id: int) -> None:
    """Record that a finding no longer counts, and why. Raises `Refused` for one that is not of this job."""
    if select_one(connection, "SELECT id FROM walk_finding WHERE id = %s AND job_id = %s", finding, job_id) is None:
        raise Refused(f"There is no finding {finding} in this job.", field="finding", value=finding)
    execute(
        connection,
        """INSERT IGNORE INTO walk_taken_back (finding_id, reason, person_id, at)
           VALUES (%(finding_id)s, %(reason)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        finding_id=finding,
        reason=reason,
        person_id=person_id,
    )


def bind_finding(connection: Connection, job_id: int, finding: int, member: str, layer: str, person_id: int) -> int:
    """Record which member, and which layer of it, a finding is on. Raises `Refused` for one that is not of this job."""
    if select_one(connection, "SELECT id FROM walk_finding WHERE id = %s AND job_id = %s", finding, job_id) is None:
        raise Refused(f"There is no finding {finding} in this job.", field="finding", value=finding)
    return insert(
        connection,
        """INSERT INTO walk_bound (finding_id, member, layer, person_id, at)
           VALUES (%(finding_id)s, %(member)s, %(layer)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        finding_id=finding,
        member=member,
        layer=layer,
        person_id=person_id,
    )


def bound(connection: Connection, job_id: int) -> tuple[BoundFact, ...]:
    """Return which members findings were said to be on, oldest first."""
    rows = select(
        connection,
        f"""SELECT b.id, b.finding_id AS finding, b.member, b.layer, b.at, {_WHO}
            FROM walk_bound b JOIN walk_finding w ON w.id = b.finding_id JOIN person p ON p.id = b.person_id
            WHERE w.job_id = %s ORDER BY b.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(as_model(BoundFact, row) for row in rows)


def answer_line(connection: Connection, job_id: int, item: str, answer: str, words: str, person_id: int) -> int:
    """Record how a mechanical part along the line of the push was found."""
    return insert(
        connection,
        """INSERT INTO line_check (job_id, item, answer, words, person_id, at)
           VALUES (%(job_id)s, %(item)s, %(answer)s, %(words)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        item=item,
        answer=answer,
        words=words,
        person_id=person_id,
    )


def weigh(connection: Connection, job_id: int, value_cents: int, cost_cents: int, words: str, person_id: int) -> int:
    """Record what the vehicle is worth and what its repair would cost."""
    return insert(
        connection,
        """INSERT INTO worth (job_id, value_cents, cost_cents, words, person_id, at)
           VALUES (%(job_id)s, %(value_cents)s, %(cost_cents)s, %(words)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        value_cents=value_cents,
        cost_cents=cost_cents,
        words=words,
        person_id=person_id,
    )


def settle_finding(connection: Connection, job_id: int, finding: str, reason: str, person_id: int) -> int:
    """Record that a person settled a contradiction, and why."""
    return insert(
        connection,
        """INSERT INTO settlement (job_id, finding, reason, person_id, at)
           VALUES (%(job_id)s, %(finding)s, %(reason)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        finding=finding,
        reason=reason,
        person_id=person_id,
    )


def see_member(connection: Connection, job_id: int, variant: str, seen: dict[str, Any], person_id: int) -> int:
    """Record a member as it is seen: the fields of `MemberFact` in `seen`."""
    return insert(
        connection,
        """INSERT INTO member_seen (job_id, variant, member, layer, material, role, signs, straighten, section, heat,
             source, contradicts, person_id, at)
           VALUES (%(job_id)s, %(variant)s, %(member)s, %(layer)s, %(material)s, %(role)s, %(signs)s, %(straighten)s,
             %(section)s, %(heat)s, %(source)s, %(contradicts)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        variant=variant,
        member=seen["member"],
        layer=seen["layer"],
        material=seen["material"],
        role=seen["role"],
        signs=json.dumps(seen["signs"]),
        straighten=seen["straighten"],
        section=seen["section"],
        heat=seen["heat"],
        source=seen["source"],
        contradicts=seen["contradicts"],
        person_id=person_id,
    )


def decide(connection: Connection, job_id: int, seen_id: int, decided: dict[str, Any], person_id: int) -> int:
    """Record what is done with a member as it was seen: the fields of `DecisionFact` in `decided`."""
    return insert(
        connection,
        """INSERT INTO member_decision (job_id, seen_id, decision, reason, gives_up, remains, consent, first, hours,
             donor, person_id, at)
           VALUES (%(job_id)s, %(seen_id)s, %(decision)s, %(reason)s, %(gives_up)s, %(remains)s, %(consent)s,
             %(first)s, %(hours)s, %(donor)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        seen_id=seen_id,
        decision=decided["decision"],
        reason=decided["reason"],
        gives_up=decided["gives_up"],
        remains=decided["remains"],
        consent=decided["consent"],
        first=decided["first"],
        hours=decided["hours"],
        donor=decided["donor"],
        person_id=person_id,
    )


def of_variant(connection: Connection, variant: str) -> dict[tuple[str, str], dict[str, Any]]:
    """Return what was last said of each member and layer of a vehicle variant, in any job: material, role, the maker's word."""
    rows = select(
        connection,
        """SELECT s.member, s.layer, s.material, s.role, s.straighten, s.section, s.heat, s.source
           FROM member_seen s
           JOIN (SELECT MAX(id) AS id FROM member_seen WHERE variant = %s AND (material <> 'unknown' OR straighten IS NOT NULL
                   OR section IS NOT NULL OR heat IS NOT NULL) GROUP BY member, layer) newest ON newest.id = s.id""",
        variant,
    )
    return {
        (row["member"], row["layer"]): {
            **row,
            **{name: _yes_no(row[name]) for name in ("straighten", "section", "heat")},
        }
        for row in rows
    }


def walk(connection: Connection, job_id: int) -> tuple[WalkFact, ...]:
    """Return what was seen at the walk-round, oldest first."""
    rows = select(
        connection,
        f"""SELECT w.id, w.kind, w.said, w.place, w.code, w.x, w.y, w.left_mm, w.right_mm, w.at, {_WHO}
            FROM walk_finding w JOIN person p ON p.id = w.person_id WHERE w.job_id = %s ORDER BY w.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    back = select(
        connection,
        f"""SELECT t.finding_id, t.reason, t.at, {_WHO} FROM walk_taken_back t JOIN walk_finding w ON w.id = t.finding_id
            JOIN person p ON p.id = t.person_id WHERE w.job_id = %s""",  # noqa: S608 - names of columns only
        job_id,
    )
    taken = {row["finding_id"]: who(row) for row in back}
    why = {row["finding_id"]: row["reason"] for row in back}
    return tuple(
        as_model(
            WalkFact,
            w,
            xy=None if w["x"] is None else (w["x"], w["y"]),
            taken_back=taken.get(w["id"]),
            back_reason=why.get(w["id"], ""),
        )
        for w in rows
    )


def line(connection: Connection, job_id: int) -> tuple[LineFact, ...]:
    """Return the last answer for each mechanical part."""
    rows = select(
        connection,
        f"""SELECT l.id, l.item, l.answer, l.words, l.at, {_WHO} FROM line_check l JOIN person p ON p.id = l.person_id
            WHERE l.job_id = %s ORDER BY l.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    latest = {row["item"]: as_model(LineFact, row) for row in rows}
    return tuple(latest.values())


def worth(connection: Connection, job_id: int) -> tuple[WorthFact, ...]:
    """Return every weighing of value against cost, oldest first."""
    rows = select(
        connection,
        f"""SELECT w.id, w.value_cents, w.cost_cents, w.words, w.at, {_WHO} FROM worth w JOIN person p ON p.id = w.person_id
            WHERE w.job_id = %s ORDER BY w.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(as_model(WorthFact, row) for row in rows)


def settlements(connection: Connection, job_id: int) -> tuple[SettlementFact, ...]:
    """Return the contradictions that were settled, oldest first."""
    rows = select(
        connection,
        f"""SELECT s.id, s.finding, s.reason, s.at, {_WHO} FROM settlement s JOIN person p ON p.id = s.person_id
            WHERE s.job_id = %s ORDER BY s.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(as_model(SettlementFact, row) for row in rows)


def members(connection: Connection, job_id: int) -> tuple[MemberFact, ...]:
    """Return the members as they were seen, oldest first."""
    rows = select(
        connection,
        f"""SELECT m.id, m.member, m.layer, m.material, m.role AS member_role, m.signs, m.straighten, m.section,
              m.heat, m.source, m.contradicts, m.at, {_WHO}
            FROM member_seen m JOIN person p ON p.id = m.person_id WHERE m.job_id = %s ORDER BY m.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        MemberFact.model_validate(
            {
                **{name: row[name] for name in ("id", "member", "layer", "material", "source", "contradicts")},
                "role": row["member_role"],
                "signs": tuple(json.loads(row["signs"])),
                "maker": {name: _yes_no(row[name]) for name in ("straighten", "section", "heat")},
                "by": who(row),
            }
        )
        for row in rows
    )


def decisions(connection: Connection, job_id: int) -> tuple[DecisionFact, ...]:
    """Return the decisions on members, oldest first."""
    rows = select(
        connection,
        f"""SELECT d.id, d.seen_id AS seen, d.decision, d.reason, d.gives_up, d.remains, d.consent, d.first, d.hours, d.donor,
              d.at, {_WHO}
            FROM member_decision d JOIN person p ON p.id = d.person_id WHERE d.job_id = %s ORDER BY d.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    plain = ("id", "seen", "decision", "reason", "gives_up", "remains", "consent", "first", "hours", "donor")
    return tuple(DecisionFact.model_validate({**{name: row[name] for name in plain}, "by": who(row)}) for row in rows)


def _yes_no(value: int | None) -> bool | None:
    return None if value is None else bool(value)


RECORDED = {
    "walk": Recorded(
        """SELECT COUNT(*) + COUNT(t.finding_id), MAX(w.id) FROM walk_finding w
           LEFT JOIN walk_taken_back t ON t.finding_id = w.id WHERE w.job_id = {job}""",
        walk,
    ),
    "bound": Recorded(
        """SELECT COUNT(*), MAX(b.id) FROM walk_bound b JOIN walk_finding w ON w.id = b.finding_id
           WHERE w.job_id = {job}""",
        bound,
    ),
    "line": Recorded("SELECT COUNT(*), MAX(id) FROM line_check WHERE job_id = {job}", line),
    "worth": Recorded("SELECT COUNT(*), MAX(id) FROM worth WHERE job_id = {job}", worth),
    "settlements": Recorded("SELECT COUNT(*), MAX(id) FROM settlement WHERE job_id = {job}", settlements),
    "members": Recorded("SELECT COUNT(*), MAX(id) FROM member_seen WHERE job_id = {job}", members),
    "decisions": Recorded("SELECT COUNT(*), MAX(id) FROM member_decision WHERE job_id = {job}", decisions),
}
"""The facts of a job that are kept here, and how they are read."""
