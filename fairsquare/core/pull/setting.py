"""How a vehicle is held and pulled: towers, hooks, anchors, machines that bear on it, and the frame that its sheet makes of it."""

from collections.abc import Iterable, Mapping
from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.damage.deviations import side_of
from fairsquare.core.model import Code, Many, Model, Vector
from fairsquare.core.pull.statics import AnchorKind
from fairsquare.core.sheet.model import Sheet
from fairsquare.core.structure.complete import Assumed, assumed_of
from fairsquare.core.structure.of_sheet import ACROSS, UPPER, Box, ExtraMember, skeleton_of
from fairsquare.core.structure.skeleton import Skeleton

ANCHOR_KINDS: dict[AnchorKind, str] = {"clamp": "clamp", "chain": "chain or tie", "stand": "stand"}
HookKind = Literal["clamp", "hook", "tab", "plate", "chain"]
HOOK_KINDS: dict[HookKind, str] = {
    "clamp": "clamp on a flange",
    "hook": "hook in a hole",
    "tab": "welded tab",
    "plate": "plate bolted through",
    "chain": "chain round the member",
}
CLAMP_STIFFNESS = 6000.0
"""N/mm of a sill clamp on its stand. Common practice, no source."""


TIE_EA_N = 1e8
"""A steel bar of some 480 mm²: E·A. Common practice, no source."""

PieceName = Annotated[str, Field(max_length=120)]
"""Which piece of the shop's rig it is, by its name there; empty: none of them."""


class PlacedTower(Model):
    """A tower as it stands by the vehicle: place in plan, reach in height, capacity (None: unknown), its ram and falls of chain."""

    id: Code
    piece: PieceName = ""
    at: Annotated[tuple[float, float], Field(strict=False)]
    z: Annotated[tuple[float, float], Field(strict=False)] = (150.0, 900.0)
    capacity_n: float | None = Field(default=None, gt=0)
    ram_area_mm2: float | None = Field(default=None, gt=0)
    falls: int = Field(default=1, ge=1, le=10)


class Machine(Model):
    """A portable puller or a jack that bears on the vehicle itself at a point: it pushes what is at the hook away from there, or
    draws it there, and bears as hard as it pulls. What it takes, and what the place it bears on takes (None: unknown)."""

    id: Code
    piece: PieceName = ""
    bears_on: Code
    pushes: bool = True
    capacity_n: float | None = Field(default=None, gt=0)
    bears_capacity_n: float | None = Field(default=None, gt=0)


class PlacedTie(Model):
    """A bar or a chain tightened with a bolt that ties two points of the vehicle together while it is pulled: what it takes (None:
    unknown), and its stiffness times its length, N."""

    id: Code
    piece: PieceName = ""
    between: Annotated[tuple[Code, Code], Field(strict=False)]
    capacity_n: float | None = Field(default=None, gt=0)
    ea_n: float = Field(default=TIE_EA_N, gt=0)


class PlacedHook(Model):
    """A place to pull at: the point it is at, what takes hold, and what that takes (None: unknown)."""

    id: Code
    piece: PieceName = ""
    code: Code
    kind: HookKind = "clamp"
    capacity_n: float | None = Field(default=None, gt=0)


class PlacedAnchor(Model):
    """What holds the vehicle at a point of it: a clamp, a chain or tie that runs toward a place, or a stand under it."""

    id: Code
    piece: PieceName = ""
    code: Code
    kind: AnchorKind = "clamp"
    toward: Vector | None = None
    stiffness: float = Field(default=CLAMP_STIFFNESS, gt=0)
    capacity_n: float | None = Field(default=None, gt=0)


class Setting(Model):
    """How the vehicle is held and pulled: mass and centre of mass, towers, hooks, anchors, and the sections of its members.

    The frame is made from the sheet (`skeleton_of`); a person adds `corners` that no point of the sheet marks and members to them,
    and takes out members that are not there or hold nothing any more (``C2L C2R``, in the order of the sheet's frame). `assumed`
    names the corners and sections that nobody said: they are of the usual vehicle of its construction (`assumed_of`). Where a plan
    is searched, no machine bears at the points of `no_bearing`, and those of `still` are left where they stand.
    """

    mass_kg: float = Field(default=1500.0, gt=0, le=60_000)
    cg: Vector = (0.0, 0.0, 550.0)
    towers: Many[PlacedTower]
    hooks: Many[PlacedHook]
    anchors: Many[PlacedAnchor]
    boxes: dict[str, Box]
    machines: Many[Machine] = ()
    ties: Many[PlacedTie] = ()
    no_bearing: Many[Code] = ()
    still: Many[Code] = ()
    corners: dict[Code, Vector] = Field(default_factory=dict)
    members_in: Many[ExtraMember] = ()
    members_out: Many[Code] = ()
    assumed: Many[Code] = ()


HoldBy = Literal["clamps", "ties"]
HOLD_BY: dict[HoldBy, str] = {
    "clamps": "four clamps, as on the sills of a unibody or the flanges of a frame",
    "ties": "chains fore and aft with stands under it, as a frame, a truck or a trailer is held",
}
_TIE_AHEAD_MM, _TIE_ASIDE_MM, _TIE_HEIGHT_MM = 900.0, 500.0, 100.0
_TIE_N, _TIE_STIFFNESS, _STAND_N = 107_000.0, 5000.0, 50_000.0
"""A tie of 13 mm chain and a stand. Common practice, no source: put in what the makers of this shop's say."""


def anchors_of(sheet: Sheet, how: HoldBy) -> tuple[PlacedAnchor, ...]:
    """Return what holds a vehicle at its outer reference pairs: a clamp each, or a tie outward to the floor and a stand each."""
    references = [point for point in sheet.points if point.reference] or list(sheet.points)
    xs = [point.xyz[0] for point in references]
    corners = [point for point in references if point.xyz[0] in (max(xs), min(xs))]
    if how == "clamps":
        return tuple(PlacedAnchor(id=f"clamp {p.code}", code=p.code, capacity_n=120_000.0) for p in corners)
    middle = (max(xs) + min(xs)) / 2
    anchors: list[PlacedAnchor] = []
    for point in corners:
        x, y, _ = point.xyz
        ahead = _TIE_AHEAD_MM if x > middle else -_TIE_AHEAD_MM
        aside = _TIE_ASIDE_MM if y > 0 else -_TIE_ASIDE_MM
        toward = (x + ahead, y + aside, _TIE_HEIGHT_MM)
        anchors.append(
            PlacedAnchor(
                id=f"tie {point.code}",
                code=point.code,
                kind="chain",
                toward=toward,
                stiffness=_TIE_STIFFNESS,
                capacity_n=_TIE_N,
            )
        )
        anchors.append(PlacedAnchor(id=f"stand {point.code}", code=point.code, kind="stand", capacity_n=_STAND_N))
    return tuple(anchors)


def usual_setting(sheet: Sheet, boxes: Mapping[str, Box], *, complete: bool = False) -> Setting:
    """Return the setting that a job begins with: clamps at the outer reference pairs, hooks and towers at both ends and sides.

    `complete`: nobody has said anything of its frame, so what the sheet does not show of it is assumed, and its sections are too.
    """
    references = [point for point in sheet.points if point.reference] or list(sheet.points)
    xs = [point.xyz[0] for point in references]
    front, rear = max(xs), min(xs)
    free = [point for point in sheet.points if not rear <= point.xyz[0] <= front and side_of(point) != 0]
    low, high = min(p.xyz[0] for p in sheet.points), max(p.xyz[0] for p in sheet.points)
    wide = max(abs(p.xyz[1]) for p in sheet.points)
    towers = []
    if high > front:
        towers += [("front left", (high + 1300, 300.0)), ("front right", (high + 1300, -300.0))]
        towers += [("left front", (high - 300, wide + 1000)), ("right front", (high - 300, -wide - 1000))]
    if low < rear:
        towers += [
            ("rear", (low - 1300, 0.0)),
            ("left rear", (low + 300, wide + 1000)),
            ("right rear", (low + 300, -wide - 1000)),
        ]
    assumed = assumed_of(sheet) if complete else Assumed({}, (), {})
    return Setting(
        mass_kg={"truck": 7000.0, "ladder": 2400.0, "trailer": 700.0}.get(sheet.construction, 1500.0),
        cg=((front + rear) / 2, 0.0, 550.0),
        towers=tuple(PlacedTower(id=name, at=at, capacity_n=120_000.0, ram_area_mm2=1710.0) for name, at in towers),
        hooks=tuple(PlacedHook(id=f"at {point.code}", code=point.code, capacity_n=90_000.0) for point in free),
        anchors=anchors_of(sheet, "clamps"),
        boxes={**(_folding(boxes) if complete else boxes), **assumed.boxes},
        corners=assumed.corners,
        members_in=assumed.members,
        assumed=(*boxes, *assumed.names) if complete else (),
    )


def _folding(boxes: Mapping[str, Box]) -> dict[str, Box]:
    """Return the sections with those along the vehicle folding, as the rails of bodies and light frames do."""
    return {
        name: box if name in (ACROSS, UPPER) else box.model_copy(update={"folds": True}) for name, box in boxes.items()
    }


def frame_of_setting(sheet: Sheet, setting: Setting) -> Skeleton:
    """Return the frame of a vehicle as it is held. Raises `Refused` for members and corners that do not fit the sheet."""
    return skeleton_of(
        sheet,
        setting.boxes,
        [anchor.code for anchor in setting.anchors],
        corners=setting.corners,
        members_in=setting.members_in,
        members_out=setting.members_out,
    )


def pieces_of(
    setting: Setting, hooks: Iterable[str], towers: Iterable[str], ties: Iterable[str] = ()
) -> tuple[str, ...]:
    """Return the pieces of the shop's rig that a pull at these hooks and towers, with these ties, uses, anchors too."""
    hooks, towers, ties = set(hooks), set(towers), set(ties)
    used = [hook.piece for hook in setting.hooks if hook.id in hooks]
    used += [tower.piece for tower in setting.towers if tower.id in towers]
    used += [machine.piece for machine in setting.machines if machine.id in towers]
    used += [tie.piece for tie in setting.ties if tie.id in ties]
    used += [anchor.piece for anchor in setting.anchors]
    return tuple(dict.fromkeys(piece for piece in used if piece))
