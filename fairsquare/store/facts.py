"""Everything recorded of a job, gathered into the facts from which core works it out."""

import json
from collections.abc import Callable, Iterable
from typing import Any, NamedTuple, TypeVar, cast

from pymysql.cursors import Cursor

from fairsquare.core.grown import Grown
from fairsquare.core.sheet.differences import same_dimensions
from fairsquare.core.sheet.model import Sheet
from fairsquare.core.who import Who
from fairsquare.job.facts.holds import SignatureFact
from fairsquare.job.facts.intake import SafetyFact
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import ChoiceFact, KeptOut, ReadingFact
from fairsquare.job.facts.setup import MovementFact, SetupFact
from fairsquare.job.facts.walk_round import GapFact
from fairsquare.job.measure.ageing import moves_of, reading_is_old
from fairsquare.job.moves import REFIT_NEEDED, LastMoves
from fairsquare.job.release.holds import JobState, before_measuring, job_state
from fairsquare.store import (
    came,
    clocks,
    cuts,
    damage,
    finishing,
    parts,
    photos,
    pulls,
    supplements,
    tools,
    waits,
    work,
)
from fairsquare.store.database import Connection, as_model, rows, utc, who
from fairsquare.store.jobs import Job
from fairsquare.store.kept import Kept
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


_PARTS = {
    "sheet": "SELECT COUNT(*), MAX(version) FROM sheet WHERE job_id = {job}",
    "safety": "SELECT COUNT(*), MAX(id) FROM safety_answer WHERE job_id = {job}",
    "movements": "SELECT COUNT(*), MAX(id) FROM movement WHERE job_id = {job}",
    "setups": "SELECT COUNT(*), MAX(id) FROM setup WHERE job_id = {job}",
    "choices": "SELECT COUNT(*), MAX(c.id) FROM setup_choice c JOIN setup s ON s.id = c.setup_id WHERE s.job_id = {job}",
    "readings": "SELECT COUNT(*), MAX(id) FROM reading WHERE job_id = {job}",
    "taken_back": """SELECT COUNT(*), MAX(r.id) FROM reading_taken_back t JOIN reading r ON r.id = t.reading_id
                     WHERE r.job_id = {job}""",
    "decisions": "SELECT COUNT(*), MAX(d.id) FROM reading_decision d JOIN reading r ON r.id = d.reading_id WHERE r.job_id = {job}",
    "gaps": "SELECT COUNT(*), MAX(id) FROM gap_reading WHERE job_id = {job}",
    "signatures": "SELECT COUNT(*), MAX(id) FROM signature WHERE job_id = {job}",
    "walk": """SELECT COUNT(*) + COUNT(t.finding_id), MAX(w.id) FROM walk_finding w
               LEFT JOIN walk_taken_back t ON t.finding_id = w.id WHERE w.job_id = {job}""",
    "bound": """SELECT COUNT(*), MAX(b.id) FROM walk_bound b JOIN walk_finding w ON w.id = b.finding_id
                WHERE w.job_id = {job}""",
    "line": "SELECT COUNT(*), MAX(id) FROM line_check WHERE job_id = {job}",
    "worth": "SELECT COUNT(*), MAX(id) FROM worth WHERE job_id = {job}",
    "photos": "SELECT COUNT(*), MAX(id) FROM photo WHERE job_id = {job}",
    "settlements": "SELECT COUNT(*), MAX(id) FROM settlement WHERE job_id = {job}",
    "members": "SELECT COUNT(*), MAX(id) FROM member_seen WHERE job_id = {job}",
    "supplement_lines": """SELECT COUNT(*) + COUNT(t.line_id), MAX(l.id) FROM supplement_line l
                           LEFT JOIN supplement_line_taken_back t ON t.line_id = l.id WHERE l.job_id = {job}""",
    "supplements": """SELECT COUNT(*) + COUNT(w.supplement_id), MAX(s.id) FROM supplement s
                      LEFT JOIN supplement_withdrawn w ON w.supplement_id = s.id WHERE s.job_id = {job}""",
    "answers": """SELECT COUNT(*), MAX(a.id) FROM supplement_answer a JOIN supplement s ON s.id = a.supplement_id
                  WHERE s.job_id = {job}""",
    "go_aheads": """SELECT COUNT(*), MAX(g.id) FROM supplement_go_ahead g JOIN supplement_line l ON l.id = g.line_id
                    WHERE l.job_id = {job}""",
    "parts": "SELECT COUNT(*), MAX(id) FROM part WHERE job_id = {job}",
    "part_items": "SELECT COUNT(*), MAX(i.id) FROM part_item i JOIN part p ON p.id = i.part_id WHERE p.job_id = {job}",
    "part_spans": "SELECT COUNT(*), MAX(m.id) FROM part_measured m JOIN part p ON p.id = m.part_id WHERE p.job_id = {job}",
    "pull_settings": "SELECT COUNT(*), MAX(id) FROM pull_setting WHERE job_id = {job}",
    "pull_plans": "SELECT COUNT(*), MAX(id) FROM pull_plan WHERE job_id = {job}",
    "pull_events": "SELECT COUNT(*), MAX(id) FROM pull_event WHERE job_id = {job}",
    "settlings": """SELECT COUNT(*) + COUNT(r.settling_id), MAX(s.id) FROM settling s
                    LEFT JOIN settling_read r ON r.settling_id = s.id WHERE s.job_id = {job}""",
    "sections": "SELECT COUNT(*), MAX(id) FROM section WHERE job_id = {job}",
    "section_said": "SELECT COUNT(*), MAX(t.id) FROM section_said t JOIN section s ON s.id = t.section_id WHERE s.job_id = {job}",
    "weld_ticks": "SELECT COUNT(*), MAX(t.id) FROM weld_tick t JOIN section s ON s.id = t.section_id WHERE s.job_id = {job}",
    "cuts_made": """SELECT COUNT(*) + COUNT(b.cut_id), MAX(c.id) FROM cut_made c JOIN section s ON s.id = c.section_id
                    LEFT JOIN cut_taken_back b ON b.cut_id = c.id WHERE s.job_id = {job}""",
    "job_said": "SELECT COUNT(*), MAX(id) FROM job_said WHERE job_id = {job}",
    "job_events": """SELECT COUNT(*) + COUNT(t.event_id), MAX(e.id) FROM job_event e
                     LEFT JOIN job_event_taken_back t ON t.event_id = e.id WHERE e.job_id = {job}""",
    "clocks": """SELECT COUNT(*) + COUNT(e.clock_id), MAX(c.id) FROM clock c
                 LEFT JOIN clock_ended e ON e.clock_id = c.id WHERE c.job_id = {job}""",
    "hours": "SELECT COUNT(*), MAX(id) FROM job_said WHERE job_id = {job} AND topic = 'hours'",
    "work": """SELECT COUNT(*) + COUNT(e.clock_id) + COUNT(b.clock_id), MAX(w.id) FROM work_clock w
               LEFT JOIN work_ended e ON e.clock_id = w.id LEFT JOIN work_taken_back b ON b.clock_id = w.id
               WHERE w.job_id = {job}""",
    "waits": """SELECT COUNT(s.id) + COUNT(DISTINCT o.wait_id), MAX(s.id) FROM wait w JOIN wait_said s ON s.wait_id = w.id
                LEFT JOIN wait_over o ON o.wait_id = w.id WHERE w.job_id = {job}""",
    "tools": """SELECT COUNT(*) + (SELECT COUNT(*) FROM tool_event) + (SELECT COUNT(*) FROM tool_event_taken_back), MAX(id)
                FROM tool WHERE {job} > 0""",
    "member_decisions": "SELECT COUNT(*), MAX(id) FROM member_decision WHERE job_id = {job}",
}
"""What is recorded of a job, table by table. Rows are only ever added: how many there are, and the last, say whether any were."""

_Mark = tuple[int, int | None]


class _Told(NamedTuple):
    """A job's readings as they were told last: what their fate was decided by, their rows, and the facts."""

    marks: tuple[_Mark, ...]
    rows: tuple[dict[str, Any], ...]
    facts: tuple[ReadingFact, ...]


def _more_instruments(before: frozenset[str], newer: tuple[dict[str, Any], ...]) -> frozenset[str]:
    return before | {one["instrument"] for one in newer}


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
            found = find_sheet(connection, job_id, version)
            return found.sheet if found else None

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
        newer = tuple(self._fact(job_id, one, fates.of(one)) for one in found[many:])
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


def _marks(connection: Connection, job_id: int) -> dict[str, _Mark]:
    """Return how many rows of each part there are, and the last of them."""
    every = " UNION ALL ".join(f"({query.format(job='%s')})" for query in _PARTS.values())
    with connection.cursor(Cursor) as cursor:
        cursor.execute(every, (job_id,) * len(_PARTS))
        return dict(zip(_PARTS, cursor.fetchall(), strict=True))


def load_facts(connection: Connection, job: Job, lasting: Lasting | None = None) -> JobFacts:
    """Return the facts of a job, oldest first; `lasting` keeps what does not change, for reading outside of a write."""
    lasting = lasting or Lasting()
    if job.came:
        return lasting.part(job.id, "came", (), lambda: came.facts_of(connection, job.id))
    marks = _marks(connection, job.id)
    version = marks["sheet"][1]
    sheet = lasting.sheet(connection, job.id, version) if version is not None else None

    def part(name: str, make: Callable[[], T], *after: str) -> T:
        return lasting.part(job.id, name, (marks[one] for one in (name, *after)), make)

    movements = part("movements", lambda: _movements(connection, job.id))
    moved = moves_of(movements)
    fates = _Fates(
        part("taken_back", lambda: _taken_back(connection, job.id)),
        part("decisions", lambda: _kept_out(connection, job.id)),
        moved,
    )
    setups = part("setups", lambda: _setups(connection, job.id, movements), "choices", "movements")
    rows_read = lasting.readings(connection, job.id, marks["readings"][0])
    named = _INSTRUMENTS.of(rows_read) | {setup.instrument for setup in setups}
    return JobFacts(
        number=job.number,
        sheet=sheet,
        sheet_version=version,
        dimensions_version=part("sheet", lambda: _dimensions_version(connection, job.id, version, lasting)),
        safety=part("safety", lambda: _safety(connection, job.id)),
        setups=setups,
        readings=lasting.reading_facts(
            job.id, rows_read, fates, (marks["taken_back"], marks["decisions"], marks["movements"])
        ),
        movements=movements,
        gaps=part("gaps", lambda: _gaps(connection, job.id, moved), "movements"),
        signatures=part("signatures", lambda: _signatures(connection, job.id)),
        hit_from_deg=job.details.hit_from_deg,
        walk=part("walk", lambda: damage.walk(connection, job.id)),
        bound=part("bound", lambda: damage.bound(connection, job.id)),
        line=part("line", lambda: damage.line(connection, job.id)),
        worth=part("worth", lambda: damage.worth(connection, job.id)),
        photos=part("photos", lambda: photos.photos(connection, job.id)),
        settlements=part("settlements", lambda: damage.settlements(connection, job.id)),
        members=part("members", lambda: damage.members(connection, job.id)),
        decisions=part("member_decisions", lambda: damage.decisions(connection, job.id)),
        supplement_lines=part("supplement_lines", lambda: supplements.lines(connection, job.id)),
        supplements=part("supplements", lambda: supplements.sent(connection, job.id)),
        supplement_answers=part("answers", lambda: supplements.answers(connection, job.id)),
        go_aheads=part("go_aheads", lambda: supplements.go_aheads(connection, job.id)),
        parts=part("parts", lambda: parts.parts(connection, job.id)),
        part_items=part("part_items", lambda: parts.items(connection, job.id)),
        pull_settings=part("pull_settings", lambda: pulls.settings(connection, job.id)),
        pull_plans=part("pull_plans", lambda: pulls.plans(connection, job.id)),
        pull_events=part("pull_events", lambda: pulls.events(connection, job.id)),
        settlings=part("settlings", lambda: pulls.settlings(connection, job.id)),
        sections=part("sections", lambda: cuts.sections(connection, job.id)),
        section_said=part("section_said", lambda: cuts.said_of(connection, job.id)),
        weld_ticks=part("weld_ticks", lambda: cuts.ticks(connection, job.id)),
        cuts_made=part("cuts_made", lambda: cuts.cuts(connection, job.id)),
        said=part("job_said", lambda: finishing.said_of(connection, job.id)),
        done=part("job_events", lambda: finishing.events(connection, job.id)),
        hours=part("hours", lambda: finishing.hours_of(connection, job.id)),
        worked=part("work", lambda: work.work_of(connection, job.id)),
        waits=part("waits", lambda: waits.waits_of(connection, job.id)),
        clocks=part("clocks", lambda: clocks.clocks_of(connection, job.id)),
        part_spans=part("part_spans", lambda: parts.spans(connection, job.id)),
        tools=tuple(tool for tool in part("tools", lambda: tools.histories(connection)) if tool.name in named),
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
    found = rows(
        connection,
        f"""SELECT a.id, a.item, a.answer, a.words, a.done_by, a.qualification, a.at, {_WHO}
            FROM safety_answer a JOIN person p ON p.id = a.person_id
            WHERE a.job_id = %s ORDER BY a.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    latest = {a["item"]: as_model(SafetyFact, a) for a in found}
    return tuple(latest.values())


def _movements(connection: Connection, job_id: int) -> tuple[MovementFact, ...]:
    found = rows(
        connection,
        f"""SELECT m.id, m.what, m.words, m.after_reading, m.after_gap, s.number AS setup, m.at, {_WHO}
            FROM movement m JOIN person p ON p.id = m.person_id LEFT JOIN setup s ON s.id = m.setup_id
            WHERE m.job_id = %s ORDER BY m.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(as_model(MovementFact, m) for m in found)


def _setups(connection: Connection, job_id: int, movements: tuple[MovementFact, ...]) -> tuple[SetupFact, ...]:
    found = rows(
        connection,
        f"""SELECT s.number, s.kind, s.instrument, s.sigma_mm, s.sheet_version, s.opened_at AS at, {_WHO}
            FROM setup s JOIN person p ON p.id = s.opened_by WHERE s.job_id = %s ORDER BY s.number""",  # noqa: S608 - names of columns only
        job_id,
    )
    chosen = rows(
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
        for s in found
    )


def _reading_rows(connection: Connection, job_id: int, after: int) -> list[dict[str, Any]]:
    return rows(
        connection,
        f"""SELECT r.id, s.number AS setup, r.purpose, r.kind, r.code, r.code_b AS b, r.mode, r.axis, r.x, r.y, r.z, r.mm, r.pin_mm,
              r.level_mm, r.arm_mm, r.sigma_mm, r.said, r.loaded, r.instrument, r.replaces_id AS replaces, r.called_at, r.at, {_WHO}
            FROM reading r LEFT JOIN setup s ON s.id = r.setup_id JOIN person p ON p.id = r.person_id
            WHERE r.job_id = %s AND r.id > %s ORDER BY r.id""",  # noqa: S608 - names of columns only
        job_id,
        after,
    )


def _taken_back(connection: Connection, job_id: int) -> dict[int, Who]:
    found = rows(
        connection,
        f"""SELECT t.reading_id, t.at, {_WHO}
            FROM reading_taken_back t JOIN reading r ON r.id = t.reading_id JOIN person p ON p.id = t.person_id
            WHERE r.job_id = %s""",  # noqa: S608 - names of columns only
        job_id,
    )
    return {t["reading_id"]: who(t) for t in found}


def _reading_fact(r: dict[str, Any], fate: _Fate) -> ReadingFact:
    return as_model(ReadingFact, r, xyz=(r["x"], r["y"], r["z"]) if r["kind"] == "point" else None, **fate._asdict())


def _kept_out(connection: Connection, job_id: int) -> dict[int, KeptOut]:
    """Return the readings that are kept out by the last decision on each."""
    found = rows(
        connection,
        f"""SELECT d.reading_id, d.keep_out, d.reason, d.at, {_WHO}
            FROM reading_decision d JOIN reading r ON r.id = d.reading_id JOIN person p ON p.id = d.person_id
            WHERE r.job_id = %s ORDER BY d.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    last = {d["reading_id"]: d for d in found}
    return {number: KeptOut(reason=d["reason"], by=who(d)) for number, d in last.items() if d["keep_out"]}


def _gaps(connection: Connection, job_id: int, moved: LastMoves) -> tuple[GapFact, ...]:
    found = rows(
        connection,
        f"""SELECT g.id, g.place, g.said, g.mm, g.target_mm, g.tolerance_mm, g.stand, g.at, {_WHO}
            FROM gap_reading g JOIN person p ON p.id = g.person_id WHERE g.job_id = %s ORDER BY g.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(as_model(GapFact, g, stale=moved.gaps.is_past(utc(g["at"]), g["id"])) for g in found)


def _signatures(connection: Connection, job_id: int) -> tuple[SignatureFact, ...]:
    found = rows(
        connection,
        f"""SELECT s.id, s.hold, s.evidence, s.overridden, s.reason, s.at, {_WHO}
            FROM signature s JOIN person p ON p.id = s.person_id WHERE s.job_id = %s ORDER BY s.id""",  # noqa: S608 - names of columns only
        job_id,
    )
    return tuple(
        as_model(SignatureFact, s, evidence=json.loads(s["evidence"]), overridden=tuple(json.loads(s["overridden"])))
        for s in found
    )
