"""The datum sheet of one vehicle variant: its points, the spans between them, and their tolerances."""

from difflib import get_close_matches
from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.errors import Refused, UnknownCode
from fairsquare.core.model import Code, Many, Model, NotNegative, Tolerances, Vector

Construction = Literal["unibody", "ladder", "truck", "aluminium", "trailer"]
Feature = Literal["hole", "slot", "stud", "bolt", "edge"]
SpanMode = Literal["point_to_point", "datum_parallel"]


class Point(Model):
    """A datum point. `xyz` in vehicle axes, mm; `tolerance_mm` per axis, or null for the sheet's.

    `sigma_mm` is how well the sheet itself knows each coordinate; null: exactly. `asymmetric` says that the partner
    on the other side is not the mirror image.
    """

    code: Code
    name: str | None = Field(default=None, max_length=200)
    xyz: Vector
    tolerance_mm: Tolerances | None = None
    reference: bool = False
    member: str | None = Field(default=None, max_length=80)
    partner: Code | None = None
    feature: Feature | None = None
    asymmetric: bool = False
    sigma_mm: Tolerances | None = None


class Span(Model):
    """A distance that the sheet gives between two points, in space or in the x-y plane, mm."""

    a: Code
    b: Code
    mode: SpanMode
    mm: Annotated[float, Field(gt=0, le=1e7)]
    tolerance_mm: NotNegative | None = None


class Sheet(Model):
    """A datum sheet. `tolerance_mm` holds where a point has none of its own; `build_sigma_mm` is how well vehicles are built."""

    name: str = Field(max_length=200)
    construction: Construction
    tolerance_mm: NotNegative = 3.0
    build_sigma_mm: NotNegative = 0.5
    points: Many[Point]
    spans: Many[Span] = ()


def points_by_code(sheet: Sheet, field: str = "sheet") -> dict[str, Point]:
    """Return the points under their codes. Raises `Refused` where a code stands twice."""
    points: dict[str, Point] = {}
    for index, point in enumerate(sheet.points):
        if point.code in points:
            raise Refused(
                f"{point.code} stands twice on the sheet: each code must name one point. Rename or remove one of them.",
                field=f"{field}.points.{index}.code",
                value=point.code,
            )
        points[point.code] = point
    return points


def find_point(points: dict[str, Point], code: str, field: str) -> Point:
    """Return the point named `code`. Raises `UnknownCode` that names `field` and the codes that look most like it."""
    if code in points:
        return points[code]
    nearest = nearest_codes(code, list(points))
    hint = f"Did you mean {' or '.join(nearest)}?" if nearest else "Look at the sheet for its codes."
    raise UnknownCode(f"{code} is not on the sheet. {hint}", field=field, value=code, details={"nearest": nearest})


def nearest_codes(code: str, codes: list[str], most: int = 3) -> list[str]:
    """Return the codes that look most like what was called, the likeliest first; letters of either case match."""
    upper = {known.upper(): known for known in codes}
    return [upper[near] for near in get_close_matches(code.upper(), list(upper), n=most, cutoff=0.5)]


def partner_code(point: Point) -> str | None:
    """Return the code of the point on the other side: as written, or L and R exchanged at the end."""
    if point.partner is not None:
        return point.partner
    other_side = {"L": "R", "R": "L"}.get(point.code[-1])
    return point.code[:-1] + other_side if other_side else None


def check_span_ends(sheet: Sheet) -> None:
    """Raise `UnknownCode` for a span with an end that is not on the sheet, `Refused` for one from a point to itself."""
    points = points_by_first_code(sheet)
    for index, span in enumerate(sheet.spans):
        for name, code in (("a", span.a), ("b", span.b)):
            find_point(points, code, f"sheet.spans.{index}.{name}")
        if span.a == span.b:
            raise Refused(
                f"A span from {span.a} to itself has no length: name two different points.",
                field=f"sheet.spans.{index}.b",
                value=span.b,
            )


def tolerances(sheet: Sheet, point: Point) -> tuple[float, float, float]:
    """Return the point's tolerance per axis, mm; the sheet's where it has none of its own."""
    return point.tolerance_mm or (sheet.tolerance_mm,) * 3


def points_by_first_code(sheet: Sheet) -> dict[str, Point]:
    """Return the points under their codes; of a code that stands twice the first."""
    points: dict[str, Point] = {}
    for point in sheet.points:
        points.setdefault(point.code, point)
    return points
