"""A seam as it is welded: every weld where it is, numbered in its order, over the heat of the plate at one moment."""

from collections.abc import Mapping

import numpy as np
from markupsafe import Markup, escape

from fairsquare.core.lengths import MM_PER
from fairsquare.core.weld.order import WeldOrder, WeldsOrdered
from fairsquare.core.weld.seam import JoinWeld, SeamPlan, heat_at
from fairsquare.words.lengths import Units

WIDTH = 620.0
_EDGE, _FOOT = 14.0, 30.0
_CELLS = 5200
_SHADES = 12


def seam_drawing(
    plan: SeamPlan,
    order: WeldsOrdered | None,
    asked: WeldOrder | None,
    made: Mapping[str, str],
    at_s: float | None = None,
    width: float = WIDTH,
    units: Units = "mm",
) -> Markup:
    """Return the drawing for a page of a width, px, its bar in those units.

    `made`: how each weld that was made looks; `at_s` None: no heat is drawn.
    """
    if not plan.welds:
        return Markup(
            '<svg class="seam-drawing" viewBox="0 0 620 60" role="img" aria-label="No weld is planned yet"></svg>'
        )
    frame = _Frame(plan, width)
    heat = _heat(frame, asked, order, at_s) if order and asked and at_s is not None else ""
    numbers = {weld.id: k for k, weld in enumerate(order.order, start=1)} if order else {}
    starts = {weld.id: weld.start_s for weld in order.order} if order else {}
    parts = [_weld(frame, weld, numbers.get(weld.id), made.get(weld.id, ""), starts, at_s) for weld in plan.welds]
    label = escape(f"Seam {plan.name}: {len(plan.welds)} welds, numbered in their order")
    return Markup(  # noqa: S704 - what was typed is escaped
        f'<svg class="seam-drawing" role="img" aria-label="{label}" viewBox="0 0 {width:g} {frame.height:.0f}">'
        f"{heat}{frame.bar(units)}{''.join(parts)}</svg>"
    )


_BARS: dict[Units, tuple[float, ...]] = {
    "mm": (1000, 500, 200, 100, 50, 20, 10, 5),
    "in": (40, 20, 10, 4, 2, 1, 0.5, 0.25),
}


class _Frame:
    """Where millimetres along and across the seam fall on the drawing."""

    def __init__(self, plan: SeamPlan, width: float) -> None:
        along = [v for weld in plan.welds for v in (weld.along_mm, weld.along_mm + weld.length_mm)]
        across = [weld.across_mm for weld in plan.welds]
        self.low, self.high = min(along), max(along)
        reach = max(self.high - self.low, 60.0)
        self.scale = (width - 2 * _EDGE - 20) / (reach * 1.12)
        self.low -= reach * 0.06
        self.high = self.low + reach * 1.12
        margin = 45.0 / self.scale
        self.bottom, self.top = min(across) - margin, max(across) + margin
        self.tall = min((self.top - self.bottom) * self.scale, 330.0)
        self.stretch = self.tall / ((self.top - self.bottom) * self.scale)
        self.height = self.tall + _FOOT + 12

    def x(self, mm: float) -> float:
        return _EDGE + 10 + (mm - self.low) * self.scale

    def y(self, mm: float) -> float:
        return 6 + (self.top - mm) * self.scale * self.stretch

    def bar(self, units: Units) -> str:
        """The bar that says how long things are."""
        per = float(MM_PER[units])
        long = next(length for length in _BARS[units] if length * per * self.scale <= 220)
        mm = long * per
        x, y = self.x(self.low), self.height - 10
        return (
            f'<path class="axis" d="M{x:.1f} {y - 5:.1f}v5h{mm * self.scale:.1f}v-5"/>'
            f'<text class="note" x="{x + mm * self.scale + 8:.1f}" y="{y + 2:.1f}">{long:g} {units}</text>'
        )


def _heat(frame: _Frame, asked: WeldOrder, order: WeldsOrdered, at_s: float) -> str:
    wide, tall = (frame.high - frame.low), (frame.top - frame.bottom)
    columns = max(int(np.sqrt(_CELLS * wide * frame.scale / frame.tall)), 8)
    columns = min(columns, 140)
    rows = max(min(int(_CELLS / columns), 60), 6)
    xs = frame.low + (np.arange(columns) + 0.5) * wide / columns
    ys = frame.bottom + (np.arange(rows) + 0.5) * tall / rows
    grid = np.array([(x, y, 0.0) for y in ys for x in xs])
    heat = heat_at(asked, order, at_s, grid).reshape(rows, columns)
    share = (heat - asked.ambient_c) / (asked.limit_c - asked.ambient_c)
    shade = np.clip(np.ceil(share * _SHADES), 0, _SHADES + 1).astype(int)
    w, h = wide / columns * frame.scale, tall / rows * frame.scale * frame.stretch
    parts = [
        f'<rect class="plate" x="{frame.x(frame.low):.1f}" y="6" width="{wide * frame.scale:.1f}" height="{frame.tall:.1f}"/>'
    ]
    for r in range(rows):
        y = frame.y(ys[r]) - h / 2
        c = 0
        while c < columns:
            run = c
            while run + 1 < columns and shade[r, run + 1] == shade[r, c]:
                run += 1
            if shade[r, c] > 0:
                name = "over" if shade[r, c] > _SHADES else f"h{shade[r, c]}"
                x = frame.x(frame.low) + c * w
                size = f'width="{(run - c + 1) * w + 0.3:.1f}" height="{h + 0.3:.1f}"'
                parts.append(f'<rect class="heat {name}" x="{x:.1f}" y="{y:.1f}" {size}/>')
            c = run + 1
    return "".join(parts)


def _weld(
    frame: _Frame, weld: JoinWeld, number: int | None, look: str, starts: Mapping[str, float], at_s: float | None
) -> str:
    x, y = frame.x(weld.along_mm), frame.y(weld.across_mm)
    started = at_s is not None and weld.id in starts and starts[weld.id] <= at_s
    kind = "bad" if look and look != "good" else "made" if look else "begun" if started else "open"
    title = f"<title>{escape(weld.id)}{': ' + escape(look) if look else ''}</title>"
    end = frame.x(weld.along_mm + weld.length_mm)
    line = f'<path class="run" d="M{x:.1f} {y:.1f}H{end:.1f}"/>' if weld.length_mm else ""
    ring = f'<circle class="ring" cx="{x:.1f}" cy="{y:.1f}" r="13"/>'
    if weld.stage > 1:
        ring += f'<circle class="ring stage" cx="{x:.1f}" cy="{y:.1f}" r="17"/>'
    words = f'<text class="order" x="{x:.1f}" y="{y + 6:.1f}">{number if number else "?"}</text>'
    name = f'<text class="name" x="{x:.1f}" y="{y + 34:.1f}">{escape(weld.id)}</text>'
    cross = f'<path class="cross" d="M{x - 12:.1f} {y - 12:.1f}l24 24m0 -24l-24 24"/>' if kind == "bad" else ""
    return f'<g class="w {kind}">{title}{line}{ring}{cross}{words}{name}</g>'
