"""Settings, and the working time of products, against sums by hand and a plan played through minute by minute."""

import json
import math

import numpy as np
import pytest

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.weld.settings import WeldSettings, weld_settings
from fairsquare.core.weld.timeline import BondTimeline, bond_timeline


def settings(**said):
    return weld_settings(
        WeldSettings.model_validate({"metal": "steel", "thickness_mm": [1.2, 0.9], **said}, strict=False)
    )


def test_a_squeezed_weld_by_the_thinner_sheet_or_the_middle_one() -> None:
    """ISO 14373 (from memory): electrode tip and nugget 5√t, at least 3.5√t."""
    two, three = settings(process="squeeze"), settings(process="squeeze", thickness_mm=[2.0, 0.8, 1.0])
    assert (two.governing_mm, three.governing_mm) == (0.9, 1.0)
    assert (two.weld_mm, two.weld_least_mm) == pytest.approx((5 * math.sqrt(0.9), 3.5 * math.sqrt(0.9)))
    assert (three.tip_mm, three.hole_mm, three.energy_j) == (5.0, None, None)


@pytest.mark.parametrize(("top", "hole"), [(0.79, 6), (0.8, 8), (1.6, 8), (1.61, 10)])
def test_the_hole_of_a_plug_by_the_top_sheet(top, hole) -> None:
    assert settings(process="plug", thickness_mm=[top, 3.0]).hole_mm == hole


def test_heat_of_plugs_and_seams_by_hand() -> None:
    plug = settings(process="plug", arc={"method": "mag", "volts": 18, "amperes": 110, "seconds": 1.8})
    assert plug.energy_j == pytest.approx(0.8 * 18 * 110 * 1.8)
    tig = {"method": "tig", "volts": 12, "amperes": 90, "speed_mm_s": 2.0}
    seam = settings(process="seam", arc=tig)
    assert (seam.heat_input_kj_mm, seam.energy_j) == (pytest.approx(0.6 * 12 * 90 / 2 / 1000), None)
    long = settings(process="seam", arc={**tig, "method": "submerged", "length_mm": 50})
    assert long.energy_j == pytest.approx(12 * 90 / 2 * 50)


def test_the_preheat_of_a_thick_frame() -> None:
    """EN 1011-2 method B (from memory): CET 0.335, 12 mm, HD 5, Q 0.97 kJ/mm asks for 53 °C."""
    arc = {"method": "mag", "volts": 26, "amperes": 210, "speed_mm_s": 4.5}
    steel = {"c": 0.19, "mn": 1.4, "cr": 0.1}
    found = settings(process="seam", thickness_mm=[12, 12], arc=arc, composition=steel)
    assert (found.ce, found.cet) == pytest.approx((0.19 + 1.4 / 6 + 0.02, 0.19 + 0.14 + 0.005))
    assert found.preheat_c == pytest.approx(53.3728, abs=1e-3)
    assert found.preheat_valid is True
    thin = settings(process="seam", thickness_mm=[4, 4], arc=arc, composition=steel)
    assert (thin.preheat_valid, thin.preheat_c < found.preheat_c) == (False, True)
    assert settings(process="plug", composition=steel).preheat_c is None


@pytest.mark.parametrize(
    ("said", "field"),
    [
        ({"process": "squeeze", "arc": {"method": "mag", "volts": 1, "amperes": 1, "seconds": 1}}, "arc"),
        ({"process": "squeeze", "metal": "aluminium"}, "metal"),
        ({"process": "squeeze", "thickness_mm": [1.0, 3.2]}, "thickness_mm.1"),
        ({"process": "seam", "arc": {"method": "mag", "volts": 1, "amperes": 1, "seconds": 1}}, "arc.seconds"),
        ({"process": "plug", "arc": {"method": "mag", "volts": 1, "amperes": 1, "speed_mm_s": 1}}, "arc.speed_mm_s"),
        ({"process": "plug", "metal": "aluminium", "composition": {"c": 0.1}}, "composition"),
        ({"process": "plug", "thickness_mm": [0.0, 1.0]}, "thickness_mm.0"),
        ({"process": "plug", "thickness_mm": [1.0]}, "thickness_mm"),
    ],
)
def test_settings_that_make_no_sense_are_refused_by_name(said, field) -> None:
    with pytest.raises(FairSquareError) as refused:
        CATALOGUE["weld-settings"].run_json(json.dumps({"metal": "steel", "thickness_mm": [1.2, 0.9], **said}))
    assert refused.value.field == field


def timeline(steps, products, temperature=23.0):
    made = [{"id": str(k), **step} for k, step in enumerate(steps)]
    return bond_timeline(
        BondTimeline.model_validate({"temperature_c": temperature, "products": products, "steps": made}, strict=False)
    )


FOAM = {"id": "foam", "open_min": 15, "at_c": 23, "cure_min": 30}
GLUE = {"id": "glue", "open_min": 90, "at_c": 23, "q10": 2, "cure_min": 240}


def test_ten_degrees_warmer_halves_the_time() -> None:
    steps = [{"minutes": 5, "opens": ["glue"], "closes": ["glue"]}]
    cold, warm = timeline(steps, [GLUE], 13), timeline(steps, [GLUE], 33)
    assert (cold.products["glue"].open_min, warm.products["glue"].open_min) == (180, 45)
    assert (cold.products["glue"].cured_min, warm.products["glue"].cured_min) == (5 + 480, 5 + 120)
    assert (warm.fits, warm.finish_min) == (True, 125)
    assert timeline(steps, [GLUE], 36).products["glue"].temperature_ok is False
    assert timeline(steps, [GLUE], 35).fits is True


def test_a_step_waits_for_what_must_be_cured_and_swallows_a_delay() -> None:
    steps = [
        {"minutes": 5, "opens": ["foam"], "closes": ["foam"]},
        {"minutes": 10, "opens": ["glue"]},
        {"minutes": 5, "needs_cured": ["foam"], "closes": ["glue"]},
    ]
    found = timeline(steps, [FOAM, GLUE])
    assert [(step.start_min, step.end_min) for step in found.steps] == [(0, 5), (5, 15), (35, 40)]
    assert found.steps[2].latest_start_min == pytest.approx(90), "glue opened at 5 is closed by 95"
    assert [step.latest_start_min for step in found.steps[:2]] == [None, None]


@pytest.mark.parametrize("seed", range(40))
def test_the_latest_start_is_that_of_delays_played_through(seed) -> None:
    """A step begun a little before its latest start leaves everything closed in time; a little after, something is not."""
    random = np.random.default_rng(seed)
    many = int(random.integers(3, 7))
    products = []
    steps = [
        {"minutes": float(random.integers(1, 30)), "opens": [], "closes": [], "needs_cured": []} for _ in range(many)
    ]
    for name in ("a", "b", "c"):
        first, last = sorted(random.integers(0, many, 2).tolist())
        steps[first]["opens"].append(name)
        steps[last]["closes"].append(name)
        products.append(
            {
                "id": name,
                "open_min": float(random.integers(20, 120)),
                "at_c": 23,
                "cure_min": float(random.integers(5, 60)),
            }
        )
        if last + 1 < many and random.random() < 0.6:
            steps[int(random.integers(last + 1, many))]["needs_cured"].append(name)
    found = timeline(steps, products)
    for k, step in enumerate(found.steps):
        running = {p["id"] for p in products if opened(steps, p["id"]) < k <= closed(steps, p["id"])}
        late = any(not found.products[name].fits for name in running)
        assert (step.latest_start_min is None) == (not running or late)
        if step.latest_start_min is not None:
            for delay, fine in (
                (step.latest_start_min - step.start_min - 1e-6, True),
                (step.latest_start_min - step.start_min + 1e-3, False),
            ):
                if delay >= 0:
                    assert all_closed(steps, products, running, found, k, delay) == fine


def opened(steps, name):
    return next(k for k, step in enumerate(steps) if name in step["opens"])


def closed(steps, name):
    return next(k for k, step in enumerate(steps) if name in step["closes"])


def all_closed(steps, products, running, found, late, delay):
    """Play the steps with one of them begun late; say whether what was running is closed in its time."""
    wide = {p["id"]: p["open_min"] for p in products}
    cure = {p["id"]: p["cure_min"] for p in products}
    now, starts, ends, cured = 0.0, {}, {}, {}
    for k, step in enumerate(steps):
        now = max([now, *(cured[name] for name in step["needs_cured"])])
        if k == late:
            now = found.steps[k].start_min + delay
        for name in step["opens"]:
            starts[name] = now
        now += step["minutes"]
        for name in step["closes"]:
            ends[name], cured[name] = now, now + cure[name]
    return all(ends[name] - starts[name] <= wide[name] + 1e-9 for name in running)


@pytest.mark.parametrize(
    ("steps", "products", "field"),
    [
        ([{"minutes": 1, "opens": ["foam"]}], [FOAM], "products.0.id"),
        ([{"minutes": 1, "opens": ["foam", "foam"], "closes": ["foam"]}], [FOAM], "steps.0.opens"),
        ([{"minutes": 1, "closes": ["foam"]}, {"minutes": 1, "opens": ["foam"]}], [FOAM], "steps.0.closes"),
        ([{"minutes": 1, "opens": ["tar"], "closes": ["tar"]}], [], "steps.0.opens"),
        (
            [{"minutes": 1, "opens": ["foam"], "closes": ["foam"], "needs_cured": ["foam"]}],
            [FOAM],
            "steps.0.needs_cured",
        ),
        (
            [{"minutes": 1, "opens": ["foam"], "closes": ["foam"]}, {"minutes": 1, "needs_cured": ["foam"]}],
            [{**FOAM, "cure_min": None}],
            "steps.1.needs_cured",
        ),
        (
            [{"minutes": 1, "opens": ["foam"], "closes": ["foam"]}],
            [{**FOAM, "range_c": [30, 10]}],
            "products.0.range_c",
        ),
    ],
)
def test_steps_that_cannot_be_are_refused_by_name(steps, products, field) -> None:
    with pytest.raises(Refused) as refused:
        timeline(steps, products)
    assert refused.value.field == field


def test_a_product_that_is_open_for_no_time_is_refused() -> None:
    with pytest.raises(FairSquareError) as refused:
        CATALOGUE["bond-timeline"].run_json(
            json.dumps({"temperature_c": 20, "products": [{**FOAM, "open_min": 0}], "steps": []})
        )
    assert refused.value.field == "products.0.open_min"
