"""A job's facts made by hand for tests: the Dunlin's sheet, an instrument that stands askew, readings with or without damage."""

from collections.abc import Iterable

import numpy as np

from fairsquare.core.damage.decide import MakersWord
from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.core.who import Who
from fairsquare.job.damage.job import units_of
from fairsquare.job.facts.damage import DecisionFact, MemberFact
from fairsquare.job.facts.holds import HoldName, SignatureFact
from fairsquare.job.facts.intake import SafetyFact
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import ReadingFact
from fairsquare.job.facts.setup import MovementFact, SetupFact
from fairsquare.job.facts.walk_round import GapFact
from fairsquare.job.release.holds import job_state
from fairsquare.stand_ins.vehicles import DUNLIN, instrument_reading
from fairsquare.words.tell import tell

REFERENCES = ("C1L", "C1R", "C2L", "C2R", "C3L", "C3R")
OTHERS = tuple(point.code for point in DUNLIN.sheet.points if not point.reference)


def who(minute: int, name: str = "Ngozi Adeyemi", role="technician") -> Who:
    return Who(name=name, role=role, at=f"2026-03-02T09:{minute:02d}:00.000000Z")


def reading(
    number: int, code: str, *, minute: int = 10, loaded: bool = False, moved=(0.0, 0.0, 0.0), **more
) -> ReadingFact:
    place = np.array(next(p.xyz for p in DUNLIN.sheet.points if p.code == code)) + np.array(moved)
    xyz = instrument_reading(place, 1, np.zeros(3))
    purpose = "reference" if code in REFERENCES else "point"
    return ReadingFact(
        id=number,
        setup=1,
        purpose=purpose,
        code=code,
        xyz=xyz,
        said=f"{code} " + " ".join(str(v) for v in xyz),
        loaded=loaded,
        instrument="3-D instrument",
        by=who(minute),
        **more,
    )


def readings(codes: Iterable[str], first: int = 1) -> tuple[ReadingFact, ...]:
    return tuple(reading(first + index, code) for index, code in enumerate(codes))


def facts(**changes) -> JobFacts:
    """Return a job that is fair everywhere, with gaps read and nothing signed; `changes` replace parts of it."""
    whole = {
        "number": "SL-0001",
        "sheet": DUNLIN.sheet,
        "sheet_version": 1,
        "safety": tuple(
            SafetyFact(
                id=n,
                item=item.key,
                answer="done",
                words="",
                by=who(1),
                done_by="Pernille Ostrander" if item.qualified else None,
                qualification="KR-2231" if item.qualified else None,
            )
            for n, item in enumerate(SAFETY_ITEMS)
        ),
        "setups": (SetupFact(number=1, instrument="3-D instrument", sigma_mm=0.3, sheet_version=1, opened=who(5)),),
        "readings": readings((*REFERENCES, *OTHERS)),
        "movements": (),
        "gaps": tuple(
            GapFact(id=n, place="lid", said="4", mm=4.0, target_mm=4.0, tolerance_mm=1.0, by=who(20), stand=stand)
            for n, stand in enumerate(("rack", "wheels"), start=1)
        ),
        "signatures": (),
        "members": tuple(
            MemberFact(
                id=n,
                member=member,
                layer="",
                material="mild",
                role="structural",
                signs=(),
                maker=MakersWord(),
                source="",
                by=who(15),
            )
            for n, member in enumerate(units_of(DUNLIN.sheet), start=1)
        ),
        "decisions": tuple(
            DecisionFact(
                id=n,
                seen=n,
                decision="keep",
                reason="",
                gives_up="",
                remains="",
                consent="",
                first="",
                hours=None,
                donor="",
                by=who(16),
            )
            for n, _ in enumerate(units_of(DUNLIN.sheet), start=1)
        ),
    }
    return JobFacts(**{**whole, **changes})


def signed(job: JobFacts, *holds: HoldName) -> JobFacts:
    """Return the job with holds signed on the evidence as it stands, one after the other."""
    for hold in holds:
        state = job_state(job).hold(hold)
        signature = SignatureFact(
            id=len(job.signatures) + 1,
            hold=hold,
            evidence=state.evidence,
            overridden=tuple(tell(missing.said) for missing in state.missing),
            reason=None,
            by=who(30, "Solveig Haraldsen", "lead"),
        )
        job = JobFacts(**{**dict(job), "signatures": (*job.signatures, signature)})
    return job


def changed(job: JobFacts, **changes) -> JobFacts:
    return JobFacts(**{**dict(job), **changes})


def movement(what: str, minute: int = 40) -> MovementFact:
    return MovementFact(id=1, what=what, words=f"the {what} was moved", setup=1, by=who(minute))
