"""A pull from above and from the side: what holds, what draws, which way and how hard, the ground to keep clear of, and the ghost.

Drawn with the front at the left, as the structure is. Movement is drawn `FACTOR` times.
"""

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from html import escape
from typing import NamedTuple

from markupsafe import Markup

from fairsquare.core.model import Row3
from fairsquare.core.pull.job import ChainSet, WorkPull
from fairsquare.core.pull.setting import PlacedTower, Setting
from fairsquare.core.pull.statics import PullsHeld
from fairsquare.core.sheet.model import Sheet
from fairsquare.core.structure.skeleton import Skeleton
from fairsquare.drawings.labels import Anchor, Box, Labels, Spot, round_mark
from fairsquare.words.lengths import Units, measure

WIDTH = 760.0
FACTOR = 10
_MARGIN, _NARROW_MARGIN = 46.0, 24.0
_TALLEST_PLAN, _TALLEST_GROUND = 400.0, 180.0
_NARROW = 480.0
_AROUND: dict[Anchor, float] = {"middle": 0.0, "start": -8.0, "end": 8.0}
_WORDS_PX, _FORCE_PX, _CODE_PX = 15.0, 17.0, 16.0


class _View(NamedTuple):
    flat: Callable[[Row3], tuple[float, float]]
    low: tuple[float, float]
    scale: float
    top: float
    left: float

    def at(self, place: Row3) -> tuple[float, float]:
        u, v = self.flat(place)
        return self.left + (u - self.low[0]) * self.scale, self.top + (v - self.low[1]) * self.scale


def _from_above(p: Row3) -> tuple[float, float]:
    return -p[0], p[1]


def _from_side(p: Row3) -> tuple[float, float]:
    return -p[0], -p[2]


def pull_drawing(
    sheet: Sheet,
    skeleton: Skeleton,
    setting: Setting,
    deviations: Mapping[str, Row3],
    work: WorkPull | None,
    held: PullsHeld | None,
    ghost: Mapping[str, Row3] | None = None,
    *,
    movable: bool = False,
    ground_only: bool = False,
    width: float = WIDTH,
    units: Units = "mm",
) -> Markup:
    """Return one pull in plan and side: the structure as it stands (thick), as the pull leaves it (ghost), rig and clear ground.

    `ground_only` leaves out the side and all towers that draw nothing: for the board. `width`: of the page it is laid out for, px;
    `units`: of heights.
    """
    used = {chain.tower: chain for chain in (work.chains if work else ())}
    drawing = [tower for tower in setting.towers if tower.id in used or not ground_only]
    laid = _laid(skeleton, drawing, used, width, ground_only=ground_only)
    plan, room = laid.plan, Box(0.0, 20.0, width, laid.plan_height + 28.0)
    texts = Labels(room, _standing(plan, setting, skeleton, drawing))
    parts = [] if ground_only else [f'<text class="view-title" x="{laid.margin}" y="15">from above</text>']
    parts += _clear_ground(plan, held)
    for view in (plan,) if ground_only else (plan, laid.side):
        parts += _assumed(view, skeleton, setting)
        parts += _frame(view, skeleton, deviations, "now", setting.assumed)
        if ghost:
            parts += _frame(view, skeleton, ghost, "ghost", setting.assumed)
        parts += _ties(view, setting, skeleton, work)
        parts += _chains(view, setting, skeleton, used)
    parts += _codes(plan, sheet, skeleton, work, setting, texts)
    parts += _anchors(plan, setting, skeleton, held, texts)
    parts += _towers(plan, drawing, used, texts, movable=movable)
    parts += _forces(plan, setting, skeleton, used, texts)
    if not ground_only:
        parts += laid.ground()
        beside = Labels(Box(0.0, laid.side.top - 6, width, laid.side.top + laid.side_height))
        parts += _heights(laid.side, setting, skeleton, used, beside, units)
    label = "The ground to keep clear of, from above" if ground_only else "The pull from above and from the side"
    return laid.svg(parts, label, role="group" if movable else "img")


class _Laid(NamedTuple):
    """How a drawing is laid out, px: the two views of one scale, how high each is, and how high and wide all of it is."""

    plan: _View
    side: _View
    plan_height: float
    side_height: float
    height: float
    width: float
    margin: float

    def ground(self) -> Iterator[str]:
        """Yield the title of the side, and its ground."""
        words, above = "from the side, ground below", self.plan_height + 44
        yield f'<text class="view-title" x="{self.margin}" y="{above:.0f}">{words}</text>'
        y = self.side.top + (0 - self.side.low[1]) * self.side.scale
        yield f'<path class="ground" d="M{self.margin} {y:.1f}H{self.width - self.margin}"/>'

    def svg(self, parts: Iterable[str], label: str, *, role: str) -> Markup:
        """Return parts as a drawing, with what scripts need to tell places from pixels."""
        scale, (left, top) = self.plan.scale, self.plan.low
        return Markup(  # noqa: S704 - every text in it is escaped
            f'<svg class="pull-drawing" role="{role}" aria-label="{label}" '
            f'viewBox="0 0 {self.width:g} {self.height:.0f}" data-scale="{scale:.6f}" '
            f'data-left="{self.margin - left * scale:.3f}" data-top="{24.0 - top * scale:.3f}">'
            '<defs><pattern id="hatch" width="8" height="8" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">'
            '<path d="M0 0V8" class="hatch-line"/></pattern><marker id="tip" viewBox="0 0 8 8" refX="7" refY="4" '
            'markerWidth="7" markerHeight="7" orient="auto"><path d="M0 0L8 4L0 8z" class="tip"/></marker></defs>'
            f"{''.join(parts)}</svg>"
        )


def _laid(
    skeleton: Skeleton, towers: Iterable[PlacedTower], used: Mapping[str, ChainSet], width: float, *, ground_only: bool
) -> _Laid:
    """Lay a drawing out: the structure and these towers fit in, with room for what is written about them."""
    margin = _MARGIN if width >= _NARROW else _NARROW_MARGIN
    nodes = skeleton.nodes
    places: list[Row3] = [*nodes.values(), *((*t.at, 0.0) for t in towers)]
    low = (min(-p[0] for p in places) - 150, min(p[1] for p in places) - 250)
    high = (max(-p[0] for p in places) + 150, max(p[1] for p in places) + 250)
    tallest = _TALLEST_GROUND if ground_only else _TALLEST_PLAN
    scale = min((width - 2 * margin) / (high[0] - low[0]), tallest / (high[1] - low[1]))
    plan_height = (high[1] - low[1]) * scale
    top = max([p[2] for p in nodes.values()] + [chain.height_mm for chain in used.values()] + [700.0])
    side_height = (top + 160) * scale
    return _Laid(
        _View(_from_above, low, scale, 24.0, margin),
        _View(_from_side, (low[0], -top - 120), scale, plan_height + 54.0, margin),
        plan_height,
        side_height,
        plan_height + (30.0 if ground_only else side_height + 66.0),
        width,
        margin,
    )


def _moved(place: Row3, by: Row3 | None) -> Row3:
    dx, dy, dz = by or (0.0, 0.0, 0.0)
    return place[0] + FACTOR * dx, place[1] + FACTOR * dy, place[2] + FACTOR * dz


def _assumed(view: _View, skeleton: Skeleton, setting: Setting) -> list[str]:
    """Return what nobody has said of the frame, dotted: members to corners that are assumed."""
    lines = []
    for member in skeleton.members:
        if {member.i, member.j} & set(setting.assumed):
            (x1, y1), (x2, y2) = (view.at(skeleton.nodes[end]) for end in (member.i, member.j))
            lines.append(f"M{x1:.1f} {y1:.1f}L{x2:.1f} {y2:.1f}")
    return [f'<path class="frame-assumed" d="{"".join(lines)}"/>'] if lines else []


def _frame(
    view: _View, skeleton: Skeleton, deviations: Mapping[str, Row3], kind: str, assumed: Sequence[str]
) -> list[str]:
    lines = []
    for member in skeleton.members:
        if member.i in assumed or member.j in assumed:
            continue
        (x1, y1), (x2, y2) = (view.at(_moved(skeleton.nodes[end], deviations.get(end))) for end in (member.i, member.j))
        lines.append(f"M{x1:.1f} {y1:.1f}L{x2:.1f} {y2:.1f}")
    return [f'<path class="frame-{kind}" d="{"".join(lines)}"/>']


def _standing(view: _View, setting: Setting, skeleton: Skeleton, towers: Sequence[PlacedTower]) -> list[Box]:
    """Return the marks that no text is to lie on: what holds, towers, and nodes."""
    held = [view.at(skeleton.nodes[anchor.code]) for anchor in setting.anchors if anchor.code in skeleton.nodes]
    boxes = [round_mark(x, y, 7.0) for x, y in held]
    boxes += [round_mark(*view.at((*tower.at, 0.0)), 9.0) for tower in towers]
    boxes += [round_mark(*view.at(place), 5.0) for place in skeleton.nodes.values()]
    return boxes


def _drawn(setting: Setting, skeleton: Skeleton, used: Mapping[str, ChainSet]) -> list[tuple[ChainSet, Row3, Row3]]:
    """Return each chain with where it takes hold and where it is drawn to."""
    hooks = {hook.id: hook for hook in setting.hooks}
    at = {tower.id: tower.at for tower in setting.towers}
    machines = {m.id: skeleton.nodes[m.bears_on] for m in setting.machines if m.bears_on in skeleton.nodes}
    drawn: list[tuple[ChainSet, Row3, Row3]] = []
    for name, chain in used.items():
        hook = hooks.get(chain.hook)
        if hook is None or hook.code not in skeleton.nodes or (name not in at and name not in machines):
            continue
        end = machines[name] if name in machines else (*at[name], chain.height_mm)
        drawn.append((chain, skeleton.nodes[hook.code], end))
    return drawn


def _ties(view: _View, setting: Setting, skeleton: Skeleton, work: WorkPull | None) -> list[str]:
    """Return the ties that are on, as bars with a plate at each end."""
    parts = []
    for tie in setting.ties:
        if work is None or tie.id not in work.ties or not set(tie.between) <= skeleton.nodes.keys():
            continue
        (x1, y1), (x2, y2) = (view.at(skeleton.nodes[code]) for code in tie.between)
        parts.append(f'<path class="tie" d="M{x1:.1f} {y1:.1f}L{x2:.1f} {y2:.1f}"/>')
        parts += [f'<circle class="tie-end" cx="{x:.1f}" cy="{y:.1f}" r="5"/>' for x, y in ((x1, y1), (x2, y2))]
    return parts


def _chains(view: _View, setting: Setting, skeleton: Skeleton, used: Mapping[str, ChainSet]) -> list[str]:
    """Return chains with the tip where they are drawn to; a jack's tip is where it pushes, with a plate where it bears."""
    parts = []
    machines = {machine.id: machine for machine in setting.machines}
    for chain, start, end in _drawn(setting, skeleton, used):
        (x1, y1), (x2, y2) = view.at(start), view.at(end)
        machine = machines.get(chain.tower)
        if machine is None:
            parts.append(f'<path class="chain" marker-end="url(#tip)" d="M{x1:.1f} {y1:.1f}L{x2:.1f} {y2:.1f}"/>')
            parts.append(f'<circle class="hook" cx="{x1:.1f}" cy="{y1:.1f}" r="4"/>')
            continue
        (xa, ya), (xb, yb) = ((x2, y2), (x1, y1)) if machine.pushes else ((x1, y1), (x2, y2))
        kind = "chain jack" if machine.pushes else "chain puller"
        parts.append(f'<path class="{kind}" marker-end="url(#tip)" d="M{xa:.1f} {ya:.1f}L{xb:.1f} {yb:.1f}"/>')
        parts.append(f'<circle class="hook" cx="{x1:.1f}" cy="{y1:.1f}" r="4"/>')
        parts.append(f'<path class="bears" d="M{x2 - 6:.1f} {y2 - 6:.1f}h12v12h-12z"/>')
    return parts


def _forces(
    view: _View, setting: Setting, skeleton: Skeleton, used: Mapping[str, ChainSet], texts: Labels
) -> list[str]:
    """Return the force at each chain, along it where there is room."""
    parts = []
    for chain, start, end in _drawn(setting, skeleton, used):
        (x1, y1), (x2, y2) = view.at(start), view.at(end)
        words = f"{chain.force_n / 1000:.0f} kN"
        along = [(x1 + (x2 - x1) * part, y1 + (y2 - y1) * part) for part in (2 / 3, 1 / 2, 5 / 6, 1 / 3, 1.0)]
        spots = [Spot(x, y + by) for by in (-11, 24, -28, 40) for x, y in along]
        spot = texts.put(words, _FORCE_PX, spots)
        parts.append(f'<text class="force" x="{spot.x:.1f}" y="{spot.y:.1f}">{words}</text>')
    return parts


def _heights(
    view: _View, setting: Setting, skeleton: Skeleton, used: Mapping[str, ChainSet], texts: Labels, units: Units
) -> list[str]:
    """Return how high each chain is drawn to, at its end in the view from the side."""
    parts = []
    inside = {machine.id for machine in setting.machines}
    for chain, _, end in _drawn(setting, skeleton, used):
        if chain.tower in inside:
            continue
        x, y = view.at(end)
        words = f"{measure(chain.height_mm, units, 0)} high"
        spots = [Spot(x, y + by, anchor) for by in (-8, 20, -26, 38) for anchor in _AROUND]
        spot = texts.put(words, _FORCE_PX, spots)
        parts.append(f'<text class="force {spot.anchor}" x="{spot.x:.1f}" y="{spot.y:.1f}">{words}</text>')
    return parts


def _clear_ground(view: _View, held: PullsHeld | None) -> list[str]:
    parts = []
    for corners in (held.clear_zone if held else {}).values():
        placed = [view.at((x, y, 0.0)) for x, y in corners]
        parts.append(f'<polygon class="keep-clear" points="{" ".join(f"{x:.1f},{y:.1f}" for x, y in placed)}"/>')
    return parts


def _anchors(view: _View, setting: Setting, skeleton: Skeleton, held: PullsHeld | None, texts: Labels) -> list[str]:
    parts = []
    for anchor in setting.anchors:
        if anchor.code not in skeleton.nodes:
            continue
        x, y = view.at(skeleton.nodes[anchor.code])
        carried = held.anchors.get(anchor.id) if held else None
        kind = "over" if carried and carried.use is not None and carried.use > 1 else ""
        parts.append(f'<path class="anchor {kind}" d="M{x - 6:.1f} {y - 6:.1f}h12v12h-12z"/>')
        if carried:
            words = f"{carried.use:.0%}" if carried.use is not None else f"{_size(carried.force) / 1000:.0f} kN"
            spot = _beside(view, texts, words, _WORDS_PX, x, y)
            parts.append(
                f'<text class="anchor-use {kind} {spot.anchor}" x="{spot.x:.1f}" y="{spot.y:.1f}">{escape(words)}</text>'
            )
    return parts


def _towers(
    view: _View, towers: Sequence[PlacedTower], used: Mapping[str, ChainSet], texts: Labels, *, movable: bool
) -> list[str]:
    parts = []
    for tower in towers:
        x, y = view.at((*tower.at, 0.0))
        kind = "used" if tower.id in used else "idle"
        name = escape(tower.id)
        more = (
            f' data-tower="{name}" tabindex="0" role="button" aria-label="Tower {name}: drag it, or move it with the arrow keys"'
            if movable
            else ""
        )
        spot = _beside(view, texts, tower.id, _WORDS_PX, x, y)
        parts.append(
            f'<g class="tower {kind}"{more}><circle class="grip" cx="{x:.1f}" cy="{y:.1f}" r="22"/>'
            f'<path d="M{x - 8:.1f} {y + 8:.1f}v-16h16v16z"/>'
            f'<text x="{spot.x:.1f}" y="{spot.y:.1f}" text-anchor="{spot.anchor}">{name}</text></g>'
        )
    return parts


def _codes(
    view: _View, sheet: Sheet, skeleton: Skeleton, work: WorkPull | None, setting: Setting, texts: Labels
) -> Sequence[str]:
    hooks = {hook.id: hook.code for hook in setting.hooks}
    named = {hooks.get(chain.hook) for chain in (work.chains if work else ())}
    by = {chain.tower for chain in (work.chains if work else ())}
    named |= {machine.bears_on for machine in setting.machines if machine.id in by}
    named |= {code for tie in setting.ties if work and tie.id in work.ties for code in tie.between}
    parts = []
    for point in sheet.points:
        if point.code in skeleton.nodes:
            x, y = view.at(point.xyz)
            parts.append(f'<circle class="node" cx="{x:.1f}" cy="{y:.1f}" r="2.5"/>')
            if point.code in named:
                spot = _beside(view, texts, point.code, _CODE_PX, x, y)
                parts.append(
                    f'<text class="code {spot.anchor}" x="{spot.x:.1f}" y="{spot.y:.1f}">{escape(point.code)}</text>'
                )
    return parts


def _beside(view: _View, texts: Labels, words: str, size: float, x: float, y: float) -> Spot:
    """Return where a text stands beside a mark: outward of the vehicle's middle first, then inward, then farther off."""
    below = y > view.at((0.0, 0.0, 0.0))[1]
    rows = (24, -14, 41, -31, 58, -48) if below else (-14, 24, -31, 41, -48, 58)
    return texts.put(words, size, [Spot(x + _AROUND[anchor], y + row, anchor) for row in rows for anchor in _AROUND])


def _size(force: Row3) -> float:
    return float(sum(part * part for part in force) ** 0.5)
