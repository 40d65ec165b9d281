"""A tool's checks on the reference bar, one behind the other: what it read too much or too little, with the limits of each."""

from collections.abc import Sequence
from typing import NamedTuple

from markupsafe import Markup, escape

from fairsquare.core.measure.bar_check import ACT, WARN, ToolChecked
from fairsquare.core.measure.calibration import check_said
from fairsquare.core.measure.conformity import State
from fairsquare.drawings.sign import marks, prism
from fairsquare.words.said import METRIC, Reader
from fairsquare.words.tell import tell

_WIDE, _HIGH, _LEFT, _TOP, _FOOT = 760.0, 250.0, 64.0, 26.0, 34.0
_FEWEST_PLACES = 6
_SIGN: dict[str, State] = {"good": "fair", "again": "close", "bad": "off"}


class Checked(NamedTuple):
    """A check in the history: its day, how it came out, whether it was taken back; or a calibration, with nothing read."""

    day: str
    found: ToolChecked | None
    taken_back: bool = False


def tool_history(checks: Sequence[Checked], reader: Reader = METRIC) -> Markup | None:
    """Return the chart, oldest at the left, mm; None where nothing was checked. Long is up."""
    read = [check.found for check in checks if check.found is not None]
    if not read:
        return None
    most = max(
        max(abs(check.error_mm) + 0.2 * ACT * check.error_sigma_mm, 1.15 * ACT * check.error_sigma_mm) for check in read
    )
    middle, per_mm = (_TOP + _HIGH - _FOOT) / 2, (_HIGH - _FOOT - _TOP) / 2 / most
    step = (_WIDE - _LEFT - 30) / max(len(checks), _FEWEST_PLACES)
    parts, labels_each = [], max(1, round(84 / step + 0.49))
    for k, checked in enumerate(checks):
        x = _LEFT + step * (k + 0.5)
        if checked.found is None:
            parts.append(
                f'<g class="th-calibrated"><path d="M{x:.1f} {_TOP}V{_HIGH - _FOOT}"/>'
                f'<text x="{x:.1f}" y="{_TOP - 8}" text-anchor="middle">calibrated</text></g>'
            )
        else:
            parts.append(_check(checked.found, x, middle, per_mm, step, taken_back=checked.taken_back))
        if k % labels_each == 0 or k == len(checks) - 1:
            parts.append(
                f'<text class="th-day" x="{x:.1f}" y="{_HIGH - 8}" text-anchor="middle">{escape(checked.day)}</text>'
            )

    def figure(mm: float) -> str:
        return f"{mm:+.2f}" if reader.units == "mm" else f"{mm / 25.4:+.3f}"

    for mm in (_nice(most), 0.0, -_nice(most)):
        y = middle - mm * per_mm
        parts.append(
            f'<path class="th-line{"" if mm else " nought"}" d="M{_LEFT} {y:.1f}H{_WIDE - 20}"/>'
            f'<text class="th-mm" x="{_LEFT - 8}" y="{y + 5:.1f}" text-anchor="end">{figure(mm)}</text>'
            if mm
            else f'<path class="th-line nought" d="M{_LEFT} {y:.1f}H{_WIDE - 20}"/>'
            f'<text class="th-mm" x="{_LEFT - 8}" y="{y + 5:.1f}" text-anchor="end">bar</text>'
        )
    label = f"{len(read)} checks on the bar; the last {tell(check_said(read[-1]), reader)}"
    return Markup(  # noqa: S704 - numbers, days that are escaped, and words of our own
        f'<svg class="tool-history" viewBox="0 0 {_WIDE:g} {_HIGH:g}" role="img" aria-label="{escape(label)}">'
        f"{''.join(parts)}</svg>"
    )


def _check(found: ToolChecked, x: float, middle: float, per_mm: float, step: float, *, taken_back: bool) -> str:
    half = min(step * 0.36, 26)
    bands = "".join(
        f'<rect class="th-{name}" x="{x - half:.1f}" y="{middle - k * found.error_sigma_mm * per_mm:.1f}" '
        f'width="{2 * half:.1f}" height="{2 * k * found.error_sigma_mm * per_mm:.1f}"/>'
        for name, k in (("act", ACT), ("warn", WARN))
    )
    y, state = middle - found.error_mm * per_mm, _SIGN[found.verdict]
    body = marks(state, x, y)
    if state == "off":
        body = f'<path class="s-prism" d="{prism((x, middle), (x, y))}"/>' + body
    gone = f'<path class="th-gone" d="M{x - 9:.1f} {y - 9:.1f}l18 18m0 -18l-18 18"/>' if taken_back else ""
    scatter = found.scatter_mm * per_mm
    return (
        f'<g class="sign {state}">{bands}<path class="th-scatter" d="M{x:.1f} {y - scatter:.1f}V{y + scatter:.1f}"/>'
        f"{body}{gone}</g>"
    )


def _nice(most: float) -> float:
    """Return a round number of mm that lies within the chart."""
    for size in (5.0, 2.0, 1.0, 0.5, 0.2, 0.1, 0.05, 0.02):
        if size <= 0.85 * most:
            return size
    return 0.01
