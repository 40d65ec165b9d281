"""Frames that yield: handbook deflections, plastic collapse from textbooks, PyNite, energy, and springback in closed form."""

import numpy as np
import pytest
from Pynite import FEModel3D
from scipy.optimize import linprog

from fairsquare.core.errors import Refused
from fairsquare.core.structure.frame import frame_of
from fairsquare.core.structure.simulate import loads_of, simulate_frame
from tests.core.frames import ALL, BAR, PINNED, bending_only, cantilever, changed, frame, ladder

L = 1000.0
E, G = 210_000.0, 81_000.0
STRONG = changed(BAR, np=1e9, tp=1e12, mpy=1e12, mpz=1e12)


def moved(done, node, leg=-1):
    return np.array(done.legs[leg].displacements[node])


@pytest.mark.parametrize(
    ("load", "axis", "expected"),
    [
        ((900, 0, 0), 0, 900 * L / (E * 800)),
        ((0, 900, 0), 1, 900 * L**3 / (3 * E * 0.9e6)),
        ((0, 0, 900), 2, 900 * L**3 / (3 * E * 1.2e6)),
        ((0, 0, 900), 4, -900 * L**2 / (2 * E * 1.2e6)),
        ((0, 0, 0, 5e5), 3, 5e5 * L / (G * 1.5e6)),
        ((0, 0, 0, 0, 5e5), 2, -5e5 * L**2 / (2 * E * 1.2e6)),
    ],
)
def test_a_cantilever_as_in_the_handbook(load, axis, expected) -> None:
    """PL/EA, PL³/3EI, PL²/2EI, TL/GJ, ML²/2EI: any handbook of strength of materials."""
    assert moved(cantilever(BAR, {"b": load}), "b")[axis] == pytest.approx(expected, rel=1e-9)


def test_beams_held_at_both_ends() -> None:
    """Load in the middle: PL³/192EI where built in, PL³/48EI where pinned (handbooks), span 2 m."""
    nodes = {"a": (0, 0, 0), "b": (L, 0, 0), "c": (2 * L, 0, 0)}
    members = {"1": ("a", "b", "s"), "2": ("b", "c", "s")}
    for held, share in ((ALL, 192), ((True, True, True, True, False, False), 48)):
        done = simulate_frame(frame(nodes, members, {"s": STRONG}, {"a": held, "c": held}, {"b": (0, 0, -1000)}))
        assert moved(done, "b")[2] == pytest.approx(-1000 * (2 * L) ** 3 / (share * E * 1.2e6), rel=1e-9)
        assert done.legs[0].reactions["a"][2] == pytest.approx(500)


@pytest.mark.parametrize("seed", range(4))
def test_elastic_frames_as_pynite_has_them(seed) -> None:
    """Displacements and reactions of a loaded ladder with a rolled post, against PyNite (its Y is our z, its Z our −y)."""
    rng = np.random.default_rng(seed)
    made = ladder(5, rng)
    made["nodes"]["P"] = (made["nodes"]["L4"][0] + 30.0, 430.0, 900.0)
    made["members"]["post"] = ("L4", "P", "rail")
    made["members"]["stay"] = ("P", "L3", "cross")
    rolls = {"post": 35.0, "X2": -20.0, "L1": 10.0}
    loads = {node: tuple(rng.normal(0, 60, 3)) + tuple(rng.normal(0, 2e4, 3)) for node in ("L0", "R4", "P")}
    done = simulate_frame(frame(*made.values(), loads, roll=rolls))

    model = FEModel3D()
    model.add_material("steel", E, G, 0.3, 7.85e-6)
    for name, section in made["sections"].items():
        # their Iz resists bending in the local x-y plane, and their local y is our local z
        model.add_section(name, section.area, section.iz, section.iy, section.j)
    for name, (x, y, z) in made["nodes"].items():
        model.add_node(name, x, z, -y)
    for name, (i, j, section) in made["members"].items():
        model.add_member(name, i, j, "steel", section, rotation=rolls.get(name, 0.0))
    for name in made["supports"]:
        model.def_support(name, True, True, True, False, False, False)
    for name, load in loads.items():
        for direction, value in zip(("FX", "FY", "FZ", "MX", "MY", "MZ"), turned(load), strict=True):
            model.add_node_load(name, direction, value)
    model.analyze_linear()
    for name, node in model.nodes.items():
        theirs = [getattr(node, part)["Combo 1"] for part in ("DX", "DY", "DZ", "RX", "RY", "RZ")]
        assert turned(done.legs[0].displacements[name]) == pytest.approx(theirs, rel=1e-6, abs=1e-9)
    for name in made["supports"]:
        node = model.nodes[name]
        theirs = [node.RxnFX["Combo 1"], node.RxnFY["Combo 1"], node.RxnFZ["Combo 1"]]
        assert turned(done.legs[0].reactions[name])[:3] == pytest.approx(theirs, rel=1e-6, abs=1e-6)


def turned(six):
    """From our axes to theirs: (x, z, −y), moments alike."""
    x, y, z, rx, ry, rz = six
    return [x, z, -y, rx, rz, -ry]


MP = 7e6


@pytest.mark.parametrize(
    ("name", "load", "collapses_at"),
    [
        ("cantilever", 1.0, MP / L),
        ("propped", 1.0, 6 * MP / (2 * L)),
        ("built in", 1.0, 8 * MP / (2 * L)),
        ("portal, beam", 1.0, 8 * MP / 4000),
        ("portal, sway", 1.0, 4 * MP / 3000),
        ("portal, both", 1.0, 6 * MP / (3000 + 2000)),
    ],
)
def test_collapse_as_in_textbooks_on_plastic_design(name, load, collapses_at) -> None:
    """Mp/L; 6Mp/L and 8Mp/L for a middle load on a span; the three mechanisms of a fixed portal of 3 m by 4 m (e.g. Neal,
    from memory)."""
    section = {"s": bending_only(MP)}
    if name.startswith("portal"):
        nodes = {"a": (0, 0, 0), "b": (0, 0, 3000), "c": (2000, 0, 3000), "d": (4000, 0, 3000), "e": (4000, 0, 0)}
        members = {"1": ("a", "b", "s"), "2": ("b", "c", "s"), "3": ("c", "d", "s"), "4": ("d", "e", "s")}
        held = {"a": ALL, "e": ALL}
        along, down = ("sway" in name or "both" in name), ("beam" in name or "both" in name)
        shape = {"b": (float(along), 0, 0), "c": (0, 0, -float(down))}
    else:
        nodes = {"a": (0, 0, 0), "b": (L, 0, 0), "c": (2 * L, 0, 0)}
        members = {"1": ("a", "b", "s"), "2": ("b", "c", "s")}
        held = {"cantilever": {"a": ALL, "c": (False,) * 6}, "propped": {"a": ALL, "c": PINNED}}.get(
            name, {"a": ALL, "c": ALL}
        )
        shape = {"b": (0, 0, -1)}
    asked = 1.25 * collapses_at
    carried = {node: tuple(asked / 2 * v for v in way) for node, way in shape.items()}
    too_much = {node: tuple(asked * v for v in way) for node, way in shape.items()}
    done = simulate_frame(frame(nodes, members, section, held, carried, too_much, {}))
    assert len(done.legs) == 1 and done.collapse.leg == 1
    assert (0.5 + 0.5 * done.collapse.load_factor) * asked == pytest.approx(collapses_at, rel=1e-3)
    almost = {node: tuple(0.998 * collapses_at * v for v in way) for node, way in shape.items()}
    assert simulate_frame(frame(nodes, members, section, held, almost)).collapse is None


def test_pull_and_bending_together_collapse_on_the_ellipse() -> None:
    """(N/Np)² + (M/Mp)² = 1 at the built-in end of a cantilever, worked by hand."""
    section = changed(BAR, hardening=0.0)
    full = {"b": (240e3, 0, 7e3)}
    done = cantilever(section, full)
    assert done.collapse.load_factor == pytest.approx(np.sqrt(0.5), rel=1e-3)


def test_what_hardens_never_collapses() -> None:
    assert cantilever(changed(BAR, hardening=1e-3), {"b": (0, 0, -20_000)}).collapse is None


def test_springback_of_a_cantilever_in_closed_form() -> None:
    """A moment M past Mp turns the end hinge by (M − Mp)/(h·6EI/L), and that is what stays."""
    moment, h = 8.5e6, 0.01
    done = cantilever(changed(BAR, hardening=h), {"b": (0, 0, -moment / L)}, {})
    turn = (moment - 7e6) / (h * 6 * E * 1.2e6 / L)
    assert moved(done, "b", 0)[2] == pytest.approx(-turn * L - moment * L**2 / (3 * E * 1.2e6), rel=1e-8)
    assert moved(done, "b")[2] == pytest.approx(-turn * L, rel=1e-8)
    assert done.legs[1].members["m"].plastic.i[2] == pytest.approx(-turn, rel=1e-8)


def test_pulling_back_as_hard_brings_back_home_and_a_mirrored_path_mirrors() -> None:
    """Kinematic hardening: M and back to −M with M > Mp leaves the mirror image of M alone, since 2M passes both surfaces."""
    there = cantilever(BAR, {"b": (0, 0, -8000)}, {})
    back = cantilever(BAR, {"b": (0, 0, -8000)}, {}, {"b": (0, 0, 8000)}, {})
    assert moved(back, "b") == pytest.approx(-moved(there, "b"), rel=1e-7, abs=1e-12)


@pytest.mark.parametrize("seed", range(6))
def test_energy_is_not_made(seed) -> None:
    """Over fine steps the loads' work is elastic energy, energy of hardening, and what the hinges took: all three summed
    by hand."""
    rng = np.random.default_rng(seed)
    made = ladder(4, rng, hardening=0.05)
    peak = {"L3": tuple(rng.normal(0, 30_000, 3)), "R0": tuple(rng.normal(0, 20_000, 3))}
    legs = [{node: tuple(v * k / 150 for v in load) for node, load in peak.items()} for k in range(1, 151)]
    request = frame(*made.values(), *legs, steps=1)
    done = simulate_frame(request)
    numbers = frame_of(request)
    work = lost = 0.0
    before = None
    for leg, end in zip(legs, done.legs, strict=True):
        if before is not None:
            mean = {node: np.array(load) * (1 - 0.5 / (legs.index(leg) + 1)) for node, load in leg.items()}
            work += sum(mean[n] @ (np.array(end.displacements[n]) - np.array(before.displacements[n]))[:3] for n in leg)
        else:
            work += sum(0.5 * np.array(load) @ np.array(end.displacements[n])[:3] for n, load in leg.items())
        for k, name in enumerate(numbers.member_ids):
            for side in "ij":
                now = np.array(getattr(end.members[name].plastic, side))
                was = np.array(getattr(before.members[name].plastic, side)) if before else np.zeros(4)
                lost += float(np.linalg.norm((now - was) * numbers.yields[:, k]))
        before = end
    stored = 0.0
    for k, name in enumerate(numbers.member_ids):
        one = before.members[name]
        n, t = one.j[0], one.j[3]
        ei = numbers.stiffness[2:, k, 0] / 4
        stored += n**2 / (2 * numbers.stiffness[0, k, 0]) + t**2 / (2 * numbers.stiffness[1, k, 0])
        for axis, row in ((0, 4), (1, 5)):
            a, b = one.i[row], one.j[row]
            stored += (a * a - a * b + b * b) / (6 * ei[axis])
        for side in "ij":
            stored += float(numbers.back[:, k] @ np.array(getattr(one.plastic, side)) ** 2) / 2
    assert lost > 0.02 * work
    assert stored + lost == pytest.approx(work, rel=2e-3)


@pytest.mark.parametrize("hardening", [1e-5, 0.02, 0.5])
def test_every_end_is_within_its_surface_and_everything_in_balance(hardening) -> None:
    rng = np.random.default_rng(5)
    for _ in range(3):
        made = ladder(int(rng.integers(3, 7)), rng, hardening)
        legs = [{n: tuple(rng.normal(0, 25_000, 3)) for n in ("L0", "R0")}, {}, {"R0": tuple(rng.normal(0, 40_000, 3))}]
        request = frame(*made.values(), *legs)
        numbers = frame_of(request)
        for leg, load in zip(simulate_frame(request).legs, legs, strict=True):
            total = sum((np.array(f[:3]) for f in [*leg.reactions.values(), *load.values()]), np.zeros(3))
            assert total == pytest.approx(np.zeros(3), abs=1e-4)
            for k, name in enumerate(numbers.member_ids):
                one = leg.members[name]
                for side, ends in (("i", one.i), ("j", one.j)):
                    felt = np.array([one.j[0], one.j[3], ends[4], ends[5]])
                    left = felt - numbers.back[:, k] * np.array(getattr(one.plastic, side))
                    assert np.sum((left / numbers.yields[:, k]) ** 2) <= 1 + 1e-9


def test_more_steps_of_a_straight_path_in_one_hinge_change_nothing() -> None:
    few, many = (cantilever(BAR, {"b": (0, 0, -8000)}, steps=steps) for steps in (1, 50))
    assert moved(few, "b") == pytest.approx(moved(many, "b"), rel=1e-9)


def test_a_square_tube_turned_a_quarter_is_the_same_and_others_are_not() -> None:
    load = {"b": (0, 0, -500)}
    plain = moved(cantilever(BAR, load), "b")[2]
    bar = {"m": ("a", "b", "s")}
    nodes = {"a": (0, 0, 0), "b": (L, 0, 0)}
    rolled = simulate_frame(frame(nodes, bar, {"s": BAR}, {"a": ALL}, load, roll={"m": 90}))
    assert moved(rolled, "b")[2] == pytest.approx(plain * 1.2e6 / 0.9e6)


@pytest.mark.parametrize(
    ("change", "field", "words"),
    [
        ({"supports": {}}, "supports", "can move"),
        ({"supports": {"a": (True, True, True, False, True, True)}}, "supports", "turn round the length axis"),
        ({"nodes": {"a": (0.0, 0.0, 0.0), "b": (0.0, 0.0, 0.0)}}, "members.0", "no length"),
        ({"nodes": {"a": (0.0, 0.0, 0.0), "b": (1.0, 0.0, 0.0), "c": (5.0, 5.0, 5.0)}}, "supports", "c is free"),
        ({"supports": {"z": ALL}}, "supports.z", "no node"),
        ({"members": ()}, "members", "needs members"),
    ],
)
def test_frames_that_are_none(change, field, words) -> None:
    whole = frame({"a": (0, 0, 0), "b": (L, 0, 0)}, {"m": ("a", "b", "s")}, {"s": BAR}, {"a": ALL}, {"b": (0, 0, -1)})
    with pytest.raises(Refused) as refused:
        simulate_frame(whole.model_copy(update=change))
    assert refused.value.field == field and words in refused.value.title


def test_a_hinge_between_bars_in_line_is_no_mechanism_but_a_loose_end_is() -> None:
    nodes = {"a": (0, 0, 0), "b": (L, 0, 0), "c": (2 * L, 0, 0)}
    with pytest.raises(Refused, match="c is free"):
        simulate_frame(frame(nodes, {"m": ("a", "b", "s")}, {"s": BAR}, {"a": ALL}))


@pytest.mark.parametrize("seed", [1, 4])
def test_collapse_of_ladders_as_linear_programmes_find_it(seed) -> None:
    """The static theorem anew: scipy's linprog, with planes cut along the ellipsoids until none is passed, from a carried load."""
    rng = np.random.default_rng(seed)
    made = ladder(int(rng.integers(3, 6)), rng, hardening=0.0)
    first, second = ({node: tuple(rng.normal(0, 60_000, 3)) for node in ("L0", f"R{end}")} for end in (1, 2))
    carried = {node: tuple(0.3 * v for v in load) for node, load in first.items()}
    request = frame(*made.values(), carried, second, steps=4)
    numbers = frame_of(request)
    unit = numbers.yields[[0, 1, 2, 2, 3, 3]].T.ravel()
    balance = np.zeros((len(unit), numbers.freedoms + 1))
    for k, slots in enumerate(numbers.slots):
        np.add.at(balance[6 * k : 6 * k + 6].T, slots, numbers.strain[k].T)
    balance = balance[:, :-1] * unit[:, None]
    scale = np.abs(balance).max(axis=0)
    start, end = (loads_of(numbers, leg)[numbers.free] / scale for leg in request.path)
    equal = np.hstack([(balance / scale).T, -(end - start)[:, None]])
    planes: list[np.ndarray] = []
    share = 0.0
    for _ in range(80):
        planes_now = np.array(planes).reshape(-1, len(unit) + 1)
        found = linprog(
            np.append(np.zeros(len(unit)), -1.0),
            A_ub=planes_now,
            b_ub=np.ones(len(planes_now)),
            A_eq=equal,
            b_eq=start,
            bounds=[(-1, 1)] * len(unit) + [(0, 1)],
        )
        share, forces = found.x[-1], found.x[:-1].reshape(-1, 6)
        before = len(planes)
        for felt in ([0, 1, 2, 4], [0, 1, 3, 5]):
            sizes = np.linalg.norm(forces[:, felt], axis=1)
            for k in np.flatnonzero(sizes > 1 + 1e-5):
                plane = np.zeros(len(unit) + 1)
                plane[[6 * k + part for part in felt]] = forces[k, felt] / sizes[k]
                planes.append(plane)
        if len(planes) == before:
            break
    done = simulate_frame(request)
    assert (done.collapse.load_factor if done.collapse else 1.0) == pytest.approx(share, abs=1e-4)
