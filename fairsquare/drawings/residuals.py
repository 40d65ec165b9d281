"""The reference points from above, with what is left over of each after the fit, drawn larger than it is."""

from markupsafe import Markup, escape

from fairsquare.core.measure.setup import SetupFit
from fairsquare.core.sheet.model import Sheet
from fairsquare.drawings.labels import Box, Labels, Spot, round_mark

WIDTH, _HEIGHT, _MARGIN = 560.0, 270.0, 56.0
_LONGEST_PX, _CODE_PX = 44.0, 14.0


def residuals_drawing(sheet: Sheet, fit: SetupFit, width: float = WIDTH) -> Markup | None:
    """Return the drawing, or None where nothing was fitted. The largest trusted residual is 44 px, others to its scale. `width`: of
    the page it is laid out for, px."""
    points = [point for point in sheet.points if point.code in fit.residuals]
    if not points:
        return None
    xs, ys = [-p.xyz[0] for p in points], [p.xyz[1] for p in points]
    scale = min((width - 2 * _MARGIN) / max(max(xs) - min(xs), 1), (_HEIGHT - 2 * _MARGIN) / max(max(ys) - min(ys), 1))
    largest = max((max(abs(v) for v in fit.residuals[code]) for code in fit.trusted), default=1.0)
    factor = _LONGEST_PX / max(largest, 0.6)
    left = (width - (max(xs) - min(xs)) * scale) / 2
    top = (_HEIGHT - (max(ys) - min(ys)) * scale) / 2
    places = [(left + (u - min(xs)) * scale, top + (v - min(ys)) * scale) for u, v in zip(xs, ys, strict=True)]
    texts = Labels(Box(0.0, 0.0, width, _HEIGHT - 24), [round_mark(x, y, 7.0) for x, y in places])
    parts = []
    for point, (x, y) in zip(points, places, strict=True):
        dx, dy, dz = fit.residuals[point.code]
        trusted = point.code in fit.trusted
        reach = min(1.0, 70 / max(abs(dx), abs(dy), 1e-9) / factor)
        end = (x - dx * factor * reach, y + dy * factor * reach)
        up = -dz * factor * min(1.0, 70 / max(abs(dz), 1e-9) / factor)
        kind = "trusted" if trusted else "suspect"
        ups, downs = [y - 14 - 15 * k for k in range(4)], [y + 26 + 15 * k for k in range(4)]
        rows = ups + downs if point.xyz[1] < 0 else downs + ups
        spot = texts.put(point.code, _CODE_PX, [Spot(x + by, row) for row in rows for by in (0.0, 14.0, -14.0)])
        cross = "" if trusted else f'<path class="r-cross" d="M{x - 9:.1f} {y - 9:.1f}l18 18m0 -18l-18 18"/>'
        parts.append(
            f'<g class="residual {kind}"><path class="r-height" d="M{x + 10:.1f} {y:.1f}v{up:.1f}"/>'
            f'<path class="r-level" d="M{x:.1f} {y:.1f}L{end[0]:.1f} {end[1]:.1f}"/>'
            f'<path class="s-frame" d="M{x - 5.5:.1f} {y - 5.5:.1f}h11v11h-11z"/>{cross}'
            f'<text class="code" x="{spot.x:.1f}" y="{spot.y:.1f}">{escape(point.code)}</text></g>'
        )
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="residuals" viewBox="0 0 {width:g} {_HEIGHT:g}" role="img" '
        f'aria-label="References from above with what is left over of each" data-factor="{factor:.0f}">'
        f'<path class="datum" d="M20 {top + (0 - min(ys)) * scale:.1f}H{width - 20:g}"/>{"".join(parts)}'
        f'<text class="note" x="12" y="{_HEIGHT - 8:g}">front at the left; dark: level, green: height, drawn ×'
        f"{factor * 1 / scale:.0f}</text></svg>"
    )
