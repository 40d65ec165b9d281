"""The steps of a bonding job against the working times of what is open in them, as one drawing."""

from markupsafe import Markup, escape

from fairsquare.core.weld.timeline import TimelineFound

WIDTH, _LEFT, _ROW, _TOP = 560.0, 196.0, 52.0, 4.0
_NARROW, _NARROW_ROW = 480.0, 78.0


def timeline_drawing(found: TimelineFound, width: float = WIDTH) -> Markup:
    """Return steps as bars, and under them each product's working time (frame) and what of it is used (bar).

    `width`: of the page it is laid out for, px; where it is narrow, bars stand under what is said of them.
    """
    narrow = width < _NARROW
    left, row, down = (4.0, _NARROW_ROW, 42.0) if narrow else (_LEFT, _ROW, 0.0)
    ends = [
        *(step.end_min for step in found.steps),
        *(product.opened_min + product.open_min for product in found.products.values()),
    ]
    longest = max([1.0, *ends])

    def x(minutes: float) -> float:
        return left + min(minutes, longest) / longest * (width - left - 8)

    parts, y = [], _TOP
    for step in found.steps:
        wide = max(x(step.end_min) - x(step.start_min), 3.0)
        late = f", to begin by {step.latest_start_min:.0f}" if step.latest_start_min is not None else ""
        parts.append(
            f'<text class="name" x="0" y="{y + 17:.0f}">{escape(step.id)}</text>'
            f'<rect class="step" x="{x(step.start_min):.1f}" y="{y + down + 2:.0f}" width="{wide:.1f}" height="20"/>'
            f'<text class="note" x="0" y="{y + 38:.0f}">{step.start_min:.0f} to {step.end_min:.0f} min{late}</text>'
        )
        y += row
    for name, timed in found.products.items():
        wide = max(x(timed.closed_min) - x(timed.opened_min), 3.0)
        frame = max(x(timed.opened_min + timed.open_min) - x(timed.opened_min), 3.0)
        cured = f", cured at {timed.cured_min:.0f}" if timed.cured_min is not None else ""
        parts.append(
            f'<path class="rule" d="M0 {y - 5:.0f}H{width:g}"/><text class="name" x="0" y="{y + 17:.0f}">{escape(name)}</text>'
            f'<rect class="frame" x="{x(timed.opened_min):.1f}" y="{y + down + 1:.0f}" width="{frame:.1f}" height="22"/>'
            f'<rect class="use {"fits" if timed.fits else "late"}" x="{x(timed.opened_min):.1f}" y="{y + down + 6:.0f}"'
            f' width="{wide:.1f}" height="12"/>'
            f'<text class="note" x="0" y="{y + 38:.0f}">used {timed.used_min:.0f} of {timed.open_min:.0f} min{cured}</text>'
        )
        y += row
    label = "The steps one after the other, and under them how long each product is workable and used"
    return Markup(  # noqa: S704 - names are escaped
        f'<svg class="timeline" role="img" aria-label="{label}" viewBox="0 0 {width:g} {y + 6:.0f}">{"".join(parts)}</svg>'
    )
