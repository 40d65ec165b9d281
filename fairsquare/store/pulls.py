"""The rig, how a vehicle is held and pulled, pull plans, what was done on the board, and loads. Rows are appended only."""

import json
from typing import Any

from fairsquare.core.errors import Refused
from fairsquare.core.model import Row3
from fairsquare.core.pull.gear import Gear, GearKind
from fairsquare.core.pull.job import BoardState, PlanSaid
from fairsquare.core.pull.setting import Setting
from fairsquare.job.facts.job import PRACTICE
from fairsquare.job.facts.pulls import PullEventFact, PullPlanFact, PullSettingFact, Settled, SettlingFact
from fairsquare.store.database import Connection, as_model, execute, insert, select, select_one, utc, who
from fairsquare.store.recorded import Recorded

_EVER = "1970-01-01"
_WHO = "p.full_name, p.role"


def add_gear(
    connection: Connection,
    name: str,
    kind: GearKind,
    capacity_n: float | None,
    area_mm2: float | None,
    made: str,
    words: str,
    person_id: int,
) -> int:
    """Record a piece of the rig. Raises `Refused` for a name that another piece in use has."""
    if any(item.name == name for item in gear(connection)):
        raise Refused(f"There is a piece named {name} already: give this one another name.", field="name", value=name)
    return insert(
        connection,
        """INSERT INTO rig_item (name, kind, capacity_n, area_mm2, made, words, person_id, at)
           VALUES (%(name)s, %(kind)s, %(capacity_n)s, %(area_mm2)s, %(made)s, %(words)s, %(person_id)s,
             UTC_TIMESTAMP(6))""",
        name=name,
        kind=kind,
        capacity_n=capacity_n,
        area_mm2=area_mm2,
        made=made,
        words=words,
        person_id=person_id,
    )


def look_at_gear(connection: Connection, item: int, condition: str, words: str, person_id: int) -> int:
    """Record how a piece was found: sound, hurt, or retired. Raises `Refused` for a piece that is not there."""
    if select_one(connection, "SELECT id FROM rig_item WHERE id = %s", item) is None:
        raise Refused("There is no such piece of the rig.", field="item", value=item)
    return insert(
        connection,
        """INSERT INTO rig_look (item_id, found, words, person_id, at)
           VALUES (%(item_id)s, %(found)s, %(words)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        item_id=item,
        found=condition,
        words=words,
        person_id=person_id,
    )


def gear(connection: Connection) -> tuple[Gear, ...]:
    """Return the pieces in use, by kind and name, with the last look at each."""
    rows = select(
        connection,
        """SELECT i.id, i.name, i.kind, i.capacity_n, i.area_mm2, i.made, i.words, l.found, l.at AS looked_at
           FROM rig_item i
           LEFT JOIN rig_look l ON l.id = (SELECT MAX(m.id) FROM rig_look m WHERE m.item_id = i.id)
           WHERE NOT EXISTS (SELECT 1 FROM rig_look r WHERE r.item_id = i.id AND r.found = 'retired')
           ORDER BY i.kind, i.name""",
    )
    return tuple(Gear(**{**row, "looked_at": utc(row["looked_at"]) if row["looked_at"] else None}) for row in rows)


def keep_setting(connection: Connection, job_id: int, setting: Setting, person_id: int) -> int:
    """Keep how the vehicle is held and pulled as the next version, and return that."""
    return _keep(connection, "pull_setting", job_id, setting.model_dump_json(), person_id)


def keep_plan(connection: Connection, job_id: int, plan: PlanSaid, person_id: int) -> int:
    """Keep a plan as the next version, and return that."""
    return _keep(connection, "pull_plan", job_id, plan.model_dump_json(), person_id)


def _keep(connection: Connection, table: str, job_id: int, body: str, person_id: int) -> int:
    last = select_one(connection, f"SELECT MAX(version) AS last FROM {table} WHERE job_id = %s FOR UPDATE", job_id)  # noqa: S608 - a name of ours
    version = int((last or {}).get("last") or 0) + 1
    insert(
        connection,
        f"""INSERT INTO {table} (job_id, version, body, person_id, at)
            VALUES (%(job_id)s, %(version)s, %(body)s, %(person_id)s, UTC_TIMESTAMP(6))""",  # noqa: S608 - a name of ours
        job_id=job_id,
        version=version,
        body=body,
        person_id=person_id,
    )
    return version


def settings(connection: Connection, job_id: int) -> tuple[PullSettingFact, ...]:
    """Return the last setting of a job."""
    rows = select(
        connection,
        f"""SELECT s.id, s.version, s.body, s.at, {_WHO} FROM pull_setting s JOIN person p ON p.id = s.person_id
            WHERE s.job_id = %s ORDER BY s.version DESC LIMIT 1""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(as_model(PullSettingFact, row, setting=Setting.model_validate_json(row["body"])) for row in rows)


def plans(connection: Connection, job_id: int) -> tuple[PullPlanFact, ...]:
    """Return the plans of a job, oldest first."""
    rows = select(
        connection,
        f"""SELECT s.id, s.version, s.body, s.at, {_WHO} FROM pull_plan s JOIN person p ON p.id = s.person_id
            WHERE s.job_id = %s ORDER BY s.version""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(as_model(PullPlanFact, row, plan=PlanSaid.model_validate_json(row["body"])) for row in rows)


def note_event(
    connection: Connection, job_id: int, plan: int, pull: int, state: BoardState, body: dict[str, Any], person_id: int
) -> int:
    """Record what happened on the board."""
    return insert(
        connection,
        """INSERT INTO pull_event (job_id, plan_version, pull, state, body, person_id, at)
           VALUES (%(job_id)s, %(plan_version)s, %(pull)s, %(state)s, %(body)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        plan_version=plan,
        pull=pull,
        state=state,
        body=json.dumps(body, ensure_ascii=False),
        person_id=person_id,
    )


def events(connection: Connection, job_id: int) -> tuple[PullEventFact, ...]:
    """Return what happened on the board of a job, oldest first."""
    rows = select(
        connection,
        f"""SELECT e.id, e.plan_version, e.pull, e.state, e.body, e.at, {_WHO}
            FROM pull_event e JOIN person p ON p.id = e.person_id WHERE e.job_id = %s ORDER BY e.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        PullEventFact.model_validate_json(
            json.dumps(
                {
                    **json.loads(row["body"]),
                    "id": row["id"],
                    "plan": row["plan_version"],
                    "pull": row["pull"],
                    "state": row["state"],
                    "by": who(row).model_dump(),
                }
            )
        )
        for row in rows
    )


def settle(
    connection: Connection, job_id: int, how: Settled, words: str, stood: dict[str, Row3], person_id: int
) -> int:
    """Record that a vehicle was driven or loaded, and where its pulled points stood before."""
    return insert(
        connection,
        """INSERT INTO settling (job_id, how, words, stood, person_id, at)
           VALUES (%(job_id)s, %(how)s, %(words)s, %(stood)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        how=how,
        words=words,
        stood=json.dumps(stood),
        person_id=person_id,
    )


def read_settled(connection: Connection, settling: int, stands: dict[str, Row3], person_id: int) -> None:
    """Record where the points stand after a settling."""
    execute(
        connection,
        """INSERT INTO settling_read (settling_id, stands, person_id, at)
           VALUES (%(settling_id)s, %(stands)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        settling_id=settling,
        stands=json.dumps(stands),
        person_id=person_id,
    )


def settlings(connection: Connection, job_id: int) -> tuple[SettlingFact, ...]:
    """Return what driving and loading did in a job, oldest first."""
    rows = select(
        connection,
        f"""SELECT s.id, s.how, s.words, s.stood, s.at, {_WHO}, r.stands, r.at AS read_at, q.full_name AS reader, q.role AS reads_as
            FROM settling s JOIN person p ON p.id = s.person_id
            LEFT JOIN settling_read r ON r.settling_id = s.id LEFT JOIN person q ON q.id = r.person_id
            WHERE s.job_id = %s ORDER BY s.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        as_model(
            SettlingFact,
            row,
            stood={code: tuple(place) for code, place in json.loads(row["stood"]).items()},
            stands={code: tuple(place) for code, place in json.loads(row["stands"] or "{}").items()},
            read_by=who({"full_name": row["reader"], "role": row["reads_as"], "at": row["read_at"]})
            if row["stands"]
            else None,
        )
        for row in rows
    )


def read_load(
    connection: Connection, job_id: int, tower: str, force_n: float | None, pressure_mpa: float | None, person_id: int
) -> int:
    """Record a load cell's force or a pump's pressure at a tower."""
    return insert(
        connection,
        """INSERT INTO load_reading (job_id, tower, force_n, pressure_mpa, person_id, at)
           VALUES (%(job_id)s, %(tower)s, %(force_n)s, %(pressure_mpa)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        tower=tower,
        force_n=force_n,
        pressure_mpa=pressure_mpa,
        person_id=person_id,
    )


def newest_loads(connection: Connection, job_id: int, since: str = _EVER) -> dict[str, dict[str, Any]]:
    """Return the newest load at each tower since a moment (UTC, ISO 8601): `force_n` or `pressure_mpa`, and `ago_s`, seconds since
    it was recorded."""
    rows = select(
        connection,
        """SELECT tower, force_n, pressure_mpa, TIMESTAMPDIFF(MICROSECOND, at, UTC_TIMESTAMP(6)) / 1e6 AS ago_s
           FROM load_reading
           WHERE id IN (SELECT MAX(id) FROM load_reading WHERE job_id = %s AND at >= %s GROUP BY tower)""",
        job_id,
        since.removesuffix("Z").replace("T", " "),
    )
    return {row["tower"]: row for row in rows}


def largest_loads(connection: Connection, job_id: int, since: str) -> dict[str, dict[str, Any]]:
    """Return the largest force and the largest pressure read at each tower since a moment (UTC, ISO 8601)."""
    rows = select(
        connection,
        """SELECT tower, MAX(force_n) AS force_n, MAX(pressure_mpa) AS pressure_mpa FROM load_reading
           WHERE job_id = %s AND at >= %s GROUP BY tower""",
        job_id,
        since.removesuffix("Z").replace("T", " "),
    )
    return {row["tower"]: row for row in rows}


def jobs_pulled(connection: Connection) -> list[dict[str, Any]]:
    """Return the open jobs in which pulling has begun, with whether a pull is under way: for stand-ins that follow boards."""
    return select(
        connection,
        """SELECT j.number AS job, e.state <> 'ended' AS under_way
           FROM job j JOIN pull_event e ON e.id = (SELECT MAX(id) FROM pull_event WHERE job_id = j.id)
           WHERE j.closed_at IS NULL AND j.number NOT LIKE %s ORDER BY j.id""",
        f"{PRACTICE}%",
    )


RECORDED = {
    "pull_settings": Recorded("SELECT COUNT(*), MAX(id) FROM pull_setting WHERE job_id = {job}", settings),
    "pull_plans": Recorded("SELECT COUNT(*), MAX(id) FROM pull_plan WHERE job_id = {job}", plans),
    "pull_events": Recorded("SELECT COUNT(*), MAX(id) FROM pull_event WHERE job_id = {job}", events),
    "settlings": Recorded(
        """SELECT COUNT(*) + COUNT(r.settling_id), MAX(s.id) FROM settling s
           LEFT JOIN settling_read r ON r.settling_id = s.id WHERE s.job_id = {job}""",
        settlings,
    ),
}
"""The facts of a job that are kept here, and how they are read."""
