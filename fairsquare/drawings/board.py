"""The board's scales, was to must-not-pass, and the cycles of a point, before, loaded and after."""

from collections.abc import Mapping, Sequence
from html import escape

from markupsafe import Markup

from fairsquare.core.pull.job import PointCycle
from fairsquare.job.pull.board import WatchedNow
from fairsquare.words.lengths import Units, is_nought, length, signed, size

_WIDTH, _HEIGHT = 560.0, 126.0


def scale_drawing(point: WatchedNow, units: Units = "mm") -> Markup:
    """Return the scale of a watched point: where it was, is, is to be let go, has to end, and must not pass."""
    watched, advice = point.watched, point.advice
    stands = point.cycles[-1].after_mm if point.cycles else watched.was_mm
    marks = [watched.was_mm, watched.target_mm - watched.tolerance_mm, watched.target_mm + watched.tolerance_mm, stands]
    if advice:
        marks.append(advice.must_not_pass_mm)
        if advice.pull_to_mm is not None:
            marks.append(advice.pull_to_mm)
    if point.now_mm is not None:
        marks.append(point.now_mm)
    low, high = min(marks), max(marks)
    room = max(high - low, 1.0)

    def x(mm: float) -> float:
        return 16 + (mm - low) / room * (_WIDTH - 40)

    band = x(watched.target_mm - watched.tolerance_mm), x(watched.target_mm + watched.tolerance_mm)
    here = point.now_mm if point.now_mm is not None else stands
    parts = [
        f'<path class="track" d="M{x(low):.1f} 58H{x(high):.1f}"/>',
        f'<path class="run" d="M{x(watched.was_mm):.1f} 58H{x(here):.1f}"/>',
        f'<path class="was" d="M{x(watched.was_mm):.1f} 42v32"/>',
        f'<text class="was-words" x="{x(watched.was_mm):.1f}" y="98">was {escape(_words(watched.was_mm, units))}</text>',
        f'<path class="fair-band" d="M{band[0]:.1f} 36H{band[1]:.1f}V74H{band[0]:.1f}z"/>',
    ]
    if advice and advice.pull_to_mm is not None:
        at = x(advice.pull_to_mm)
        parts.append(f'<path class="let-go" d="M{at:.1f} 30v56"/>')
        parts.append(
            f'<text class="let-go-words" x="{_inside(at):.1f}" y="20" text-anchor="middle">'
            f"let go at {_words(advice.pull_to_mm, units)}</text>"
        )
    if advice:
        at = x(advice.must_not_pass_mm)
        parts.append(f'<path class="limit" d="M{at:.1f} 24v68"/>')
        parts.append(
            f'<text class="limit-words" x="{min(at, _WIDTH - 6):.1f}" y="124" text-anchor="end">'
            f"must not pass {_words(advice.must_not_pass_mm, units)}</text>"
        )
    parts.append(f'<path class="here" d="M{x(here):.1f} 54l-13 -22h26z"/>')
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="board-scale" role="img" aria-label="{escape(watched.code)} along the pull" '
        f'viewBox="0 0 {_WIDTH:g} {_HEIGHT + 6:g}">'
        f"{''.join(parts)}</svg>"
    )


def _inside(at: float) -> float:
    return min(max(at, 104.0), _WIDTH - 104.0)


def _words(mm: float, units: Units) -> str:
    return size(mm, units) if is_nought(mm, units) else f"{size(mm, units)} {'past' if mm > 0 else 'short'}"


def cycles_drawing(cycles: Mapping[str, Sequence[PointCycle]], units: Units = "mm") -> Markup | None:
    """Return the cycles of each point as steps from before, up to loaded, back to after; none where there are none."""
    known = {code: own for code, own in cycles.items() if own}
    if not known:
        return None
    values = [
        mm
        for own in known.values()
        for cycle in own
        for mm in (cycle.before_mm, cycle.loaded_mm, cycle.after_mm)
        if mm is not None
    ]
    values.append(0.0)
    low, high = min(values), max(values)
    room = max(high - low, 1.0)
    each = 92.0
    longest = max(len(own) for own in known.values())
    width = 150.0 + longest * 96.0
    parts, top = [], 22.0
    for code, own in known.items():

        def y(mm: float, top: float = top) -> float:
            return top + 8 + (high - mm) / room * (each - 26)

        parts.append(f'<text class="code" x="4" y="{top + 20:.0f}">{escape(code)}</text>')
        parts.append(f'<path class="zero" d="M70 {y(0):.1f}H{width - 6:.0f}"/>')
        parts.append(f'<text class="tick" x="66" y="{y(0) + 4:.1f}" text-anchor="end">sheet</text>')
        for k, cycle in enumerate(own):
            left = 80 + 96 * k
            points = [(left, cycle.before_mm), (left + 72, cycle.after_mm)]
            if cycle.loaded_mm is not None:
                points.insert(1, (left + 38, cycle.loaded_mm))
                back = cycle.loaded_mm - cycle.after_mm
                parts.append(
                    f'<circle class="loaded" cx="{left + 38}" cy="{y(cycle.loaded_mm):.1f}" r="4"/>'
                    f'<text class="tick" x="{left + 38}" y="{y(cycle.loaded_mm) - 7:.1f}" text-anchor="middle">'
                    f"{signed(cycle.loaded_mm, units)}, back {length(back, units)}</text>"
                )
            path = "L".join(f"{u:.1f} {y(mm):.1f}" for u, mm in points)
            parts.append(f'<path class="cycle" d="M{path}"/>')
            parts.append(f'<circle class="free" cx="{left + 72}" cy="{y(cycle.after_mm):.1f}" r="4"/>')
        top += each
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="cycles" role="img" aria-label="Cycles: before, loaded, after" '
        f'viewBox="0 0 {width:.0f} {top:.0f}">{"".join(parts)}</svg>'
    )
