"""One picture: against scipy's least squares on residuals written anew, a published levelling net, and simulated jobs."""

import json

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import least_squares
from scipy.spatial.transform import Rotation
from scipy.stats import chi2

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.errors import FairSquareError
from fairsquare.core.measure.adjust import adjust_network
from fairsquare.core.measure.checking import log_upper_tail
from fairsquare.core.measure.conformity import JudgePoints, judge_points
from fairsquare.core.measure.network import equations_of, layout_of
from fairsquare.core.measure.settle import linearise
from fairsquare.core.measure.solve import _start, priors_of, solve_network
from fairsquare.core.sheet.model import points_by_code
from tests.core.network import (
    OTHERS,
    SIGHT,
    TRUSTED,
    built,
    careful_job,
    computed,
    instrument_job,
    read,
    request,
    sheet,
)


def solved_by_scipy(asked):
    """Return the minimum and (JᵀJ)⁻¹ of the same sum of squares, over points and set-up, by scipy from its own derivatives."""
    points = {p.code: np.array(p.xyz) for p in asked.sheet.points}
    observations = [o.model_dump() for o in asked.observations]
    kind = asked.setups[0].kind
    start = _start(asked, points_by_code(asked.sheet), layout_of(list(points), asked.setups))
    base, codes = np.array(list(points.values())), list(points)
    sigmas = np.array([0.5 if code in asked.trusted else 100.0 for code in codes])[:, None]

    def residuals(theta):
        moved, own = theta[: base.size].reshape(-1, 3), theta[base.size :]
        places = dict(zip(codes, base + moved, strict=True))
        sights, poses, prior = {}, {}, np.zeros(0)
        if kind == "sight":
            sights = {"line": dict(zip(SIGHT, own, strict=True))}
            prior = own / [2000, 0.2, 2000, 0.2, 0.2]
        else:
            turn = Rotation.from_rotvec(own[:3]).as_matrix()
            poses = {"arm": (turn @ start.rotations[0], start.translations[0] + own[3:])}
        seen = []
        for one in observations:
            values = one.get("xyz") or [one[key] for key in ("mm", "pin_mm", "level_mm") if one.get(key) is not None]
            seen.append((np.array(values) - computed(one, places, sights, poses)) / one["sigma"])
        return np.concatenate([*seen, (moved / sigmas).ravel(), prior])

    unknowns = base.size + (5 if kind == "sight" else 6)
    found = least_squares(residuals, np.zeros(unknowns), x_scale="jac", xtol=1e-15, ftol=1e-15, gtol=1e-12)
    covariance = np.linalg.inv(found.jac.T @ found.jac)[: base.size, : base.size]
    return dict(zip(codes, base + found.x[: base.size].reshape(-1, 3), strict=True)), covariance, 2 * found.cost


@pytest.mark.parametrize("tools", ["sight", "instrument"])
def test_the_minimum_and_covariance_are_scipys(tools) -> None:
    random = np.random.default_rng(11)
    places = built(random)
    job = careful_job(random, places) if tools == "sight" else instrument_job(random, places)[0]
    asked = request(job, setup="line" if tools == "sight" else "arm", snoop=False, joint=list(places))
    mine = adjust_network(asked)
    theirs, covariance, _ = solved_by_scipy(asked)
    for code, place in theirs.items():
        assert np.allclose(mine.points[code].xyz, place, atol=2e-4)
    assert np.allclose(mine.joint.covariance, covariance, rtol=2e-3, atol=2e-4)
    assert np.allclose(mine.points["F1L"].covariance, np.array(mine.joint.covariance)[18:21, 18:21], atol=1e-12)


def test_the_bending_is_the_derivative_of_the_slopes() -> None:
    """The whole second derivative of every kind, against second differences of what is read along random ways."""
    random = np.random.default_rng(3)
    places = built(random)
    plan = [
        *careful_job(random, places),
        {"id": "d", "kind": "difference", "axis": "width", "a": "F1L", "b": "F2L", "sigma": 1.0, "mm": 3.0},
        *[{**o, "id": f"i{o['id']}"} for o in instrument_job(random, places)[0]],
    ]
    asked = request(plan, setups=[{"id": "line", "kind": "sight"}, {"id": "arm", "kind": "instrument"}])
    layout = layout_of([p.code for p in asked.sheet.points], asked.setups)
    equations = equations_of(asked.observations, layout)
    state = _start(asked, points_by_code(asked.sheet), layout)
    state = state.moved(np.append(random.normal(0, 1, layout.idle) * 0.05, 0.0))
    pull = random.normal(0, 1, (len(equations), 3)) * equations.given

    blocks, whole = equations.bending(state, pull), np.zeros((layout.size, layout.size))
    np.add.at(whole, (equations.columns[:, :, None], equations.columns[:, None, :]), blocks)

    def along(step):
        return float(np.sum(pull * equations.computed(state.moved(step))[0]))

    scale = np.append(np.full(layout.idle, 0.3), 0.0)
    scale[layout.setups["arm"] : layout.setups["arm"] + 3] = 1e-3
    for _ in range(20):
        step = random.normal(0, 1, layout.size) * scale
        seen = along(step) - 2 * along(0 * step) + along(-step)
        assert seen == pytest.approx(step @ whole @ step, rel=2e-3, abs=1e-6)


def test_a_published_levelling_net() -> None:
    """Seven lines between two bench marks (Ghilani and Wolf, Adjustment Computations, ch. 12; figures from memory)."""
    lines = [("X", "A", 5.10, 4), ("A", "Y", 2.34, 3), ("Y", "C", -1.25, 2), ("C", "X", -6.13, 3)]
    lines += [("A", "B", -0.68, 2), ("Y", "B", -3.00, 2), ("B", "C", 1.70, 2)]
    heights = {"X": 100.0, "Y": 107.5, "A": 105.0, "B": 104.0, "C": 106.0}
    points = [{"code": code, "xyz": [100.0 * k, 0.0, z]} for k, (code, z) in enumerate(heights.items())]
    levelled = adjust_network(
        request(
            [
                {"id": f"{k}", "kind": "difference", "axis": "height", "a": b, "b": a, "mm": dz, "sigma": miles**0.5}
                for k, (a, b, dz, miles) in enumerate(lines)
            ],
            setup="",
            sheet={"name": "net", "construction": "unibody", "build_sigma_mm": 0.0, "points": points},
            trusted=["X", "Y"],
            displaced_sigma_mm=1e5,
            snoop=False,
        )
    )
    found = {code: levelled.points[code].xyz[2] for code in "ABC"}
    assert found == pytest.approx({"A": 105.150, "B": 104.489, "C": 106.197}, abs=6e-4)
    assert levelled.dof == pytest.approx(7 - 3, abs=1e-6)


def test_a_pure_trilateration_is_the_meeting_of_circles() -> None:
    """Two distances seen from above from two fixed points: the place, and sigma by propagation, in closed form."""
    points = [
        {"code": c, "xyz": xyz}
        for c, xyz in (("A", [0.0, 0.0, 0.0]), ("B", [1000.0, 0.0, 50.0]), ("P", [400.0, 700.0, 0.0]))
    ]
    a, b = 820.0, 930.0
    x = (a**2 - b**2 + 1000.0**2) / 2000.0
    y = (a**2 - x**2) ** 0.5
    met = adjust_network(
        request(
            [
                {"id": end, "kind": "span", "a": "P", "b": end, "mode": "datum_parallel", "mm": mm, "sigma": 1.0}
                for end, mm in (("A", a), ("B", b))
            ],
            setup="",
            sheet={"name": "t", "construction": "ladder", "build_sigma_mm": 0.0, "points": points},
            trusted=["A", "B"],
            displaced_sigma_mm=1e6,
        )
    )
    slopes = np.array([[x / a, y / a], [(x - 1000) / b, y / b]])
    assert met.points["P"].xyz[:2] == pytest.approx((x, y), abs=1e-3)
    assert np.allclose(np.array(met.points["P"].covariance)[:2, :2], np.linalg.inv(slopes.T @ slopes), rtol=1e-4)
    assert met.points["P"].determined == (True, True, False)
    assert met.p is None


def test_the_uncertainty_said_is_the_uncertainty_seen() -> None:
    """Errors of 150 simulated jobs in units of their sigma have unit spread, and χ² its mean (Monte Carlo)."""
    random = np.random.default_rng(8)
    pulls, misfits, dofs = [], [], []
    for _ in range(150):
        places = built(random)
        found = adjust_network(request(careful_job(random, places), snoop=False))
        pulls += [(np.array(found.points[c].xyz) - places[c]) / found.points[c].sigma for c in OTHERS]
        misfits.append(found.chi2)
        dofs.append(found.dof)
    assert np.std(pulls, axis=0) == pytest.approx(1, abs=0.06)
    assert np.mean(misfits) == pytest.approx(np.mean(dofs), abs=4 * np.sqrt(2 * np.mean(dofs) / 150))


def test_planted_blunders_are_named_and_good_readings_kept() -> None:
    random = np.random.default_rng(5)
    named = wrongly = 0
    for _ in range(40):
        job = careful_job(random, built(random))
        spans = [one for one in job if one["kind"] == "span"]
        bad = spans[random.integers(len(spans))]
        bad["mm"] += random.choice([-1, 1]) * random.uniform(12, 40)
        found = adjust_network(request(job))
        named += bad["id"] in found.rejected or any(bad["id"] in group for group in found.suspects)
        wrongly += len(set(found.rejected) - {bad["id"]} - {i for group in found.suspects for i in group})
    assert named >= 38
    assert wrongly <= 6


def test_a_moved_reference_is_distrusted_and_the_rest_stands() -> None:
    random = np.random.default_rng(6)
    places = built(random)
    places["C1L"] = places["C1L"] + [9.0, 0.0, 0.0]
    found = adjust_network(request(careful_job(random, places)))
    assert found.distrusted == ("C1L",)
    assert found.places["C1L"].distrusted
    assert found.points["C1L"].deviation[0] == pytest.approx(9, abs=2)
    assert found.rejected == ()


def test_two_readings_that_accuse_each_other_are_both_put_aside() -> None:
    """With one check too few the wrong one cannot be told: a group of suspects, and neither is used."""
    random = np.random.default_rng(2)
    places = built(random)
    job = [one for one in careful_job(random, places) if one["kind"] != "span" or one["a"] != "F2L"]
    for name, off in (("p", 0.0), ("q", 40.0)):
        span = {"id": name, "kind": "span", "a": "F2L", "b": "C1L", "mode": "point_to_point", "sigma": 1.0}
        job.append({**read(span, places, random), "id": name})
        job[-1]["mm"] += off
    found = adjust_network(request(job))
    assert ("p", "q") in found.suspects
    assert set(found.rejected) == {"p", "q"}
    assert not found.points["F2L"].determined[0]


def test_p_values_are_the_tail_of_chi_square() -> None:
    at = np.array([0.5, 3.0, 20.0, 300.0])
    for dof in (1, 2, 3):
        said = log_upper_tail(at, np.full(4, dof))
        assert np.allclose(said, chi2.logsf(at, dof), rtol=1e-10)
    assert np.isfinite(log_upper_tail(np.array([1e7]), np.array([3]))).all()


def test_crooked_valleys_are_followed_to_their_floor() -> None:
    """Few readings, some grossly wrong: the search settles, and no way down is left (checked along random ways)."""
    random = np.random.default_rng(31)
    for _ in range(20):
        job = [one for one in careful_job(random, built(random)) if random.random() < 0.45]
        for one in random.choice([o for o in job if o["kind"] == "span"], 2):
            one["mm"] += float(random.uniform(40, 250))
        solved = solve_network(request(job, snoop=False))
        priors = priors_of(solved.request, solved.points, solved.layout, solved.trusted)
        for _ in range(6):
            step = random.normal(0, 1e-3, solved.layout.size) * np.sqrt(np.diag(solved.covariance))
            near = linearise(solved.equations, solved.in_use, priors, solved.state.moved(step))
            assert near.cost >= solved.at.cost - 1e-7


def test_the_order_of_readings_changes_nothing() -> None:
    random = np.random.default_rng(4)
    job = careful_job(random, built(random))
    there, back = adjust_network(request(job)), adjust_network(request(job[::-1]))
    for code, point in there.points.items():
        assert point.xyz == pytest.approx(back.points[code].xyz, abs=1e-5)
    assert [one.id for one in back.observations] == [one["id"] for one in job[::-1]]


def test_from_a_cold_start_nothing_is_known_and_three_readings_say_what_they_say() -> None:
    random = np.random.default_rng(1)
    places = built(random)
    none = adjust_network(request([], setup=""))
    assert not any(any(point.determined) for point in none.points.values())
    three = [
        {"id": f"{k}", **read({"kind": "height", "code": code, "sigma": 1.0}, places, random)}
        for k, code in enumerate(OTHERS[:3])
    ]
    found = adjust_network(request(three, setup=""))
    assert [found.points[code].determined for code in OTHERS[:4]] == [(False, False, True)] * 3 + [(False,) * 3]


KINDS = ("height", "offset", "gauge", "span", "flat")
PICKED = st.tuples(st.sampled_from(KINDS), st.sampled_from(OTHERS), st.sampled_from(TRUSTED))


@settings(max_examples=60, deadline=None)
@given(
    st.lists(PICKED, max_size=14),
    st.integers(0, 10**6),
)
def test_what_is_not_determined_is_never_called_fair(picked, seed) -> None:
    """Whatever is read, with whatever: no coordinate is fair without readings that give it to within its tolerance."""
    random = np.random.default_rng(seed)
    places = built(random, damage=12.0)
    job = []
    for kind, code, end in dict.fromkeys(picked):
        plan = {"kind": kind, "sigma": 1.0}
        if kind in ("height", "offset"):
            plan |= {"setup": "line", "code": code}
        elif kind == "gauge":
            plan |= {"setup": "line", "a": f"{code[:2]}L", "b": f"{code[:2]}R"}
        else:
            mode = "datum_parallel" if kind == "flat" else "point_to_point"
            plan = {"kind": "span", "sigma": 1.0, "a": code, "b": end, "mode": mode}
        job.append({"id": f"o{len(job)}", **read(plan, places, random)})
    found = adjust_network(request(job))
    judged = judge_points(
        JudgePoints(sheet=request([]).sheet, points={c: p.model_dump() for c, p in found.points.items()})
    )
    touched = {c for o in job for c in (o.get("code"), o.get("a"), o.get("b"))}
    for code, point in found.points.items():
        for axis in range(3):
            if not point.determined[axis] or code not in touched:
                assert judged.points[code].states[axis] == "unread"
    assert all(judged.points[code].state != "fair" for code in OTHERS if code not in touched)


@pytest.mark.parametrize(
    ("spoil", "field", "words"),
    [
        (lambda r: r["observations"][0].update(code="F1"), "observations.0.code", "not on the sheet"),
        (lambda r: r["observations"][0].update(setup="laser"), "observations.0.setup", "not declared"),
        (lambda r: r["setups"].append({"id": "line", "kind": "sight"}), "setups.1.id", "twice"),
        (lambda r: r["setups"].append({"id": "arm", "kind": "instrument"}), "setups.1", "0 different points"),
        (lambda r: r["observations"][1].update(id="o0"), "observations.1.id", "twice"),
        (lambda r: r["observations"][-1].update(b=r["observations"][-1]["a"]), None, "against itself"),
        (
            lambda r: r["observations"][24].update(pin_mm=None, level_mm=None),
            "observations.24.pin_mm",
            "neither pin nor level",
        ),
        (lambda r: r.update(trusted=["C9L"]), "trusted.0", "not on the sheet"),
        (lambda r: r.update(joint=["C9L"]), "joint.0", "not on the sheet"),
        (lambda r: r["sheet"]["points"].append(r["sheet"]["points"][0]), "sheet.points.12.code", "twice"),
        (lambda r: r["observations"][0].update(sigma=0.0), "observations.0.height.sigma", "greater than 0"),
    ],
)
def test_what_cannot_be_part_of_a_picture_is_refused_by_name(spoil, field, words) -> None:
    random = np.random.default_rng(0)
    whole = {
        "sheet": sheet(),
        "trusted": list(TRUSTED),
        "setups": [{"id": "line", "kind": "sight"}],
        "observations": careful_job(random, built(random)),
        "joint": [],
    }
    spoil(whole)
    with pytest.raises(FairSquareError, match=words) as fault:
        CATALOGUE["adjust-network"].run_json(json.dumps(whole))
    assert field is None or fault.value.field == field


def test_an_instrument_on_a_line_is_refused_and_any_attitude_is_taken() -> None:
    random = np.random.default_rng(9)
    places = built(random)
    job, (rotation, translation) = instrument_job(random, places)
    found = adjust_network(request(job, setup="arm"))
    assert np.allclose(found.setups["arm"].rotation, rotation, atol=1e-3)
    assert np.allclose(found.setups["arm"].translation, translation, atol=3)
    line = [{**one, "xyz": [100.0 * k, 0.0, 0.0]} for k, one in enumerate(job[:5])]
    with pytest.raises(FairSquareError, match="one line"):
        adjust_network(request(line, setup="arm"))
