"""The steps of a bonding job against the working times of what is open in them, as one drawing."""

from markupsafe import Markup, escape

from fairsquare.core.weld.timeline import TimelineFound

_WIDTH, _LEFT, _ROW, _TOP = 860.0, 170.0, 34.0, 10.0


def timeline_drawing(found: TimelineFound) -> Markup:
    """Return steps as bars in a row, under each product its working time (frame), its use (bar) and when it is cured (tick)."""
    ends = [found.finish_min, *(one.opened_min + one.open_min for one in found.products.values())]
    longest = max([1.0, *(end for end in ends if end < 4 * max(found.finish_min, 1.0))])

    def x(minutes: float) -> float:
        return _LEFT + min(minutes, longest) / longest * (_WIDTH - _LEFT - 70)

    parts, y = [], _TOP
    for step in found.steps:
        wide = max(x(step.end_min) - x(step.start_min), 2.0)
        late = f", at the latest at {step.latest_start_min:.0f}" if step.latest_start_min is not None else ""
        parts.append(
            f'<text class="name" x="0" y="{y + 20:.0f}">{escape(step.id)}</text>'
            f'<rect class="step" x="{x(step.start_min):.1f}" y="{y + 4:.0f}" width="{wide:.1f}" height="22"/>'
            f'<text class="note" x="{x(step.end_min) + 6:.1f}" y="{y + 20:.0f}">'
            f"{step.start_min:.0f} to {step.end_min:.0f} min{late}</text>"
        )
        y += _ROW
    y += 8
    for name, one in found.products.items():
        kind = "fits" if one.fits else "late"
        wide = max(x(one.closed_min) - x(one.opened_min), 2.0)
        frame = max(x(one.opened_min + one.open_min) - x(one.opened_min), 2.0)
        cured = f'<path class="cured" d="M{x(one.cured_min):.1f} {y + 1:.0f}v28"/>' if one.cured_min is not None else ""
        words = f"{one.used_min:.0f} of {one.open_min:.0f} min" + (
            f", cured at {one.cured_min:.0f}" if one.cured_min is not None else ""
        )
        parts.append(
            f'<text class="name" x="0" y="{y + 20:.0f}">{escape(name)}</text>'
            f'<rect class="frame" x="{x(one.opened_min):.1f}" y="{y + 3:.0f}" width="{frame:.1f}" height="24"/>'
            f'<rect class="use {kind}" x="{x(one.opened_min):.1f}" y="{y + 8:.0f}" width="{wide:.1f}" height="14"/>{cured}'
            f'<text class="note" x="{min(x(one.opened_min) + max(frame, wide) + 8, _WIDTH - 190):.1f}" y="{y + 20:.0f}">'
            f"{words}</text>"
        )
        y += _ROW
    label = "The steps one after the other, and under them how long each product is workable and used"
    return Markup(  # noqa: S704 - names are escaped
        f'<svg class="timeline" role="img" aria-label="{label}" viewBox="0 0 {_WIDTH:g} {y + 6:.0f}">{"".join(parts)}</svg>'
    )
