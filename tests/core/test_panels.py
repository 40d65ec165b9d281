"""Panels that share gaps, against scipy: its linear programmes over every set of panels, and its general optimiser."""

import json
from itertools import combinations

import numpy as np
import pytest
from scipy import optimize

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.errors import FairSquareError
from fairsquare.core.fit.hang import HangPanel, hang_panel
from tests.core.faces import AXES, at_point, face, hung, row_of


class InNumbers:
    """A request as rows, written anew from the contract: hinges (r, n) between low and high, gaps off − rows @ x."""

    def __init__(self, request) -> None:
        panels, gaps = request["panels"], request["gaps"]
        self.hinges = np.vstack(
            [
                np.hstack([at_point(panel, hinge["at"]) * (other is panel) for other in panels])
                for panel in panels
                for hinge in panel["hinges"]
            ]
        )
        ends = [hinge["range"][axis] for panel in panels for hinge in panel["hinges"] for axis in AXES]
        self.low, self.high = np.array(ends, float).T
        self.gaps = np.array([row_of(request, gap) for gap in gaps])
        self.off = np.array([gap["mm"] - gap["target_mm"] for gap in gaps])
        self.tolerance = np.array([gap["tolerance_mm"] for gap in gaps])

    def loss(self, x) -> float:
        return float((((self.off - self.gaps @ x) / self.tolerance) ** 2).sum() + 1e-6 * x @ x)

    def slope(self, x):
        return -2 * self.gaps.T @ ((self.off - self.gaps @ x) / self.tolerance**2) + 2e-6 * x

    def can_be(self, panels) -> bool:
        """Whether these panels alone bring every gap in, by scipy's interior points."""
        columns = np.concatenate([np.arange(6 * p, 6 * p + 6) for p in panels])
        rows = np.vstack([self.hinges, -self.hinges, self.gaps, -self.gaps])[:, columns]
        limits = np.concatenate([self.high, -self.low, self.tolerance + self.off, self.tolerance - self.off])
        return (
            optimize.linprog(np.zeros(len(columns)), rows, limits, bounds=(None, None), method="highs-ipm").status == 0
        )

    def least(self, panels, *, gaps: bool):
        """The least sum with these panels moving alone, by scipy's SLSQP."""
        mask = np.repeat(np.isin(np.arange(len(self.gaps.T) // 6), panels), 6)
        rows = np.vstack([self.hinges, -self.hinges, *([self.gaps, -self.gaps] if gaps else [])])
        limits = np.concatenate(
            [self.high, -self.low, *([self.tolerance + self.off, self.tolerance - self.off] if gaps else [])]
        )
        found = optimize.minimize(
            lambda y: self.loss(np.where(mask, y, 0.0)),
            np.zeros(len(mask)),
            jac=lambda y: np.where(mask, self.slope(np.where(mask, y, 0.0)), 0.0),
            constraints=[
                {
                    "type": "ineq",
                    "fun": lambda y: limits - rows @ np.where(mask, y, 0.0),
                    "jac": lambda y: -rows * mask,
                }
            ],
            method="SLSQP",
            options={"maxiter": 800, "ftol": 1e-14},
        )
        return found.fun

    def x_of(self, moves, off):
        """The moves x by which hinges go as told and gaps end as far off as told: there is one."""
        hinges = np.concatenate([np.ravel(list(of.values())) for of in moves.values()])
        rows, wanted = np.vstack([self.hinges, self.gaps]), np.concatenate([hinges, self.off - off])
        x = np.linalg.lstsq(rows, wanted, rcond=None)[0]
        assert rows @ x == pytest.approx(wanted, abs=1e-6)
        return x


def off_by(request, told):
    return np.array([one.predicted_mm - gap["target_mm"] for one, gap in zip(told, request["gaps"], strict=True)])


@pytest.mark.parametrize("seed", range(10))
def test_all_at_once_is_the_least_of_a_general_optimiser(seed) -> None:
    request = face(seed, panels=3, wrong=2, reach=(4.0, 1.0)[seed % 2], tolerance=(1.0, 0.5, 0.2)[seed % 3])
    found, numbers = hung(request), InNumbers(request)
    everything = range(3)
    if found.verdict == "as_is":
        assert np.all(np.abs(numbers.off) <= numbers.tolerance)
        return
    assert (found.verdict == "structure") == (not numbers.can_be(everything))
    x = numbers.x_of(found.moves, off_by(request, found.gaps))
    assert numbers.loss(x) <= numbers.least(everything, gaps=found.verdict == "adjust") * (1 + 1e-6) + 1e-9
    assert np.all(numbers.hinges @ x <= numbers.high + 1e-7)
    assert np.all(numbers.hinges @ x >= numbers.low - 1e-7)
    assert all(gap.within for gap in found.gaps) == (found.verdict == "adjust")


@pytest.mark.parametrize("seed", range(12))
def test_no_smaller_set_of_panels_will_do_and_none_as_small_does_better(seed) -> None:
    request = face(seed, panels=5, wrong=1 + seed % 4, reach=(4.0, 1.5)[seed % 2], tolerance=(1.0, 0.6)[seed % 2])
    found, numbers = hung(request), InNumbers(request)
    assert found.verdict == "adjust"
    names = [panel["id"] for panel in request["panels"]]
    touched = [names.index(name) for name in found.touch.panels]
    sets = [panels for size in range(6) for panels in combinations(range(5), size) if size and numbers.can_be(panels)]
    fewest = min(map(len, sets))
    assert len(touched) == fewest
    assert found.touch.proven
    assert all(gap.within for gap in found.touch.gaps)
    moves = {name: found.touch.moves.get(name, {"h0": (0, 0, 0), "h1": (0, 0, 0)}) for name in names}
    numbers.x_of(moves, off_by(request, found.touch.gaps))
    weight = float(((off_by(request, found.touch.gaps) / numbers.tolerance) ** 2).sum())
    best = min(numbers.least(panels, gaps=True) for panels in sets if len(panels) == fewest)
    assert weight <= best * (1 + 1e-6) + 1e-9


def test_a_line_of_gaps_by_hand() -> None:
    """Panels that only slide along the vehicle: the rear one may go back by 0.8 and no more, so the next one follows it."""
    wide = [-9.0, 9.0]

    def slides(x, name, reach):
        return {
            "id": name,
            "hinges": [
                {"id": f"h{k}", "at": [x, y, 0.0], "range": {"length": reach, "width": wide, "height": wide}}
                for k, y in enumerate((400.0, -400.0))
            ],
        }

    def gap(x, name, a, b, mm, way=1.0):
        at, normal = [x, 0.0, 0.0], [way, 0.0, 0.0]
        return {"id": name, "a": a, "b": b, "at": at, "normal": normal, "mm": mm, "target_mm": 4.0, "tolerance_mm": 1.0}

    request = {
        "panels": [
            slides(-500.0, "rear door", [-0.8, 0.8]),
            slides(0.0, "front door", wide),
            slides(500.0, "wing", wide),
        ],
        "gaps": [
            gap(-900.0, "quarter", "rear door", None, 5.5, -1.0),
            gap(-250.0, "doors", "rear door", "front door", 6.0),
            gap(250.0, "wing", "front door", "wing", 2.0),
            gap(900.0, "lamp", "wing", None, 4.0),
        ],
    }
    found = hung(request)
    # back by 0.8 opens the rear gap to 4.7; of the three gaps that are left, 6.8 + 2 + 4 are shared out: 4.2667 each
    assert [round(g.predicted_mm, 4) for g in found.gaps] == [4.7, 4.2667, 4.2667, 4.2667]
    assert found.touch.panels == ("rear door", "front door")
    assert found.touch.moves["front door"]["h0"][0] == pytest.approx(-2.4, abs=1e-5)
    assert [step.panel for step in found.steps] == ["rear door", "front door"]
    assert [[round(g.predicted_mm, 3) for g in step.gaps] for step in found.steps] == [
        [4.7, 6.8, 2.0, 4.0],
        [4.7, 4.4, 4.4, 4.0],
    ]
    other = hung({**request, "order": ["wing", "front door", "rear door"]})
    assert [step.panel for step in other.steps] == ["front door", "rear door"]
    assert other.steps[-1].gaps == found.steps[-1].gaps


@pytest.mark.parametrize("seed", range(8))
def test_one_panel_alone_is_that_of_hang_panel(seed) -> None:
    request = face(seed, panels=1, wrong=seed % 2, reach=(4.0, 0.5, 1.5)[seed % 3], tolerance=(1.0, 0.3)[seed % 2])
    alone = {
        "hinges": request["panels"][0]["hinges"],
        "gaps": [{key: value for key, value in gap.items() if key not in ("a", "b")} for gap in request["gaps"]],
    }
    found, other = hung(request), hang_panel(HangPanel.model_validate(alone, strict=False))
    assert (found.verdict, found.moves["p0"], found.gaps) == (other.verdict, other.moves, other.gaps)
    assert (found.needed and found.needed["p0"], found.needed_mm) == (other.needed, other.needed_mm)
    assert (found.touch is None) == (found.verdict == "structure")
    assert len(found.steps) == (found.verdict != "as_is")


def test_where_no_moves_will_do_the_ranges_say_what_would() -> None:
    request = face(3, panels=3, wrong=3, reach=3.0)
    for panel in request["panels"]:
        for hinge in panel["hinges"]:
            hinge["range"] = {axis: [-0.2, 0.2] for axis in AXES}
    found = hung(request)
    assert (found.verdict, found.touch) == ("structure", None)
    assert len(found.steps) == 3
    assert found.steps[-1].gaps == found.gaps
    wider = json.loads(json.dumps(request))
    for panel in wider["panels"]:
        for hinge in panel["hinges"]:
            hinge["range"] = {axis: list(ends) for axis, ends in found.needed[panel["id"]][hinge["id"]].items()}
    assert hung(wider).verdict == "adjust"
    total = sum(
        low_was - low + high - high_was
        for panel, was in zip(wider["panels"], request["panels"], strict=True)
        for hinge, hinge_was in zip(panel["hinges"], was["hinges"], strict=True)
        for (low, high), (low_was, high_was) in zip(hinge["range"].values(), hinge_was["range"].values(), strict=True)
    )
    assert total == pytest.approx(found.needed_mm)
    apart = [{**request["gaps"][0], "id": f"{k}", "mm": mm} for k, mm in enumerate((4.0, 9.0))]
    hopeless = hung({**request, "gaps": [*request["gaps"], *apart]})
    assert (hopeless.verdict, hopeless.needed, hopeless.needed_mm) == ("structure", None, None)


def test_what_hangs_right_is_left_alone_and_what_has_no_gap_stays() -> None:
    fair = hung(face(1, panels=3, wrong=0))
    assert (fair.verdict, fair.touch.panels, fair.steps) == ("as_is", (), ())
    assert not any(any(moves) for of in fair.moves.values() for moves in of.values())
    request = face(2, panels=3, wrong=1)
    lone = {"id": "flap", "hinges": [{**request["panels"][0]["hinges"][0], "id": "h"}]}
    found = hung({**request, "panels": [lone, *request["panels"]]})
    assert found.moves["flap"] == {"h": (0.0, 0.0, 0.0)}
    assert "flap" not in found.touch.panels


@pytest.mark.parametrize("seed", range(4))
def test_of_more_than_eight_panels_none_of_those_touched_can_stay(seed, monkeypatch) -> None:
    request = face(seed, panels=11, wrong=4)
    proven = hung(request)
    monkeypatch.setattr("fairsquare.core.fit.panels._MOST_SETS", 12)
    found, numbers = hung(request), InNumbers(request)
    assert proven.touch.proven
    assert not found.touch.proven
    assert len(proven.touch.panels) <= len(found.touch.panels)
    numbered = [int(name[1:]) for name in found.touch.panels]
    assert numbers.can_be(numbered)
    assert not any(numbers.can_be([p for p in numbered if p != left]) for left in numbered)


def put(request, *way, value):
    """The request with another value somewhere."""
    request = json.loads(json.dumps(request))
    at = request
    for step in way[:-1]:
        at = at[step]
    at[way[-1]] = value
    return request


@pytest.mark.parametrize(
    ("way", "value", "field"),
    [
        (("panels",), [], "panels"),
        (("panels", 1, "id"), "p0", "panels.1.id"),
        (("panels", 1, "hinges"), [], "panels.1.hinges"),
        (("panels", 1, "hinges", 1, "id"), "h0", "panels.1.hinges.1.id"),
        (("panels", 0, "hinges", 0, "range", "width"), [1, 2], "panels.0.hinges.0.range.width"),
        (("gaps",), [], "gaps"),
        (("gaps", 2, "id"), "g00", "gaps.2.id"),
        (("gaps", 2, "normal"), [0, 0, 0], "gaps.2.normal"),
        (("gaps", 2, "tolerance_mm"), 0, "gaps.2.tolerance_mm"),
        (("gaps", 2, "a"), "boot", "gaps.2.a"),
        (("gaps", 2, "b"), "boot", "gaps.2.b"),
        (("gaps", 2, "b"), "p0", "gaps.2.b"),
        (("order",), ["p1", "p0"], "order"),
        (("order",), ["p1", "p0", "p0"], "order"),
        (("order",), ["p1", "p0", "p2", "p3"], "order"),
    ],
)
def test_panels_that_cannot_be_are_refused_by_name(way, value, field) -> None:
    request = put(face(1, panels=3), *way, value=value)
    with pytest.raises(FairSquareError) as refused:
        CATALOGUE["hang-panels"].run_json(json.dumps(request))
    assert refused.value.field == field


def test_faces_of_eight_panels_are_proven() -> None:
    found = hung(face(5, panels=8, wrong=4, reach=2.0, tolerance=0.5))
    assert found.verdict == "adjust"
    assert found.touch.proven
