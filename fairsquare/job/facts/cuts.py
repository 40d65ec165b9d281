"""Sections, spot welds opened and cuts made."""

from typing import Literal

from fairsquare.core.cut.lines import Whose
from fairsquare.core.cut.section import LinesSaid, SectionHow, StripSaid, Topic, WeldsSaid
from fairsquare.core.model import Model
from fairsquare.core.who import Who


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
