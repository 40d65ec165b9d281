"""Sheet gauge numbers as thickness: steel and aluminium have tables of their own, and the same number is not the same sheet.

Steel: Manufacturers' Standard Gauge, 41.82 lb/ft² for each inch of thickness. Aluminium: American Wire Gauge (Brown & Sharpe),
d = 0.005 in · 92^((36 − n)/39) (ASTM B258). Both from memory.
"""

import re
from typing import Literal, NamedTuple

from fairsquare.core.errors import Refused
from fairsquare.core.lengths import Unit, read_length

INCH_MM = 25.4
STEEL_INCH: dict[int, float] = {
    3: 0.2391,
    4: 0.2242,
    5: 0.2092,
    6: 0.1943,
    7: 0.1793,
    8: 0.1644,
    9: 0.1495,
    10: 0.1345,
    11: 0.1196,
    12: 0.1046,
    13: 0.0897,
    14: 0.0747,
    15: 0.0673,
    16: 0.0598,
    17: 0.0538,
    18: 0.0478,
    19: 0.0418,
    20: 0.0359,
    21: 0.0329,
    22: 0.0299,
    23: 0.0269,
    24: 0.0239,
    25: 0.0209,
    26: 0.0179,
    27: 0.0164,
    28: 0.0149,
}
THINNEST_AWG, THICKEST_AWG = 30, 0
TABLES = {"steel": "Manufacturers' Standard Gauge, steel", "aluminium": "American Wire Gauge, aluminium"}
_GAUGE = re.compile(r"\s*(\d{1,2})\s*(?:ga|gauge|g)\.?\s*", re.IGNORECASE | re.ASCII)


class SheetThickness(NamedTuple):
    """A thickness in mm, and the table it was taken from where a gauge number was said."""

    mm: float
    table: str = ""


def gauge_mm(number: int, metal: Literal["steel", "aluminium"]) -> float:
    """Return the thickness of a gauge number, mm. Raises `Refused` for one that its table does not have."""
    if metal == "steel":
        if number not in STEEL_INCH:
            words = f"Steel sheet has gauge numbers 3 to 28, not {number}."
            raise Refused(words, field="thickness", value=number)
        return STEEL_INCH[number] * INCH_MM
    if not THICKEST_AWG <= number <= THINNEST_AWG:
        raise Refused(f"Aluminium sheet has gauge numbers 0 to 30, not {number}.", field="thickness", value=number)
    return float(0.005 * 92 ** ((36 - number) / 39) * INCH_MM)


def read_thickness(
    text: str, metal: Literal["steel", "aluminium"], unit: Unit = "mm", *, field: str = "thickness"
) -> SheetThickness:
    """Read “1.2”, “0.047 in” or “18 ga” as a thickness. Raises `Refused` that names the field."""
    match = _GAUGE.fullmatch(text)
    if match:
        try:
            return SheetThickness(gauge_mm(int(match[1]), metal), TABLES[metal])
        except Refused as refused:
            raise Refused(refused.title, field=field, value=text[:40]) from None
    mm = float(read_length(text, unit, field=field).mm)
    if not 0 < mm <= 100:
        raise Refused("A sheet is above 0 and up to 100 mm thick.", field=field, value=text[:40])
    return SheetThickness(mm)
