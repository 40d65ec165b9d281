"""What a sheet does not show of a vehicle and its frame needs all the same: pillars, roof or cab, strut towers, upper rails.

A frame made of floor points alone bends far more than a body does. Where the sheet has no points above the frame, this adds what
vehicles of its construction have, by common practice, no source: corners and members that are marked as assumed, to be drawn so
and put right by whoever knows the vehicle.
"""

from collections.abc import Mapping
from typing import NamedTuple

from fairsquare.core.damage.deviations import side_of
from fairsquare.core.model import Code, Vector
from fairsquare.core.sheet.model import Construction, Point, Sheet
from fairsquare.core.structure.of_sheet import Box, ExtraMember

_HIGH_MM = 300.0
_NEAR_MM = 600.0
_SIDES = ((1, "left"), (-1, "right"))

PILLAR, ROOF, APRON, CAB = "assumed pillar", "assumed roof", "assumed apron", "assumed cab"
_BOXES: Mapping[str, Box] = {
    PILLAR: Box(height_mm=100, width_mm=80, wall_mm=1.5, yield_mpa=300),
    ROOF: Box(height_mm=70, width_mm=60, wall_mm=1.2, yield_mpa=280),
    APRON: Box(height_mm=110, width_mm=70, wall_mm=1.5, yield_mpa=280),
    CAB: Box(height_mm=60, width_mm=50, wall_mm=1.2, yield_mpa=250),
}
_BODIES: frozenset[Construction] = frozenset({"unibody", "aluminium"})
_CABS: frozenset[Construction] = frozenset({"ladder", "truck"})


class Assumed(NamedTuple):
    """Corners, members between them and the points of the sheet, and their sections, all assumed."""

    corners: dict[Code, Vector]
    members: tuple[ExtraMember, ...]
    boxes: dict[str, Box]

    @property
    def names(self) -> tuple[Code, ...]:
        """The names of what is assumed: corners and sections."""
        return (*self.corners, *self.boxes)


class _Made:
    """Corners and members as they come together; a member is made once, and only between places that are there."""

    def __init__(self) -> None:
        self.corners: dict[Code, Vector] = {}
        self.members: dict[frozenset[Code], ExtraMember] = {}

    def corner(self, name: str, x: float, y: float, z: float) -> Code:
        self.corners[name] = (round(x, 1), round(y, 1), round(z, 1))
        return name

    def member(self, i: Code | None, j: Code | None, section: str) -> None:
        if i is not None and j is not None and i != j:
            self.members.setdefault(frozenset((i, j)), ExtraMember(i=i, j=j, section=section))

    def told(self) -> Assumed:
        used = {member.section for member in self.members.values()}
        ends = {end for pair in self.members for end in pair}
        corners = {name: place for name, place in self.corners.items() if name in ends}
        boxes = {name: box for name, box in _BOXES.items() if name in used}
        return Assumed(corners, tuple(self.members.values()), boxes)


def assumed_of(sheet: Sheet) -> Assumed:
    """Return what is assumed of a vehicle above its sheet's points; nothing where the sheet shows it, and of a trailer."""
    made = _Made()
    heights = sorted(point.xyz[2] for point in sheet.points)
    level = heights[len(heights) // 2] if heights else 0.0
    low = [point for point in sheet.points if point.xyz[2] <= level + _HIGH_MM]
    high = [point for point in sheet.points if point.xyz[2] > level + _HIGH_MM]
    held = [point for point in low if point.reference] or low
    rows = {side: sorted((p for p in held if side_of(p) == side), key=lambda p: -p.xyz[0]) for side, _ in _SIDES}
    if any(len(row) < 2 for row in rows.values()):
        return made.told()
    wide = max(abs(point.xyz[1]) for point in sheet.points)
    if sheet.construction in _BODIES:
        _body(made, low, high, rows, wide, level)
    elif sheet.construction in _CABS:
        _cab(made, high, rows, wide, level)
    return made.told()


def _body(
    made: _Made, low: list[Point], high: list[Point], rows: Mapping[int, list[Point]], wide: float, level: float
) -> None:
    """Add the cabin over the middle, and towers with upper rails over both ends."""
    front, rear = rows[1][0].xyz[0], rows[1][-1].xyz[0]
    length = max(front - rear, 1.0)
    for side, word in _SIDES:
        row = rows[side]
        made.corner(f"cowl {word}", front + 0.1 * length, 0.9 * side * wide, level + 650)
        made.corner(f"roof front {word}", front - 0.25 * length, 0.75 * side * wide, level + 1200)
        made.corner(f"roof rear {word}", rear + 0.1 * length, 0.75 * side * wide, level + 1200)
        made.member(row[0].code, f"cowl {word}", PILLAR)
        made.member(f"cowl {word}", f"roof front {word}", PILLAR)
        made.member(f"roof front {word}", f"roof rear {word}", ROOF)
        made.member(f"roof rear {word}", row[-1].code, PILLAR)
        made.member(f"roof front {word}", row[len(row) // 2].code, PILLAR)
        for end, name, behind in ((1, "front", f"cowl {word}"), (-1, "rear", f"roof rear {word}")):
            _tower(made, low, high, (side, word), (end, name), behind, front if end == 1 else rear, level)
    for name in ("cowl", "roof front", "roof rear"):
        made.member(f"{name} left", f"{name} right", ROOF)


def _tower(
    made: _Made,
    low: list[Point],
    high: list[Point],
    at: tuple[int, str],
    to: tuple[int, str],
    behind: Code,
    edge: float,
    level: float,
) -> None:
    """Add a strut tower over the rail beyond the middle, tied to the cabin and by an upper rail to the rail's end."""
    (side, word), (end, name) = at, to
    rail = sorted(
        (p for p in low if side_of(p) == side and end * (p.xyz[0] - edge) > 1.0), key=lambda p: end * p.xyz[0]
    )
    if len(rail) < 2 or any(side_of(p) == side and end * (p.xyz[0] - edge) > -_NEAR_MM / 2 for p in high):
        return
    foot = rail[(len(rail) - 1) // 2]
    tower = made.corner(f"tower {name} {word}", foot.xyz[0], foot.xyz[1] + 60.0 * side, level + 480)
    made.member(tower, foot.code, APRON)
    made.member(tower, behind, APRON)
    tip = made.corner(f"upper rail {name} {word}", rail[-1].xyz[0], rail[-1].xyz[1] + 40.0 * side, level + 380)
    made.member(tower, tip, APRON)
    made.member(tip, rail[-1].code, APRON)


def _cab(made: _Made, high: list[Point], rows: Mapping[int, list[Point]], wide: float, level: float) -> None:
    """Add a cab on the two foremost pairs of the middle, which stand under its corners."""
    if high:
        return
    for side, word in _SIDES:
        front, back = rows[side][0], rows[side][1]
        made.corner(f"cab front {word}", front.xyz[0], 0.9 * side * wide, level + 1300)
        made.corner(f"cab back {word}", back.xyz[0], 0.9 * side * wide, level + 1300)
        made.member(front.code, f"cab front {word}", CAB)
        made.member(back.code, f"cab back {word}", CAB)
        made.member(f"cab front {word}", f"cab back {word}", CAB)
    for name in ("cab front", "cab back"):
        made.member(f"{name} left", f"{name} right", CAB)
