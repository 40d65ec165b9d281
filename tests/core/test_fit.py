"""Hanging a panel against scipy's bounded least squares and its general optimiser; openings against a closed form and a search."""

import json

import numpy as np
import pytest
from scipy import optimize

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.fit.hang import HangPanel, hang_panel
from fairsquare.core.fit.square import SPAN_NAMES, SquareUp, square_up

WIDE = {"length": (-5, 5), "width": (-5, 5), "height": (-5, 5)}


def panel(random, *, ranges=3.0, off=1.0, tolerance=1.0):
    """A door on two hinges with ten gaps round it."""
    hinges = [
        {
            "id": f"h{k}",
            "at": [0, 0, z],
            "range": {a: sorted((float(-random.uniform(0, ranges)), float(random.uniform(0, ranges)))) for a in WIDE},
        }
        for k, z in enumerate((100, 700))
    ]
    gaps = []
    for k in range(10):
        normal = np.eye(3)[k % 3] * random.choice([-1, 1])
        gaps.append(
            {
                "id": f"g{k}",
                "at": random.uniform((-1000, -60, 0), (20, 60, 900)).tolist(),
                "normal": (normal * random.uniform(0.5, 3)).tolist(),
                "mm": float(4 + random.normal(0, off)),
                "target_mm": 4.0,
                "tolerance_mm": tolerance,
            }
        )
    return {"hinges": hinges, "gaps": gaps}


def hung(request):
    return hang_panel(HangPanel.model_validate(request, strict=False))


def in_numbers(request):
    """Rows by which x = (t, 1000 ω) moves hinges and gaps, by the formula of the calculation, written anew."""
    at = np.array([h["at"] for h in request["hinges"]], float)
    middle = at.mean(0)

    def moves(p):
        rows = np.zeros((3, 6))
        for j in range(6):
            e = np.eye(6)[j]
            rows[:, j] = e[:3] + np.cross(e[3:] / 1000, p - middle)
        return rows

    hinges = np.array([moves(p) for p in at])
    normals = np.array([np.array(g["normal"]) / np.linalg.norm(g["normal"]) for g in request["gaps"]])
    gaps = np.array([n @ moves(np.array(g["at"])) for n, g in zip(normals, request["gaps"], strict=True)])
    off = np.array([g["mm"] - g["target_mm"] for g in request["gaps"]])
    return hinges, gaps, off, np.array([g["tolerance_mm"] for g in request["gaps"]])


def loss(x, gaps, off, tolerance):
    return float(np.sum(((off - gaps @ x) / tolerance) ** 2) + 1e-6 * x @ x)


@pytest.mark.parametrize("seed", range(25))
def test_the_least_move_is_that_of_a_general_optimiser(seed) -> None:
    request = panel(np.random.default_rng(seed), off=0.5 + seed % 5 * 0.4, tolerance=0.5 + seed % 3 * 0.75)
    found = hung(request)
    hinges, gaps, off, tolerance = in_numbers(request)
    low = np.array([[h["range"][a][0] for a in WIDE] for h in request["hinges"]]).ravel()
    high = np.array([[h["range"][a][1] for a in WIDE] for h in request["hinges"]]).ravel()
    rows = hinges.reshape(-1, 6)
    held = [{"type": "ineq", "fun": lambda x: np.concatenate([high - rows @ x, rows @ x - low])}]
    if found.verdict == "adjust":
        held.append({"type": "ineq", "fun": lambda x: tolerance - np.abs(off - gaps @ x)})
    other = optimize.minimize(
        loss,
        np.zeros(6),
        (gaps, off, tolerance),
        constraints=held,
        method="SLSQP",
        options={"maxiter": 500, "ftol": 1e-14},
    )
    x = np.linalg.lstsq(
        np.vstack([rows, gaps]),
        np.concatenate(
            [
                np.ravel(list(found.moves.values())),
                [g["mm"] for g in request["gaps"]] - np.array([g.predicted_mm for g in found.gaps]),
            ]
        ),
        rcond=None,
    )[0]
    if found.verdict == "as_is":
        assert not np.any(list(found.moves.values()))
        return
    assert loss(x, gaps, off, tolerance) <= other.fun * (1 + 1e-6) + 1e-9
    assert np.all(rows @ x <= high + 1e-7)
    assert np.all(rows @ x >= low - 1e-7)
    assert all(g.within for g in found.gaps) == (found.verdict == "adjust")


@pytest.mark.parametrize("seed", range(6))
def test_with_one_hinge_that_does_not_turn_it_is_bounded_least_squares(seed) -> None:
    """All gaps in line with the hinge: only its three moves count, and scipy's lsq_linear solves the same."""
    random = np.random.default_rng(seed)
    hinge = {"id": "h", "at": [0, 0, 0], "range": dict.fromkeys(WIDE, (-0.6, 0.8))}
    gaps = [
        {
            "id": f"g{k}",
            "at": (np.eye(3)[k % 3] * 500).tolist(),
            "normal": np.eye(3)[k % 3].tolist(),
            "mm": float(4 + random.normal(0, 2)),
            "target_mm": 4.0,
            "tolerance_mm": 0.2,
        }
        for k in range(9)
    ]
    request = {"hinges": [hinge], "gaps": gaps}
    found = hung(request)
    _, rows, off, tolerance = in_numbers(request)
    matrix = np.vstack([rows[:, :3] / tolerance[:, None], 1e-3 * np.eye(3)])
    other = optimize.lsq_linear(matrix, np.concatenate([off / tolerance, np.zeros(3)]), (-0.6, 0.8), tol=1e-14)
    assert found.verdict == "structure"
    assert found.moves["h"] == pytest.approx(tuple(other.x), abs=1e-6)


def test_what_would_be_needed_lets_every_gap_in_and_no_less_does() -> None:
    tried = (panel(np.random.default_rng(seed), ranges=0.3, off=1.4, tolerance=1.8) for seed in range(60))
    request, found = next((one, out) for one in tried if (out := hung(one)).needed is not None)
    assert found.verdict == "structure"
    assert found.needed_mm > 0
    wider = json.loads(json.dumps(request))
    for hinge in wider["hinges"]:
        hinge["range"] = {a: list(ends) for a, ends in found.needed[hinge["id"]].items()}
        for a, (low, high) in found.needed[hinge["id"]].items():
            own = next(h for h in request["hinges"] if h["id"] == hinge["id"])["range"][a]
            assert low <= own[0]
            assert high >= own[1]
    assert hung(wider).verdict == "adjust"
    for hinge in wider["hinges"]:
        was = next(h for h in request["hinges"] if h["id"] == hinge["id"])["range"]
        hinge["range"] = {
            a: [0.9 * e + 0.1 * w for e, w in zip(ends, was[a], strict=True)] for a, ends in hinge["range"].items()
        }
    assert hung(wider).verdict == "structure"
    apart = [{**request["gaps"][0], "id": "a", "mm": 4.0}, {**request["gaps"][0], "id": "b", "mm": 9.0}]
    hopeless = hung({**request, "gaps": apart})
    assert (hopeless.verdict, hopeless.needed, hopeless.needed_mm) == ("structure", None, None)


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"hinges": []}, "hinges"),
        ({"gaps": []}, "gaps"),
        ({"hinges": [{"id": "h", "at": [0, 0, 0], "range": {**WIDE, "width": [1, 2]}}]}, "hinges.0.range.width"),
        (
            {"gaps": [{"id": "g", "at": [0, 0, 0], "normal": [0, 0, 0], "mm": 1, "target_mm": 1, "tolerance_mm": 1}]},
            "gaps.0.normal",
        ),
        (
            {"gaps": [{"id": "g", "at": [0, 0, 0], "normal": [1, 0, 0], "mm": 1, "target_mm": 1, "tolerance_mm": 0}]},
            "gaps.0.tolerance_mm",
        ),
    ],
)
def test_a_panel_that_cannot_be_is_refused_by_name(change, field) -> None:
    request = {**panel(np.random.default_rng(1)), **change}
    with pytest.raises(FairSquareError) as refused:
        CATALOGUE["hang-panel"].run_json(json.dumps(request))
    assert refused.value.field == field


def spans(corners):
    at = dict(zip("abcd", np.array(corners, float), strict=True))
    return {name: float(np.linalg.norm(at[name[0]] - at[name[1]])) for name in SPAN_NAMES}


def squared(read, wanted, **other):
    return square_up(SquareUp.model_validate({"spans_mm": read, "target_mm": wanted, **other}, strict=False))


SQUARE = [(0, 0), (1000, 0), (1000, 800), (0, 800)]


@pytest.mark.parametrize("lean", [-1.5, 0.4, 3.0])
def test_an_opening_that_leans_is_drawn_in_across_its_long_diagonal(lean) -> None:
    """A rectangle leaning by an angle keeps its sides; each corner opens or closes by that angle (plane geometry)."""
    turn = np.radians(lean)
    leaning = [
        (0, 0),
        (1000, 0),
        (1000 + 800 * np.sin(turn), 800 * np.cos(turn)),
        (800 * np.sin(turn), 800 * np.cos(turn)),
    ]
    found = squared(spans(leaning), spans(SQUARE))
    assert found.shear_deg == pytest.approx(-lean, abs=1e-6)
    assert found.misclosure_mm == pytest.approx(0, abs=1e-6)
    assert (found.verdict, found.draw_in) == ("out_of_square", "ac" if lean > 0 else "bd")
    assert found.diagonal_sigma_mm == pytest.approx(np.sqrt(2) * 0.5)


def test_the_misclosure_is_that_of_a_search_over_all_openings() -> None:
    random = np.random.default_rng(2)
    read = {name: mm + random.normal(0, 1.5) for name, mm in spans(SQUARE).items()}
    values = np.array([read[name] for name in SPAN_NAMES])

    def off(five):
        (x, u, v, p, q) = five
        own = spans([(0, 0), (x, 0), (u, v), (p, q)])
        return np.sum((np.array([own[name] for name in SPAN_NAMES]) - values) ** 2)

    best = optimize.minimize(
        off,
        [1000, 1000, 800, 0, 800],
        method="Nelder-Mead",
        options={"xatol": 1e-9, "fatol": 1e-12, "maxiter": 20_000, "maxfev": 20_000},
    )
    assert squared(read, spans(SQUARE)).misclosure_mm == pytest.approx(np.sqrt(best.fun), abs=1e-4)


def test_verdicts_come_in_their_order() -> None:
    wanted = spans(SQUARE)
    assert squared(wanted, wanted).verdict == "square"
    larger = spans([(0, 0), (1004, 0), (1004, 804), (0, 804)])
    assert squared(larger, wanted).verdict == "size"
    assert squared({**wanted, "ac": wanted["ac"] + 9}, wanted).verdict == "remeasure"
    with pytest.raises(Refused) as refused:
        squared({**wanted, "ac": 1900.0}, wanted)
    assert refused.value.field == "spans_mm.ab"
