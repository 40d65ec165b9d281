"""The set-up fit against scipy's Rotation.align_vectors, against every subset tried by hand, and against simulated set-ups."""

from itertools import combinations

import numpy as np
import pytest
from scipy.spatial.transform import Rotation
from scipy.stats import chi2, ncx2

from fairsquare.core.axes import pose_jacobian
from fairsquare.core.errors import Refused, UnknownCode
from fairsquare.core.measure.setup import FitSetup, Reading, chi2_limit, fit_setup, noncentrality
from fairsquare.core.sheet.model import Point, Sheet

SIX = [(1016, 548, 180), (1016, -548, 180), (118, 578, 180), (118, -578, 186), (-884, 556, 180), (-884, -556, 175)]
SIGMA, BUILD = 0.3, 0.5
S = np.hypot(SIGMA, BUILD)


def sheet_of(places, build: float = BUILD, more: tuple[Point, ...] = ()) -> Sheet:
    points = [Point(code=f"C{i}", xyz=tuple(float(v) for v in xyz), reference=True) for i, xyz in enumerate(places)]
    return Sheet(name="s", construction="unibody", build_sigma_mm=build, points=(*points, *more))


def read(places, random, noise: float = float(S), wrong=None):
    """Return readings of `places` by an instrument in any attitude, with the pose that takes them back."""
    rotation = Rotation.random(random_state=random).as_matrix()
    translation = random.uniform(-2000, 2000, 3)
    moved = np.array(places, dtype=float) + random.normal(0, noise, (len(places), 3))
    for index, by in (wrong or {}).items():
        moved[index] += by
    read_xyz = (moved - translation) @ rotation
    return (
        tuple(Reading(code=f"C{i}", xyz=tuple(float(v) for v in xyz)) for i, xyz in enumerate(read_xyz)),
        rotation,
        translation,
    )


def test_the_pose_is_that_of_align_vectors() -> None:
    random = np.random.default_rng(1)
    for _ in range(50):
        readings, _, _ = read(SIX, random)
        fit = fit_setup(FitSetup(sheet=sheet_of(SIX), readings=readings))
        if len(fit.trusted) < len(SIX):
            continue
        sheet, xyz = np.array(SIX, dtype=float), np.array([r.xyz for r in readings])
        theirs, _ = Rotation.align_vectors(sheet - sheet.mean(0), xyz - xyz.mean(0))
        assert np.allclose(fit.rotation, theirs.as_matrix(), atol=1e-9)
        assert np.allclose(fit.translation, sheet.mean(0) - theirs.as_matrix() @ xyz.mean(0), atol=1e-6)
        assert np.linalg.det(np.array(fit.rotation)) == pytest.approx(1)
        assert fit.chi2 == pytest.approx(sum(np.sum(np.square(r)) for r in fit.residuals.values()) / S**2)
        assert fit.p == pytest.approx(chi2.sf(fit.chi2, fit.dof))


def test_the_covariance_seen_is_the_covariance_said() -> None:
    random = np.random.default_rng(2)
    errors, said = [], None
    for _ in range(1500):
        readings, rotation, translation = read(SIX, random)
        fit = fit_setup(FitSetup(sheet=sheet_of(SIX), readings=readings))
        if len(fit.trusted) < len(SIX):
            continue
        turn = np.array(fit.rotation) @ rotation.T
        omega = Rotation.from_matrix(turn).as_rotvec()
        errors.append([*omega, *(np.array(fit.translation) - turn @ translation)])
        said = np.array(fit.pose_covariance)
    seen = np.cov(np.array(errors).T)
    whitened = np.linalg.solve(np.linalg.cholesky(said), np.array(errors).T)
    assert np.allclose(np.cov(whitened), np.eye(6), atol=0.12)
    assert np.allclose(np.sqrt(np.diag(seen)), np.sqrt(np.diag(said)), rtol=0.06)


def test_the_test_rejects_a_good_set_up_once_in_a_thousand_and_finds_what_it_says() -> None:
    random = np.random.default_rng(3)
    rejected = found = 0
    trials = 1000
    readings, _, _ = read(SIX, random, noise=0.0)
    clean = fit_setup(FitSetup(sheet=sheet_of(SIX), readings=readings))
    jacobian = pose_jacobian(np.array(SIX, dtype=float))
    block = np.eye(3) - jacobian[1] @ np.linalg.inv(np.einsum("nki,nkj->ij", jacobian, jacobian)) @ jacobian[1].T
    hidden = np.linalg.eigh(block)[1][:, 0] * clean.detectable_mm["C1"]
    for _ in range(trials):
        good, _, _ = read(SIX, random)
        rejected += len(fit_setup(FitSetup(sheet=sheet_of(SIX), readings=good)).trusted) < len(SIX)
        bad, _, _ = read(SIX, random, wrong={1: hidden})
        found += len(fit_setup(FitSetup(sheet=sheet_of(SIX), readings=bad)).trusted) < len(SIX)
    assert rejected <= 6
    assert found / trials == pytest.approx(0.8, abs=0.035)


def test_quantiles_against_scipy_stats() -> None:
    for dof in (3, 6, 9, 12, 18, 36):
        assert chi2_limit(dof) == pytest.approx(chi2.ppf(0.999, dof), rel=1e-9)
        assert ncx2.sf(chi2_limit(dof), dof, noncentrality(dof)) == pytest.approx(0.8, abs=1e-6)


def by_hand(sheet_xyz, read_xyz):
    """Try every subset with scipy's alignment and return the trusted one and its rivals, as the rule says."""
    count = len(sheet_xyz)
    for size in range(count, 3, -1):
        passing = []
        for chosen in combinations(range(count), size):
            p, q = sheet_xyz[list(chosen)], read_xyz[list(chosen)]
            if np.linalg.svd(p - p.mean(0), compute_uv=False)[1] < 20:
                continue
            _, rssd = Rotation.align_vectors(p - p.mean(0), q - q.mean(0))
            if rssd**2 / S**2 <= chi2.ppf(0.999, 3 * size - 6):
                passing.append((rssd**2 / S**2, chosen))
        if passing:
            passing.sort()
            return passing[0][1], [c for x, c in passing[1:] if x <= passing[0][0] + 10]
    return (), []


@pytest.mark.parametrize("seed", range(30))
def test_the_same_subset_as_trying_all_by_hand(seed) -> None:
    random = np.random.default_rng(seed)
    count = int(random.integers(4, 8))
    places = random.uniform((-1200, -600, 100), (1200, 600, 300), (count, 3))
    wrong = {
        int(i): random.uniform(-1, 1, 3) * random.choice([4, 8, 15]) for i in random.permutation(count)[: seed % 3]
    }
    readings, _, _ = read(places, random, wrong=wrong)
    fit = fit_setup(FitSetup(sheet=sheet_of(places), readings=readings))
    trusted, rivals = by_hand(np.array([p.xyz for p in sheet_of(places).points]), np.array([r.xyz for r in readings]))
    assert fit.trusted == tuple(f"C{i}" for i in trusted)
    assert [a.trusted for a in fit.alternatives] == [tuple(f"C{i}" for i in rival) for rival in rivals]
    listed = [set(trusted), *(set(r) for r in rivals)]
    suspects = (
        [f"C{i}" for i in range(count) if not all(i in one for one in listed)]
        if trusted
        else [f"C{i}" for i in range(count)]
    )
    assert list(fit.suspects) == suspects
    if not trusted:
        assert fit.verdict == "refused"
        assert fit.rotation is None
    elif rivals or 2 * len(trusted) <= count:
        assert fit.verdict == "ambiguous"
    else:
        assert fit.verdict == "accepted"


def test_many_readings_with_three_wrong() -> None:
    random = np.random.default_rng(8)
    places = random.uniform((-1500, -600, 100), (1500, 600, 300), (18, 3))
    readings, _, _ = read(places, random, wrong={2: (9, 0, 0), 7: (0, 12, 3), 11: (-14, 2, 6)})
    fit = fit_setup(FitSetup(sheet=sheet_of(places), readings=readings))
    assert fit.verdict == "accepted"
    assert fit.suspects == ("C2", "C7", "C11")


def test_warnings() -> None:
    random = np.random.default_rng(4)
    readings, _, _ = read(SIX[:3], random, noise=0.1)
    three = fit_setup(FitSetup(sheet=sheet_of(SIX[:3]), readings=readings))
    assert [w.kind for w in three.warnings] == ["unchecked"]
    assert three.detectable_mm == {}
    far = Point(code="F9R", xyz=(6000.0, -480.0, 900.0))
    readings, _, _ = read(SIX, random, noise=0.1)
    weak = fit_setup(FitSetup(sheet=sheet_of(SIX, more=(far,)), readings=readings))
    assert [w.kind for w in weak.warnings] == ["weak"]
    assert "F9R" in weak.warnings[0].words
    assert "°" in weak.warnings[0].words
    split = {3: (40, 0, 0), 4: (0, 70, 0), 5: (0, 0, 90)}
    eight = [*SIX, (500, 300, 900), (-500, -300, 900)]
    readings, _, _ = read(eight, random, noise=0.1, wrong={**split, 6: (-55, 20, 0)})
    minority = fit_setup(FitSetup(sheet=sheet_of(eight), readings=readings))
    assert minority.verdict == "ambiguous"
    assert "minority" in [w.kind for w in minority.warnings]


def test_refused_when_nothing_agrees() -> None:
    random = np.random.default_rng(5)
    readings, _, _ = read(SIX[:4], random, wrong={0: (30, 0, 0), 1: (0, 0, -40), 2: (0, 50, 0)})
    fit = fit_setup(FitSetup(sheet=sheet_of(SIX[:4]), readings=readings))
    assert fit.verdict == "refused"
    assert fit.suspects == ("C0", "C1", "C2", "C3")
    assert (fit.rotation, fit.chi2, fit.residuals) == (None, None, {})
    assert fit.warnings[-1].kind == "refused"


def test_requests_that_are_wrong() -> None:
    random = np.random.default_rng(6)
    readings, _, _ = read(SIX, random)
    sheet = sheet_of(SIX, more=(Point(code="F1L", xyz=(1500.0, 480.0, 280.0)),))
    with pytest.raises(Refused, match="needs three"):
        fit_setup(FitSetup(sheet=sheet, readings=readings[:2]))
    with pytest.raises(Refused, match="read twice"):
        fit_setup(FitSetup(sheet=sheet, readings=(*readings, readings[0])))
    with pytest.raises(UnknownCode, match=r"C8 is not on the sheet\. Did you mean"):
        fit_setup(FitSetup(sheet=sheet, readings=(*readings, Reading(code="C8", xyz=(0.0, 0.0, 0.0)))))
    with pytest.raises(Refused, match="not a reference point"):
        fit_setup(FitSetup(sheet=sheet, readings=(*readings, Reading(code="F1L", xyz=(0.0, 0.0, 0.0)))))
    line = [(float(x), 0.0, 0.0) for x in (0, 500, 900, 1400)]
    readings, _, _ = read(line, random)
    with pytest.raises(Refused, match="on one line"):
        fit_setup(FitSetup(sheet=sheet_of(line), readings=readings))
    readings, _, _ = read(SIX, random)
    with pytest.raises(Refused, match="both 0"):
        fit_setup(FitSetup(sheet=sheet_of(SIX, build=0.0), readings=readings, sigma_mm=0.0))
