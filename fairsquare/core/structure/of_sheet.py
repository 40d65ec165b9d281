"""A skeleton made from a datum sheet: a node at each point, members along each side and across, sections by member.

It stands in for a vehicle of which nobody has more than a sheet: what it says of forces is rough, and a person may set
every section.
"""

import math
from collections.abc import Iterable, Mapping, Sequence
from itertools import pairwise

from pydantic import Field

from fairsquare.core.damage.deviations import side_of
from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Model, Vector
from fairsquare.core.sheet.model import Construction, Point, Sheet, partner_code
from fairsquare.core.structure.skeleton import FrameMember, Section, Skeleton

ACROSS, UPPER = "across", "uprights"
"""Names of the members that the sheet does not name: those between left and right, and those to points above the frame."""
_UPPER_MM = 300.0
_HELD = (True, True, True, False, False, False)

STEEL_E, STEEL_G = 210_000.0, 81_000.0
ALUMINIUM_E, ALUMINIUM_G = 70_000.0, 27_000.0
"""Moduli in MPa as handbooks give them."""


class Box(Model):
    """A hollow rectangular section: height (up), width, wall in mm, and where it yields in MPa.

    `folds`: along its length it does not give by squashing but by folding, at the mean crushing force of a thin box, and is drawn
    out again at about that.
    """

    height_mm: float = Field(gt=1, le=2000)
    width_mm: float = Field(gt=1, le=2000)
    wall_mm: float = Field(gt=0, le=500)
    yield_mpa: float = Field(ge=20, le=3000)
    folds: bool = False

    def section(self, *, aluminium: bool = False, hardening: float = 0.02) -> Section:
        """Return it as a section of a frame, thin-walled in torsion (Bredt; handbooks). Raises `Refused` for a wall past
        the middle."""
        h, w, t, fy = self.height_mm, self.width_mm, self.wall_mm, self.yield_mpa
        if 2 * t >= min(h, w):
            raise Refused(
                f"A wall of {t:g} mm on both sides leaves nothing hollow in {min(h, w):g} mm.", field="wall_mm", value=t
            )
        hi, wi = h - 2 * t, w - 2 * t
        area = h * w - hi * wi
        middle = (h - t) * (w - t)
        squash = area * fy
        if self.folds:
            squash = min(squash, _FOLDING * fy * t ** (5 / 3) * ((h + w) / 2) ** (1 / 3))
        return Section(
            area=area,
            iy=(w * h**3 - wi * hi**3) / 12,
            iz=(h * w**3 - hi * wi**3) / 12,
            j=4 * middle**2 * t / (2 * (h + w - 2 * t)),
            np=squash,
            tp=2 * middle * t * fy / math.sqrt(3),
            mpy=(w * h**2 - wi * hi**2) / 4 * fy,
            mpz=(h * w**2 - hi * wi**2) / 4 * fy,
            e=ALUMINIUM_E if aluminium else STEEL_E,
            g=ALUMINIUM_G if aluminium else STEEL_G,
            hardening=hardening,
        )


_FOLDING = 13.06
"""Mean crushing force of a thin square box over yield, wall^(5/3) and width^(1/3): Wierzbicki and Abramowicz 1983, from memory."""


class ExtraMember(Model):
    """A member that a person adds to a frame: from point or corner to point or corner, with the section of a member."""

    i: Code
    j: Code
    section: Code


_USUAL: Mapping[Construction, tuple[Box, Box, Box]] = {
    "unibody": (
        Box(height_mm=110, width_mm=65, wall_mm=2.0, yield_mpa=300),
        Box(height_mm=70, width_mm=55, wall_mm=1.6, yield_mpa=260),
        Box(height_mm=60, width_mm=50, wall_mm=1.2, yield_mpa=240),
    ),
    "aluminium": (
        Box(height_mm=120, width_mm=80, wall_mm=3.0, yield_mpa=200),
        Box(height_mm=80, width_mm=60, wall_mm=3.0, yield_mpa=200),
        Box(height_mm=70, width_mm=60, wall_mm=2.5, yield_mpa=180),
    ),
    "ladder": (
        Box(height_mm=180, width_mm=70, wall_mm=4.0, yield_mpa=350),
        Box(height_mm=110, width_mm=60, wall_mm=3.5, yield_mpa=300),
        Box(height_mm=80, width_mm=60, wall_mm=3.0, yield_mpa=300),
    ),
    "truck": (
        Box(height_mm=250, width_mm=80, wall_mm=7.0, yield_mpa=420),
        Box(height_mm=160, width_mm=80, wall_mm=5.0, yield_mpa=350),
        Box(height_mm=100, width_mm=80, wall_mm=4.0, yield_mpa=350),
    ),
    "trailer": (
        Box(height_mm=120, width_mm=60, wall_mm=3.0, yield_mpa=275),
        Box(height_mm=80, width_mm=40, wall_mm=2.5, yield_mpa=275),
        Box(height_mm=60, width_mm=40, wall_mm=2.0, yield_mpa=275),
    ),
}
"""Along, across, upright. Common practice, no source: measure the vehicle's own and set them."""


def member_names(sheet: Sheet) -> tuple[str, ...]:
    """Return the members of a sheet's skeleton that have sections, in the order of the sheet."""
    names = dict.fromkeys(point.member or "along" for point in sheet.points if not _is_upper(point, sheet))
    extra = [ACROSS] + ([UPPER] if any(_is_upper(point, sheet) for point in sheet.points) else [])
    return (*names, *extra)


def usual_boxes(sheet: Sheet) -> dict[str, Box]:
    """Return the sections that a skeleton begins with, by member."""
    along, across, upright = _USUAL[sheet.construction]
    return {name: across if name == ACROSS else upright if name == UPPER else along for name in member_names(sheet)}


def skeleton_of(
    sheet: Sheet,
    boxes: Mapping[str, Box],
    held: Iterable[Code],
    *,
    corners: Mapping[Code, Vector] | None = None,
    members_in: Sequence[ExtraMember] = (),
    members_out: Sequence[Code] = (),
) -> Skeleton:
    """Return the skeleton of a sheet, held at some of its points against moving, with `corners` and members added and taken out.

    Along each side points are joined in the order of their lengths, a member having the section of the one that its point nearer to
    the middle belongs to; partners are joined across; points well above the frame stand on the two nearest of their side.
    Raises `Refused` without points to make one, and for what a person added or took out that is not there.
    """
    lower = [point for point in sheet.points if not _is_upper(point, sheet)]
    if len(lower) < 3:
        raise Refused("A skeleton needs three points of the frame at least.", field="sheet", value=len(lower))
    middle = _middle(sheet)
    members: list[FrameMember] = []
    for side in (1, -1):
        row = sorted((point for point in lower if side_of(point) == side), key=lambda point: -point.xyz[0])
        for a, b in pairwise(row):
            inner = min((a, b), key=lambda point: abs(point.xyz[0] - middle))
            outer = b if inner is a else a
            members.append(
                _member(a.code, b.code, (outer.member if outer.member in boxes else inner.member) or "along")
            )
    points = {point.code: point for point in lower}
    for point in lower:
        other = partner_code(point)
        if side_of(point) == 1 and other in points and point.xyz != points[other].xyz:
            members.append(_member(point.code, other, ACROSS))
    for point in (point for point in sheet.points if _is_upper(point, sheet)):
        near = sorted(
            (below for below in lower if side_of(below) == side_of(point)),
            key=lambda below: math.dist(below.xyz, point.xyz),
        )
        members.extend(_member(point.code, below.code, UPPER) for below in near[:2])
    places = {point.code: point.xyz for point in sheet.points}
    for code, place in (corners or {}).items():
        if code in places:
            raise Refused(f"{code} is a point of the sheet: give the corner another name.", field="corners", value=code)
        places[code] = place
    members = _changed(members, places, members_in, members_out)
    aluminium = sheet.construction == "aluminium"
    used = {member.section for member in members}
    missing = used - set(boxes)
    if missing:
        name = sorted(missing)[0]
        raise Refused(f"Say what section {name} has.", field="boxes", value=name)
    return Skeleton(
        nodes={code: place for code, place in places.items() if any(code in (m.i, m.j) for m in members)},
        members=tuple(members),
        sections={name: boxes[name].section(aluminium=aluminium) for name in used},
        supports=dict.fromkeys(held, _HELD),
    )


def _changed(
    members: list[FrameMember],
    places: Mapping[Code, Vector],
    members_in: Sequence[ExtraMember],
    members_out: Sequence[Code],
) -> list[FrameMember]:
    """Return the members with those added and without those taken out. Raises `Refused` for what is not there, or there twice."""
    there = {member.id for member in members}
    for name in members_out:
        if name not in there:
            raise Refused(f"The sheet's frame has no member {name} to take out.", field="members_out", value=name)
    changed = [member for member in members if member.id not in set(members_out)]
    ends = {frozenset((member.i, member.j)) for member in changed}
    for k, extra in enumerate(members_in):
        for end in (extra.i, extra.j):
            if end not in places:
                raise Refused(f"{end} is no point of the sheet and no corner.", field=f"members_in.{k}", value=end)
        pair = frozenset((extra.i, extra.j))
        if len(pair) < 2 or pair in ends:
            raise Refused(
                f"A member from {extra.i} to {extra.j} is there already, or has no length.",
                field=f"members_in.{k}",
                value=f"{extra.i} {extra.j}",
            )
        ends.add(pair)
        changed.append(_member(extra.i, extra.j, extra.section))
    return changed


def _middle(sheet: Sheet) -> float:
    known = [point.xyz[0] for point in sheet.points if point.reference] or [point.xyz[0] for point in sheet.points]
    return sum(known) / len(known)


def _is_upper(point: Point, sheet: Sheet) -> bool:
    heights = sorted(point.xyz[2] for point in sheet.points)
    return point.xyz[2] > heights[len(heights) // 2] + _UPPER_MM


def _member(i: str, j: str, section: str) -> FrameMember:
    return FrameMember(id=f"{i} {j}", i=i, j=j, section=section)
