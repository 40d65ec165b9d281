"""The drill map: a flange in plan, vehicle above and donor below, every weld with its number and the sign of what is done to it."""

from collections.abc import Callable, Sequence
from html import escape
from itertools import pairwise

from markupsafe import Markup

from fairsquare.core.cut.lines import Whose
from fairsquare.core.cut.section import WeldSaid
from fairsquare.core.cut.working import MARKS, MappedWeld, Mark, Step

WIDTH = 900.0
_LEFT, _ROW, _NAMED = 120.0, 64.0, 24.0
_NARROW = 600.0
_NEAREST = 46.0
_MOST, _EDGE = 15, 30.0
_SIZE = 12.0


def mark_sign(mark: Mark) -> Markup:
    """Return the sign of a mark by itself, for a legend or a list."""
    return Markup(  # noqa: S704 - a shape of ours
        f'<svg class="mark-sign" viewBox="-15 -15 30 30" width="30" height="30" aria-hidden="true">{_shape(mark)}</svg>'
    )


def _shape(mark: Mark) -> str:
    r = _SIZE
    return {
        "drill": f'<circle class="ring" r="{r:g}"/><circle class="solid" r="4"/>',
        "flat": f'<circle class="ring" r="{r:g}"/><path class="solid" d="M-{r:g} 0A{r:g} {r:g} 0 0 1 {r:g} 0z"/>',
        "grind": '<rect class="solid" x="-12" y="-5.5" width="24" height="11"/>',
        "plug_hole": '<circle class="hole" r="9"/>',
        "never": '<rect class="stop" x="-12" y="-12" width="24" height="24"/><path class="stop-bar" d="M-7 -2.5h14v5h-14z"/>',
        "leave": '<circle class="dot" r="3.5"/>',
        "rivet": f'<circle class="ring" r="{r:g}"/><path class="cross" d="M-6 -6L6 6M6 -6L-6 6"/>',
        "unbolt": '<path class="ring" d="M-13 0l6.5 -11h13l6.5 11l-6.5 11h-13z"/>',
        "seam": '<path class="wave" d="M-13 0q3.25 -9 6.5 0t6.5 0t6.5 0t6.5 0"/>',
        "cannot": '<path class="warn" d="M0 -13L14 11H-14z"/><path class="warn-bar" d="M0 -5v8M0 6v2.5"/>',
    }[mark]


def bands_of(welds: Sequence[MappedWeld], width: float = WIDTH) -> tuple[tuple[str, tuple[MappedWeld, ...]], ...]:
    """Return the welds in bands that fit beside one another on a page of `width` px: flange by flange, a few at a time."""
    bands, most = [], min(_MOST, int((width - _left(width) - 2 * _EDGE) / _NEAREST) + 1)
    for flange in dict.fromkeys(weld.said.flange for weld in welds):
        own = sorted((weld for weld in welds if weld.said.flange == flange), key=_station)
        many = -(-len(own) // most)
        size = -(-len(own) // many)
        bands += [(flange, tuple(own[k : k + size])) for k in range(0, len(own), size)]
    return tuple(bands)


def _left(width: float) -> float:
    return _LEFT if width >= _NARROW else 0.0


def _station(weld: MappedWeld) -> float:
    return weld.said.at_mm if isinstance(weld.said, WeldSaid) else (weld.said.start + weld.said.end) / 2


def drill_drawing(
    welds: Sequence[MappedWeld],
    is_done: Callable[[Whose, str], bool],
    titles: tuple[str, str],
    *,
    at: tuple[Whose, str] | None = None,
    link: Callable[[Whose, str], str] | None = None,
    width: float = WIDTH,
) -> Markup:
    """Return one band of a flange: the vehicle's row, the donor's row. `at` is the weld that is next; `link` where each leads.

    `width`: of the page it is laid out for, px; where it is narrow the rows are named above them, not beside.
    """
    left = _left(width)
    named = 0.0 if left else _NAMED
    xs = _places([_station(weld) for weld in welds], left + _EDGE, width - _EDGE)
    across = [weld.said.across_mm if isinstance(weld.said, WeldSaid) else 0.0 for weld in welds]
    middle = (min(across) + max(across)) / 2
    wide = max(max(across) - min(across), 1.0)
    parts = []
    rows: tuple[tuple[Whose, float], ...] = (("vehicle", 8.0 + named), ("donor", 8.0 + 2 * named + _ROW + 42.0))
    for (whose, top), title in zip(rows, titles, strict=True):
        beside, below = (0.0, 45.0) if left else (70.0, -7.0)
        parts.append(f'<text class="row-name" x="0" y="{top + (26.0 if left else -7.0):.0f}">{whose}</text>')
        parts.append(f'<text class="row-what" x="{beside:.0f}" y="{top + below:.0f}">{escape(title)}</text>')
        parts.append(f'<rect class="flange" x="{left:g}" y="{top:g}" width="{width - left:g}" height="{_ROW:g}"/>')
        for weld, x, off in zip(welds, xs, across, strict=True):
            y = top + _ROW / 2 - (off - middle) / wide * 18
            parts.append(_weld(weld.step(whose), whose, x, y, top, done=is_done(whose, weld.said.id), at=at, link=link))
    height = rows[1][1] + _ROW + 26
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="drill-drawing" role="{"group" if link else "img"}" aria-label="Drill map, vehicle above and donor below" '
        f'viewBox="0 0 {width:g} {height:g}">{"".join(parts)}</svg>'
    )


def _places(stations: Sequence[float], low: float, high: float) -> list[float]:
    """Return where each weld is drawn, from `low` to `high` px: to scale along the flange, evenly where some would touch."""
    first, last = min(stations), max(stations)
    if last - first < 1e-6 or len(stations) == 1:
        return [low + (high - low) * (k + 0.5) / len(stations) for k in range(len(stations))]
    xs = [low + (at - first) / (last - first) * (high - low) for at in stations]
    touching = any(b - a < _NEAREST for a, b in pairwise(xs))
    return [low + (high - low) * k / (len(xs) - 1) for k in range(len(xs))] if touching else xs


def _weld(
    step: Step,
    whose: Whose,
    x: float,
    y: float,
    top: float,
    *,
    done: bool,
    at: tuple[Whose, str] | None,
    link: Callable[[Whose, str], str] | None,
) -> str:
    here = " next" if at == (whose, step.weld) else ""
    under = '<path class="stop-under" d="M-12 17h24"/>' if step.never and step.mark != "never" else ""
    name = f"{step.weld}{' ✓' if done else ''}"
    title = f"<title>{escape(step.weld)}: {escape(step.words)}</title>"
    own = (
        f'<g class="weld {step.mark}{" done" if done else ""}{here}">{title}'
        f'<g transform="translate({x:.1f} {y:.1f})">{_shape(step.mark)}{under}</g>'
        f'<text class="weld-name" x="{x:.1f}" y="{top + _ROW + 19:.0f}">{escape(name)}</text></g>'
    )
    if link is None or not step.work:
        return own
    label = f"Weld {step.weld}, {whose}: {MARKS[step.mark]}"
    return f'<a href="{escape(link(whose, step.weld))}" aria-label="{escape(label)}">{own}</a>'
