"""What the API takes and gives. Every write carries a `request_key` made by the client; a second one with it does nothing more."""

import datetime
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field

from fairsquare.actions.naming import Naming
from fairsquare.api.told import HoldShown
from fairsquare.core.damage.decide import MakersWord, MemberDecided, MemberRole, Sign
from fairsquare.core.damage.read import DamageRead
from fairsquare.core.fit.said import FitSaid
from fairsquare.core.lengths import Unit
from fairsquare.core.measure.calibration import Level, ToolEventFact
from fairsquare.core.measure.observations import Axis, SetupKind
from fairsquare.core.model import Code, Model, Vector
from fairsquare.core.plan.hours import HoursFound
from fairsquare.core.plan.said import HoursSaid
from fairsquare.core.plan.shop_said import ShopSaid
from fairsquare.core.sheet.check import Finding
from fairsquare.core.sheet.model import Sheet, SpanMode
from fairsquare.core.weld.bonding import BondSaid
from fairsquare.core.weld.seam import SeamPlan
from fairsquare.core.who import Role
from fairsquare.job.facts.damage import Chosen, DecisionFact, LineAnswer, MemberFact, SaidMaterial
from fairsquare.job.facts.done import Done
from fairsquare.job.facts.finishing import ClockFact, ClockKind, DoneFact, JobSaidFact
from fairsquare.job.facts.hours import WaitKind, WorkFact
from fairsquare.job.facts.intake import SafetyAnswer
from fairsquare.job.facts.measure import Purpose, ReadingKind
from fairsquare.job.facts.parts import Blank, PartItemKind
from fairsquare.job.facts.setup import Moved, Stand
from fairsquare.job.facts.supplements import PayersAnswer
from fairsquare.job.measure.picture import Picture
from fairsquare.job.measure.tools import ShopTool, ToolKind
from fairsquare.store.jobs import JobDetails

Key = Annotated[str, Field(min_length=8, max_length=64, description="made by the client, new for each deed")]


class Sent(BaseModel):
    """Base of what the API takes: unknown fields, NaN and infinities are refused."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)


class SignIn(Sent):
    """Name and password, and the code of a person who has a second factor. `token`: what the program is called."""

    name: str = Field(max_length=80)
    password: str = Field(max_length=200)
    code: str = Field(default="", max_length=20)
    token: str = Field(default="", max_length=120)


class Token(Model):
    """Send it as `Authorization: Bearer TOKEN`."""

    token: str
    name: str
    role: Role


class OpenJob(Sent):
    """A vehicle to take in."""

    request_key: Key
    details: JobDetails


class ChangeJob(Sent):
    """A change of what was taken in, as it was read at `version`."""

    request_key: Key
    details: JobDetails
    version: int


class AnswerSafety(Sent):
    """An answer to one item of the made-safe list; `absent`: not on this vehicle.

    High voltage and refrigerant, when done, name who did it and the number of that person's qualification or licence.
    """

    request_key: Key
    item: str
    answer: SafetyAnswer
    words: str = ""
    done_by: Annotated[str, Field(max_length=120)] = ""
    qualification: Annotated[str, Field(max_length=120)] = ""


class AcceptSheet(Sent):
    """A sheet to accept as the next version."""

    request_key: Key
    sheet: Sheet
    source: Annotated[str, Field(max_length=200)] = "API"
    seen_version: int | None = None


class NamePoints(Sent):
    """Points of the sheet to be made one member, or references; no dimension changes."""

    request_key: Key
    codes: Annotated[tuple[str, ...], Field(max_length=2000)]
    do: Naming
    member: str = ""
    seen_version: int | None = None


class OpenSetup(Sent):
    """A set-up to open: the instrument, and how well it reads one coordinate."""

    request_key: Key
    instrument: Annotated[str, Field(min_length=1, max_length=120)]
    sigma_mm: Annotated[float, Field(gt=0, le=100)] = 0.3
    kind: SetupKind = "instrument"


class SentReading(Sent):
    """A reading. Give one of:

    * `call`: anything the call line understands ("F2L C1R 1523 flat", "gauge F1L F1R pin 6 right level 2 left high");
    * a point in the instrument's axes: `code` with `xyz` in mm, or with `said`, three lengths in any unit ("21 3/8 ; 14 1/2 ; 5");
    * another `kind`: `code`, `b`, `mode` or `axis`, `mm`, or `pin_mm` and `level_mm`, all in mm, with `sigma_mm`.
    """

    call: Annotated[str, Field(max_length=400)] | None = None
    code: Code | None = None
    xyz: Vector | None = None
    said: Annotated[str, Field(max_length=400)] | None = None
    kind: ReadingKind = "point"
    b: Code | None = None
    mode: SpanMode | None = None
    axis: Axis | None = None
    mm: float | None = None
    pin_mm: float | None = None
    level_mm: float | None = None
    arm_mm: float | None = None
    sigma_mm: Annotated[float, Field(gt=0, le=100)] | None = None
    purpose: Purpose = "point"
    loaded: bool = False
    replaces: int | None = None
    order: int | None = None
    called_ago_s: Annotated[float, Field(ge=0, le=14 * 86400)] | None = None


class TakeReadings(Sent):
    """Readings of the set-up in force, recorded all or none; spans and differences need none. Bare numbers are in `unit`."""

    request_key: Key
    setup: int | None
    readings: Annotated[list[SentReading], Field(min_length=1, max_length=1000)]
    unit: Unit = "mm"
    instrument: Annotated[str, Field(max_length=120)] | None = None


class DecideReading(Sent):
    """Keep a reading out of the picture, or use it again, and why."""

    request_key: Key
    keep_out: bool
    reason: str


class AddTool(Sent):
    """A measuring tool that the shop owns."""

    request_key: Key
    name: str
    kind: ToolKind
    sigma_mm: float
    from_mm: float | None = None
    to_mm: float | None = None
    pointer_mm: float | None = None
    pin_mm: float | None = None
    length_mm: float | None = None


class NoteCalibration(Sent):
    """A calibration of a tool: days as 2026-11-26, `due_on` empty where nobody said."""

    request_key: Key
    done_on: str
    due_on: str = ""
    words: str


class NoteCheck(Sent):
    """What a tool read of a reference bar (by the bar's number), mm; `read_on` empty: today."""

    request_key: Key
    bar: int
    readings_mm: Annotated[tuple[float, ...], Field(strict=False, max_length=1000)]
    read_on: str = ""


class ToolShown(Model):
    """A tool, how far it is to be trusted now, its calibrations and checks."""

    tool: ShopTool
    level: Level
    words: str
    events: tuple[ToolEventFact, ...]


class KeyOnly(Sent):
    """Nothing but the key."""

    request_key: Key


class Choose(Sent):
    """Which references to rely on, and why."""

    request_key: Key
    trusted: list[Code]
    reason: str


class RecordMove(Sent):
    """What was moved: some kinds void the set-up, others make readings, spans or gaps old (see the documentation of the fit)."""

    request_key: Key
    what: Moved
    words: Annotated[str, Field(max_length=500)] = ""


class ReadGap(Sent):
    """A gap; the three lengths are texts in any unit, bare numbers in `unit`."""

    request_key: Key
    place: str
    said: str
    target: str
    tolerance: str
    unit: Unit = "mm"
    stand: Stand | None = None


class SignHold(Sent):
    """A signature: `seen` is the evidence as the state gave it; `reason` where something is overridden."""

    request_key: Key
    seen: dict[str, str]
    reason: str = ""


class JobShown(Model):
    """A job as it stands."""

    number: str
    version: int
    details: JobDetails
    sheet_version: int | None
    setup: int | None
    picture: Picture | None
    holds: tuple[HoldShown, ...]
    waits: str


class JobLine(Model):
    """A job on the floor."""

    number: str
    vehicle: str
    waits: str


class Floor(Model):
    """The jobs that are open, the last touched first."""

    jobs: tuple[JobLine, ...]
    many: int


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


class Settle(Sent):
    """A contradiction to settle: its key as the damage gives it, and why it may stand."""

    request_key: Key
    finding: Annotated[str, Field(max_length=400)]
    reason: str


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


class AddLine(Sent):
    """Something that the estimate missed, found at a station; the amount is for parts, in hundredths."""

    request_key: Key
    words: str
    hours: float
    parts: str = ""
    amount_cents: Annotated[int, Field(ge=0, le=10**12)] = 0
    station: Annotated[str, Field(max_length=30)] = "API"


class SendSupplement(Sent):
    """Lines to send to a payer; the answer gives the code of the link, once."""

    request_key: Key
    payer: str
    lines: tuple[int, ...]
    days: int = 30


class RecordAnswer(Sent):
    """What the payer told us of a line that was sent."""

    request_key: Key
    answer: PayersAnswer
    named: str
    words: str = ""


class GoAhead(Sent):
    """Why work on a line goes on without the payer's word."""

    request_key: Key
    reason: str


class PartIn(Sent):
    """A part that came."""

    request_key: Key
    name: str
    origin: Literal["new", "donor", "made"]
    identity: str = ""
    blank: Blank | None = None
    source: str = ""


class CountItem(Sent):
    """How many of an item the old part has and how many the new; `plan`: what is done about what is missing."""

    request_key: Key
    kind: PartItemKind
    words: str
    old_count: int
    new_count: int
    plan: str = ""


class MeasurePart(Sent):
    """A span measured on a part between two points of the sheet, in any unit."""

    request_key: Key
    a: Code
    b: Code
    said: str
    unit: Unit = "mm"


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


class Given(Model):
    """What a write gave: the number, version, ids or checksum that it made; of a sheet also what was found on it, of a
    supplement the code of its link (`/supplement/CODE`), which is given once."""

    number: str | None = None
    version: int | None = None
    setup: int | None = None
    ids: tuple[int, ...] | None = None
    sha256: str | None = None
    findings: tuple[Finding, ...] | None = None
    code: str | None = None
    done: Literal[True] = True


class InstrumentOrder(Model):
    """A point that a page asks the instrument to read."""

    id: int
    job: str
    setup: int
    purpose: Purpose
    code: str
    at: str


class SayFit(Sent):
    """Panels and gaps, as read at `version` (0: nothing was listed)."""

    request_key: Key
    version: int
    fit: FitSaid


class SaySeam(Sent):
    """The plan of a seam, as read at `version`; seam 0 begins a new one."""

    request_key: Key
    version: int
    plan: SeamPlan


class SayBond(Sent):
    """Products, steps and surfaces, as read at `version`."""

    request_key: Key
    version: int
    bond: BondSaid


class NoteDone(Sent):
    """Something that was done, tried or found: a trial hanging, a coupon, a weld, an item that is finished."""

    request_key: Key
    done: Done


class CallGap(Sent):
    """A gap as it is called; bare numbers in `unit`."""

    request_key: Key
    call: Annotated[str, Field(max_length=200)]
    unit: Unit = "mm"


class StartClock(Sent):
    """A clock; `product` is one of the bonding's, or empty."""

    request_key: Key
    kind: ClockKind = "other"
    product: str = ""
    label: str
    minutes: float


class KeyWords(Sent):
    """A deed that needs no more than a few words."""

    request_key: Key
    words: Annotated[str, Field(max_length=500)] = ""


class FinishingShown(BaseModel):
    """From the dry fit to the handing over: what was said and done, the clocks, and both hold points with their demands."""

    model_config = ConfigDict(frozen=True)

    said: tuple[JobSaidFact, ...]
    done: tuple[DoneFact, ...]
    clocks: tuple[ClockFact, ...]
    fit_accepted: HoldShown
    released: HoldShown


def _utc(moment: datetime.datetime) -> str:
    if moment.tzinfo is None:
        raise ValueError("say the zone too, such as 2026-11-26T14:10Z")
    return moment.astimezone(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%S.%fZ")


Moment = Annotated[datetime.datetime, Field(strict=False), AfterValidator(_utc)]
"""A time with its zone; the deeds are given it as UTC, ISO 8601."""


class SayHours(Sent):
    """Operations and parts of a job, as read at a version; 0 where nothing was said yet."""

    request_key: Key
    version: Annotated[int, Field(ge=0)]
    hours: HoursSaid


class StartWork(Sent):
    """The operation, by its name, on which one's clock starts."""

    request_key: Key
    operation: str


class StopWork(Sent):
    """When it stopped, where that is not now."""

    request_key: Key
    ended_at: Moment | None = None
    words: Annotated[str, Field(max_length=500)] = ""


class NoteWait(Sent):
    """What a job waits for: who was asked, until when (null: nobody knows), from which station on, since when (null: now)."""

    request_key: Key
    kind: WaitKind
    words: str
    asked_of: str = ""
    due_at: Moment | None = None
    station: str = ""
    since: Moment | None = None


class SayShop(Sent):
    """What the shop says of itself, as read at a version; 0 where nothing was said yet."""

    request_key: Key
    version: Annotated[int, Field(ge=0)]
    shop: ShopSaid


class PlanDay(Sent):
    """`afresh`: as if nothing had been planned before."""

    request_key: Key
    afresh: bool = False


class RowShown(BaseModel):
    """A row of a job's hours: an operation, or a part that comes off and on (`is_part`); all hours in hours of all its people."""

    model_config = ConfigDict(frozen=True)

    name: str
    station: str
    why: str
    is_part: bool
    hours: float
    needs_off: tuple[str, ...]
    sold_h: float
    worked_h: float | None
    worked_by: dict[str, float]
    gap_h: float
    people: int
    done: bool


class WaitShown(BaseModel):
    """What a job waits for; `wait` is null where nobody noted it: a clock that runs, an answer that is out."""

    model_config = ConfigDict(frozen=True)

    kind: WaitKind
    words: str
    asked_of: str
    due_at: str
    station: str
    since: str
    wait: int | None


class HoursShown(BaseModel):
    """The hours of a job: rows in working order, sums, what was said of them, the work that counts, what is waited for."""

    model_config = ConfigDict(frozen=True)

    rows: tuple[RowShown, ...]
    found: HoursFound
    version: int
    said: HoursSaid
    worked: tuple[WorkFact, ...]
    waiting: tuple[WaitShown, ...]


class ShopShown(BaseModel):
    """What the shop says of itself, and its version."""

    model_config = ConfigDict(frozen=True)

    version: int
    shop: ShopSaid
