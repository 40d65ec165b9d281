"""Drill maps against an enumeration of every method on every layer of small stacks, and by the rules that keep a seam whole."""

import itertools

import numpy as np
import pytest

from fairsquare.core.cut.drill import DrillMap, drill_map
from fairsquare.core.errors import Refused

SIDES = ("top", "bottom")


def weld(lots, hard="", vehicle=SIDES, donor=SIDES, after=SIDES, squeeze=False, name="1"):
    """A weld by its lots from top to bottom: s stays, r returns, d comes from the donor; `hard` lists the places of hard layers."""
    stack = [
        {"part": "ABCD"[i], "stays": lot == "s", "returns": lot == "r", "hard": str(i) in hard}
        for i, lot in enumerate(lots)
    ]
    reach = {"vehicle": list(vehicle), "donor": list(donor)}
    return {"id": name, "stack": stack, "reach_before": reach, "reach_after": list(after), "squeeze": squeeze}


def mapped(*welds, kind="used"):
    return drill_map(DrillMap.model_validate({"welds": welds, "donor": kind}, strict=False)).welds


def openings(lots, hard, keeps, reach):
    """Every way to open a stack by hand: what each side's tool does to each layer, then what the rules say of it.

    Yields holes in kept layers, the open joints, and the work.
    """
    n = len(lots)
    yield frozenset(), frozenset(), 0
    if reach and not any(hard):
        yield frozenset(i for i in range(n) if keeps[i]), frozenset(range(n - 1)), 2
    for tools in itertools.product(("", "flat", "grind"), repeat=2):
        for deep in itertools.product(range(n), repeat=2):
            taken = [range(deep[0]), range(n - deep[1], n)]
            if any((tool == "") != (k == 0) for tool, k in zip(tools, deep, strict=True)) or tools == ("", ""):
                continue
            if any(tool and side not in reach for tool, side in zip(tools, SIDES, strict=True)):
                continue
            if set(taken[0]) & set(taken[1]) or sum(deep) >= n:
                continue
            spoiled = any(
                (tool == "flat" and hard[i]) or (tool == "grind" and keeps[i])
                for tool, layers in zip(tools, taken, strict=True)
                for i in layers
            )
            if spoiled:
                continue
            holes = {
                i for tool, layers in zip(tools, taken, strict=True) for i in layers if tool == "flat" and keeps[i]
            }
            opened = set(taken[0]) | {i - 1 for i in taken[1]}
            work = sum({"": 0, "flat": 3, "grind": 5}[tool] * k for tool, k in zip(tools, deep, strict=True))
            yield frozenset(holes), frozenset(opened), work


def on_the_donor(lots, hard, one, kind):
    """Every way to prepare the donor."""
    n, joints, ours = len(lots), range(len(lots) - 1), [lot == "d" for lot in lots]
    if not any(ours):
        return [(frozenset(), frozenset(), 0)]
    if kind == "used":
        must = {j for j in joints if ours[j] != ours[j + 1]}
        return [w for w in openings(lots, hard, ours, one["reach_before"]["donor"]) if must <= w[1]]
    runs = [list(g) for is_ours, g in itertools.groupby(range(n), key=lambda i: ours[i]) if is_ours]
    ways = []
    for drilled in itertools.product((False, True), repeat=len(runs)):
        taken = [run for run, d in zip(runs, drilled, strict=True) if d]
        if not any(hard[i] for run in taken for i in run):
            holes = frozenset(i for run in taken for i in run)
            ways.append((holes, frozenset(i for run in taken for i in run[:-1]), 2 * len(taken)))
    return ways


def by_enumeration(lots, hard, one, kind):
    """The fewest kept holes and the least work of a weld, or the stage at which it fails."""
    n, joints = len(lots), range(len(lots) - 1)
    apart = {j for j in joints if lots[j] != lots[j + 1]}
    keeps = [lot != "d" for lot in lots]
    vehicle = [w for w in openings(lots, hard, keeps, one["reach_before"]["vehicle"]) if apart <= w[1]]
    if not vehicle:
        return "vehicle"
    donor = on_the_donor(lots, hard, one, kind)
    if not donor:
        return "donor"
    best = None
    for (h1, o1, w1), (h2, o2, w2) in itertools.product(vehicle, donor):
        holes = h1 | h2
        opened = apart | {j for j in joints if j in (o1 if keeps[j] else o2)}
        if any(j in holes and j + 1 in holes for j in apart):
            continue
        costs = []
        if not opened and not holes:
            costs.append(0)
        if opened and not holes and one["squeeze"] and set(one["reach_after"]) == set(SIDES):
            costs.append(2)
        for a, b in itertools.product(range(n), repeat=2):
            if opened and a + b and a + b < n and holes == {*range(a), *range(n - b, n)}:
                sides = {side for side, k in zip(SIDES, (a, b), strict=True) if k}
                if sides <= set(one["reach_after"]) and not any(j in opened for j in range(a, n - b - 1)):
                    costs.append(4 * len(sides))
        if costs:
            entry = sum(lots[i] != "d" for i in holes), w1 + w2 + min(costs)
            best = entry if best is None else min(best, entry)
    return best or "rejoin"


def small_stacks(many, most):
    """Stacks of every lot and hardness with sides in reach, all of them or, where there are more than `most`, some by chance."""
    reaches = [(), ("top",), ("bottom",), SIDES]
    every = itertools.product(
        itertools.product("srd", repeat=many),
        itertools.product((False, True), repeat=many),
        reaches,
        reaches,
        reaches,
        (False, True),
    )
    every = list(every)
    chosen = np.random.default_rng(many).permutation(len(every))[:most]
    return [every[i] for i in chosen]


@pytest.mark.parametrize("kind", ["used", "new"])
@pytest.mark.parametrize(("many", "most"), [(2, 600), (3, 300), (4, 150)])
def test_the_best_way_is_that_of_an_enumeration(many, most, kind):
    for number, (lots, hard, vehicle, donor, after, squeeze) in enumerate(small_stacks(many, most)):
        places = "".join(str(i) for i, one in enumerate(hard) if one)
        one = weld(lots, places, vehicle, donor, after, squeeze, name=str(number))
        (found,) = mapped(one, kind=kind)
        expected = by_enumeration(lots, hard, one, kind)
        if found.possible:
            assert (found.kept_holes, found.work) == expected, one
        else:
            assert found.stage == expected, one
            assert set(found.in_the_way) == smallest_softened(lots, hard, one, kind, found), one


def smallest_softened(lots, hard, one, kind, found):
    """The layers said to be in the way, when they are a smallest set whose softness would help; else some other set."""
    names = "ABCD"
    for many in range(1, sum(hard) + 1):
        helps = []
        for softened in itertools.combinations([i for i, h in enumerate(hard) if h], many):
            soft = [h and i not in softened for i, h in enumerate(hard)]
            if not isinstance(by_enumeration(lots, soft, one, kind), str):
                helps.append({names[i] for i in softened})
        if helps:
            return set(found.in_the_way) if set(found.in_the_way) in helps else helps[0]
    return set()


def test_no_plug_ever_meets_a_hole_in_both_flanges():
    stacks = small_stacks(3, 800)
    welds = [weld(lots, "", v, d, a, s, str(n)) for n, (lots, _, v, d, a, s) in enumerate(stacks)]
    for (lots, *_), found in zip(stacks, mapped(*welds), strict=True):
        if not found.possible:
            continue
        assert set(found.holes) | set(found.do_not_drill) == set("ABC")
        holed = ["ABC".index(part) for part in found.holes]
        assert not any(i + 1 in holed and lots[i] != lots[i + 1] for i in holed)
        assert not found.holes or found.do_not_drill, "a plug is welded onto something whole"


def test_worked_welds():
    """Of the worked examples: two layers cut from above over two that return; hard upper layer ground and squeezed; a hole kept."""
    (over,) = mapped(weld("ddrr", vehicle=["top"], after=["top"], squeeze=True))
    assert [(cut.method, cut.side, cut.layers) for cut in over.vehicle] == [("flat_cutter", "top", ("A", "B"))]
    assert [(cut.method, cut.layers) for cut in over.donor] == [("through_drill", ("A", "B", "C", "D"))]
    assert (over.holes, over.do_not_drill, over.kept_holes, over.work) == (("A", "B"), ("C", "D"), 0, 12)
    (ground,) = mapped(weld("ds", "0", vehicle=["top"], squeeze=True), kind="new")
    assert [(cut.method, cut.layers) for cut in ground.vehicle] == [("grind", ("A",))]
    assert ([one.method for one in ground.rejoin], ground.donor, ground.holes, ground.work) == (["squeeze"], (), (), 7)
    (kept,) = mapped(weld("dds", "1", donor=["bottom"]), kind="new")
    assert [(cut.method, cut.side, cut.layers) for cut in kept.vehicle] == [("flat_cutter", "bottom", ("C",))]
    assert (kept.kept_holes, kept.donor, [(one.method, one.side) for one in kept.rejoin]) == (
        1,
        (),
        [("plug", "bottom")],
    )


def test_a_weld_that_cannot_be_done_says_what_is_in_the_way_and_what_to_do():
    hard, blind, twice = mapped(
        weld("sds", "1", vehicle=["top"]), weld("ds", "0", after=[]), weld("dsdr", vehicle=["top"]), kind="new"
    )
    assert (hard.stage, hard.in_the_way) == ("vehicle", ("B",))
    assert "B is too hard to drill" in hard.words
    assert (blind.stage, blind.in_the_way) == ("rejoin", ())
    assert "Instead: " in blind.words
    assert twice.possible is False
    assert "Instead: " in twice.words or "other means" in twice.words


@pytest.mark.parametrize(
    ("one", "field"),
    [
        (weld("s"), "welds.0.stack"),
        ({**weld("sd"), "stack": weld("sdsd")["stack"] + weld("s")["stack"]}, "welds.0.stack"),
        ({**weld("sd"), "stack": [weld("s")["stack"][0]] * 2}, "welds.0.stack.1.part"),
        (
            {**weld("sd"), "stack": [{**weld("s")["stack"][0], "returns": True}, weld("sd")["stack"][1]]},
            "welds.0.stack.0.returns",
        ),
    ],
)
def test_stacks_that_are_none_are_refused(one, field):
    with pytest.raises(Refused) as refused:
        mapped(one)
    assert refused.value.field == field


def test_a_flange_where_all_stays_needs_nothing():
    (found,) = mapped(weld("ss", "01", vehicle=[], after=[]))
    assert (found.possible, found.vehicle, found.rejoin, found.do_not_drill) == (True, (), (), ("A", "B"))
