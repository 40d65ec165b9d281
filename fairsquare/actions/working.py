"""Deeds of hours: what is said of them, who works on what since when, and what the estimate missed sent on."""

import datetime
from collections.abc import Sequence
from typing import Any

from fairsquare.actions.desk import Desk, JobView, Unsure
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.core.plan.said import HoursSaid, check_hours
from fairsquare.job.facts.hours import WorkEnd, WorkFact
from fairsquare.job.plan.operations import JobWork, job_work, supplement_words
from fairsquare.store import finishing, jobs, people, supplements, work
from fairsquare.store.database import Connection, now_of
from fairsquare.store.people import Person
from fairsquare.store.put_back import LEAST_S
from fairsquare.store.work import OpenWork

FORGOTTEN_H = 10.0
"""A clock of work that runs for longer was forgotten: nobody works so long on one thing. Common practice, no source."""


def work_on(desk: Desk, view: JobView) -> JobWork:
    """Return the hours of a job as it stands; those that nobody said are as this shop's own past has them."""
    closed = frozenset(hold.name for hold in view.state.holds if hold.status == "closed")
    return job_work(view.facts, closed, desk.past().hour_times)


def following(desk: Desk, view: JobView) -> JobWork:
    """Return the hours of a job as they follow from it, whatever was said of them."""
    return job_work(view.facts.model_copy(update={"hours": None}), times=desk.past().hour_times)


def say_hours(desk: Desk, person: Person, key: str, number: str, said: HoursSaid, seen: int) -> int:
    """Keep what is said of the hours, as read at version `seen`. Raises `Refused`, and `Unsure` when somebody was faster."""
    check_may(person, "say hours")
    check_hours(said)

    def keep(connection: Connection, view: JobView) -> dict[str, Any]:
        now = view.facts.hours
        if (now.version if now else 0) != seen:
            who = now.by.name if now else "Somebody"
            raise Unsure(
                f"{who} changed the hours meanwhile: look at them again, then put in what you had.",
                field="version",
                value=seen,
            )
        return {"version": finishing.say(connection, view.job.id, "hours", 0, said, person.id)}

    return int(desk.in_job(person, key, f"say {number} hours", number, keep)["version"])


def start_work(desk: Desk, person: Person, key: str, number: str, operation: str) -> int:
    """Start a person's clock on an operation; what he or she worked on until now ends by it. Raises `Refused` and `Unsure`."""
    check_may(person, "work")

    def begin(connection: Connection, view: JobView) -> dict[str, Any]:
        _check_operation(desk, view, operation)
        for clock in work.going_on(connection, person.id):
            if clock.job == number and clock.operation == operation:
                return {"id": clock.id}
            if has_to_be_said(clock):
                raise Unsure(
                    f"Your clock on {clock.operation} ({clock.job}) still runs: say first when you stopped.",
                    field="operation",
                )
            work.end(connection, clock.id, "next", "", person.id)
            if clock.job != number:
                jobs.touch(connection, clock.job_id)
        return {"id": work.start(connection, view.job.id, operation, person.id)}

    return int(desk.in_job(person, key, f"work {number}", number, begin, of_person=True)["id"])


def stop_work(
    desk: Desk, person: Person, key: str, number: str, clock: int, ended_at: str | None = None, words: str = ""
) -> None:
    """Stop a clock of work, one's own or, as a lead, another's: now, or at a time (UTC, ISO 8601) since it began."""
    check_may(person, "work")

    def finish(connection: Connection, view: JobView) -> dict[str, Any]:
        own = _work_of(view, clock)
        _check_whose(connection, person, own)
        if own.ended_at is not None:
            return {}
        now = now_of(connection)
        running = next((open_work for open_work in work.going_on(connection) if open_work.id == clock), None)
        if ended_at is None and running is not None and was_put_back(running):
            raise Refused(
                f"The server's clock was put back by {_span(running.put_back_s)} while this ran: by itself it would count too "
                "little. Say when it stopped, by the clock that it began by.",
                field="ended",
            )
        if ended_at is None and running is not None and is_forgotten(running):
            raise Refused(
                "This clock has run too long to have been work all the time: say when it stopped.", field="ended"
            )
        if ended_at is not None and not own.by.at < ended_at <= _latest(now, running):
            raise Refused("It stopped after it began, and not in the future.", field="ended", value=ended_at)
        how: WorkEnd = "touch" if ended_at is None else "said"
        work.end(connection, clock, how, " ".join(words.split())[:500], person.id, _naive(ended_at))
        return {}

    desk.in_job(person, key, f"work end {number} {clock}", number, finish, even_closed=True)


def add_work(
    desk: Desk, person: Person, key: str, number: str, operation: str, since: str, until: str, words: str
) -> int:
    """Record work that no clock counted, from a time until another (UTC, ISO 8601). Raises `Refused`."""
    check_may(person, "work")

    def add(connection: Connection, view: JobView) -> dict[str, Any]:
        _check_operation(desk, view, operation)
        if not since < until:
            raise Refused("Work ends after it begins.", field="until", value=until)
        if until > now_of(connection):
            raise Refused("This is in the future: work is recorded when it is done.", field="until", value=until)
        if _hours(since, until) > FORGOTTEN_H:
            raise Refused(
                f"More than {FORGOTTEN_H:g} hours at a stretch: record it day by day.", field="until", value=until
            )
        other = work.overlapping(connection, person.id, _plain(since), _plain(until))
        if other is not None:
            raise Refused(
                f"You worked on {other['operation']} ({other['number']}) then: nobody does two things at once.",
                field="since",
                value=since,
            )
        clock = work.start(connection, view.job.id, operation, person.id, _naive(since))
        work.end(connection, clock, "said", " ".join(words.split())[:500], person.id, _naive(until))
        return {"id": clock}

    return int(desk.in_job(person, key, f"work add {number}", number, add, even_closed=True, of_person=True)["id"])


def take_work_back(desk: Desk, person: Person, key: str, number: str, clock: int) -> None:
    """Record that a clock was a mistake: it counts no longer."""
    check_may(person, "work")

    def back(connection: Connection, view: JobView) -> dict[str, Any]:
        _check_whose(connection, person, _work_of(view, clock))
        work.take_back(connection, clock, person.id)
        return {}

    desk.in_job(person, key, f"work back {number} {clock}", number, back, even_closed=True)


def ask_for_gaps(desk: Desk, person: Person, key: str, number: str, names: Sequence[str]) -> int:
    """Raise supplement lines for what rows of the hours take more than was sold, and return how many."""
    check_may(person, "find more")

    def ask(connection: Connection, view: JobView) -> dict[str, Any]:
        rows = [row for row in work_on(desk, view).gaps if row.name in names]
        if not rows:
            raise Refused("Choose what the payer is to be asked for.", field="row", value=list(names)[:5])
        for row in rows:
            words = supplement_words(row, view.facts.sheet)[:500]
            supplements.add_line(connection, view.job.id, "hours", words, row.gap_h, "", 0, person.id, structural=False)
        return {"lines": len(rows)}

    return int(desk.in_job(person, key, f"supplement gaps {number}", number, ask)["lines"])


def is_forgotten(clock: OpenWork) -> bool:
    """Say whether a clock of work has run for longer than anybody works at a stretch."""
    return clock.seconds > FORGOTTEN_H * 3600


def was_put_back(clock: OpenWork) -> bool:
    """Say whether the time by which a clock of work counts was put back while it ran."""
    return clock.put_back_s >= LEAST_S


def has_to_be_said(clock: OpenWork) -> bool:
    """Say whether it has to be said when a clock of work stopped: by itself it would count too much, or too little."""
    return is_forgotten(clock) or was_put_back(clock)


def _check_operation(desk: Desk, view: JobView, operation: str) -> None:
    if work_on(desk, view).row(operation) is None:
        raise Refused(
            f"{operation[:60]} is not among the operations of this job.", field="operation", value=operation[:60]
        )


def _work_of(view: JobView, clock: int) -> WorkFact:
    own = next((work for work in view.facts.worked if work.id == clock), None)
    if own is None:
        raise Refused("There is no such clock in this job.", field="clock", value=clock)
    return own


def _check_whose(connection: Connection, person: Person, own: WorkFact) -> None:
    """Raise `Refused` for somebody else's clock: people are told apart by their ids, for two may bear one name."""
    if people.who_recorded(connection, "work_clock", own.id) != person.id and person.role != "lead":
        raise Refused(f"This is {own.by.name}'s clock: they stop it, or a lead does.", field="clock", value=own.id)


def _hours(since: str, until: str) -> float:
    took = datetime.datetime.fromisoformat(until) - datetime.datetime.fromisoformat(since)
    return took.total_seconds() / 3600


def _latest(now: str, running: OpenWork | None) -> str:
    """Return until when work may have gone on: until now, or, where now was put back, as long as anybody works at a stretch."""
    if running is None or not was_put_back(running):
        return now
    return max(now, _later(running.since, FORGOTTEN_H * 3600))


def _later(moment: str, seconds: float) -> str:
    at = datetime.datetime.fromisoformat(moment) + datetime.timedelta(seconds=seconds)
    return f"{at.replace(tzinfo=None).isoformat(timespec='microseconds')}Z"


def _span(seconds: float) -> str:
    minutes = round(seconds / 60)
    return f"{minutes // 60} h {minutes % 60} min" if minutes >= 60 else f"{max(minutes, 1)} min"


def _plain(moment: str) -> str:
    return moment.removesuffix("Z").replace("T", " ")


def _naive(moment: str | None) -> str | None:
    return None if moment is None else _plain(moment)
