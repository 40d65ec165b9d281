"""The API from the walk-round to the decision: what is seen, photos, the damage as read, members and what is done with them."""

from typing import Annotated

from fastapi import APIRouter, Form, Request, UploadFile
from pydantic import Field
from starlette.concurrency import run_in_threadpool

from fairsquare.actions import deciding, walk_round
from fairsquare.actions.deciding import DecisionSaid
from fairsquare.api.doors import At, By
from fairsquare.api.models import Given, Key, KeyOnly, Sent, Settle
from fairsquare.core.damage.decide import MakersWord, MemberDecided, MemberRole, Sign
from fairsquare.core.damage.read import DamageRead
from fairsquare.core.lengths import Unit
from fairsquare.core.model import Model
from fairsquare.files.photos import photo_to_keep
from fairsquare.job.damage.choices import member_states
from fairsquare.job.damage.job import damage_of, key_of, open_findings
from fairsquare.job.facts.damage import Chosen, DecisionFact, LineAnswer, MemberFact, SaidMaterial
from fairsquare.store.photos import About
from fairsquare.words.tell import tell
from fairsquare.workers import Workers


class NoteFinding(Sent):
    """Something seen at the walk-round, said in short; `xy`: where it is from above, mm, where the words name no point."""

    request_key: Key
    call: Annotated[str, Field(max_length=500)]
    unit: Unit = "mm"
    xy: tuple[float, float] | None = None


class AnswerLine(Sent):
    """How a mechanical part along the line of the push was found."""

    request_key: Key
    item: str
    answer: LineAnswer
    words: Annotated[str, Field(max_length=500)] = ""


class SeeMember(Sent):
    """A member, or one layer of it, as it is seen, with the maker's word and its source."""

    request_key: Key
    member: str
    layer: str = ""
    material: SaidMaterial = "unknown"
    role: MemberRole
    signs: tuple[Sign, ...] = ()
    maker: MakersWord = MakersWord()
    source: str = ""
    contradicts: str = ""


class BindFinding(Sent):
    """The member, and its layer where it has several, that something is on that was seen at the walk-round."""

    request_key: Key
    member: str
    layer: str = ""


class TakeFindingBack(Sent):
    """A finding that no longer counts; where it binds what is decided, with the reason."""

    request_key: Key
    reason: str = ""


class DecideOn(Sent):
    """What is done with a member as it was seen, and what goes with that."""

    request_key: Key
    decision: Chosen
    reason: str = ""
    gives_up: str = ""
    remains: str = ""
    consent: str = ""
    first: str = ""
    hours: float | None = None
    donor: str = ""


class MemberShown(Model):
    """A member in a job: as seen, what the rules say, what was decided, the ids of what was found on it, and why it is open."""

    member: str
    layer: str
    seen: MemberFact | None
    proposal: MemberDecided | None
    decision: DecisionFact | None
    found: tuple[int, ...] = ()
    open: str | None


class DamageShown(Model):
    """The damage of a job as read before the first pull, and the keys of its findings that are not settled."""

    damage: DamageRead | None
    open: tuple[str, ...]


router = APIRouter(prefix="/api/v1")


@router.post("/jobs/{number}/walk-round", tags=["walk-round"], status_code=201)
def note_finding(number: str, sent: NoteFinding, desk: At, person: By) -> Given:
    """Record something seen at the walk-round."""
    seen = walk_round.hear(desk.view(number), sent.call, sent.unit)
    seen = seen if seen.xy else seen._replace(xy=sent.xy)
    return Given(ids=(walk_round.note_finding(desk, person, sent.request_key, number, sent.call, seen),))


@router.post("/jobs/{number}/walk-round/{finding}/on", tags=["walk-round"])
def bind_finding(number: str, finding: int, sent: BindFinding, desk: At, person: By) -> Given:
    """Say on which member a finding is."""
    walk_round.bind_finding(desk, person, sent.request_key, number, finding, sent.member, sent.layer)
    return Given()


@router.post("/jobs/{number}/walk-round/{finding}/take-back", tags=["walk-round"])
def take_finding_back(number: str, finding: int, sent: TakeFindingBack, desk: At, person: By) -> Given:
    """Take a finding back: it stays, and counts no longer."""
    walk_round.take_finding_back(desk, person, sent.request_key, number, finding, sent.reason)
    return Given()


@router.post("/jobs/{number}/line", tags=["walk-round"])
def answer_line(number: str, sent: AnswerLine, desk: At, person: By) -> Given:
    """Say how a mechanical part along the line of the push was found."""
    walk_round.answer_line(desk, person, sent.request_key, number, sent.item, sent.answer, sent.words)
    return Given()


@router.post("/jobs/{number}/photos", tags=["walk-round"], status_code=201)
async def keep_photo(
    request: Request,
    number: str,
    photo: UploadFile,
    request_key: Annotated[Key, Form()],
    desk: At,
    person: By,
    about: Annotated[About, Form()] = "job",
    about_id: Annotated[int | None, Form()] = None,
    words: Annotated[str, Form(max_length=500)] = "",
) -> Given:
    """Keep a photo (JPEG, PNG or WebP, up to 64 MB) of the job, of a finding or of a member."""
    name = photo.filename or "photo"
    workers: Workers = request.app.state.workers
    kept = await workers.run(person.name, photo_to_keep, await photo.read(), name[:120])
    number_of = await run_in_threadpool(
        walk_round.keep_photo,
        desk,
        person,
        request_key,
        number,
        kept,
        name=name,
        words=words,
        about=about,
        about_id=about_id,
    )
    return Given(ids=(number_of,), sha256=kept.sha256)


@router.get("/jobs/{number}/damage", tags=["damage"])
def show_damage(number: str, desk: At, person: By) -> DamageShown:
    """Return the damage as it is read from the points, before the first pull."""
    del person
    facts = desk.view(number).facts
    damage = damage_of(facts)
    return DamageShown(
        damage=damage,
        open=tuple(key_of(open_finding) for open_finding in open_findings(facts, damage.findings if damage else ())),
    )


@router.post("/jobs/{number}/damage/settle", tags=["damage"])
def settle(number: str, sent: Settle, desk: At, person: By) -> Given:
    """Settle a contradiction with a reason."""
    deciding.settle(desk, person, sent.request_key, number, sent.finding, sent.reason)
    return Given()


@router.get("/jobs/{number}/members", tags=["damage"])
def show_members(number: str, desk: At, person: By) -> list[MemberShown]:
    """Return every member and layer: as seen, what the rules say, what was decided."""
    del person
    states = member_states(desk.view(number).facts)
    return [
        MemberShown(
            **{
                **state._asdict(),
                "found": tuple(decided.seen.id for decided in state.found),
                "open": tell(state.open) or None,
            }
        )
        for state in states
    ]


@router.post("/jobs/{number}/members", tags=["damage"], status_code=201)
def see_member(number: str, sent: SeeMember, desk: At, person: By) -> Given:
    """Record a member as it is seen; the id goes into the decision."""
    fields = sent.model_dump(exclude={"request_key", "maker"}) | sent.maker.model_dump()
    said = deciding.member_said(fields)
    return Given(ids=(deciding.see_member(desk, person, sent.request_key, number, said),))


@router.post("/jobs/{number}/members/{seen}/decision", tags=["damage"])
def decide(number: str, seen: int, sent: DecideOn, desk: At, person: By) -> Given:
    """Decide on a member as it was seen."""
    said = DecisionSaid(**sent.model_dump(exclude={"request_key"}))
    deciding.decide(desk, person, sent.request_key, number, seen, said)
    return Given()


@router.post("/jobs/{number}/members/keep-fair", tags=["damage"])
def keep_fair(number: str, sent: KeyOnly, desk: At, person: By) -> Given:
    """Keep every member that is wholly read, fair and not looked at yet."""
    deciding.keep_what_is_fair(desk, person, sent.request_key, number)
    return Given()
