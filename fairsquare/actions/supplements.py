"""Deeds of supplements: lines found at any station, sent to the payer under a link, answered, and a lead's word to go on."""

import math
import secrets
from collections.abc import Sequence
from typing import Any, NamedTuple

from fairsquare.actions.desk import Desk, JobView, Unsure, reason_of
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.job.facts.supplements import PayersAnswer
from fairsquare.job.intake.supplements import UNPROVEN, LineState, is_cross_checked, line_states
from fairsquare.security_log import security, told_code
from fairsquare.store import jobs, links, supplements
from fairsquare.store.database import Connection
from fairsquare.store.links import NoSuchLink
from fairsquare.store.people import Person
from fairsquare.store.supplements import LinkedSupplement

LINK_DAYS = (1, 7, 14, 30, 60)
_CODE_BYTES = 24


def add_line(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    station: str,
    words: str,
    hours: float,
    parts: str = "",
    amount_cents: int = 0,
    *,
    structural: bool = True,
) -> int:
    """Record a line that the estimate missed, from whatever station, and return its id."""
    check_may(person, "find more")
    plain_words = " ".join(words.split())
    if len(plain_words) < 3 or len(plain_words) > 500:
        raise Refused("Say what was found and what it takes, in a line.", field="words", value=words[:200])
    if not (math.isfinite(hours) and 0 <= hours <= 1000):
        raise Refused("Hours should be 0 to 1000.", field="hours", value=hours)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        kept = supplements.add_line(
            connection,
            view.job.id,
            station[:30],
            plain_words,
            hours,
            parts.strip()[:500],
            amount_cents,
            person.id,
            structural=structural,
        )
        return {"id": kept}

    return int(desk.in_job(person, key, f"supplement line {number}", number, work)["id"])


def take_line_back(desk: Desk, person: Person, key: str, number: str, line: int) -> None:
    """Ask for a line no more; what was answered stays."""
    check_may(person, "find more")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        _line(view, line)
        supplements.take_line_back(connection, line, person.id)
        return {}

    desk.in_job(person, key, f"supplement line back {number} {line}", number, work)


def send(
    desk: Desk, person: Person, key: str, number: str, payer: str, lines: tuple[int, ...], days: int, workshop: str
) -> str | None:
    """Send lines to a payer as a supplement; return the code of its link, which is not kept and cannot be shown again.

    None where this was sent before under the same key. The supplement stays as it was sent, whatever is found later.
    """
    check_may(person, "send supplement")
    if len(payer.strip()) < 3:
        raise Refused("To whom does it go? Name the payer.", field="payer", value=payer)
    if days not in LINK_DAYS:
        raise Refused("The link may last 1, 7, 14, 30 or 60 days.", field="days", value=days)
    if not lines:
        raise Refused("Choose the lines that are sent.", field="lines", value=[])
    code = secrets.token_urlsafe(_CODE_BYTES)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        states = [_line(view, line) for line in dict.fromkeys(lines)]
        seen = _seen(view, states, person, payer.strip()[:200], workshop)
        ids = [state.line.id for state in states]
        return {
            "number": supplements.send(connection, view.job.id, payer.strip()[:200], seen, ids, code, days, person.id),
            "made": links.hash_of(code).hex(),
        }

    answer = desk.in_job(person, key, f"supplement {number}", number, work)
    security("link made", link=told_code(code), person=person.name, job=number)
    return code if answer["made"] == links.hash_of(code).hex() else None


def withdraw(desk: Desk, person: Person, key: str, number: str, supplement: int) -> None:
    """Have a supplement's link lead nowhere any more."""
    check_may(person, "send supplement")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        if supplement not in {supplement.id for supplement in view.facts.supplements}:
            raise Refused("There is no such supplement in this job.", field="supplement", value=supplement)
        supplements.withdraw(connection, supplement, person.id)
        return {}

    desk.in_job(person, key, f"withdraw {number} {supplement}", number, work)


def record_answer(
    desk: Desk, person: Person, key: str, number: str, line: int, said: PayersAnswer, words: str, named: str
) -> None:
    """Record what the payer told us of a line that was sent."""
    check_may(person, "send supplement")
    if len(named.strip()) < 3:
        raise Refused("Who said so? Name the payer's person.", field="named", value=named)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        state = _line(view, line)
        if state.supplement is None:
            raise Unsure("This line was not sent yet: nobody can have answered it.", field="line", value=line)
        kept = supplements.answer(
            connection, state.supplement.id, line, said, words.strip()[:1000], named.strip()[:120], person.id
        )
        return {"id": kept}

    desk.in_job(person, key, f"supplement answer {number} {line}", number, work)


def go_ahead(desk: Desk, person: Person, key: str, number: str, line: int, reason: str) -> None:
    """Let work on a line go on without the payer's word: a lead's, with a reason."""
    check_may(person, "go ahead")
    given = reason_of(reason)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        _line(view, line)
        return {"id": supplements.go_ahead(connection, line, given, person.id)}

    desk.in_job(person, key, f"go ahead {number} {line}", number, work)


def open_link(desk: Desk, code: str, address: str) -> LinkedSupplement:
    """Return what a link shows. Raises `NoSuchLink`, alike for every reason, and `TooManyLinks`."""

    def look(connection: Connection) -> LinkedSupplement | None:
        links.check_tries(connection, address)
        linked = supplements.by_code(connection, code[:200])
        links.note_try(connection, address, linked is not None)
        return linked

    linked = desk.database.run(look)
    security("link used" if linked else "link refused", link=told_code(code), address=address)
    if linked is None:
        raise NoSuchLink
    return linked


class LineAnswer(NamedTuple):
    """What the payer says of one line."""

    line: int
    said: PayersAnswer
    words: str = ""


def answer_by_link(desk: Desk, linked: LinkedSupplement, said: Sequence[LineAnswer], named: str) -> None:
    """Record what the payer says of lines on the page of the link: all of it, or, where something is wrong, nothing."""
    if len(named.strip()) < 3:
        raise Refused("Write your name: it stands beside the answers.", field="named", value=named)
    if not said:
        raise Refused("Mark what you approve, refuse or ask about, or approve all.", field="answers", value="")
    for line_answer in said:
        if line_answer.said == "asked" and len(line_answer.words.strip()) < 3:
            raise Refused(
                "Write what you would like to know.", field=f"words-{line_answer.line}", value=line_answer.words
            )

    def work(connection: Connection) -> None:
        jobs.hold_job(connection, linked.job)
        if jobs.find_job(connection, linked.job).closed:
            raise Unsure(
                "The workshop has closed this job: an answer changes nothing any more. Telephone them if it should.",
                field="answers",
            )
        for line_answer in said:
            words, name = line_answer.words.strip()[:1000], named.strip()[:120]
            supplements.answer(connection, linked.id, line_answer.line, line_answer.said, words, name, None)
        jobs.touch(connection, linked.job_id)

    desk.database.run(work)
    desk.bell.ring(linked.job)


def _line(view: JobView, line: int) -> LineState:
    state = next((line_state for line_state in line_states(view.facts) if line_state.line.id == line), None)
    if state is None:
        raise Refused("There is no such line in this job.", field="line", value=line)
    return state


def _seen(view: JobView, states: list[LineState], person: Person, payer: str, workshop: str) -> dict[str, Any]:
    """Return what the supplement shows, as it will stay."""
    own = {state.line.id for state in states}
    return {
        "workshop": workshop,
        "job": view.job.number,
        "vehicle": view.job.details.vehicle,
        "vin": view.job.details.vin,
        "hit": view.job.details.hit_words,
        "payer": payer,
        "by": {"name": person.full_name, "role": person.role},
        "unproven": None if is_cross_checked(view.facts) else UNPROVEN,
        "lines": [
            {
                "id": state.line.id,
                "words": state.line.words,
                "station": state.line.station,
                "hours": state.line.hours,
                "parts": state.line.parts,
                "amount_cents": state.line.amount_cents,
                "photos": [
                    photo.id
                    for photo in view.facts.photos
                    if photo.about == "supplement" and photo.about_id == state.line.id
                ],
            }
            for state in states
        ],
        "photos": [photo.id for photo in view.facts.photos if photo.about == "supplement" and photo.about_id in own],
    }
