"""A pull from above and from the side: what holds, what draws, which way and how hard, the ground to keep clear of, and the ghost.

Drawn with the front at the left, as the structure is. Movement is drawn `FACTOR` times.
"""

from collections.abc import Callable, Mapping, Sequence
from html import escape
from typing import NamedTuple

from markupsafe import Markup

from fairsquare.core.model import Row3
from fairsquare.core.pull.job import ChainSet, WorkPull
from fairsquare.core.pull.setting import PlacedTower, Setting
from fairsquare.core.pull.statics import PullsHeld
from fairsquare.core.sheet.model import Sheet
from fairsquare.core.structure.skeleton import Skeleton

WIDTH = 760.0
FACTOR = 10
_MARGIN = 46.0
_TALLEST_PLAN = 400.0


class _View(NamedTuple):
    flat: Callable[[Row3], tuple[float, float]]
    low: tuple[float, float]
    scale: float
    top: float

    def at(self, place: Row3) -> tuple[float, float]:
        u, v = self.flat(place)
        return _MARGIN + (u - self.low[0]) * self.scale, self.top + (v - self.low[1]) * self.scale


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
) -> Markup:
    """Return one pull in plan and side: the structure as it stands (thick), as the pull leaves it (ghost), rig and clear ground.

    `ground_only` leaves out the side and all towers that draw nothing: for the board.
    """
    nodes = skeleton.nodes
    used = {chain.tower: chain for chain in (work.chains if work else ())}
    drawing = [tower for tower in setting.towers if tower.id in used or not ground_only]
    places: list[Row3] = [*nodes.values(), *((*t.at, 0.0) for t in drawing)]
    low = (min(-p[0] for p in places) - 150, min(p[1] for p in places) - 250)
    high = (max(-p[0] for p in places) + 150, max(p[1] for p in places) + 250)
    scale = min((WIDTH - 2 * _MARGIN) / (high[0] - low[0]), _TALLEST_PLAN / (high[1] - low[1]))
    plan = _View(_from_above, low, scale, 24.0)
    plan_height = (high[1] - low[1]) * scale
    tops = [p[2] for p in nodes.values()] + [chain.height_mm for chain in used.values()] + [700.0]
    side_low = (low[0], -max(tops) - 120)
    side = _View(_from_side, side_low, scale, plan_height + 54.0)
    side_height = (max(tops) + 160) * scale
    total = plan_height + (30.0 if ground_only else side_height + 66.0)
    views = (plan,) if ground_only else (plan, side)
    parts = [] if ground_only else [f'<text class="view-title" x="{_MARGIN}" y="15">from above</text>']
    parts += _clear_ground(plan, held)
    for view in views:
        parts += _assumed(view, skeleton, setting)
        parts += _frame(view, skeleton, deviations, "now", setting.assumed)
        if ghost:
            parts += _frame(view, skeleton, ghost, "ghost", setting.assumed)
        parts += _chains(view, setting, skeleton, used)
    parts += _anchors(plan, setting, skeleton, held)
    parts += _towers(plan, drawing, used, movable=movable)
    if not ground_only:
        words = "from the side, ground below"
        parts.append(f'<text class="view-title" x="{_MARGIN}" y="{plan_height + 44:.0f}">{words}</text>')
        ground = side.top + (0 - side_low[1]) * scale
        parts.append(f'<path class="ground" d="M{_MARGIN} {ground:.1f}H{WIDTH - _MARGIN}"/>')
    parts += _codes(plan, sheet, skeleton, work, setting)
    label = "The ground to keep clear of, from above" if ground_only else "The pull from above and from the side"
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="pull-drawing" role="{"group" if movable else "img"}" aria-label="{label}" '
        f'viewBox="0 0 {WIDTH:g} {total:.0f}" data-scale="{scale:.6f}" data-left="{_MARGIN - low[0] * scale:.3f}" '
        f'data-top="{24.0 - low[1] * scale:.3f}">'
        '<defs><pattern id="hatch" width="8" height="8" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">'
        '<path d="M0 0V8" class="hatch-line"/></pattern><marker id="tip" viewBox="0 0 8 8" refX="7" refY="4" '
        'markerWidth="7" markerHeight="7" orient="auto"><path d="M0 0L8 4L0 8z" class="tip"/></marker></defs>'
        f"{''.join(parts)}</svg>"
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


def _chains(view: _View, setting: Setting, skeleton: Skeleton, used: Mapping[str, ChainSet]) -> list[str]:
    hooks = {hook.id: hook for hook in setting.hooks}
    at = {tower.id: tower.at for tower in setting.towers}
    machines = {m.id: skeleton.nodes[m.bears_on] for m in setting.machines if m.bears_on in skeleton.nodes}
    parts = []
    for name, chain in used.items():
        hook = hooks.get(chain.hook)
        if hook is None or hook.code not in skeleton.nodes or (name not in at and name not in machines):
            continue
        x1, y1 = view.at(skeleton.nodes[hook.code])
        end = machines[name] if name in machines else (*at[name], chain.height_mm)
        x2, y2 = view.at(end)
        parts.append(f'<path class="chain" marker-end="url(#tip)" d="M{x1:.1f} {y1:.1f}L{x2:.1f} {y2:.1f}"/>')
        parts.append(f'<circle class="hook" cx="{x1:.1f}" cy="{y1:.1f}" r="4"/>')
        force = chain.force_n / 1000
        if view.flat is _from_above:
            mx, my = (x1 + 2 * x2) / 3, (y1 + 2 * y2) / 3
            parts.append(f'<text class="force" x="{mx:.1f}" y="{my - 6:.1f}">{force:.0f} kN</text>')
        else:
            height = chain.height_mm
            parts.append(f'<text class="force" x="{x2:.1f}" y="{y2 - 6:.1f}">{height:.0f} mm high</text>')
    return parts


def _clear_ground(view: _View, held: PullsHeld | None) -> list[str]:
    parts = []
    for corners in (held.clear_zone if held else {}).values():
        placed = [view.at((x, y, 0.0)) for x, y in corners]
        parts.append(f'<polygon class="keep-clear" points="{" ".join(f"{x:.1f},{y:.1f}" for x, y in placed)}"/>')
    return parts


def _anchors(view: _View, setting: Setting, skeleton: Skeleton, held: PullsHeld | None) -> list[str]:
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
            below = 20 if y > view.at((0.0, 0.0, 0.0))[1] else -11
            parts.append(f'<text class="anchor-use {kind}" x="{x:.1f}" y="{y + below:.1f}">{escape(words)}</text>')
    return parts


def _towers(view: _View, towers: Sequence[PlacedTower], used: Mapping[str, ChainSet], *, movable: bool) -> list[str]:
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
        anchor = "end" if x > WIDTH - 150 else "start" if x < 150 else "middle"
        dx = {"end": 8, "start": -8, "middle": 0}[anchor]
        dy = 24 if y > view.at((0.0, 0.0, 0.0))[1] else -14
        parts.append(
            f'<g class="tower {kind}"{more}><circle class="grip" cx="{x:.1f}" cy="{y:.1f}" r="22"/>'
            f'<path d="M{x - 8:.1f} {y + 8:.1f}v-16h16v16z"/>'
            f'<text x="{x + dx:.1f}" y="{y + dy:.1f}" text-anchor="{anchor}">{name}</text></g>'
        )
    return parts


def _codes(view: _View, sheet: Sheet, skeleton: Skeleton, work: WorkPull | None, setting: Setting) -> Sequence[str]:
    hooks = {hook.id: hook.code for hook in setting.hooks}
    named = {hooks.get(chain.hook) for chain in (work.chains if work else ())}
    parts = []
    for point in sheet.points:
        if point.code in skeleton.nodes:
            x, y = view.at(point.xyz)
            parts.append(f'<circle class="node" cx="{x:.1f}" cy="{y:.1f}" r="2.5"/>')
            if point.code in named:
                up = -9 if point.xyz[1] < 0 else 18
                parts.append(f'<text class="code" x="{x:.1f}" y="{y + up:.1f}">{escape(point.code)}</text>')
    return parts


def _size(force: Row3) -> float:
    return float(sum(part * part for part in force) ** 0.5)
