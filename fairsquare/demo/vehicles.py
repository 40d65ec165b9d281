"""The demo's vehicles: sheets made by us, and where the points of each damaged one truly are. Nothing here is of a real vehicle."""

import zlib
from typing import NamedTuple

import numpy as np
import numpy.typing as npt

from fairsquare.core.model import Row3
from fairsquare.core.sheet.model import Construction, Point, Sheet, Span

Floats = npt.NDArray[np.float64]


class Vehicle(NamedTuple):
    """A vehicle of the scenario: its sheet, and how far each point moved, mm, in vehicle axes."""

    name: str
    sheet: Sheet
    moved: dict[str, Row3]

    def true_places(self, seed: int) -> dict[str, Floats]:
        """Return where each point is on one built vehicle: sheet, plus how it was built, plus damage."""
        random = np.random.default_rng(seed)
        places = {}
        for point in self.sheet.points:
            built = random.normal(0, self.sheet.build_sigma_mm, 3)
            places[point.code] = np.array(point.xyz) + np.array(self.moved.get(point.code, (0, 0, 0))) + built
        return places


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

DUNLIN = Vehicle(
    "Dunlin post van",
    _sheet(
        "Dunlin post van, long",
        "unibody",
        _DUNLIN,
        _REFERENCES,
        [("F4L", "C1R"), ("F4R", "C1L"), ("C1L", "C3R"), ("C1R", "C3L")],
    ),
    {
        "F5R": (-21.4, 6.8, 9.7),
        "F4R": (-14.2, 5.1, 6.9),
        "F3R": (-7.0, 3.6, 3.8),
        "F2R": (-2.0, 1.4, 0.8),
        "F5L": (-3.6, 4.4, 1.0),
        "F4L": (-1.8, 2.9, 0.6),
        "F3L": (-0.6, 1.5, 0.2),
    },
)
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
    {
        "F3L": (9.0, 16.0, 14.0),
        "F3R": (-8.0, 15.0, -12.0),
        "F2L": (6.0, 10.0, 9.0),
        "F2R": (-5.5, 9.0, -8.0),
        "F1L": (2.5, 4.0, 4.0),
        "F1R": (-2.0, 3.5, -3.5),
    },
)
TEAL = Vehicle(
    "Teal hatchback",
    _sheet("Teal hatchback", "unibody", _TEAL, _REFERENCES, [("R3L", "C3R"), ("R3R", "C3L")]),
    {"R3R": (19.0, 4.0, 6.5), "R2R": (8.0, 2.2, 2.8), "R3L": (2.0, 1.6, 0.6), "U1R": (5.5, 1.0, 2.5)},
)
TURNSTONE = Vehicle(
    "Turnstone island ambulance",
    _sheet("Turnstone ambulance, aluminium", "aluminium", _TURNSTONE, _REFERENCES, [("R2L", "C3R"), ("R2R", "C3L")]),
    {"R1L": (2.2, -5.4, 1.2), "R2L": (6.2, -11.6, 3.1), "R3L": (7.4, -8.0, 3.8)},
)
PUFFIN = Vehicle(
    "Puffin baggage trailer",
    _sheet("Puffin baggage trailer", "trailer", _PUFFIN, _REFERENCES, [("T1L", "T2R"), ("T1R", "T2L")]),
    {"T1L": (11.0, 0.6, 0.0), "T1R": (-10.0, 0.4, 0.0), "C2R": (0.2, -9.0, 1.0)},
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
