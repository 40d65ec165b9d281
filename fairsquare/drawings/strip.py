"""A member unrolled along its length: layers one above the other, what a cut keeps clear of, where it may stand, where it does."""

from collections.abc import Callable, Sequence
from html import escape
from typing import NamedTuple

from markupsafe import Markup

from fairsquare.core.cut.judge import StripPlaced
from fairsquare.core.cut.section import BEHIND, FEATURES, RUNS, Behind, StripFeature, StripLayer, StripSaid
from fairsquare.job.facts.cuts import CutMadeFact
from fairsquare.words.lengths import fine

WIDTH = 1060.0
LEFT, RIGHT = 150.0, 24.0
ROW, BETWEEN, TOP = 46.0, 40.0, 40.0
_LETTER = 7.6
_LANE = 24.0
_NARROW, _NAMED = 560.0, 22.0


Fields = Callable[[str, int], str]
"""The row of a form in which a thing of the strip stands, such as `feature-2`, by its kind and its number."""


class _Held(NamedTuple):
    """What makes the things of a layer to be taken hold of; `row` is the number of the layer."""

    fields: Fields | None
    row: int

    def by(self, kind: str, number: int, reach: tuple[float, float], ends: tuple[str, str] = ("from", "to")) -> str:
        """Return the attributes that name the fields of a thing, and from where to where it reaches."""
        if self.fields is None:
            return ""
        row = self.fields(kind, number)
        return f' data-from="{row}-{ends[0]}" data-to="{row}-{ends[1]}" data-low="{reach[0]:.6g}" data-high="{reach[1]:.6g}"'


class _Scale(NamedTuple):
    """Where the strip stands: px for a mm, its left edge, the width of the page, the first row's top and the way to the next."""

    low: float
    per_mm: float
    left: float
    width: float
    first: float
    step: float

    def x(self, mm: float) -> float:
        return self.left + (mm - self.low) * self.per_mm

    def top(self, row: int) -> float:
        return self.first + row * self.step

    @property
    def narrow(self) -> bool:
        return self.left < LEFT

    def said(self, words: str, y: float) -> str:
        """Return what is said of a row, beside it."""
        return f'<text class="layer-what" x="0" y="{y:.0f}">{escape(words)}</text>'


def strip_drawing(
    strip: StripSaid,
    placed: StripPlaced | None,
    made: Sequence[CutMadeFact],
    figure: Callable[[float], str],
    *,
    unit: str = "mm",
    movable: bool = False,
    fields: Fields | None = None,
    width: float = WIDTH,
) -> Markup:
    """Return the strip with the cuts that count. `figure` says a length in the person's unit.

    `movable` cuts are taken hold of; with `fields`, which names the row of a form by kind and number, everything else is.
    `width`: of the page it is laid out for, px; where it is narrow, rows are named above them, not beside.
    """
    left, above = (LEFT, 0.0) if width >= _NARROW else (2.0, _NAMED)
    low = min(layer.start for layer in strip.layers)
    high = max(layer.end for layer in strip.layers)
    room = max(high - low, 1.0)
    edge = RIGHT if left == LEFT else 2.0
    per_mm = (width - left - edge) / (room * 1.04)
    scale = _Scale(low - room * 0.02, per_mm, left, width, TOP + 2 * above, ROW + BETWEEN + above)
    judged = placed.judged if placed else None
    shown = judged.cuts if judged else {}
    parts: list[str] = []
    for row, layer in enumerate(strip.layers):
        top = scale.top(row)
        parts += _layer(strip, layer, placed, scale, top, _Held(fields, row), unit)
        parts += _made(layer, made, scale, top, figure)
        parts += _planned_access(strip, layer, made, scale, top)
    parts += _ends(strip, scale, low, high)
    foot = scale.top(len(strip.layers) - 1) + ROW
    below = above if strip.behind else 0.0
    parts += _behind(strip, scale, foot + 14 + below)
    lanes = 1 + max((lane for _, lane in _lanes(strip)), default=-1)
    axis = foot + below + above + (26.0 + lanes * _LANE if lanes else 22.0)
    parts += _axis(strip, scale, low, high, axis, figure, unit)
    for row, layer in enumerate(strip.layers):
        if layer.id in shown:
            top = scale.top(row)
            broken = bool(judged and judged.broken.get(layer.id))
            parts.append(_handle(layer, shown[layer.id], scale, top, figure, movable=movable, broken=broken))
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="strip-drawing" role="{"group" if movable else "img"}" aria-label="The member unrolled along its length" '
        f'viewBox="0 0 {width:g} {axis + 46:.0f}" data-low="{scale.low:.4f}" data-per-mm="{scale.per_mm:.8f}" data-left="{left:g}">'
        '<defs><pattern id="no-cut" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">'
        '<path d="M0 0V7" class="no-cut-line"/></pattern><pattern id="hurt" width="6" height="6" patternUnits="userSpaceOnUse" '
        'patternTransform="rotate(-45)"><path d="M0 0V6" class="hurt-line"/></pattern></defs>'
        f"{''.join(parts)}</svg>"
    )


def _ends(strip: StripSaid, scale: _Scale, low: float, high: float) -> list[str]:
    """Return which end stays on the vehicle and which comes off, said above the first layer."""
    stays, off = (
        ("← stays on the vehicle", "comes off →") if strip.keep == "low" else ("← comes off", "stays on the vehicle →")
    )
    return [
        f'<text class="end-words start" x="{scale.x(low):.1f}" y="16">{stays}</text>',
        f'<text class="end-words end" x="{scale.x(high):.1f}" y="16">{off}</text>',
    ]


def _layer(
    strip: StripSaid, layer: StripLayer, placed: StripPlaced | None, scale: _Scale, top: float, held: _Held, unit: str
) -> list[str]:
    a, b = scale.x(layer.start), scale.x(layer.end)
    thick = f"{layer.thickness_mm:g} mm" if unit == "mm" else fine(layer.thickness_mm, "in")
    what = f"{thick} {layer.material.replace('_', ' ')}"
    parts = [
        *_named(layer.id, what, scale, top),
        f'<rect class="metal" x="{a:.1f}" y="{top:.1f}" width="{b - a:.1f}" height="{ROW:g}"/>',
    ]
    best = placed.best if placed else None
    if best is not None and layer.id in best.rejected:
        for refused in best.rejected[layer.id]:
            u, v = scale.x(refused.start), scale.x(refused.end)
            parts.append(
                f'<rect class="no-cut" x="{u:.1f}" y="{top:.1f}" width="{max(v - u, 0):.1f}" height="{ROW:g}">'
                f"<title>no cut: {escape(refused.reason.replace('_', ' '))}</title></rect>"
            )
        for low, high in best.feasible[layer.id]:
            u, v = scale.x(low), scale.x(high)
            parts.append(f'<path class="may-cut" d="M{u - 1:.1f} {top + ROW + 4:.1f}H{v + 1:.1f}"/>')
    if layer.damage is not None:
        u, v = scale.x(layer.damage[0]), scale.x(layer.damage[1])
        hold = held.by("layer", held.row, layer.damage, ("hurt-from", "hurt-to"))
        parts.append(
            f'<rect class="hurt"{hold} x="{u:.1f}" y="{top:.1f}" width="{max(v - u, 2):.1f}" height="{ROW:g}"/>'
        )
        if v - u > 70:
            parts.append(f'<text class="hurt-words" x="{v - 10:.1f}" y="{top + 29:.0f}">damaged</text>')
    parts += [
        _feature(feature, scale, top, held.by("feature", number, feature.stretch))
        for number, feature in enumerate(strip.features)
        if _on(feature, layer)
    ]
    for number, window in enumerate(strip.windows):
        if window.layer == layer.id:
            u, v = scale.x(window.start), scale.x(window.end)
            hold = held.by("window", number, window.stretch)
            parts.append(f'<path class="window"{hold} d="M{u:.1f} {top - 3:.1f}v-6H{v:.1f}v6"/>')
            if v - u > 110:
                parts.append(f'<text class="window-words" x="{u + 6:.1f}" y="{top - 12:.1f}">maker’s window</text>')
    for number, reach in enumerate(strip.access):
        if reach.layer == layer.id:
            u, v = scale.x(reach.start), scale.x(reach.end)
            hold = held.by("access", number, reach.stretch)
            parts.append(
                f'<path class="reach"{hold} d="M{u:.1f} {top + ROW + 9:.1f}H{v:.1f}"><title>in reach</title></path>'
            )
    parts.append(f'<rect class="metal-edge" x="{a:.1f}" y="{top:.1f}" width="{b - a:.1f}" height="{ROW:g}"/>')
    return parts


def _named(name: str, what: str, scale: _Scale, top: float) -> list[str]:
    """Return the name of a layer and what it is of: beside its row, or above what stands above it."""
    if scale.narrow:
        return [
            f'<text class="layer-name" x="0" y="{top - 38:.0f}">{escape(name)} '
            f'<tspan class="layer-what">{escape(what)}</tspan></text>'
        ]
    return [f'<text class="layer-name" x="0" y="{top + 20:.0f}">{escape(name)}</text>', scale.said(what, top + 38)]


def _on(feature: StripFeature, layer: StripLayer) -> bool:
    inside = feature.end >= layer.start and feature.start <= layer.end
    return inside and (feature.layers is None or layer.id in feature.layers)


def _feature(feature: StripFeature, scale: _Scale, top: float, hold: str) -> str:
    """Return a feature by its shape: round for holes and nuts, a bracket, a bolted mount, a dented initiator, a plate."""
    u, v = scale.x(feature.start), scale.x(feature.end)
    middle, half, y = (u + v) / 2, max((v - u) / 2, 5.0), top + ROW / 2
    title = f"<title>{escape(feature.words or FEATURES[feature.kind])}, {feature.start:g} to {feature.end:g}</title>"
    if feature.kind == "hole":
        body = f'<circle cx="{middle:.1f}" cy="{y:.1f}" r="{min(half, 15):.1f}"/>'
    elif feature.kind == "nut":
        body = (
            f'<path d="M{middle - 8:.1f} {y:.1f}l4 -7h8l4 7l-4 7h-8z"/><circle cx="{middle:.1f}" cy="{y:.1f}" r="3"/>'
        )
    elif feature.kind == "bracket":
        body = (
            f'<path d="M{middle - half:.1f} {y - 13:.1f}v26M{middle - half:.1f} {y:.1f}H{middle + half:.1f}'
            f'M{middle + half:.1f} {y - 13:.1f}v26"/>'
        )
    elif feature.kind == "crush_initiator":
        step = half / 2
        body = f'<path d="M{middle - half:.1f} {y:.1f}l{step:.1f} -9l{step:.1f} 18l{step:.1f} -18l{step:.1f} 9"/>'
    elif feature.kind in ("hinge", "belt", "suspension"):
        letter = {"hinge": "H", "belt": "B", "suspension": "S"}[feature.kind]
        body = (
            f'<rect x="{middle - max(half, 11):.1f}" y="{y - 15:.1f}" width="{2 * max(half, 11):.1f}" height="30"/>'
            f'<text class="feature-letter" x="{middle:.1f}" y="{y + 6:.1f}">{letter}</text>'
        )
    elif feature.kind == "plate":
        body = (
            f'<rect class="plate" x="{middle - max(half, 16):.1f}" y="{y - 10:.1f}" width="{2 * max(half, 16):.1f}" height="20"/>'
            f'<text class="feature-letter" x="{middle:.1f}" y="{y + 6:.1f}">ID</text>'
        )
    elif feature.kind == "reinforcement":
        ends = f"{middle - half:.1f} {{}}H{middle + half:.1f}"
        body = f'<path class="thick" d="M{ends.format(round(y - 17, 1))}M{ends.format(round(y + 17, 1))}"/>'
    else:
        body = f'<path d="M{middle:.1f} {y - 10:.1f}l10 10l-10 10l-10 -10z"/>'
    return f'<g class="feature {feature.kind}"{hold}>{title}{body}</g>'


def _made(
    layer: StripLayer, made: Sequence[CutMadeFact], scale: _Scale, top: float, figure: Callable[[float], str]
) -> list[str]:
    parts = []
    for cut in made:
        if cut.layer == layer.id:
            x = scale.x(cut.at_mm)
            words = "cut" if cut.kind == "final" else "access"
            parts.append(f'<path class="made {cut.kind}" d="M{x:.1f} {top - 4:.1f}V{top + ROW + 4:.1f}"/>')
            parts.append(
                f'<text class="made-words" x="{x + 6:.1f}" y="{top + ROW - 6:.1f}">{words} {escape(figure(cut.at_mm))}</text>'
            )
    return parts


def _planned_access(
    strip: StripSaid, layer: StripLayer, made: Sequence[CutMadeFact], scale: _Scale, top: float
) -> list[str]:
    done = {(cut.layer, cut.at_mm) for cut in made}
    return [
        f'<path class="access-planned" d="M{scale.x(cut.at_mm):.1f} {top - 6:.1f}V{top + ROW + 6:.1f}">'
        f"<title>access cut planned: {escape(cut.words)}</title></path>"
        for cut in strip.access_cuts
        if cut.layer == layer.id and (cut.layer, cut.at_mm) not in done
    ]


def _lanes(strip: StripSaid) -> tuple[tuple[Behind, int], ...]:
    """Return what lies behind, each with the lane in which it is drawn: what overlaps lies in lanes of its own."""
    ends: list[float] = []
    lanes = []
    for thing in sorted(strip.behind, key=lambda b: b.start):
        lane = next((k for k, end in enumerate(ends) if end < thing.start), len(ends))
        ends[lane : lane + 1] = [thing.end]
        lanes.append((thing, lane))
    return tuple(lanes)


def _behind(strip: StripSaid, scale: _Scale, top: float) -> list[str]:
    if not strip.behind:
        return []
    parts = [scale.said("behind it", top - 6 if scale.narrow else top + 15)]
    for thing, lane in _lanes(strip):
        u, v, y = scale.x(thing.start), scale.x(thing.end), top + lane * _LANE
        words = thing.words or BEHIND[thing.kind]
        inside = v - u > len(words) * _LETTER + 12 or v > scale.width - 140
        parts.append(
            f'<rect class="behind {thing.kind}" x="{u:.1f}" y="{y:.1f}" width="{max(v - u, 4):.1f}" height="20"/>'
        )
        at = u + 6 if inside else v + 6
        at = max(min(at, scale.width - len(words) * _LETTER), 2.0)
        parts.append(f'<text class="behind-words" x="{at:.1f}" y="{y + 15:.0f}">{escape(words)}</text>')
    return parts


def _axis(
    strip: StripSaid,
    scale: _Scale,
    low: float,
    high: float,
    y: float,
    figure: Callable[[float], str],
    unit: str,
) -> list[str]:
    unit_mm = 25.4 if unit == "in" else 10.0
    most = max(3.0, min(11.0, (scale.width - scale.left) / 80))
    step = unit_mm * next((s for s in (1, 2, 5, 10, 20, 50, 100, 200) if (high - low) / (s * unit_mm) <= most), 500)
    words = f"{unit} {RUNS[strip.runs]} {strip.datum or 'the datum'}"
    parts = [
        scale.said(words, y - 6 if scale.narrow else y + 5),
        f'<path class="axis" d="M{scale.x(low):.1f} {y:.1f}H{scale.x(high):.1f}"/>',
    ]
    station = -(-low // step) * step
    while station <= high + 1e-9:
        x = scale.x(station)
        zero = " zero" if abs(station) < 1e-9 else ""
        parts.append(f'<path class="axis{zero}" d="M{x:.1f} {y:.1f}v{12 if zero else 8}"/>')
        parts.append(f'<text class="axis-words" x="{x:.1f}" y="{y + 26:.0f}">{escape(figure(station))}</text>')
        station += step
    return parts


def _handle(
    layer: StripLayer,
    at: float,
    scale: _Scale,
    top: float,
    figure: Callable[[float], str],
    *,
    movable: bool,
    broken: bool,
) -> str:
    x, words = scale.x(at), figure(at)
    wide = max(len(words) * 9.5 + 20, 60)
    own = (
        f' role="slider" tabindex="0" data-layer="{escape(layer.id)}" data-at="{at:.3f}" aria-label="Cut of {escape(layer.id)}" '
        f'aria-valuemin="{layer.start:g}" aria-valuemax="{layer.end:g}" aria-valuenow="{at:.1f}" aria-valuetext="{escape(words)}"'
        if movable
        else ""
    )
    return (
        f'<g class="cut{" broken" if broken else ""}"{own}>'
        f'<rect class="cut-grip" x="{x - wide / 2:.1f}" y="{top - 34:.1f}" width="{wide:.1f}" height="{ROW + 44:.1f}"/>'
        f'<path class="cut-line" d="M{x:.1f} {top - 6:.1f}V{top + ROW + 8:.1f}"/>'
        f'<rect class="cut-box" x="{x - wide / 2:.1f}" y="{top - 30:.1f}" width="{wide:.1f}" height="25"/>'
        f'<text class="cut-words" x="{x:.1f}" y="{top - 11:.1f}">{escape(words)}{" !" if broken else ""}</text></g>'
    )
