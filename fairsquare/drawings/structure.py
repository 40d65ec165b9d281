"""The structure in plan, from both sides and from behind, to scale: the sheet's shape thin, today's thick.

On the page the front is at the left: a point is drawn at (−x, y) from above, (−x, −z) from a side, (−y, −z) from behind.
"""

import math
from collections.abc import Callable, Collection, Mapping
from html import escape
from typing import NamedTuple
from urllib.parse import quote

from markupsafe import Markup

from fairsquare.core.lengths import MM_PER
from fairsquare.core.measure.conformity import PointJudgement, State
from fairsquare.core.model import Matrix3, Row3
from fairsquare.core.sheet.model import Point, Sheet, partner_code, tolerances
from fairsquare.drawings.labels import IN_WORDS, Anchor, Box, Labels, Spot, round_mark, text_box
from fairsquare.drawings.sign import marks, prism
from fairsquare.job.measure.picture import PlacedPoint
from fairsquare.words.lengths import Units

WIDTH = 746.0
NARROW = 480.0
"""Under this width (px) margins are small and what stands side by side stands one over the other."""
_MARGIN, _NARROW_MARGIN = 20.0, 4.0
_LABELS_UP_TO = 70
_LABEL_STEP, _LABEL_STEPS = 15.0, 7
_BETWEEN, _BETWEEN_ENDS, _TICK_DOWN, _TITLE_DOWN = 13.0, 24.0, 16.0, 12.0
_END_MARGIN, _END_GAP = 26.0, 52.0
_CODE_PX, _NOTE_PX, _TICK_ROOM, _MARK_HALF = 14.0, 13.0, 58.0, 7.0
_ASIDE = (0.0, 14.0, -14.0)
_SIDES: tuple[tuple[float, Anchor], ...] = ((12.0, "start"), (-12.0, "end"))
_TALLEST = 470.0
_PAD_MM, _PAD_PX = 130.0, 28.0
FACTORS = (1, 50)
_SMALL_SHARE = 1 / 3
"""Uncertainty of less than this share of the tolerance is not drawn: it decides nothing."""


_STEPS: dict[Units, tuple[int, ...]] = {"mm": (500, 1000, 2000, 5000, 10_000), "in": (20, 40, 80, 200, 400)}


class View(NamedTuple):
    """One view: its title, the points in it, where a place goes before scaling, the units of its stations, and
    whether they are told under it."""

    key: str
    title: str
    flat: Callable[[Row3], tuple[float, float]]
    points: list[Point]
    units: Units = "mm"
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
    *,
    width: float = WIDTH,
    units: Units = "mm",
) -> Markup:
    """Return the structure seen from above and from both sides, at one scale, movement drawn `factor` times.

    With `placed` the uncertainty (two sigma) is drawn where it decides something, at the same factor. `selected` and `touched`
    points have a ring. `width`: of the page that it is laid out for, px; `units`: in which stations are told.
    """
    rings = _ringed(selected, touched)
    return _page(sheet, judged, factor, rings, link, _long_views(sheet, units), "Plan and sides", placed or {}, width)


def ends(
    sheet: Sheet,
    judged: Judged,
    factor: float = 10,
    selected: str | None = None,
    link: str = "",
    placed: Placed | None = None,
    touched: Collection[str] = (),
    *,
    width: float = WIDTH,
) -> Markup:
    """Return the front half and the rear half of the structure, both seen from behind, one beside the other where there is room."""
    middle = (min(p.xyz[0] for p in sheet.points) + max(p.xyz[0] for p in sheet.points)) / 2
    halves = (
        View("front", "front half, seen from behind", _from_behind, [p for p in sheet.points if p.xyz[0] >= middle]),
        View("rear", "rear half, seen from behind", _from_behind, [p for p in sheet.points if p.xyz[0] < middle]),
    )
    views = [view for view in halves if view.points]
    rings = _ringed(selected, touched)
    return _page(sheet, judged, factor, rings, link, views, "Ends", placed or {}, width, ends_on=True)


def _ringed(selected: str | None, touched: Collection[str]) -> frozenset[str]:
    return frozenset(touched) | ({selected} if selected else frozenset())


def _from_above(p: Row3) -> tuple[float, float]:
    return -p[0], p[1]


def _from_side(p: Row3) -> tuple[float, float]:
    return -p[0], -p[2]


def _from_behind(p: Row3) -> tuple[float, float]:
    return -p[1], -p[2]


def _long_views(sheet: Sheet, units: Units) -> list[View]:
    right = [p for p in sheet.points if p.xyz[1] < 0]
    left = [p for p in sheet.points if p.xyz[1] >= 0]
    views = [View("plan", "seen from above", _from_above, list(sheet.points))]
    if right:
        views.append(View("right", "right side, seen through from the left", _from_side, right))
    if left:
        views.append(View("left", "left side", _from_side, left))
    own = [view._replace(units=units) for view in views]
    return [*own[:-1], own[-1]._replace(ticks=True)]


def _bounds(view: View, pad: float) -> tuple[tuple[float, float], tuple[float, float]]:
    flat = [view.flat(point.xyz) for point in view.points]
    low = (min(u for u, _ in flat) - pad, min(v for _, v in flat) - pad)
    high = (max(u for u, _ in flat) + pad, max(v for _, v in flat) + pad)
    if view.key != "plan":
        low, high = (low[0], min(low[1], -pad)), (high[0], max(high[1], pad / 2))
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
    page: float,
    *,
    ends_on: bool = False,
) -> Markup:
    beside = ends_on and page >= NARROW
    margin = _END_MARGIN if ends_on else _MARGIN if page >= NARROW else _NARROW_MARGIN
    below = (_BETWEEN_ENDS if ends_on else _BETWEEN) + _TITLE_DOWN
    pad, scale = _PAD_MM, 0.0
    for _ in range(2):  # what is small on the page still has room for its codes round it
        bounds = [_bounds(view, pad) for view in views]
        widths = [high[0] - low[0] for low, high in bounds]
        heights = [high[1] - low[1] for low, high in bounds]
        if beside:
            scale = min((page - 2 * margin - _END_GAP) / sum(widths), (_TALLEST - below) / max(heights))
        else:
            scale = min((page - 2 * margin) / max(widths), (_TALLEST - below * len(views)) / sum(heights))
        pad = max(_PAD_MM, _PAD_PX / scale)
    left_most = min(low[0] for low, _ in bounds)
    drawn, left, top = [], margin, _TITLE_DOWN + 6
    for view, (low, _), width, height in zip(views, bounds, widths, heights, strict=True):
        origin = low if ends_on else (left_most, low[1])
        frame = _Frame(left, top, origin, scale)
        drawn.append(_view(sheet, judged, factor, ringed, link, view, frame, (width * scale, height * scale), placed))
        if beside:
            left += width * scale + _END_GAP
        else:
            top += height * scale + below
    total = (max(heights) * scale + below + 12) if beside else top + 4
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="structure" role="group" aria-label="{escape(title)}" viewBox="0 0 {page:g} {total:.0f}" '
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
    labels = _labels(view, frame, shown, ways, factor, size)
    link = escape(link)
    parts += [_point(p, judged, factor, ringed, link, ways[p.code], labels.get(p.code, "")) for p in order]
    return f'<g class="view view-{view.key}"><title>{escape(view.title)}</title>{"".join(parts)}</g>'


def _grid(view: View, frame: _Frame, size: tuple[float, float]) -> str:
    """Return the datum lines of a view, the stations that have room for their figures, and its title above it."""
    width, height = size
    bottom = frame.top + height
    parts = []
    long = view.key in ("plan", "right", "left")
    if long:
        low = frame.low[0]
        right_edge = max(view.flat(p.xyz)[0] for p in view.points) + _PAD_MM
        unit = float(MM_PER[view.units])
        steps = (step for step in _STEPS[view.units] if step * unit * frame.scale >= _TICK_ROOM)
        step = next(steps, _STEPS[view.units][-1])
        first, last = math.ceil(low / unit / step) * step, math.floor(right_edge / unit / step) * step
        for station in range(first, last + 1, step):
            x, _ = frame.place((station * unit, 0))
            kind = "zero" if station == 0 else "station"
            parts.append(f'<path class="{kind}" d="M{x:.1f} {frame.top:.1f}V{bottom:.1f}"/>')
            if view.ticks:
                words = f"{-station:+d}" if station else f"0 {view.units}"
                at = max(x, frame.left + _TICK_ROOM / 2 - 4)
                parts.append(f'<text class="tick" x="{at:.1f}" y="{bottom + _TICK_DOWN:.1f}">{words}</text>')
    else:
        x, _ = frame.place((0, 0))
        parts.append(f'<path class="zero" d="M{x:.1f} {frame.top:.1f}V{bottom:.1f}"/>')
        for x, words in ((frame.left + 8, "left"), (frame.left + width - 8, "right")):
            anchor = "start" if words == "left" else "end"
            parts.append(f'<text class="tick side {anchor}" x="{x:.1f}" y="{bottom + 14:.1f}">{words}</text>')
    _, datum = frame.place((0, 0))
    if frame.top <= datum <= bottom + 1:
        parts.append(f'<path class="datum" d="M{frame.left:.1f} {datum:.1f}h{width:.1f}"/>')
    at = frame.left if long else frame.left - _END_MARGIN + 8
    parts.append(
        f'<text class="note" x="{at + 2:.1f}" y="{frame.top - 4:.1f}">{escape(_title(view, frame, size))}</text>'
    )
    return "".join(parts)


def _title(view: View, frame: _Frame, size: tuple[float, float]) -> str:
    """Return the title of a view, with the plane that its long line stands for."""
    _, datum = frame.place((0, 0))
    if view.key not in ("plan", "right", "left") or not frame.top <= datum <= frame.top + size[1] + 1:
        return view.title
    return f"{view.title}, on the {'centre' if view.key == 'plan' else 'datum'} plane"


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
        fitting = (run for other_side, run in runs if side == other_side and all(_apart(own, other) for other in run))
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
    at, judgement = placed.get(point.code), judged.get(point.code)
    if at is None or judgement is None or judgement.expanded is None:
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
    if all(judgement.expanded[k] < _SMALL_SHARE * limits[k] for k in axes):
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


def _labels(
    view: View,
    frame: _Frame,
    points: list[Point],
    ways: Mapping[str, _Way],
    factor: float,
    size: tuple[float, float],
) -> dict[str, str]:
    """Return the code beside each point: above or below it along the vehicle, clear of all squares as they stand and as drawn
    moved, and of other codes; outward and spread apart at the ends."""
    if view.key not in ("plan", "right", "left"):
        return _labels_outward(view, frame, points)
    edge = Box(0.0, max(frame.top - _BETWEEN - 6, 0.0), 2 * frame.left + size[0], frame.top + size[1] + 2)
    standing = Labels(
        edge, [text_box(Spot(frame.left, frame.top - 4, "start"), _title(view, frame, size), _NOTE_PX, IN_WORDS)]
    )
    for x, y, dx, dy in ways.values():
        standing.keep_off(round_mark(x, y, _MARK_HALF))
        standing.keep_off(round_mark(x + dx * factor, y + dy * factor, _MARK_HALF))
    labels = {}
    for point in sorted(points, key=lambda p: (-p.xyz[0], -p.xyz[2])):
        x, y, dx, dy = ways[point.code]
        at = x + dx * factor, y + dy * factor
        up = view.key != "plan" or point.xyz[1] < 0
        highest, lowest = min(y, at[1]) - 12, max(y, at[1]) + 21
        ups = [highest - k * _LABEL_STEP for k in range(_LABEL_STEPS)]
        downs = [lowest + k * _LABEL_STEP for k in range(_LABEL_STEPS)]
        own, other = (ups, downs) if up else (downs, ups)
        near = [Spot(x + by, own[0]) for by in _ASIDE] + [Spot(at[0] + by, own[0]) for by in _ASIDE]
        beside = [Spot(u + by, v + 5, anchor) for u, v in (at, (x, y)) for by, anchor in _SIDES]
        far = [Spot(x + by, row) for pair in zip(own[1:], other[1:], strict=True) for row in pair for by in _ASIDE]
        across = [Spot(x + by, other[0]) for by in _ASIDE]
        spot = standing.put(point.code, _CODE_PX, [*near, *across, *far[: len(_ASIDE)], *beside, *far])
        foot = spot.y + 4 if spot.y < y else spot.y - 12
        off = spot.y < highest - 1 or spot.y > lowest + 1
        leader = f'<path class="leader" d="M{at[0]:.1f} {at[1]:.1f}L{spot.x:.1f} {foot:.1f}"/>' if off else ""
        css = "code" if spot.anchor == "middle" else f"code {spot.anchor}"
        labels[point.code] = (
            f'{leader}<text class="{css}" x="{spot.x:.1f}" y="{spot.y:.1f}">{escape(point.code)}</text>'
        )
    return labels


def _labels_outward(view: View, frame: _Frame, points: list[Point]) -> dict[str, str]:
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
    judgement = judged.get(code)
    return judgement.deviation if judgement and judgement.state != "unread" else None


def _state(judged: Judged, code: str) -> State:
    """Return how a point stands; what is not read is never drawn as fair."""
    return judged[code].state if code in judged else "unread"
