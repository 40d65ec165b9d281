"""Damage that is made up: a pushed-in end on an invented sheet, read with noise. For tests, and for what the bench measures."""

from typing import NamedTuple

import numpy as np
from scipy.spatial.transform import Rotation

from fairsquare.core.damage.read import ReadDamage
from fairsquare.core.measure.conformity import MeasuredPoint
from fairsquare.core.sheet.model import Point, Sheet

STATIONS = (2300.0, 2000.0, 1700.0, 1400.0, 1000.0, 200.0, -800.0, -1500.0, -1900.0, -2200.0)
SIGMA_MM, BUILD_MM = 0.4, 0.5


class Damaged(NamedTuple):
    """A request with the truth behind it: where the movement begins and which way the end was pushed."""

    request: ReadDamage
    onset_mm: float
    slopes: dict[str, np.ndarray]


def sheet() -> Sheet:
    """Return a sheet of ten stations, of which the middle three are references; rails ahead of and behind the sills."""
    points = []
    for number, x in enumerate(STATIONS):
        member = "rail" if x > 1200 else "sill" if x > -1000 else "rear rail"
        for side, sign in (("L", 1.0), ("R", -1.0)):
            points.append(
                Point(
                    code=f"P{number}{side}",
                    xyz=(x, sign * (480 + 12.0 * (number % 4)), 220 + 37.0 * (number % 3)),
                    member=f"{'left' if sign > 0 else 'right'} {member}",
                    reference=member == "sill",
                )
            )
    return Sheet(name="invented", construction="unibody", points=tuple(points), build_sigma_mm=BUILD_MM)


def pushed_in(random: np.random.Generator, onset_mm: float, push: np.ndarray, readings: int = 20) -> Damaged:
    """Return the front pushed along `push` from the onset on, more on the right than on the left, read with noise and build."""
    own = sheet()
    slopes = {"left rail": push * random.uniform(0.3, 0.7), "right rail": push * random.uniform(0.8, 1.2)}
    measured = {}
    for point in own.points[: 2 * readings]:
        beyond = max(point.xyz[0] - onset_mm, 0.0)
        slope = slopes.get(point.member or "", np.zeros(3))
        noise = random.normal(0, BUILD_MM, 3) + random.normal(0, SIGMA_MM, 3)
        place = np.array(point.xyz) + slope * beyond + noise
        measured[point.code] = read_at(place)
    return Damaged(ReadDamage(sheet=own, points=measured), onset_mm, slopes)


def read_at(place: np.ndarray, sigma_mm: float = SIGMA_MM) -> MeasuredPoint:
    """Return a point as read at a place, as well in every coordinate."""
    x, y, z = (float(value) for value in place)
    v = sigma_mm**2
    return MeasuredPoint(xyz=(x, y, z), covariance=((v, 0.0, 0.0), (0.0, v, 0.0), (0.0, 0.0, v)))


def turned(own: Sheet, members: tuple[str, ...], rotation_deg: np.ndarray, shift: np.ndarray) -> dict[str, np.ndarray]:
    """Return the places of the points of some members after one rigid motion about their middle."""
    moved = [point for point in own.points if point.member in members]
    at = np.mean([point.xyz for point in moved], axis=0)
    turn = Rotation.from_rotvec(np.radians(rotation_deg)).as_matrix()
    return {point.code: turn @ (np.array(point.xyz) - at) + at + shift for point in moved}
