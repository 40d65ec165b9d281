"""Where to start on the coupon: electrode or wire, and amperes, by the thinnest neighbour.

Common practice, no source, from memory: a start to be tried on the coupon, never a setting to weld with.
"""

from typing import NamedTuple

from fairsquare.core.weld.settings import ArcMethod, Metal


class StartingPoint(NamedTuple):
    """Up to which thickness, mm: wire, rod or electrode, how thick, mm, amperes from and to, and a word on it."""

    up_to_mm: float
    electrode: str
    across_mm: float
    amperes: tuple[int, int]
    words: str = ""


_TOO_HOT = "Set it by the thinnest sheet: too hot an electrode blows through it."
MAG_STEEL = (
    StartingPoint(0.8, "wire", 0.6, (35, 50), _TOO_HOT),
    StartingPoint(1.2, "wire", 0.6, (50, 75), _TOO_HOT),
    StartingPoint(1.6, "wire", 0.8, (70, 95)),
    StartingPoint(2.5, "wire", 0.8, (90, 130)),
    StartingPoint(4.0, "wire", 1.0, (120, 170)),
    StartingPoint(6.0, "wire", 1.0, (150, 210), "Bevel the edge, weld in passes."),
    StartingPoint(100.0, "wire", 1.2, (180, 250), "Bevel the edge, weld in passes."),
)
ROD_STEEL = (
    StartingPoint(2.0, "rod", 2.0, (40, 60), _TOO_HOT),
    StartingPoint(3.0, "rod", 2.5, (60, 90)),
    StartingPoint(5.0, "rod", 3.2, (90, 130)),
    StartingPoint(100.0, "rod", 4.0, (130, 180), "Bevel the edge, weld in passes."),
)
TIG_STEEL = (
    StartingPoint(1.0, "tungsten", 1.6, (25, 50)),
    StartingPoint(2.0, "tungsten", 1.6, (50, 90)),
    StartingPoint(100.0, "tungsten", 2.4, (90, 160)),
)
MIG_ALUMINIUM = (
    StartingPoint(1.2, "pulsed wire", 1.0, (40, 65), "The filler is the maker's for this alloy."),
    StartingPoint(2.0, "pulsed wire", 1.0, (65, 100), "The filler is the maker's for this alloy."),
    StartingPoint(3.0, "wire", 1.2, (100, 130), "The filler is the maker's for this alloy."),
    StartingPoint(100.0, "wire", 1.2, (130, 200), "The filler is the maker's for this alloy."),
)
_TABLES: dict[tuple[Metal, str], tuple[StartingPoint, ...]] = {
    ("steel", "mag"): MAG_STEEL,
    ("steel", "flux_cored"): MAG_STEEL,
    ("steel", "mma"): ROD_STEEL,
    ("steel", "tig"): TIG_STEEL,
    ("aluminium", "mig"): MIG_ALUMINIUM,
}


def starting_point(metal: Metal, method: ArcMethod, thinnest_mm: float) -> StartingPoint | None:
    """Return where to start on the coupon, or None where no usual start is known for that metal and method."""
    table = _TABLES.get((metal, method), ())
    return next((row for row in table if thinnest_mm <= row.up_to_mm), None)
