"""The desk at which a job is worked on: each deed checks who may and what must be so, records it once, and touches the job."""

import datetime
import json
from collections.abc import Callable, Iterable
from typing import Any, NamedTuple, TypeVar

import pymysql
import structlog

from fairsquare.actions.bell import Bell
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.intake.safety import SAFETY_BY_KEY
from fairsquare.core.said import Said, say
from fairsquare.core.sheet.model import Sheet, check_span_ends, points_by_code
from fairsquare.core.who import Who
from fairsquare.files.records import sealed
from fairsquare.job.deeds import act_of
from fairsquare.job.facts.holds import HoldName
from fairsquare.job.facts.intake import SafetyAnswer
from fairsquare.job.facts.job import PRACTICE, JobFacts
from fairsquare.job.facts.measure import Purpose
from fairsquare.job.facts.setup import Moved, SetupFact
from fairsquare.job.measure.counted import counting
from fairsquare.job.measure.picture import current_setup
from fairsquare.job.measure.tools import ShopTool
from fairsquare.job.release.holds import JobState, may_sign
from fairsquare.job.release.record import make_record
from fairsquare.job.went import JobWent, Past, job_went
from fairsquare.store import holds, jobs, keys, measuring, records, sheets, tools, went
from fairsquare.store.database import Connection, Database, DatabaseAway, utc
from fairsquare.store.facts import StateCache, load_facts
from fairsquare.store.jobs import Job, JobDetails
from fairsquare.store.once import once
from fairsquare.store.people import Person
from fairsquare.store.work import hold_person
from fairsquare.words.tell import tell

A = TypeVar("A")
B = TypeVar("B")
log = structlog.get_logger("fairsquare.actions")
_SAME_MM = 0.01
"""Targets of a gap that differ by no more are one, said in other units."""


class Unsure(FairSquareError):
    """Something is needed before this can be done; the message says what."""

    status = 409
    kind = "not-yet"


def lacking(said: Said | str, *, field: str, value: Any = None) -> Unsure:
    """Return a refusal by its code: told in mm and UTC here, and on a page in its reader's units."""
    fault = Unsure(tell(said), field=field, value=value)
    fault.said = said if isinstance(said, Said) else None
    return fault


class JobView(NamedTuple):
    """A job with its facts and what follows from them."""

    job: Job
    facts: JobFacts
    state: JobState

    @property
    def setup(self) -> SetupFact | None:
        """The set-up in force."""
        return current_setup(self.facts)


class Listed(NamedTuple):
    """Jobs of a list, how many there are in all, and those of it that could not be read."""

    views: list[JobView]
    many: int
    broken: list[Job]


def of_each(ones: Iterable[A], make: Callable[[A], B], number_of: Callable[[A], str]) -> tuple[list[B], list[A]]:
    """Return what is made of each, and those of which it could not be made: one job never takes a list down with it.

    What the database says of itself is not caught.
    """
    made, broken = [], []
    for item in ones:
        try:
            made.append(make(item))
        except (pymysql.MySQLError, DatabaseAway):
            raise
        except Exception:
            log.exception("job cannot be shown in a list", job=number_of(item))
            broken.append(item)
    return made, broken


def _number_of_job(job: Job) -> str:
    return job.number


def number_of(view: JobView) -> str:
    """Return a job's number."""
    return view.job.number


def went_of(facts: JobFacts, job: Job) -> JobWent:
    """Return how a job went, or goes so far."""
    now = datetime.datetime.now(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")
    return job_went(facts, job.details.vehicle, job.details.construction, now)


Think = Callable[..., Any]
"""Has a function of a module work out something slow for a person: where deeds are served, in a process apart."""


def _here(by: str, work: Callable[..., A], *arguments: object) -> A:
    del by
    return work(*arguments)


class Desk:
    """All deeds, over one database. `software` and `workshop` stand in the records; `think` does what is slow; `host` is where
    other servers may knock."""

    def __init__(
        self, database: Database, *, software: str, workshop: str, number_prefix: str, host: str = "127.0.0.1"
    ) -> None:
        self.database = database
        self.bell = Bell(database, host)
        self._cache = StateCache()
        self._past: tuple[tuple[int, int], dict[int, JobWent], Past] = ((0, 0), {}, Past())
        self.software, self.workshop, self.number_prefix = software, workshop, number_prefix
        self.think: Think = _here

    def view(self, number: str) -> JobView:
        """Return a job with its facts and state. Raises `NoSuchJob`."""
        return self.database.run(lambda connection: self.view_in(connection, number))

    def quick_view(self, number: str) -> JobView:
        """Return a job with its facts and only the holds before measuring, no point placed: for what changes all the time."""

        def look(connection: Connection) -> JobView:
            job = jobs.find_job(connection, number)
            return JobView(job, *self._cache.quick(connection, job))

        return self.database.run(look)

    def views(self, words: str, most: int, skip: int, *, closed: bool = False) -> Listed:
        """Return the open jobs that match, or the closed ones, the last touched first; one that cannot be read is named apart."""

        def look(connection: Connection) -> Listed:
            jobs_found, many = jobs.find_jobs(connection, words, most, skip, closed=closed)
            views, broken = of_each(
                jobs_found, lambda job: JobView(job, *self._cache.get(connection, job)), _number_of_job
            )
            return Listed(views, many, broken)

        return self.database.run(look)

    def open_job(self, person: Person, key: str, details: JobDetails) -> str:
        """Take a vehicle in and return the number of its job."""
        check_may(person, "take in")
        answer = self.once(
            person,
            key,
            "open job",
            lambda connection: {"number": jobs.open_job(connection, details, person, self.number_prefix)},
        )
        return str(answer["number"])

    def change_job(self, person: Person, key: str, number: str, details: JobDetails, version: int) -> None:
        """Change what was taken in, as read at `version`. Raises `StaleEdit` when somebody else was faster."""
        check_may(person, "take in")
        self.in_job(
            person,
            key,
            f"change {number}",
            number,
            lambda c, view: {"version": jobs.change_job(c, view.job, details, version, person)},
        )

    def answer_safety(
        self,
        person: Person,
        key: str,
        number: str,
        item: str,
        answer: SafetyAnswer,
        words: str = "",
        done_by: str = "",
        qualification: str = "",
    ) -> None:
        """Answer one item of the made-safe list. What needs a qualification names who did it, and its number."""
        check_may(person, "answer safety")
        asked = SAFETY_BY_KEY.get(item)
        if asked and asked.qualified and answer == "done":
            if len(done_by.strip()) < 3:
                raise Refused(
                    f"{asked.title}: who did it? Name the person who holds the {asked.qualified}.",
                    field="done_by",
                    value=done_by,
                )
            if len(qualification.strip()) < 3:
                raise Refused(
                    f"{asked.title}: write the number of the {asked.qualified} of {done_by.strip()}.",
                    field="qualification",
                    value=qualification,
                )

        def work(connection: Connection, view: JobView) -> dict[str, Any]:
            kept = holds.answer_safety(
                connection,
                view.job.id,
                item,
                answer,
                words.strip()[:500],
                person.id,
                done_by.strip()[:120] or None,
                qualification.strip()[:120] or None,
            )
            return {"id": kept}

        self.in_job(person, key, f"safety {number} {item}", number, work)

    def accept_sheet(
        self,
        person: Person,
        key: str,
        number: str,
        sheet: Sheet,
        said: sheets.Said,
        source: str,
        seen_version: int | None = None,
    ) -> int:
        """Accept a sheet as the next version. `seen_version` is the one it was compared with; None: not compared."""
        check_may(person, "accept sheet")
        if not sheet.points:
            raise Refused("The sheet has no point: nothing can be measured by it.", field="points", value=[])
        points_by_code(sheet)
        check_span_ends(sheet)

        def work(connection: Connection, view: JobView) -> dict[str, Any]:
            now = view.facts.sheet_version or 0
            if seen_version is not None and seen_version != now:
                raise Unsure(
                    f"Version {now} of the sheet was accepted meanwhile: look at what differs, then accept again.",
                    field="seen_version",
                    value=seen_version,
                )
            version = sheets.accept_sheet(connection, view.job.id, sheet, said, source, person.id)
            return {"version": version}

        return int(self.in_job(person, key, f"sheet {number}", number, work)["version"])

    def past(self) -> Past:
        """Return the shop's own past: how its released jobs went."""

        def look(connection: Connection) -> Past:
            mark, (seen, kept, past) = went.mark(connection), self._past
            if mark == seen:
                return past
            grown = mark[0] > seen[0]
            newer = went.since(connection, seen[1] if grown else 0)
            kept = {**(kept if grown else {}), **{job: state for _, job, state in newer}}
            self._past = (mark, kept, Past(kept.values()))
            return self._past[2]

        return self.database.run(look)

    def tools(self) -> tuple[ShopTool, ...]:
        """Return the tools that the shop owns and uses."""
        return self.database.run(tools.shop_tools)

    def moved(self, connection: Connection, view: JobView, what: Moved, words: str, person: Person) -> int:
        """Record a move as part of a deed, in the set-up in force."""
        setup = view.setup.number if view.setup else None
        return measuring.record_move(connection, view.job.id, setup, what, words, person.id)

    def sign(self, person: Person, key: str, number: str, hold: HoldName, seen: dict[str, str], reason: str) -> None:
        """Sign a hold point on the evidence that was `seen`. Raises `Unsure` that says what is missing or has changed."""
        check_may(person, "sign")

        def work(connection: Connection, view: JobView) -> dict[str, Any]:
            state = view.state.hold(hold)
            refusal = may_sign(state, person.role)
            if refusal:
                raise lacking(refusal, field="hold", value=hold)
            if seen != state.evidence:
                raise Unsure(
                    "The evidence has changed since this page was opened: look at it again, then sign.",
                    field="seen",
                    value=hold,
                )
            given = reason_of(reason) if state.missing else None
            overridden = tuple(tell(missing.said) for missing in state.missing)
            picture = view.state.picture
            shown = json.dumps(
                {
                    "hold": state.model_dump(mode="json", exclude={"signature"}),
                    "picture": picture.model_dump(mode="json") if picture and hold != "made_safe" else None,
                }
            )
            signed = holds.sign(connection, view.job.id, hold, state.evidence, overridden, given, shown, person.id)
            if hold == "released":
                facts = load_facts(connection, view.job)
                went.keep(connection, signed, view.job.id, went_of(facts, view.job))
            return {"id": signed}

        self.in_job(person, key, f"sign {number} {hold}", number, work)

    def close_job(self, person: Person, key: str, number: str, closed: bool) -> None:
        """Close a job that is done with, or open it again. Its last record should be made before: that is the lead's to see."""
        check_may(person, "close")

        def work(connection: Connection, view: JobView) -> dict[str, Any]:
            jobs.close_job(connection, view.job.id, closed)
            return {}

        self.in_job(person, key, f"close {number}", number, work, even_closed=True)

    def make_record(self, person: Person, key: str, number: str) -> str:
        """Make the record of a job as it stands, keep it, and return its SHA-256."""
        check_may(person, "make record")

        def work(connection: Connection, view: JobView) -> dict[str, Any]:
            with connection.cursor() as cursor:
                cursor.execute("SELECT UTC_TIMESTAMP(6) AS at")
                at = utc(cursor.fetchone()["at"])
            record = make_record(
                view.facts,
                {**view.job.details.model_dump(), "opened_by": view.job.opened_by, "opened_at": view.job.opened_at},
                Who(name=person.full_name, role=person.role, at=at),
                software=self.software,
                workshop=self.workshop,
            )
            key = keys.signing_key(connection, self.workshop)
            body, digest = sealed(record, records.last_before(connection, view.job.id), key)
            records.keep_record(connection, view.job.id, digest, body, person.id)
            return {"sha256": digest}

        return str(self.in_job(person, key, f"record {number}", number, work, touch=False, even_closed=True)["sha256"])

    def last_own_reading(self, view: JobView, purpose: Purpose) -> int | None:
        """Return the id of the last reading of the set-up in force that still counts, or None."""
        setup = view.setup
        own = [
            r.id for r in counting(view.facts.readings) if setup and r.setup == setup.number and r.purpose == purpose
        ]
        return max(own, default=None)

    def view_in(self, connection: Connection, number: str) -> JobView:
        """Return a job as it stands within a transaction. Raises `NoSuchJob`."""
        job = jobs.find_job(connection, number)
        return JobView(job, *self._cache.get(connection, job))

    def check_crossed(self, view: JobView, name: HoldName) -> None:
        """Raise `Unsure` when the job may not go past a hold point yet."""
        hold = view.state.hold(name)
        if hold.status != "closed":
            why = (*hold.reopened, *(missing.said for missing in hold.missing))
            said = say(
                "hold.not_past", hold=name, reopened=bool(hold.reopened), why=why[0] if why else say("hold.sign_it")
            )
            raise lacking(said, field="hold", value=name)

    def once(
        self, person: Person, key: str, purpose: str, work: Callable[[Connection], dict[str, Any]]
    ) -> dict[str, Any]:
        """Do `work` once for a key of the client's; a second time return the first answer. Raises `Refused` for a bad key."""
        if not 8 <= len(key) <= 64 or not key.isascii() or not key.isprintable():
            raise Refused(
                "request_key should be 8 to 64 plain characters, new for each deed.",
                field="request_key",
                value=key[:80],
            )
        return self.database.run(lambda c: once(c, key, person.id, purpose[:80], lambda: work(c))[0])

    def in_job(
        self,
        person: Person,
        key: str,
        purpose: str,
        number: str,
        work: Callable[[Connection, JobView], dict[str, Any]],
        *,
        touch: bool = True,
        even_closed: bool = False,
        quick: bool = False,
        of_person: bool = False,
    ) -> dict[str, Any]:
        """Do `work` once on a job whose row is held until the end, so that no two deeds in one job cross; with `of_person` no two
        of one person either, whatever the job.

        A `quick` deed is shown only the holds before measuring, and no point: readings come many a second. Raises `Unsure` in a
        job that is closed.
        """

        act = act_of(purpose)
        if number.startswith(PRACTICE) and not (act and act.practised):
            raise Unsure(
                "This is practice: what is measured, planned and pulled is practised, and nothing is signed or recorded.",
                field="job",
                value=number,
            )

        def held(connection: Connection) -> dict[str, Any]:
            if of_person:
                hold_person(connection, person.id)
            jobs.hold_job(connection, number)
            job = jobs.find_job(connection, number)
            if job.closed and number.startswith(PRACTICE):
                raise Unsure("This practice has ended: begin another.", field="job", value=number)
            if job.came and not purpose.startswith("record link"):
                raise Unsure(
                    f"{number} came as a file, as {job.came}: it is read here, and nothing is added to it.",
                    field="job",
                    value=number,
                )
            if job.closed and not even_closed:
                raise Unsure(
                    f"{number} is closed. A lead can open it again, on its record page.", field="job", value=number
                )
            look = self._cache.quick if quick else self._cache.get
            answer = work(connection, JobView(job, *look(connection, job)))
            if touch:
                jobs.touch(connection, job.id)
            return answer

        answer = self.once(person, key, purpose, held)
        self.bell.ring(number)
        return answer


def reason_of(text: str) -> str:
    """Return a reason as it will stand in the record. Raises `Refused` for one that says nothing."""
    reason = " ".join(text.split())
    if len(reason) < 8 or len(reason) > 2000:
        raise Refused(
            "Write the reason, in a sentence of 8 to 2000 letters: it goes into the record.",
            field="reason",
            value=text[:200],
        )
    return reason
