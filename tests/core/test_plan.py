"""The pull plan: played again through simulate-frame, it does what it says and breaks no rule, on frames that were hit at
an end."""

import json
from functools import cache
from itertools import pairwise

import numpy as np
import pytest

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.damage.read import UNDO_ORDER
from fairsquare.core.errors import Refused
from fairsquare.core.pull.game import Chain
from fairsquare.core.pull.plan import MODES, PlanPulls, plan_pulls, play_pulls
from fairsquare.core.structure.simulate import SimulateFrame, simulate_frame
from fairsquare.core.structure.skeleton import Leg
from tests.core.frames import frame, ladder

CAPACITY = 250e3


@cache
def struck(seed, far, stations):
    """A ladder whose front right end was pushed until it stays `far` mm from home: itself, and how far its nodes moved."""
    rng = np.random.default_rng(seed)
    made = ladder(stations, rng)
    end = f"R{stations - 1}"
    way = np.array([-1.0, rng.normal(0, 0.4), rng.normal(0, 0.4)])
    low, high = 0.0, 9e5
    for _ in range(24):
        force = (low + high) / 2
        done = simulate_frame(frame(*made.values(), {end: tuple(force * way)}, {}, steps=6))
        moved = {node: np.array(six[:3]) for node, six in done.legs[-1].displacements.items()}
        far_now = max(np.abs(v).max() for v in moved.values())
        if abs(far_now - far) < 0.5:
            break
        low, high = (force, high) if far_now < far else (low, force)
    return made, moved


def hit(seed, far=18.0, school="outward", stations=5, **rig):
    """A struck ladder, and a rig about it."""
    made, moved = struck(seed, far, stations)
    code = {node: f"F{node[1:]}{node[0]}" for node in made["nodes"]}
    front = max(x for x, _, _ in made["nodes"].values())
    towers = [((front + 1800, y), f"t{y}") for y in (300, -300)] + [((front - 150, y), f"t{y}") for y in (2100, -2100)]
    hooks = [node for node in made["nodes"] if node not in made["supports"]]
    whole = json.loads(frame(*made.values()).model_dump_json())
    return {
        "sheet": {
            "name": "s",
            "construction": "ladder",
            "points": [{"code": code[n], "xyz": list(p)} for n, p in made["nodes"].items()],
        },
        "points": {code[n]: {"xyz": list(np.add(p, moved[n]).round(3))} for n, p in made["nodes"].items()},
        "skeleton": {name: whole[name] for name in ("nodes", "members", "sections", "supports")}
        | {"codes": {n: code[n] for n in code}},
        "rig": {
            "towers": [{"id": name, "at": list(at), "z": [150, 900], "capacity_n": CAPACITY} for at, name in towers],
            "hooks": [{"id": f"h{n}", "node": n, "capacity_n": CAPACITY} for n in hooks],
            "anchors": [{"id": f"a{n}", "node": n, "capacity_n": 3 * CAPACITY} for n in made["supports"]],
        }
        | rig,
        "school": school,
    }


def planned(request):
    read = PlanPulls.model_validate_json(json.dumps(request))
    return read, plan_pulls(read)


@pytest.mark.parametrize(("seed", "school"), [(1, "outward"), (2, "reverse"), (3, "outward"), (4, "reverse")])
def test_a_plan_does_what_it_says_when_it_is_played_again(seed, school) -> None:
    request, plan = planned(hit(seed, school=school))
    assert plan.verdict == "complete" and 1 <= len(plan.pulls) <= 4
    nodes, rig = request.skeleton.nodes, request.rig
    hooks, towers = {h.id: h for h in rig.hooks}, {t.id: t for t in rig.towers}
    path = []
    for pull in plan.pulls:
        loads: dict[str, np.ndarray] = {}
        assert len({chain.tower for chain in pull.chains}) == len(pull.chains)
        for chain in pull.chains:
            tower, hook = towers[chain.tower], hooks[chain.hook]
            assert tower.z[0] <= chain.height_mm <= tower.z[1]
            assert chain.use == pytest.approx(chain.force_n / min(tower.capacity_n, hook.capacity_n)) and chain.use <= 1
            way = np.subtract((*tower.at, chain.height_mm), nodes[hook.node])
            loads[hook.node] = loads.get(hook.node, np.zeros(3)) + chain.force_n * way / np.linalg.norm(way)
        path += [Leg(to={n: (*map(float, f), 0.0, 0.0, 0.0) for n, f in loads.items()}, steps=10), Leg(to={}, steps=10)]
    fields = {name: getattr(request.skeleton, name) for name in ("nodes", "members", "sections", "supports")}
    done = simulate_frame(SimulateFrame(**fields, path=tuple(path)))
    for number, pull in enumerate(plan.pulls):
        for node, code in request.skeleton.codes.items():
            was = np.subtract(request.points[code].xyz, nodes[node])
            for leg, told in ((2 * number, pull.loaded), (2 * number + 1, pull.free)):
                assert told[code] == pytest.approx(was + done.legs[leg].displacements[node][:3], abs=1e-6)
        for anchor in rig.anchors:
            force = np.linalg.norm(done.legs[2 * number].reactions[anchor.node][:3])
            assert (
                pull.anchors[anchor.id] == pytest.approx(force / anchor.capacity_n, rel=1e-6)
                and pull.anchors[anchor.id] <= 1
            )
    for code, told in plan.predicted.items():
        assert told.deviation == plan.pulls[-1].free[code]
        assert told.fair == bool(np.all(np.abs(told.deviation) <= 3.0))
    uses = [chain.use for pull in plan.pulls for chain in pull.chains] + [
        u for pull in plan.pulls for u in pull.anchors.values()
    ]
    assert plan.worst_use == max(uses)


@pytest.mark.parametrize("seed", [5])
def test_the_order_of_the_school_is_kept(seed) -> None:
    request, plan = planned(hit(seed, far=40.0, school="reverse", stations=6))
    order = [MODES.index(pull.mode) for pull in plan.pulls]
    assert order == sorted(order)
    request, plan = planned(hit(seed, far=40.0, stations=6))
    nodes = request.skeleton.nodes
    middle = np.mean([nodes[anchor.node][0] for anchor in request.rig.anchors])
    at = {hook.id: nodes[hook.node][0] for hook in request.rig.hooks}
    far = [np.mean([abs(at[chain.hook] - middle) for chain in pull.chains]) for pull in plan.pulls]
    assert all(b >= a - 1e-9 for a, b in pairwise(far))


def test_modes_are_undone_in_the_order_in_which_damage_is_read() -> None:
    assert tuple(name.removesuffix("_deg") for name in UNDO_ORDER) == MODES


def test_a_jack_between_two_places_loads_both_of_them() -> None:
    """Played as the frame has it: the force at the hook, and as much the other way where it bears."""
    asked, force = hit(1, far=1.0), 60e3
    asked["rig"]["machines"] = [{"id": "jack", "kind": "jack", "node": "L3", "capacity_n": 1e9}]
    request, _ = planned(asked)
    played = play_pulls(request, [([Chain("hR4", "jack", 0.0, force, inside=True)], ())])
    nodes = request.skeleton.nodes
    way = np.subtract(nodes["R4"], nodes["L3"])
    push = force * way / np.linalg.norm(way)
    fields = {name: getattr(request.skeleton, name) for name in ("nodes", "members", "sections", "supports")}
    legs = [Leg(to={n: (*map(float, f), 0.0, 0.0, 0.0) for n, f in (("R4", push), ("L3", -push))}, steps=10)]
    done = simulate_frame(SimulateFrame(**fields, path=(*legs, Leg(to={}, steps=10))))
    for node, code in request.skeleton.codes.items():
        was = np.subtract(request.points[code].xyz, nodes[node])
        assert played.pulls[0].loaded[code] == pytest.approx(was + done.legs[0].displacements[node][:3], abs=1e-6)
        assert played.pulls[0].free[code] == pytest.approx(was + done.legs[1].displacements[node][:3], abs=1e-6)
    assert played.pulls[0].chains[0].use == pytest.approx(force / CAPACITY)


def test_where_nothing_is_off_there_are_no_pulls() -> None:
    request = hit(1, far=1.0)
    _, plan = planned(request)
    assert plan.verdict == "complete" and plan.pulls == () and plan.worst_use == 0


def test_without_anything_to_pull_with_nothing_helps() -> None:
    _, plan = planned(hit(1, towers=[]))
    assert plan.verdict == "none" and plan.pulls == () and "No pull of this rig" in plan.cautions[0]


def test_weak_gear_is_never_asked_for_more_than_it_can() -> None:
    weak = [{"id": "only", "at": [4000.0, 0.0], "z": [200.0, 400.0], "capacity_n": 20e3}]
    _, plan = planned(hit(2, towers=weak))
    assert plan.verdict in ("none", "partial") and plan.worst_use <= 1


def test_a_point_that_no_node_carries_is_not_called_home() -> None:
    request = hit(1, far=1.0)
    del request["skeleton"]["codes"]["R4"]
    request["points"]["F4R"]["xyz"][0] += 30
    _, plan = planned(request)
    assert plan.verdict == "none" and "F4R" in plan.cautions[-1]


@pytest.mark.parametrize(
    ("change", "field"),
    [
        (lambda r: r["points"].pop("F4R"), "skeleton.codes.R4"),
        (lambda r: r["skeleton"]["codes"].update(R4="F9R"), "skeleton.codes.R4"),
        (lambda r: r["skeleton"]["codes"].update(Z="F4R"), "skeleton.codes.Z"),
        (lambda r: r["skeleton"]["codes"].update(R4="F4L"), "skeleton.codes.R4"),
        (lambda r: r["rig"]["anchors"].append({"id": "x", "node": "R4", "capacity_n": 1.0}), "rig.anchors.4.node"),
        (lambda r: r["rig"]["hooks"].append({"id": "x", "node": "Q", "capacity_n": 1.0}), "rig.hooks.6.node"),
        (lambda r: r["rig"]["towers"][0].update(z=[900.0, 150.0]), "rig.towers.0.z"),
        (lambda r: r["rig"]["towers"][1].update(id="t300"), "rig.towers.1.id"),
        (lambda r: r["skeleton"]["supports"].clear(), "skeleton.supports"),
        (lambda r: r["rig"]["hooks"][0].update(capacity_n=0), "rig.hooks.0.capacity_n"),
        (lambda r: r.update(max_pulls=0), "max_pulls"),
    ],
)
def test_what_does_not_fit_together_is_refused_with_the_field(change, field) -> None:
    request = hit(1, far=1.0)
    change(request)
    with pytest.raises(Exception) as refused:
        CATALOGUE["plan-pulls"].run_json(json.dumps(request))
    assert isinstance(refused.value, Refused) or refused.value.kind == "bad-request"
    assert refused.value.field == field
