"""Hanging panels that share gaps: all at once, the fewest that have to be touched, and one by one in an order in which each is set
before those that are set against it."""

from collections.abc import Iterator, Sequence
from itertools import combinations
from typing import Annotated, NamedTuple

import numpy as np
from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.fit.hanging import (
    FEASIBLE_MM,
    Floats,
    GapPredicted,
    Hanging,
    HangVerdict,
    Hinge,
    Ranges,
    check_hinges,
    check_normals,
    check_once,
    gaps_told,
    hinges_at,
    moves_at,
    moves_told,
    ranges_told,
    units_of,
)
from fairsquare.core.model import Code, Many, Millimetres, Model, Vector

HingeMoves = dict[Code, tuple[float, float, float]]

PROVEN_PANELS = 8
"""Up to so many panels every set of them may be tried: 255. Beyond, as many as `_MOST_SETS` and `_MOST_SOLVED` allow."""
_MOST_SETS, _MOST_SOLVED = 20_000, 250


class HungPanel(Model):
    """A panel and its hinges."""

    id: Code
    hinges: Many[Hinge]


class SharedGap(Model):
    """A gap between a panel and another one, or the body (null): its `normal` points from `a` to `b`."""

    id: Code
    a: Code
    b: Code | None = None
    at: Vector
    normal: Vector
    mm: Millimetres
    target_mm: Millimetres
    tolerance_mm: Annotated[float, Field(gt=0, le=1e6)]


class HangPanels(Model):
    """Panels, their gaps as they were read, and the order in which to set them; null: the one that is worked out."""

    panels: Many[HungPanel]
    gaps: Many[SharedGap]
    order: Many[Code] | None = None


class Touched(Model):
    """The fewest panels that have to be moved, by how much, what the gaps become, and whether fewer are proven not to do."""

    panels: tuple[Code, ...]
    moves: dict[Code, HingeMoves]
    gaps: tuple[GapPredicted, ...]
    proven: bool


class PanelStep(Model):
    """A panel that is set, and every gap then, with those that come later where they hang."""

    panel: Code
    gaps: tuple[GapPredicted, ...]


class PanelsHung(Model):
    """How far each hinge of each panel is moved, what the gaps become, the fewest panels that will do, and the steps to it."""

    verdict: HangVerdict
    moves: dict[Code, HingeMoves]
    gaps: tuple[GapPredicted, ...]
    needed: dict[Code, Ranges] | None
    needed_mm: float | None
    touch: Touched | None
    steps: tuple[PanelStep, ...]


def hang_panels(request: HangPanels) -> PanelsHung:
    """Say how to move the hinges of panels that share gaps, and which panels to leave alone.

    Raises `Refused` for what `hang_panel` refuses, and for panels, hinges or gaps twice, a gap of an unknown panel or of one with
    itself, and an order that is not every panel once.
    """
    _check(request)
    face = _Face(request)
    verdict, x = face.all.hung()
    widened = face.all.widened() if verdict == "structure" else None
    touched = _Fewest(face).found() if verdict == "adjust" else _Set((), np.zeros(face.all.unknowns), True)
    touch = None if verdict == "structure" else touched
    moving = face.with_gaps if touch is None else touch.panels
    return PanelsHung(
        verdict=verdict,
        moves=face.moves_told(x, range(len(request.panels))),
        gaps=face.gaps_told(x),
        needed=face.ranges_told(widened.low, widened.high) if widened else None,
        needed_mm=widened.by_mm if widened else None,
        touch=touch and face.touch_told(touch),
        steps=tuple(face.steps(moving, x if touch is None else touch.x)),
    )


def _check(request: HangPanels) -> None:
    if not request.panels:
        raise Refused("There is no panel to hang.", field="panels", value=[])
    names = [panel.id for panel in request.panels]
    check_once(names, "panels")
    for number, panel in enumerate(request.panels):
        check_hinges(panel.hinges, panel.id, f"panels.{number}.hinges")
    if not request.gaps:
        raise Refused("Without a gap there is nothing to hang them by.", field="gaps", value=[])
    check_once([gap.id for gap in request.gaps], "gaps")
    check_normals([gap.normal for gap in request.gaps])
    for index, gap in enumerate(request.gaps):
        for side in ("a", "b"):
            value = getattr(gap, side)
            if value is not None and value not in names:
                raise Refused(
                    f"There is no panel {value}: there are {', '.join(names)}.",
                    field=f"gaps.{index}.{side}",
                    value=value,
                )
        if gap.a == gap.b:
            raise Refused(
                f"{gap.id} is between {gap.a} and itself: b is its neighbour, or null for the body.",
                field=f"gaps.{index}.b",
                value=gap.b,
            )
    if request.order is not None and sorted(request.order) != sorted(names):
        left = [name for name in names if name not in request.order]
        unknown = [name for name in request.order if name not in names]
        why = f"{', '.join(left)} left out" if left else f"no panel {unknown[0]}" if unknown else "one is there twice"
        raise Refused(f"The order should have every panel once: {why}.", field="order", value=list(request.order))


class _Set(NamedTuple):
    """Panels that are moved (by number), the x of all panels, and whether no fewer will do."""

    panels: tuple[int, ...]
    x: Floats
    proven: bool


class _Face:
    """The panels of a request in numbers. Panel p has the unknowns 6 p to 6 p + 5; gap g is between `sides[g]`, -1 the body."""

    def __init__(self, request: HangPanels) -> None:
        self.request = request
        number = {panel.id: p for p, panel in enumerate(request.panels)}
        many, gaps = len(request.panels), request.gaps
        self.sides = [(number[gap.a], -1 if gap.b is None else number[gap.b]) for gap in gaps]
        own = [hinges_at(panel.hinges) for panel in request.panels]
        self.owner = np.repeat(np.arange(many), [len(panel.hinges) for panel in request.panels])
        hinges = np.zeros((len(self.owner), 3, 6 * many))
        for p, (_, moves, _, _) in enumerate(own):
            hinges[self.owner == p, :, 6 * p : 6 * p + 6] = moves
        units, places = units_of([gap.normal for gap in gaps]), np.array([gap.at for gap in gaps], dtype=float)
        rows = np.zeros((len(gaps), 6 * many))
        for p, (middle, _, _, _) in enumerate(own):
            answers = np.einsum("gi,gij->gj", units, moves_at(places - middle))
            sign = np.array([(a == p) - (b == p) for a, b in self.sides], dtype=float)
            rows[:, 6 * p : 6 * p + 6] = sign[:, None] * answers
        self.all = Hanging(
            hinges,
            np.concatenate([low for _, _, low, _ in own]),
            np.concatenate([high for _, _, _, high in own]),
            rows,
            np.array([gap.mm for gap in gaps]),
            np.array([gap.target_mm for gap in gaps]),
            np.array([gap.tolerance_mm for gap in gaps]),
        )
        self.with_gaps = tuple(p for p in range(many) if any(p in sides for sides in self.sides))

    def part(self, panels: Sequence[int]) -> Hanging:
        """Return some panels and their gaps, all others staying."""
        columns = np.concatenate([np.arange(6 * p, 6 * p + 6) for p in panels])
        mine = np.isin(self.owner, panels)
        gaps = self.gaps_of(panels)
        whole = self.all
        return Hanging(
            whole.hinges[mine][:, :, columns],
            whole.low[mine],
            whole.high[mine],
            whole.gaps[gaps][:, columns],
            whole.mm[gaps],
            whole.target[gaps],
            whole.tolerance[gaps],
        )

    def gaps_of(self, panels: Sequence[int]) -> list[int]:
        """Return the numbers of the gaps that some panels have."""
        return [g for g, (a, b) in enumerate(self.sides) if a in panels or b in panels]

    def together(self, panels: Sequence[int]) -> Iterator[tuple[int, ...]]:
        """Yield panels in groups that share no gap with one another: each is moved as if the others stayed."""
        left = list(panels)
        while left:
            group = [left.pop(0)]
            for p in group:
                near = [q for q in left if (p, q) in self.sides or (q, p) in self.sides]
                group += near
                left = [q for q in left if q not in near]
            yield tuple(sorted(group))

    def only(self, x: Floats, panels: Sequence[int]) -> Floats:
        """Return the moves x with all but some panels staying."""
        kept = np.zeros_like(x).reshape(-1, 6)
        kept[list(panels)] = x.reshape(-1, 6)[list(panels)]
        return np.asarray(kept.ravel())

    # ── the order ────────────────────────────────────────────────────────────

    def order(self, moving: Sequence[int]) -> list[int]:
        """Return panels in the order in which each is set before those that are set against it, or that was asked for."""
        names = [panel.id for panel in self.request.panels]
        if self.request.order is not None:
            return [p for p in map(names.index, self.request.order) if p in moving]
        left, order = sorted(moving), []
        while left:
            coming = set(left)

            def wait(p: int, coming: set[int] = coming) -> tuple[int, int, int]:
                others = [b if a == p else a for a, b in self.sides if p in (a, b)]
                to_come = sum(other in coming for other in others)
                return to_come, to_come - len(others), p

            order.append(min(left, key=wait))
            left.remove(order[-1])
        return order

    def steps(self, moving: Sequence[int], x: Floats) -> Iterator[PanelStep]:
        """Yield each panel that is moved and the gaps then."""
        done: list[int] = []
        for p in self.order(moving):
            done.append(p)
            yield PanelStep(panel=self.request.panels[p].id, gaps=self.gaps_told(self.only(x, done)))

    # ── told ─────────────────────────────────────────────────────────────────

    def gaps_told(self, x: Floats) -> tuple[GapPredicted, ...]:
        return gaps_told(self.all, [gap.id for gap in self.request.gaps], self.all.predicted(x))

    def moves_told(self, x: Floats, panels: Sequence[int]) -> dict[Code, HingeMoves]:
        moved = self.all.moved(x)
        return {
            self.request.panels[p].id: moves_told(self.request.panels[p].hinges, moved[self.owner == p]) for p in panels
        }

    def ranges_told(self, low: Floats, high: Floats) -> dict[Code, Ranges]:
        return {
            panel.id: ranges_told(panel.hinges, low[self.owner == p], high[self.owner == p])
            for p, panel in enumerate(self.request.panels)
        }

    def touch_told(self, touch: _Set) -> Touched:
        return Touched(
            panels=tuple(self.request.panels[p].id for p in touch.panels),
            moves=self.moves_told(touch.x, touch.panels),
            gaps=self.gaps_told(touch.x),
            proven=touch.proven,
        )


class _GivenUp(Exception):
    """More sets were tried than are."""


class _Fewest:
    """The fewest panels that bring every gap in, all others staying.

    Sets are tried from the smallest on. One that cannot bring its gaps in says why: gaps that hold one another up (the multipliers
    of its linear programme, after Farkas). As long as none of the panels beyond it that have one of these gaps moves, they go on to
    hold one another up; so every set that will do has one of those panels, and sets without are passed over.
    """

    def __init__(self, face: _Face) -> None:
        self.face = face
        out = ~face.all.within(face.all.mm)
        self.one_of = {frozenset(side for side in face.sides[g] if side >= 0) for g in np.flatnonzero(out)}
        self.groups: dict[tuple[int, ...], float] = {}
        """By how much groups of panels that were tried miss their gaps at least, mm."""
        self.few = len(face.with_gaps) <= PROVEN_PANELS

    def found(self) -> _Set:
        """Return the set, with the least sum among those as small."""
        try:
            for size in range(1, len(self.face.with_gaps) + 1):
                sets = [self.moved(panels) for panels in self._sets(size)]
                if sets:
                    return min(sets, key=lambda one: self.face.all.weight(one.x))
        except _GivenUp:
            return self._none_can_stay()
        return self.moved(self.face.with_gaps)

    def moved(self, panels: tuple[int, ...], *, proven: bool = True) -> _Set:
        """Return a set that will do, and how far it moves."""
        x = np.zeros((len(self.face.request.panels), 6))
        for group in self.face.together(panels):
            x[list(group)] = self.face.part(group).brought_in(max(self._missed(group), 0.0)).reshape(-1, 6)
        return _Set(panels, x.ravel(), proven)

    def _sets(self, size: int) -> Iterator[tuple[int, ...]]:
        """Yield the sets of a size that will do."""
        for number, panels in enumerate(combinations(self.face.with_gaps, size)):
            if not self.few and (number > _MOST_SETS or len(self.groups) > _MOST_SOLVED):
                raise _GivenUp
            if all(not needed.isdisjoint(panels) for needed in self.one_of) and self._will_do(panels):
                yield panels

    def _will_do(self, panels: Sequence[int]) -> bool:
        """Say whether panels bring every gap of theirs in, all others staying."""
        return all(self._missed(group) <= FEASIBLE_MM for group in self.face.together(panels))

    def _missed(self, group: tuple[int, ...]) -> float:
        if group not in self.groups:
            missed, holding = self.face.part(group).missed()
            self.groups[group] = missed
            if missed > FEASIBLE_MM:
                gaps = np.array(self.face.gaps_of(group))[holding]
                others = {side for g in gaps for side in self.face.sides[g] if side >= 0} - set(group)
                if others:
                    self.one_of.add(frozenset(others))
        return self.groups[group]

    def _none_can_stay(self) -> _Set:
        """Return a set of which no panel can stay: all, less one after the other that can."""
        moving = list(self.face.with_gaps)
        for panel in self.face.with_gaps:
            rest = [p for p in moving if p != panel]
            if all(not needed.isdisjoint(rest) for needed in self.one_of) and self._will_do(rest):
                moving = rest
        return self.moved(tuple(moving), proven=False)
