"""The damage drawn: profiles along the vehicle, the six modes as small figures, the push as an arrow, groups that moved."""

import math
from collections.abc import Mapping, Sequence
from html import escape
from typing import NamedTuple

import numpy as np
from markupsafe import Markup
from scipy.spatial.transform import Rotation

from fairsquare.core.damage.groups import Group
from fairsquare.core.damage.onset import Onset
from fairsquare.core.damage.read import DamageRead, ModeName, Push
from fairsquare.core.measure.conformity import PointJudgement
from fairsquare.core.sheet.model import Point, Sheet, tolerances
from fairsquare.drawings.labels import Anchor, Box, Labels, Spot, round_mark
from fairsquare.drawings.sign import square
from fairsquare.words.lengths import Units, measure, size, station
from fairsquare.words.lengths import judged as judged_words

WIDTH, HEIGHT = 700.0, 430.0
_LEFT, _RIGHT, _TOP, _BOTTOM, _GAP = 104.0, 20.0, 42.0, 30.0, 26.0
_AXES = (("length", "long ↑ short ↓"), ("width", "left ↑ right ↓"), ("height", "high ↑ low ↓"))
_MOST_SCALE = 14.0
_NEAREST_LABELS = 26.0
_HALF = 4.6
_NARROW = 480.0
_LEGEND = Box(0.0, 0.0, 152.0, 24.0)
_VALUE_PX, _WORDS_PX = 16.0, 14.0
_ASIDE: dict[Anchor, float] = {"end": -9.0, "start": 9.0, "middle": 0.0}


class _Profile(NamedTuple):
    """Where the profiles stand: x of a station, and for each axis the y of its nought, with px for a mm."""

    front: float
    per_mm_along: float
    noughts: tuple[float, float, float]
    scale: float
    width: float
    left: float

    def x(self, station: float) -> float:
        return self.left + (self.front - station) * self.per_mm_along


def profiles(
    sheet: Sheet,
    judged: Mapping[str, PointJudgement],
    damage: DamageRead,
    width: float = WIDTH,
    units: Units = "mm",
) -> Markup:
    """Return length, width and height along the vehicle, front at the left: the tolerance as a band, left and right as lines.

    Long, left and high are upwards. Bars are the expanded uncertainty; the onset of each end is a line with its interval.
    `width`: of the page it is laid out for, px.
    """
    read = [point for point in sheet.points if (judgement := judged.get(point.code)) and judgement.state != "unread"]
    if not read:
        return Markup("")
    frame = _frame(sheet, judged, read, damage.middle_mm, width)
    texts = Labels(Box(0.0, 0.0, width, HEIGHT), [_LEGEND])
    onsets = [_onset(frame, end.onset, texts, units) for end in damage.ends.values() if end.onset]
    parts = [band for band, _ in onsets]
    for axis, (name, ways) in enumerate(_AXES):
        parts.append(_axis(frame, axis, name, ways, sheet, judged, read, damage.middle_mm, texts, units))
    parts.append(_stations(frame, read))
    parts += [words for _, words in onsets]
    legend = (
        '<g class="p-legend"><path class="p-right" d="M2 14h26"/><text x="34" y="19">right</text>'
        '<path class="p-left" d="M84 14h26"/><text x="116" y="19">left</text></g>'
    )
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="profiles" role="img" aria-label="Length, width and height along the vehicle" '
        f'viewBox="0 0 {width:g} {HEIGHT:g}">{"".join(parts)}{legend}</svg>'
    )


def _value(point: Point, judged: Mapping[str, PointJudgement], axis: int, middle: float) -> float | None:
    """Return a deviation as drawn, mm: long, left and high are positive; null where it is not known."""
    judgement = judged[point.code]
    if judgement.deviation is None or judgement.states[axis] == "unread":
        return None
    ahead = 1.0 if axis or point.xyz[0] >= middle else -1.0
    return judgement.deviation[axis] * ahead


def _frame(
    sheet: Sheet, judged: Mapping[str, PointJudgement], read: Sequence[Point], middle: float, width: float
) -> _Profile:
    along = [point.xyz[0] for point in read]
    ups, downs = [], []
    for axis in range(3):
        limit = max(tolerances(sheet, point)[axis] for point in read if tolerances(sheet, point)[axis] < 100)
        spread = [
            (v, min(judgement.expanded[axis], 3 * limit))
            for point in read
            if (v := _value(point, judged, axis, middle)) is not None and (judgement := judged[point.code]).expanded
        ]
        ups.append(max(limit, *(v + wide for v, wide in spread), 0.0) + 0.5)
        downs.append(max(limit, *(wide - v for v, wide in spread), 0.0) + 0.5)
    room = HEIGHT - _TOP - _BOTTOM - 2 * _GAP
    scale = min(room / (sum(ups) + sum(downs)), _MOST_SCALE)
    spare = (room - scale * (sum(ups) + sum(downs))) / 3
    noughts, top = [], _TOP
    for up, down in zip(ups, downs, strict=True):
        noughts.append(top + spare / 2 + up * scale)
        top += spare + (up + down) * scale + _GAP
    length = max(max(along) - min(along), 1.0)
    left = _LEFT if width >= _NARROW else 12.0
    per_mm = (width - left - _RIGHT - 34) / length
    return _Profile(max(along) + 22 / per_mm, per_mm, (noughts[0], noughts[1], noughts[2]), scale, width, left)


def _axis(
    frame: _Profile,
    axis: int,
    name: str,
    tells: str,
    sheet: Sheet,
    judged: Mapping[str, PointJudgement],
    read: Sequence[Point],
    middle: float,
    texts: Labels,
    units: Units,
) -> str:
    nought = frame.noughts[axis]
    band, edge = sheet.tolerance_mm * frame.scale, frame.width - _RIGHT
    named = [(name, "p-axis", 2.0, nought - 3), (tells, "p-way", 2.0, nought + 15)]
    if frame.left < _LEFT:  # no room beside: on the drawing itself, clear of the band
        spot = texts.put(
            f"{name}: {tells}",
            _WORDS_PX,
            [Spot(16.0, nought + by, "start") for by in (-band - 6, band + 18, -band - 22)],
        )
        named = [(f"{name}: {tells}", "p-way", spot.x, spot.y)]
    parts = [
        f'<rect class="p-band" x="{frame.left:g}" y="{nought - band:.1f}" width="{edge - frame.left:.1f}" '
        f'height="{2 * band:.1f}"/>',
        f'<path class="p-nought" d="M{frame.left:g} {nought:.1f}H{edge:.1f}"/>',
        *(f'<text class="{css}" x="{x:.1f}" y="{y:.1f}">{words}</text>' for words, css, x, y in named),
    ]
    if axis == 0:
        words = f"within {measure(sheet.tolerance_mm, units)}"
        spot = texts.put(
            words, _WORDS_PX, [Spot(edge - 4, nought + by, "end") for by in (-band - 5, band + 16, -band - 22)]
        )
        parts.append(f'<text class="p-within" x="{spot.x:.1f}" y="{spot.y:.1f}">{words}</text>')
    sides: dict[str, list[tuple[Point, float]]] = {}
    for side, css in ((1, "p-left"), (-1, "p-right")):
        own = sorted((p for p in read if p.xyz[1] * side > 0), key=lambda p: -p.xyz[0])
        sides[css] = [(p, v) for p in own if (v := _value(p, judged, axis, middle)) is not None]
    for point, value in (point_value for known in sides.values() for point_value in known):
        texts.keep_off(round_mark(frame.x(point.xyz[0]), nought - value * frame.scale, _HALF + 1))
    for css, known in sides.items():
        if len(known) > 1:
            line = " ".join(f"{frame.x(p.xyz[0]):.1f},{nought - v * frame.scale:.1f}" for p, v in known)
            parts.append(f'<polyline class="{css}" points="{line}"/>')
        parts += [_mark(frame, axis, nought, p, v, judged[p.code], css, sheet, units) for p, v in known]
    for css, known in sides.items():
        worst = _labelled(known, middle)
        if worst and judged[worst[0].code].states[axis] == "off":
            x, y = frame.x(worst[0].xyz[0]), nought - worst[1] * frame.scale
            ways: tuple[Anchor, Anchor] = ("end", "start") if worst[0].xyz[0] >= middle else ("start", "end")
            words = size(worst[1], units)
            spots = [Spot(x + _ASIDE[way], y + by, way) for by in (5, -9, 19, -23, 33) for way in ways]
            spots += [Spot(x, y + by) for by in (-12, 24)]
            spot = texts.put(words, _VALUE_PX, spots)
            parts.append(f'<text class="p-value {css} {spot.anchor}" x="{spot.x:.1f}" y="{spot.y:.1f}">{words}</text>')
    return f"<g>{''.join(parts)}</g>"


def _labelled(known: Sequence[tuple[Point, float]], middle: float) -> tuple[Point, float] | None:
    """Return the point whose figure is written: the outermost of those that have gone nearly as far as any."""
    most = max((abs(value) for _, value in known), default=0.0)
    far = [labelled for labelled in known if abs(labelled[1]) >= 0.8 * most]
    return max(far, key=lambda found: abs(found[0].xyz[0] - middle), default=None)


def _mark(
    frame: _Profile,
    axis: int,
    nought: float,
    point: Point,
    value: float,
    found: PointJudgement,
    css: str,
    sheet: Sheet,
    units: Units,
) -> str:
    x, y = frame.x(point.xyz[0]), nought - value * frame.scale
    most = 3 * tolerances(sheet, point)[axis]
    wide = min(found.expanded[axis] if found.expanded else 0.0, most) * frame.scale
    state = found.states[axis]
    half = f"M{x - _HALF:.1f} {y + _HALF:.1f}h{2 * _HALF:.1f}v{-2 * _HALF:.1f}z" if state == "close" else ""
    return (
        f'<path class="p-bar" d="M{x:.1f} {y - wide:.1f}V{y + wide:.1f}"/>'
        f'<g class="p-mark {state} {css}"><title>{escape(point.code)}: {escape(judged_words(found, point.xyz, units))}</title>'
        f'<path class="s-frame" d="{square(x, y, _HALF)}"/>{f"<path class=s-half d={half!r}/>" if half else ""}</g>'
    )


def _onset(frame: _Profile, onset: Onset, texts: Labels, units: Units) -> tuple[str, str]:
    """Return the band of an onset, which lies under what was read, and its words, which stand over it."""
    x, low, high = frame.x(onset.at_mm), frame.x(onset.high_mm), frame.x(onset.low_mm)
    sure = (onset.high_mm - onset.low_mm) / 2
    words = f"It starts at {station(onset.at_mm, units)} ± {measure(sure, units, 0)}"
    sides: tuple[Anchor, Anchor] = ("start", "end") if x < frame.width - 190 else ("end", "start")
    spot = texts.put(words, _VALUE_PX, [Spot(x + _ASIDE[side], y, side) for y in (20.0, 38.0, 56.0) for side in sides])
    return (
        f'<rect class="p-onset-band" x="{low:.1f}" y="24" width="{max(high - low, 1):.1f}" height="{HEIGHT - _BOTTOM - 24:.1f}"/>'
        f'<path class="p-onset" d="M{x:.1f} 24V{HEIGHT - _BOTTOM:.1f}"/>',
        f'<text class="p-onset-words {spot.anchor}" x="{spot.x:.1f}" y="{spot.y:.0f}">{words}</text>',
    )


def _stations(frame: _Profile, read: Sequence[Point]) -> str:
    """Return the names of the stations, the side left out, where there is room for them."""
    parts, last = [], -math.inf
    for point in sorted(read, key=lambda p: -p.xyz[0]):
        x = frame.x(point.xyz[0])
        if x - last >= _NEAREST_LABELS:
            name = point.code[:-1] if point.code[-1:] in "LR" and point.xyz[1] else point.code
            parts.append(f'<text class="p-station" x="{x:.1f}" y="{HEIGHT - 8:.1f}">{escape(name)}</text>')
            last = x
    return "".join(parts)


_FIGURES: dict[ModeName, tuple[str, str]] = {
    "mash": ("M4 6H34V26H4z", "M9 6H34V26H9z"),
    "skew": ("M4 6H34V26H4z", "M10 6H40L34 26H4z"),
    "sway": ("M4 6H34V26H4z", "M4 11L34 6V26L4 31z"),
    "spread": ("M4 6H34V26H4z", "M4 9L34 6V26L4 23z"),
    "rise": ("M4 20H38", "M4 13H38"),
    "twist_deg": ("M4 16H38", "M5 9L37 23"),
}
"""As it should be, and as it has gone, for a positive value. Seen from above the front is at the left and the right side
on top, as in the plan; rise and twist are seen from behind, the left side at the left."""


def mode_figure(name: ModeName, value: float, real: bool) -> Markup:
    """Return a small figure of a mode: dotted as it should be, drawn as it has gone; mirrored where the value is negative."""
    before, after = _FIGURES[name]
    if name == "spread" and value > 0:
        after = "M4 3L34 6V26L4 29z"
    turned = {"mash": "M-1 6H34V26H-1z", "rise": "M4 27H38"}.get(name) if value < 0 else None
    mirrored = ' transform="matrix(1 0 0 -1 0 32)"' if value < 0 and name in ("skew", "sway", "twist_deg") else ""
    return Markup(  # noqa: S704 - paths of our own
        f'<svg class="mode {"real" if real else "faint"}" viewBox="-3 0 46 34" width="40" height="30" aria-hidden="true">'
        f'<path class="m-before" d="{before}"/><path class="m-after" d="{turned or after}"{mirrored}/></svg>'
    )


def push_figure(push: Push) -> Markup:
    """Return the vehicle from above, front at the left, with the push as an arrow from outside."""
    angle = math.radians(push.from_deg)
    cx, cy, rx, ry = 190.0, 74.0, 112.0, 42.0
    away = (-math.cos(angle), -math.sin(angle))
    reach = 1 / max(abs(away[0]) / rx, abs(away[1]) / ry)
    tip = (cx + away[0] * (reach + 4), cy + away[1] * (reach + 4))
    tail = (tip[0] + away[0] * 58, tip[1] + away[1] * 58)
    left = (tip[0] + away[0] * 20 - away[1] * 10, tip[1] + away[1] * 20 + away[0] * 10)
    right = (tip[0] + away[0] * 20 + away[1] * 10, tip[1] + away[1] * 20 - away[0] * 10)
    neck = (tip[0] + away[0] * 18, tip[1] + away[1] * 18)
    return Markup(  # noqa: S704 - numbers only
        f'<svg class="push" viewBox="0 -34 380 216" role="img" aria-label="{escape(push.words)}">'
        f'<path class="v-body" d="M{cx - rx + 20:g} {cy - ry:g}H{cx + rx - 8:g}q8 0 8 8V{cy + ry - 8:g}q0 8 -8 8H{cx - rx + 20:g}'
        f'L{cx - rx:g} {cy + ry - 16:g}V{cy - ry + 16:g}z"/>'
        f'<path class="v-line" d="M{cx - 34:g} {cy - ry:g}v{2 * ry:g}M{cx + 36:g} {cy - ry:g}v{2 * ry:g}"/>'
        f'<text class="v-note" x="{cx - 76:g}" y="{cy + 5:g}">front</text>'
        f'<path class="v-arrow" d="M{tail[0]:.1f} {tail[1]:.1f}L{neck[0]:.1f} {neck[1]:.1f}"/>'
        f'<path class="v-head" d="M{tip[0]:.1f} {tip[1]:.1f}L{left[0]:.1f} {left[1]:.1f}L{right[0]:.1f} {right[1]:.1f}z"/></svg>'
    )


def groups_figure(sheet: Sheet, groups: Sequence[Group], factor: float = 25.0) -> Markup:
    """Return the structure from above: each group thin where the sheet puts it, thick where it has gone, `factor` times.

    A group that moved as one piece can be shown moving; a bent one is dashed.
    """
    points = {point.code: point for point in sheet.points}
    xs = [point.xyz[0] for point in sheet.points]
    ys = [point.xyz[1] for point in sheet.points]
    width, height, margin = 380.0, 150.0, 30.0
    scale = min((width - 2 * margin) / max(max(xs) - min(xs), 1.0), (height - 2 * margin) / max(max(ys) - min(ys), 1.0))

    def flat(place: Sequence[float]) -> str:
        u = width / 2 + ((max(xs) + min(xs)) / 2 - place[0]) * scale
        v = height / 2 + (place[1] - (max(ys) + min(ys)) / 2) * scale
        return f"{u:.1f},{v:.1f}"

    parts = []
    for group in groups:
        turn = Rotation.from_rotvec(np.radians(group.rotation_deg) * factor).as_matrix()
        for side in (1, 0, -1):
            own = [points[code] for code in group.codes if code in points and int(np.sign(points[code].xyz[1])) == side]
            own.sort(key=lambda point: -point.xyz[0])
            if not own:
                continue
            home = " ".join(flat(point.xyz) for point in own)
            at = np.array(group.at)
            gone = " ".join(
                flat(turn @ (np.array(point.xyz) - at) + at + factor * np.array(group.translation)) for point in own
            )
            parts.append(f'<polyline class="g-home" points="{home}"/>')
            if group.moved:
                css = "rigid" if group.rigid else "bent"
                move = f'<animate attributeName="points" values="{home};{gone}" dur="1.6s" begin="indefinite" fill="freeze"/>'
                parts.append(f'<polyline class="g-gone {css}" points="{gone}">{move if group.rigid else ""}</polyline>')
    return Markup(  # noqa: S704 - numbers only
        f'<svg class="groups" viewBox="0 0 {width:g} {height:g}" role="img" aria-label="What moved as one piece, movement drawn '
        f'{factor:g} times">{"".join(parts)}</svg>'
    )
