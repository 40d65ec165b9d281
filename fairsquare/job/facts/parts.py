"""Parts that came, and what was counted and measured of them."""

from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.damage.decide import Material
from fairsquare.core.model import Code, Many, Model, Row3
from fairsquare.core.who import Who

PartItemKind = Literal["bracket", "nut", "stud", "hole", "pad", "layer", "comes_off", "other"]


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
