"""Deeds of deciding: contradictions settled, members as they are seen, and what is done with them."""

from typing import Any, NamedTuple, get_args

from pydantic import ValidationError

from fairsquare.actions.desk import Desk, JobView, Unsure, reason_of
from fairsquare.actions.rights import check_may
from fairsquare.core.damage.decide import MakersWord, Material, MemberRole, MemberSeen, Sign
from fairsquare.core.errors import Refused
from fairsquare.job.damage.choices import check_choice, member_states
from fairsquare.job.damage.job import damage_of, key_of, units_of
from fairsquare.job.facts.damage import Chosen, SaidMaterial
from fairsquare.store import damage
from fairsquare.store.database import Connection
from fairsquare.store.people import Person


class MemberSaid(NamedTuple):
    """A member as a person describes it."""

    member: str
    layer: str
    material: SaidMaterial
    role: MemberRole
    signs: tuple[Sign, ...]
    maker: MakersWord
    source: str
    contradicts: str = ""


class DecisionSaid(NamedTuple):
    """What a person decides of a member, and what goes with it."""

    decision: Chosen
    reason: str = ""
    gives_up: str = ""
    remains: str = ""
    consent: str = ""
    first: str = ""
    hours: float | None = None
    donor: str = ""


def settle(desk: Desk, person: Person, key: str, number: str, finding: str, reason: str) -> None:
    """Settle a contradiction with a reason. Raises `Unsure` for one that is not there (any more)."""
    check_may(person, "judge readings")
    given = reason_of(reason)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        read = damage_of(view.facts)
        if finding not in {key_of(finding_seen) for finding_seen in (read.findings if read else ())}:
            raise Unsure(
                "This contradiction is not there any more: look at the page again.", field="finding", value=finding
            )
        return {"id": damage.settle_finding(connection, view.job.id, finding, given, person.id)}

    desk.in_job(person, key, f"settle {number}", number, work)


def see_member(desk: Desk, person: Person, key: str, number: str, said: MemberSaid) -> int:
    """Record a member as it is seen; the maker's word is kept for every job of that vehicle variant.

    What was seen on it at the walk-round is among its signs, or goes with a reason why not. Raises `Refused` otherwise.
    """
    check_may(person, "decide")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        state = next(
            (
                member_state
                for member_state in member_states(view.facts)
                if (member_state.member, member_state.layer) == (said.member, said.layer)
            ),
            None,
        )
        left_out = state.left_out(said.signs) if state else ()
        if left_out and len(said.contradicts) < 8:
            told = "; ".join(f"“{left.seen.said}” ({left.seen.by.name})" for left in left_out)
            raise Refused(
                f"Seen on it: {told}. Tick it, or write in a sentence why it does not count.",
                field="contradicts",
                value=said.contradicts,
            )
        return {"id": _see(connection, view, person, said)}

    return int(desk.in_job(person, key, f"member {number}", number, work)["id"])


def decide(desk: Desk, person: Person, key: str, number: str, seen: int, said: DecisionSaid) -> None:
    """Decide on a member as it was seen. Raises `Refused` for what the rules leave to a lead, or to nobody."""
    check_may(person, "decide")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        state = next(
            (
                member_state
                for member_state in member_states(view.facts)
                if member_state.seen and member_state.seen.id == seen
            ),
            None,
        )
        if state is None or state.seen is None:
            raise Unsure("It was looked at again meanwhile: see what is new, then decide.", field="seen", value=seen)
        check_choice(
            state.seen,
            said.decision,
            person.role,
            reason=said.reason.strip(),
            gives_up=said.gives_up.strip(),
            remains=said.remains.strip(),
            consent=said.consent.strip(),
        )
        if said.hours is not None and not 0 <= said.hours <= 1000:
            raise Refused("Hours should be 0 to 1000.", field="hours", value=said.hours)
        return {"id": damage.decide(connection, view.job.id, seen, _texts(said), person.id)}

    desk.in_job(person, key, f"decide {number} {seen}", number, work)


def keep_what_is_fair(desk: Desk, person: Person, key: str, number: str) -> int:
    """Keep every member not described yet whose every point is read and fair, and on which nothing was seen; return how many."""
    check_may(person, "decide")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        sheet, picture = view.facts.sheet, view.state.picture
        judged = picture.judged if picture else {}
        known = damage.of_variant(connection, sheet.name) if sheet else {}
        count = 0
        for state in member_states(view.facts):
            points = units_of(sheet).get(state.member, ()) if sheet else ()
            fair = bool(points) and all(judged[p.code].state == "fair" for p in points if p.code in judged)
            if state.seen is not None or state.ticked or not fair or any(p.code not in judged for p in points):
                continue
            before = known.get((state.member, state.layer), {})
            member_said = MemberSaid(
                state.member,
                state.layer,
                before.get("material", "unknown"),
                before.get("role", "structural"),
                (),
                MakersWord(**{name: before.get(name) for name in ("straighten", "section", "heat")}),
                before.get("source", ""),
            )
            seen = _see(connection, view, person, member_said)
            kept = DecisionSaid("keep", reason="every point read and fair, no signs")
            damage.decide(connection, view.job.id, seen, _texts(kept), person.id)
            count += 1
        if count == 0:
            raise Unsure("There is no member that is wholly read, fair and still open.", field="keep")
        return {"count": count}

    return int(desk.in_job(person, key, f"keep fair {number}", number, work)["count"])


def known_of_variant(desk: Desk, view: JobView) -> dict[tuple[str, str], dict[str, Any]]:
    """Return what was last said, in any job, of the members of this vehicle variant."""
    sheet = view.facts.sheet
    return desk.database.run(lambda c: damage.of_variant(c, sheet.name)) if sheet else {}


def member_said(fields: dict[str, Any]) -> MemberSaid:
    """Return a member as described in plain texts. Raises `Refused` that names the field."""
    member, layer = (" ".join(str(fields.get(name, "")).split()) for name in ("member", "layer"))
    if not member or len(member) > 120:
        raise Refused("Name the member, such as right front rail.", field="member", value=member[:120])
    if len(layer) > 60:
        raise Refused("Name the layer in up to 60 letters, such as inner.", field="layer", value=layer[:60])
    try:
        material = str(fields.get("material") or "unknown")
        own = MemberSeen.model_validate(
            {
                "material": "mild" if material == "unknown" else material,
                "role": fields.get("role"),
                "signs": tuple(fields.get("signs", ())),
            }
        )
        maker = MakersWord.model_validate({name: fields.get(name) for name in ("straighten", "section", "heat")})
    except ValidationError as fault:
        first = fault.errors()[0]
        field = str(first["loc"][0])
        right = {"material": get_args(Material), "role": get_args(MemberRole), "signs": get_args(Sign)}.get(field)
        words = f"choose from {', '.join(right)}" if right else "yes, no, or not said"
        raise Refused(f"{field}: {words}.", field=field, value=str(first["input"])[:80]) from None
    source = " ".join(str(fields.get("source", "")).split())[:200]
    contradicts = " ".join(str(fields.get("contradicts", "")).split())[:2000]
    made_of: SaidMaterial = "unknown" if material == "unknown" else own.material
    return MemberSaid(member, layer, made_of, own.role, tuple(dict.fromkeys(own.signs)), maker, source, contradicts)


def _see(connection: Connection, view: JobView, person: Person, said: MemberSaid) -> int:
    variant = view.facts.sheet.name if view.facts.sheet else view.job.details.vehicle
    fields = {**said._asdict(), **said.maker.model_dump(), "signs": list(said.signs)}
    return damage.see_member(connection, view.job.id, variant[:200], fields, person.id)


def _texts(said: DecisionSaid) -> dict[str, Any]:
    limits = {"consent": 200, "first": 500, "donor": 500}
    return {
        name: value.strip()[: limits.get(name, 2000)] if isinstance(value, str) else value
        for name, value in said._asdict().items()
    }
