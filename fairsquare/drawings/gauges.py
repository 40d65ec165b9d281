"""The row of gauges as seen when one sights down the vehicle from behind: pins and bars, now and as they should be."""

from collections.abc import Sequence
from html import escape
from typing import NamedTuple

from markupsafe import Markup

from fairsquare.core.measure.adjust import SightLine
from fairsquare.core.sheet.model import Sheet, points_by_code
from fairsquare.job.facts.measure import ReadingFact
from fairsquare.job.measure.expected import Part, meaning_of
from fairsquare.job.measure.picture import Picture

WIDTH = 746.0
_TOP, _PIN_UP = 34.0, 28.0
_NARROW, _NAMES, _SAID = 560.0, 106.0, 240.0


class _Row(NamedTuple):
    """How a gauge is laid out: the middle of the page, half a bar's length, a row's height; name and words beside it or not."""

    middle: float
    bar: float
    row: float
    beside: bool


class HungGauge(NamedTuple):
    """One gauge: where it hangs along the vehicle, and its pin and level, mm, left and left-high +; null where not read.

    `pin_off` and `level_off` are the differences from what they should be by the sheet, `rise` how much too high the two
    points hang together, each null where it is not known. `sound` says that it hangs on points that were chosen as sound.
    """

    left: str
    right: str
    x: float
    pin: Part | None
    level: Part | None
    rise: float | None
    sound: bool


def hung_gauges(
    sheet: Sheet, picture: Picture, readings: Sequence[ReadingFact], sight: SightLine | None
) -> list[HungGauge]:
    """Return the gauges that hang now, the foremost first: of each pair of points the last reading."""
    points = points_by_code(sheet)
    last = {frozenset(r.codes): r for r in readings if r.kind == "gauge" and r.b and set(r.codes) <= set(points)}
    hung = []
    for reading in last.values():
        a, b = points[reading.code], points[reading.b or ""]
        parts = {part.name: part for part in meaning_of(sheet, reading, sight).parts}
        level = parts.get("level")
        if level is not None and a.xyz[1] < b.xyz[1]:
            level = level.model_copy(
                update={
                    "read_mm": -level.read_mm,
                    "difference_mm": None if level.difference_mm is None else -level.difference_mm,
                }
            )
        left, right = (a, b) if a.xyz[1] >= b.xyz[1] else (b, a)
        hung.append(
            HungGauge(
                left=left.code,
                right=right.code,
                x=(a.xyz[0] + b.xyz[0]) / 2,
                pin=parts.get("pin"),
                level=level,
                rise=_rise(picture, left.code, right.code),
                sound={left.code, right.code} <= set(picture.relied_on),
            )
        )
    return sorted(hung, key=lambda gauge: -gauge.x)


def gauge_row(gauges: Sequence[HungGauge], factor: float, width: float = WIDTH) -> Markup:
    """Draw the row, the foremost gauge at the top; differences are drawn `factor` times. `width`: of the page, px."""
    beside = width >= _NARROW
    bar = (width - _NAMES - _SAID) / 2 if beside else width / 2 - 34
    on = _Row(_NAMES + bar if beside else width / 2, bar, 84.0 if beside else 150.0, beside)
    height = _TOP + on.row * len(gauges) + 12
    parts = [
        f'<path class="datum" d="M{on.middle:g} 18V{height - 8:.0f}"/>',
        f'<text class="tick" x="{on.middle:g}" y="12">line of sight</text>',
        f'<text class="tick start" x="{on.middle - on.bar:g}" y="12">left</text>',
        f'<text class="tick end" x="{on.middle + on.bar:g}" y="12">right</text>',
    ]
    for number, gauge in enumerate(gauges):
        parts.append(_gauge(gauge, _TOP + on.row * number + (on.row / 2 if beside else 76.0), factor, on))
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg class="gauge-row" role="img" aria-label="Row of gauges seen from behind, differences times {factor:g}" '
        f'viewBox="0 0 {width:g} {height:.0f}">{"".join(parts)}</svg>'
    )


def _gauge(gauge: HungGauge, y: float, factor: float, on: _Row) -> str:
    pin = _clamped((gauge.pin.difference_mm or 0.0) * factor if gauge.pin else 0.0, on.bar - 30)
    tilt = _clamped((gauge.level.difference_mm or 0.0) * factor if gauge.level else 0.0, 34) / 2
    rise = _clamped((gauge.rise or 0.0) * factor, 24)
    state = "off" if any(p is not None and p.outside for p in (gauge.pin, gauge.level)) else "fair"
    x, at = on.middle - pin, y - rise
    name = f"{gauge.left}, {gauge.right}"
    named = y + 5 if on.beside else y - 52
    said_x, said_y = (on.middle + on.bar + 14, y - 8) if on.beside else (6.0, y + 26)
    return (
        f'<g class="gauge {state}{" sound" if gauge.sound else ""}">'
        f'<path class="wanted" d="M{on.middle - on.bar:.1f} {y:.1f}H{on.middle + on.bar:.1f}'
        f'M{on.middle:.1f} {y:.1f}v{-_PIN_UP:g}"/>'
        f'<path class="bar" d="M{on.middle - on.bar:.1f} {at - tilt:.1f}L{on.middle + on.bar:.1f} {at + tilt:.1f}"/>'
        f'<path class="pin" d="M{x:.1f} {at:.1f}v{-_PIN_UP:g}"/>'
        f'<circle class="pin-head" cx="{x:.1f}" cy="{at - _PIN_UP:.1f}" r="5"/>'
        f'<text class="code start" x="6" y="{named:.1f}">{escape(name)}</text>'
        + (f'<text class="tick start" x="6" y="{named + 18:.1f}">on sound frame</text>' if gauge.sound else "")
        + "".join(
            f'<text class="said start" x="{said_x:.0f}" y="{said_y + 20 * row:.1f}">{escape(words)}</text>'
            for row, words in enumerate(_words(gauge))
        )
        + "</g>"
    )


def _words(gauge: HungGauge) -> list[str]:
    notes = []
    for part in (gauge.pin, gauge.level):
        if part is None:
            continue
        if part.difference_mm is None:
            notes.append(f"{part.name} {abs(part.read_mm):.1f} {part.read_word}".strip())
        elif abs(part.difference_mm) < 0.05:
            notes.append(f"{part.name} as it should be")
        else:
            notes.append(f"{part.name} off by {abs(part.difference_mm):.1f} {part.word}".strip())
    if gauge.rise is not None and abs(gauge.rise) >= 0.05:
        notes.append(f"{abs(gauge.rise):.1f} too {'high' if gauge.rise > 0 else 'low'}")
    return notes


def _rise(picture: Picture, left: str, right: str) -> float | None:
    both = [picture.judged[code] for code in (left, right) if code in picture.judged]
    heights = [
        judgement.deviation[2]
        for judgement in both
        if judgement.deviation is not None and judgement.states[2] != "unread"
    ]
    return sum(heights) / 2 if len(heights) == 2 else None


def _clamped(value: float, most: float) -> float:
    return max(-most, min(most, value))
