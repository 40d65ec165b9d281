"""What happened in a job, as it was recorded: facts are appended and never changed; everything else is worked out from them."""

import datetime
from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.cut.lines import Whose
from fairsquare.core.cut.section import LinesSaid, SectionHow, StripSaid, Topic, WeldsSaid
from fairsquare.core.damage.decide import MakersWord, Material, MemberRole, Sign
from fairsquare.core.fit.said import FitSaid
from fairsquare.core.measure.calibration import ToolFact
from fairsquare.core.measure.observations import Axis, SetupKind
from fairsquare.core.model import Code, Many, Model, Row3
from fairsquare.core.plan.said import HoursSaid
from fairsquare.core.pull.job import AfterPull, BoardState, PlanSaid, PointCycle, Watched
from fairsquare.core.pull.setting import Setting
from fairsquare.core.sheet.model import Sheet, SpanMode
from fairsquare.core.weld.bonding import BondSaid
from fairsquare.core.weld.seam import SeamPlan
from fairsquare.core.who import Who
from fairsquare.job.done import Done, DoneKind
from fairsquare.job.moves import Moved

HoldName = Literal["made_safe", "setup_accepted", "decision_made", "pulls_done", "fit_accepted", "released"]
Purpose = Literal["reference", "point", "watch"]
"""What a point is read for: to tie the set-up, to be judged, or only to be watched while something near it is welded."""
Stand = Literal["rack", "wheels"]
ClockKind = Literal["open", "cure", "stop", "other"]
ReadingKind = Literal["point", "span", "difference", "height", "offset", "gauge"]
SafetyAnswer = Literal["done", "absent", "undone"]
WalkKind = Literal[
    "gap",
    "split_arm",
    "kink",
    "buckle",
    "crack",
    "torn_seam",
    "earlier_repair",
    "rust",
    "witness_mark",
    "misfit",
    "mechanical",
    "plate",
    "other",
]
PayersAnswer = Literal["approved", "refused", "asked"]
PartItemKind = Literal["bracket", "nut", "stud", "hole", "pad", "layer", "comes_off", "other"]
LineAnswer = Literal["sound", "hurt", "absent", "open"]
Chosen = Literal[
    "keep", "straighten", "section", "replace_at_seams", "inspect", "try", "straighten_then_replace", "leave"
]
"""What may be decided: the five plain decisions, and three in-betweens that a person may choose."""


SaidMaterial = Material | Literal["unknown"]
"""What a member is made of, as it was said: `unknown` where nobody did."""


class KeptOut(Model):
    """A person's decision that a reading is not to be used, and why."""

    reason: str
    by: Who


class ReadingFact(Model):
    """One reading as it was said and as it was understood, mm.

    A `point` has `xyz` in the instrument's axes; a span `b`, `mode` and `mm`; a difference `b`, `axis` and `mm`; a height or
    an offset `mm`; a gauge `b`, `pin_mm`, `level_mm` and the mark at which both arms hang, `arm_mm`. `sigma_mm` is the
    tool's; a point's is its set-up's. A span or difference taken with no set-up in force has none.
    `replaces` names the reading that this one corrects; a reading that is `taken_back`, corrected or `kept_out` no longer
    counts. `called_at` is when it was called out, where that was before it could be sent.
    """

    id: int
    setup: int | None
    purpose: Purpose
    code: Code
    xyz: Row3 | None
    said: str
    loaded: bool
    instrument: str
    by: Who
    replaces: int | None = None
    taken_back: Who | None = None
    stale: bool = False
    kind: ReadingKind = "point"
    b: Code | None = None
    mode: SpanMode | None = None
    axis: Axis | None = None
    mm: float | None = None
    pin_mm: float | None = None
    level_mm: float | None = None
    arm_mm: float | None = None
    sigma_mm: float | None = None
    kept_out: KeptOut | None = None
    called_at: str | None = None

    @property
    def codes(self) -> tuple[str, ...]:
        """The codes of the points it reads."""
        return (self.code,) if self.b is None else (self.code, self.b)


class ChoiceFact(Model):
    """Which references a person decided to trust, and why."""

    id: int
    trusted: tuple[Code, ...]
    reason: str
    by: Who


class MovementFact(Model):
    """Something was moved: `setup` was in force, `after_reading` and `after_gap` were the last that were there before."""

    id: int
    what: Moved
    words: str
    setup: int | None
    by: Who
    after_reading: int = 0
    after_gap: int = 0


class SetupFact(Model):
    """One set-up: which instrument, how well it reads, the choice of references if one was made, and what voided it.

    An `instrument` is fitted on references that it reads. A `sight` (gauges, a line, a level, tape and tram) rests on the
    points that a person chose as standing on sound frame. It was `left` when the vehicle was let down on its wheels: nothing more
    is read in it, and what was read in it still speaks.
    """

    number: int
    kind: SetupKind = "instrument"
    instrument: str
    sigma_mm: Annotated[float, Field(gt=0, le=1e4)]
    sheet_version: int
    opened: Who
    choice: ChoiceFact | None = None
    voided: MovementFact | None = None
    left: MovementFact | None = None


class SafetyFact(Model):
    """The last answer to one item of the list that makes the vehicle safe.

    What needs a qualification names who did it, and the number of that person's qualification.
    """

    id: int
    item: str
    answer: SafetyAnswer
    words: str
    by: Who
    done_by: str | None = None
    qualification: str | None = None


class GapFact(Model):
    """A gap or flushness as read at the dry fit, on the rack or on its wheels, mm; later movements tell whether it still speaks."""

    id: int
    place: str
    said: str
    mm: float
    target_mm: float
    tolerance_mm: float
    by: Who
    stale: bool = False
    stand: Stand = "rack"


class WalkFact(Model):
    """Something seen at the walk-round; `xy` is where on the vehicle, seen from above, and `code` the nearest point named.

    A gap has both of its readings, mm.
    """

    id: int
    kind: WalkKind
    said: str
    place: str
    code: Code | None
    xy: tuple[float, float] | None
    left_mm: float | None
    right_mm: float | None
    by: Who
    taken_back: Who | None = None
    back_reason: str = ""


class BoundFact(Model):
    """The member, and its layer where it has several, that a person said a finding of the walk-round is on."""

    id: int
    finding: int
    member: str
    layer: str
    by: Who


class LineFact(Model):
    """The last answer for one mechanical part along the line of the push."""

    id: int
    item: str
    answer: LineAnswer
    words: str
    by: Who


class WorthFact(Model):
    """What the vehicle is worth and what its repair would cost, in hundredths of the shop's money."""

    id: int
    value_cents: int
    cost_cents: int
    words: str
    by: Who


class PhotoFact(Model):
    """A photo that is kept: of the job, of a finding (`walk`) or of a member, by its id; the checksum is of what is kept."""

    id: int
    about: Literal["job", "walk", "member", "supplement", "part", "section", "done"]
    about_id: int | None
    name: str
    words: str
    width: int
    height: int
    sha256: str
    by: Who


class SettlementFact(Model):
    """A contradiction that a person settled, with the reason; `finding` is its key."""

    id: int
    finding: str
    reason: str
    by: Who


class MemberFact(Model):
    """A member, or one layer of it, as it was last seen, and the maker's word on it with its source.

    A material that nobody said is `unknown`. `contradicts`: why something that was seen on it is not among its signs.
    """

    id: int
    member: str
    layer: str
    material: SaidMaterial
    role: MemberRole
    signs: tuple[Sign, ...]
    maker: MakersWord
    source: str
    by: Who
    contradicts: str = ""


class DecisionFact(Model):
    """What is done with a member as it was seen in `seen`, and what goes with that choice.

    `gives_up`: what would make us give up trying; `remains`: what stays out, with whose `consent`; `first`: what has to come
    off or come home before; `hours` that it drags along; `donor`: in what state that is.
    """

    id: int
    seen: int
    decision: Chosen
    reason: str
    gives_up: str
    remains: str
    consent: str
    first: str
    hours: float | None
    donor: str
    by: Who


class SupplementLineFact(Model):
    """Something that the estimate missed, found at a `station`: hours, parts and their amount in hundredths.

    `structural`: found on the structure, so that nothing is decided past it; hours that were left out are not.
    """

    id: int
    station: str
    words: str
    hours: float
    parts: str
    amount_cents: int
    by: Who
    taken_back: Who | None = None
    structural: bool = True


class SupplementFact(Model):
    """A supplement that was sent to a payer, with its lines; its link shows it until it expires or is withdrawn."""

    id: int
    number: int
    payer: str
    lines: tuple[int, ...]
    expires_at: str
    by: Who
    withdrawn: Who | None = None


class SupplementAnswerFact(Model):
    """What the payer said of a line: by the link (no person of ours), or told to `by`; `named` is who said it."""

    id: int
    line: int
    supplement: int
    answer: PayersAnswer
    words: str
    named: str
    at: str
    by: Who | None


class GoAheadFact(Model):
    """A lead's word that work on a line goes on without the payer's, and why."""

    id: int
    line: int
    reason: str
    by: Who


class PartItemFact(Model):
    """Something on the old part, counted on the old and on the new; `plan` is what is done about what is missing.

    What `comes_off` the new part is counted on it, and has come off when its plan says so.
    """

    id: int
    part: int
    kind: PartItemKind
    words: str
    old_count: int
    new_count: int
    plan: str
    by: Who


class PartSpanFact(Model):
    """A span measured on a part, mm, with how well it was read."""

    id: int
    part: int
    a: Code
    b: Code
    said: str
    mm: float
    sigma_mm: float
    by: Who


class Blank(Model):
    """A part that is made in the shop, flat, mm: its size, its folds along it by their distance from one edge, its holes (along,
    across, diameter)."""

    length_mm: Annotated[float, Field(gt=0, le=15000)]
    width_mm: Annotated[float, Field(gt=0, le=3000)]
    thickness_mm: Annotated[float, Field(gt=0, le=50)]
    material: Material
    touches: Material
    folds_mm: Many[float] = ()
    holes_mm: Many[Row3] = ()


class PartFact(Model):
    """A part that came: new, cut from a donor, or made in the shop. `identity`: the number of the vehicle that a donor was."""

    id: int
    name: str
    origin: Literal["new", "donor", "made"]
    source: str
    by: Who
    identity: str = ""
    blank: Blank | None = None


class PullSettingFact(Model):
    """How the vehicle is held and pulled, as it was last kept."""

    id: int
    version: int
    setting: Setting
    by: Who


class PullPlanFact(Model):
    """A pull plan as it was kept; the last one counts, the others are what it was before."""

    id: int
    version: int
    plan: PlanSaid
    by: Who


class PullEventFact(Model):
    """What happened on the board: pull `pull` (from 1) of plan version `plan` went into `state`.

    `forces`: with a cycle that is closed, the most that was read at each tower in it, N.
    The first of a pull says what is watched; `ticked` are the cautions that were ticked by hand; a free reading closes a cycle of
    each watched point; the end says what was looked for after the pull.
    """

    id: int
    plan: int
    pull: int
    state: BoardState
    by: Who
    watched: Many[Watched] = ()
    ticked: Many[str] = ()
    cycles: Many[PointCycle] = ()
    after: AfterPull | None = None
    words: str = ""
    forces: dict[str, float] = Field(default_factory=dict)


class SectionFact(Model):
    """A member that is replaced, whole or in part: how that is planned."""

    id: int
    number: int
    member: str
    how: SectionHow
    by: Who


class SectionSaidFact(Model):
    """What was last said of a section: its strip, its lines or its welds; one of them is there."""

    id: int
    section: int
    topic: Topic
    version: int
    strip: StripSaid | None = None
    lines: LinesSaid | None = None
    welds: WeldsSaid | None = None
    by: Who


class WeldTickFact(Model):
    """A weld of a section that was ticked off on one side, or whose tick was taken back; `did` is what the map said to do then."""

    id: int
    section: int
    whose: Whose
    weld: str
    done: bool
    did: str
    by: Who


CutKind = Literal["access", "final"]


class CutMadeFact(Model):
    """A cut that was made at a station of a layer. `overridden`: what was missing when a lead let the final line go on, and why."""

    id: int
    section: int
    layer: str
    kind: CutKind
    at_mm: float
    tool: str
    words: str
    overridden: tuple[str, ...] = ()
    reason: str = ""
    by: Who
    taken_back: Who | None = None


SaidTopic = Literal["fit", "seam", "bond", "hours"]


class JobSaidFact(Model):
    """What was last said of the fit, of a seam (by its number) or of the bonding; one of them is there."""

    id: int
    topic: Literal["fit", "seam", "bond"]
    subject: int
    version: int
    fit: FitSaid | None = None
    seam: SeamPlan | None = None
    bond: BondSaid | None = None
    by: Who


class HoursFact(Model):
    """What was last said of the hours."""

    version: int
    hours: HoursSaid
    by: Who


class DoneFact(Model):
    """Something that was done, tried or found between the dry fit and the handing over."""

    id: int
    kind: DoneKind
    what: Done
    by: Who
    taken_back: Who | None = None


class ClockFact(Model):
    """A clock that was started, and when it was ended, if it was. `product`: whose working or curing time it counts."""

    id: int
    kind: ClockKind
    product: str
    label: str
    minutes: float
    by: Who
    ended: Who | None = None
    words: str = ""


WaitKind = Literal["part", "approval", "refrigerant", "mechanic", "foam", "paint", "other"]
WorkEnd = Literal["touch", "next", "said"]
"""How a clock of work ended: by a touch, because its person began something else, or at a time that was said later."""


class WorkFact(Model):
    """Work of a person on an operation, from `by.at` until `ended_at` (UTC, ISO 8601); none while its clock runs.

    `person` is the number of the person here, by which two of one name are told apart; it means nothing elsewhere.
    """

    id: int
    operation: str
    by: Who
    person: int | None = None
    ended_at: str | None = None
    how: WorkEnd = "touch"
    words: str = ""
    ended_by: Who | None = None

    @property
    def hours(self) -> float | None:
        """The hours worked; none while its clock runs."""
        if self.ended_at is None:
            return None
        took = datetime.datetime.fromisoformat(self.ended_at) - datetime.datetime.fromisoformat(self.by.at)
        return max(0.0, took.total_seconds() / 3600)


class WaitFact(Model):
    """Something that the job waits for: who was asked, and when it is due (UTC, ISO 8601; empty: nobody knows).

    `station`: from which station or hold point on it holds the job up; empty: at once, whatever comes next.
    """

    id: int
    kind: WaitKind
    words: str
    asked_of: str
    due_at: str
    station: str
    by: Who
    said_by: Who
    over: Who | None = None
    over_words: str = ""


class SignatureFact(Model):
    """A signed hold point: `evidence` is what was seen, `reason` why what was missing was overridden."""

    id: int
    hold: HoldName
    evidence: dict[str, str]
    overridden: tuple[str, ...]
    reason: str | None
    by: Who


Settled = Literal["driven", "loaded"]


class SettlingFact(Model):
    """A vehicle that was let down and driven, or loaded, after pulls: where the pulled points stood before (`stood`, mm) and, once
    they were read again, where they stand (`stands`)."""

    id: int
    how: Settled
    words: str
    stood: dict[Code, Row3]
    by: Who
    stands: dict[Code, Row3] = Field(default_factory=dict)
    read_by: Who | None = None


PRACTICE = "PRACTICE-"
"""What the numbers of practice begin with: no job of the shop does."""


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

    @property
    def practice(self) -> bool:
        """Whether it is practice: simulated, and nothing of it is signed or recorded."""
        return self.number.startswith(PRACTICE)
