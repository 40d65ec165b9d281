"""The gap as a drawn distribution: how often it comes out how wide, by each marking, over the gap that is wanted."""

import numpy as np
from markupsafe import Markup

from fairsquare.core.cut.budget import CutBudget, gap_density

_WIDTH, _HEIGHT, _FOOT = 300.0, 190.0, 152.0
_POINTS = 181


def budget_drawing(own: CutBudget, other: CutBudget | None, own_words: str, other_words: str) -> Markup:
    """Return the density of the gap (thick), and that of another marking (thin), with what the gap may be as a band."""
    low, high = own.limits
    spread = max(3.4 * max(_sigma(reading) for reading in (own, other) if reading is not None), (high - low) * 0.8, 0.5)
    left, right = own.gap - spread, own.gap + spread
    at = np.linspace(left, right, _POINTS)

    def x(mm: float) -> float:
        return 8 + (mm - left) / (right - left) * (_WIDTH - 16)

    drawn = [
        (reading, gap_density(reading, at)) for reading in (own, other) if reading is not None and _sigma(reading) > 0
    ]
    most = max((float(density.max()) for _, density in drawn), default=1.0)
    band = max(low, left), min(high, right)
    parts = [
        f'<rect class="band" x="{x(band[0]):.1f}" y="14" width="{x(band[1]) - x(band[0]):.1f}" height="{_FOOT - 14:.0f}"/>',
        f'<path class="axis" d="M8 {_FOOT}H{_WIDTH - 8}"/>',
    ]
    for reading, density in reversed(drawn):
        points = " ".join(
            f"{x(float(u)):.1f},{_FOOT - float(d) / most * (_FOOT - 30):.1f}" for u, d in zip(at, density, strict=True)
        )
        parts.append(f'<polyline class="{"own" if reading is own else "other"}" points="{points}"/>')
    step = next(s for s in (0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 1e9) if (right - left) / s <= 9)
    tick = np.ceil(left / step) * step
    while tick <= right:
        parts.append(f'<path class="axis" d="M{x(tick):.1f} {_FOOT}v5"/>')
        parts.append(f'<text class="axis-words" x="{x(tick):.1f}" y="{_FOOT + 21}">{tick + 0.0:g}</text>')
        tick = round(tick + step, 9)
    label = f"The gap: {own_words}, thick; {other_words}, thin" if other is not None else f"The gap: {own_words}"
    return Markup(  # noqa: S704 - figures only, words of ours
        f'<svg class="budget-drawing" role="img" aria-label="{label}" viewBox="0 0 {_WIDTH:g} {_HEIGHT:g}">{"".join(parts)}</svg>'
    )


def _sigma(asked: CutBudget) -> float:
    return float(np.sqrt(asked.marks * asked.width**2 / 12 + asked.normal_sigma**2))
