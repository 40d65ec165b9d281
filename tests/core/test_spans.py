"""Spans against geometry that can be done by hand: right triangles, mirror images, independent sums."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fairsquare.core.errors import Refused, UnknownCode
from fairsquare.core.sheet.model import Point, Sheet
from fairsquare.core.sheet.spans import SheetSpans, sheet_spans

coordinate = st.floats(-3000, 3000)
place = st.tuples(coordinate, coordinate, coordinate)


def sheet_of(*places, **more) -> Sheet:
    points = tuple(Point(code=f"P{index}", xyz=xyz, **more) for index, xyz in enumerate(places))
    return Sheet(name="s", construction="unibody", points=points)


def test_a_right_triangle_both_ways() -> None:
    sheet = sheet_of((0.0, 0.0, 0.0), (300.0, 400.0, 1200.0))
    span = sheet_spans(SheetSpans(sheet=sheet, pairs=(("P0", "P1"),))).spans[0]
    assert span.point_to_point.mm == 1300
    assert span.datum_parallel.mm == 500
    assert span.pointers_mm == (100.0, 1300.0)
    assert span.point_to_point.tolerance_mm == pytest.approx(3 * math.sqrt(2))


@given(place, place)
def test_the_tram_closes_the_triangle_and_does_not_care_which_end_comes_first(a, b) -> None:
    sheet = sheet_of(a, b)
    there, back = sheet_spans(SheetSpans(sheet=sheet, pairs=(("P0", "P1"), ("P1", "P0")))).spans
    assert there.point_to_point == back.point_to_point
    assert there.pointers_mm == back.pointers_mm[::-1]
    heights = there.pointers_mm[0] - there.pointers_mm[1]
    assert math.hypot(there.datum_parallel.mm, heights) == pytest.approx(there.point_to_point.mm, abs=1e-9)


def test_tolerance_follows_the_direction_of_the_span() -> None:
    sheet = sheet_of((0.0, 0.0, 0.0), (100.0, 0.0, 0.0), tolerance_mm=(1.0, 5.0, 9.0))
    span = sheet_spans(SheetSpans(sheet=sheet, pairs=(("P0", "P1"),))).spans[0]
    assert span.point_to_point.tolerance_mm == pytest.approx(math.sqrt(2))


def test_one_above_the_other_has_no_span_from_above() -> None:
    sheet = sheet_of((10.0, 20.0, 0.0), (10.0, 20.0, 50.0))
    span = sheet_spans(SheetSpans(sheet=sheet, pairs=(("P0", "P1"),))).spans[0]
    assert (span.datum_parallel.mm, span.datum_parallel.tolerance_mm) == (0.0, None)


def test_refusals_name_what_is_wrong() -> None:
    sheet = sheet_of((0.0, 0.0, 0.0), (1.0, 0.0, 0.0))
    with pytest.raises(UnknownCode, match="P9 is not on the sheet"):
        sheet_spans(SheetSpans(sheet=sheet, pairs=(("P0", "P9"),)))
    with pytest.raises(Refused, match="with itself"):
        sheet_spans(SheetSpans(sheet=sheet, pairs=(("P0", "P0"),)))
    twice = Sheet(name="s", construction="unibody", points=(*sheet.points, sheet.points[0]))
    with pytest.raises(Refused, match="stands twice"):
        sheet_spans(SheetSpans(sheet=twice, pairs=(("P0", "P1"),)))
