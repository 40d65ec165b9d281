"""A sheet where no maker's dimensions can be had: mirrored, measured off a sister, or drawn straight through what is sound.

Each made point says how well its place is known (`sigma_mm`), and that goes into every later judgement.
"""

from collections.abc import Iterator, Sequence
from typing import Annotated, Literal

import numpy as np
import numpy.typing as npt
from pydantic import Field

from fairsquare.core.axes import apply_pose, covariance_through_pose
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.measure.conformity import check_covariances
from fairsquare.core.measure.setup import FitSetup, Reading, fit_setup
from fairsquare.core.model import Code, Many, Matrix3, Model, Row3, Vector
from fairsquare.core.sheet.model import Point, Sheet, find_point, partner_code, points_by_code, tolerances

Floats = npt.NDArray[np.float64]

SHORTEST_LINE_MM = 300.0
"""Sound points nearer together than this along the vehicle say nothing of where a rail should run."""
LENGTH_NOT_JUDGED_MM = 1000.0


class PlaceRead(Model):
    """Where a point was found, vehicle axes, mm, with its covariance, mm²."""

    xyz: Vector
    covariance: Matrix3


class VehicleRead(Model):
    """One sister vehicle or donor part, read in an instrument's axes; each coordinate scatters by `sigma_mm`."""

    readings: Many[Reading]
    sigma_mm: Annotated[float, Field(ge=0, le=1e4)] = 0.3


class FromMirror(Model):
    """The sound `side` as read makes both sides."""

    basis: Literal["mirror"]
    sheet: Sheet
    side: Literal["L", "R"]
    points: dict[Code, PlaceRead]


class FromSister(Model):
    """Vehicles of the same model as read; the sheet holds at least the reference points."""

    basis: Literal["sister"]
    sheet: Sheet
    vehicles: Many[VehicleRead]


class FromStraight(Model):
    """A frame's own straightness: lines through the `sound` points of each series."""

    basis: Literal["straight"]
    sheet: Sheet
    sound: Many[Code]
    points: dict[Code, PlaceRead]


ComparativeSheet = Annotated[FromMirror | FromSister | FromStraight, Field(discriminator="basis")]


class SheetMade(Model):
    """The sheet, and from how many vehicles each of its made points comes."""

    sheet: Sheet
    counts: dict[str, int]


def comparative_sheet(request: FromMirror | FromSister | FromStraight) -> SheetMade:
    """Make a sheet from the sound side, from sister vehicles, or from straightness. Raises `Refused` where it cannot be."""
    known = points_by_code(request.sheet)
    if isinstance(request, FromMirror):
        return _mirrored(request, known)
    if isinstance(request, FromSister):
        return _from_sisters(request, known)
    return _straightened(request, known)


def series_of(point: Point) -> tuple[str | None, int]:
    """Return the series a point belongs to: its member, and its side of the centre plane (1 left, −1 right, 0 on it)."""
    return point.member, int(np.sign(point.xyz[1]))


def _with_references(sheet: Sheet, made: dict[str, Point], counts: dict[str, int]) -> SheetMade:
    kept = [point for point in sheet.points if point.reference and point.code not in made]
    points = (*kept, *_by_code(made))
    return SheetMade(sheet=sheet.model_copy(update={"points": points, "spans": ()}), counts=counts)


def _by_code(made: dict[str, Point]) -> tuple[Point, ...]:
    return tuple(made[code] for code in sorted(made))


def _remade(known: dict[str, Point], code: str, **fields: object) -> Point:
    """Return the sheet's point, or a new one, with other fields."""
    return Point(**{**dict(known.get(code, Point(code=code, xyz=(0.0, 0.0, 0.0)))), **fields})


def _mirrored(request: FromMirror, known: dict[str, Point]) -> SheetMade:
    _check_places(request.points)
    made: dict[str, Point] = {}
    for code, read in request.points.items():
        own = known.get(code, Point(code=code, xyz=read.xyz))
        partner = partner_code(own)
        if not code.endswith(request.side) or partner is None or own.asymmetric:
            continue
        if partner in known and known[partner].asymmetric:
            continue
        sigma = _row3(np.sqrt(np.diag(read.covariance) + request.sheet.build_sigma_mm**2))
        x, y, z = read.xyz
        made[code] = _remade(known, code, xyz=read.xyz, sigma_mm=sigma)
        link = {} if partner in known or own.partner is None else {"partner": code}
        made[partner] = _remade(known, partner, xyz=(x, -y, z), sigma_mm=sigma, **link)
    return _with_references(request.sheet, made, dict.fromkeys(made, 1))


def _from_sisters(request: FromSister, known: dict[str, Point]) -> SheetMade:
    if not request.vehicles:
        raise Refused("No vehicle was read: read at least one.", field="vehicles", value=[])
    places: dict[str, list[Floats]] = {}
    variances: dict[str, list[Floats]] = {}
    for index, vehicle in enumerate(request.vehicles):
        for code, place, variance in _placed(request.sheet, known, vehicle, index):
            places.setdefault(code, []).append(place)
            variances.setdefault(code, []).append(variance)
    made, counts = {}, {}
    for code, made_place in places.items():
        count = counts[code] = len(made_place)
        spread = np.var(made_place, axis=0, ddof=1) if count > 1 else np.zeros(3)
        sigma = np.sqrt(np.maximum(np.mean(variances[code], axis=0), spread) / count)
        made[code] = _remade(known, code, xyz=_row3(np.mean(made_place, axis=0)), sigma_mm=_row3(sigma))
    return _with_references(request.sheet, made, counts)


def _placed(
    sheet: Sheet, known: dict[str, Point], vehicle: VehicleRead, index: int
) -> Iterator[tuple[str, Floats, Floats]]:
    """Yield every point of a vehicle that is no reference, with its place and the variance of each coordinate."""
    references = tuple(r for r in vehicle.readings if r.code in known and known[r.code].reference)
    try:
        fit = fit_setup(FitSetup(sheet=sheet, readings=references, sigma_mm=vehicle.sigma_mm))
    except FairSquareError as fault:
        raise Refused(f"Vehicle {index + 1}: {fault.title}", field=f"vehicles.{index}", value=index + 1) from fault
    if fit.verdict != "accepted":
        many = "More than one choice of references fits: read more of them."
        raise Refused(
            f"Vehicle {index + 1}: the fit on its references is {fit.verdict}. "
            f"{many if fit.alternatives else fit.warnings[-1].words}",
            field=f"vehicles.{index}",
            value=index + 1,
        )
    others = [r for r in vehicle.readings if r not in references]
    seen: set[str] = set()
    for reading in others:
        if reading.code in seen:
            raise Refused(
                f"Vehicle {index + 1}: {reading.code} was read twice: keep one reading of each point.",
                field=f"vehicles.{index}.readings",
                value=reading.code,
            )
        seen.add(reading.code)
    read = np.array([r.xyz for r in others], dtype=float).reshape(-1, 3)
    places = apply_pose(np.array(fit.rotation), np.array(fit.translation), read)
    carried = covariance_through_pose(places, np.array(fit.pose_covariance))
    own = vehicle.sigma_mm**2 + sheet.build_sigma_mm**2
    for reading, place, covariance in zip(others, places, carried, strict=True):
        yield reading.code, place, np.diag(covariance) + own


def _straightened(request: FromStraight, known: dict[str, Point]) -> SheetMade:
    for code in request.points:
        find_point(known, code, f"points.{code}")
    _check_places(request.points)
    _check_sound(request, known)
    build = request.sheet.build_sigma_mm**2
    series: dict[tuple[str | None, int], list[str]] = {}
    for code in request.points:
        series.setdefault(series_of(known[code]), []).append(code)
    made: dict[str, Point] = {}
    for (member, side), codes in series.items():
        sound = [code for code in codes if code in request.sound]
        _check_line(request.points, sound, member, side)
        x = np.array([request.points[code].xyz[0] for code in codes], dtype=float)
        lines = [_line(request, sound, x, axis, build) for axis in (1, 2)]
        for row, code in enumerate(codes):
            limits = tolerances(request.sheet, known[code])
            made[code] = _remade(
                known,
                code,
                xyz=(float(x[row]), float(lines[0][0][row]), float(lines[1][0][row])),
                tolerance_mm=(LENGTH_NOT_JUDGED_MM, limits[1], limits[2]),
                sigma_mm=(0.0, float(lines[0][1][row]), float(lines[1][1][row])),
            )
    sheet = request.sheet.model_copy(update={"points": _by_code(made), "spans": ()})
    return SheetMade(sheet=sheet, counts=dict.fromkeys(request.points, 1))


def _line(request: FromStraight, sound: Sequence[str], x: Floats, axis: int, build: float) -> tuple[Floats, Floats]:
    """Return where the line through the sound points runs at `x` (n,), and its sigma there with the build's, both (n,).

    Weighted least squares; the variance is that of the weights as they are, not scaled by residuals.
    """
    at = np.array([request.points[code].xyz for code in sound], dtype=float)
    weights = 1 / (np.array([request.points[code].covariance[axis][axis] for code in sound], dtype=float) + build)
    total = weights.sum()
    middle, level = weights @ at[:, 0] / total, weights @ at[:, axis] / total
    spread = weights @ (at[:, 0] - middle) ** 2
    slope = weights @ ((at[:, 0] - middle) * at[:, axis]) / spread
    return level + slope * (x - middle), np.sqrt(1 / total + (x - middle) ** 2 / spread + build)


def _check_sound(request: FromStraight, known: dict[str, Point]) -> None:
    seen: set[str] = set()
    for index, code in enumerate(request.sound):
        where = f"sound.{index}"
        find_point(known, code, where)
        if code in seen:
            raise Refused(f"{code} is named as sound twice.", field=where, value=code)
        seen.add(code)
        if code not in request.points:
            raise Refused(f"{code} is named as sound, but was not read: read it.", field=where, value=code)
        if any(request.points[code].covariance[k][k] + request.sheet.build_sigma_mm**2 <= 0 for k in (1, 2)):
            raise Refused(
                f"{code} is given without any uncertainty, and build_sigma_mm is 0: nothing is known exactly.",
                field=f"points.{code}.covariance",
                value=code,
            )


def _check_line(points: dict[str, PlaceRead], sound: Sequence[str], member: str | None, side: int) -> None:
    name = f"{member or 'the points without a member'}, {('on the centre', 'left', 'right')[side]}"
    if len(sound) < 2:
        raise Refused(
            f"{name}: {len(sound)} of its sound points were read. A line needs two, better three, far apart.",
            field="sound",
            value=list(sound),
        )
    along = [points[code].xyz[0] for code in sound]
    if max(along) - min(along) < SHORTEST_LINE_MM:
        raise Refused(
            f"{name}: its sound points lie within {max(along) - min(along):.0f} mm along the vehicle. "
            f"Name sound points at least {SHORTEST_LINE_MM:.0f} mm apart.",
            field="sound",
            value=list(sound),
        )


def _check_places(points: dict[str, PlaceRead]) -> None:
    if points:
        check_covariances(np.array([place.covariance for place in points.values()]), list(points))


def _row3(values: Floats) -> Row3:
    return float(values[0]), float(values[1]), float(values[2])
