"""What a path of loads does to a skeleton: every node's movement, every member's forces, loaded and let go, or the collapse."""

from typing import Annotated

import numpy as np
from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Many, Model
from fairsquare.core.structure.frame import Floats, Frame, frame_of
from fairsquare.core.structure.limit import carried_share
from fairsquare.core.structure.path import Follower, Standing
from fairsquare.core.structure.skeleton import Leg, Six, Skeleton

Four = Annotated[tuple[float, float, float, float], Field(strict=False)]
MOST_STEPS = 100_000


class SimulateFrame(Skeleton):
    """A skeleton and the path of loads on it."""

    path: Many[Leg]


class PlasticParts(Model):
    """The hinges of a member: (stretch mm, twist, turn about y, turn about z in rad) at each end."""

    i: Four
    j: Four


class MemberState(Model):
    """What the nodes put on a member's ends, [Fx, Fy, Fz, Mx, My, Mz] in its local axes (N, N·mm), and its hinges."""

    i: Six
    j: Six
    plastic: PlasticParts


class LegEnd(Model):
    """The state at the end of a leg: displacements from the undeformed frame (mm, rad), members, and what supports put on it."""

    displacements: dict[str, Six]
    members: dict[str, MemberState]
    reactions: dict[str, Six]


class Collapse(Model):
    """The leg, from 0, whose loads the frame cannot carry, and the share of that leg that it can."""

    leg: int
    load_factor: float


class FrameSimulated(Model):
    """The legs that were carried, and the collapse, if any, that ended the path."""

    legs: Many[LegEnd]
    collapse: Collapse | None


def simulate_frame(request: SimulateFrame) -> FrameSimulated:
    """Follow an elastic-plastic frame along a path of loads: what a pull does to every point, loaded and let go.

    Small displacements, hinges at member ends with kinematic hardening, each increment one implicit step (see `hinges`, `path`);
    collapse by the static theorem (see `limit`). Raises `Refused` for a frame that is wrong or can move without straining.
    """
    if sum(leg.steps for leg in request.path) > MOST_STEPS:
        raise Refused(
            f"A path has {MOST_STEPS:,} steps at most.", field="path", value=sum(leg.steps for leg in request.path)
        )
    for k, leg in enumerate(request.path):
        for node in leg.to:
            if node not in request.nodes:
                raise Refused(f"There is no node {node} to load.", field=f"path.{k}.to.{node}", value=node)
    frame = frame_of(request)
    follower = Follower(frame)
    standing = follower.rest()
    applied = np.zeros(frame.free.shape)
    legs: list[LegEnd] = []
    for number, leg in enumerate(request.path):
        wanted = loads_of(frame, leg)
        share = carried_share(frame, applied[frame.free], wanted[frame.free])
        if share is not None:
            return FrameSimulated(legs=tuple(legs), collapse=Collapse(leg=number, load_factor=share))
        standing = follower.follow(standing, wanted[frame.free][None], leg.steps)
        applied = wanted
        legs.append(leg_end(frame, standing, applied, tuple(request.supports)))
    return FrameSimulated(legs=tuple(legs), collapse=None)


def loads_of(frame: Frame, leg: Leg) -> Floats:
    """Return the loads of a leg at all degrees of freedom (6 n)."""
    index = {node: k for k, node in enumerate(frame.nodes)}
    loads = np.zeros((len(frame.nodes), 6))
    for node, load in leg.to.items():
        loads[index[node]] = load
    return loads.ravel()


def displacements_of(frame: Frame, moved: Floats) -> Floats:
    """Return the displacements of all nodes (n, 6) from those of the free degrees of freedom (f)."""
    whole = np.zeros(frame.free.shape)
    whole[frame.free] = moved
    return whole.reshape(-1, 6)


def reactions_of(frame: Frame, natural: Floats, applied: Floats) -> Floats:
    """Return what supports put on each node (n, 6): what members of natural forces (m, 6) ask of it less what is applied (6 n)."""
    held: Floats = np.where(frame.free.reshape(-1, 6), 0.0, frame.node_loads(natural) - applied.reshape(-1, 6))
    return held


def leg_end(frame: Frame, standing: Standing, applied: Floats, supports: tuple[str, ...]) -> LegEnd:
    """Return the report of the first case where it stands, with `applied` (6 n) loads on it."""
    displacements = displacements_of(frame, standing.moved[0]).tolist()
    natural = standing.natural[0]
    forces = frame.end_forces(natural).reshape(-1, 2, 6).tolist()
    plastic = np.moveaxis(standing.plastic[..., : len(frame.member_ids)], -1, 0)
    hinges = np.swapaxes(plastic, 1, 2).tolist()
    held = reactions_of(frame, natural, applied).tolist()
    index = {node: k for k, node in enumerate(frame.nodes)}
    return LegEnd.unchecked(
        displacements={node: tuple(moved) for node, moved in zip(frame.nodes, displacements, strict=True)},
        members={
            name: MemberState.unchecked(
                i=tuple(ends[0]),
                j=tuple(ends[1]),
                plastic=PlasticParts.unchecked(i=tuple(parts[0]), j=tuple(parts[1])),
            )
            for name, ends, parts in zip(frame.member_ids, forces, hinges, strict=True)
        },
        reactions={node: tuple(held[index[node]]) for node in supports},
    )
