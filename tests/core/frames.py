"""Frames for tests: a bar, portals, and ladders with damage that the frame itself was made to take."""

from collections.abc import Mapping

import numpy as np

from fairsquare.core.structure.simulate import FrameSimulated, SimulateFrame, simulate_frame
from fairsquare.core.structure.skeleton import FrameMember, Leg, Section

ALL, PINNED = (True,) * 6, (True, True, True, False, False, False)
STEEL = {"e": 210_000.0, "g": 81_000.0}
BAR = Section(area=800, iy=1.2e6, iz=0.9e6, j=1.5e6, np=240e3, tp=6e6, mpy=7e6, mpz=6e6, hardening=0.01, **STEEL)
RAIL = Section(
    area=925, iy=1.84e6, iz=0.8e6, j=1.7e6, np=296e3, tp=7.33e6, mpy=11.87e6, mpz=8.17e6, hardening=0.02, **STEEL
)
CROSS = Section(
    area=491, iy=0.464e6, iz=0.298e6, j=0.547e6, np=137.5e3, tp=2.65e6, mpy=3.84e6, mpz=3.15e6, hardening=0.02, **STEEL
)


def changed(section: Section, **values: float) -> Section:
    return section.model_copy(update=values)


def bending_only(mp: float) -> Section:
    """A section that yields by bending alone and does not harden: what textbooks on plastic design speak of."""
    return changed(BAR, np=1e10, tp=1e13, mpy=mp, mpz=mp, hardening=0.0)


def frame(
    nodes: Mapping[str, tuple[float, float, float]],
    members: Mapping[str, tuple[str, str, str]],
    sections: Mapping[str, Section],
    supports: Mapping[str, tuple[bool, ...]],
    *legs: Mapping[str, tuple[float, ...]],
    steps: int = 10,
    roll: Mapping[str, float] | None = None,
) -> SimulateFrame:
    """Members are id: (i, j, section); a leg is node: loads, of three or six."""
    return SimulateFrame(
        nodes=dict(nodes),
        members=tuple(
            FrameMember(id=name, i=i, j=j, section=section, roll_deg=(roll or {}).get(name, 0.0))
            for name, (i, j, section) in members.items()
        ),
        sections=dict(sections),
        supports=dict(supports),
        path=tuple(
            Leg(to={n: tuple(map(float, (*load, 0, 0, 0)[:6])) for n, load in leg.items()}, steps=steps) for leg in legs
        ),
    )


def cantilever(
    section: Section, *legs: Mapping[str, tuple[float, ...]], length: float = 1000.0, **more
) -> FrameSimulated:
    bar = {"m": ("a", "b", "s")}
    return simulate_frame(frame({"a": (0, 0, 0), "b": (length, 0, 0)}, bar, {"s": section}, {"a": ALL}, *legs, **more))


def ladder(stations: int, rng: np.random.Generator, hardening: float = 0.02) -> dict:
    """Nodes, members, sections and supports of a ladder frame, held at two stations in the middle."""
    nodes, members = {}, {}
    for k in range(stations):
        for side, y in (("L", 450.0), ("R", -450.0)):
            place = (500.0 * k + rng.normal(0, 20), y + rng.normal(0, 20), 250 + rng.normal(0, 40))
            nodes[f"{side}{k}"] = tuple(float(v) for v in place)
    for k in range(stations - 1):
        for side in "LR":
            members[f"{side}{k}"] = (f"{side}{k}", f"{side}{k + 1}", "rail")
    for k in range(stations):
        members[f"X{k}"] = (f"L{k}", f"R{k}", "cross")
    held = stations // 2
    return {
        "nodes": nodes,
        "members": members,
        "sections": {"rail": changed(RAIL, hardening=hardening), "cross": changed(CROSS, hardening=hardening)},
        "supports": {f"{side}{k}": PINNED for side in "LR" for k in (held - 1, held)},
    }
