"""The structure from above, each member hatched and lettered by what is done with it: never by colour alone."""

from collections.abc import Sequence
from html import escape
from urllib.parse import urlencode

from markupsafe import Markup

from fairsquare.core.sheet.model import Point, Sheet
from fairsquare.drawings.labels import Box, Labels, Spot
from fairsquare.job.damage.choices import CHOICES, LETTERS, MemberState
from fairsquare.job.damage.job import units_of

WIDTH, HEIGHT, _MARGIN, _HALF = 700.0, 210.0, 46.0, 11.0
_NARROW, _SIDE, _WORDS_PX = 480.0, 16.0, 15.0


def decisions_drawing(
    sheet: Sheet, states: Sequence[MemberState], chosen: str, link: str, width: float = WIDTH
) -> Markup:
    """Return the members as bars from above, front at the left; a letter says what is done, a dotted bar that nothing is.

    `width`: of the page it is laid out for, px. Where it is narrow only the letters stand at the bars, with names in their titles.
    """
    side = _MARGIN if width >= _NARROW else _SIDE
    xs, ys = [p.xyz[0] for p in sheet.points], [p.xyz[1] for p in sheet.points]
    along = (width - 2 * side) / max(max(xs) - min(xs), 1.0)
    across = (HEIGHT - 2 * _MARGIN) / max(max(ys) - min(ys), 1.0)

    def flat(point: Point) -> tuple[float, float]:
        return side + (max(xs) - point.xyz[0]) * along, _MARGIN + (point.xyz[1] - min(ys)) * across

    by_member: dict[str, list[MemberState]] = {}
    for state in states:
        by_member.setdefault(state.member, []).append(state)
    bars = {unit: [flat(point) for point in points] for unit, points in units_of(sheet).items()}
    texts = Labels(Box(0.0, 0.0, width, HEIGHT), [_box(places) for places in bars.values()])
    parts = [
        _bar(unit, places, by_member.get(unit, []), unit == chosen, link, texts, named=width >= _NARROW)
        for unit, places in bars.items()
    ]
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="decisions" role="group" aria-label="What is done with each member" viewBox="0 0 {width:g} {HEIGHT:g}">'
        '<defs><pattern id="hatch-off" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">'
        '<path class="d-hatch off" d="M0 0V7"/></pattern><pattern id="hatch-work" width="9" height="9" '
        'patternUnits="userSpaceOnUse"><path class="d-hatch work" d="M0 4.5H9"/></pattern></defs>'
        f'<path class="datum" d="M10 {_MARGIN + (0 - min(ys)) * across:.1f}H{width - 10:g}"/>{"".join(parts)}</svg>'
    )


def _box(places: list[tuple[float, float]]) -> Box:
    """Return the bar of a member's points: as long as they reach, at the middle of them."""
    middle = sum(y for _, y in places) / len(places)
    return Box(min(x for x, _ in places) - _HALF, middle - _HALF, max(x for x, _ in places) + _HALF, middle + _HALF)


def _bar(
    unit: str,
    places: list[tuple[float, float]],
    own: Sequence[MemberState],
    chosen: bool,
    link: str,
    texts: Labels,
    *,
    named: bool,
) -> str:
    left, _, right, _ = _box(places)
    middle = sum(y for _, y in places) / len(places)
    decided = [state.decision.decision for state in own if state.decision and not state.open]
    kinds = {
        "off"
        if way in ("section", "replace_at_seams", "straighten_then_replace")
        else "keep"
        if way == "keep"
        else "work"
        for way in decided
    }
    open_ = len(decided) < len(own) or not own
    css = "open" if open_ else "off" if "off" in kinds else "work" if "work" in kinds else "keep"
    letters = " ".join(LETTERS[way] for way in decided) if decided else "·"
    words = ", ".join(f"{state.name}: {CHOICES[state.decision.decision]}" for state in own if state.decision)
    name = words or f"{unit}: not decided"
    short = unit.removeprefix("left ").removeprefix("right ")
    top = middle - _HALF
    words = f"{letters} {short}" if named else letters
    rows = (-17, 29, -33, 45) if middle < HEIGHT / 2 else (29, -17, 45, -33)
    centre = (left + right) / 2
    spots = [Spot(centre + by, middle + row) for row in rows for by in (0.0, -20.0, 20.0)]
    spot = texts.put(words, _WORDS_PX, spots)
    return (
        f'<a class="d-member {css}{" chosen" if chosen else ""}" href="{escape(link)}?{escape(urlencode({"member": unit}))}" '
        f'aria-label="{escape(f"{letters} {short}: {name}")}"><title>{escape(name)}</title>'
        f'<rect x="{left:.1f}" y="{top:.1f}" width="{right - left:.1f}" height="{2 * _HALF:g}"/>'
        f'<rect class="d-fill" x="{left:.1f}" y="{top:.1f}" width="{right - left:.1f}" height="{2 * _HALF:g}"/>'
        f'<text x="{spot.x:.1f}" y="{spot.y:.1f}"><tspan class="d-letter">{escape(letters)}</tspan>'
        f"{f' {escape(short)}' if named else ''}</text></a>"
    )
