"""Spans between points of a sheet, as a tram measures them: in space, or seen from above with pointers of two lengths."""

from typing import Annotated

import numpy as np
import numpy.typing as npt
from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Model, NotNegative
from fairsquare.core.sheet.model import Sheet, find_point, points_by_code, tolerances

Floats = npt.NDArray[np.float64]
Pair = Annotated[tuple[Code, Code], Field(strict=False)]


class SheetSpans(Model):
    """The pairs of codes whose spans are wanted; `shortest_pointer_mm` is set at the lower end."""

    sheet: Sheet
    pairs: Many[Pair]
    shortest_pointer_mm: NotNegative = 100.0


class SpanLength(Model):
    """A length and its tolerance, mm; the tolerance is null where the length is nought."""

    mm: float
    tolerance_mm: float | None


class SpanBothWays(Model):
    """One span in both modes, and the pointer settings that make the tram's bar level."""

    a: str
    b: str
    point_to_point: SpanLength
    datum_parallel: SpanLength
    pointers_mm: tuple[float, float] = Field(description="at a, at b")


class SpansFound(Model):
    """The spans, in the order asked."""

    spans: tuple[SpanBothWays, ...]


def sheet_spans(request: SheetSpans) -> SpansFound:
    """Work out each pair both ways. Raises `Refused` for a code off the sheet and for a point with itself."""
    points = points_by_code(request.sheet)
    spans = []
    for index, (a, b) in enumerate(request.pairs):
        if a == b:
            raise Refused(
                f"{a} with itself is no span: name two different points.", field=f"pairs.{index}", value=[a, b]
            )
        ends = [find_point(points, code, f"pairs.{index}.{place}") for place, code in enumerate((a, b))]
        from_a_to_b = np.array(ends[1].xyz) - np.array(ends[0].xyz)
        limits = np.array([tolerances(request.sheet, end) for end in ends])
        heights = [end.xyz[2] for end in ends]
        spans.append(
            SpanBothWays(
                a=a,
                b=b,
                point_to_point=_length(from_a_to_b, limits),
                datum_parallel=_length(from_a_to_b * (1, 1, 0), limits),
                pointers_mm=(
                    request.shortest_pointer_mm + max(0.0, heights[0] - heights[1]),
                    request.shortest_pointer_mm + max(0.0, heights[1] - heights[0]),
                ),
            )
        )
    return SpansFound(spans=tuple(spans))


def _length(vector: Floats, limits: Floats) -> SpanLength:
    """Return the length of `vector` (3,) with the tolerance √(Σ u²(Ta² + Tb²)) that `limits` (2, 3) leave it."""
    mm = float(np.linalg.norm(vector))
    if mm == 0:
        return SpanLength(mm=0.0, tolerance_mm=None)
    return SpanLength(mm=mm, tolerance_mm=float(np.sqrt(np.sum((vector / mm) ** 2 * np.sum(limits**2, axis=0)))))
