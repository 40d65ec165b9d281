"""The walk-round: gaps and what was seen."""

from typing import Literal

from fairsquare.core.model import Code, Model
from fairsquare.core.who import Who
from fairsquare.job.facts.setup import Stand

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
