"""Reading the damage: against least squares written anew, scipy's rotations, Monte Carlo, and damage that was made up."""

import json
import math

import numpy as np
import pytest
from scipy.linalg import block_diag
from scipy.spatial.transform import Rotation
from scipy.stats import chi2

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.damage.deviations import deviations_of, series_of
from fairsquare.core.damage.read import Hit, Joint, ReadDamage, push_words, read_damage
from fairsquare.core.errors import FairSquareError, Refused, UnknownCode
from fairsquare.core.measure.conformity import MeasuredPoint
from fairsquare.core.sheet.model import Point, Sheet
from tests.core.damaged import BUILD_MM, SIGMA_MM, Damaged, pushed_in, read_at, sheet, turned

PUSH = np.array([-0.016, 0.006, 0.005])


@pytest.fixture
def one() -> Damaged:
    return pushed_in(np.random.default_rng(8), 1450.0, 1.4 * PUSH)


def end_of(request: ReadDamage, ahead: int):
    """The deviations of one end, worked out anew, with V as independent blocks."""
    found = [p for p in request.sheet.points if p.code in request.points and (p.xyz[0] >= 400 / 3) == (ahead > 0)]
    d = np.array([np.subtract(request.points[p.code].xyz, p.xyz) for p in found])
    blocks = [np.array(request.points[p.code].covariance) + BUILD_MM**2 * np.eye(3) for p in found]
    return found, d, block_diag(*blocks)


def misfit(found, d, v, onset: float, ahead: int) -> float:
    """χ² of one onset by scipy's whitening and numpy's least squares: nothing is shared with the code under test."""
    series = series_of(found)
    columns = []
    for rows in series.values():
        for axis in range(3):
            column = np.zeros(d.size)
            for row in rows:
                column[3 * row + axis] = max(0.0, ahead * (found[row].xyz[0] - onset))
            columns.append(column)
    root = np.linalg.cholesky(v)
    a = np.linalg.solve(root, np.array(columns).T)
    r = np.linalg.solve(root, d.ravel())
    slopes = np.linalg.lstsq(a, r, rcond=None)[0]
    return float(np.sum((r - a @ slopes) ** 2))


def test_the_onset_is_the_least_of_a_search_written_anew(one) -> None:
    onset = read_damage(one.request).ends["front"].onset
    found, d, v = end_of(one.request, 1)
    grid = np.arange(134.0, 2300.0, 0.5)
    values = np.array([misfit(found, d, v, at, 1) for at in grid])
    assert onset is not None
    assert onset.at_mm == pytest.approx(grid[values.argmin()], abs=0.5)
    assert onset.chi2 == pytest.approx(values.min(), abs=0.01)
    inside = grid[values <= values.min() + 3.84]
    assert (onset.low_mm, onset.high_mm) == (
        pytest.approx(inside.min(), abs=0.6),
        pytest.approx(inside.max(), abs=0.6),
    )
    assert misfit(found, d, v, onset.low_mm, 1) == pytest.approx(onset.chi2 + 3.84, abs=1e-4)


@pytest.mark.parametrize("seed", range(6))
def test_what_rounding_does_to_the_readings_does_nothing_to_the_onset(one, seed) -> None:
    # A record is worked out anew on other machines, whose linear algebra rounds otherwise, and has to agree to 1e-9.
    chance = np.random.default_rng(seed)
    body = one.request.model_dump(mode="json")
    for point in body["points"].values():
        point["xyz"] = [v * (1 + 4e-15 * chance.standard_normal()) for v in point["xyz"]]
    onset, shaken = (
        read_damage(request).ends["front"].onset for request in (one.request, ReadDamage.model_validate(body))
    )
    assert shaken.at_mm == pytest.approx(onset.at_mm, rel=1e-10)
    assert (shaken.low_mm, shaken.high_mm) == (
        pytest.approx(onset.low_mm, rel=1e-10),
        pytest.approx(onset.high_mm, rel=1e-10),
    )


def test_where_an_onset_could_lie_anywhere_in_a_stretch_it_is_the_place_nearest_the_middle() -> None:
    # One station moved: wherever it began between that and the one before, slopes fit as well. χ² is flat to rounding.
    points = [Point(code=f"P{k}", xyz=(600.0 * k, 400.0, 0.0), reference=k == 0, member="rail") for k in range(4)]
    flat = Sheet(name="rail", construction="unibody", points=tuple(points))
    for seed in range(4):
        chance = np.random.default_rng(seed)
        measured = {
            point.code: MeasuredPoint(
                xyz=tuple(np.array(point.xyz) * (1 + 1e-15 * chance.standard_normal(3)) + (0, 9.0 * (k == 3), 0)),
                covariance=tuple(map(tuple, 0.09 * np.eye(3))),
            )
            for k, point in enumerate(points)
        }
        onset = read_damage(ReadDamage(sheet=flat, points=measured)).ends["front"].onset
        assert onset.at_mm == pytest.approx(1200.0, abs=1e-6)


def test_the_rear_is_the_front_seen_from_behind(one) -> None:
    """A structure turned end for end gives the same onset, mirrored, and the same mash."""

    def about(xyz):
        return (-xyz[0], xyz[1], xyz[2])

    own = one.request
    points = tuple(p.model_copy(update={"xyz": about(p.xyz)}) for p in own.sheet.points)
    measured = {code: m.model_copy(update={"xyz": about(m.xyz)}) for code, m in own.points.items()}
    there = read_damage(own)
    back = read_damage(ReadDamage(sheet=own.sheet.model_copy(update={"points": points}), points=measured))
    front, rear = there.ends["front"].onset, back.ends["rear"].onset
    assert front is not None
    assert rear is not None
    assert (rear.at_mm, rear.low_mm, rear.high_mm) == pytest.approx(
        (-front.at_mm, -front.high_mm, -front.low_mm), abs=1e-3
    )
    for pair, mirrored in zip(there.pairs, back.pairs, strict=True):
        assert pair.modes["mash"].value == pytest.approx(mirrored.modes["mash"].value)
        assert pair.modes["skew"].value == pytest.approx(-mirrored.modes["skew"].value)


def test_the_onset_covers_the_truth_at_its_rate_and_the_push_is_recovered() -> None:
    random = np.random.default_rng(41)
    covered, pushes, false_alarms = [], [], 0
    for _ in range(100):
        truth = float(random.uniform(1450, 1900))
        found = read_damage(pushed_in(random, truth, PUSH).request).ends
        false_alarms += found["rear"].onset is not None
        onset = found["front"].onset
        assert onset is not None
        covered.append(onset.low_mm <= truth <= onset.high_mm)
        assert found["front"].push is not None
        pushes.append(np.arccos(np.dot(found["front"].push.vector, PUSH) / np.linalg.norm(PUSH)))
    assert 0.88 <= np.mean(covered) <= 0.99, "95 %, give or take what 100 trials leave open"
    assert np.degrees(np.median(pushes)) < 5
    assert false_alarms <= 1, "a sound end is said to have moved once in a thousand"


def test_modes_and_their_sigmas_against_monte_carlo() -> None:
    """Ten thousand draws of one pair's errors, left and right going together, through the definitions written out."""
    random = np.random.default_rng(3)
    own = Sheet(
        name="pair",
        construction="ladder",
        points=(Point(code="AL", xyz=(1000, 430, 300)), Point(code="AR", xyz=(1000, -430, 300))),
    )
    half = random.normal(size=(6, 6)) * 0.4
    covariance = half @ half.T
    truth = np.array([-9.0, 3.0, 4.0, -2.0, 5.0, -6.0])
    measured = {
        code: MeasuredPoint(
            xyz=tuple(float(v) for v in np.array(own.points[k].xyz) + truth[3 * k : 3 * k + 3]),
            covariance=((9.0, 0.0, 0.0), (0.0, 9.0, 0.0), (0.0, 0.0, 9.0)),
        )
        for k, code in enumerate(("AL", "AR"))
    }
    joint = Joint(codes=("AL", "AR"), covariance=tuple(tuple(float(v) for v in row) for row in covariance))
    found = read_damage(ReadDamage(sheet=own, points=measured, joint=joint)).pairs[0]
    draws = truth + random.multivariate_normal(np.zeros(6), covariance + 0.25 * np.eye(6), 10_000)
    left, right = draws[:, :3], draws[:, 3:]
    expected = {
        "mash": -(left[:, 0] + right[:, 0]) / 2,
        "skew": left[:, 0] - right[:, 0],
        "sway": (left[:, 1] + right[:, 1]) / 2,
        "spread": left[:, 1] - right[:, 1],
        "rise": (left[:, 2] + right[:, 2]) / 2,
        "twist_deg": np.degrees(np.arctan((left[:, 2] - right[:, 2]) / 860)),
    }
    for name, drawn in expected.items():
        mode = found.modes[name]
        assert mode.value == pytest.approx(drawn.mean(), abs=4 * drawn.std() / 100)
        assert mode.sigma == pytest.approx(drawn.std(), rel=0.04)


def test_a_joint_that_says_the_same_changes_nothing(one) -> None:
    codes = list(one.request.points)[::-1]
    whole = block_diag(*(np.array(one.request.points[code].covariance) for code in codes))
    joint = Joint(codes=tuple(codes), covariance=tuple(tuple(float(v) for v in row) for row in whole))
    same = read_damage(one.request.model_copy(update={"joint": joint}))
    assert json.loads(same.model_dump_json()) == json.loads(read_damage(one.request).model_dump_json())
    partly = Joint(codes=tuple(codes[:2]), covariance=tuple(tuple(float(v) for v in row) for row in whole[:6, :6]))
    assert read_damage(one.request.model_copy(update={"joint": partly})).pairs == same.pairs


def test_members_that_moved_as_one_piece_are_joined_and_a_bent_one_is_not() -> None:
    random = np.random.default_rng(6)
    own = sheet()
    swung = turned(own, ("left rail", "right rail"), np.array([0.2, -0.1, 0.6]), np.array([-8.0, 5.0, 3.0]))
    measured = {}
    for point in own.points:
        place = swung.get(point.code, np.array(point.xyz)) + random.normal(0, BUILD_MM, 3)
        if point.code == "P8R":
            place = place + np.array([0.0, 9.0, 0.0])
        measured[point.code] = read_at(place, 0.1)
    groups = {group.members: group for group in read_damage(ReadDamage(sheet=own, points=measured)).groups}
    assert set(groups) == {
        ("left rail", "right rail"),
        ("left sill", "right sill", "left rear rail"),
        ("right rear rail",),
    }
    rails, bent = groups[("left rail", "right rail")], groups[("right rear rail",)]
    assert (rails.rigid, rails.moved, bent.rigid, bent.moved) == (True, True, False, True)
    assert not groups[("left sill", "right sill", "left rear rail")].moved
    assert rails.rotation_deg == pytest.approx((0.2, -0.1, 0.6), abs=0.12)
    assert rails.translation == pytest.approx((-8.0, 5.0, 3.0), abs=0.8)
    kept = list(rails.codes)
    arms = np.array([p.xyz for p in own.points if p.code in kept]) - rails.at
    turn, left = Rotation.align_vectors((read := np.array([measured[c].xyz for c in kept])) - read.mean(axis=0), arms)
    assert np.degrees(turn.as_rotvec()) == pytest.approx(rails.rotation_deg, abs=1e-6), (
        "equal weights: scipy's rotation"
    )
    assert left == pytest.approx(rails.residual_mm * math.sqrt(len(kept)), rel=1e-9)
    assert rails.p == pytest.approx(chi2.sf(left**2 / (0.1**2 + BUILD_MM**2), 3 * len(kept) - 6), rel=1e-6)


@pytest.mark.parametrize(
    ("from_deg", "above_deg", "words"),
    [
        (20, -6, "from the front right, 20° off straight, a little from below"),
        (2, 0, "from the front"),
        (357, 30, "from the front, from above"),
        (88, 4.9, "from the right"),
        (268, -21, "from the left, from below"),
        (182, 0, "from the rear"),
        (215, 0, "from the rear left, 35° off straight"),
        (120, 6, "from the rear right, 60° off straight, a little from above"),
        (40, 89, "straight from above"),
    ],
)
def test_the_push_in_words(from_deg, above_deg, words) -> None:
    assert push_words(from_deg, above_deg) == words


@pytest.mark.parametrize(
    ("push", "from_deg", "above_deg"),
    [((-1, 0, 0), 0, 0), ((0, 1, 0), 90, 0), ((1, 0, 0), 180, 0), ((0, -1, 0), 270, 0), ((-1, 0, -1), 0, 45)],
)
def test_the_push_comes_from_where_the_metal_was_pushed_away_from(push, from_deg, above_deg) -> None:
    found = read_damage(pushed_in(np.random.default_rng(2), 1500.0, 0.02 * np.array(push, dtype=float)).request)
    got = found.ends["front"].push
    assert got is not None
    assert abs((got.from_deg - from_deg + 180) % 360 - 180) < 6
    assert got.above_deg == pytest.approx(above_deg, abs=6)


def test_what_contradicts_is_a_finding(one) -> None:
    def kinds(**more) -> list[tuple[str, tuple[str, ...]]]:
        found = read_damage(one.request.model_copy(update=more)).findings
        return [(finding.kind, finding.points) for finding in found]

    assert kinds() == []
    assert kinds(hit=Hit(from_deg=20)) == []
    assert [kind for kind, _ in kinds(hit=Hit(from_deg=180))] == ["hit"]
    assert kinds(misfits=("P6L", "P0R")) == [("fit", ("P6L",))], (
        "P0R is off, so that its panels do not fit is no wonder"
    )
    sheet_place = next(p.xyz for p in one.request.sheet.points if p.code == "P1R")
    straight = {**one.request.points, "P1R": read_at(np.array(sheet_place))}
    assert [found for found in kinds(points=straight) if found[0] == "between"] == [("between", ("P1R",))]


def test_nothing_read_and_too_little_read() -> None:
    own = sheet()
    nothing = read_damage(ReadDamage(sheet=own, points={}))
    assert (nothing.pairs, nothing.groups, nothing.findings) == ((), (), ())
    assert all(end.onset is None and end.push is None and end.order == () for end in nothing.ends.values())
    two = {code: read_at(np.array([2300.0, 0.0, 900.0])) for code in ("P0L", "P0R")}
    assert read_damage(ReadDamage(sheet=own, points=two)).ends["front"].onset is None
    exact = own.model_copy(update={"build_sigma_mm": 0.0})
    none = {p.code: MeasuredPoint(xyz=p.xyz, covariance=((0.0,) * 3,) * 3) for p in own.points}
    assert read_damage(ReadDamage(sheet=exact, points=none)).ends["front"].onset is None, "no uncertainty at all"


@pytest.mark.parametrize(
    ("change", "field"),
    [
        ({"misfits": ("X9",)}, "misfits.0"),
        ({"joint": Joint(codes=("P0L", "P0L"), covariance=((0.0,) * 6,) * 6)}, "joint.codes.1"),
        ({"joint": Joint(codes=("P0L",), covariance=((0.0,) * 6,) * 6)}, "joint.covariance"),
        ({"joint": Joint(codes=("P0L",), covariance=((0.0, 1.0, 0.0), (0.0,) * 3, (0.0,) * 3))}, "joint.covariance"),
        ({"joint": Joint(codes=("P0L",), covariance=((-1.0, 0.0, 0.0), (0.0,) * 3, (0.0,) * 3))}, "joint.covariance"),
        ({"joint": Joint(codes=("Q0L",), covariance=((0.0,) * 3,) * 3)}, "joint.codes.0"),
    ],
)
def test_what_cannot_be_is_refused_by_name(one, change, field) -> None:
    with pytest.raises((Refused, UnknownCode)) as fault:
        read_damage(one.request.model_copy(update=change))
    assert fault.value.field == field


def test_how_well_the_sheet_knows_a_place_is_in_the_sigma() -> None:
    own = sheet()
    vague = own.model_copy(
        update={"points": tuple(p.model_copy(update={"sigma_mm": (2.0, 1.0, 0.0)}) for p in own.points)}
    )
    measured = {code: read_at(np.array(p.xyz)) for code, p in ((p.code, p) for p in own.points)}
    modes = read_damage(ReadDamage(sheet=vague, points=measured)).pairs[0].modes
    assert modes["skew"].sigma == pytest.approx(math.sqrt(2 * (4 + SIGMA_MM**2 + BUILD_MM**2)))
    assert modes["rise"].sigma == pytest.approx(math.sqrt((SIGMA_MM**2 + BUILD_MM**2) / 2))
    found, _ = deviations_of(vague, measured, None)
    assert found.v[0, 0] == pytest.approx(4 + SIGMA_MM**2 + BUILD_MM**2)


def test_any_request_gives_a_result_or_a_reason(one) -> None:
    """Sixty requests with something wrong in them: never a traceback."""
    random = np.random.default_rng(5)
    text = one.request.model_dump_json()
    for _ in range(60):
        changed = json.loads(text)
        code = str(random.choice(list(changed["points"])))
        what = random.integers(6)
        if what == 0:
            changed["points"][code]["covariance"][0][0] = float(random.normal() * 10 ** random.uniform(-9, 9))
        elif what == 1:
            changed["points"][code]["xyz"][int(random.integers(3))] = float(random.choice([1e7, 0.0, -1e7, 1e-9]))
        elif what == 2:
            changed["points"] = dict(list(changed["points"].items())[: int(random.integers(8))])
        elif what == 3:
            for point in changed["sheet"]["points"]:
                point["member"] = str(random.choice(["a", "b"])) if random.random() < 0.8 else None
        elif what == 4:
            changed["sheet"]["build_sigma_mm"] = float(random.choice([0.0, 1e-12, 1e6]))
        else:
            changed["sheet"]["points"][0]["partner"] = str(random.choice(["P0L", "P0R", "P5L", "none"]))
        try:
            CATALOGUE["read-damage"].run_json(json.dumps(changed))
        except FairSquareError as fault:
            assert fault.title
