"""The call line: what people call out, in the order in which they say it."""

import pytest

from fairsquare.core.errors import FairSquareError, UnknownCode
from fairsquare.job.measure.calls import Context, understand_call, understand_point

CODES = ["F4L", "F4R", "C1L", "S1"]


@pytest.mark.parametrize(
    ("text", "unit", "xyz", "loaded"),
    [
        ("f4r 2162.4 -504.1 351", "mm", (2162.4, -504.1, 351.0), None),
        ("F4R 216.24 -50.41 35.1", "cm", (2162.4, -504.1, 351.0), None),
        ("f4r 21 3/8 -14 1/2 5", "in", (542.925, -368.3, 127.0), None),
        ("f4r 5ft 2 1/2 3 in 4 in", "mm", (1587.5, 76.2, 101.6), None),
        ("f4r 2162.4; -504.1; 351 loaded", "mm", (2162.4, -504.1, 351.0), True),
        ("f4r 1 2 3 free", "mm", (1.0, 2.0, 3.0), False),
        ("f4r 1,5 2,5 3", "mm", (1.5, 2.5, 3.0), None),
    ],
)
def test_what_is_understood(text, unit, xyz, loaded) -> None:
    call = understand_point(text, CODES, unit)
    assert (call.code, call.xyz, call.loaded) == ("F4R", xyz, loaded)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "Call a point"),
        ("f4r", "needs three numbers: 0 heard"),
        ("f4r 1 2", "needs three numbers: 2 heard"),
        ("f4r 1 2 3 4", "cannot be read as three lengths"),
        ("f4r 1 2 nan", "is not a length"),
        ("f4r 1e308 2 3", "is not a length"),
        ("f4r 99999999999 2 3", "longer than any vehicle"),
        ("f4r 1 1/2 1/4 1/8 3 1/2 2", "can"),
        ("loaded", "Call a point"),
        ("f4r " + "1 " * 60, "too much for one call"),
    ],
)
def test_what_is_refused(text, words) -> None:
    with pytest.raises(FairSquareError, match=words) as caught:
        understand_point(text, CODES, "in")
    assert caught.value.field == "call"


def test_a_wrong_code_proposes_the_nearest() -> None:
    with pytest.raises(UnknownCode) as caught:
        understand_point("f4x 1 2 3", CODES)
    assert set(caught.value.details["nearest"]) >= {"F4L", "F4R"}
    assert "Did you mean" in caught.value.title


PLACES = {
    "F1L": (1500.0, 400.0, 300.0),
    "F1R": (1500.0, -400.0, 300.0),
    "C1L": (700.0, 410.0, 200.0),
    "S1": (0.0, 0.0, 0.0),
}
GAUGES = Context(places=PLACES, pin_mm=12.0)


@pytest.mark.parametrize(
    ("text", "kind", "said"),
    [
        ("f1l c1l 812.5", "span", {"b": "C1L", "mode": "point_to_point", "mm": 812.5}),
        ("f1l c1l 32 in flat", "span", {"mode": "datum_parallel", "mm": 812.8}),
        ("f1l c1l 5ft 2 1/2 space", "span", {"mode": "point_to_point", "mm": 1587.5}),
        ("f1l 512 left", "offset", {"mm": 512.0}),
        ("f1r 20 1/8 in right", "offset", {"mm": -511.175}),
        ("f1l 315 high", "height", {"mm": 315.0}),
        ("f1l 12 low loaded", "height", {"mm": -12.0, "loaded": True}),
        ("gauge f1l f1r pin half left", "gauge", {"pin_mm": 6.0, "level_mm": None}),
        ("gauge f1l f1r pin half a pin right level 0", "gauge", {"pin_mm": -6.0, "level_mm": 0.0}),
        ("gauge f1l f1r pin 1.5 pins left", "gauge", {"pin_mm": 18.0}),
        ("gauge f1l f1r pin centre level 2 left high", "gauge", {"pin_mm": 0.0, "level_mm": 2.0}),
        ("gauge f1r f1l level 2 left high", "gauge", {"level_mm": -2.0}),
        ("gauge f1l f1r level 1/8 in right low arms 120 120", "gauge", {"level_mm": 3.175, "arm_mm": 120.0}),
        ("f1l f1r 4 behind", "difference", {"axis": "length", "mm": -4.0}),
        ("f1l f1r 3 higher", "difference", {"axis": "height", "mm": 3.0}),
        ("f1l f1r square 3 over 600 left ahead", "difference", {"axis": "length", "mm": 4.0, "share": 800 / 600}),
        ("f1r f1l square 3 over 600 left ahead", "difference", {"mm": -4.0}),
    ],
)
def test_every_tool_is_called_in_its_own_words(text, kind, said) -> None:
    call = understand_call(text, GAUGES)
    assert call.kind == kind
    for name, value in said.items():
        assert getattr(call, name) == (pytest.approx(value) if isinstance(value, float) else value), name


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("f1l f1l 500", "against itself"),
        ("f1l c1l -3", "is no span"),
        ("f1l c9l 500", "c9l is not on the sheet. Did you mean C1L"),
        ("gauge f1l f1r pin 3", "to which side the pin stands"),
        ("gauge f1l f1r level 3 high", "which side hangs high"),
        ("gauge f1l f1r arms 120 118 pin 0", "unequal arms"),
        ("gauge f1l f1r pin half left pin 2 left", "Say the pin once"),
        ("gauge f1l f1r 3 left", "comes pin, level or arms"),
        ("gauge f1l", "hangs on two points"),
        ("f1l c1l square 3 over 600 left ahead", "do not stand across"),
        ("f1l f1r square 3 600", "Call a square as"),
        ("f1l left", "A number is missing"),
    ],
)
def test_what_no_tool_says_is_refused(text, words) -> None:
    with pytest.raises(FairSquareError, match=words) as caught:
        understand_call(text, GAUGES)
    assert caught.value.field == "call"


def test_half_a_pin_needs_to_know_how_wide_a_pin_is() -> None:
    with pytest.raises(FairSquareError, match="pin width is not known"):
        understand_call("gauge f1l f1r pin half left", GAUGES._replace(pin_mm=None))


def test_without_a_sheet_only_spans_are_understood() -> None:
    assert understand_call("t1l t2r 3310", Context({})).codes == ("T1L", "T2R")
    with pytest.raises(FairSquareError, match="no sheet yet"):
        understand_call("gauge t1l t1r pin 3 left", Context({}))
