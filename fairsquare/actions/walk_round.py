"""Deeds of the walk-round: what is seen, photos of it, mechanical parts along the line of the push, value against cost."""

from typing import Any

from fairsquare.actions.desk import Desk, JobView
from fairsquare.actions.rights import check_may, check_own
from fairsquare.core.errors import Refused
from fairsquare.core.lengths import Unit
from fairsquare.core.model import Row3
from fairsquare.files.photos import KeptPhoto
from fairsquare.job.damage.bound import BINDS, known_members
from fairsquare.job.facts.damage import LineAnswer
from fairsquare.job.intake.walk_round import KINDS, LINE_ITEMS, Seen, understand_seen
from fairsquare.store import damage, people, photos
from fairsquare.store.database import Connection
from fairsquare.store.people import Person
from fairsquare.store.photos import About


def places_of(view: JobView) -> dict[str, Row3]:
    """Return the places of the sheet's points."""
    return {point.code: point.xyz for point in view.facts.sheet.points} if view.facts.sheet else {}


def hear(view: JobView, said: str, unit: Unit) -> Seen:
    """Understand a finding said in short. Raises `Refused` or `UnknownCode`."""
    return understand_seen(said[:500], places_of(view), unit)


def note_finding(desk: Desk, person: Person, key: str, number: str, said: str, seen: Seen) -> int:
    """Record something seen and return its id."""
    check_may(person, "walk round")
    if not said.strip():
        raise Refused("Say what is seen, and where.", field="call", value=said)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        kept = damage.note_finding(
            connection,
            view.job.id,
            seen.kind,
            said.strip()[:500],
            seen.place[:200],
            seen.code,
            seen.xy,
            seen.left_mm,
            seen.right_mm,
            person.id,
        )
        return {"id": kept}

    return int(desk.in_job(person, key, f"walk {number}", number, work)["id"])


def bind_finding(desk: Desk, person: Person, key: str, number: str, finding: int, member: str, layer: str = "") -> None:
    """Say on which member, and on which layer of it, a finding is. Raises `Refused` where that names none."""
    check_may(person, "walk round")
    member, layer = (" ".join(words.split()) for words in (member, layer))
    if not 2 <= len(member) <= 120:
        raise Refused(
            "Say on which member it is, such as right front rail; one that the sheet does not have may be named too.",
            field="member",
            value=member[:120],
        )
    if len(layer) > 60:
        raise Refused("Name the layer in up to 60 letters, such as inner.", field="layer", value=layer[:60])

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        seen = next((seen for seen in view.facts.walk if seen.id == finding), None)
        if seen is not None and seen.kind not in BINDS:
            raise Refused(
                f"“{seen.said}” is not on a member: it is a {KINDS[seen.kind]}.", field="finding", value=finding
            )
        known = {name.lower(): name for name in known_members(view.facts)}
        named = known.get(member.lower(), member)
        layers = {fact.layer.lower(): fact.layer for fact in view.facts.members if fact.member == named and fact.layer}
        if layers and not layer:
            raise Refused(
                f"{named} has layers: {', '.join(layers.values())}. Say on which of them it is.",
                field="layer",
                value="",
            )
        kept = damage.bind_finding(connection, view.job.id, finding, named, layers.get(layer.lower(), layer), person.id)
        return {"id": kept}

    desk.in_job(person, key, f"walk on {number} {finding}", number, work)


def take_finding_back(desk: Desk, person: Person, key: str, number: str, finding: int, reason: str = "") -> None:
    """Take a finding back: it stays, and counts no longer. What binds goes with a reason. Raises `Refused` without one."""
    check_may(person, "walk round")
    reason = " ".join(reason.split())[:2000]

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        seen = next((seen for seen in view.facts.walk if seen.id == finding), None)
        if seen is not None and seen.kind in BINDS and len(reason) < 8:
            raise Refused(
                f"“{seen.said}” binds what is decided: write in a sentence why it is taken back. It goes into the record.",
                field="back_reason",
                value=reason,
            )
        check_own(person, people.who_recorded(connection, "walk_finding", finding))
        damage.take_finding_back(connection, view.job.id, finding, reason, person.id)
        return {}

    desk.in_job(person, key, f"walk back {number} {finding}", number, work)


def answer_line(desk: Desk, person: Person, key: str, number: str, item: str, answer: LineAnswer, words: str) -> None:
    """Say how a mechanical part along the line of the push was found; what is hurt is said in words."""
    check_may(person, "walk round")
    if item not in dict(LINE_ITEMS):
        raise Refused("That is not on the list.", field="item", value=item[:40])
    if answer == "hurt" and len(words.strip()) < 3:
        raise Refused("Say what is hurt.", field="words", value=words)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        return {"id": damage.answer_line(connection, view.job.id, item, answer, words.strip()[:500], person.id)}

    desk.in_job(person, key, f"line {number} {item}", number, work)


def weigh(desk: Desk, person: Person, key: str, number: str, value_cents: int, cost_cents: int, words: str) -> None:
    """Record the vehicle's value against the cost of repair."""
    check_may(person, "estimate")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        return {"id": damage.weigh(connection, view.job.id, value_cents, cost_cents, words.strip()[:500], person.id)}

    desk.in_job(person, key, f"worth {number}", number, work)


def keep_photo(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    photo: KeptPhoto,
    *,
    name: str,
    words: str = "",
    about: About = "job",
    about_id: int | None = None,
) -> int:
    """Keep a photo of the job, of a finding or of a member, and return its id. Raises `Refused` where that is not of this job."""
    check_may(person, "walk round")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        things: dict[About, tuple[Any, ...]] = {
            "walk": view.facts.walk,
            "member": view.facts.members,
            "supplement": view.facts.supplement_lines,
            "part": view.facts.parts,
            "section": view.facts.sections,
            "done": view.facts.done,
        }
        known = [thing.id for thing in things[about]] if about in things else None
        if known is not None and about_id not in known:
            raise Refused("What this photo shows is not of this job.", field="about", value=about_id)
        if len(view.facts.photos) >= MOST_PHOTOS:
            raise Refused(f"{MOST_PHOTOS} photos are kept in a job, and there are as many.", field="photo", value=name)
        kept = photos.keep_photo(
            connection, view.job.id, about, about_id, name[:200], words.strip()[:500], photo, person.id
        )
        return {"id": kept}

    return int(desk.in_job(person, key, f"photo {number}", number, work)["id"])


MOST_PHOTOS = 2000
