"""How the Heron is measured by hand: what gauges, line, level, tape and tram would read of it, with their noise, as calls."""

from collections.abc import Iterator

import numpy as np

from fairsquare.job.measure.tools import ToolKind
from fairsquare.stand_ins.vehicles import Floats

SOUND = ("C2L", "C2R", "C3L", "C3R", "R1L", "R1R")
"""The stations of the Heron behind the cab mounts, away from the wheel that dropped."""
TOOLS: tuple[tuple[str, ToolKind, float, dict[str, float]], ...] = (
    ("Long tram", "tram", 1.0, {"from_mm": 400.0, "to_mm": 2600.0, "pointer_mm": 350.0}),
    ("Steel tape, 8 m", "tape", 1.5, {"to_mm": 8000.0}),
    ("Set of four gauges", "gauges", 1.0, {"pin_mm": 12.0}),
    ("Slipway laser", "line", 1.0, {}),
    ("Water level and rod", "level", 1.0, {}),
    ("Framing square, 600 mm", "square", 0.5, {}),
    ("3-D instrument", "instrument", 0.3, {}),
    ("Reference bar, 1 m", "bar", 0.01, {"length_mm": 1000.02}),
)
_LINE = {"l0": 4.0, "l1": 0.002, "c0": 210.0, "c1": 0.003, "c2": -0.002}
_SLIP = ("F2R", "C1L", 27.0)
"""One tram reading of the demo is 27 mm wrong: a pointer that slipped."""


class ByHand:
    """One person with hand tools at one vehicle; `places` are where its points truly are."""

    def __init__(self, places: dict[str, Floats], seed: int) -> None:
        self._places, self._random = places, np.random.default_rng(seed)

    def on_sound_frame(self) -> Iterator[str]:
        """Yield the calls by which the sound points are checked against one another: gauges, then cross spans."""
        for station in ("C2", "C3", "R1"):
            yield self.gauge(station)
        for a, b in (("C2L", "C3R"), ("C2R", "C3L"), ("C3L", "R1R"), ("C3R", "R1L"), ("C2L", "C3L"), ("C2R", "C3R")):
            yield self.span(a, b)

    def ahead(self) -> Iterator[str]:
        """Yield the calls by which the front of the frame is read, as far as it has come."""
        for station in ("C1", "F1", "F2", "F3"):
            yield self.gauge(station)
        for station in ("C2", "C3", "C1", "F1", "F2"):
            for side in ("L", "R"):
                yield self.height(station + side)
                yield self.offset(station + side)
        for a, b in (("C1L", "C2R"), ("C1R", "C2L"), ("C1L", "C2L"), ("C1R", "C2R")):
            yield self.span(a, b)
        for code in ("F1L", "F1R", "F2L", "F2R"):
            for end in ("C1L", "C1R", "C2L" if code.endswith("L") else "C2R"):
                yield self.span(code, end)

    def gauge(self, station: str) -> str:
        """Return a gauge hung on both rails at a station, as called."""
        left, right = self._places[station + "L"], self._places[station + "R"]
        middle = (left + right) / 2
        pin = middle[1] - (_LINE["l0"] + _LINE["l1"] * middle[0]) + self._random.normal(0, 1.0)
        level = (left[2] - right[2]) - _LINE["c2"] * (left[1] - right[1]) + self._random.normal(0, 1.0)
        return (
            f"gauge {station}L {station}R pin {_whole(abs(pin))} {'left' if pin > 0 else 'right'} "
            f"level {_whole(abs(level))} {'left' if level > 0 else 'right'} high arms 120 120"
        )

    def height(self, code: str) -> str:
        """Return a height by the water level, as called."""
        x, y, z = self._places[code]
        return f"{code} {z - (_LINE['c0'] + _LINE['c1'] * x + _LINE['c2'] * y) + self._random.normal(0, 1.0):.0f} high"

    def offset(self, code: str) -> str:
        """Return an offset from the laser, as called."""
        x, y, _ = self._places[code]
        mm = y - (_LINE["l0"] + _LINE["l1"] * x) + self._random.normal(0, 1.0)
        return f"{code} {abs(mm):.0f} {'left' if mm > 0 else 'right'}"

    def span(self, a: str, b: str) -> str:
        """Return a span by the tram, as called."""
        slip = _SLIP[2] if (a, b) == _SLIP[:2] else 0.0
        mm = float(np.linalg.norm(self._places[a] - self._places[b])) + slip + self._random.normal(0, 1.0)
        return f"{a} {b} {mm:.0f}"


def _whole(mm: float) -> str:
    return f"{mm:.0f}"
