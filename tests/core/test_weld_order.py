"""The order of welds: heat against a plate in finite differences and the closed form, orders against all of them."""

import itertools
import json
import math

import numpy as np
import pytest

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.errors import FairSquareError
from fairsquare.core.weld.heat import plate_heat
from fairsquare.core.weld.order import WeldOrder, weld_order

PLATE = {"thickness_mm": 1.5, "conductivity": 45.0, "density": 7850.0, "heat_capacity": 500.0, "loss": 25.0}


def welds(many, seed, *, spread=200.0, energy=3000.0, after=False):
    random = np.random.default_rng(seed)
    made = [
        {
            "id": f"w{k}",
            "at": [float(random.uniform(0, spread)), float(random.uniform(0, 30)), 0.0],
            "energy_j": float(energy * random.uniform(0.7, 1.3)),
            "seconds": float(random.uniform(1, 4)),
        }
        for k in range(many)
    ]
    if after:
        made[0]["after"] = [f"w{many - 1}"]
        made[1]["after"] = ["w0"]
    return made


def ordered(made, **other):
    return weld_order(WeldOrder.model_validate({"welds": made, "plate": PLATE, **other}, strict=False))


def most(weld, place, since, plate=PLATE):
    """The most that a weld brings to a place from `since` seconds on, by the formula, sought over all later times."""
    thick, a = plate["thickness_mm"] / 1000, plate["conductivity"] / (plate["density"] * plate["heat_capacity"])
    b = 2 * plate["loss"] / (plate["density"] * plate["heat_capacity"] * thick)
    r2 = float(np.sum(((np.array(weld["at"]) - place) / 1000) ** 2))

    def q(t):
        return (
            weld["energy_j"] / (4 * math.pi * plate["conductivity"] * thick * t) * math.exp(-r2 / (4 * a * t) - b * t)
        )

    top = (r2 / (2 * a)) / (1 + math.sqrt(1 + b * r2 / a))
    return q(max(since, top)) if max(since, top) > 0 else math.inf


def played(made, order, ambient, limit):
    """An order played by the book: each weld begins as soon as its place is not over the limit."""
    done, now, rows = [], 0.0, []
    for k in order:
        place = np.array(made[k]["at"])

        def hot(at, place=place, done=done):
            return ambient + sum(most(made[j], place, at - end) for j, end in done)

        start = now
        if hot(start) > limit:
            low, high = start, start + 1.0
            while hot(high) > limit:
                low, high = high, high * 2
            for _ in range(60):
                middle = (low + high) / 2
                low, high = (middle, high) if hot(middle) > limit else (low, middle)
            start = high
        rows.append((start, hot(start)))
        now = start + made[k]["seconds"]
        done.append((k, now))
    return now, max(h for _, h in rows), rows


@pytest.mark.parametrize("limit", [70.0, 110.0, 400.0])
@pytest.mark.parametrize("seed", [1, 2])
@pytest.mark.parametrize("after", [False, True])
def test_up_to_eight_welds_no_order_is_better(seed, limit, after) -> None:
    made = welds(5, seed, after=after)
    found = ordered(made, limit_c=limit)
    names = [weld["id"] for weld in made]
    best = (math.inf, math.inf)
    for order in itertools.permutations(range(5)):
        if all(
            order.index(names.index(j)) < order.index(k) for k, weld in enumerate(made) for j in weld.get("after", ())
        ):
            finish, peak, _ = played(made, order, 20.0, limit)
            if finish < best[0] - 0.001 or (finish <= best[0] + 0.001 and peak < best[1]):
                best = finish, peak
    assert found.proven
    assert found.finish_s == pytest.approx(best[0], abs=0.002)
    assert found.peak_preheat_c == pytest.approx(best[1], abs=0.01)


@pytest.mark.parametrize("many", [8, 14])
def test_times_and_temperatures_are_those_of_the_order_played_by_the_book(many) -> None:
    made = welds(many, 4)
    found = ordered(made, limit_c=90.0, max_wait_s=5.0)
    names = [weld["id"] for weld in made]
    order = [names.index(one.id) for one in found.order]
    finish, peak, rows = played(made, order, 20.0, 90.0)
    assert (found.finish_s, found.peak_preheat_c) == pytest.approx((finish, peak), abs=0.01)
    assert [one.start_s for one in found.order] == pytest.approx([start for start, _ in rows], abs=0.01)
    ends = [0.0] + [start + made[k]["seconds"] for k, (start, _) in zip(order, rows, strict=True)]
    assert set(found.long_waits) == {
        names[k] for k, (start, _), end in zip(order, rows, ends, strict=False) if start - end > 5.0
    }
    assert all(one.preheat_c <= 90.0 + 1e-6 for one in found.order)


def test_beyond_eight_a_search_by_chance_finds_nothing_a_tenth_better() -> None:
    made = welds(12, 6, spread=300.0)
    found = ordered(made, limit_c=95.0)
    random = np.random.default_rng(1)
    by_chance = min(played(made, random.permutation(12), 20.0, 95.0)[0] for _ in range(60))
    assert not found.proven
    assert found.finish_s <= by_chance
    assert sorted(one.id for one in found.order) == sorted(weld["id"] for weld in made)


def test_the_closed_form_is_that_of_a_plate_in_finite_differences() -> None:
    """A plate of 400 mm square in steps of 2 mm: heat put in at the middle, carried and lost, explicit differences in time."""
    step, side, thick = 0.002, 201, PLATE["thickness_mm"] / 1000
    heat, dense = PLATE["heat_capacity"], PLATE["density"]
    a = PLATE["conductivity"] / (dense * heat)
    b = 2 * PLATE["loss"] / (dense * heat * thick)
    field = np.zeros((side, side))
    middle, energy = side // 2, 3000.0
    field[middle, middle] = energy / (dense * heat * thick * step**2)
    dt = 0.2 * step**2 / a
    at = {15.0: (10, 0), 40.0: (12, 9)}
    now, read = 0.0, {}
    for moment in sorted(at):
        while now < moment:
            inside = field[1:-1, 1:-1]
            carried = field[2:, 1:-1] + field[:-2, 1:-1] + field[1:-1, 2:] + field[1:-1, :-2] - 4 * inside
            field[1:-1, 1:-1] = inside + dt * (a * carried / step**2 - b * inside)
            now += dt
        read[moment] = field[middle + at[moment][0], middle + at[moment][1]]
    places = np.array([[0.0, 0.0, 0.0], *((2.0 * u, 2.0 * v, 0.0) for u, v in at.values())])
    plate = plate_heat(places, [energy] * 3, [1.0] * 3, ambient_c=0.0, limit_c=100.0, **PLATE)
    for k, moment in enumerate(at):
        found = plate.preheat(np.array([k + 1]), np.array([moment]), np.array([[0]]), np.array([[0.0]]))[0]
        assert found == pytest.approx(read[moment], rel=0.02)


def test_heat_on_its_way_counts_before_it_arrives() -> None:
    """Right after a weld 60 mm off nothing is felt yet; what will be counts."""
    two = [
        {"id": "a", "at": [0, 0, 0], "energy_j": 9000, "seconds": 1},
        {"id": "b", "at": [60, 0, 0], "energy_j": 100, "seconds": 1},
    ]
    found = ordered(two, limit_c=1000.0)
    second = found.order[1]
    other = two[0] if second.id == "b" else two[1]
    own = two[1] if second.id == "b" else two[0]
    assert second.preheat_c == pytest.approx(20 + most(other, np.array(own["at"]), 0.0), abs=1e-6)
    assert second.preheat_c > 20.01


@pytest.mark.parametrize(
    ("request_", "field"),
    [
        ({"welds": []}, "welds"),
        ({"welds": welds(2, 1), "limit_c": 20}, "limit_c"),
        ({"welds": [{**welds(1, 1)[0], "after": ["x"]}]}, "welds.0.after"),
        ({"welds": [{**welds(1, 1)[0], "after": ["w0"]}]}, "welds.0.after"),
        ({"welds": [welds(1, 1)[0]] * 2}, "welds.1.id"),
        ({"welds": [{**welds(1, 1)[0], "energy_j": 0}]}, "welds.0.energy_j"),
        ({"welds": welds(1, 1), "plate": {**PLATE, "loss": -1}}, "plate.loss"),
    ],
)
def test_what_cannot_be_welded_is_refused_by_name(request_, field) -> None:
    with pytest.raises(FairSquareError) as refused:
        CATALOGUE["weld-order"].run_json(json.dumps({"plate": PLATE, **request_}))
    assert refused.value.field == field


def test_two_welds_in_one_place_wait_for_one_another() -> None:
    place = {"at": [0, 0, 0], "energy_j": 3000, "seconds": 1}
    found = ordered([{**place, "id": "a"}, {**place, "id": "b"}], limit_c=60.0)
    assert found.order[1].start_s > 1.0
    assert found.order[1].preheat_c == pytest.approx(60.0, abs=1e-3)
