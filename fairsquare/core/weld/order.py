"""In which order to weld so that no place gets too hot and no time is lost waiting."""

from collections.abc import Sequence
from typing import Annotated, NamedTuple

import numpy as np
from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Model, Vector
from fairsquare.core.weld.heat import Floats, Ints, OneOrder, PlateHeat, plate_heat

Above0 = Annotated[float, Field(gt=0, le=1e12)]
Celsius = Annotated[float, Field(ge=-273.15, le=1e4)]
PROVEN_TO = 8
TIE_S = 0.001
"""Finishes that differ by no more are equal; then the peak decides."""
_EFFORT = 5_500_000
"""How many heat terms the search beyond eight welds works out: by effort, not by time, so that answers are the same everywhere."""
_BEAM, _GROWING = 8, 30_000_000
_MIXED, _SHAKES = 7, 4
_LESS_C = 1e-3


class PlannedWeld(Model):
    """A weld: where it is, what heat goes in, how long it takes, and after which others it is made."""

    id: Code
    at: Vector
    energy_j: Above0
    seconds: Above0
    after: Many[Code] = ()


class WeldedPlate(Model):
    """The metal: thickness in mm, conductivity W/mK, density kg/m³, heat capacity J/kgK, loss at each face W/m²K."""

    thickness_mm: Above0
    conductivity: Above0
    density: Above0
    heat_capacity: Above0
    loss: Annotated[float, Field(ge=0, le=1e12)]


class WeldOrder(Model):
    """Welds in a plate, one at a time; none begins where it is hotter than the limit."""

    welds: Many[PlannedWeld]
    plate: WeldedPlate
    ambient_c: Celsius = 20.0
    limit_c: Celsius = 150.0
    max_wait_s: Annotated[float, Field(ge=0, le=1e12)] = 120.0


class WeldStarted(Model):
    """A weld in its place in the order: when it begins, and how hot its place is then at the most."""

    id: str
    start_s: float
    preheat_c: float


class WeldsOrdered(Model):
    """The order, its hottest beginning, its end, the welds that waited longer than wished, and whether nothing is better."""

    order: tuple[WeldStarted, ...]
    peak_preheat_c: float
    finish_s: float
    long_waits: tuple[str, ...]
    proven: bool


class _Runs(NamedTuple):
    """Orders, or beginnings of them, one a row: welds, their ends and how hot they begin, all (m, k)."""

    welds: Ints
    ends: Floats
    hot: Floats

    @property
    def now(self) -> Floats:
        """When the last weld of each ends, (m,)."""
        return np.asarray(self.ends[:, -1] if self.ends.shape[1] else np.zeros(len(self.ends)))

    @property
    def peak(self) -> Floats:
        """How hot the hottest begins, (m,)."""
        return np.asarray(self.hot.max(axis=1))

    def rows(self, chosen: Ints) -> "_Runs":
        """Return some of them."""
        return _Runs(self.welds[chosen], self.ends[chosen], self.hot[chosen])

    @property
    def best(self) -> int:
        """The row of the least peak among those that finish within `TIE_S` of the first."""
        first = np.flatnonzero(self.now <= self.now.min() + TIE_S)
        return int(first[np.argmin(self.peak[first])])


def weld_order(request: WeldOrder) -> WeldsOrdered:
    """Order welds for the least finish, and of equal ones the least peak of preheat.

    Up to eight welds every order is worked out. Beyond, the most promising beginnings are kept weld by weld, and the best order is
    then bettered by moving and exchanging welds. Raises `Refused` for a limit not above ambient, an `after` that is unknown or in a
    circle.
    """
    before = _before(request)
    heat = plate_heat(
        np.array([weld.at for weld in request.welds], dtype=float),
        [weld.energy_j for weld in request.welds],
        [weld.seconds for weld in request.welds],
        ambient_c=request.ambient_c,
        limit_c=request.limit_c,
        **request.plate.model_dump(),
    )
    many = len(request.welds)
    proven = many <= PROVEN_TO
    runs = _grown(heat, before, None if proven else max(1, min(_BEAM, _GROWING // many**3)))
    run = runs.rows(np.array([runs.best]))
    if not proven:
        run = _bettered(heat, before, run)
    welds, ends, hot = run.welds[0], run.ends[0], run.hot[0]
    starts = ends - heat.seconds[welds]
    starts[0] = 0.0
    waits = starts - np.concatenate([[0.0], ends[:-1]])
    names = [request.welds[i].id for i in welds]
    return WeldsOrdered(
        order=tuple(
            WeldStarted(id=name, start_s=float(start), preheat_c=float(hot_c))
            for name, start, hot_c in zip(names, starts, hot, strict=True)
        ),
        peak_preheat_c=float(hot.max()),
        finish_s=float(ends[-1]),
        long_waits=tuple(name for name, wait in zip(names, waits, strict=True) if wait > request.max_wait_s),
        proven=proven,
    )


def _before(request: WeldOrder) -> list[frozenset[int]]:
    """Return which welds each comes after. Raises `Refused` for what cannot be."""
    if not request.welds:
        raise Refused("There is no weld.", field="welds", value=[])
    if request.limit_c <= request.ambient_c:
        raise Refused(
            f"The limit should be above the {request.ambient_c:g} °C that it is anyway.",
            field="limit_c",
            value=request.limit_c,
        )
    numbers: dict[str, int] = {}
    for index, weld in enumerate(request.welds):
        if weld.id in numbers:
            raise Refused(f"Weld {weld.id} is listed twice.", field=f"welds.{index}.id", value=weld.id)
        numbers[weld.id] = index
    before = []
    for index, weld in enumerate(request.welds):
        unknown = next((name for name in weld.after if name not in numbers), None)
        if unknown is not None:
            raise Refused(f"There is no weld {unknown}.", field=f"welds.{index}.after", value=unknown)
        before.append(frozenset(numbers[name] for name in weld.after))
    done: set[int] = set()
    while len(done) < len(before):
        free = {i for i, own in enumerate(before) if i not in done and own <= done}
        if not free:
            stuck = min(set(range(len(before))) - done)
            raise Refused(
                f"Weld {request.welds[stuck].id} would come after itself.",
                field=f"welds.{stuck}.after",
                value=request.welds[stuck].id,
            )
        done |= free
    return before


def _next(heat: PlateHeat, runs: _Runs, parents: Ints, weld: Ints) -> _Runs:
    """Return beginnings with one weld more: `weld`, (m,), after the rows `parents`, (m,)."""
    own = runs.rows(parents)
    start, hot = heat.start(weld, own.now, own.welds, own.ends)
    ends = start + heat.seconds[weld]
    return _Runs(np.column_stack([own.welds, weld]), np.column_stack([own.ends, ends]), np.column_stack([own.hot, hot]))


def _grown(heat: PlateHeat, before: Sequence[frozenset[int]], width: int | None) -> _Runs:
    """Return whole orders, grown weld by weld: all of them, or those of the `width` most promising beginnings at each step.

    Most promising: what ends first, then the least peak.
    """
    many = len(before)
    needs = np.zeros((many, many), dtype=bool)
    for i, own in enumerate(before):
        needs[i, list(own)] = True
    runs = _Runs(np.zeros((1, 0), dtype=np.int64), np.zeros((1, 0)), np.zeros((1, 0)))
    for _ in range(many):
        made = np.zeros((len(runs.welds), many), dtype=bool)
        np.put_along_axis(made, runs.welds, True, axis=1)
        free = ~made & ~(needs[None, :, :] & ~made[:, None, :]).any(axis=2)
        parents, weld = np.nonzero(free)
        runs = _next(heat, runs, parents, weld)
        if width is not None and len(runs.welds) > width:
            runs = runs.rows(np.lexsort((runs.peak, np.round(runs.now, 3)))[:width])
    return runs


def _timed(heat: PlateHeat, orders: Ints) -> _Runs:
    """Return orders, (m, n), with their times."""
    rows = np.arange(len(orders))
    runs = _Runs(np.zeros((len(orders), 0), dtype=np.int64), np.zeros((len(orders), 0)), np.zeros((len(orders), 0)))
    for k in range(orders.shape[1]):
        runs = _next(heat, runs, rows, orders[:, k])
    return runs


class _Tried(NamedTuple):
    """An order with its finish and its peak."""

    order: tuple[int, ...]
    finish: float
    peak: float


def _bettered(heat: PlateHeat, before: Sequence[frozenset[int]], run: _Runs) -> _Runs:
    """Exchange and move welds for as long as that makes the order better, then shake the best one and begin anew (iterated local
    search), until the effort is spent."""
    timing, random = OneOrder(heat), np.random.default_rng(_MIXED)
    moves = _moves(len(before))
    best = _settled(timing, before, moves, _Tried(tuple(run.welds[0].tolist()), float(run.now[0]), float(run.peak[0])))
    while timing.terms < _EFFORT:
        shaken = list(best.order)
        for k in random.integers(0, len(moves), _SHAKES):
            other = _moved(shaken, *moves[k])
            shaken = other if _holds(other, before) else shaken
        from_there = _tried(timing, shaken, _Tried((), np.inf, np.inf))
        if from_there is not None:
            settled = _settled(timing, before, moves, from_there)
            best = settled if _less(settled, best) else best
    bettered = _timed(heat, np.array([best.order], dtype=np.int64))
    return bettered if _better(bettered, run) else run


def _settled(
    timing: OneOrder, before: Sequence[frozenset[int]], moves: Sequence[tuple[int, int, bool]], best: _Tried
) -> _Tried:
    """Return an order that no single exchange or move makes better, or the best when the effort is spent."""
    since = 0
    while since < len(moves) and timing.terms < _EFFORT:
        for move in moves:
            if since >= len(moves) or timing.terms >= _EFFORT:
                break
            since += 1
            order = _moved(best.order, *move)
            if _holds(order, before):
                tried = _tried(timing, order, best)
                if tried is not None:
                    best, since = tried, 0
    return best


def _less(tried: _Tried, other: _Tried) -> bool:
    if tried.finish < other.finish - 2 * TIE_S:
        return True
    return tried.finish <= other.finish + TIE_S and tried.peak < other.peak - _LESS_C


def _tried(timing: OneOrder, order: Sequence[int], best: _Tried) -> _Tried | None:
    """Return the order with its times where it is better than the best; left off as soon as it cannot be."""
    made: list[int] = []
    ends: list[float] = []
    now, peak, left = 0.0, -np.inf, sum(timing.seconds)
    for i in order:
        start, hot = timing.start(i, now, made, ends)
        now = start + timing.seconds[i]
        left -= timing.seconds[i]
        peak = max(peak, hot)
        if now + left > best.finish + TIE_S:
            return None
        made.append(i)
        ends.append(now)
    whole = _Tried(tuple(order), now, peak)
    return whole if _less(whole, best) else None


def _better(run: _Runs, other: _Runs) -> bool:
    if run.now[0] < other.now[0] - TIE_S:
        return True
    return bool(run.now[0] <= other.now[0] + TIE_S and run.peak[0] < other.peak[0])


def _moves(many: int) -> list[tuple[int, int, bool]]:
    """Return every exchange of two places in an order, and every move from one place to another, in a fixed mixed sequence."""
    swaps = [(a, b, True) for a in range(many) for b in range(a + 1, many)]
    shifts = [(a, b, False) for a in range(many) for b in range(many) if abs(a - b) > 1]
    every = swaps + shifts
    return [every[k] for k in np.random.default_rng(_MIXED).permutation(len(every))]


def _moved(order: Sequence[int], a: int, b: int, swap: bool) -> list[int]:
    moved = list(order)
    if swap:
        moved[a], moved[b] = moved[b], moved[a]
    else:
        moved.insert(b, moved.pop(a))
    return moved


def _holds(order: Sequence[int], before: Sequence[frozenset[int]]) -> bool:
    made: set[int] = set()
    for i in order:
        if not before[i] <= made:
            return False
        made.add(i)
    return True
