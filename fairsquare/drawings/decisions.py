"""The structure from above, each member hatched and lettered by what is done with it: never by colour alone."""

from collections.abc import Sequence
from html import escape
from urllib.parse import urlencode

from markupsafe import Markup

from fairsquare.core.damage.choices import CHOICES, LETTERS, MemberState
from fairsquare.core.damage.job import units_of
from fairsquare.core.sheet.model import Point, Sheet

WIDTH, HEIGHT, _MARGIN, _HALF = 700.0, 210.0, 46.0, 11.0


def decisions_drawing(sheet: Sheet, states: Sequence[MemberState], chosen: str, link: str) -> Markup:
    """Return the members as bars from above, front at the left; a letter says what is done, a dotted bar that nothing is."""
    xs, ys = [p.xyz[0] for p in sheet.points], [p.xyz[1] for p in sheet.points]
    along = (WIDTH - 2 * _MARGIN) / max(max(xs) - min(xs), 1.0)
    across = (HEIGHT - 2 * _MARGIN) / max(max(ys) - min(ys), 1.0)

    def flat(point: Point) -> tuple[float, float]:
        return _MARGIN + (max(xs) - point.xyz[0]) * along, _MARGIN + (point.xyz[1] - min(ys)) * across

    by_member: dict[str, list[MemberState]] = {}
    for state in states:
        by_member.setdefault(state.member, []).append(state)
    parts = [
        _bar(unit, [flat(point) for point in points], by_member.get(unit, []), unit == chosen, link)
        for unit, points in units_of(sheet).items()
    ]
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="decisions" role="group" aria-label="What is done with each member" viewBox="0 0 {WIDTH:g} {HEIGHT:g}">'
        '<defs><pattern id="hatch-off" width="7" height="7" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">'
        '<path class="d-hatch off" d="M0 0V7"/></pattern><pattern id="hatch-work" width="9" height="9" '
        'patternUnits="userSpaceOnUse"><path class="d-hatch work" d="M0 4.5H9"/></pattern></defs>'
        f'<path class="datum" d="M10 {_MARGIN + (0 - min(ys)) * across:.1f}H{WIDTH - 10:g}"/>{"".join(parts)}</svg>'
    )


def _bar(unit: str, places: list[tuple[float, float]], own: Sequence[MemberState], chosen: bool, link: str) -> str:
    left, right = min(x for x, _ in places) - _HALF, max(x for x, _ in places) + _HALF
    middle = sum(y for _, y in places) / len(places)
    decided = [state.decision.decision for state in own if state.decision and not state.open]
    kinds = {
        "off"
        if one in ("section", "replace_at_seams", "straighten_then_replace")
        else "keep"
        if one == "keep"
        else "work"
        for one in decided
    }
    open_ = len(decided) < len(own) or not own
    css = "open" if open_ else "off" if "off" in kinds else "work" if "work" in kinds else "keep"
    letters = " ".join(LETTERS[one] for one in decided) if decided else "·"
    words = ", ".join(f"{state.name}: {CHOICES[state.decision.decision]}" for state in own if state.decision)
    name = words or f"{unit}: not decided"
    short = unit.removeprefix("left ").removeprefix("right ")
    top = middle - _HALF
    label_y = middle - 17 if middle < HEIGHT / 2 else middle + 29
    return (
        f'<a class="d-member {css}{" chosen" if chosen else ""}" href="{escape(link)}?{escape(urlencode({"member": unit}))}" '
        f'aria-label="{escape(f"{letters} {short}: {name}")}"><title>{escape(name)}</title>'
        f'<rect x="{left:.1f}" y="{top:.1f}" width="{right - left:.1f}" height="{2 * _HALF:g}"/>'
        f'<rect class="d-fill" x="{left:.1f}" y="{top:.1f}" width="{right - left:.1f}" height="{2 * _HALF:g}"/>'
        f'<text x="{(left + right) / 2:.1f}" y="{label_y:.1f}"><tspan class="d-letter">{escape(letters)}</tspan> '
        f"{escape(short)}</text></a>"
    )
