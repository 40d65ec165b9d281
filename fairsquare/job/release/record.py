"""The record of a job: what was found, done, decided and signed, and the figures that follow from its readings."""

import math
from collections.abc import Mapping
from typing import Any, Literal, get_args

from pydantic import Field, SerializerFunctionWrapHandler, model_serializer

from fairsquare.core.damage.read import DamageRead
from fairsquare.core.errors import FairSquareError
from fairsquare.core.measure.calibration import Standing, ToolFact, standings
from fairsquare.core.measure.conformity import PointJudgement
from fairsquare.core.measure.setup import SetupFit
from fairsquare.core.model import Model
from fairsquare.core.said import Said
from fairsquare.core.sheet.model import Sheet
from fairsquare.core.who import Who
from fairsquare.job.damage.job import damage_of
from fairsquare.job.facts.cuts import CutMadeFact, SectionFact, SectionSaidFact, WeldTickFact
from fairsquare.job.facts.damage import BoundFact, DecisionFact, LineFact, MemberFact, SettlementFact, WorthFact
from fairsquare.job.facts.finishing import ClockFact, DoneFact, JobSaidFact
from fairsquare.job.facts.holds import HoldName, SignatureFact
from fairsquare.job.facts.intake import PhotoFact, SafetyFact
from fairsquare.job.facts.job import Further, JobFacts
from fairsquare.job.facts.measure import ReadingFact
from fairsquare.job.facts.parts import PartFact, PartItemFact, PartSpanFact
from fairsquare.job.facts.pulls import PullEventFact, PullPlanFact, PullSettingFact, SettlingFact
from fairsquare.job.facts.setup import MovementFact, SetupFact
from fairsquare.job.facts.supplements import GoAheadFact, SupplementAnswerFact, SupplementFact, SupplementLineFact
from fairsquare.job.facts.walk_round import GapFact, WalkFact
from fairsquare.job.measure.ageing import aged
from fairsquare.job.measure.picture import Joined, Picture, PlacedPoint, current_setup, first_picture, picture_of
from fairsquare.job.measure.trusted_tools import read_at
from fairsquare.job.release.holds import HoldStatus, job_state
from fairsquare.job.release.rules import (
    IN_SENTENCES,
    SENTENCES,
    VERSIONS_OF_FORMAT,
    changed_since,
    impossible_versions,
    versions,
)

Format = Literal["fairsquare-record/7", "fairsquare-record/8", "fairsquare-record/9", "fairsquare-record/10"]
FORMAT: Format = "fairsquare-record/10"
FORMATS: tuple[Format, ...] = get_args(Format)
"""What is checked here. Version 7 knew nothing of how the tools stood, 8 nothing of what was seen being bound to members; up to 9
results were told in sentences, from 10 on they are codes, values and figures, with the version of each calculation."""
CAUTIONS: tuple[str, ...] = (
    "Structural repair: the maker's procedure and local law come first. Fair Square computes and records; it does not "
    "license anyone to do the work.",
    "A point is called fair only where its deviation and its uncertainty together lie within tolerance.",
    "Figures hold for the moment of their readings: after any later repair, hit or heavy load they are history.",
)
CLOSE_ENOUGH = 1e-9


class PointRecord(Model):
    """One point before and after: as first found, and as it stands in the set-up in force."""

    before: PointJudgement | None
    placed: PlacedPoint | None
    after: PointJudgement | None
    readings: tuple[int, ...]


class HoldRecord(Model):
    """A hold point as it stood when the record was made; what it lacked as codes, in records up to 9 in words, under its title."""

    name: HoldName
    title: str = ""
    status: HoldStatus
    missing: tuple[Said | str, ...]
    reopened: tuple[Said | str, ...]


class Results(Model):
    """Everything in a record that follows from its facts."""

    setup: int | None
    fit: SetupFit | None
    relied_on: tuple[str, ...]
    joined: Joined | None
    points: dict[str, PointRecord]
    damage: DamageRead | None
    holds: tuple[HoldRecord, ...]

    @model_serializer(mode="wrap")
    def _without_empty_sentences(self, written: SerializerFunctionWrapHandler) -> dict[str, Any]:
        written_out: dict[str, Any] = _dropped(written(self))
        return written_out


def _dropped(value: Any) -> Any:
    """Return what is written of results without the sentences that they have none of."""
    if isinstance(value, dict):
        return {key: _dropped(part) for key, part in value.items() if not (key in SENTENCES and part == "")}
    return [_dropped(part) for part in value] if isinstance(value, list | tuple) else value


class JobRecord(Model):
    """A whole record: facts as they were recorded, and results as they follow from them by those versions of the calculations."""

    format: Format
    calculations: dict[str, int] = Field(default_factory=dict)
    software: str
    workshop: str
    made: Who
    number: str
    vehicle: dict[str, str | int | None]
    sheet: Sheet | None
    sheet_version: int | None
    safety: tuple[SafetyFact, ...]
    setups: tuple[SetupFact, ...]
    readings: tuple[ReadingFact, ...]
    movements: tuple[MovementFact, ...]
    gaps: tuple[GapFact, ...]
    signatures: tuple[SignatureFact, ...]
    hit_from_deg: int | None
    walk: tuple[WalkFact, ...]
    line: tuple[LineFact, ...]
    worth: tuple[WorthFact, ...]
    photos: tuple[PhotoFact, ...]
    settlements: tuple[SettlementFact, ...]
    members: tuple[MemberFact, ...]
    decisions: tuple[DecisionFact, ...]
    supplement_lines: tuple[SupplementLineFact, ...]
    supplements: tuple[SupplementFact, ...]
    supplement_answers: tuple[SupplementAnswerFact, ...]
    go_aheads: tuple[GoAheadFact, ...]
    parts: tuple[PartFact, ...]
    part_items: tuple[PartItemFact, ...]
    part_spans: tuple[PartSpanFact, ...]
    pull_settings: tuple[PullSettingFact, ...]
    pull_plans: tuple[PullPlanFact, ...]
    pull_events: tuple[PullEventFact, ...]
    settlings: tuple[SettlingFact, ...]
    sections: tuple[SectionFact, ...]
    section_said: tuple[SectionSaidFact, ...]
    weld_ticks: tuple[WeldTickFact, ...]
    cuts_made: tuple[CutMadeFact, ...]
    said: tuple[JobSaidFact, ...]
    done: tuple[DoneFact, ...]
    clocks: tuple[ClockFact, ...]
    tools: tuple[ToolFact, ...] = ()
    bound: tuple[BoundFact, ...] = ()
    dimensions_version: int | None = None
    further: Further
    results: Results
    cautions: tuple[str, ...]


class Disagreement(Model):
    """A figure of a record that does not follow from its facts; `where` is a JSON pointer (RFC 6901).

    `since` names the version of a calculation that works it out otherwise than the one that the record was made by, and `what`
    changed; null where nothing explains it.
    """

    where: str
    stands: Any
    follows: Any
    since: str | None = None
    what: str | None = None


def make_record(
    facts: JobFacts, vehicle: dict[str, str | int | None], made: Who, *, software: str, workshop: str
) -> JobRecord:
    """Return the record of a job as it stands; hours, clocks of work and waits are the shop's own and not in it."""
    return JobRecord(
        format=FORMAT,
        software=software,
        workshop=workshop,
        made=made,
        vehicle=vehicle,
        calculations=versions(),
        results=coded(results_of(facts)),
        cautions=CAUTIONS,
        **{name: value for name, value in facts if name in JobRecord.model_fields},
    )


def results_of(facts: JobFacts) -> Results:
    """Work out everything that follows from the facts of a job."""
    setup = current_setup(facts)
    picture = picture_of(facts, setup, facts.sheet) if setup and facts.sheet else None
    before = first_picture(facts, facts.sheet) if facts.sheet else {}
    codes = [point.code for point in facts.sheet.points] if facts.sheet else []
    return Results(
        setup=setup.number if setup else None,
        fit=picture.fit if picture else None,
        relied_on=picture.relied_on if picture else (),
        joined=picture.joined if picture else None,
        points={code: _point(code, before, picture) for code in codes},
        damage=damage_of(facts),
        holds=tuple(
            HoldRecord(
                name=hold.name,
                status=hold.status,
                missing=tuple(missing.said.coded() for missing in hold.missing),
                reopened=tuple(cause.coded() for cause in hold.reopened),
            )
            for hold in job_state(facts).holds
        ),
    )


def coded(results: Results) -> Results:
    """Return results without their sentences: codes, values and figures, which no other wording changes."""
    return Results.model_validate(_unsaid(results.model_dump()))


def _unsaid(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _unsaid(part) for key, part in value.items() if not (key in SENTENCES and isinstance(part, str))}
    return tuple(_unsaid(part) for part in value) if isinstance(value, list | tuple) else value


def facts_of(record: JobRecord) -> JobFacts:
    """Return the facts that stand in a record."""
    return JobFacts(**{name: getattr(record, name) for name in JobFacts.model_fields if name in JobRecord.model_fields})


def tools_in_record(record: JobRecord) -> tuple[Standing, ...]:
    """Return how far the tools behind a record's figures were to be trusted, as far as the record knows."""
    used = {number for point in record.results.points.values() for number in point.readings}
    counted = [
        reading
        for reading in record.readings
        if reading.id in used or (reading.purpose == "reference" and not reading.taken_back)
    ]
    return (
        standings(record.tools, ((reading.instrument, read_at(reading)) for reading in counted)) if record.tools else ()
    )


def recompute(record: JobRecord) -> tuple[Disagreement, ...]:
    """Work the results out anew from the facts, and what is old from the moves; return all that differs (by 1e-9 of its size)."""
    facts = facts_of(record)
    try:
        follows = results_of(facts)
    except FairSquareError as fault:
        return (Disagreement(where="/results", stands="figures", follows=f"none: {fault.title}"),)
    if record.format not in IN_SENTENCES:
        follows = coded(follows)
    then = record.calculations or VERSIONS_OF_FORMAT.get(record.format, {})
    if then.get("hold-points") != versions()["hold-points"]:
        follows = follows.model_copy(update={"holds": _as_demanded_then(record.results.holds, follows.holds)})
    stand, follow = record.results.model_dump(mode="json"), follows.model_dump(mode="json")
    if record.format in IN_SENTENCES:
        stand, follow = _without_values(stand), _without_values(follow)
    wrong = _compare("/results", stand, follow)
    versions_wrong = [
        Disagreement(where=f"/calculations/{name}", stands=record.calculations.get(name), follows=versions().get(name))
        for name in impossible_versions(record.format, record.calculations)
    ]
    return (*versions_wrong, *_wrongly_fresh(facts), *(_by_rules_of_then(then, disagreement) for disagreement in wrong))


def _without_values(value: Any) -> Any:
    """Return what is written of results without the values of what is told: records up to format 9 have the sentences alone."""
    if isinstance(value, dict):
        told = "words" in value or "detail" in value
        return {key: _without_values(part) for key, part in value.items() if not (told and key == "values")}
    return [_without_values(part) for part in value] if isinstance(value, list) else value


def _by_rules_of_then(then: Mapping[str, int], found: Disagreement) -> Disagreement:
    """Return a disagreement with the change that explains it, where one does: a figure for a figure, a sentence for a sentence."""
    if found.where.rsplit("/", 1)[-1] in SENTENCES and isinstance(found.stands, str) and isinstance(found.follows, str):
        return found.model_copy(update={"since": "words", "what": "it is told otherwise since; its figures follow"})
    change = changed_since(then, found.where)
    if change is None or not all(isinstance(value, int | float) for value in (found.stands, found.follows)):
        return found
    return found.model_copy(update={"since": f"{change.calculation} {change.version}", "what": change.what})


def _as_demanded_then(stand: tuple[HoldRecord, ...], follow: tuple[HoldRecord, ...]) -> tuple[HoldRecord, ...]:
    """Return the hold points as an earlier version has them, where they differ only in that more is demanded by now.

    What was missing then is missing still; what was signed stands signed, so nothing that was open passes as closed. Records up to
    format 9 tell in sentences what was missing: there it is how many things were, and how the hold stood.
    """
    then = {hold.name: hold for hold in stand}
    disagreements = []
    for now in follow:
        before = then.get(now.name)
        disagreements.append(before if before is not None and _no_easier(before, now) else now)
    return tuple(disagreements)


def _no_easier(then: HoldRecord, now: HoldRecord) -> bool:
    """Say whether a hold point demands today at least what it demanded then, and stands no better for it."""
    told = [reason for reason in (*then.missing, *then.reopened) if isinstance(reason, str)]
    if told or then.title:
        stands = then.status == now.status or "closed" not in (then.status, now.status)
        return stands and len(then.missing) <= len(now.missing) and len(then.reopened) <= len(now.reopened)
    more = all(lack in now.missing for lack in then.missing)
    return more and "closed" not in (then.status, now.status)


def _wrongly_fresh(facts: JobFacts) -> list[Disagreement]:
    """Return the readings and gaps that are marked old, or not, otherwise than the moves of the record have it."""
    again = aged(facts)
    fresh = []
    for name in ("readings", "gaps"):
        pairs = zip(getattr(facts, name), getattr(again, name), strict=True)
        for k, (stands, follows) in enumerate(pairs):
            if stands.stale != follows.stale:
                fresh.append(Disagreement(where=f"/{name}/{k}/stale", stands=stands.stale, follows=follows.stale))
    return fresh


def _point(code: str, before: dict[str, PointJudgement], picture: Picture | None) -> PointRecord:
    return PointRecord(
        before=before.get(code),
        placed=picture.placed.get(code) if picture else None,
        after=picture.judged.get(code) if picture else None,
        readings=picture.used.get(code, ()) if picture else (),
    )


def _compare(where: str, stands: Any, follows: Any) -> list[Disagreement]:
    if isinstance(stands, dict) and isinstance(follows, dict):
        keys = sorted(set(stands) | set(follows))
        return [
            difference
            for key in keys
            for difference in _compare(f"{where}/{_escaped(key)}", stands.get(key), follows.get(key))
        ]
    if isinstance(stands, list) and isinstance(follows, list) and len(stands) == len(follows):
        pairs = enumerate(zip(stands, follows, strict=True))
        return [difference for index, (a, b) in pairs for difference in _compare(f"{where}/{index}", a, b)]
    numbers = (int, float)
    if isinstance(stands, numbers) and isinstance(follows, numbers) and not isinstance(stands, bool):
        same = math.isclose(stands, follows, rel_tol=CLOSE_ENOUGH, abs_tol=CLOSE_ENOUGH)
    else:
        same = bool(stands == follows)
    return [] if same else [Disagreement(where=where, stands=stands, follows=follows)]


def _escaped(key: str) -> str:
    return key.replace("~", "~0").replace("/", "~1")
