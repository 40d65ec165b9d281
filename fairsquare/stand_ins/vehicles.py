"""The demo's vehicles: sheets made by us, and the blows that left each as it is. Nothing here is of a real vehicle."""

import zlib
from collections.abc import Mapping
from functools import lru_cache
from types import MappingProxyType
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from fairsquare.core.model import Row3
from fairsquare.core.sheet.model import Construction, Point, Sheet, Span
from fairsquare.core.structure.blow import left_by, together
from fairsquare.core.structure.of_sheet import Box, skeleton_of, usual_boxes

Floats = npt.NDArray[np.float64]


class Hit(NamedTuple):
    """One blow: forces in N at points, put on and let go again, with the vehicle held at `held`."""

    forces: dict[str, Row3]
    held: tuple[str, ...]


class Vehicle(NamedTuple):
    """A vehicle of the scenario: its sheet, the blows it took, and what its frame has that the sheet does not say.

    `boxes` are the sections of members that are not as usual, `members_out` what no longer holds.
    """

    name: str
    sheet: Sheet
    hits: tuple[Hit, ...]
    boxes: Mapping[str, Box] = MappingProxyType({})
    members_out: tuple[str, ...] = ()

    @property
    def moved(self) -> dict[str, Row3]:
        """How far each point moved, mm, in vehicle axes: what the blows leave of the frame that the sheet makes."""
        return _left_by(self.name) if self.hits else {}

    def true_places(self, seed: int) -> dict[str, Floats]:
        """Return where each point is on one built vehicle: sheet, plus how it was built, plus damage."""
        return places_of(self.sheet, self.moved, seed)


def places_of(sheet: Sheet, moved: Mapping[str, Row3], seed: int) -> dict[str, Floats]:
    """Return where each point is on one vehicle of a sheet: as it was built, and moved."""
    random = np.random.default_rng(seed)
    places = {}
    for point in sheet.points:
        built = random.normal(0, sheet.build_sigma_mm, 3)
        places[point.code] = np.array(point.xyz) + np.array(moved.get(point.code, (0, 0, 0))) + built
    return places


@lru_cache(maxsize=8)
def _left_by(name: str) -> dict[str, Row3]:
    vehicle = next(vehicle for vehicle in VEHICLES if vehicle.name == name)
    boxes = {**usual_boxes(vehicle.sheet), **vehicle.boxes}
    blows = []
    for hit in vehicle.hits:
        left = left_by(skeleton_of(vehicle.sheet, boxes, hit.held, members_out=vehicle.members_out), hit.forces)
        if left is None:
            raise ValueError(f"the frame of the {name} does not carry the blow")
        blows.append(left)
    return together(blows)


def _pairs(rows: list[tuple[str, float, float, float, str, str]], references: set[str]) -> tuple[Point, ...]:
    points = []
    for code, x, y, z, member, name in rows:
        for side, sign in (("L", 1), ("R", -1)):
            points.append(
                Point(
                    code=code + side,
                    name=f"{name}, {'left' if side == 'L' else 'right'}",
                    xyz=(x, sign * y, z),
                    reference=code in references,
                    member=member,
                    feature="hole" if code[0] in "CFR" else "bolt",
                    tolerance_mm=(4.0, 4.0, 4.0) if code[0] == "U" else None,
                )
            )
    return tuple(points)


def _sheet(
    name: str,
    construction: Construction,
    rows: list[tuple[str, float, float, float, str, str]],
    references: set[str],
    crosses: list[tuple[str, str]],
    tolerance_mm: float = 3.0,
) -> Sheet:
    points = _pairs(rows, references)
    places = {point.code: np.array(point.xyz) for point in points}
    spans = tuple(
        Span(a=a, b=b, mode="point_to_point", mm=round(float(np.linalg.norm(places[a] - places[b])), 1))
        for a, b in crosses
    )
    return Sheet(name=name, construction=construction, tolerance_mm=tolerance_mm, points=points, spans=spans)


_DUNLIN = [
    ("F5", 2420.0, 486.0, 428.0, "front rail", "bumper face bolt"),
    ("F4", 2112.0, 478.0, 402.0, "front rail", "cradle front mount"),
    ("F3", 1796.0, 482.0, 352.0, "front rail", "cradle rear mount"),
    ("F2", 1478.0, 476.0, 262.0, "front rail", "rail root hole"),
    ("C1", 1016.0, 548.0, 180.0, "sill", "front sill hole"),
    ("C2", 118.0, 578.0, 180.0, "sill", "middle sill hole"),
    ("C3", -884.0, 556.0, 180.0, "sill", "rear sill hole"),
    ("R1", -1316.0, 508.0, 296.0, "rear rail", "axle front mount"),
    ("R2", -1722.0, 494.0, 348.0, "rear rail", "axle rear mount"),
    ("R3", -2184.0, 486.0, 402.0, "rear rail", "rail end hole"),
]
_HERON = [
    ("F3", 2890.0, 382.0, 610.0, "frame", "bumper bracket"),
    ("F2", 2240.0, 386.0, 560.0, "frame", "front axle front"),
    ("F1", 1490.0, 392.0, 540.0, "frame", "front axle rear"),
    ("C1", 780.0, 402.0, 520.0, "frame", "front cab mount"),
    ("C2", -240.0, 412.0, 520.0, "frame", "rear cab mount"),
    ("C3", -1180.0, 412.0, 520.0, "frame", "bed front mount"),
    ("R1", -2110.0, 412.0, 560.0, "frame", "rear axle front"),
    ("R2", -3020.0, 412.0, 600.0, "frame", "rear axle rear"),
    ("R3", -3760.0, 412.0, 560.0, "frame", "bed rear mount"),
]
_TEAL = [
    ("F2", 1690.0, 452.0, 310.0, "front rail", "rail front hole"),
    ("F1", 1180.0, 470.0, 220.0, "front rail", "rail root hole"),
    ("C1", 760.0, 520.0, 160.0, "sill", "front sill hole"),
    ("C2", 40.0, 536.0, 160.0, "sill", "middle sill hole"),
    ("C3", -690.0, 520.0, 162.0, "sill", "rear sill hole"),
    ("R1", -1080.0, 478.0, 240.0, "rear rail", "axle mount"),
    ("R2", -1440.0, 470.0, 300.0, "rear rail", "floor hole"),
    ("R3", -1790.0, 462.0, 330.0, "rear rail", "rail end"),
    ("U1", -1620.0, 540.0, 980.0, "opening", "tailgate hinge"),
]
_TURNSTONE = [
    ("F2", 2210.0, 510.0, 460.0, "front node", "node bolt"),
    ("F1", 1630.0, 520.0, 300.0, "front node", "extrusion hole"),
    ("C1", 990.0, 604.0, 210.0, "sill", "front sill bolt"),
    ("C2", -60.0, 610.0, 210.0, "sill", "middle sill bolt"),
    ("C3", -1090.0, 604.0, 210.0, "sill", "rear sill bolt"),
    ("R1", -1640.0, 540.0, 330.0, "rear node", "node front bolt"),
    ("R2", -2080.0, 530.0, 420.0, "rear node", "node rear bolt"),
    ("R3", -2610.0, 526.0, 440.0, "rear rail", "rail end"),
]
_PUFFIN = [
    ("T1", 1480.0, 720.0, 410.0, "side rail", "front corner"),
    ("C1", 720.0, 720.0, 410.0, "side rail", "first cross member"),
    ("C2", 0.0, 720.0, 410.0, "side rail", "second cross member"),
    ("C3", -760.0, 720.0, 410.0, "side rail", "third cross member"),
    ("T2", -1500.0, 720.0, 410.0, "side rail", "rear corner"),
]
_REFERENCES = {"C1", "C2", "C3"}

_ALL_SIX = ("C1L", "C1R", "C2L", "C2R", "C3L", "C3R")
_OUTER_FOUR = ("C1L", "C1R", "C3L", "C3R")

DUNLIN = Vehicle(
    "Dunlin post van",
    _sheet(
        "Dunlin post van, long",
        "unibody",
        _DUNLIN,
        _REFERENCES,
        [("F4L", "C1R"), ("F4R", "C1L"), ("C1L", "C3R"), ("C1R", "C3L")],
    ),
    (Hit({"F5R": (-53_900.0, 14_300.0, 0.0)}, _ALL_SIX),),
)
DUNLIN_TWO = Vehicle("Dunlin post van, second", DUNLIN.sheet.model_copy(update={"build_sigma_mm": 0.3}), ())
"""Its sister: backed into a bollard post with the apron only, and by now as the sheet has it."""
HERON = Vehicle(
    "Heron 40 flatbed",
    _sheet(
        "Heron 40 flatbed, ladder frame",
        "ladder",
        _HERON,
        _REFERENCES | {"R1"},
        [("F2L", "C1R"), ("F2R", "C1L"), ("C1L", "C3R"), ("C1R", "C3L")],
        tolerance_mm=5.0,
    ),
    (
        Hit(
            {
                "F2L": (-269_400.0, -800.0, 600.0),
                "F3L": (600.0, 200.0, 6400.0),
                "F3R": (7700.0, -200.0, -13_900.0),
            },
            (*_ALL_SIX, "R1L", "R1R"),
        ),
    ),
    {
        "frame": Box(height_mm=130, width_mm=60, wall_mm=2.5, yield_mpa=280),
        "across": Box(height_mm=90, width_mm=55, wall_mm=3.0, yield_mpa=300),
    },
)
TEAL = Vehicle(
    "Teal hatchback",
    _sheet("Teal hatchback", "unibody", _TEAL, _REFERENCES, [("R3L", "C3R"), ("R3R", "C3L")]),
    (Hit({"R3R": (32_500.0, 1200.0, 9200.0)}, _ALL_SIX),),
)
TURNSTONE = Vehicle(
    "Turnstone island ambulance",
    _sheet("Turnstone ambulance, aluminium", "aluminium", _TURNSTONE, _REFERENCES, [("R2L", "C3R"), ("R2R", "C3L")]),
    (Hit({"R2L": (4700.0, -35_000.0, 7800.0)}, _ALL_SIX),),
)
PUFFIN = Vehicle(
    "Puffin baggage trailer",
    _sheet("Puffin baggage trailer", "trailer", _PUFFIN, _REFERENCES, [("T1L", "T2R"), ("T1R", "T2L")]),
    (
        Hit({"C2R": (-2000.0, -37_700.0, 4300.0)}, _OUTER_FOUR),
        Hit({"T1L": (300.0, 12_700.0, 100.0), "T1R": (-300.0, 12_700.0, -300.0)}, _OUTER_FOUR),
    ),
    members_out=("C2L C2R",),
)
VEHICLES: tuple[Vehicle, ...] = (DUNLIN, HERON, TEAL, TURNSTONE, PUFFIN)


def seed_of(job: str, setup: int = 0) -> int:
    """Return the seed by which a job's vehicle was built (set-up 0) and by which the instrument of a set-up stands."""
    return zlib.crc32(f"{job}/{setup}".encode())


def pose(seed: int) -> tuple[Floats, Floats]:
    """Return how an instrument stands: a rotation (3, 3) and a translation (3,), instrument = R · vehicle + t."""
    random = np.random.default_rng(seed)
    turn, tilt, roll = np.radians([random.uniform(-25, 25), *random.uniform(-1.5, 1.5, 2)])
    c, s = np.cos([turn, tilt, roll]), np.sin([turn, tilt, roll])
    about_z = np.array([[c[0], -s[0], 0], [s[0], c[0], 0], [0, 0, 1]])
    about_y = np.array([[c[1], 0, s[1]], [0, 1, 0], [-s[1], 0, c[1]]])
    about_x = np.array([[1, 0, 0], [0, c[2], -s[2]], [0, s[2], c[2]]])
    return about_z @ about_y @ about_x, np.array([*random.uniform(-400, 400, 2), random.uniform(-300, -100)])


def instrument_reading(place: Floats, seed: int, noise: Floats) -> Row3:
    """Return a point in the axes of the instrument that stands by `seed`, with `noise` (3,) added, to a tenth of a mm."""
    rotation, translation = pose(seed)
    read = rotation @ place + translation + noise
    return round(float(read[0]), 1), round(float(read[1]), 1), round(float(read[2]), 1)
