"""The face of a vehicle: its panels by where their gaps and hinges are, gaps drawn wider than they are, those that are out marked.

A panel is drawn in the view in which it is widest: from the left, the right, above, the front or the rear.
"""

from collections.abc import Mapping, Sequence
from html import escape
from typing import NamedTuple

import numpy as np
from markupsafe import Markup
from scipy.spatial import ConvexHull, QhullError

from fairsquare.core.fit.said import WAYS, FitSaid
from fairsquare.core.model import Row3
from fairsquare.core.structure.frame import Floats
from fairsquare.drawings.labels import Box, Labels, Spot, round_mark
from fairsquare.job.facts.setup import Stand
from fairsquare.job.fit.face import outline
from fairsquare.job.fit.job import GapState, gap_fits
from fairsquare.words.lengths import Units, measure

WIDTH, WIDER = 560.0, 4.0
"""Px, and px that a mm of gap is drawn wide."""
_MARGIN, _TALLEST, _HEAD, _TEXT = 62.0, 300.0, 46.0, 15.0
_BAR = 13.0
View = str
_VIEWS: dict[View, tuple[int, float, int, float]] = {
    "from the left": (0, -1.0, 2, -1.0),
    "from the right": (0, 1.0, 2, -1.0),
    "from above": (0, -1.0, 1, 1.0),
    "from the front": (1, 1.0, 2, -1.0),
    "from the rear": (1, -1.0, 2, -1.0),
}
"""Which axis runs to the right and which down, with their signs."""


class _Laid(NamedTuple):
    """A view on the page: where its places are put, and the room that it takes."""

    view: View
    low: tuple[float, float]
    scale: float
    top: float
    height: float
    width: float

    def flat(self, place: Row3) -> tuple[float, float]:
        return _flat(self.view, place)

    def at(self, place: Row3) -> tuple[float, float]:
        u, v = self.flat(place)
        return _MARGIN + (u - self.low[0]) * self.scale, self.top + _HEAD + (v - self.low[1]) * self.scale


def face_drawing(
    fit: FitSaid,
    states: Sequence[GapState],
    stand: Stand,
    moved: Sequence[str],
    *,
    units: Units = "mm",
    width: float = WIDTH,
) -> Markup:
    """Return the panels that have hinges with the gaps as read on rack or wheels; `moved` are those that are to be loosened.

    `width` (px, at most 560) is that of the page it is laid out for. Empty where no panel has three places that span an outline.
    """
    outlines = {panel.name: outline(fit, panel) for panel in fit.panels if panel.hinges}
    outlines = {name: at for name, at in outlines.items() if len(at) >= 3}
    views = {name: _view_of(at) for name, at in outlines.items()}
    width = min(width, WIDTH)
    parts, top = [], 0.0
    seen = {view: {name: at for name, at in outlines.items() if views[name] == view} for view in _VIEWS}
    scale = min((_fitting(view, own, width) for view, own in seen.items() if own), default=1.0)
    for view, own in seen.items():
        if own:
            laid = _laid(view, own, top, scale)._replace(width=width)
            parts += _drawn(laid, own, [s for s in states if _shown(s, own, views, view)], stand, moved, units)
            top = laid.top + laid.height
    if not parts:
        return Markup()
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="face-drawing" role="img" aria-label="The panels and their gaps" viewBox="0 0 {width:g} {top:.0f}">'
        f"{''.join(parts)}</svg>"
    )


def _view_of(places: Sequence[Row3]) -> View:
    """Return the view in which places are widest."""
    at = np.array(places)
    thin = int(np.argmin(np.ptp(at, axis=0)))
    if thin == 0:
        return "from the front" if float(at[:, 0].mean()) > 0 else "from the rear"
    if thin == 1:
        return "from the left" if float(at[:, 1].mean()) > 0 else "from the right"
    return "from above"


def _flat(view: View, place: Row3) -> tuple[float, float]:
    right, right_sign, down, down_sign = _VIEWS[view]
    return right_sign * place[right], down_sign * place[down]


def _shown(state: GapState, own: Mapping[str, object], views: Mapping[str, View], view: View) -> bool:
    """Say whether a gap is drawn in a view: in that of its own panel, where that is drawn, else of its neighbour."""
    said = state.said
    if said is None or said.at == (0.0, 0.0, 0.0):
        return False
    panel = said.panel if said.panel in views else said.beside
    return panel in own and views[panel] == view


def _ends(view: View, own: Mapping[str, Sequence[Row3]]) -> tuple[Floats, Floats]:
    """Return the least and the greatest of the places of panels in a view (2)."""
    flat = np.array([_flat(view, place) for at in own.values() for place in at])
    return flat.min(axis=0), np.maximum(flat.max(axis=0), flat.min(axis=0) + 1.0)


def _fitting(view: View, own: Mapping[str, Sequence[Row3]], width: float) -> float:
    """Return the largest scale at which a view fits, px a mm: all views have the same."""
    low, high = _ends(view, own)
    return float(min((width - 2 * _MARGIN) / (high - low)[0], _TALLEST / (high - low)[1]))


def _laid(view: View, own: Mapping[str, Sequence[Row3]], top: float, scale: float) -> _Laid:
    low, high = _ends(view, own)
    tall = float((high - low)[1]) * scale
    return _Laid(view, (float(low[0]), float(low[1])), scale, top + _TEXT, tall + 2 * _HEAD + 14.0, WIDTH)


def _drawn(
    laid: _Laid,
    own: Mapping[str, Sequence[Row3]],
    states: Sequence[GapState],
    stand: Stand,
    moved: Sequence[str],
    units: Units,
) -> list[str]:
    parts = [f'<text class="view-title" x="8" y="{laid.top + 2:.0f}">{laid.view}</text>']
    texts = Labels(Box(0.0, laid.top + 4.0, laid.width, laid.top + laid.height + 4.0))
    for state in states:
        if state.said:
            texts.keep_off(round_mark(*laid.at(state.said.at), _BAR))
    names = []
    for name, places in own.items():
        flat = np.array([laid.at(place) for place in places])
        try:
            corners = flat[ConvexHull(flat).vertices]
        except QhullError:
            continue
        x, y = corners.mean(axis=0)
        inner = corners + ((x, y) - corners) * 0.06
        points = " ".join(f"{a:.1f},{b:.1f}" for a, b in inner)
        kind = "loosen" if name in moved else "alone"
        parts.append(f'<polygon class="face-panel {kind}" points="{points}"/>')
        names.append((name, kind, float(x), float(y)))
    for name, kind, x, y in names:
        words = f"{name}: loosen" if kind == "loosen" else name
        spot = texts.put(words, 17.0, [Spot(x, y + by) for by in (6, -18, 30, -42, 54)])
        parts.append(f'<text class="panel-name {kind}" x="{spot.x:.1f}" y="{spot.y:.1f}">{escape(words)}</text>')
    for state in states:
        parts += _gap(laid, state, stand, texts, units)
    return parts


def _gap(laid: _Laid, state: GapState, stand: Stand, texts: Labels, units: Units) -> list[str]:
    """Return a gap as two bars, as far apart as it is wide times some, or a ring for flushness, with its figure where it is out."""
    said, read = state.said, state.read(stand)
    if said is None:
        return []
    x, y = laid.at(said.at)
    if read is None or read.stale:
        return [f'<circle class="gap unread" cx="{x:.1f}" cy="{y:.1f}" r="5"/>']
    fits = gap_fits(read)
    kind = "fair" if fits else "off"
    way = np.array(_flat(laid.view, WAYS[said.way]))
    parts = []
    if said.flush or not way.any():
        parts.append(f'<circle class="gap {kind}" cx="{x:.1f}" cy="{y:.1f}" r="7"/>')
    else:
        half, along = WIDER * max(read.mm, 0.0) / 2, np.array([-way[1], way[0]]) * _BAR
        for sign in (-1.0, 1.0):
            a, b = (x, y) + sign * half * way - along, (x, y) + sign * half * way + along
            parts.append(f'<path class="gap {kind}" d="M{a[0]:.1f} {a[1]:.1f}L{b[0]:.1f} {b[1]:.1f}"/>')
    if not fits:
        word = (
            ("high" if read.mm > read.target_mm else "low")
            if said.flush
            else ("wide" if read.mm > read.target_mm else "tight")
        )
        words = f"{'+' if read.mm > read.target_mm else '−'}{measure(abs(read.mm - read.target_mm), units)} {word}"
        spots = [Spot(x + aside, y + by) for by in (-22, 34, -40, 52, -58, 70) for aside in (0.0, -46.0, 46.0)]
        spot = texts.put(words, _TEXT, spots)
        parts.append(f'<text class="gap-words off" x="{spot.x:.1f}" y="{spot.y:.1f}">{escape(words)}</text>')
    return parts
