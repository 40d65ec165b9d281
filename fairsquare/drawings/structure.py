"""The structure in plan, from both sides and from behind, to scale: the sheet's shape thin, today's thick.

On the page the front is at the left: a point is drawn at (−x, y) from above, (−x, −z) from a side, (−y, −z) from behind.
"""

import math
from collections.abc import Callable, Collection, Mapping
from html import escape
from typing import NamedTuple
from urllib.parse import quote

from markupsafe import Markup

from fairsquare.core.measure.conformity import PointJudgement, State
from fairsquare.core.measure.picture import PlacedPoint
from fairsquare.core.model import Matrix3, Row3
from fairsquare.core.sheet.model import Point, Sheet, partner_code, tolerances
from fairsquare.drawings.sign import marks, prism

WIDTH = 746.0
_MARGIN = 34.0
_LABELS_UP_TO = 70
_LABEL_STEP = 16.0
_BETWEEN, _TICK_DOWN = 40.0, 16.0
_END_MARGIN, _END_GAP = 30.0, 70.0
_TALLEST = 520.0
_PAD_MM = 130.0
FACTORS = (1, 50)
_SMALL_SHARE = 1 / 3
"""Uncertainty of less than this share of the tolerance is not drawn: it decides nothing."""


class View(NamedTuple):
    """One view: its title, the points in it, where a place goes before scaling, and whether stations are told under it."""

    key: str
    title: str
    flat: Callable[[Row3], tuple[float, float]]
    points: list[Point]
    ticks: bool = False


class _Frame(NamedTuple):
    """Where a view stands on the page: x = left + (flat - low) · scale."""

    left: float
    top: float
    low: tuple[float, float]
    scale: float

    def place(self, flat: tuple[float, float]) -> tuple[float, float]:
        return self.left + (flat[0] - self.low[0]) * self.scale, self.top + (flat[1] - self.low[1]) * self.scale


_Way = tuple[float, float, float, float]
Judged = Mapping[str, PointJudgement]
Placed = Mapping[str, PlacedPoint]


def plan_and_sides(
    sheet: Sheet,
    judged: Judged,
    factor: float = 10,
    selected: str | None = None,
    link: str = "",
    placed: Placed | None = None,
    touched: Collection[str] = (),
) -> Markup:
    """Return the structure seen from above and from both sides, at one scale, movement drawn `factor` times.

    With `placed` the uncertainty (two sigma) is drawn where it decides something, at the same factor. `selected` and `touched`
    points have a ring.
    """
    return _page(
        sheet, judged, factor, _ringed(selected, touched), link, _long_views(sheet), "Plan and sides", placed or {}
    )


def ends(
    sheet: Sheet,
    judged: Judged,
    factor: float = 10,
    selected: str | None = None,
    link: str = "",
    placed: Placed | None = None,
    touched: Collection[str] = (),
) -> Markup:
    """Return the front half and the rear half of the structure, both seen from behind, one beside the other."""
    middle = (min(p.xyz[0] for p in sheet.points) + max(p.xyz[0] for p in sheet.points)) / 2
    halves = (
        View("front", "front half, seen from behind", _from_behind, [p for p in sheet.points if p.xyz[0] >= middle]),
        View("rear", "rear half, seen from behind", _from_behind, [p for p in sheet.points if p.xyz[0] < middle]),
    )
    views = [view for view in halves if view.points]
    return _page(
        sheet, judged, factor, _ringed(selected, touched), link, views, "Ends", placed or {}, side_by_side=True
    )


def _ringed(selected: str | None, touched: Collection[str]) -> frozenset[str]:
    return frozenset(touched) | ({selected} if selected else frozenset())


def _from_above(p: Row3) -> tuple[float, float]:
    return -p[0], p[1]


def _from_side(p: Row3) -> tuple[float, float]:
    return -p[0], -p[2]


def _from_behind(p: Row3) -> tuple[float, float]:
    return -p[1], -p[2]


def _long_views(sheet: Sheet) -> list[View]:
    right = [p for p in sheet.points if p.xyz[1] < 0]
    left = [p for p in sheet.points if p.xyz[1] >= 0]
    views = [View("plan", "seen from above", _from_above, list(sheet.points))]
    if right:
        views.append(View("right", "right side, seen through from the left", _from_side, right))
    if left:
        views.append(View("left", "left side", _from_side, left))
    return [*views[:-1], views[-1]._replace(ticks=True)]


def _bounds(view: View) -> tuple[tuple[float, float], tuple[float, float]]:
    flat = [view.flat(point.xyz) for point in view.points]
    low = (min(u for u, _ in flat) - _PAD_MM, min(v for _, v in flat) - _PAD_MM)
    high = (max(u for u, _ in flat) + _PAD_MM, max(v for _, v in flat) + _PAD_MM)
    if view.key != "plan":
        low, high = (low[0], min(low[1], -_PAD_MM)), (high[0], max(high[1], _PAD_MM / 2))
    return low, high


def _page(
    sheet: Sheet,
    judged: Judged,
    factor: float,
    ringed: frozenset[str],
    link: str,
    views: list[View],
    title: str,
    placed: Placed,
    *,
    side_by_side: bool = False,
) -> Markup:
    bounds = [_bounds(view) for view in views]
    widths = [high[0] - low[0] for low, high in bounds]
    heights = [high[1] - low[1] for low, high in bounds]
    label = _BETWEEN
    if side_by_side:
        scale = min((WIDTH - 2 * _END_MARGIN - _END_GAP) / sum(widths), (_TALLEST - label) / max(heights))
    else:
        scale = min((WIDTH - _MARGIN - 16) / max(widths), (_TALLEST - label * len(views)) / sum(heights))
    left_most = min(low[0] for low, _ in bounds)
    drawn, left, top = [], _END_MARGIN if side_by_side else _MARGIN, 12.0
    for view, (low, _), width, height in zip(views, bounds, widths, heights, strict=True):
        origin = low if side_by_side else (left_most, low[1])
        frame = _Frame(left, top, origin, scale)
        drawn.append(_view(sheet, judged, factor, ringed, link, view, frame, (width * scale, height * scale), placed))
        if side_by_side:
            left += width * scale + _END_GAP
        else:
            top += height * scale + label
    total = (max(heights) * scale + label + 12) if side_by_side else top
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="structure" role="group" aria-label="{escape(title)}" viewBox="0 0 {WIDTH:g} {total:.0f}" '
        f'data-factor="{factor:g}">{"".join(drawn)}</svg>'
    )


def _view(
    sheet: Sheet,
    judged: Judged,
    factor: float,
    ringed: frozenset[str],
    link: str,
    view: View,
    frame: _Frame,
    size: tuple[float, float],
    placed: Placed,
) -> str:
    ways = {point.code: _way(point, judged, view, frame) for point in view.points}
    parts = [_grid(view, frame, size)]
    parts += [_unsure(point, judged, placed, factor, view, frame, sheet, ways[point.code]) for point in view.points]
    parts += _lines(view, judged, factor, frame, ways)
    if view.key == "plan":
        parts += _cross_lines(sheet, frame, view)
    few = len(view.points) <= _LABELS_UP_TO
    order = sorted(view.points, key=lambda p: (p.code in ringed, _state(judged, p.code) == "off"))
    shown = [p for p in view.points if few or p.code in ringed]
    labels = _labels(view, frame, shown, {code: way[3] * factor for code, way in ways.items()})
    link = escape(link)
    parts += [_point(p, judged, factor, ringed, link, ways[p.code], labels.get(p.code, "")) for p in order]
    return f'<g class="view view-{view.key}"><title>{escape(view.title)}</title>{"".join(parts)}</g>'


def _grid(view: View, frame: _Frame, size: tuple[float, float]) -> str:
    """Return the datum lines of a view, the stations every 500 mm, and its title."""
    width, height = size
    bottom = frame.top + height
    parts = []
    if view.key in ("plan", "right", "left"):
        low = frame.low[0]
        right_edge = max(view.flat(p.xyz)[0] for p in view.points) + _PAD_MM
        step = 500 if (right_edge - low) <= 9000 else 1000
        for station in range(math.ceil(low / step) * step, math.floor(right_edge / step) * step + 1, step):
            x, _ = frame.place((station, 0))
            kind = "zero" if station == 0 else "station"
            parts.append(f'<path class="{kind}" d="M{x:.1f} {frame.top:.1f}V{bottom:.1f}"/>')
            if view.ticks:
                words = f"{-station:+d}" if station else "0 mm"
                parts.append(f'<text class="tick" x="{x:.1f}" y="{bottom + _TICK_DOWN:.1f}">{words}</text>')
    else:
        x, _ = frame.place((0, 0))
        parts.append(f'<path class="zero" d="M{x:.1f} {frame.top:.1f}V{bottom:.1f}"/>')
        for x, words in ((frame.left + 8, "left"), (frame.left + width - 8, "right")):
            anchor = "start" if words == "left" else "end"
            parts.append(f'<text class="tick side {anchor}" x="{x:.1f}" y="{bottom + 14:.1f}">{words}</text>')
    _, datum = frame.place((0, 0))
    if frame.top <= datum <= bottom + 1:
        parts.append(f'<path class="datum" d="M{frame.left:.1f} {datum:.1f}h{width:.1f}"/>')
        name = "centre plane" if view.key == "plan" else "datum plane"
        parts.append(f'<text class="note" x="{frame.left + 2:.1f}" y="{datum - 4:.1f}">{name}</text>')
        title_y = datum - 4
    else:
        title_y = bottom
    parts.append(
        f'<text class="note end" x="{frame.left + width - 2:.1f}" y="{title_y:.1f}">{escape(view.title)}</text>'
    )
    return "".join(parts)


def _lines(view: View, judged: Judged, factor: float, frame: _Frame, ways: dict[str, _Way]) -> list[str]:
    """Return, for each member on each side, the sheet's shape and today's through the points that are read."""
    parts = []
    for ordered in _runs(view.points):
        if len(ordered) < 2:
            continue
        thin = " ".join("{:.1f},{:.1f}".format(*frame.place(view.flat(p.xyz))) for p in ordered)
        parts.append(f'<polyline class="by-sheet" points="{thin}"/>')
        read = [p for p in ordered if _deviation(judged, p.code) is not None]
        if len(read) > 1:
            own = [ways[p.code] for p in read]
            thick = " ".join(f"{x + dx * factor:.1f},{y + dy * factor:.1f}" for x, y, dx, dy in own)
            data = " ".join(f"{x:.2f},{y:.2f},{dx:.4f},{dy:.4f}" for x, y, dx, dy in own)
            parts.append(f'<polyline class="today" points="{thick}" data-ways="{data}"/>')
    return parts


def _runs(points: list[Point]) -> list[list[Point]]:
    """Return the lines to draw: members of one side that follow one another along the vehicle make one line."""
    series: dict[tuple[int, str], list[Point]] = {}
    for point in points:
        side = 0 if point.xyz[1] == 0 else 1 if point.xyz[1] > 0 else -1
        series.setdefault((side, point.member or ""), []).append(point)
    runs: list[tuple[int, list[list[Point]]]] = []
    members = [(side, sorted(own, key=lambda p: p.xyz[0])) for (side, _), own in series.items()]
    for side, own in sorted(members, key=lambda found: -len(found[1])):
        fitting = (run for other_side, run in runs if side == other_side and all(_apart(own, one) for one in run))
        run = next(fitting, None) if len(own) > 1 else None
        if run is None:
            runs.append((side, [own]))
        else:
            run.append(own)
    return [sorted((p for own in run for p in own), key=lambda p: p.xyz[0]) for _, run in runs]


def _apart(own: list[Point], other: list[Point]) -> bool:
    """Return whether two members, each in order along the vehicle, follow one another without lying side by side."""
    return own[0].xyz[0] > other[-1].xyz[0] or own[-1].xyz[0] < other[0].xyz[0]


def _cross_lines(sheet: Sheet, frame: _Frame, view: View) -> list[str]:
    points = {point.code: point for point in sheet.points}
    parts = []
    for point in sheet.points:
        partner = points.get(partner_code(point) or "")
        if partner is not None and point.code < partner.code:
            a, b = frame.place(view.flat(point.xyz)), frame.place(view.flat(partner.xyz))
            parts.append(f'<path class="across" d="M{a[0]:.1f} {a[1]:.1f}L{b[0]:.1f} {b[1]:.1f}"/>')
    return parts


def _point(
    point: Point,
    judged: Judged,
    factor: float,
    ringed: frozenset[str],
    link: str,
    way: _Way,
    label: str,
) -> str:
    x, y, dx, dy = way
    state = _state(judged, point.code)
    moved = (x + dx * factor, y + dy * factor)
    chosen = point.code in ringed
    parts = []
    if state == "off":
        parts.append(f'<path class="s-prism" d="{prism((x, y), moved)}"/>')
    parts.append(f'<g class="s-mark">{marks(state, *(moved if state in ("off", "close") else (x, y)))}</g>')
    if point.reference and (not judged or chosen):
        parts.append(f'<circle class="ref" cx="{x:.1f}" cy="{y:.1f}" r="2.6"/>')
    if chosen:
        parts.append(f'<circle class="ring" cx="{x:.1f}" cy="{y:.1f}" r="17"/>')
    parts.append(label)
    words = judged[point.code].words if point.code in judged else "on the sheet"
    name = f"{point.code}: {state}, {words}" if point.code in judged else f"{point.code}: on the sheet"
    return (
        f'<a class="pt {state}{" chosen" if chosen else ""}" href="{link}{escape(quote(point.code, safe=""))}" '
        f'data-code="{escape(point.code)}" data-way="{x:.2f},{y:.2f},{dx:.4f},{dy:.4f}" aria-label="{escape(name)}">'
        f'<rect class="hit" x="{x - 14:.1f}" y="{y - 14:.1f}" width="28" height="28"/>{"".join(parts)}</a>'
    )


def _unsure(
    point: Point, judged: Judged, placed: Placed, factor: float, view: View, frame: _Frame, sheet: Sheet, way: _Way
) -> str:
    """Return the ellipse of two sigma round a point, or a bar along what is not determined; nothing where it is small."""
    at, found = placed.get(point.code), judged.get(point.code)
    if at is None or found is None or found.expanded is None:
        return ""
    axes = {"plan": (0, 1), "right": (0, 2), "left": (0, 2)}.get(view.key, (1, 2))
    x, y, dx, dy = way
    place = f'data-way="{x:.2f},{y:.2f},{dx:.4f},{dy:.4f}"'
    unknown = [k for k in axes if not at.determined[k]]
    if unknown:
        return "".join(
            f'<path class="not-known" d="M{x - 13 * (k == axes[0]):.1f} {y - 13 * (k != axes[0]):.1f}'
            f'{"h26" if k == axes[0] else "v26"}"/>'
            for k in unknown
        )
    limits = tolerances(sheet, point)
    if all(found.expanded[k] < _SMALL_SHARE * limits[k] for k in axes):
        return ""
    (long, short), angle = _two_sigma(at.covariance, axes, _signs(view))
    long, short = long * frame.scale, short * frame.scale
    cx, cy = x + dx * factor, y + dy * factor
    return (
        f'<ellipse class="unsure" {place} data-radii="{long:.4f},{short:.4f}" rx="{long * factor:.1f}" ry="{short * factor:.1f}" '
        f'cx="{cx:.1f}" cy="{cy:.1f}" transform="rotate({angle:.1f} {cx:.1f} {cy:.1f})" data-angle="{angle:.1f}"/>'
    )


def _two_sigma(
    covariance: Matrix3, axes: tuple[int, int], signs: tuple[float, float]
) -> tuple[tuple[float, float], float]:
    """Return the half axes of a covariance's ellipse of two sigma in two of its axes, the long one first, and its turn, degrees.

    The eigenvalues of a symmetric 2x2 matrix in closed form, which many small calls make quicker than a general solver.
    """
    u, v = axes
    first, second, mixed = covariance[u][u], covariance[v][v], covariance[u][v] * signs[0] * signs[1]
    middle, away = (first + second) / 2, math.hypot((first - second) / 2, mixed)
    turn = math.degrees(math.atan2(2 * mixed, first - second) / 2)
    return (2 * math.sqrt(max(middle + away, 0.0)), 2 * math.sqrt(max(middle - away, 0.0))), turn


def _signs(view: View) -> tuple[float, float]:
    """Return which way the view's two vehicle axes run on the page."""
    return (-1.0, 1.0) if view.key == "plan" else (-1.0, -1.0)


def _labels(view: View, frame: _Frame, points: list[Point], goes: Mapping[str, float]) -> dict[str, str]:
    """Return the code beside each point: above or below it along the vehicle, outward and spread apart at the ends.

    `goes` is how far down the page each is drawn as moved: its code stands clear of both squares.
    """
    if view.key in ("plan", "right", "left"):
        labels = {}
        for point in points:
            x, y = frame.place(view.flat(point.xyz))
            above = view.key != "plan" or point.xyz[1] < 0
            moved = goes.get(point.code, 0.0)
            label_y = min(y, y + moved) - 13 if above else max(y, y + moved) + 22
            labels[point.code] = f'<text class="code" x="{x:.1f}" y="{label_y:.1f}">{escape(point.code)}</text>'
        return labels
    labels = {}
    for outward in (-1, 1):
        own = [(frame.place(view.flat(p.xyz)), p.code) for p in points if (p.xyz[1] > 0) == (outward < 0)]
        edge = (min if outward < 0 else max)((place[0] for place, _ in own), default=0.0) + outward * 26
        last = -math.inf
        for (x, y), code in sorted(own, key=lambda found: found[0][1]):
            last = max(y, last + _LABEL_STEP)
            anchor = "end" if outward < 0 else "start"
            labels[code] = (
                f'<path class="leader" d="M{x + outward * 8:.1f} {y:.1f}L{edge - outward * 4:.1f} {last:.1f}"/>'
                f'<text class="code {anchor}" x="{edge:.1f}" y="{last + 5:.1f}">{escape(code)}</text>'
            )
    return labels


def _way(point: Point, judged: Judged, view: View, frame: _Frame) -> _Way:
    """Return where a point is by the sheet, and by how much of the page it moved at factor 1."""
    x, y = frame.place(view.flat(point.xyz))
    deviation = _deviation(judged, point.code)
    if deviation is None:
        return x, y, 0.0, 0.0
    du, dv = view.flat(deviation)
    return x, y, du * frame.scale, dv * frame.scale


def _deviation(judged: Judged, code: str) -> Row3 | None:
    found = judged.get(code)
    return found.deviation if found and found.state != "unread" else None


def _state(judged: Judged, code: str) -> State:
    """Return how a point stands; what is not read is never drawn as fair."""
    return judged[code].state if code in judged else "unread"
