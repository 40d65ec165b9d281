"""The call line: what people call out, in the order in which they say it."""

import pytest

from fairsquare.core.errors import FairSquareError, UnknownCode
from fairsquare.core.measure.calls import understand_point

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
