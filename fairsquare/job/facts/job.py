"""Everything recorded of one job."""

import json
from collections.abc import Mapping
from functools import cache
from typing import Annotated, Any, TypeVar

from pydantic import BeforeValidator, Field, SerializeAsAny

from fairsquare.core.gathered import modules
from fairsquare.core.measure.calibration import ToolFact
from fairsquare.core.model import Model
from fairsquare.core.sheet.model import Sheet
from fairsquare.job.facts.cuts import CutMadeFact, SectionFact, SectionSaidFact, WeldTickFact
from fairsquare.job.facts.damage import BoundFact, DecisionFact, LineFact, MemberFact, SettlementFact, WorthFact
from fairsquare.job.facts.finishing import ClockFact, DoneFact, JobSaidFact
from fairsquare.job.facts.holds import SignatureFact
from fairsquare.job.facts.hours import HoursFact, WaitFact, WorkFact
from fairsquare.job.facts.intake import PhotoFact, SafetyFact
from fairsquare.job.facts.measure import ReadingFact
from fairsquare.job.facts.parts import PartFact, PartItemFact, PartSpanFact
from fairsquare.job.facts.pulls import PullEventFact, PullPlanFact, PullSettingFact, SettlingFact
from fairsquare.job.facts.setup import MovementFact, SetupFact
from fairsquare.job.facts.supplements import GoAheadFact, SupplementAnswerFact, SupplementFact, SupplementLineFact
from fairsquare.job.facts.walk_round import GapFact, WalkFact

PRACTICE = "PRACTICE-"
"""What the numbers of practice begin with: no job of the shop does."""
F = TypeVar("F", bound=Model)


@cache
def further_kinds() -> dict[str, type[Model]]:
    """Return the kinds of facts that modules of facts bring as `FURTHER`, by what several of a kind are called."""
    return {name: kind for _, kinds in modules("fairsquare.job.facts", "FURTHER") for name, kind in kinds.items()}


def _known(given: Any) -> Any:
    """Return further facts as what they are; of a kind that no station here records they are refused."""
    if not isinstance(given, Mapping):
        raise ValueError("facts stand under what they are called")
    kinds = further_kinds()
    for name, facts in given.items():
        if name not in kinds:
            raise ValueError(f"{str(name)[:40]!r} is nothing that a station here records")
        if not isinstance(facts, list | tuple):
            raise ValueError(f"{name} should be a list of facts")
    return {name: tuple(_fact(kinds[name], fact) for fact in facts) for name, facts in given.items()}


def _fact(kind: type[Model], fact: Any) -> Model:
    return fact if isinstance(fact, kind) else kind.model_validate_json(json.dumps(fact))


Further = Annotated[
    dict[str, tuple[SerializeAsAny[Model], ...]],
    BeforeValidator(_known),
    Field(default_factory=dict, exclude_if=lambda facts: not facts),
]
"""Facts of stations that come as files of their own, by what they are called; not written where there are none."""


class JobFacts(Model):
    """Everything recorded of one job, oldest first.

    `dimensions_version` is the first version of the sheet that has the dimensions of the one in force: what only names members or
    references makes no set-up old. None: the same as `sheet_version`.
    """

    number: str
    sheet: Sheet | None
    sheet_version: int | None
    safety: tuple[SafetyFact, ...] = ()
    setups: tuple[SetupFact, ...] = ()
    readings: tuple[ReadingFact, ...] = ()
    movements: tuple[MovementFact, ...] = ()
    gaps: tuple[GapFact, ...] = ()
    signatures: tuple[SignatureFact, ...] = ()
    hit_from_deg: int | None = None
    walk: tuple[WalkFact, ...] = ()
    line: tuple[LineFact, ...] = ()
    worth: tuple[WorthFact, ...] = ()
    photos: tuple[PhotoFact, ...] = ()
    settlements: tuple[SettlementFact, ...] = ()
    members: tuple[MemberFact, ...] = ()
    decisions: tuple[DecisionFact, ...] = ()
    supplement_lines: tuple[SupplementLineFact, ...] = ()
    supplements: tuple[SupplementFact, ...] = ()
    supplement_answers: tuple[SupplementAnswerFact, ...] = ()
    go_aheads: tuple[GoAheadFact, ...] = ()
    parts: tuple[PartFact, ...] = ()
    part_items: tuple[PartItemFact, ...] = ()
    part_spans: tuple[PartSpanFact, ...] = ()
    pull_settings: tuple[PullSettingFact, ...] = ()
    pull_plans: tuple[PullPlanFact, ...] = ()
    pull_events: tuple[PullEventFact, ...] = ()
    settlings: tuple[SettlingFact, ...] = ()
    sections: tuple[SectionFact, ...] = ()
    section_said: tuple[SectionSaidFact, ...] = ()
    weld_ticks: tuple[WeldTickFact, ...] = ()
    cuts_made: tuple[CutMadeFact, ...] = ()
    said: tuple[JobSaidFact, ...] = ()
    done: tuple[DoneFact, ...] = ()
    clocks: tuple[ClockFact, ...] = ()
    hours: HoursFact | None = None
    worked: tuple[WorkFact, ...] = ()
    waits: tuple[WaitFact, ...] = ()
    tools: tuple[ToolFact, ...] = ()
    bound: tuple[BoundFact, ...] = ()
    dimensions_version: int | None = None
    further: Further

    def of(self, name: str, kind: type[F]) -> tuple[F, ...]:
        """Return the further facts of a name, which are of a kind, oldest first."""
        return tuple(fact for fact in self.further.get(name, ()) if isinstance(fact, kind))

    @property
    def practice(self) -> bool:
        """Whether it is practice: simulated, and nothing of it is signed or recorded."""
        return self.number.startswith(PRACTICE)
