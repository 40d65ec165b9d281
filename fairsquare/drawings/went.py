"""How jobs went, drawn: points first and last, hours sold against worked, what was waited for, and a shop's past job by job."""

import math
from collections.abc import Callable, Sequence
from typing import NamedTuple

from markupsafe import Markup, escape

from fairsquare.core.measure.conformity import State
from fairsquare.drawings.sign import HALF, marks, square
from fairsquare.job.went import WentHours, WentPoint

WIDTH, _FIGURES, _TOP = 500.0, 94.0, 26.0
_NARROW = 460.0
_MOST_POINTS, _MOST_ROWS, _LETTERS = 12, 16, 25


class _Rows(NamedTuple):
    """Where rows stand: each its name beside what is drawn, or above it where the page is narrow."""

    width: float
    left: float
    row: float

    def middle(self, k: int) -> float:
        return _TOP + self.row * (k + 0.5) + (9.0 if self.narrow else 0.0)

    def along(self, share: float) -> float:
        return self.left + (self.width - self.left - _FIGURES) * share

    @property
    def narrow(self) -> bool:
        return self.width < _NARROW

    def name(self, words: str, y: float) -> str:
        if self.narrow:
            return f'<text class="w-name" x="0" y="{y - 14:.1f}">{escape(words)}</text>'
        short = words if len(words) <= _LETTERS else words[: _LETTERS - 1] + "…"
        return f'<text class="w-name" x="{self.left - 14}" y="{y + 5:.1f}" text-anchor="end">{escape(short)}</text>'

    def drawn(
        self, parts: Sequence[str], rows: int, label: str, *, home: str = "", home_at: float | None = None
    ) -> Markup:
        high = _TOP + self.row * rows + 8
        at = self.left if home_at is None else home_at
        anchor = ' text-anchor="start"' if self.narrow and home_at is None else ""
        head = f'<text class="w-home" x="{at:.1f}" y="{_TOP - 10}"{anchor}>{escape(home)}</text>' if home else ""
        line = f'<path class="w-zero" d="M{self.left} {_TOP - 4}V{high - 6:.1f}"/>' if home_at is None else ""
        return Markup(  # noqa: S704 - every text in it is escaped
            f'<svg class="went" viewBox="0 0 {self.width:g} {high:g}" role="img" aria-label="{escape(label)}">'
            f"{line}{head}{''.join(parts)}</svg>"
        )


def _rows(width: float) -> _Rows:
    return _Rows(width, 178.0, 30.0) if width >= _NARROW else _Rows(width, 8.0, 50.0)


class DotRow(NamedTuple):
    """A row of dots: its name, a value for each job, and what is to be expected of the next, low to high, or nothing."""

    name: str
    values: Sequence[float]
    expected: tuple[float, float, float] | None


def first_and_last(points: Sequence[WentPoint], figure: Callable[[float], str], width: float = WIDTH) -> Markup | None:
    """Return how far points were off when they were first read and last, the farthest first; `figure` writes mm."""
    on = _rows(width)
    shown = sorted(points, key=lambda point: -point.first_mm)[:_MOST_POINTS]
    if not shown:
        return None
    most = max(max(row.first_mm, row.last_mm) for row in shown) or 1.0
    parts = []
    for k, row in enumerate(shown):
        y = on.middle(k)
        first, last = on.along(row.first_mm / most), on.along(row.last_mm / most)
        parts.append(
            f'{on.name(row.code, y)}<path class="w-way" d="M{first:.1f} {y:.1f}H{last:.1f}"/>'
            f'<g class="sign {_state(row.first)} w-first">{marks(_state(row.first), first, y)}</g>'
            f'<g class="sign {_state(row.last)}">{marks(_state(row.last), last, y)}</g>'
            f'<text class="w-figure" x="{width:g}" y="{y + 5:.1f}" text-anchor="end">{escape(figure(row.first_mm))} → '
            f"{escape(figure(row.last_mm))}</text>"
        )
    return on.drawn(parts, len(shown), f"{len(shown)} points, how far off first and last", home="where it belongs")


def hours_by_operation(rows: Sequence[WentHours], width: float = WIDTH) -> Markup | None:
    """Return hours sold (outline) against worked (solid) by operation, the longest first."""
    on = _rows(width)
    shown = sorted(rows, key=lambda row: -max(row.sold_h, row.worked_h))[:_MOST_ROWS]
    most = max((max(row.sold_h, row.worked_h) for row in shown), default=0.0)
    if not most:
        return None
    parts = []
    for k, row in enumerate(shown):
        y = on.middle(k)
        sold, worked = on.along(row.sold_h / most) - on.left, on.along(row.worked_h / most) - on.left
        over = " over" if row.worked_h > row.sold_h + 0.05 else ""
        parts.append(
            f'{on.name(row.name, y)}<rect class="w-worked{over}" x="{on.left}" y="{y - 6:.1f}" width="{worked:.1f}" height="12"/>'
            f'<rect class="w-sold" x="{on.left}" y="{y - 9:.1f}" width="{max(sold, 0.1):.1f}" height="18"/>'
            f'<text class="w-figure" x="{width:g}" y="{y + 5:.1f}" text-anchor="end">{row.sold_h:.1f} / {row.worked_h:.1f} h</text>'
        )
    return on.drawn(parts, len(shown), f"{len(shown)} operations, hours sold and worked")


def hours_waited(rows: Sequence[tuple[str, float, int]], width: float = WIDTH) -> Markup | None:
    """Return hours of the clock waited, longest first: what for, hours, how often."""
    on = _rows(width)
    shown = sorted(rows, key=lambda row: -row[1])[:_MOST_ROWS]
    most = max((hours for _, hours, _ in shown), default=0.0)
    if not shown:
        return None
    parts = []
    for k, (name, hours, times) in enumerate(shown):
        y, often = on.middle(k), f", {times}×" if times > 1 else ""
        wide = on.along(hours / most) - on.left if most else 0.0
        words = f"{hours / 24:.1f} days" if hours >= 24 else f"{hours:.1f} h" if hours >= 1 else f"{60 * hours:.0f} min"
        parts.append(
            f'{on.name(name, y)}<rect class="w-wait" x="{on.left}" y="{y - 7:.1f}" width="{max(wide, 1):.1f}" height="14"/>'
            f'<text class="w-figure" x="{width:g}" y="{y + 5:.1f}" text-anchor="end">{words}{often}</text>'
        )
    return on.drawn(parts, len(shown), f"{len(shown)} things waited for")


def job_by_job(rows: Sequence[DotRow], usual: str, width: float = WIDTH) -> Markup | None:
    """Return what each job showed, as a number of times the usual on a scale of logarithms, and what is expected of the next."""
    on = _rows(width)
    if not rows:
        return None
    every = [value for row in rows for value in row.values] + [
        end for row in rows if row.expected for end in row.expected
    ]
    reach = max(math.log(2.0), *(abs(math.log(max(value, 0.05))) for value in every))

    def at(value: float) -> float:
        return on.along(0.5 + 0.5 * math.log(max(value, 0.05)) / reach)

    parts = [f'<path class="w-usual" d="M{at(1.0):.1f} {_TOP}V{_TOP + on.row * len(rows):.1f}"/>']
    for k, row in enumerate(rows):
        y = on.middle(k)
        parts.append(on.name(row.name, y))
        figure = ""
        if row.expected:
            low, mean, high = row.expected
            parts.append(
                f'<rect class="w-next" x="{at(low):.1f}" y="{y - 9:.1f}" width="{at(high) - at(low):.1f}" height="18"/>'
                f'<path class="w-mean" d="M{at(mean):.1f} {y - 11:.1f}v22"/>'
            )
            figure = f"× {mean:.2f}"
        parts += [f'<path class="w-dot" d="{square(at(value), y, HALF - 1)}"/>' for value in row.values]
        parts.append(f'<text class="w-figure" x="{width:g}" y="{y + 5:.1f}" text-anchor="end">{figure}</text>')
    return on.drawn(parts, len(rows), f"{len(rows)} kinds, job by job, times {usual}", home=usual, home_at=at(1.0))


def _state(state: str) -> State:
    return state if state in ("fair", "close", "off") else "unread"  # type: ignore[return-value]
