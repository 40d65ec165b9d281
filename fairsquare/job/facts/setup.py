"""Set-ups of instruments, and what was moved."""

from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.measure.observations import SetupKind
from fairsquare.core.model import Model
from fairsquare.core.who import Who
from fairsquare.job.facts.measure import ChoiceFact

Stand = Literal["rack", "wheels"]
Moved = Literal[
    "vehicle",
    "bench",
    "bridge",
    "structure",
    "sight",
    "clamp",
    "cut",
    "heat",
    "hinge",
    "heavy",
    "foam",
    "drop",
    "lowered",
    "holder",
    "welded",
]


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
