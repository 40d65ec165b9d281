"""Deeds of waiting: what a job waits for, who was asked, when it is due, and that it came."""

from typing import Any

from fairsquare.actions.desk import Desk, JobView, Unsure
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.job.facts.hours import WaitKind
from fairsquare.job.stations import HELD_UP
from fairsquare.job.waiting import WAIT_KINDS
from fairsquare.store import waits
from fairsquare.store.database import Connection, now_of
from fairsquare.store.people import Person


def note_wait(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    kind: WaitKind,
    words: str,
    *,
    asked_of: str = "",
    due_at: str = "",
    station: str = "",
    since: str = "",
) -> int:
    """Note what a job waits for, and return its id.

    `due_at` and `since` are UTC, ISO 8601; empty where nobody knows until when, and where it begins now. Raises `Refused`.
    """
    check_may(person, "note wait")
    words, asked_of = " ".join(words.split()), " ".join(asked_of.split())
    if kind not in WAIT_KINDS:
        raise Refused(f"It is one of: {', '.join(WAIT_KINDS.values())}.", field="kind", value=kind)
    if not 3 <= len(words) <= 200:
        raise Refused(
            "Say what it waits for, in a few words, such as: left rear node.", field="words", value=words[:200]
        )
    if station and station not in HELD_UP:
        raise Refused("Choose a station of the job.", field="station", value=station)
    _check_asked(asked_of)

    def keep(connection: Connection, view: JobView) -> dict[str, Any]:
        if since and since > now_of(connection):
            raise Refused("It waits from now on, or since a time that is past.", field="since", value=since)
        wait = waits.note(connection, view.job.id, kind, words, station, person.id, _plain(since))
        waits.say(connection, wait, asked_of, _plain(due_at), person.id)
        return {"id": wait}

    return int(desk.in_job(person, key, f"wait {number}", number, keep)["id"])


def say_wait(desk: Desk, person: Person, key: str, number: str, wait: int, asked_of: str, due_at: str) -> None:
    """Say anew who was asked and when it is due."""
    check_may(person, "note wait")
    asked_of = " ".join(asked_of.split())
    _check_asked(asked_of)

    def keep(connection: Connection, view: JobView) -> dict[str, Any]:
        _check_open(view, wait)
        waits.say(connection, wait, asked_of, _plain(due_at), person.id)
        return {}

    desk.in_job(person, key, f"wait say {number} {wait}", number, keep)


def end_wait(desk: Desk, person: Person, key: str, number: str, wait: int, words: str) -> None:
    """Record that it came; the job waits for it no longer."""
    check_may(person, "note wait")

    def keep(connection: Connection, view: JobView) -> dict[str, Any]:
        _check_open(view, wait)
        waits.end(connection, wait, " ".join(words.split())[:500], person.id)
        return {}

    desk.in_job(person, key, f"wait over {number} {wait}", number, keep)


def _check_asked(asked_of: str) -> None:
    if len(asked_of) > 120:
        raise Refused("Who was asked, in up to 120 letters.", field="asked_of", value=asked_of[:120])


def _check_open(view: JobView, wait: int) -> None:
    own = next((noted for noted in view.facts.waits if noted.id == wait), None)
    if own is None:
        raise Refused("There is no such wait in this job.", field="wait", value=wait)
    if own.over is not None:
        raise Unsure(f"{own.words}: {own.over.name} noted already that it came.", field="wait", value=wait)


def _plain(moment: str) -> str | None:
    return moment.removesuffix("Z").replace("T", " ") or None
