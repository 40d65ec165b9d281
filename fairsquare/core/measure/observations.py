"""What can be read of a structure, with any tool: the observations that `adjust-network` joins into one picture."""

from collections.abc import Sequence
from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Millimetres, Model, Vector
from fairsquare.core.sheet.model import Point, SpanMode, find_point

Axis = Literal["length", "width", "height"]
SetupKind = Literal["instrument", "sight"]
AXES: tuple[Axis, Axis, Axis] = ("length", "width", "height")
NEAREST_ENDS_MM = 1.0
"""Two ends closer than this on the sheet give a span no direction."""

Identity = Annotated[str, Field(min_length=1, max_length=80)]
Sigma = Annotated[float, Field(gt=0, le=1e7)]
Length = Annotated[float, Field(gt=0, le=1e7)]


class NetworkSetup(Model):
    """A set-up with unknowns of its own.

    An `instrument` stands somewhere: vehicle = rotation · reading + translation. A `sight` is a line y = l0 + l1·x (a laser,
    or the row of centre pins) and a plane z = c0 + c1·x + c2·y (a water level, a datum bar).
    """

    id: Identity
    kind: SetupKind


class PointToRead(Model):
    """A point in an instrument's axes: Rᵀ(p − t)."""

    kind: Literal["point"]
    setup: Identity
    code: Code
    sigma: Sigma


class SpanToRead(Model):
    """A distance of two points, in space or in the x-y plane."""

    kind: Literal["span"]
    a: Code
    b: Code
    mode: SpanMode
    sigma: Sigma


class DifferenceToRead(Model):
    """A coordinate of `a` less the same of `b`."""

    kind: Literal["difference"]
    axis: Axis
    a: Code
    b: Code
    sigma: Sigma


class HeightToRead(Model):
    """A height above a sight's plane, z − (c0 + c1·x + c2·y); without a set-up, z."""

    kind: Literal["height"]
    setup: Identity | None = None
    code: Code
    sigma: Sigma


class OffsetToRead(Model):
    """A distance from a sight's line, left +: y − (l0 + l1·x); without a set-up, y."""

    kind: Literal["offset"]
    setup: Identity | None = None
    code: Code
    sigma: Sigma


class GaugeToRead(Model):
    """A gauge hung from `a` and `b`: its pin off the line, and how much higher `a` hangs than `b` over the plane's slope."""

    kind: Literal["gauge"]
    setup: Identity
    a: Code
    b: Code
    sigma: Sigma


class PointRead(PointToRead):
    """A point as read, mm."""

    id: Identity
    xyz: Vector


class SpanRead(SpanToRead):
    """A span as read, mm."""

    id: Identity
    mm: Length


class DifferenceRead(DifferenceToRead):
    """A difference as read, mm."""

    id: Identity
    mm: Millimetres


class HeightRead(HeightToRead):
    """A height as read, mm."""

    id: Identity
    mm: Millimetres


class OffsetRead(OffsetToRead):
    """An offset as read, mm, left +."""

    id: Identity
    mm: Millimetres


class GaugeRead(GaugeToRead):
    """A gauge as read: pin, level, or both, mm."""

    id: Identity
    pin_mm: Millimetres | None = None
    level_mm: Millimetres | None = None


ToRead = PointToRead | SpanToRead | DifferenceToRead | HeightToRead | OffsetToRead | GaugeToRead
"""An observation without its value: what could be read next."""

Observation = Annotated[
    PointRead | SpanRead | DifferenceRead | HeightRead | OffsetRead | GaugeRead, Field(discriminator="kind")
]
Observations = Many[Observation]


_OF_ONE_POINT = (PointToRead, HeightToRead, OffsetToRead)
_WITHOUT_SETUP = (SpanToRead, DifferenceToRead)


def codes_of(observation: ToRead) -> tuple[str, ...]:
    """Return the codes of the points that an observation reads."""
    if isinstance(observation, _OF_ONE_POINT):
        return (observation.code,)
    return (observation.a, observation.b)


def setup_of(observation: ToRead) -> str | None:
    """Return the set-up that an observation was read from, or null."""
    return None if isinstance(observation, _WITHOUT_SETUP) else observation.setup


def setup_kinds(setups: Sequence[NetworkSetup]) -> dict[str, SetupKind]:
    """Return the kind of each set-up. Raises `Refused` for one that is declared twice."""
    kinds: dict[str, SetupKind] = {}
    for index, setup in enumerate(setups):
        if setup.id in kinds:
            raise Refused(
                f"The set-up {setup.id} is declared twice: give each its own name.",
                field=f"setups.{index}.id",
                value=setup.id,
            )
        kinds[setup.id] = setup.kind
    return kinds


def check_observation(observation: ToRead, points: dict[str, Point], kinds: dict[str, SetupKind], field: str) -> None:
    """Raise `Refused` for an observation that cannot be one on this sheet and with these set-ups; `field` names it."""
    codes = codes_of(observation)
    for name, code in zip(("code",) if len(codes) == 1 else ("a", "b"), codes, strict=True):
        if code not in points:
            find_point(points, code, f"{field}.{name}")
    if not isinstance(observation, _OF_ONE_POINT) and observation.a == observation.b:
        raise Refused(
            f"{observation.a} against itself reads nothing: name two different points.",
            field=f"{field}.b",
            value=observation.b,
        )
    if isinstance(observation, SpanToRead):
        _check_ends(observation, points, field)
    if isinstance(observation, GaugeRead) and observation.pin_mm is None and observation.level_mm is None:
        raise Refused(
            f"The gauge on {observation.a} and {observation.b} has neither pin nor level: give one or both.",
            field=f"{field}.pin_mm",
            value=None,
        )
    _check_setup(observation, kinds, field)


def _check_ends(span: SpanToRead, points: dict[str, Point], field: str) -> None:
    a, b = points[span.a].xyz, points[span.b].xyz
    axes = 3 if span.mode == "point_to_point" else 2
    apart = sum((a[axis] - b[axis]) ** 2 for axis in range(axes)) ** 0.5
    if apart < NEAREST_ENDS_MM:
        seen = "" if axes == 3 else " seen from above"
        raise Refused(
            f"The sheet puts {span.a} and {span.b} {apart:.2f} mm apart{seen}: too close for a span to have a direction. "
            + ("Read their difference instead." if axes == 3 else "Read it in space, or read their difference."),
            field=f"{field}.b",
            value=span.b,
        )


def _check_setup(observation: ToRead, kinds: dict[str, SetupKind], field: str) -> None:
    setup = setup_of(observation)
    if setup is None:
        return
    needed: SetupKind = "instrument" if observation.kind == "point" else "sight"
    if setup not in kinds:
        declared = ", ".join(kinds) or "none"
        raise Refused(
            f"The set-up {setup} is not declared (declared: {declared}).", field=f"{field}.setup", value=setup
        )
    if kinds[setup] != needed:
        raise Refused(
            f"The set-up {setup} is {_a(kinds[setup])}: a {observation.kind} is read from {_a(needed)}.",
            field=f"{field}.setup",
            value=setup,
        )


def _a(kind: SetupKind) -> str:
    return "an instrument" if kind == "instrument" else "a sight"
