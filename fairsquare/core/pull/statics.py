"""Will it hold: what each anchor and chain carries, which way the vehicle creeps, and the ground to keep clear of."""

from collections.abc import Sequence
from typing import Annotated, Literal

import numpy as np
from numpy.typing import NDArray
from pydantic import Field
from scipy.optimize import linprog, nnls

from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Model, Row3, Vector

Floats = NDArray[np.float64]
Above0 = Annotated[float, Field(gt=0, le=1e12)]
NotBelow0 = Annotated[float, Field(ge=0, le=1e12)]
AnchorKind = Literal["clamp", "chain", "stand"]

GRAVITY = 9.80665
"""Standard acceleration of free fall in m/s², exact by definition (ISO 80000-3)."""
_ARM = 1000.0
"""mm: turns are weighed as the movement they make this far away, so that mm and radians can be compared."""
_EXACT = 1e-12
_NOTHING = 1e-9


class Vehicle(Model):
    """Mass in kg and centre of mass in mm."""

    mass_kg: NotBelow0
    cg: Vector


class Pull(Model):
    """A chain that draws at `hook` toward `tower`, with a force, or with a ram's pressure, area and falls of chain.

    Where the pulling machine bears on the vehicle itself, `reacts_at` is the place, `reacts_capacity_n` what it takes.
    """

    id: Code
    hook: Vector
    tower: Vector
    force_n: NotBelow0 | None = None
    pressure_mpa: NotBelow0 | None = None
    ram_area_mm2: Above0 | None = None
    falls: Annotated[int, Field(ge=1, le=100)] = 1
    capacity_n: Above0 | None = None
    reacts_at: Vector | None = None
    reacts_capacity_n: Above0 | None = None

    def force(self) -> float:
        """Return the force on the hook in N; `falls` count for a ram's pressure only, `force_n` is what draws on the hook."""
        if self.force_n is not None:
            return self.force_n
        return (self.pressure_mpa or 0.0) * (self.ram_area_mm2 or 0.0) * self.falls


class Anchor(Model):
    """What holds the vehicle: a clamp (stiffness in N/mm, one for all axes or one each), a chain toward a place, a stand
    under it."""

    id: Code
    at: Vector
    kind: AnchorKind
    stiffness: NotBelow0 | Annotated[tuple[NotBelow0, NotBelow0, NotBelow0], Field(strict=False)]
    toward: Vector | None = None
    capacity_n: Above0 | None = None


class PullStatics(Model):
    """A vehicle, what pulls at it, and what holds it."""

    vehicle: Vehicle
    pulls: Many[Pull]
    anchors: Many[Anchor]
    clear_mm: Above0 = 1000.0


class Wrench(Model):
    """A force in N and its moment about the origin in N·mm."""

    force: Row3
    moment: Row3


class AnchorCarries(Model):
    """What an anchor puts on the vehicle, and that over its capacity (None: no capacity is known)."""

    force: Row3
    use: float | None


class PullTakes(Model):
    """The force of a pull, and the larger of that over what the hook and what the bearing place take."""

    force_n: float
    use: float | None


class Movement(Model):
    """u(x) = translation + rotation × x: mm, and radians."""

    translation: Row3
    rotation_rad: Row3


class PullsHeld(Model):
    """What holds, how hard, how the vehicle moves, what is over its capacity or slack, and where nobody stands."""

    resultant: Wrench
    anchors: dict[str, AnchorCarries]
    pulls: dict[str, PullTakes]
    movement: Movement
    over: Many[str]
    slack: Many[str]
    clear_zone: dict[str, Many[tuple[float, float]]]


def pull_statics(request: PullStatics) -> PullsHeld:
    """Work out whether the vehicle is held under pulls and weight, and what every anchor carries.

    A rigid body that moves a little on elastic anchors, of which chains only draw and stands only push: the minimum of a convex
    energy, piecewise quadratic in six unknowns. Raises `Refused` for what contradicts itself, and with `free`, a movement that
    nothing resists, for a vehicle that is not held.
    """
    _checked(request)
    pulls = {pull.id: pull.force() for pull in request.pulls}
    pulled = sum((_wrench_of(pull) for pull in request.pulls), np.zeros(6))
    weight = np.array([0.0, 0.0, -request.vehicle.mass_kg * GRAVITY])
    load = pulled + np.concatenate([weight, np.cross(request.vehicle.cg, weight)])
    holds = Holds(request.anchors)
    free = holds.free_movement(load)
    if free is not None:
        raise Refused(
            f"Nothing keeps the vehicle from {movement_in_words(free)}: add an anchor that does.",
            field="anchors",
            details={"free": {"translation": free[:3].tolist(), "rotation_rad": free[3:].tolist()}},
        )
    moved, forces = holds.settled(load)
    anchors = {}
    for anchor, force in zip(request.anchors, forces, strict=True):
        size = float(np.linalg.norm(force))
        anchors[anchor.id] = AnchorCarries(
            force=_row(force), use=None if anchor.capacity_n is None else size / anchor.capacity_n
        )
    takes = {pull.id: PullTakes(force_n=pulls[pull.id], use=_pull_use(pull)) for pull in request.pulls}
    uses = {name: part.use for name, part in anchors.items()} | {name: part.use for name, part in takes.items()}
    chains = [anchor for anchor in request.anchors if anchor.kind == "chain" and anchor.toward is not None]
    lines = [(p.id, p.hook, p.tower) for p in request.pulls] + [(c.id, c.at, c.toward or c.at) for c in chains]
    return PullsHeld(
        resultant=Wrench(force=_row(pulled[:3]), moment=_row(pulled[3:])),
        anchors=anchors,
        pulls=takes,
        movement=Movement(translation=_row(moved[:3]), rotation_rad=_row(moved[3:])),
        over=tuple(name for name, use in uses.items() if use is not None and use > 1.0),
        slack=tuple(
            anchor.id
            for anchor, force in zip(request.anchors, forces, strict=True)
            if anchor.kind != "clamp" and not force.any()
        ),
        clear_zone={name: clear_zone(start[:2], end[:2], request.clear_mm) for name, start, end in lines},
    )


def clear_zone(start: Sequence[float], end: Sequence[float], clear: float) -> tuple[tuple[float, float], ...]:
    """Return the ground to keep clear of a chain between two places in plan, a rectangle (common practice, no published source).

    It holds every point within `clear` of the line lengthened by `clear` past both ends. A chain that hangs straight down has a
    square.
    """
    a, b = np.array(start, dtype=float), np.array(end, dtype=float)
    length = float(np.linalg.norm(b - a))
    along = (b - a) / length if length > 1e-9 else np.array([1.0, 0.0])
    side = np.array([-along[1], along[0]])
    past = 2.0 * clear if length > 1e-9 else clear
    a, b = a - past * along, b + past * along
    corners = (a - clear * side, b - clear * side, b + clear * side, a + clear * side)
    return tuple((float(x), float(y)) for x, y in corners)


def movement_in_words(movement: Floats) -> str:
    """Return a movement (6), mm and radians, as a technician would say it: going forward, turning round an axis."""
    moves, turns = movement[:3], movement[3:] * _ARM
    if np.abs(moves).max() >= 0.5 * np.abs(turns).max():
        axis = int(np.argmax(np.abs(moves)))
        names = (("forward", "back"), ("to the left", "to the right"), ("up", "down"))[axis]
        words = f"going {names[0] if moves[axis] > 0 else names[1]}"
        return words if np.abs(turns).max() < 0.1 * np.abs(moves).max() else f"{words} and turning"
    axis = int(np.argmax(np.abs(turns)))
    names = (("left side up", "right side up"), ("nose down", "nose up"), ("to the left", "to the right"))[axis]
    about = ("over its length", "end over end", "round an upright axis")[axis]
    return f"turning {about}, {names[0] if turns[axis] > 0 else names[1]}"


class Holds:
    """Anchors as rows against the six movements, turns in units of what they move 1 m away.

    `clamped` (c, 6) rows of stiff clamp axes; `drawn` (u, 6) rows whose positive movement lengthens a chain or presses a stand.
    """

    def __init__(self, anchors: Sequence[Anchor]) -> None:
        self.anchors = anchors
        self.unit = np.array([1.0, 1.0, 1.0, _ARM, _ARM, _ARM])
        clamped, clamp_stiffness, drawn, draw_stiffness = [], [], [], []
        for anchor in anchors:
            at = np.array(anchor.at)
            if anchor.kind == "clamp":
                for axis, stiffness in enumerate(axis_stiffness(anchor)):
                    clamped.append(_row_along(at, np.eye(3)[axis]) / self.unit)
                    clamp_stiffness.append(stiffness)
            else:
                drawn.append(_row_along(at, -_pulls_toward(anchor)) / self.unit)
                draw_stiffness.append(axis_stiffness(anchor)[0])
        self.clamped, self.clamp_stiffness = np.array(clamped).reshape(-1, 6), np.array(clamp_stiffness)
        self.drawn, self.draw_stiffness = np.array(drawn).reshape(-1, 6), np.array(draw_stiffness)

    def free_movement(self, load: Floats) -> Floats | None:
        """Return a movement (6) that no anchor resists and the load (6) does not oppose; None where the vehicle is held."""
        stiff = self.clamped[self.clamp_stiffness > 0]
        kernel = _kernel(stiff)
        if not kernel.shape[1]:
            return None
        pushed = load / self.unit
        size = float(np.linalg.norm(pushed))
        rows = -self.drawn @ kernel
        rows = np.vstack([rows, (pushed / size)[None] @ kernel if size > 0 else np.zeros((1, kernel.shape[1]))])
        rows[np.abs(rows) < _NOTHING] = 0.0
        # the load's own way, as far as nothing resists it: its projection on the cone of free movements, by non-negative squares
        wanted = (kernel.T @ pushed / size) if size > 0 else np.zeros(kernel.shape[1])
        against, _ = nnls(rows.T, -wanted)
        found = wanted + rows.T @ against
        if np.linalg.norm(found) < 1e-7:
            loose = _kernel(rows)
            if loose.shape[1]:
                found = loose[:, 0]
            else:
                slope = rows.sum(axis=0)
                answer = linprog(-slope, A_ub=-rows, b_ub=np.zeros(len(rows)), bounds=[(-1.0, 1.0)] * rows.shape[1])
                if answer.status != 0 or slope @ answer.x < 1e-7:
                    return None
                found = answer.x
        found = kernel @ found
        found = found / self.unit
        movement: Floats = found / max(np.abs(found[:3]).max(), np.abs(found[3:]).max() * _ARM)
        movement[np.abs(movement * self.unit) < 1e-9] = 0.0
        return movement

    def settled(self, load: Floats) -> tuple[Floats, list[Floats]]:
        """Return the movement (6) under a load (6) and each anchor's force (3): the least of the energy, and of movements
        the least."""
        pushed = load / self.unit
        base = (self.clamped.T * self.clamp_stiffness) @ self.clamped
        moved = np.zeros(6)
        for _ in range(500):
            stretch = self.drawn @ moved
            tight = (stretch > 0) | ((stretch == 0) & (self.drawn @ pushed > 0))
            stiff = base + (self.drawn[tight].T * self.draw_stiffness[tight]) @ self.drawn[tight]
            left = pushed - base @ moved - self.drawn.T @ (self.draw_stiffness * np.maximum(stretch, 0.0))
            if np.abs(left).max() <= _EXACT * np.abs(pushed).max():
                break
            move = _toward(stiff, left)
            moved = moved + self._least_along(moved, move, base, pushed) * move
        moved = self._least(moved)
        stretch = np.maximum(self.drawn @ moved, 0.0)
        stretch[self.draw_stiffness * stretch <= 1e-10 * (1.0 + np.abs(pushed).max())] = 0.0
        return moved / self.unit, self._forces(moved, stretch)

    def _forces(self, moved: Floats, stretch: Floats) -> list[Floats]:
        clamps = iter((-self.clamp_stiffness * (self.clamped @ moved)).reshape(-1, 3))
        draws = iter(self.draw_stiffness * stretch)
        return [
            next(clamps) if anchor.kind == "clamp" else next(draws) * _pulls_toward(anchor) for anchor in self.anchors
        ]

    def _least_along(self, moved: Floats, move: Floats, base: Floats, pushed: Floats) -> float:
        """Return how far along a move the energy is least: its slope is piecewise linear and rises."""
        stretch, rate = self.drawn @ moved, self.drawn @ move

        def slope(part: float) -> float:
            drawn = np.maximum(stretch + part * rate, 0.0)
            return float(move @ (base @ (moved + part * move)) + rate @ (self.draw_stiffness * drawn) - move @ pushed)

        with np.errstate(divide="ignore", invalid="ignore"):
            turns = -stretch / rate
        low, low_slope = 0.0, slope(0.0)
        for turn in np.sort(turns[np.isfinite(turns) & (turns > 0)]):
            turn_slope = slope(float(turn))
            if turn_slope >= 0:
                return low if turn_slope == low_slope else low + (turn - low) * low_slope / (low_slope - turn_slope)
            low, low_slope = float(turn), turn_slope
        beyond = low + max(1.0, low)
        last = slope(beyond)
        return low if last <= low_slope else low + (beyond - low) * low_slope / (low_slope - last)

    def _least(self, moved: Floats) -> Floats:
        """Return the least movement (mm and radians as they are) that makes the same forces: where there is play, any is
        possible."""
        stretch = self.drawn @ moved
        tight = self.draw_stiffness * stretch > 1e-10 * max(1.0, float(np.abs(moved).max()))
        fixed = np.vstack([self.clamped[self.clamp_stiffness > 0], self.drawn[tight]]) * self.unit
        kernel = _kernel(fixed / np.linalg.norm(fixed, axis=1, keepdims=True)) if len(fixed) else np.eye(6)
        if not kernel.shape[1]:
            return moved
        plain = moved / self.unit
        nearest = plain - kernel @ (kernel.T @ plain)
        slack = self.drawn[~tight] * self.unit
        room, rows = -(slack @ nearest), -(slack @ kernel)
        # least |p| with slack·(nearest + kernel p) ≤ 0: Lawson and Hanson 1974, chapter 23, by least squares that are not negative
        limits = -room
        if not len(rows) or (limits <= 1e-12).all():
            return np.asarray(nearest * self.unit)
        scale = np.abs(limits).max()
        system = np.vstack([rows.T, limits[None] / scale])
        aim = np.zeros(len(system))
        aim[-1] = 1.0
        answer, _ = nnls(system, aim)
        rest = system @ answer - aim
        if abs(rest[-1]) < 1e-14:
            return moved
        return np.asarray((nearest + kernel @ (-scale * rest[:-1] / rest[-1])) * self.unit)


def axis_stiffness(anchor: Anchor) -> tuple[float, float, float]:
    """Return the stiffness of an anchor along x, y, z in N/mm; of a chain or stand the same three times."""
    stiffness = anchor.stiffness
    return stiffness if isinstance(stiffness, tuple) else (stiffness, stiffness, stiffness)


def _pulls_toward(anchor: Anchor) -> Floats:
    """Return the unit vector (3) along which a chain draws the vehicle or a stand pushes it."""
    if anchor.kind == "stand" or anchor.toward is None:
        return np.array([0.0, 0.0, 1.0])
    along = np.array(anchor.toward) - np.array(anchor.at)
    unit: Floats = along / np.linalg.norm(along)
    return unit


def _row_along(at: Floats, direction: Floats) -> Floats:
    """Return the row (6) that gives the movement of a place along a direction: d·(t + r × x) = d·t + (x × d)·r."""
    return np.concatenate([direction, np.cross(at, direction)])


def _wrench_of(pull: Pull) -> Floats:
    hook, along = np.array(pull.hook), np.array(pull.tower) - np.array(pull.hook)
    force = pull.force() * along / np.linalg.norm(along)
    wrench = np.concatenate([force, np.cross(hook, force)])
    if pull.reacts_at is not None:
        wrench = wrench - np.concatenate([force, np.cross(pull.reacts_at, force)])
    total: Floats = wrench
    return total


def _pull_use(pull: Pull) -> float | None:
    uses = [pull.force() / limit for limit in (pull.capacity_n, pull.reacts_capacity_n) if limit is not None]
    return max(uses, default=None)


def _kernel(rows: Floats) -> Floats:
    """Return an orthonormal base (n, d) of what rows (k, n), of size about 1, take to nothing."""
    if not len(rows):
        return np.eye(rows.shape[1])
    _, sizes, turned = np.linalg.svd(rows)
    rank = int((sizes > 1e-9 * max(1.0, sizes[0])).sum())
    kernel: Floats = turned[rank:].T
    return kernel


def _toward(stiff: Floats, left: Floats) -> Floats:
    """Return Newton's move (6); where nothing is stiff against what is left, along that alone."""
    sizes, turned = np.linalg.eigh(stiff)
    sized = turned.T @ left
    firm = sizes > 1e-11 * max(float(sizes[-1]), 1e-300)
    loose = np.where(firm, 0.0, sized)
    if np.abs(loose).max() > 1e-9 * np.abs(sized).max():
        return turned @ loose
    return turned @ (np.where(firm, sized, 0.0) / np.where(firm, sizes, 1.0))


def _row(values: Floats) -> tuple[float, float, float]:
    x, y, z = (float(value) for value in values)
    return x, y, z


def _checked(request: PullStatics) -> None:
    """Refuse what contradicts itself, with the field."""
    names = [(f"pulls.{k}.id", pull.id) for k, pull in enumerate(request.pulls)]
    names += [(f"anchors.{k}.id", anchor.id) for k, anchor in enumerate(request.anchors)]
    seen: set[str] = set()
    for field, name in names:
        if name in seen:
            words = f"{name} stands there twice; each pull and anchor needs a name of its own."
            raise Refused(words, field=field, value=name)
        seen.add(name)
    for k, pull in enumerate(request.pulls):
        _check_force(pull, f"pulls.{k}")
        _check_places(pull, f"pulls.{k}")
    for k, anchor in enumerate(request.anchors):
        _check_anchor(anchor, f"anchors.{k}")


def _check_force(pull: Pull, at: str) -> None:
    by_ram = (pull.pressure_mpa, pull.ram_area_mm2)
    if pull.force_n is None and None in by_ram:
        missing = "pressure_mpa" if pull.pressure_mpa is None else "ram_area_mm2"
        field = f"{at}.{missing if by_ram != (None, None) else 'force_n'}"
        raise Refused(f"Pull {pull.id} needs force_n, or pressure_mpa with ram_area_mm2.", field=field, value=None)
    if pull.force_n is not None and by_ram != (None, None):
        words = f"Pull {pull.id} has a force and a ram as well: give one of the two."
        raise Refused(words, field=f"{at}.force_n", value=pull.force_n)


def _check_places(pull: Pull, at: str) -> None:
    if _same(pull.hook, pull.tower):
        raise Refused(f"Pull {pull.id}: hook and tower are at one place.", field=f"{at}.tower", value=pull.tower)
    if pull.reacts_at is None and pull.reacts_capacity_n is not None:
        words = f"Pull {pull.id} has a limit for the place it bears on, but no such place (reacts_at)."
        raise Refused(words, field=f"{at}.reacts_capacity_n", value=pull.reacts_capacity_n)
    if pull.reacts_at is not None and _same(pull.reacts_at, pull.hook):
        words = f"Pull {pull.id} bears where its hook is: it would do nothing."
        raise Refused(words, field=f"{at}.reacts_at", value=pull.reacts_at)


def _check_anchor(anchor: Anchor, at: str) -> None:
    if anchor.kind == "chain":
        if anchor.toward is None or _same(anchor.toward, anchor.at):
            words = f"Chain {anchor.id} needs the place that it runs toward, away from where it holds."
            raise Refused(words, field=f"{at}.toward", value=anchor.toward)
    elif anchor.toward is not None:
        raise Refused(
            f"A {anchor.kind} runs toward nothing: leave toward out.", field=f"{at}.toward", value=anchor.toward
        )
    if anchor.kind == "clamp":
        return
    if isinstance(anchor.stiffness, tuple):
        words = f"The stiffness of {anchor.kind} {anchor.id} is one number; one for each axis is a clamp's."
        raise Refused(words, field=f"{at}.stiffness", value=anchor.stiffness)
    if anchor.stiffness == 0:
        words = f"A stiffness of 0 holds nothing: {anchor.kind} {anchor.id} needs more."
        raise Refused(words, field=f"{at}.stiffness", value=0)


def _same(a: Sequence[float], b: Sequence[float]) -> bool:
    return sum((p - q) ** 2 for p, q in zip(a, b, strict=True)) < 1e-12
