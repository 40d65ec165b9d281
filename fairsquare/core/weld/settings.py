"""Settings of a weld by process, metal and thickness: sizes, heat, and what the steel's composition asks for.

The maker's procedure and a test coupon come first.
"""

import math
from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Model

Above0 = Annotated[float, Field(gt=0, le=1e9)]
WeldProcess = Literal["squeeze", "plug", "seam"]
Metal = Literal["steel", "aluminium"]
ArcMethod = Literal["mag", "mig", "mma", "flux_cored", "tig", "plasma", "submerged"]

EFFICIENCY: dict[ArcMethod, float] = {
    "mag": 0.8,
    "mig": 0.8,
    "mma": 0.8,
    "flux_cored": 0.8,
    "tig": 0.6,
    "plasma": 0.6,
    "submerged": 1.0,
}
"""How much of an arc's power goes into the metal: EN 1011-1, from memory."""
SQUEEZED_MM = (0.4, 3.0)
_SMALL_HOLE_UNDER, _LARGE_HOLE_OVER = 0.8, 1.6


class Arc(Model):
    """An arc: its power, and for a plug how long it burns, for a seam how fast it goes (and over which length)."""

    method: ArcMethod
    volts: Above0
    amperes: Above0
    seconds: Above0 | None = None
    speed_mm_s: Above0 | None = None
    length_mm: Above0 | None = None


Share = Annotated[float, Field(ge=0, le=100)]


class Composition(Model):
    """What is in a steel, in per cent of its mass."""

    c: Share = 0.0
    mn: Share = 0.0
    cr: Share = 0.0
    mo: Share = 0.0
    v: Share = 0.0
    ni: Share = 0.0
    cu: Share = 0.0


class WeldSettings(Model):
    """A weld: two or three sheets from the side that is welded, mm; the arc where there is one; the steel's composition."""

    process: WeldProcess
    metal: Metal
    thickness_mm: Annotated[tuple[Above0, ...], Field(strict=False, min_length=2, max_length=3)]
    arc: Arc | None = None
    composition: Composition | None = None
    hydrogen_ml_100g: Above0 = 5.0


class SettingsFound(Model):
    """Sizes in mm, heat, carbon equivalents and preheat; null where a figure does not apply."""

    governing_mm: float
    tip_mm: float | None
    weld_mm: float | None
    weld_least_mm: float | None
    hole_mm: float | None
    heat_input_kj_mm: float | None
    energy_j: float | None
    ce: float | None
    cet: float | None
    preheat_c: float | None
    preheat_valid: bool | None


def weld_settings(request: WeldSettings) -> SettingsFound:
    """Say how large a weld is made and how much heat goes in: ISO 14373, EN 1011-1 and EN 1011-2 method B, all from memory.

    Hole sizes of plugs are common practice, no source. Raises `Refused` for an arc with squeeze, seconds for a seam or a speed for
    a plug, a composition of aluminium, aluminium squeezed, sheets that are not squeezed.
    """
    _check(request)
    governing = sorted(request.thickness_mm)[len(request.thickness_mm) // 2 if len(request.thickness_mm) == 3 else 0]
    squeezed = request.process == "squeeze"
    root = math.sqrt(governing)
    heat, energy = _heat(request)
    ce, cet = _equivalents(request.composition)
    preheat = None if heat is None or cet is None else _preheat(cet, max(request.thickness_mm), request, heat)
    return SettingsFound(
        governing_mm=governing,
        tip_mm=5 * root if squeezed else None,
        weld_mm=5 * root if squeezed else None,
        weld_least_mm=3.5 * root if squeezed else None,
        hole_mm=_hole(request.thickness_mm[0]) if request.process == "plug" else None,
        heat_input_kj_mm=heat,
        energy_j=energy,
        ce=ce,
        cet=cet,
        preheat_c=preheat,
        preheat_valid=None if preheat is None or heat is None or cet is None else _valid(request, cet, heat),
    )


def _check(request: WeldSettings) -> None:
    if request.metal == "aluminium" and request.composition is not None:
        raise Refused("Carbon equivalents are of steel: leave the composition out.", field="composition", value=None)
    if request.process == "squeeze":
        _check_squeezed(request)
    elif request.arc is not None:
        _check_arc(request.process, request.arc)


def _check_squeezed(request: WeldSettings) -> None:
    if request.metal == "aluminium":
        words = "Aluminium is not squeeze-welded with these rules: follow the maker."
        raise Refused(words, field="metal", value="aluminium")
    if request.arc is not None:
        raise Refused("A squeeze-type weld has no arc: leave it out.", field="arc", value=request.arc.method)
    low, high = SQUEEZED_MM
    for index, mm in enumerate(request.thickness_mm):
        if not low <= mm <= high:
            raise Refused(f"Sheets of {low:g} mm to {high:g} mm are squeezed.", field=f"thickness_mm.{index}", value=mm)


def _check_arc(process: WeldProcess, arc: Arc) -> None:
    if process == "plug":
        if arc.speed_mm_s is not None or arc.length_mm is not None:
            raise Refused("A plug has seconds, not a speed or a length.", field="arc.speed_mm_s", value=arc.speed_mm_s)
        if arc.seconds is None:
            raise Refused("How many seconds does the arc burn in a plug?", field="arc.seconds", value=None)
        return
    if arc.seconds is not None:
        raise Refused("A seam has a speed, not seconds.", field="arc.seconds", value=arc.seconds)
    if arc.speed_mm_s is None:
        raise Refused("How fast does the arc go along the seam, in mm a second?", field="arc.speed_mm_s", value=None)


def _heat(request: WeldSettings) -> tuple[float | None, float | None]:
    arc = request.arc
    if arc is None:
        return None, None
    power = EFFICIENCY[arc.method] * arc.volts * arc.amperes
    if arc.seconds is not None:
        return None, power * arc.seconds
    if arc.speed_mm_s is None:
        return None, None
    along = power / arc.speed_mm_s
    return along / 1000, None if arc.length_mm is None else along * arc.length_mm


def _hole(top: float) -> float:
    return 6.0 if top < _SMALL_HOLE_UNDER else 8.0 if top <= _LARGE_HOLE_OVER else 10.0


def _equivalents(of: Composition | None) -> tuple[float | None, float | None]:
    if of is None:
        return None, None
    ce = of.c + of.mn / 6 + (of.cr + of.mo + of.v) / 5 + (of.ni + of.cu) / 15
    cet = of.c + (of.mn + of.mo) / 10 + (of.cr + of.cu) / 20 + of.ni / 40
    return ce, cet


def _preheat(cet: float, thickest: float, request: WeldSettings, heat: float) -> float:
    hydrogen = 62 * math.pow(request.hydrogen_ml_100g, 0.35)
    return 697 * cet + 160 * math.tanh(thickest / 35) + hydrogen + (53 * cet - 32) * heat - 328


def _valid(request: WeldSettings, cet: float, heat: float) -> bool:
    thick, hydrogen = max(request.thickness_mm), request.hydrogen_ml_100g
    return 0.2 <= cet <= 0.5 and 10 <= thick <= 90 and 1 <= hydrogen <= 20 and 0.5 <= heat <= 4
