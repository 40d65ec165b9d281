"""The sheet check: every single slip planted on a good sheet is found, undone, and named by its kind."""

import re
from math import dist

import numpy as np
import pytest

from fairsquare.core.errors import UnknownCode
from fairsquare.core.sheet.check import CheckSheet, apply_suggestion, check_sheet
from fairsquare.core.sheet.model import Sheet
from fairsquare.core.sheet.slips import exchanged_digits
from fairsquare.stand_ins.vehicles import DUNLIN, HERON, PUFFIN, TEAL, TURNSTONE


def good_sheet(seed: int = 1, stations: int = 7) -> dict:
    """Return a sheet of pairs, built to within a millimetre, with two spans from every point to sound ones."""
    random = np.random.default_rng(seed)
    points, spans = [], []
    for k in range(stations):
        x, y, z = 2300 - 613 * k + random.integers(0, 50), 471 + random.integers(0, 120), 138 + 57 * k
        for side, sign in (("L", 1), ("R", -1)):
            place = [float(x + random.integers(0, 2)), float(sign * y), float(z + random.integers(0, 2))]
            points.append({"code": f"S{k}{side}", "xyz": place})
    for k, point in enumerate(points):
        for step, mode in ((3, "point_to_point"), (5, "datum_parallel")):
            other = points[(k + step) % len(points)]
            axes = 3 if mode == "point_to_point" else 2
            spans.append(
                {
                    "a": point["code"],
                    "b": other["code"],
                    "mode": mode,
                    "mm": round(dist(point["xyz"][:axes], other["xyz"][:axes])),
                }
            )
    return {"name": "s", "construction": "unibody", "points": points, "spans": spans}


def found(sheet: dict):
    return check_sheet(CheckSheet(sheet=Sheet.model_validate(sheet, strict=False))).findings


@pytest.mark.parametrize("sheet", [DUNLIN.sheet, HERON.sheet, TEAL.sheet, TURNSTONE.sheet, PUFFIN.sheet])
def test_a_good_sheet_gives_no_findings(sheet) -> None:
    assert check_sheet(CheckSheet(sheet=sheet)).findings == ()


def _sign(sheet):
    sheet["points"][3]["xyz"][1] *= -1


def _swap(sheet):
    place = sheet["points"][4]["xyz"]
    place[0], place[1] = place[1], place[0]


def _unit(sheet):
    sheet["points"][5]["xyz"][0] /= 25.4


def _digits(sheet):
    sheet["points"][0]["xyz"][0] = max(exchanged_digits(sheet["points"][0]["xyz"][0]))


def _side(sheet):
    a, b = sheet["points"][6], sheet["points"][7]
    a["xyz"], b["xyz"] = b["xyz"], a["xyz"]


def _mode(sheet):
    sheet["spans"][8]["mode"] = "datum_parallel"
    places = {p["code"]: p["xyz"] for p in sheet["points"]}
    span = sheet["spans"][8]
    span["b"] = "S0L"
    span["mm"] = round(dist(places[span["a"]], places["S0L"]))
    assert span["mm"] > dist(places[span["a"]][:2], places["S0L"][:2]) + 3


def _span_unit(sheet):
    sheet["spans"][8]["mm"] /= 25.4


def _span(sheet):
    sheet["spans"][9]["mm"] += 22.5


def _partner(sheet):
    sheet["points"][2]["xyz"][2] += 31.7


@pytest.mark.parametrize(
    ("slip", "kind", "points", "spans"),
    [
        (_sign, "sign", ("S1R",), ()),
        (_swap, "swap", ("S2L",), ()),
        (_unit, "unit", ("S2R",), ()),
        (_digits, "digits", ("S0L",), ()),
        (_side, "side", ("S3L", "S3R"), ()),
        (_mode, "mode", (), (8,)),
        (_span_unit, "unit", (), (8,)),
        (_span, "span", (), (9,)),
        (_partner, "partner", ("S1L",), ()),
    ],
)
def test_each_slip_is_named_and_its_suggestion_leaves_a_good_sheet(slip, kind, points, spans) -> None:
    for seed in range(1, 6):
        sheet = good_sheet(seed)
        assert found(sheet) == ()
        slip(sheet)
        (one,) = found(sheet)
        assert (one.kind, one.points, one.spans) == (kind, points, spans), one.detail
        assert one.alternatives == ()
        mended = apply_suggestion(Sheet.model_validate(sheet, strict=False), one.suggestion)
        assert check_sheet(CheckSheet(sheet=mended)).findings == ()


def test_two_slips_apart_are_two_findings() -> None:
    sheet = good_sheet()
    _sign(sheet)
    sheet["points"][10]["xyz"][0] *= 25.4
    assert {(one.kind, one.points) for one in found(sheet)} == {("sign", ("S1R",)), ("unit", ("S5L",))}


def test_left_and_right_accuse_each_other_where_no_span_reaches() -> None:
    sheet = {**good_sheet(), "spans": []}
    sheet["points"][0]["xyz"][2] += 55.0
    (one,) = found(sheet)
    assert one.kind == "partner"
    assert one.points == ("S0L",)
    assert [other.points for other in one.alternatives] == [("S0R",)]
    assert "does not tell" in one.detail
    (misfit,) = one.values
    assert (misfit.kind, misfit.points) == ("pair", ("S0L", "S0R"))
    assert misfit.by_mm == pytest.approx(abs(sheet["points"][0]["xyz"][2] - sheet["points"][1]["xyz"][2]))


@pytest.mark.parametrize("slip", [_sign, _swap, _unit, _digits, _side, _mode, _span_unit, _span, _partner])
def test_every_figure_in_words_has_its_unit_and_stands_beside_them(slip) -> None:
    sheet = good_sheet()
    slip(sheet)
    for finding in found(sheet):
        told = re.findall(r"(?<![A-Za-z\d.])-?\d+(?:\.\d+)?(?! more| other)( mm)?", finding.detail)
        assert told, finding.detail
        assert all(told), finding.detail
        for misfit in finding.values[:4]:
            assert misfit.kind == "place" or f"{misfit.by_mm:.1f} mm" in finding.detail


def test_the_side_tells_which_minus_was_lost() -> None:
    sheet = {**good_sheet(), "spans": []}
    _sign(sheet)
    (one,) = found(sheet)
    assert (one.kind, one.points, one.alternatives) == ("sign", ("S1R",), ())


def test_two_codes_in_one_place_and_what_no_slip_explains() -> None:
    sheet = good_sheet()
    sheet["points"][4]["xyz"] = list(sheet["points"][2]["xyz"])
    (one,) = found(sheet)
    assert (one.kind, one.points) == ("duplicate", ("S2L",))
    x, y, z = sheet["points"][5]["xyz"]
    assert one.suggestion.points[0].xyz == (x, -y, z)
    wild = {**good_sheet(), "spans": [{"a": "S0L", "b": "S1L", "mode": "point_to_point", "mm": 9.0}] * 2}
    wild["points"] = wild["points"][:3]
    assert {one.kind for one in found(wild)} == {"span"}


def test_names_that_cannot_be_right() -> None:
    sheet = good_sheet()
    sheet["points"].append(dict(sheet["points"][0]))
    sheet["points"][3]["partner"] = "S9L"
    sheet["points"][5]["partner"] = "S0L"
    kinds = {(one.kind, one.points) for one in found(sheet) if one.suggestion is None}
    assert {("duplicate", ("S0L",)), ("partner", ("S1R",)), ("partner", ("S2R",))} <= kinds
    sheet["spans"][0]["b"] = "S9L"
    with pytest.raises(UnknownCode) as fault:
        found(sheet)
    assert fault.value.field == "sheet.spans.0.b"


def test_an_asymmetric_point_is_not_held_against_its_partner_but_its_spans_count() -> None:
    sheet = {**good_sheet(), "spans": []}
    sheet["points"][0]["xyz"][2] += 55.0
    sheet["points"][1]["asymmetric"] = True
    assert found(sheet) == ()
    sheet["spans"] = [{"a": "S0L", "b": "S3L", "mode": "point_to_point", "mm": 100.0}]
    assert [one.kind for one in found(sheet)] == ["span"]


def test_digits_are_exchanged_left_of_the_point() -> None:
    assert list(exchanged_digits(-1223.5)) == [-2123.5, -1232.5]
    assert list(exchanged_digits(0.75)) == []
