"""Conformity against JCGM 106:2012's own examples, against scipy.stats, and the rules of the four states."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import norm

from fairsquare.core.errors import Refused
from fairsquare.core.measure.conformity import JudgePoints, MeasuredPoint, conformance_probability, judge_points
from fairsquare.core.sheet.model import Point, Sheet

NOUGHT = ((0.0, 0.0, 0.0),) * 3


def judged(
    xyz, covariance=NOUGHT, *, place=(1000.0, 500.0, 200.0), coverage=2.0, determined=(True, True, True), **point
):
    sheet = Sheet(name="s", construction="unibody", points=(Point(code="F1L", xyz=place, **point),))
    measured = MeasuredPoint(xyz=xyz, covariance=covariance, determined=determined)
    return judge_points(JudgePoints(sheet=sheet, points={"F1L": measured}, coverage=coverage)).points["F1L"]


def diagonal(*variances):
    return tuple(tuple(float(v) for v in row) for row in np.diag(variances))


def test_the_motor_oil_of_jcgm_106() -> None:
    """JCGM 106:2012, 7.4, example (from memory): viscosity 13.6, u 1.8, limits 12.5 and 16.3 mm²/s: conforms with 0.66."""
    middle, half = (12.5 + 16.3) / 2, (16.3 - 12.5) / 2
    found = conformance_probability(np.array([13.6 - middle]), np.array([1.8]), np.array([half]))
    assert found[0] == pytest.approx(0.66, abs=0.005)


def test_the_diode_of_jcgm_106() -> None:
    """JCGM 106:2012, 7.3, example (from memory): −5.47 V, u 0.05 V, upper limit −5.40 V: conforms with Φ(1.4) = 0.92.

    A one-sided limit is a two-sided one whose other side is far away.
    """
    far = 1000.0
    found = conformance_probability(np.array([-5.47 - (-5.40 - far)]), np.array([0.05]), np.array([far]))
    assert found[0] == pytest.approx(0.919, abs=0.0005)


@given(st.floats(-30, 30), st.floats(0.01, 20), st.floats(0.1, 10))
def test_probability_against_scipy_stats(deviation, sigma, tolerance) -> None:
    theirs = norm.cdf(tolerance, deviation, sigma) - norm.cdf(-tolerance, deviation, sigma)
    ours = conformance_probability(np.array([deviation]), np.array([sigma]), np.array([tolerance]))[0]
    assert ours == pytest.approx(theirs, abs=1e-12)


def test_far_tails_keep_their_digits() -> None:
    both = [conformance_probability(np.array([d]), np.array([1.0]), np.array([3.0]))[0] for d in (15.0, -15.0)]
    assert both[0] == both[1]
    assert both[0] == pytest.approx(norm.sf(12), rel=1e-6)


def test_states_follow_deviation_and_uncertainty() -> None:
    one = judged((1002.0, 500.0, 200.0), diagonal(0.25, 0.25, 0.25))
    assert (one.states, one.state) == (("fair", "fair", "fair"), "fair")
    assert one.expanded == (1.0, 1.0, 1.0)
    two = judged((1002.5, 500.0, 196.9), diagonal(0.25, 0.25, 0.0))
    assert two.states == ("close", "fair", "off")
    assert two.state == "off"
    assert two.probability[2] == 0.0
    assert judged((1003.0, 500.0, 200.0)).states[0] == "fair", "a limit itself is allowed"


def test_what_is_not_determined_is_never_fair() -> None:
    one = judged((1000.0, 500.0, 200.0), determined=(True, True, False))
    assert one.states == ("fair", "fair", "unread")
    assert one.state == "unread"
    worse = judged((1009.0, 500.0, 250.0), determined=(True, True, False))
    assert worse.state == "off"
    assert worse.words == "9.0 long"


def test_the_sheets_own_doubt_is_added() -> None:
    one = judged((1000.0, 500.0, 200.0), diagonal(9.0, 0.0, 0.0), sigma_mm=(4.0, 0.0, 1.0), coverage=3.0)
    assert one.expanded == (15.0, 0.0, 3.0)


@pytest.mark.parametrize(
    ("place", "moved", "words"),
    [
        ((1000.0, 500.0, 200.0), (6.2, 1.0, -3.0), "6.2 long, 1.0 left (wide), 3.0 low"),
        ((1000.0, 500.0, 200.0), (-6.2, -1.0, 3.0), "6.2 short, 1.0 right (narrow), 3.0 high"),
        ((-1000.0, -500.0, 200.0), (-6.2, -1.0, 0.04), "6.2 long, 1.0 right (wide)"),
        ((-1000.0, 0.0, 200.0), (6.2, 1.0, 0.0), "6.2 short, 1.0 left"),
        ((0.0, -500.0, 200.0), (2.0, 1.0, 0.0), "2.0 long, 1.0 left (narrow)"),
    ],
)
def test_words_of_direction(place, moved, words) -> None:
    xyz = tuple(a + b for a, b in zip(place, moved, strict=True))
    assert judged(xyz, place=place).words == words


def test_every_point_of_the_sheet_is_answered() -> None:
    points = (Point(code="F1L", xyz=(1.0, 2.0, 3.0)), Point(code="F1R", xyz=(1.0, -2.0, 3.0)))
    found = judge_points(JudgePoints(sheet=Sheet(name="s", construction="ladder", points=points), points={}))
    assert list(found.points) == ["F1L", "F1R"]
    assert found.points["F1R"].state == "unread"
    assert found.points["F1R"].deviation is None


def test_requests_that_are_wrong() -> None:
    with pytest.raises(Refused, match="symmetric"):
        judged((0.0, 0.0, 0.0), ((1.0, 0.5, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0)))
    with pytest.raises(Refused, match="negative eigenvalue"):
        judged((0.0, 0.0, 0.0), ((1.0, 2.0, 0.0), (2.0, 1.0, 0.0), (0.0, 0.0, 1.0)))
    sheet = Sheet(name="s", construction="unibody", points=(Point(code="F1L", xyz=(0.0, 0.0, 0.0)),))
    measured = MeasuredPoint(xyz=(0.0, 0.0, 0.0), covariance=NOUGHT)
    with pytest.raises(Refused, match="F1X is not on the sheet"):
        judge_points(JudgePoints(sheet=sheet, points={"F1X": measured}))
