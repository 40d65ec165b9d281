"""The vehicle from above with what was seen at the walk-round, numbered where it is; a touch on it says where the next one is."""

from collections.abc import Sequence
from html import escape

from markupsafe import Markup

from fairsquare.core.sheet.model import Sheet
from fairsquare.drawings.labels import Anchor, Box, Labels, Spot, round_mark
from fairsquare.job.facts.walk_round import WalkFact
from fairsquare.job.intake.walk_round import KINDS

WIDTH, _SHARE, _MARGIN = 700.0, 0.377, 20.0
_LENGTH_MM, _WIDTH_MM = 4600.0, 1800.0
_OVERHANG_MM, _FLANK_MM = 350.0, 280.0
_APART, _NOTE_PX = 27.0, 15.0


def walk_drawing(
    sheet: Sheet | None, findings: Sequence[WalkFact], photos: dict[int, int], width: float = WIDTH
) -> Markup:
    """Return the vehicle from above, front at the left, with numbered findings; `photos` counts those of each finding.

    `width`: of the page it is laid out for, px.
    """
    height = max(width * _SHARE, 190.0)
    xs = [p.xyz[0] for p in sheet.points] if sheet and sheet.points else [-_LENGTH_MM / 2, _LENGTH_MM / 2]
    ys = [abs(p.xyz[1]) for p in sheet.points] if sheet and sheet.points else [_WIDTH_MM / 2 - _FLANK_MM]
    front, rear, half = max(xs) + _OVERHANG_MM, min(xs) - _OVERHANG_MM, max(ys) + _FLANK_MM
    scale = min((width - 2 * _MARGIN) / (front - rear), (height - 2 * _MARGIN) / (2 * half))
    left, top = (width - (front - rear) * scale) / 2, (height - 2 * half * scale) / 2

    def flat(x: float, y: float) -> tuple[float, float]:
        return left + (front - x) * scale, top + (y + half) * scale

    (x0, y0), (x1, y1) = flat(front, -half), flat(rear, half)
    nose = 0.06 * (x1 - x0)
    parts = [
        f'<path class="v-body" d="M{x0 + nose:.1f} {y0:.1f}H{x1 - 10:.1f}q10 0 10 10V{y1 - 10:.1f}q0 10 -10 10H{x0 + nose:.1f}'
        f'L{x0:.1f} {y1 - nose:.1f}V{y0 + nose:.1f}z"/>',
        f'<path class="datum" d="M{x0 - 14:.1f} {(y0 + y1) / 2:.1f}H{x1 + 14:.1f}"/>',
    ]
    if sheet:
        parts += [
            f'<circle class="w-point" cx="{u:.1f}" cy="{v:.1f}" r="2.2"/>'
            for u, v in (flat(*p.xyz[:2]) for p in sheet.points)
        ]
    placed: list[tuple[float, float]] = []
    for number, seen in enumerate(findings, start=1):
        if seen.xy is None:
            continue
        home = flat(*seen.xy)
        at = _free(home, placed)
        placed.append(at)
        name = f"{number}: {KINDS[seen.kind]}, {seen.said}" + (
            f", {photos[seen.id]} photos" if photos.get(seen.id) else ""
        )
        parts.append(
            f'<a class="w-mark" href="#seen-{seen.id}" aria-label="{escape(name)}"><title>{escape(name)}</title>'
            f'<path class="w-lead" d="M{home[0]:.1f} {home[1]:.1f}L{at[0]:.1f} {at[1]:.1f}"/>'
            f'<rect x="{at[0] - 12:.1f}" y="{at[1] - 12:.1f}" width="24" height="24"/>'
            f'<text x="{at[0]:.1f}" y="{at[1] + 5.5:.1f}">{number}</text></a>'
        )
    texts = Labels(Box(x0, y0, x1, y1), [round_mark(*at, 13.0) for at in placed])
    middle = (y0 + y1) / 2
    for words, rows in (("front", (middle - 6, middle + 17)), ("right", (y0 + 20,)), ("left", (y1 - 10,))):
        ends = (x0 + 12.0, x0 + 60.0) if words == "front" else (x1 - 12.0, x1 - 64.0, (x0 + x1) / 2, x0 + 80.0)
        anchor: Anchor = "start" if words == "front" else "end"
        spot = texts.put(words, _NOTE_PX, [Spot(x, y, anchor) for x in ends for y in rows])
        parts.append(f'<text class="v-note" x="{spot.x:.1f}" y="{spot.y:.1f}" text-anchor="{anchor}">{words}</text>')
    parts.append('<path class="w-here" hidden d=""/>')
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="walk" role="group" aria-label="The vehicle from above" viewBox="0 0 {width:g} {height:.0f}" '
        f'data-front="{front:g}" data-half="{half:g}" data-scale="{scale:.6f}" data-left="{left:.3f}" '
        f'data-top="{top:.3f}">{"".join(parts)}</svg>'
    )


def _free(home: tuple[float, float], placed: Sequence[tuple[float, float]]) -> tuple[float, float]:
    """Return a place for a number near its home that no other number stands on."""
    for ring in range(8):
        for dx, dy in ((0, -1), (0, 1), (1, 0), (-1, 0), (1, -1), (-1, 1)) if ring else ((0, 0),):
            at = (home[0] + dx * ring * _APART, home[1] + dy * ring * _APART)
            if all(abs(at[0] - x) >= _APART or abs(at[1] - y) >= _APART for x, y in placed):
                return at
    return home
