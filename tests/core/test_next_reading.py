"""The next reading: its gain against the network solved again with it, and against every candidate tried by hand."""

import json
from itertools import pairwise

import numpy as np
import pytest

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.errors import FairSquareError
from fairsquare.core.measure.next_reading import NextMeasurement, next_measurement
from fairsquare.core.measure.solve import solve_network
from tests.core.network import OTHERS, TRUSTED, built, careful_job, computed, request, sheet

TRAM = {"kind": "span", "sigma": 1.0, "mode": None, "from_mm": 300.0, "to_mm": 2600.0, "pointer_mm": 150.0}


def asked(job, **more):
    whole = {
        "sheet": sheet(),
        "trusted": TRUSTED,
        "setups": [{"id": "line", "kind": "sight"}],
        "observations": job,
        "goal": ["F1L", "F2R"],
        **more,
    }
    return NextMeasurement.model_validate(whole, strict=False)


@pytest.fixture(scope="module")
def job():
    random = np.random.default_rng(3)
    return careful_job(random, built(random))[:30]


def trace(job, goal):
    solved = solve_network(request(job))
    columns = [solved.layout.points[code] + axis for code in goal for axis in range(3)]
    return float(np.trace(solved.covariance[np.ix_(columns, columns)])), solved


@pytest.mark.parametrize(
    "tool",
    [TRAM, {"kind": "height", "setup": "line", "sigma": 0.5}, {"kind": "offset", "setup": None, "sigma": 0.5}],
)
def test_the_gain_is_that_of_solving_again_with_it(job, tool) -> None:
    """The reading taken exactly as computed moves nothing, so the network solved anew has the covariance foretold."""
    ranked = next_measurement(asked(job, tools=[tool], count=2)).ranked
    before, solved = trace(job, ["F1L", "F2R"])
    assert ranked[0].trace_before == pytest.approx(before, rel=1e-6)
    places = {code: solved.state.values[first : first + 3] for code, first in solved.layout.points.items()}
    sights = {"line": dict(zip(("l0", "l1", "c0", "c1", "c2"), solved.state.values[36:41], strict=True))}
    added = []
    for k, one in enumerate(ranked):
        plan = one.observation.model_dump()
        added.append({**plan, "id": f"n{k}", "mm": float(computed(plan, places, sights, {})[0])})
        assert one.trace_after == pytest.approx(trace([*job, *added], ["F1L", "F2R"])[0], rel=1e-5)
    assert ranked[1].trace_before == ranked[0].trace_after


def test_the_best_of_all_candidates_tried_one_by_one(job) -> None:
    spans = [
        {"kind": "span", "a": a, "b": b, "mode": "point_to_point", "sigma": 1.0}
        for a in OTHERS[:4]
        for b in TRUSTED[:4]
    ]
    gains = [next_measurement(asked(job, candidates=[one], count=5)).ranked for one in spans]
    assert all(len(one) == 1 for one in gains)
    least = min(one[0].trace_after for one in gains)
    first = next_measurement(asked(job, candidates=spans)).ranked[0]
    assert first.trace_after == pytest.approx(least)


def test_a_gauge_counts_as_pin_and_level_and_a_point_as_three(job) -> None:
    gauge = {"kind": "gauge", "setup": "line", "a": "F1L", "b": "F1R", "sigma": 1.0, "id": "mine"}
    one = next_measurement(asked(job, candidates=[gauge], goal=["F1L", "F1R"])).ranked[0]
    assert one.observation.id == "mine"
    assert "id" not in next_measurement(asked(job, tools=[TRAM])).model_dump()["ranked"][0]["observation"]
    assert one.trace_after < one.trace_before


def test_tools_reach_what_they_reach(job) -> None:
    every = next_measurement(asked(job, tools=[TRAM], count=500)).ranked
    places = {p["code"]: np.array(p["xyz"]) for p in sheet()["points"]}
    for one in every:
        apart = places[one.observation.a] - places[one.observation.b]
        axes = 3 if one.observation.mode == "point_to_point" else 2
        assert 300 <= np.linalg.norm(apart[:axes]) <= 2600
        assert one.observation.mode == "point_to_point" or abs(apart[2]) <= 150
    assert {one.observation.mode for one in every} == {"point_to_point", "datum_parallel"}
    assert all(a.trace_after >= b.trace_after for a, b in pairwise(every))


@pytest.mark.parametrize(
    ("more", "field", "words"),
    [
        ({}, "tools", "Neither candidates nor tools"),
        ({"tools": [TRAM], "goal": []}, "goal", "no point"),
        ({"tools": [TRAM], "goal": ["F9"]}, "goal.0", "not on the sheet"),
        ({"tools": [TRAM], "count": 0}, "count", "greater than or equal to 1"),
        ({"tools": [{"kind": "height", "setup": "laser", "sigma": 1}]}, "tools.0.setup", "not declared"),
        ({"tools": [{"kind": "point", "setup": "line", "sigma": 1}]}, "tools.0.setup", "a sight"),
        (
            {"candidates": [{"kind": "height", "setup": "line", "code": "F1L", "sigma": 1, "mm": 5}]},
            "candidates.0.height.mm",
            "no such field",
        ),
        (
            {"candidates": [{"kind": "span", "a": "F1L", "b": "F1L", "mode": "point_to_point", "sigma": 1}]},
            None,
            "itself",
        ),
    ],
)
def test_a_request_without_a_choice_is_refused(job, more, field, words) -> None:
    whole = {
        "sheet": sheet(),
        "trusted": list(TRUSTED),
        "setups": [{"id": "line", "kind": "sight"}],
        "observations": job,
        "goal": ["F1L"],
        **more,
    }
    with pytest.raises(FairSquareError, match=words) as fault:
        CATALOGUE["next-measurement"].run_json(json.dumps(whole))
    assert field is None or fault.value.field == field
