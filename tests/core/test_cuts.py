"""Where to cut, against exhaustive search on a fine grid; the budget of a gap, against integrals and simulation."""

import itertools
import math

import numpy as np
import pytest
from scipy import integrate, stats

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.cut.budget import CutBudget, cut_budget, gap_density
from fairsquare.core.cut.place import PlaceCuts, place_cuts
from fairsquare.core.errors import FairSquareError, Refused

KINDS = ("hole", "bracket", "hinge")


def strip(**other):
    """A rail of two layers, the outer with a hole in the way."""
    fields = {
        "layers": [
            {"id": "outer", "from": 0, "to": 1000, "thickness_mm": 0.8, "material": "mild"},
            {"id": "inner", "from": 0, "to": 1000, "thickness_mm": 1.2, "material": "mild"},
        ],
        "features": [{"kind": "hole", "from": 400, "to": 410, "layers": ["outer"]}],
        "damage": {"outer": (430, 800), "inner": (520, 700)},
        "keep": "low",
        "clearance_mm": {"hole": 15, "damage": 0},
        "stagger_mm": 50,
    }
    return PlaceCuts.model_validate({**fields, **other}, strict=False)


def random_strip(random, *, hard=False):
    """A strip with whole millimetres for all limits, so that the best cuts stand on whole millimetres too."""
    names = ["outer", "reinforcement", "inner"][: random.integers(1, 4)]
    layers = [{"id": name, "from": int(random.integers(-10, 6)), "to": int(random.integers(45, 60))} for name in names]
    for layer in layers:
        layer |= {"thickness_mm": float(random.choice([0.5, 1.0, 2.0])), "material": "mild"}
    stretch = lambda: sorted(random.integers(-5, 55, 2).tolist())  # noqa: E731
    features = []
    for _ in range(random.integers(0, 7 if hard else 4)):
        low, high = stretch()
        high = min(high, low + int(random.integers(0, 25 if hard else 10)))
        own = (
            None if random.random() < 0.4 else random.choice(names, random.integers(1, len(names) + 1), False).tolist()
        )
        features.append({"kind": str(random.choice(KINDS)), "from": low, "to": high, "layers": own})
    some = lambda many: [  # noqa: E731
        {"layer": str(random.choice(names)), "from": a, "to": b}
        for a, b in (stretch() for _ in range(random.integers(0, many)))
    ]
    cut = random.choice(names, random.integers(1, len(names) + 1), False).tolist()
    damage = {}
    for name in cut:
        layer = next(one for one in layers if one["id"] == name)
        low = int(random.integers(layer["from"], layer["to"]))
        damage[name] = (low, int(random.integers(low, layer["to"] + 1)))
    return PlaceCuts.model_validate(
        {
            "layers": layers,
            "features": features,
            "windows": some(4),
            "access": some(3),
            "damage": damage,
            "keep": str(random.choice(["low", "high"])),
            "clearance_mm": {"hole": 3, "bracket": 2, "hinge": 1} | ({"damage": 4} if random.random() < 0.5 else {}),
            "stagger_mm": int(random.choice([0, 5, 12, 30])),
        },
        strict=False,
    )


def breaks(request, name, x):
    """The rules that a cut of a layer at x breaks, read off the rule book one by one."""
    found = set()
    low, high = request.damage[name]
    clear = request.clearance_mm.get("damage", 0)
    if (x > low - clear) if request.keep == "low" else (x < high + clear):
        found.add(("damage", name))
    for rule, stretches in (("window", request.windows), ("access", request.access)):
        own = [one for one in stretches if one.layer == name]
        if own and not any(one.start <= x <= one.end for one in own):
            found.add((rule, name))
    for index, feature in enumerate(request.features):
        c = request.clearance_mm[feature.kind]
        if (feature.layers is None or name in feature.layers) and feature.start - c < x < feature.end + c:
            found.add(("feature", index))
    return found


def on_the_grid(request, dropped=lambda _: False):
    """The least removed length and metal over all whole millimetres, or None; rules that are `dropped` do not count."""
    layers = [layer for layer in request.layers if layer.id in request.damage]
    near = {k: dropped(("stagger", k)) for k in range(len(layers))}
    best = {(): (0.0, 0.0)}
    for layer in layers:
        grown = {}
        for x in range(int(layer.start), int(layer.end) + 1):
            if any(not dropped(rule) for rule in breaks(request, layer.id, x)):
                continue
            off = layer.end - x if request.keep == "low" else x - layer.start
            for before, (removed, metal) in best.items():
                k = layers.index(layer) - 1
                if before and abs(before[0] - x) < request.stagger_mm and not near[k]:
                    continue
                entry = removed + off, metal + off * layer.thickness_mm
                grown[x,] = min(grown.get((x,), (math.inf, math.inf)), entry)
        best = grown
    return min(best.values(), default=None)


@pytest.mark.parametrize("seed", range(120))
def test_the_best_cuts_are_those_of_a_search_over_every_millimetre(seed):
    request = random_strip(np.random.default_rng(seed), hard=seed % 2 == 1)
    expected = on_the_grid(request)
    if expected is None:
        with pytest.raises(Refused) as refused:
            place_cuts(request)
        assert_smallest(request, refused.value.details["conflict"])
        return
    found = place_cuts(request)
    assert (found.removed_mm, found.removed_metal_mm2) == pytest.approx(expected, abs=1e-9)
    assert_keeps_to_the_rules(request, found)


def assert_keeps_to_the_rules(request, found):
    cut = [layer for layer in request.layers if layer.id in request.damage]
    for name, x in found.cuts.items():
        assert not breaks(request, name, x)
    for a, b in itertools.pairwise(cut):
        assert abs(found.cuts[a.id] - found.cuts[b.id]) >= request.stagger_mm
    for layer in cut:
        for x in np.arange(layer.start, layer.end + 0.25, 0.5):
            allowed = any(a <= x <= b for a, b in found.feasible[layer.id])
            assert allowed == (not breaks(request, layer.id, x))
            why = {one.reason for one in found.rejected[layer.id] if one.start < x < one.end}
            if not allowed and x not in limits(found.rejected[layer.id]):
                (reason,) = why
                kinds = {
                    request.features[n].kind if rule == "feature" else rule for rule, n in breaks(request, layer.id, x)
                }
                assert reason in kinds


def limits(rejected):
    return {end for one in rejected for end in (one.start, one.end)}


def assert_smallest(request, conflict):
    """The rules named leave no place by themselves, and no smaller set of rules does."""
    cut = [layer.id for layer in request.layers if layer.id in request.damage]
    named = set()
    for one in conflict:
        about = cut.index(one["layers"][0]) if one["rule"] == "stagger" else one.get("feature", one.get("layer"))
        named.add((one["rule"], about))
    assert on_the_grid(request, lambda rule: rule not in named) is None
    rules = {rule for name in cut for x in range(-20, 70) for rule in breaks(request, name, x)}
    rules |= {("stagger", k) for k in range(len(cut) - 1)}
    for fewer in itertools.combinations(sorted(rules, key=str), len(named) - 1):
        assert on_the_grid(request, lambda rule, fewer=fewer: rule not in fewer) is not None


def test_a_worked_example():
    """Of the worked examples of the calculation: a window of seven millimetres beyond a hinge and two holes."""
    found = place_cuts(strip())
    assert found.cuts == {"outer": 430, "inner": 520}
    assert found.removed_mm == 570 + 480
    assert found.feasible["outer"] == ((0, 385), (425, 430))
    nearer = place_cuts(strip(damage={"outer": (430, 800), "inner": (450, 700)}))
    assert nearer.cuts == {"outer": 385, "inner": 450}, (
        "the inner cut back to 375 would take 10 mm less of thin outer, more in all"
    )


def test_of_equal_lengths_the_thinner_metal_comes_off():
    request = strip(features=[], damage={"outer": (500, 800), "inner": (500, 700)})
    assert place_cuts(request).cuts == {"outer": 450, "inner": 500}


def test_limits_that_touch_leave_one_station_even_where_tenths_do_not_add_up():
    windows = [{"layer": "outer", "from": 0.3, "to": 0.3}]
    features = [{"kind": "hole", "from": 0, "to": 0.1, "layers": None}]
    request = strip(windows=windows, features=features, clearance_mm={"hole": 0.2}, damage={"outer": (430, 800)})
    assert 0.1 + 0.2 > 0.3
    assert place_cuts(request).cuts["outer"] == pytest.approx(0.3)


@pytest.mark.parametrize(
    ("other", "field"),
    [
        ({"damage": {}}, "damage"),
        ({"damage": {"outer": (900, 1100)}}, "damage.outer"),
        ({"damage": {"floor": (1, 2)}}, "damage.floor"),
        ({"damage": {"outer": (800, 430)}}, "damage.outer"),
        ({"clearance_mm": {}}, "features.0.kind"),
        ({"windows": [{"layer": "outer", "from": 9, "to": 1}]}, "windows.0.from"),
        ({"access": [{"layer": "floor", "from": 1, "to": 9}]}, "access.0.layer"),
        ({"features": [{"kind": "hole", "from": 1, "to": 2, "layers": ["floor"]}]}, "features.0.layers"),
    ],
)
def test_what_contradicts_itself_is_refused_by_name(other, field):
    with pytest.raises(Refused) as refused:
        place_cuts(strip(**other))
    assert refused.value.field == field


def test_a_layer_twice_and_a_layer_of_no_thickness_are_refused():
    layer = {"id": "outer", "from": 0, "to": 9, "thickness_mm": 1.0, "material": "mild"}
    for layers, field in (([layer, layer], "layers.1.id"), ([{**layer, "thickness_mm": 0}], "layers.0.thickness_mm")):
        asked = {"layers": layers, "damage": {"outer": [1, 2]}, "keep": "low", "clearance_mm": {}}
        with pytest.raises(FairSquareError) as refused:
            CATALOGUE["place-cuts"].run_json(__import__("json").dumps(asked))
        assert refused.value.field == field


def budget(**other):
    fields = {"marking": "scribe", "kerf_mm": 1.2, "kerf_sigma_mm": 0.15, "trim_sigma_mm": 0.3}
    return CutBudget(**{**fields, **other})


def by_integration(asked):
    """P(low ≤ gap ≤ high) by scipy's quadrature over the marks, with scipy's normal."""
    low, high = asked.limits
    half = asked.width / 2

    def inside(t):
        normal = stats.norm(asked.gap + t, asked.normal_sigma)
        return normal.cdf(high) - normal.cdf(low)

    if asked.marks == 1:
        return integrate.quad(lambda t: inside(t) / (2 * half), -half, half, epsabs=1e-12)[0]
    weight = lambda t: (2 * half - abs(t)) / (4 * half**2)  # noqa: E731
    return integrate.quad(lambda t: inside(t) * weight(t), -2 * half, 2 * half, points=[0], epsabs=1e-12)[0]


@pytest.mark.parametrize("width", [1e-4, 0.05, 0.2, 0.4, 3.0, 20.0])
@pytest.mark.parametrize("marks", [1, 2])
@pytest.mark.parametrize("sigma", [0.05, 0.3, 2.0])
def test_the_probability_is_that_of_the_integral(width, marks, sigma):
    asked = budget(line_width_mm=width, marks=marks, trim_sigma_mm=sigma, limits_mm=(0.7, 2.9))
    assert cut_budget(asked).probability == pytest.approx(by_integration(asked), abs=1e-9)


@pytest.mark.parametrize("marking", ["scribe", "tape", "felt_tip"])
def test_a_simulation_of_the_shop_agrees(marking):
    """200,000 joints marked, sawn and trimmed by chance: three standard errors of their share."""
    asked, many = budget(marking=marking), 200_000
    random = np.random.default_rng(5)
    gaps = asked.gap + random.uniform(-asked.width / 2, asked.width / 2, (2, many)).sum(0)
    gaps += random.normal(0, 0.15, (2, many)).sum(0) + random.normal(0, 0.3, (2, many)).sum(0)
    found = cut_budget(asked)
    assert found.gap_sigma_mm == pytest.approx(gaps.std(), rel=0.01)
    share = np.mean((gaps >= 1) & (gaps <= 3))
    assert found.probability == pytest.approx(share, abs=3 * math.sqrt(share * (1 - share) / many))
    at = np.linspace(-4, 8, 400)
    assert integrate.trapezoid(gap_density(asked, at), at) == pytest.approx(1, abs=1e-3)


@pytest.mark.parametrize(
    ("other", "probability"),
    [
        ({"line_width_mm": 4.0, "marks": 1}, 0.5),
        ({"line_width_mm": 2.0, "marks": 2}, 0.75),
        ({"line_width_mm": 0.0}, 1.0),
        ({"line_width_mm": 0.0, "limits_mm": (0.5, 1.5)}, 0.0),
    ],
)
def test_without_a_sigma_only_the_marks_stray(other, probability):
    asked = budget(kerf_sigma_mm=0.0, trim_sigma_mm=0.0, **other)
    assert cut_budget(asked).probability == pytest.approx(probability, abs=1e-12)


def test_worked_budgets_and_their_offsets():
    scribed, felt = cut_budget(budget()), cut_budget(budget(marking="felt_tip"))
    assert (scribed.verdict, felt.verdict) == ("holds", "fails")
    assert scribed.probability == pytest.approx(0.9622618799, abs=1e-9)
    assert felt.probability == pytest.approx(0.5307643966, abs=1e-9)
    assert (scribed.cut_offsets.edge_mm, scribed.cut_offsets.blade_mm) == pytest.approx((-1.0, -0.4))
    one = cut_budget(budget(marks=1, backing=False)).cut_offsets
    assert (one.edge_mm, one.blade_mm) == pytest.approx((-0.5, 0.1))
    assert budget(backing=False).limits == (0.0, 1.0)
    assert budget(gap_mm=0.4).limits == (0.0, 1.4)


@pytest.mark.parametrize("limits_mm", [(3.0, 1.0), (2.0, 2.0), (-1.0, 2.0)])
def test_limits_that_make_no_sense_are_refused(limits_mm):
    with pytest.raises(Refused) as refused:
        cut_budget(budget(limits_mm=limits_mm))
    assert refused.value.field == "limits_mm"
