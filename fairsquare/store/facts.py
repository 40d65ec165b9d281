"""Everything recorded of a job, gathered into the facts from which core works it out."""

import json
from collections.abc import Callable, Iterable
from functools import cache
from typing import Any, NamedTuple, TypeVar, cast

from pymysql.cursors import Cursor

from fairsquare.core.gathered import modules
from fairsquare.core.grown import Grown
from fairsquare.core.sheet.differences import same_dimensions
from fairsquare.core.sheet.model import Sheet
from fairsquare.core.who import Who
from fairsquare.job.facts.holds import SignatureFact
from fairsquare.job.facts.intake import SafetyFact
from fairsquare.job.facts.job import JobFacts, further_kinds
from fairsquare.job.facts.measure import ChoiceFact, KeptOut, ReadingFact
from fairsquare.job.facts.setup import MovementFact, SetupFact
from fairsquare.job.facts.walk_round import GapFact
from fairsquare.job.measure.ageing import moves_of, reading_is_old
from fairsquare.job.moves import REFIT_NEEDED, LastMoves
from fairsquare.job.release.holds import JobState, before_measuring, job_state
from fairsquare.store import came, tools
from fairsquare.store.database import Connection, as_model, select, utc, who
from fairsquare.store.jobs import Job
from fairsquare.store.kept import Kept
from fairsquare.store.recorded import Recorded
from fairsquare.store.sheets import find_sheet

T = TypeVar("T")
_WHO = "p.full_name, p.role"


class _Fate(NamedTuple):
    """What may still happen to a reading that was recorded."""

    taken_back: Who | None
    kept_out: KeptOut | None
    stale: bool


class _Fates(NamedTuple):
    """What happened to the readings of a job: by id who took them back, why they are kept out, and when things moved."""

    taken_back: dict[int, Who]
    kept_out: dict[int, KeptOut]
    moved: LastMoves

    def of(self, r: dict[str, Any]) -> _Fate:
        """Return what happened to one reading."""
        return _Fate(self.taken_back.get(r["id"]), self.kept_out.get(r["id"]), self._is_stale(r))

    def _is_stale(self, r: dict[str, Any]) -> bool:
        read_at = min(utc(r["at"]), utc(r["called_at"])) if r["called_at"] else utc(r["at"])
        return reading_is_old(r["id"], r["kind"], r["purpose"], read_at, self.moved)


_OWN = {
    "sheet": "SELECT COUNT(*), MAX(version) FROM sheet WHERE job_id = {job}",
    "safety": "SELECT COUNT(*), MAX(id) FROM safety_answer WHERE job_id = {job}",
    "movements": "SELECT COUNT(*), MAX(id) FROM movement WHERE job_id = {job}",
    "setups": "SELECT COUNT(*), MAX(id) FROM setup WHERE job_id = {job}",
    "choices": "SELECT COUNT(*), MAX(c.id) FROM setup_choice c JOIN setup s ON s.id = c.setup_id WHERE s.job_id = {job}",
    "readings": "SELECT COUNT(*), MAX(id) FROM reading WHERE job_id = {job}",
    "taken_back": """SELECT COUNT(*), MAX(r.id) FROM reading_taken_back t JOIN reading r ON r.id = t.reading_id
                     WHERE r.job_id = {job}""",
    "reading_decisions": """SELECT COUNT(*), MAX(d.id) FROM reading_decision d JOIN reading r ON r.id = d.reading_id
                            WHERE r.job_id = {job}""",
    "gaps": "SELECT COUNT(*), MAX(id) FROM gap_reading WHERE job_id = {job}",
    "signatures": "SELECT COUNT(*), MAX(id) FROM signature WHERE job_id = {job}",
    "tools": """SELECT COUNT(*) + (SELECT COUNT(*) FROM tool_event) + (SELECT COUNT(*) FROM tool_event_taken_back), MAX(id)
                     FROM tool WHERE {job} > 0""",
}
"""What is read here of a job, table by table: how many rows there are, and the last."""

_Mark = tuple[int, int | None]


class _Told(NamedTuple):
    """A job's readings as they were told last: what their fate was decided by, their rows, and the facts."""

    marks: tuple[_Mark, ...]
    rows: tuple[dict[str, Any], ...]
    facts: tuple[ReadingFact, ...]


def _more_instruments(before: frozenset[str], newer: tuple[dict[str, Any], ...]) -> frozenset[str]:
    return before | {row["instrument"] for row in newer}


_INSTRUMENTS: Grown[dict[str, Any], frozenset[str]] = Grown(
    lambda found: _more_instruments(frozenset(), found), _more_instruments
)
"""What a job's readings were taken with."""


class Lasting:
    """Rows that never change once they are committed, kept so that they are read from the database once.

    Sheets by job and version; readings by job, to which only the newer ones are added. Where fewer or more are found than were
    kept, which another server's numbering could bring about, all are read again. Everything else by table, until that grows.
    """

    def __init__(self, most: int = 200) -> None:
        self._sheets: Kept[Sheet | None] = Kept(most)
        self._readings: Kept[list[tuple[dict[str, Any], ...]]] = Kept(most)
        self._facts: Kept[dict[int, tuple[_Fate, ReadingFact]]] = Kept(most)
        self._told: Kept[_Told] = Kept(most)
        self._parts: Kept[dict[str, tuple[tuple[_Mark, ...], Any]]] = Kept(most)

    def sheet(self, connection: Connection, job_id: int, version: int) -> Sheet | None:
        """Return a version of a job's sheet."""

        def find() -> Sheet | None:
            sheet_found = find_sheet(connection, job_id, version)
            return sheet_found.sheet if sheet_found else None

        return self._sheets.get((job_id, version), find)

    def readings(self, connection: Connection, job_id: int, many: int) -> tuple[dict[str, Any], ...]:
        """Return the rows of a job's readings, of which there are `many`, oldest first."""
        held = self._readings.get(job_id, lambda: [()])
        before = held[0]
        if len(before) != many:
            before = (*before, *_reading_rows(connection, job_id, before[-1]["id"] if before else 0))
        if len(before) != many:
            before = tuple(_reading_rows(connection, job_id, 0))
        held[0] = before
        return before

    def reading_facts(
        self, job_id: int, found: tuple[dict[str, Any], ...], fates: "_Fates", marks: tuple[_Mark, ...]
    ) -> tuple[ReadingFact, ...]:
        """Return the rows of a job's readings as facts. While what decides their fate has the same `marks`, those that were told
        stay as they are, however many, and only the newer ones are made."""
        told, many = self._told.look(job_id), 0
        if told is not None and told.marks == marks and len(told.rows) <= len(found):
            many = len(told.rows)
            if many and found[many - 1] is not told.rows[-1]:
                many = 0
        newer = tuple(self._fact(job_id, row, fates.of(row)) for row in found[many:])
        if told is not None and many and not newer:
            return told.facts
        facts = (*told.facts, *newer) if told is not None and many else newer
        self._told.put(job_id, _Told(marks, found, facts))
        return facts

    def _fact(self, job_id: int, found: dict[str, Any], fate: _Fate) -> ReadingFact:
        """Return a row as a fact, made once for as long as its fate stays the same."""
        made = self._facts.get(job_id, dict)
        kept = made.get(found["id"])
        if kept is None or kept[0] != fate:
            kept = made[found["id"]] = fate, _reading_fact(found, fate)
        return kept[1]

    def part(self, job_id: int, name: str, marks: Iterable[_Mark], make: Callable[[], T]) -> T:
        """Return what was made of a part of a job, made anew when one of its `marks` is another."""
        made, now = self._parts.get(job_id, dict), tuple(marks)
        kept = made.get(name)
        if kept is None or kept[0] != now:
            kept = made[name] = now, make()
        return cast(T, kept[1])


@cache
def _recorded() -> dict[str, Recorded]:
    """Return what other modules of the store keep of a job, by the name of the facts."""
    return {name: kind for _, kinds in modules("fairsquare.store", "RECORDED") for name, kind in kinds.items()}


@cache
def _every_mark() -> tuple[tuple[str, ...], str]:
    """Return the names of all parts of a job, and the query for how many rows of each there are, and the last of them."""
    queries = {**_OWN, **{name: table.mark for name, table in _recorded().items()}}
    return tuple(queries), " UNION ALL ".join(f"({query.format(job='%s')})" for query in queries.values())


def _marks(connection: Connection, job_id: int) -> dict[str, _Mark]:
    names, query = _every_mark()
    with connection.cursor(Cursor) as cursor:
        cursor.execute(query, (job_id,) * len(names))
        return dict(zip(names, cursor.fetchall(), strict=True))


def load_facts(connection: Connection, job: Job, lasting: Lasting | None = None) -> JobFacts:
    """Return the facts of a job, oldest first; `lasting` keeps what does not change, for reading outside of a write."""
    lasting = lasting or Lasting()
    if job.came:
        return lasting.part(job.id, "came", (), lambda: came.facts_of(connection, job.id))
    marks = _marks(connection, job.id)
    version = marks["sheet"][1]

    def part(name: str, make: Callable[[Connection, int], T], *after: str) -> T:
        return lasting.part(job.id, name, (marks[mark] for mark in (name, *after)), lambda: make(connection, job.id))

    movements = part("movements", _movements)
    moved = moves_of(movements)
    fates = _Fates(part("taken_back", _taken_back), part("reading_decisions", _kept_out), moved)
    decided_by = marks["taken_back"], marks["reading_decisions"], marks["movements"]
    setups = part("setups", lambda c, job_id: _setups(c, job_id, movements), "choices", "movements")
    rows_read = lasting.readings(connection, job.id, marks["readings"][0])
    named = _INSTRUMENTS.of(rows_read) | {setup.instrument for setup in setups}
    others = {name: part(name, table.read) for name, table in _recorded().items()}
    return JobFacts(
        number=job.number,
        sheet=lasting.sheet(connection, job.id, version) if version is not None else None,
        sheet_version=version,
        dimensions_version=part("sheet", lambda c, job_id: _dimensions_version(c, job_id, version, lasting)),
        safety=part("safety", _safety),
        setups=setups,
        readings=lasting.reading_facts(job.id, rows_read, fates, decided_by),
        movements=movements,
        gaps=part("gaps", lambda c, job_id: _gaps(c, job_id, moved), "movements"),
        signatures=part("signatures", _signatures),
        hit_from_deg=job.details.hit_from_deg,
        tools=tuple(tool for tool in part("tools", lambda c, _: tools.histories(c)) if tool.name in named),
        further={name: facts for name in further_kinds() if (facts := others.pop(name))},
        **others,
    )


def _dimensions_version(connection: Connection, job_id: int, version: int | None, lasting: Lasting) -> int | None:
    """Return the first version of a sheet since which its dimensions have stayed the same; None where there is none."""
    first = version
    now = lasting.sheet(connection, job_id, version) if version is not None else None
    while now is not None and first is not None and first > 1:
        before = lasting.sheet(connection, job_id, first - 1)
        if before is None or not same_dimensions(before, now):
            break
        first -= 1
    return first


class StateCache:
    """Job states that were worked out, the newest revision of each job: whatever is recorded of a job makes a new one."""

    def __init__(self, most: int = 600) -> None:
        self._kept: Kept[tuple[int, JobFacts, JobState]] = Kept(most)
        self._lasting = Lasting()

    def get(self, connection: Connection, job: Job) -> tuple[JobFacts, JobState]:
        """Return the facts and the state of a job as they stand at its revision."""
        kept = self._kept.look(job.id)
        if kept is not None and kept[0] == job.revision:
            return kept[1], kept[2]
        facts = load_facts(connection, job, self._lasting)
        state = job_state(facts)
        if kept is None or kept[0] < job.revision:
            self._kept.put(job.id, (job.revision, facts, state))
        return facts, state

    def quick(self, connection: Connection, job: Job) -> tuple[JobFacts, JobState]:
        """Return the facts and, where they were not worked out yet, only the holds before measuring: for a reading to be taken."""
        kept = self._kept.look(job.id)
        if kept is not None and kept[0] == job.revision:
            return kept[1], kept[2]
        facts = load_facts(connection, job, self._lasting)
        return facts, before_measuring(facts)


def _safety(connection: Connection, job_id: int) -> tuple[SafetyFact, ...]:
    rows = select(
        connection,
        f"""SELECT a.id, a.item, a.answer, a.words, a.done_by, a.qualification, a.at, {_WHO}
            FROM safety_answer a JOIN person p ON p.id = a.person_id
            WHERE a.job_id = %s ORDER BY a.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    latest = {a["item"]: as_model(SafetyFact, a) for a in rows}
    return tuple(latest.values())


def _movements(connection: Connection, job_id: int) -> tuple[MovementFact, ...]:
    rows = select(
        connection,
        f"""SELECT m.id, m.what, m.words, m.after_reading, m.after_gap, s.number AS setup, m.at, {_WHO}
            FROM movement m JOIN person p ON p.id = m.person_id LEFT JOIN setup s ON s.id = m.setup_id
            WHERE m.job_id = %s ORDER BY m.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(as_model(MovementFact, m) for m in rows)


def _setups(connection: Connection, job_id: int, movements: tuple[MovementFact, ...]) -> tuple[SetupFact, ...]:
    rows = select(
        connection,
        f"""SELECT s.number, s.kind, s.instrument, s.sigma_mm, s.sheet_version, s.opened_at AS at, {_WHO}
            FROM setup s JOIN person p ON p.id = s.opened_by WHERE s.job_id = %s ORDER BY s.number""",  # noqa: S608 - names of columns only
        job_id,
    )
    chosen = select(
        connection,
        f"""SELECT c.id, s.number, c.trusted, c.reason, c.at, {_WHO}
            FROM setup_choice c JOIN setup s ON s.id = c.setup_id JOIN person p ON p.id = c.person_id
            WHERE s.job_id = %s ORDER BY c.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    choices = {c["number"]: as_model(ChoiceFact, c, trusted=tuple(json.loads(c["trusted"]))) for c in chosen}
    voids: dict[int | None, MovementFact] = {}
    left: dict[int | None, MovementFact] = {}
    for move in movements:
        if move.what in REFIT_NEEDED:
            voids.setdefault(move.setup, move)
        if move.what == "lowered":
            left.setdefault(move.setup, move)
    return tuple(
        as_model(
            SetupFact,
            s,
            opened=who(s),
            choice=choices.get(s["number"]),
            voided=voids.get(s["number"]),
            left=left.get(s["number"]),
        )
        for s in rows
    )


def _reading_rows(connection: Connection, job_id: int, after: int) -> list[dict[str, Any]]:
    return select(
        connection,
        f"""SELECT r.id, s.number AS setup, r.purpose, r.kind, r.code, r.code_b AS b, r.mode, r.axis, r.x, r.y, r.z, r.mm, r.pin_mm,
              r.level_mm, r.arm_mm, r.sigma_mm, r.said, r.loaded, r.instrument, r.replaces_id AS replaces, r.called_at, r.at, {_WHO}
            FROM reading r LEFT JOIN setup s ON s.id = r.setup_id JOIN person p ON p.id = r.person_id
            WHERE r.job_id = %s AND r.id > %s ORDER BY r.id""",  # noqa: S608 - names of columns only
        job_id,
        after,
    )


def _taken_back(connection: Connection, job_id: int) -> dict[int, Who]:
    rows = select(
        connection,
        f"""SELECT t.reading_id, t.at, {_WHO}
            FROM reading_taken_back t JOIN reading r ON r.id = t.reading_id JOIN person p ON p.id = t.person_id
            WHERE r.job_id = %s""",  # noqa: S608 - names of columns only
        job_id,
    )
    return {t["reading_id"]: who(t) for t in rows}


def _reading_fact(r: dict[str, Any], fate: _Fate) -> ReadingFact:
    return as_model(ReadingFact, r, xyz=(r["x"], r["y"], r["z"]) if r["kind"] == "point" else None, **fate._asdict())


def _kept_out(connection: Connection, job_id: int) -> dict[int, KeptOut]:
    """Return the readings that are kept out by the last decision on each."""
    rows = select(
        connection,
        f"""SELECT d.reading_id, d.keep_out, d.reason, d.at, {_WHO}
            FROM reading_decision d JOIN reading r ON r.id = d.reading_id JOIN person p ON p.id = d.person_id
            WHERE r.job_id = %s ORDER BY d.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    last = {d["reading_id"]: d for d in rows}
    return {number: KeptOut(reason=d["reason"], by=who(d)) for number, d in last.items() if d["keep_out"]}


def _gaps(connection: Connection, job_id: int, moved: LastMoves) -> tuple[GapFact, ...]:
    rows = select(
        connection,
        f"""SELECT g.id, g.place, g.said, g.mm, g.target_mm, g.tolerance_mm, g.stand, g.at, {_WHO}
            FROM gap_reading g JOIN person p ON p.id = g.person_id WHERE g.job_id = %s ORDER BY g.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(as_model(GapFact, g, stale=moved.gaps.is_past(utc(g["at"]), g["id"])) for g in rows)


def _signatures(connection: Connection, job_id: int) -> tuple[SignatureFact, ...]:
    rows = select(
        connection,
        f"""SELECT s.id, s.hold, s.evidence, s.overridden, s.reason, s.at, {_WHO}
            FROM signature s JOIN person p ON p.id = s.person_id WHERE s.job_id = %s ORDER BY s.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        as_model(SignatureFact, s, evidence=json.loads(s["evidence"]), overridden=tuple(json.loads(s["overridden"])))
        for s in rows
    )
