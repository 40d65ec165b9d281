"""What a place to pull at can take: a tab welded on, a hook in a hole, a plate bolted through."""

import math
from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Model

Above0 = Annotated[float, Field(gt=0, le=1e9)]
HoldKind = Literal["tab_weld", "hole", "bolted_plate"]
HoldMode = Literal["sheet", "weld", "bearing", "tear_out", "bolts"]

THROAT_SHARE = 0.7
"""Throat of a fillet weld over the sheet's thickness, where nobody measured it: 1/√2, rounded down."""
_BLOCKS = {"tab_weld": "weld", "hole": "hole", "bolted_plate": "bolts"}


class SheetMetal(Model):
    """The metal that is pulled at: thickness in mm, tensile strength in MPa."""

    thickness_mm: Above0
    rm_mpa: Above0


class TabWeld(Model):
    """The weld along a tab: length, and throat (None: 0.7 of the thickness)."""

    length_mm: Above0
    throat_mm: Above0 | None = None


class HookHole(Model):
    """A hole that a hook sits in; `edge_mm` from its middle to the edge, in the direction of the pull."""

    diameter_mm: Above0
    edge_mm: Above0


class PlateBolts(Model):
    """Bolts through plate and sheet; `area_mm2` of one bolt, through the thread where that is cut."""

    count: Annotated[int, Field(ge=1, le=1000)]
    area_mm2: Above0
    rm_mpa: Above0
    diameter_mm: Above0
    edge_mm: Above0


class HoldCapacity(Model):
    """A place to pull at. The block of its kind is needed, the others are not there."""

    kind: HoldKind
    sheet: SheetMetal
    weld: TabWeld | None = None
    hole: HookHole | None = None
    bolts: PlateBolts | None = None
    factor: Annotated[float, Field(ge=1, le=1e6)] = 2.0


class HoldTakes(Model):
    """What it takes in N, after the factor, what gives first, and what each way of giving takes before the factor."""

    capacity_n: float
    weakest: HoldMode
    modes: dict[HoldMode, float]


def hold_capacity(request: HoldCapacity) -> HoldTakes:
    """Say what a place to pull at takes, rough and for a pull along the sheet: across it the sheet peels at far less.

    Forms of EN 1993-1-8 (tables 3.4 and 3.5, section 4.5.3.3), from memory, without partial factors. Raises `Refused` for a kind
    without its block or with another's, and for a hole that reaches the edge.
    """
    for kind, block in _BLOCKS.items():
        there = getattr(request, block) is not None
        if kind == request.kind and not there:
            raise Refused(f"A {_in_words(kind)} needs the figures of its {block}.", field=block, value=None)
        if kind != request.kind and there:
            raise Refused(f"A {_in_words(request.kind)} has no {block}: leave {block} out.", field=block)
    thickness, strength = request.sheet.thickness_mm, request.sheet.rm_mpa
    modes: dict[HoldMode, float]
    if request.weld is not None:
        length = request.weld.length_mm
        throat = THROAT_SHARE * thickness if request.weld.throat_mm is None else request.weld.throat_mm
        modes = {
            "sheet": strength * thickness * length / math.sqrt(3),
            "weld": strength * throat * length / math.sqrt(3),
        }
    elif request.hole is not None:
        modes = _hole(thickness, strength, request.hole.diameter_mm, request.hole.edge_mm, "hole.edge_mm")
    elif request.bolts is not None:
        bolts = request.bolts
        around = _hole(thickness, strength, bolts.diameter_mm, bolts.edge_mm, "bolts.edge_mm")
        modes = {
            "bolts": 0.6 * bolts.rm_mpa * bolts.area_mm2 * bolts.count,
            **{mode: force * bolts.count for mode, force in around.items()},
        }
    weakest = min(modes, key=lambda mode: modes[mode])
    return HoldTakes(capacity_n=modes[weakest] / request.factor, weakest=weakest, modes=modes)


def _hole(thickness: float, strength: float, diameter: float, edge: float, field: str) -> dict[HoldMode, float]:
    if edge <= diameter / 2:
        raise Refused(
            f"The hole of {diameter:g} mm reaches the edge, {edge:g} mm from its middle: more than {diameter / 2:g} mm is needed.",
            field=field,
            value=edge,
        )
    return {
        "bearing": 2.5 * min(edge / (3 * diameter), 1.0) * strength * diameter * thickness,
        "tear_out": 2 * strength * thickness * (edge - diameter / 2) / math.sqrt(3),
    }


def _in_words(kind: str) -> str:
    return {"tab_weld": "welded tab", "hole": "hook in a hole", "bolted_plate": "bolted plate"}[kind]
