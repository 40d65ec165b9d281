"""What the API takes and gives of jobs and readings, and what all its stations share; what one station alone takes stands with it.

Every write carries a `request_key` made by the client; a second one with it does nothing more.
"""

from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field

from fairsquare.actions.naming import Naming
from fairsquare.api.told import HoldShown
from fairsquare.core.lengths import Unit
from fairsquare.core.measure.observations import Axis, SetupKind
from fairsquare.core.model import Code, Model, Vector
from fairsquare.core.sheet.check import Finding
from fairsquare.core.sheet.model import Sheet, SpanMode
from fairsquare.core.who import Role
from fairsquare.job.facts.intake import SafetyAnswer
from fairsquare.job.facts.measure import Purpose, ReadingKind
from fairsquare.job.facts.setup import Moved, Stand
from fairsquare.job.measure.picture import Picture
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


class Settle(Sent):
    """A contradiction to settle: its key as the damage gives it, and why it may stand."""

    request_key: Key
    finding: Annotated[str, Field(max_length=400)]
    reason: str


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


class KeyWords(Sent):
    """A deed that needs no more than a few words."""

    request_key: Key
    words: Annotated[str, Field(max_length=500)] = ""


"""A time with its zone; the deeds are given it as UTC, ISO 8601."""
