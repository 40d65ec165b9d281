"""Will it hold, what a hook's place takes, what comes back: textbook statics, optimality, and a simulated population."""

import json
import math
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.integrate import quad
from scipy.optimize import minimize
from scipy.stats import norm

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.errors import Refused
from fairsquare.core.pull.hold import HoldCapacity, hold_capacity
from fairsquare.core.pull.springback import NextPull, next_pull
from fairsquare.core.pull.statics import PullStatics, clear_zone, pull_statics

G = 9.80665


def held(anchors, pulls=(), mass=0.0, cg=(0.0, 0.0, 500.0), **more):
    request = {"vehicle": {"mass_kg": mass, "cg": cg}, "pulls": list(pulls), "anchors": list(anchors), **more}
    return pull_statics(PullStatics.model_validate_json(json.dumps(request)))


def clamp(name, at, stiffness=5000.0, **more):
    return {"id": name, "at": at, "kind": "clamp", "stiffness": stiffness, **more}


def stand(name, at, stiffness=5000.0, **more):
    return {"id": name, "at": at, "kind": "stand", "stiffness": stiffness, **more}


def chain(name, at, toward, stiffness=4000.0, **more):
    return {"id": name, "at": at, "kind": "chain", "toward": toward, "stiffness": stiffness, **more}


def pull(name="p", hook=(2000, 0, 400), tower=(4000, 0, 400), force=10_000.0, **more):
    return {"id": name, "hook": hook, "tower": tower, "force_n": force, **more}


FOUR = [clamp(f"c{k}", (x, y, 200)) for k, (x, y) in enumerate(((700, 700), (700, -700), (-700, 700), (-700, -700)))]


# ── statics ──────────────────────────────────────────────────────────────────


def test_four_equal_clamps_share_a_straight_pull_and_the_weight() -> None:
    """A pull at their own level in the middle: a quarter each; weight in their middle likewise (statics by hand)."""
    done = held(FOUR, [pull(hook=(2000, 0, 200), tower=(4000, 0, 200))], mass=1000, cg=(0, 0, 200))
    for carried in done.anchors.values():
        assert carried.force == pytest.approx((-2500, 0, 250 * G))


def test_a_hook_above_the_clamps_lifts_the_rear_ones_by_the_lever() -> None:
    """F·h over the wheelbase of the clamps, on two rows of two: ±F·h/(2·1400) each, by moments."""
    done = held(FOUR, [pull(hook=(2000, 0, 500), tower=(4000, 0, 500))])
    lever = 10_000 * 300 / 1400 / 2
    assert done.anchors["c0"].force[2] == pytest.approx(lever)
    assert done.anchors["c2"].force[2] == pytest.approx(-lever)


def test_a_level_table_of_three_legs() -> None:
    """Weight shared by the lever rule between stands; sideways held by one soft clamp at the middle of mass."""
    legs = [stand("a", (1000, 0, 0)), stand("b", (-500, 500, 0)), stand("c", (-500, -500, 0))]
    tie = clamp("t", (0, 0, 0), (10.0, 10.0, 0.0))
    tie2 = clamp("u", (500, 0, 0), (10.0, 10.0, 0.0))
    done = held([*legs, tie, tie2], mass=900, cg=(0, 0, 300))
    for name in "abc":
        assert done.anchors[name].force[2] == pytest.approx(300 * G, rel=1e-6)


def test_chains_only_draw_and_the_slack_one_is_named() -> None:
    ties = [chain("ahead", (1000, 0, 300), (3000, 0, 300)), chain("behind", (-1000, 0, 300), (-3000, 0, 300))]
    guides = [
        clamp(f"g{k}", at, (0.0, 9000.0, 9000.0))
        for k, at in enumerate(((800, 400, 300), (-800, 400, 300), (0, -400, 300)))
    ]
    done = held([*ties, *guides], [pull(hook=(1500, 0, 300), tower=(4000, 0, 300), force=8000.0)])
    assert done.slack == ("ahead",)
    assert done.anchors["behind"].force == pytest.approx((-8000, 0, 0))
    assert done.movement.translation[0] == pytest.approx(2.0)


def test_ram_pressure_area_and_a_block_at_the_hook() -> None:
    """70 MPa on 1000 mm² through two falls: 140 kN. Two rams on one pump draw by their areas."""
    ram = {"hook": (2000, 0, 300), "tower": (4000, 0, 300), "pressure_mpa": 70.0, "ram_area_mm2": 1000.0}
    done = held(
        FOUR, [{"id": "one", **ram, "falls": 2, "capacity_n": 100e3}, {"id": "two", **ram, "ram_area_mm2": 500.0}]
    )
    assert done.pulls["one"].force_n == pytest.approx(140e3) and done.pulls["two"].force_n == pytest.approx(35e3)
    assert done.over == ("one",)


def test_a_jack_between_two_places_asks_nothing_of_the_anchors_but_its_couple() -> None:
    inside = pull(
        "jack", hook=(500, 400, 300), tower=(900, 400, 300), reacts_at=(-500, 400, 300), reacts_capacity_n=8000
    )
    done = held(FOUR, [inside])
    assert done.resultant.force == pytest.approx((0, 0, 0)) and done.resultant.moment == pytest.approx((0, 0, 0))
    assert all(np.allclose(carried.force, 0) for carried in done.anchors.values())
    assert done.pulls["jack"].use == pytest.approx(1.25) and done.over == ("jack",)
    crooked = held(FOUR, [{**inside, "reacts_at": (-500, 0, 300)}])
    assert crooked.resultant.moment[2] == pytest.approx(-400 * 10_000)
    sides = [crooked.anchors[name].force for name in ("c0", "c1", "c2", "c3")]
    moment = sum(
        np.cross((x, y, 200), f)[2]
        for (x, y), f in zip(((700, 700), (700, -700), (-700, 700), (-700, -700)), sides, strict=True)
    )
    assert moment == pytest.approx(400 * 10_000)


@given(seed=st.integers(0, 10_000))
@settings(max_examples=60, deadline=None)
def test_forces_are_in_balance_and_each_anchor_only_does_what_it_can(seed) -> None:
    """The optimality conditions of the energy: balance, each force from its own movement, chains draw, stands push."""
    rng = np.random.default_rng(seed)
    anchors = [
        clamp(f"c{k}", list(rng.normal(0, 900, 3)), list(rng.uniform(0, 2e4, 3) * (rng.random(3) < 0.7)))
        for k in range(3)
    ]
    anchors += [
        chain(f"k{k}", list(rng.normal(0, 1500, 3)), list(rng.normal(0, 3000, 3)), float(rng.uniform(1e3, 9e3)))
        for k in range(3)
    ]
    anchors += [stand(f"s{k}", list(rng.normal(0, 1200, 3)), float(rng.uniform(1e3, 3e4))) for k in range(3)]
    pulls = [
        pull(f"p{k}", list(rng.normal(0, 2000, 3)), list(rng.normal(0, 4000, 3)), float(rng.uniform(0, 4e4)))
        for k in range(2)
    ]
    mass, cg = float(rng.uniform(0, 2500)), list(rng.normal(0, 300, 3))
    try:
        done = held(anchors, pulls, mass, cg)
    except Refused as refused:
        check_free(refused.details["free"], anchors, pulls, mass, cg)
        return
    total = wrench(anchors, pulls, mass, cg)
    t, r = np.array(done.movement.translation), np.array(done.movement.rotation_rad)
    size = np.abs(total).max()
    for one in anchors:
        force, at = np.array(done.anchors[one["id"]].force), np.array(one["at"])
        total += np.concatenate([force, np.cross(at, force)])
        u = t + np.cross(r, at)
        if one["kind"] == "clamp":
            assert force == pytest.approx(-np.array(one["stiffness"]) * u, rel=1e-6, abs=1e-6 * size)
        else:
            way = np.array((0, 0, 1.0)) if one["kind"] == "stand" else np.subtract(one["toward"], at)
            way = way / np.linalg.norm(way)
            assert force @ way == pytest.approx(one["stiffness"] * max(0.0, -way @ u), rel=1e-5, abs=1e-7 * size)
    assert total == pytest.approx(np.zeros(6), abs=1e-7 * size)


def wrench(anchors, pulls, mass, cg):
    weight = np.array((0, 0, -mass * G))
    total = np.concatenate([weight, np.cross(cg, weight)])
    for one in pulls:
        way = np.subtract(one["tower"], one["hook"])
        force = one["force_n"] * way / np.linalg.norm(way)
        total += np.concatenate([force, np.cross(one["hook"], force)])
    return total


def check_free(free, anchors, pulls, mass, cg):
    """Nothing resists the movement that is named, and load and weight do not oppose it."""
    t, r = np.array(free["translation"]), np.array(free["rotation_rad"])
    assert max(np.abs(t).max(), 1000 * np.abs(r).max()) > 0.5
    for one in anchors:
        u = t + np.cross(r, one["at"])
        if one["kind"] == "clamp":
            assert np.abs(u[np.array(one["stiffness"]) > 0]).max(initial=0) < 1e-6
        else:
            way = np.array((0, 0, 1.0)) if one["kind"] == "stand" else np.subtract(one["toward"], one["at"])
            assert way @ u / np.linalg.norm(way) > -1e-6
    total = wrench(anchors, pulls, mass, cg)
    assert total[:3] @ t + total[3:] @ r >= -1e-6 * np.abs(total).max()


def test_the_movement_is_the_least_where_there_is_play() -> None:
    """Guided along x, stopped only by a chain each way that is slack at rest: without a load it stays where it is."""
    guides = [
        clamp(f"g{k}", at, (0.0, 9000.0, 9000.0))
        for k, at in enumerate(((800, 400, 300), (-800, 400, 300), (0, -400, 300)))
    ]
    ties = [chain("ahead", (1000, 0, 300), (3000, 0, 300)), chain("behind", (-1000, 0, 300), (-3000, 0, 300))]
    done = held([*guides, *ties])
    assert done.movement.translation == pytest.approx((0, 0, 0)) and set(done.slack) == {"ahead", "behind"}


def test_the_energy_is_least_as_scipy_finds_it() -> None:
    rng = np.random.default_rng(3)
    anchors = [*FOUR[:2], chain("k", (-1500, 300, 300), (-3000, 500, 0)), stand("s", (-900, -300, 100))]
    pulls = [pull(hook=(2000, -400, 500), tower=(4000, -900, 900), force=30_000.0)]
    done = held(anchors, pulls, 1200)
    load = wrench(anchors, pulls, 1200, (0, 0, 500))

    def energy(scaled):
        x = scaled / np.array([1, 1, 1, 1e3, 1e3, 1e3])
        total = -load @ x
        for one in anchors:
            u = x[:3] + np.cross(x[3:], one["at"])
            if one["kind"] == "clamp":
                total += 0.5 * one["stiffness"] * u @ u
            else:
                way = np.array((0, 0, 1.0)) if one["kind"] == "stand" else np.subtract(one["toward"], one["at"])
                total += 0.5 * one["stiffness"] * max(0.0, -way @ u / np.linalg.norm(way)) ** 2
        return total / 1e4

    found = min((minimize(energy, rng.normal(0, 1, 6), tol=1e-14) for _ in range(4)), key=lambda one: one.fun)
    ours = np.array([*done.movement.translation, *(1e3 * np.array(done.movement.rotation_rad))])
    assert ours == pytest.approx(found.x, abs=2e-4)


def test_the_ground_to_keep_clear_of() -> None:
    """Holds every point within 1 m of the line lengthened by 1 m, and none farther than 2 m."""
    corners = np.array(clear_zone((0, 0), (3000, 4000), 1000))
    along, side = np.array((0.6, 0.8)), np.array((-0.8, 0.6))
    inside = [s * along + w * side for s in (-1999, 6999) for w in (-999, 999)]
    signs = [
        np.cross(np.append(np.roll(corners, -1, 0)[k] - corners[k], 0), np.append(p - corners[k], 0))[2]
        for k in range(4)
        for p in inside
    ]
    assert all(s > 0 for s in signs) or all(s < 0 for s in signs)
    ends = np.clip((corners @ along), -1000, 6000)
    assert np.linalg.norm(corners - ends[:, None] * along, axis=1).max() <= 2000


@pytest.mark.parametrize(
    ("anchors", "words"),
    [
        ([], "forward"),
        ([clamp("a", (0, 0, 200))], "turning"),
        ([stand("a", (900, 500, 0)), stand("b", (900, -500, 0)), stand("c", (-900, 0, 0))], "forward"),
        (
            [
                clamp(f"c{k}", (x, y, 200), (0.0, 9e3, 9e3))
                for k, (x, y) in enumerate(((700, 700), (-700, 700), (0, -700)))
            ],
            "going forward",
        ),
    ],
)
def test_a_vehicle_that_is_not_held_says_which_way_it_is_free(anchors, words) -> None:
    with pytest.raises(Refused, match=words) as refused:
        held(anchors, [pull()], mass=1000)
    check_free(refused.value.details["free"], [*anchors], [pull()], 1000, (0, 0, 500))


@pytest.mark.parametrize(
    ("pulls", "anchors", "field"),
    [
        ([pull(reacts_capacity_n=5.0)], FOUR, "pulls.0.reacts_capacity_n"),
        ([pull(reacts_at=(2000, 0, 400))], FOUR, "pulls.0.reacts_at"),
        ([pull(force=None)], FOUR, "pulls.0.force_n"),
        ([pull(force=None, pressure_mpa=3.0)], FOUR, "pulls.0.ram_area_mm2"),
        ([pull(pressure_mpa=3.0)], FOUR, "pulls.0.force_n"),
        ([pull(tower=(2000, 0, 400))], FOUR, "pulls.0.tower"),
        ([pull("c0")], FOUR, "anchors.0.id"),
        ([], [{"id": "k", "at": (0, 0, 0), "kind": "chain", "stiffness": 5.0}], "anchors.0.toward"),
        ([], [chain("k", (0, 0, 0), (1, 0, 0), 0.0)], "anchors.0.stiffness"),
        ([], [{**stand("s", (0, 0, 0)), "toward": (0, 0, 1)}], "anchors.0.toward"),
    ],
)
def test_pulls_and_anchors_that_contradict_themselves(pulls, anchors, field) -> None:
    with pytest.raises(Refused) as refused:
        held(anchors, pulls)
    assert refused.value.field == field


def test_a_capacity_of_zero_names_the_field() -> None:
    request = {"vehicle": {"mass_kg": 1, "cg": [0, 0, 0]}, "pulls": [pull(capacity_n=0)], "anchors": FOUR}
    with pytest.raises(Exception, match=r"pulls\.0\.capacity_n"):
        CATALOGUE["pull-statics"].run_json(json.dumps(request))


# ── what a hook's place takes ────────────────────────────────────────────────


def takes(kind, **more):
    request = {"kind": kind, "sheet": {"thickness_mm": 2.0, "rm_mpa": 400.0}, **more}
    return hold_capacity(HoldCapacity.model_validate_json(json.dumps(request)))


def test_forms_of_en_1993_1_8_by_hand() -> None:
    """Figures worked by hand from the forms (EN 1993-1-8, from memory, no partial factors)."""
    tab = takes("tab_weld", weld={"length_mm": 50})
    assert tab.modes == pytest.approx({"sheet": 400 * 2 * 50 / math.sqrt(3), "weld": 400 * 1.4 * 50 / math.sqrt(3)})
    assert tab.weakest == "weld" and tab.capacity_n == pytest.approx(8082.9, abs=0.1)
    hole = takes("hole", hole={"diameter_mm": 20, "edge_mm": 30})
    assert hole.modes == pytest.approx(
        {"bearing": 2.5 * 0.5 * 400 * 20 * 2, "tear_out": 2 * 400 * 2 * 20 / math.sqrt(3)}
    )
    assert takes("hole", hole={"diameter_mm": 20, "edge_mm": 90}).modes["bearing"] == pytest.approx(2.5 * 400 * 20 * 2)
    bolts = {"count": 4, "area_mm2": 84.3, "rm_mpa": 800, "diameter_mm": 12, "edge_mm": 30}
    plate = takes("bolted_plate", bolts=bolts, factor=1)
    assert plate.modes["bolts"] == pytest.approx(0.6 * 800 * 84.3 * 4) and plate.weakest == "bearing"
    assert plate.modes["tear_out"] == pytest.approx(4 * 2 * 400 * 2 * 24 / math.sqrt(3))
    assert plate.capacity_n == pytest.approx(4 * 2.5 * 30 / 36 * 400 * 12 * 2)


@pytest.mark.parametrize(
    ("kind", "more", "field"),
    [
        ("hole", {"hole": {"diameter_mm": 20, "edge_mm": 10}}, "hole.edge_mm"),
        ("hole", {}, "hole"),
        ("tab_weld", {"weld": {"length_mm": 9}, "hole": {"diameter_mm": 20, "edge_mm": 30}}, "hole"),
        (
            "bolted_plate",
            {"bolts": {"count": 1, "area_mm2": 1, "rm_mpa": 1, "diameter_mm": 8, "edge_mm": 4}},
            "bolts.edge_mm",
        ),
    ],
)
def test_places_that_are_none(kind, more, field) -> None:
    with pytest.raises(Refused) as refused:
        takes(kind, **more)
    assert refused.value.field == field


@pytest.mark.parametrize(
    "wrong", [{"factor": 0.5}, {"weld": {"length_mm": 0}}, {"sheet": {"thickness_mm": -1, "rm_mpa": 1}}]
)
def test_figures_that_are_none(wrong) -> None:
    request = {"kind": "tab_weld", "sheet": {"thickness_mm": 2, "rm_mpa": 400}, "weld": {"length_mm": 9}} | wrong
    with pytest.raises(Exception, match="|".join(wrong)):
        CATALOGUE["hold-capacity"].run_json(json.dumps(request))


# ── what comes back ──────────────────────────────────────────────────────────


def advised(now, cycles=(), target=20.0, tolerance=1.5, prior=(8.0, 4.0), sigma=0.3):
    made = [dict(zip(("before", "loaded", "after"), cycle, strict=True)) for cycle in cycles]
    return next_pull(
        NextPull.model_validate(
            {
                "target_mm": target,
                "tolerance_mm": tolerance,
                "now_mm": now,
                "prior": {"return_mm": prior[0], "sigma_mm": prior[1]},
                "reading_sigma_mm": sigma,
                "cycles": made,
            }
        )
    )


def density(r, cycles, prior, sigma):
    tau2 = 2 * sigma**2
    height = norm.logpdf(r, *prior)
    for before, loaded, after in cycles:
        height += -((after - before - max(0.0, loaded - before - r)) ** 2) / (2 * tau2)
    return height


@pytest.mark.parametrize(
    "cycles",
    [
        [],
        [(0.0, 12.0, 4.5)],
        [(0.0, 5.0, 0.1), (0.1, 15.0, 6.0)],
        [(0.0, 4.0, 0.0), (0.0, 9.0, 0.2)],
        [(0.0, 10.0, 9.9), (9.9, 14.0, 9.8)],
    ],
)
def test_the_posterior_against_scipys_quadrature(cycles) -> None:
    """Mean, spread, the limit and the mean of where it ends, integrated anew with scipy.integrate.quad."""
    prior, sigma = (8.0, 4.0), 0.3
    done = advised(cycles[-1][2] if cycles else 0.0, cycles, prior=prior, sigma=sigma)
    grid = np.linspace(-20, 40, 60_001)
    top = max(density(r, cycles, prior, sigma) for r in grid[::50])
    breaks = sorted({loaded - before for before, loaded, _ in cycles} | {done.return_mm})

    def mean(of):
        edges = [-20.0, *breaks, 40.0]
        return sum(
            quad(
                lambda r: of(r) * math.exp(density(r, cycles, prior, sigma) - top),
                a,
                b,
                limit=800,
                points=list(np.linspace(a, b, 40)[1:-1]),
            )[0]
            for a, b in pairwise(edges)
        )

    whole = mean(lambda r: 1.0)
    first = mean(lambda r: r) / whole
    assert done.return_mm == pytest.approx(first, abs=2e-3)
    assert done.return_sigma_mm == pytest.approx(math.sqrt(mean(lambda r: (r - first) ** 2) / whole), abs=2e-3)
    beyond = mean(lambda r: norm.sf(21.5, done.must_not_pass_mm - r, sigma)) / whole
    assert beyond == pytest.approx(0.05, abs=1e-3)
    if done.pull_to_mm is not None:
        now = cycles[-1][2] if cycles else 0.0
        after = mean(lambda r: max(now, done.pull_to_mm - r)) / whole
        assert done.expected_after_mm == pytest.approx(after, abs=2e-3)


def test_without_pulls_the_prior_speaks_in_closed_form() -> None:
    """L with P(N(L − 8, √(4² + 0.3²)) > 21.5) = 0.05: L = 21.5 + 8 − 1.6449·√16.09."""
    done = advised(0.0)
    assert done.must_not_pass_mm == pytest.approx(29.5 - norm.ppf(0.95) * math.sqrt(16.09), abs=1e-3)
    assert (done.return_mm, done.return_sigma_mm) == pytest.approx((8.0, 4.0), abs=1e-6)


@pytest.mark.parametrize(
    ("now", "cycles", "advice"),
    [
        (22.0, [], "stop"),
        (18.5, [], "done"),
        (21.5, [], "done"),
        (18.4, [], "pull"),
        (0.5, [(0.0, 4.0, 0.4), (0.4, 6.0, 0.5)], "relieve"),
        (4.0, [(0.0, 4.0, 0.4), (0.4, 9.0, 4.0)], "pull"),
    ],
)
def test_what_is_advised(now, cycles, advice) -> None:
    done = advised(now, cycles)
    assert done.advice == advice
    assert (done.pull_to_mm is None) == (advice in ("stop", "done"))
    if advice == "relieve":
        assert done.pull_to_mm <= max(loaded for _, loaded, _ in cycles)


def test_a_pull_that_went_backwards_is_refused() -> None:
    with pytest.raises(Refused) as refused:
        advised(0.0, [(0.0, 8.0, 1.0), (1.0, -0.5, 1.0)])
    assert refused.value.field == "cycles.1.loaded"


def test_closed_loop_over_structures_that_give_back_5_mm() -> None:
    """Over 5 ± 2 mm with a right prior, 1.5 mm of tolerance and readings ± 0.3: few end beyond, in fewer than two pulls on
    average."""
    rng = np.random.default_rng(8)
    ends, pulls = [], []
    for _ in range(150):
        gives, stands, cycles = max(0.0, rng.normal(5, 2)), 0.0, []
        while len(cycles) < 8:
            read = stands + rng.normal(0, 0.3)
            done = advised(read, cycles, target=12.0, prior=(5.0, 2.0))
            if done.pull_to_mm is None:
                break
            loaded = done.pull_to_mm + rng.normal(0, 0.3)
            stands = max(stands, loaded - gives)
            cycles.append((read, loaded, stands + rng.normal(0, 0.3)))
        ends.append(stands)
        pulls.append(len(cycles))
    off = np.array(ends) - 12.0
    assert np.mean(off > 1.5) < 0.10 and np.mean(np.abs(off) <= 1.5) > 0.84
    assert np.mean(pulls) < 2.0
