"""Comparative sheets: mirrored, from sisters, from straightness; against scipy's curve fit, and against simulated vehicles."""

import json

import numpy as np
import pytest
from scipy.optimize import curve_fit
from scipy.spatial.transform import Rotation

from fairsquare.core.axes import covariance_through_pose
from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.errors import FairSquareError
from fairsquare.core.measure.setup import FitSetup, fit_setup
from fairsquare.core.sheet.model import Sheet
from fairsquare.stand_ins.vehicles import DUNLIN, HERON

NOUGHT = [[0.09, 0.0, 0.0], [0.0, 0.16, 0.0], [0.0, 0.0, 0.25]]


def made(**request):
    return CATALOGUE["comparative-sheet"].function(CATALOGUE["comparative-sheet"].read(json.dumps(request)))


def plain(sheet):
    return sheet.model_dump(mode="json")


def test_the_sound_side_makes_both() -> None:
    points = {p.code: {"xyz": p.xyz, "covariance": NOUGHT} for p in DUNLIN.sheet.points if p.code.startswith("F")}
    sheet = plain(DUNLIN.sheet)
    whole = made(basis="mirror", sheet=sheet, side="L", points=points)
    by_code = {p.code: p for p in whole.sheet.points}
    assert set(whole.counts) == {c for c in points if c[-1] in "LR"}
    for code in (c for c in points if c.endswith("L")):
        left, right = by_code[code], by_code[code[:-1] + "R"]
        assert right.xyz == (left.xyz[0], -left.xyz[1], left.xyz[2])
        assert left.sigma_mm == right.sigma_mm == pytest.approx(np.sqrt([0.34, 0.41, 0.5]))
    assert {p.code for p in whole.sheet.points if p.reference} >= {p.code for p in DUNLIN.sheet.points if p.reference}
    assert whole.sheet.spans == ()


def test_an_asymmetric_point_makes_no_mirror() -> None:
    sheet = plain(DUNLIN.sheet)
    for point in sheet["points"]:
        point["asymmetric"] = point["code"] == "F4R"
    points = {"F4L": {"xyz": [2000, 500, 300], "covariance": NOUGHT}, "X1L": {"xyz": [1, 2, 3], "covariance": NOUGHT}}
    assert set(made(basis="mirror", sheet=sheet, side="L", points=points).counts) == {"X1L", "X1R"}


def sister(random, sheet, codes, build=0.5, sigma=0.3):
    rotation, shift = Rotation.random(random_state=random).as_matrix(), random.uniform(-900, 900, 3)
    return {
        "sigma_mm": sigma,
        "readings": [
            {
                "code": p.code,
                "xyz": (
                    ((np.array(p.xyz) + random.normal(0, build, 3)) - shift) @ rotation + random.normal(0, sigma, 3)
                ).tolist(),
            }
            for p in sheet.points
            if p.reference or p.code in codes
        ],
    }


def test_sisters_give_the_mean_and_an_honest_sigma() -> None:
    random = np.random.default_rng(1)
    codes = ("F4L", "F4R", "R1L")
    sheet = plain(DUNLIN.sheet)
    places = {p.code: np.array(p.xyz) for p in DUNLIN.sheet.points}
    pulls = []
    for _ in range(60):
        vehicles = [sister(random, DUNLIN.sheet, codes) for _ in range(3)]
        try:
            whole = made(basis="sister", sheet=sheet, vehicles=vehicles)
        except FairSquareError:
            continue
        assert whole.counts == dict.fromkeys(codes, 3)
        pulls += [(np.array(p.xyz) - places[p.code]) / p.sigma_mm for p in whole.sheet.points if p.code in codes]
    spread = np.std(pulls, axis=0)
    assert (spread < 1.1).all(), "the sheet claims to know more than it does"
    assert (spread > 0.6).all()


def test_a_sister_that_does_not_fit_is_named() -> None:
    random = np.random.default_rng(2)
    vehicles = [sister(random, DUNLIN.sheet, ("F4L",)) for _ in range(2)]
    for reading in vehicles[1]["readings"]:
        reading["xyz"][0] += float(random.normal(0, 40))
    with pytest.raises(FairSquareError, match=r"^Vehicle 2: the fit on its references is refused\. ") as fault:
        made(basis="sister", sheet=plain(DUNLIN.sheet), vehicles=vehicles)
    assert (fault.value.field, fault.value.value) == ("vehicles.1", 2)
    alone = fit_setup(asked_of(vehicles[1]))
    assert alone.verdict == "refused"
    assert fault.value.title.endswith(alone.warnings[-1].words)


def test_a_sister_that_fits_in_more_ways_than_one_is_named() -> None:
    vehicle = sister(np.random.default_rng(0), DUNLIN.sheet, ("F4L",))
    chosen = [reading for reading in vehicle["readings"] if reading["code"] in ("C1L", "C1R", "C2L", "C3L", "C3R")]
    for reading in chosen[:2]:
        reading["xyz"][2] += 4.0
    assert fit_setup(asked_of({**vehicle, "readings": chosen})).alternatives
    with pytest.raises(FairSquareError) as fault:
        made(basis="sister", sheet=plain(DUNLIN.sheet), vehicles=[{**vehicle, "readings": chosen}])
    assert fault.value.title == (
        "Vehicle 1: the fit on its references is ambiguous. More than one choice of references fits: read more of them."
    )
    assert fault.value.value == 1


def asked_of(vehicle):
    """Return the fit that a sister's references are asked for."""
    references = {p.code for p in DUNLIN.sheet.points if p.reference}
    readings = [reading for reading in vehicle["readings"] if reading["code"] in references]
    return FitSetup.model_validate(
        {"sheet": plain(DUNLIN.sheet), "readings": readings, "sigma_mm": vehicle["sigma_mm"]}, strict=False
    )


@pytest.mark.parametrize(("sigma", "build"), [(0.8, 0.5), (0.3, 1.4)])
def test_one_sister_is_known_as_well_as_it_was_read_built_and_placed(sigma, build) -> None:
    vehicle = sister(np.random.default_rng(3), DUNLIN.sheet, ("F4L", "R1L"), sigma=sigma)
    sheet = {**plain(DUNLIN.sheet), "build_sigma_mm": build}
    whole = made(basis="sister", sheet=sheet, vehicles=[vehicle])
    fit = fit_setup(asked_of(vehicle).model_copy(update={"sheet": Sheet.model_validate(sheet, strict=False)}))
    read = {reading["code"]: np.array(reading["xyz"]) for reading in vehicle["readings"]}
    for point in whole.sheet.points:
        if point.code in ("F4L", "R1L"):
            place = np.array(fit.rotation) @ read[point.code] + np.array(fit.translation)
            assert point.xyz == pytest.approx(tuple(place))
            carried = np.diag(covariance_through_pose(place[None], np.array(fit.pose_covariance))[0])
            assert np.square(point.sigma_mm) == pytest.approx(carried + sigma**2 + build**2)


def test_what_is_wrong_with_a_sister_is_named_with_its_number() -> None:
    random = np.random.default_rng(5)
    vehicles = [sister(random, DUNLIN.sheet, ("F4L", "F4R")) for _ in range(2)]
    second = vehicles[1]["readings"]
    again = next(reading for reading in second if reading["code"] == "F4L")
    with pytest.raises(FairSquareError) as fault:
        made(
            basis="sister",
            sheet=plain(DUNLIN.sheet),
            vehicles=[vehicles[0], {**vehicles[1], "readings": [*second, again]}],
        )
    assert fault.value.title == "Vehicle 2: F4L was read twice: keep one reading of each point."
    assert (fault.value.field, fault.value.value) == ("vehicles.1.readings", "F4L")
    few = [reading for reading in second if reading["code"].startswith("F4")]
    with pytest.raises(FairSquareError) as bare:
        fit_setup(asked_of({**vehicles[1], "readings": few}))
    with pytest.raises(FairSquareError) as fault:
        made(basis="sister", sheet=plain(DUNLIN.sheet), vehicles=[vehicles[0], {**vehicles[1], "readings": few}])
    assert fault.value.title == f"Vehicle 2: {bare.value.title}"
    assert (fault.value.field, fault.value.value) == ("vehicles.1", 2)


def straight_request(sound, moved=None):
    random = np.random.default_rng(4)
    points = {}
    for p in HERON.sheet.points:
        spread = random.normal(0, 0.3, (3, 3))
        at = np.array(p.xyz) + random.normal(0, 0.5, 3) + (moved or {}).get(p.code, 0)
        points[p.code] = {"xyz": at.tolist(), "covariance": (spread @ spread.T + 0.05 * np.eye(3)).tolist()}
    return {"basis": "straight", "sheet": plain(HERON.sheet), "sound": sound, "points": points}


def test_lines_through_sound_points_are_scipys() -> None:
    member = HERON.sheet.points[0].member
    left = [p for p in HERON.sheet.points if p.member == member and p.xyz[1] > 0]
    sides = {(p.member, np.sign(p.xyz[1])) for p in HERON.sheet.points}
    sound = [p.code for s in sides for p in HERON.sheet.points if (p.member, np.sign(p.xyz[1])) == s]
    sound = [code for code in sound if code != left[0].code]
    asked = straight_request(sound, {left[0].code: np.array([0.0, 40.0, -20.0])})
    whole = made(**asked)
    by_code = {p.code: p for p in whole.sheet.points}
    read = [asked["points"][p.code] for p in left[1:]]
    x = np.array([one["xyz"][0] for one in read])
    for axis in (1, 2):
        values = [one["xyz"][axis] for one in read]
        weights = np.sqrt([one["covariance"][axis][axis] + 0.25 for one in read])
        line, spread = curve_fit(lambda at, a, b: a + b * at, x, values, sigma=weights, absolute_sigma=True)
        for code in (p.code for p in left):
            at = asked["points"][code]["xyz"][0]
            assert by_code[code].xyz[axis] == pytest.approx(line[0] + line[1] * at, abs=1e-5)
            sigma = np.sqrt(np.array([1, at]) @ spread @ np.array([1, at]) + 0.25)
            assert by_code[code].sigma_mm[axis] == pytest.approx(sigma, rel=1e-4)
    first = by_code[left[0].code]
    assert first.xyz[0] == asked["points"][first.code]["xyz"][0]
    assert first.sigma_mm[0] == 0
    assert first.tolerance_mm[0] == 1000


def test_far_from_its_sound_points_a_line_knows_little() -> None:
    """2.1, 1.2 and 0.8 mm at 2.5 m from the middle of three sound points over 0.9, 1.8 and 3 m, build 0.5, readings to 0.1."""
    for apart, said in ((450.0, 2.1), (900.0, 1.2), (1500.0, 0.8)):
        at = {"A": -apart, "B": 0.0, "C": apart, "D": 2500.0}
        points = [{"code": c, "xyz": [x, 400.0, 300.0]} for c, x in at.items()]
        sheet = {"name": "f", "construction": "ladder", "points": points}
        read = {c: {"xyz": [x, 400.0, 300.0], "covariance": (0.01 * np.eye(3)).tolist()} for c, x in at.items()}
        whole = made(basis="straight", sheet=sheet, sound=["A", "B", "C"], points=read)
        assert whole.sheet.points[3].sigma_mm[1] == pytest.approx(said, abs=0.05)


@pytest.mark.parametrize(
    ("change", "words"),
    [
        ({"sound": ["R1L"]}, "sound points were read"),
        ({"sound": ["XX"]}, "not on the sheet"),
        ({"side": "L"}, "no such field"),
        ({"points": {"XX": {"xyz": [0, 0, 0], "covariance": NOUGHT}}}, "not on the sheet"),
        (
            {"points": {"A": {"xyz": [0, 0, 0], "covariance": [[1, 0, 0], [0, -1, 0], [0, 0, 1]]}}},
            "negative eigenvalue",
        ),
        ({"sound": ["A", "A"]}, "twice"),
        ({"sound": ["A", "C"]}, "not read"),
        ({"sound": ["A", "B"]}, "within 200 mm"),
    ],
)
def test_what_gives_no_line_is_refused_by_name(change, words) -> None:
    points = [{"code": c, "xyz": [x, 400.0, 300.0]} for c, x in (("A", 0.0), ("B", 200.0), ("C", 900.0), ("R1L", 5.0))]
    base = {
        "basis": "straight",
        "sheet": {"name": "f", "construction": "ladder", "points": points},
        "sound": ["A", "B"],
        "points": {c: {"xyz": [x, 400, 300], "covariance": NOUGHT} for c, x in (("A", 0), ("B", 200), ("R1L", 5))},
    }
    with pytest.raises(FairSquareError, match=words):
        made(**{**base, **change})
