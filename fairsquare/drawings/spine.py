"""A job's spine, lying down and small, for the floor."""

from collections.abc import Sequence

from markupsafe import Markup, escape

_WIDTH = 310.0
_Y = 18.0


def lying_spine(stops: Sequence[tuple[str, str, str]]) -> Markup:
    """Return the spine of `stops`, each (station or hold, title, done, now or todo), the current one named."""
    step = _WIDTH / max(len(stops), 1)
    parts = [f'<path class="l-line" d="M8 {_Y}H{_WIDTH - 4:.0f}"/>']
    named = ""
    for index, (kind, title, status) in enumerate(stops):
        x = step * (index + 0.5)
        if kind == "hold":
            parts.append(f'<path class="l-hold {status}" d="M{x - 2.5:.1f} {_Y - 13}h5v26h-5z"/>')
        else:
            half = 8.0 if status == "now" else min(5.0, step / 2 - 2)
            parts.append(
                f'<path class="l-stop {status}" d="M{x - half:.1f} {_Y - half}h{2 * half}v{2 * half}h{-2 * half}z"/>'
            )
        if status == "now":
            at = min(max(x, 46.0), _WIDTH - 58)
            named = f'<text class="l-name" x="{at:.0f}" y="{_Y + 33}">{escape(title)}</text>'
    words = next((title for _, title, status in stops if status == "now"), "done")
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="lying-spine" viewBox="0 0 {_WIDTH:.0f} 58" role="img" aria-label="at: {escape(words)}">'
        f"{''.join(parts)}{named}</svg>"
    )
