"""Pulls inside the vehicle: played again through simulate-frame they do what they say, ties and all; racked, bowed and twice hit
ladders come home by them, which towers alone leave off."""

import json
from collections import Counter

import numpy as np
import pytest

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.errors import FairSquareError
from fairsquare.core.pull.game import Chain
from fairsquare.core.pull.plan import PlanPulls, PullsPlanned, plan_pulls, play_pulls
from fairsquare.core.structure.simulate import SimulateFrame, simulate_frame
from fairsquare.core.structure.skeleton import Leg
from tests.core.distorted import bowed, hit_twice, racked


def planned(request) -> tuple[PlanPulls, PullsPlanned]:
    read = PlanPulls.model_validate_json(json.dumps(request))
    return read, plan_pulls(read)


class Again:
    """A plan written anew as legs of simulate-frame: a pull with ties is ten legs of one step, with what they carried as loads."""

    def __init__(self, request: PlanPulls, plan: PullsPlanned) -> None:
        self.request, self.nodes = request, request.skeleton.nodes
        self.hooks = {hook.id: hook for hook in request.rig.hooks}
        self.towers = {tower.id: tower for tower in request.rig.towers}
        self.machines = {machine.id: machine for machine in request.rig.machines}
        self.ties = {tie.id: tie for tie in request.rig.ties}
        path, self.ends = [], []
        for pull in plan.pulls:
            chains = self.chain_loads(pull)
            if pull.ties:
                path += [Leg(to=self.six(chains, k / 10, self.tie_loads(pull, k - 1)), steps=1) for k in range(1, 11)]
            else:
                path.append(Leg(to=self.six(chains, 1.0, {}), steps=10))
            path.append(Leg(to={}, steps=10))
            self.ends.append((len(path) - 2, len(path) - 1))
        fields = {name: getattr(request.skeleton, name) for name in ("nodes", "members", "sections", "supports")}
        self.legs = simulate_frame(SimulateFrame(**fields, path=tuple(path))).legs

    def way(self, start, end):
        along = np.subtract(end, start)
        return along / np.linalg.norm(along)

    def chain_loads(self, pull):
        loads: Counter = Counter()
        for chain in pull.chains:
            at = self.hooks[chain.hook].node
            if hasattr(chain, "machine"):
                machine = self.machines[chain.machine]
                way = self.way(self.nodes[at], self.nodes[machine.node])
                force = (-1.0 if machine.kind == "jack" else 1.0) * chain.force_n * way
                loads[machine.node] = loads[machine.node] - force
            else:
                tower = self.towers[chain.tower]
                force = chain.force_n * self.way(self.nodes[at], (*tower.at, chain.height_mm))
            loads[at] = loads[at] + force
        return loads

    def tie_loads(self, pull, step):
        loads: Counter = Counter()
        for tie in pull.ties:
            a, b = self.ties[tie].nodes
            drawn = pull.tie_forces_n[tie][step] * self.way(self.nodes[a], self.nodes[b])
            loads[a], loads[b] = loads[a] + drawn, loads[b] - drawn
        return loads

    def six(self, chains, share, ties):
        total = {node: share * chains[node] + ties.get(node, 0.0) for node in {*chains, *ties}}
        return {node: (*map(float, force), 0.0, 0.0, 0.0) for node, force in total.items()}

    def moved(self, leg, node):
        return np.array(self.legs[leg].displacements[node][:3])


@pytest.mark.parametrize(
    "request_made", [racked(2, 4), racked(4, 5), bowed(1), bowed(3, 7), hit_twice(1), hit_twice(4, 5)], ids=str
)
def test_a_plan_does_what_it_says_when_it_is_played_again(request_made) -> None:
    request, plan = planned(request_made)
    assert plan.verdict == "complete"
    again = Again(request, plan)
    anchors = {anchor.id: anchor for anchor in request.rig.anchors}
    uses = []
    for number, (pull, (up, down)) in enumerate(zip(plan.pulls, again.ends, strict=True)):
        for node, code in request.skeleton.codes.items():
            was = np.subtract(request.points[code].xyz, again.nodes[node])
            assert pull.loaded[code] == pytest.approx(was + again.moved(up, node), abs=1e-5)
            assert pull.free[code] == pytest.approx(was + again.moved(down, node), abs=1e-5)
        for name, use in pull.anchors.items():
            bears = np.linalg.norm(again.legs[up].reactions[anchors[name].node][:3])
            assert use == pytest.approx(bears / anchors[name].capacity_n, rel=1e-5)
            uses.append(use)
        # a tie carries its stiffness times how much longer its way has become since the pull began, after every step
        begun = again.ends[number - 1][1] if number else None
        for tie in pull.ties:
            a, b = again.ties[tie].nodes
            way, length = (
                again.way(again.nodes[a], again.nodes[b]),
                np.linalg.norm(np.subtract(again.nodes[a], again.nodes[b])),
            )
            for step, carried in enumerate(pull.tie_forces_n[tie]):
                apart = [
                    again.moved(up - 9 + step, node) - (again.moved(begun, node) if number else 0) for node in (a, b)
                ]
                longer = float(way @ (apart[1] - apart[0]))
                assert carried == pytest.approx(1e8 / length * longer, rel=1e-4, abs=1.0)
            uses.append(max(map(abs, pull.tie_forces_n[tie])) / again.ties[tie].capacity_n)
        uses += [chain.use for chain in pull.chains]
    assert plan.worst_use == pytest.approx(max(uses), rel=1e-6)
    assert plan.worst_use <= 1
    fair = {code for code, at in request.points.items() if code not in off_at_first(request)}
    assert all(plan.predicted[code].fair for code in fair)


def off_at_first(request):
    places = {point.code: point.xyz for point in request.sheet.points}
    return {code for code, at in request.points.items() if np.abs(np.subtract(at.xyz, places[code])).max() > 3.0}


@pytest.mark.parametrize("seed", range(8))
def test_what_is_rigged_at_once_can_be(seed) -> None:
    """No machine twice, none on its hook, with one no node twice; capacities of hook, machine and where it bears."""
    request, plan = planned(racked(seed, 4 + seed % 3, evenly=bool(seed % 2)))
    hooks = {hook.id: hook for hook in request.rig.hooks}
    machines = {machine.id: machine for machine in request.rig.machines}
    for pull in plan.pulls:
        inside = [chain for chain in pull.chains if hasattr(chain, "machine")]
        nodes = [hooks[chain.hook].node for chain in pull.chains] + [machines[c.machine].node for c in inside]
        assert not inside or len(set(nodes)) == len(nodes)
        assert len({chain.tower for chain in pull.chains}) == len(pull.chains)
        for chain in inside:
            bears = [hook.capacity_n for hook in hooks.values() if hook.node == machines[chain.machine].node]
            least = min(hooks[chain.hook].capacity_n, machines[chain.machine].capacity_n, max(bears))
            assert chain.use == pytest.approx(chain.force_n / least)


def share_home(requests) -> tuple[float, float]:
    """The share of points off that come home, and pulls a frame."""
    off, home, pulls = 0, 0, 0
    for one in requests:
        request, plan = planned(one)
        were = off_at_first(request)
        off += len(were)
        home += sum(plan.predicted[code].fair for code in were)
        pulls += len(plan.pulls)
    return home / off, pulls / len(requests)


def test_racked_ladders_come_home_across_their_diagonals_and_not_by_towers_alone() -> None:
    home, pulls = share_home([racked(seed, 4 + seed % 2, evenly=seed > 2) for seed in range(5)])
    assert home >= 0.9
    assert pulls <= 2
    towers, _ = share_home([racked(seed, 4 + seed % 2, evenly=seed > 2, machines=False) for seed in range(5)])
    assert towers < home - 0.05


def test_bows_come_home_with_their_rails_tied() -> None:
    home, pulls = share_home([bowed(seed, 5 + seed % 3) for seed in range(4)])
    assert home >= 0.9
    assert pulls <= 2


def test_frames_hit_at_two_places_come_home() -> None:
    home, pulls = share_home([hit_twice(seed, 5 + seed % 2) for seed in range(4, 9)])
    assert home >= 0.8
    assert pulls <= 2


def test_with_neither_machine_nor_tie_a_plan_says_nothing_of_them() -> None:
    told = json.loads(CATALOGUE["plan-pulls"].run_json(json.dumps(hit_twice(1, 5, machines=False))))
    assert told["pulls"]
    assert all({"ties", "tie_forces_n"}.isdisjoint(pull) for pull in told["pulls"])
    assert all(
        set(chain) == {"hook", "tower", "height_mm", "force_n", "use"}
        for pull in told["pulls"]
        for chain in pull["chains"]
    )
    tied = json.loads(CATALOGUE["plan-pulls"].run_json(json.dumps(bowed(8, 6))))
    assert all(len(carried) == 10 for pull in tied["pulls"] for carried in pull.get("tie_forces_n", {}).values())
    across = json.loads(CATALOGUE["plan-pulls"].run_json(json.dumps(racked(2, 4))))
    inside = [chain for pull in across["pulls"] for chain in pull["chains"] if "machine" in chain]
    assert inside
    assert all(set(chain) == {"hook", "machine", "force_n", "use"} for chain in inside)


def test_the_mode_of_a_pull_inside_is_what_pairs_lose_most_of() -> None:
    """Amounts summed in size over the pairs, as read-damage names them; by towers alone they are squares."""
    request = PlanPulls.model_validate_json(json.dumps(racked(2, 4, evenly=True)))
    chain = Chain("hR0", "jL3", 0.0, 0.98 * request.rig.machines[0].capacity_n, inside=True)
    played = play_pulls(request, [((chain,), ())])
    sheet = {point.code: point.xyz for point in request.sheet.points}
    before = {c: np.subtract(at.xyz, sheet[c]) for c, at in request.points.items()}
    gained = dict.fromkeys(("twist", "skew", "mash", "rise", "sway", "spread"), 0.0)
    for k in range(4):
        for sign, rows in ((1, before), (-1, played.pulls[0].free)):
            left, right = np.array(rows[f"F{k}L"]), np.array(rows[f"F{k}R"])
            for axis, (together, apart) in enumerate((("mash", "skew"), ("sway", "spread"), ("rise", "twist"))):
                gained[together] += sign * abs(left[axis] + right[axis]) / 2
                gained[apart] += sign * abs(left[axis] - right[axis])
    assert played.pulls[0].mode == max(gained, key=lambda mode: gained[mode])


@pytest.mark.parametrize(
    ("where", "value", "field"),
    [
        (("machines", 0, "kind"), "winch", "rig.machines.0.kind"),
        (("machines", 1, "node"), "Z9", "rig.machines.1.node"),
        (("machines", 1, "capacity_n"), 0, "rig.machines.1.capacity_n"),
        (("machines", 1, "id"), "pL0", "rig.machines.1.id"),
        (("ties", 0, "nodes"), ["L1", "L1"], "rig.ties.0.nodes"),
        (("ties", 0, "nodes"), ["L1", "Z9"], "rig.ties.0.nodes.1"),
        (("ties", 0, "nodes"), ["L1"], "rig.ties.0.nodes.1"),
        (("ties", 0, "capacity_n"), -1, "rig.ties.0.capacity_n"),
        (("ties", 0, "ea_n"), 0, "rig.ties.0.ea_n"),
        (("ties", 1, "id"), "a", "rig.ties.1.id"),
    ],
)
def test_a_rig_that_cannot_be_is_refused_by_name(where, value, field) -> None:
    request = racked(2, 4)
    request["rig"]["ties"] = [{"id": name, "nodes": ["L1", "R1"], "capacity_n": 1e5} for name in "ab"]
    kind, number, key = where
    request["rig"][kind][number][key] = value
    with pytest.raises(FairSquareError) as refused:
        CATALOGUE["plan-pulls"].run_json(json.dumps(request))
    assert refused.value.field == field


def test_a_machine_that_bears_where_it_hooks_is_no_line_and_a_tie_is_not_put_on_for_nothing() -> None:
    request = racked(2, 4)
    request["rig"]["machines"] = [{"id": "p", "kind": "puller", "node": "L0", "capacity_n": 1e5}]
    request["rig"]["hooks"] = [hook for hook in request["rig"]["hooks"] if hook["node"] == "L0"]
    _, plan = planned(request)
    assert not any(hasattr(chain, "machine") for pull in plan.pulls for chain in pull.chains)
    tied = hit_twice(1, 5)
    tied["rig"]["ties"] = [{"id": "tie", "nodes": ["L1", "R1"], "capacity_n": 1e6}]
    _, plan = planned(tied)
    assert plan.verdict == "complete"
    assert not any(pull.ties for pull in plan.pulls)


@pytest.mark.parametrize("less", ["anchors", "towers", "hooks"])
def test_a_rig_without_some_of_its_parts_is_planned_with_the_others(less) -> None:
    request = hit_twice(1, 5)
    request["rig"][less] = []
    _, plan = planned(request)
    assert (plan.verdict == "none") == (less == "hooks")
    if less == "anchors":
        assert all(pull.anchors == {} for pull in plan.pulls)
