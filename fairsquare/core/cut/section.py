"""What people say of a member that is sectioned: the strip, how its lines are drawn, and the welds of its flanges.

Stations run along the member from a datum point, mm; layers are listed from the outside in.
"""

from collections.abc import Iterator, Sequence
from itertools import pairwise
from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.cut.budget import CutBudget, Marking
from fairsquare.core.cut.drill import SIDES, DonorKind, Side, StackLayer
from fairsquare.core.cut.place import DAMAGE, Along, CutFeature, CutLayer, Keep, LayerStretch, PlaceCuts
from fairsquare.core.damage.decide import Material
from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Millimetres, Model, NotNegative, Spoken

SectionHow = Literal["cut", "seams", "bolts"]
SECTION_HOW: dict[SectionHow, str] = {
    "cut": "cut across and joined again",
    "seams": "replaced at its seams",
    "bolts": "bolted on: nothing to cut or drill",
}
Topic = Literal["strip", "lines", "welds"]
Runs = Literal["rearward", "forward", "outward", "inward", "up", "down"]
RUNS: dict[Runs, str] = {
    "rearward": "behind",
    "forward": "ahead of",
    "outward": "outboard of",
    "inward": "inboard of",
    "up": "above",
    "down": "below",
}
"""Which way stations run from the datum point, as it is said of one."""
FeatureKind = Literal[
    "hole", "bracket", "nut", "reinforcement", "crush_initiator", "hinge", "belt", "suspension", "plate", "other"
]
FEATURES: dict[FeatureKind, str] = {
    "hole": "hole",
    "bracket": "bracket",
    "nut": "nut or stud",
    "reinforcement": "reinforcement's end",
    "crush_initiator": "crush initiator",
    "hinge": "hinge anchorage",
    "belt": "belt anchorage",
    "suspension": "suspension mount",
    "plate": "identity plate or label",
    "other": "something else",
}
CLEARANCES: dict[str, float] = {
    DAMAGE: 10.0,
    "hole": 15.0,
    "bracket": 20.0,
    "nut": 20.0,
    "reinforcement": 25.0,
    "crush_initiator": 50.0,
    "hinge": 50.0,
    "belt": 100.0,
    "suspension": 50.0,
    "plate": 0.0,
    "other": 15.0,
}
"""How far a cut keeps clear, mm, where nobody said otherwise. Common practice, no source: the maker's word comes first."""
JointKind = Literal["butt_backed", "butt_insert", "lap", "factory_seam"]
JOINTS: dict[JointKind, str] = {
    "butt_backed": "butt, backing strip behind",
    "butt_insert": "butt, insert inside",
    "lap": "lap",
    "factory_seam": "factory seam",
}
BehindKind = Literal["harness", "fuel_line", "brake_line", "airbag", "battery", "coolant", "foam", "trim", "other"]
BEHIND: dict[BehindKind, str] = {
    "harness": "wiring harness",
    "fuel_line": "fuel line",
    "brake_line": "brake line",
    "airbag": "airbag or its generator",
    "battery": "battery or high-voltage cable",
    "coolant": "coolant or refrigerant line",
    "foam": "foam",
    "trim": "trim, carpet, sealing mat",
    "other": "something else",
}
MOST_LAYERS, MOST_LISTED, MOST_WELDS = 8, 400, 1000
LONGEST_MM = 15_000.0
"""A member longer than this is a slip: no vehicle of this trade is."""
Fate = Literal["stays", "returns", "donor"]
FATES: dict[Fate, str] = {
    "stays": "stays on the vehicle",
    "returns": "is taken off and put back",
    "donor": "comes with the new part",
}
WeldKind = Literal["spot", "rivet", "bolt"]
WELD_KINDS: dict[WeldKind, str] = {"spot": "spot weld", "rivet": "rivet", "bolt": "bolt"}
HARD: frozenset[Material] = frozenset({"ultra_high_strength", "press_hardened"})
"""Materials that a drill does not go through. Common practice, no source."""


class Face(Model):
    """A flat of a layer, unrolled: its name and how wide it is, mm. Layers are folded between one face and the next."""

    name: Code
    width_mm: Annotated[float, Field(gt=0, le=3000)]


class StripLayer(CutLayer):
    """A layer of the strip. `damage` from where to where it is damaged; null: it is not cut."""

    material: Material
    damage: Annotated[tuple[Millimetres, Millimetres], Field(strict=False)] | None = None
    joint: JointKind = "butt_backed"
    maker: str = ""
    faces: Many[Face] = ()

    @property
    def is_cut(self) -> bool:
        """Whether it is cut across: damaged, and not coming off at its seam."""
        return self.damage is not None and self.joint != "factory_seam"

    @property
    def backed(self) -> bool:
        """Whether its joint has metal behind it."""
        return self.joint in ("butt_backed", "butt_insert")

    @property
    def width_mm(self) -> float:
        """How wide it is unrolled, mm; 0 where nobody said."""
        return sum(face.width_mm for face in self.faces)


class StripFeature(CutFeature):
    """Something on the member that a cut keeps clear of; `across_mm` where its middle is across the unrolled width."""

    kind: FeatureKind
    words: str = ""
    across_mm: Millimetres | None = None


class Window(LayerStretch):
    """Where the maker allows a cut, and where that is written."""

    source: str = ""


class Reach(LayerStretch):
    """Where saw and torch reach a layer."""

    words: str = ""


class Behind(Along):
    """What lies behind the metal: it does not forbid a cut, it is taken off, pushed aside or shielded first."""

    kind: BehindKind
    words: str = ""


class AccessCut(Model):
    """A cut that is planned in metal that is given up, to see, to reach or to pull: a crushed end, a cap, a window."""

    layer: Code
    at_mm: Millimetres
    words: str = ""


class StripSaid(Spoken):
    """A member unrolled along its length, as people described it, and where a person put its cuts."""

    datum: str = Field(default="", max_length=40)
    runs: Runs = "rearward"
    keep: Keep = "low"
    layers: Many[StripLayer] = ()
    features: Many[StripFeature] = ()
    windows: Many[Window] = ()
    access: Many[Reach] = ()
    behind: Many[Behind] = ()
    access_cuts: Many[AccessCut] = ()
    clearance_mm: dict[str, NotNegative] = Field(default_factory=lambda: dict(CLEARANCES))
    stagger_mm: NotNegative = 50.0
    long_mm: NotNegative = 100.0
    chosen: dict[Code, Millimetres] = Field(default_factory=dict)
    reason: str = ""

    @property
    def cut(self) -> tuple[StripLayer, ...]:
        """The layers that are cut across."""
        return tuple(layer for layer in self.layers if layer.is_cut)

    @property
    def place(self) -> PlaceCuts:
        """The question where to cut it, as `place-cuts` takes it."""
        plain = {"id", "start", "end", "thickness_mm", "material"}
        return PlaceCuts(
            layers=tuple(CutLayer(**layer.model_dump(include=plain, by_alias=False)) for layer in self.layers),
            features=tuple(CutFeature(kind=f.kind, start=f.start, end=f.end, layers=f.layers) for f in self.features),
            windows=tuple(LayerStretch(layer=w.layer, start=w.start, end=w.end) for w in self.windows),
            access=tuple(LayerStretch(layer=w.layer, start=w.start, end=w.end) for w in self.access),
            damage={layer.id: layer.damage for layer in self.cut if layer.damage is not None},
            keep=self.keep,
            clearance_mm=self.clearance_mm,
            stagger_mm=self.stagger_mm,
        )

    def station_said(self, mm: float) -> dict[str, str | float]:
        """Return a station as it is said to the one with the tape: how far, which way, from which datum."""
        before = {"behind": "ahead of", "ahead of": "behind", "above": "below", "below": "above"}
        before |= {"outboard of": "inboard of", "inboard of": "outboard of"}
        word = RUNS[self.runs] if mm >= 0 else before[RUNS[self.runs]]
        return {"at_mm": abs(mm), "way": word, "datum": self.datum or "the datum"}

    def station_words(self, mm: float) -> str:
        """Return a station in words, in mm."""
        station = self.station_said(mm)
        return f"{station['at_mm']:.1f} mm {station['way']} {station['datum']}"


class LinesSaid(Model):
    """How the lines are drawn, sawn and trimmed, and what was measured of the donor; mm.

    `donor_sheet_mm` and `donor_read_mm`: one length of the donor, from its datum hole to its far end, as the sheet has it and as it
    was read. `bend_mm` over `bend_over_mm`: how far its end stands to the side.
    """

    tool: str = Field(default="", max_length=120)
    marking: Marking = "scribe"
    line_width_mm: NotNegative | None = None
    marks: Annotated[int, Field(ge=1, le=2)] = 2
    kerf_mm: NotNegative = 1.2
    kerf_sigma_mm: NotNegative = 0.15
    trim_sigma_mm: NotNegative = 0.3
    gap_mm: NotNegative | None = None
    limits_mm: Annotated[tuple[NotNegative, NotNegative], Field(strict=False)] | None = None
    overlap_mm: NotNegative = 25.0
    donor_sheet_mm: NotNegative | None = None
    donor_read_mm: NotNegative | None = None
    bend_mm: Millimetres = 0.0
    bend_over_mm: NotNegative = 0.0

    def budget(self, *, backing: bool, marking: Marking | None = None) -> CutBudget:
        """Return the question how surely the gap holds, as `cut-budget` takes it; with another marking, at its usual width."""
        own = marking is None or marking == self.marking
        return CutBudget(
            marking=marking or self.marking,
            line_width_mm=self.line_width_mm if own else None,
            marks=self.marks,
            kerf_mm=self.kerf_mm,
            kerf_sigma_mm=self.kerf_sigma_mm,
            trim_sigma_mm=self.trim_sigma_mm,
            gap_mm=self.gap_mm,
            limits_mm=self.limits_mm,
            backing=backing,
        )


class StackPart(Model):
    """A part whose flange lies in a stack: what becomes of it, and of what it is."""

    id: Code
    fate: Fate
    material: Material = "mild"
    thickness_mm: Annotated[float, Field(gt=0, le=1000)] = 1.0

    @property
    def hard(self) -> bool:
        """Whether a drill does not go through it."""
        return self.material in HARD

    @property
    def layer(self) -> StackLayer:
        """Itself in a stack."""
        return StackLayer(part=self.id, stays=self.fate == "stays", returns=self.fate == "returns", hard=self.hard)


class WeldSaid(Model):
    """One weld, rivet or bolt of a flange: where along and across it, its stack from top to bottom, from where it is in reach."""

    id: Code
    kind: WeldKind = "spot"
    flange: str = ""
    at_mm: Millimetres
    across_mm: Millimetres = 0.0
    stack: Many[Code]
    vehicle: Many[Side] = SIDES
    donor: Many[Side] = SIDES
    after: Many[Side] = SIDES
    squeeze: bool = False


class SeamSaid(Along):
    """A seam of adhesive or sealer that is opened: where, between which parts, and how the maker has it opened."""

    id: Code
    flange: str = ""
    stack: Many[Code]
    how: str = ""


class WeldsSaid(Model):
    """The flanges of a part that goes: its stacks, every weld, every seam of adhesive, and whether a used or a new part comes in.

    `part` is the part that was checked in for it; sizes of pilot and hole in mm.
    """

    donor: DonorKind = "new"
    part: int | None = None
    parts: Many[StackPart] = ()
    welds: Many[WeldSaid] = ()
    seams: Many[SeamSaid] = ()
    pilot_mm: Annotated[float, Field(gt=0, le=50)] = 3.2
    hole_mm: Annotated[float, Field(gt=0, le=50)] = 8.0

    @property
    def flanges(self) -> tuple[str, ...]:
        """The flanges, in the order in which they come up."""
        return tuple(dict.fromkeys([*(weld.flange for weld in self.welds), *(seam.flange for seam in self.seams)]))


def check_strip_said(strip: StripSaid) -> None:
    """Raise `Refused`, naming the field, for what cannot be so on a member, beyond what `place-cuts` refuses."""
    for index, layer in enumerate(strip.layers):
        if layer.end - layer.start > LONGEST_MM:
            raise Refused(
                f"{layer.id} is {(layer.end - layer.start) / 1000:g} m long, and no member is over {LONGEST_MM / 1000:g} m: "
                "look for a slip.",
                field=f"layers.{index}.to",
                value=layer.end,
            )
        if not layer.is_cut and layer.id in strip.chosen:
            raise Refused(f"{layer.id} is not cut: say where its damage is first.", field=f"chosen.{layer.id}")
    _check_many(strip.layers, "layers", MOST_LAYERS)
    for field, listed in (("features", strip.features), ("windows", strip.windows), ("access", strip.access)):
        _check_many(listed, field, MOST_LISTED)
    _check_on_member(strip)
    _check_access_cuts(strip)
    _check_windows(strip)
    if not strip.cut:
        raise Refused(
            "Say where the damage is on each layer that is cut; one at least.", field="layers.0.damage", value=None
        )


def _check_many(listed: Sequence[object], field: str, most: int) -> None:
    if len(listed) > most:
        raise Refused(f"That are {len(listed)}: {most} at most.", field=field, value=len(listed))


def _check_on_member(strip: StripSaid) -> None:
    if not strip.layers:
        raise Refused("List the layers of the member, from the outside in.", field="layers.0.id", value="")
    low, high = min(layer.start for layer in strip.layers), max(layer.end for layer in strip.layers)
    things: tuple[tuple[str, Sequence[Along]], ...] = (
        ("features", strip.features),
        ("windows", strip.windows),
        ("access", strip.access),
        ("behind", strip.behind),
    )
    for field, listed in things:
        for index, thing in enumerate(listed):
            if thing.end < low or thing.start > high:
                raise Refused(
                    f"This is off the member, which reaches from {low:g} mm to {high:g} mm.",
                    field=f"{field}.{index}.from",
                    value=thing.start,
                )


def _check_access_cuts(strip: StripSaid) -> None:
    layers = {layer.id: layer for layer in strip.layers}
    for index, cut in enumerate(strip.access_cuts):
        layer = layers.get(cut.layer)
        if layer is None:
            raise Refused(
                f"There is no layer {cut.layer}: the layers are {', '.join(layers)}.",
                field=f"access_cuts.{index}.layer",
                value=cut.layer,
            )
        if not layer.start <= cut.at_mm <= layer.end:
            raise Refused(
                f"{layer.id} reaches from {layer.start:g} mm to {layer.end:g} mm.",
                field=f"access_cuts.{index}.at",
                value=cut.at_mm,
            )


def _check_windows(strip: StripSaid) -> None:
    for layer in strip.layers:
        own = sorted(
            (
                (window.start, window.end, index)
                for index, window in enumerate(strip.windows)
                if window.layer == layer.id
            )
        )
        for (a, b, _), (c, d, index) in pairwise(own):
            if c < b:
                raise Refused(
                    f"The maker's windows of {layer.id}, {a:g} mm to {b:g} mm and {c:g} mm to {d:g} mm, overlap: one of them "
                    "is a slip, or write them as one.",
                    field=f"windows.{index}.from",
                    value=c,
                )


def check_welds_said(said: WeldsSaid) -> None:
    """Raise `Refused`, naming the field, for welds of parts that are not listed, numbers given twice, stacks that are none."""
    _check_many(said.welds, "welds", MOST_WELDS)
    _check_many(said.seams, "seams", MOST_LISTED)
    parts = [part.id for part in said.parts]
    for index, name in enumerate(parts):
        if name in parts[:index]:
            raise Refused(f"Part {name} is listed twice.", field=f"parts.{index}.id", value=name)
    names = [*(weld.id for weld in said.welds), *(seam.id for seam in said.seams)]
    twice = next((name for index, name in enumerate(names) if name in names[:index]), None)
    if twice is not None:
        raise Refused(f"Number {twice} is given twice: each weld has its own.", field="welds.id", value=twice)
    for field, stack in _stacks(said):
        if not 2 <= len(stack) <= 4:
            raise Refused(
                f"A stack has two to four layers, from top to bottom; this one has {len(stack)}.",
                field=field,
                value=" ".join(stack),
            )
        for name in stack:
            if name not in parts:
                raise Refused(
                    f"{name} is none of the parts listed: {', '.join(parts) or 'none yet'}.", field=field, value=name
                )
        if len(set(stack)) < len(stack):
            raise Refused("A part stands in the stack twice: name its folds apart.", field=field, value=" ".join(stack))


def _stacks(said: WeldsSaid) -> Iterator[tuple[str, tuple[str, ...]]]:
    for index, weld in enumerate(said.welds):
        yield f"welds.{index}.stack", weld.stack
    for index, seam in enumerate(said.seams):
        yield f"seams.{index}.stack", seam.stack
