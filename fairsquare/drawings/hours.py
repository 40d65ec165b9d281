"""What a job takes, what was sold and what was worked: three bars to one scale."""

from markupsafe import Markup

_LONG, _HIGH = 420.0, 62.0


def hours_bars(takes_h: float, sold_h: float, worked_h: float) -> Markup:
    """Return the bars, to the scale of the longest, with a mark on each where what the job takes ends."""
    longest = max(takes_h, sold_h, worked_h, 1.0)
    at = _LONG * takes_h / longest
    bars = [
        f'<rect class="h-{name}" x="0" y="{4 + 20 * k}" width="{max(_LONG * hours / longest, 1):.1f}" height="14"/>'
        for k, (name, hours) in enumerate((("takes", takes_h), ("sold", sold_h), ("worked", worked_h)))
    ]
    label = f"takes {takes_h:.1f} hours, sold {sold_h:.1f}, worked {worked_h:.1f}"
    return Markup(  # noqa: S704 - numbers and words of our own
        f'<svg class="hours-bars" viewBox="0 0 {_LONG + 2:.0f} {_HIGH:.0f}" role="img" aria-label="{label}">'
        f'{"".join(bars)}<path class="h-mark" d="M{at:.1f} 0V{_HIGH:.0f}"/></svg>'
    )
