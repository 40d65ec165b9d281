"""Where readings put a point: what is said of the uncertainty is what is seen over simulated set-ups."""

import numpy as np
import pytest
from scipy.spatial.transform import Rotation

from fairsquare.core.errors import Refused
from fairsquare.core.measure.positions import PlaceReadings, place_readings
from fairsquare.core.measure.setup import Reading
from fairsquare.core.sheet.model import Point, Sheet

BUILD, SIGMA = 0.5, 0.3
PLACES = {
    "C1L": (1016.0, 548.0, 180.0),
    "C1R": (1016.0, -548.0, 180.0),
    "C2L": (118.0, 578.0, 190.0),
    "C3L": (-884.0, 556.0, 180.0),
    "C3R": (-884.0, -556.0, 175.0),
}
FAR = (2420.0, 486.0, 428.0)
SHEET = Sheet(
    name="s",
    construction="unibody",
    build_sigma_mm=BUILD,
    points=(*(Point(code=c, xyz=p, reference=True) for c, p in PLACES.items()), Point(code="F5L", xyz=FAR)),
)


def simulate(random, far_readings: int):
    rotation, translation = Rotation.random(random_state=random).as_matrix(), random.uniform(-900, 900, 3)
    true = {code: np.array(p) + random.normal(0, BUILD, 3) for code, p in PLACES.items()} | {"F5L": np.array(FAR)}

    def read(code: str) -> Reading:
        xyz = (true[code] - translation) @ rotation + random.normal(0, SIGMA, 3)
        return Reading(code=code, xyz=tuple(float(v) for v in xyz))

    references = tuple(read(code) for code in PLACES)
    own = (references[0], *(read("F5L") for _ in range(far_readings)))
    return PlaceReadings(sheet=SHEET, references=references, readings=own, sigma_mm=SIGMA), true


@pytest.mark.parametrize("far_readings", [1, 3])
def test_covariance_seen_is_covariance_said(far_readings) -> None:
    random = np.random.default_rng(far_readings)
    errors = {"C1L": [], "F5L": []}
    said = {}
    for _ in range(1500):
        request, true = simulate(random, far_readings)
        found = place_readings(request)
        if len(found.fit.trusted) < len(PLACES):
            continue
        for code, own in errors.items():
            own.append(np.array(found.points[code].xyz) - true[code])
            said.setdefault(code, []).append(np.array(found.points[code].covariance))
    for code, own in errors.items():
        seen, mean = np.cov(np.array(own).T), np.mean(said[code], axis=0)
        if far_readings == 1 or code == "C1L":
            assert np.allclose(np.sqrt(np.diag(seen)), np.sqrt(np.diag(mean)), rtol=0.08)
        else:
            assert (np.diag(seen) <= np.diag(mean) * 1.1).all(), "the scatter rule never claims too much"


def test_scatter_is_shown_and_counts() -> None:
    request, _ = simulate(np.random.default_rng(7), 1)
    one = request.readings[1]
    away = Reading(code="F5L", xyz=(one.xyz[0] + 8.0, one.xyz[1], one.xyz[2]))
    found = place_readings(request.model_copy(update={"readings": (one, away)})).points["F5L"]
    assert found.readings == 2
    assert found.scatter_mm == pytest.approx(4.0)
    alone = place_readings(request).points["F5L"]
    assert np.trace(found.covariance) > np.trace(alone.covariance) + 10


def test_a_choice_is_kept_to() -> None:
    request, _ = simulate(np.random.default_rng(9), 1)
    four = ("C1L", "C1R", "C3L", "C3R")
    found = place_readings(request.model_copy(update={"trusted": four}))
    assert found.fit.trusted == four
    with pytest.raises(Refused, match="C9 cannot be trusted"):
        place_readings(request.model_copy(update={"trusted": ("C1L", "C9")}))
