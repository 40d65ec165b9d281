"""A seam as it is planned: its sheets, process and settings, its welds in order, what is watched and what holds the part."""

from collections.abc import Sequence
from functools import lru_cache
from typing import Annotated, Literal, NamedTuple

import numpy as np
from pydantic import Field

from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.model import Code, Many, Millimetres, Model
from fairsquare.core.same import Same
from fairsquare.core.weld.heat import Floats, plate_heat
from fairsquare.core.weld.order import PlannedWeld, WeldedPlate, WeldOrder, WeldsOrdered, weld_order
from fairsquare.core.weld.settings import (
    Arc,
    ArcMethod,
    Composition,
    Metal,
    SettingsFound,
    WeldProcess,
    WeldSettings,
    weld_settings,
)

PROCESSES: dict[WeldProcess, str] = {
    "plug": "plug welds",
    "squeeze": "squeeze-type spot welds",
    "seam": "runs along a seam",
}
METHODS: dict[ArcMethod, str] = {
    "mag": "MAG",
    "mig": "MIG",
    "mma": "rod (MMA)",
    "flux_cored": "flux-cored wire",
    "tig": "TIG",
    "plasma": "plasma",
    "submerged": "submerged arc",
}
PLATES: dict[Metal, tuple[float, float, float]] = {"steel": (45.0, 7850.0, 500.0), "aluminium": (160.0, 2700.0, 900.0)}
"""Conductivity W/mK, density kg/m³, heat capacity J/kgK of usual sheet, near the middle of what heats up. From memory."""
LOSS_W_M2K = 25.0
"""What a sheet in still air loses at each face, at welding heat; from memory, a round figure."""
MOST_WELDED = 60
Gone = Literal["clamp", "hinge", "bolt", "other"]


class JoinWeld(Model):
    """A weld of a seam, mm along and across its drawing; a run along a seam has a length. `stage`: what is inside comes before the
    plate that closes it, so every weld of an earlier stage comes first; `after` names others that do."""

    id: Code
    along_mm: Millimetres
    across_mm: Millimetres = 0.0
    length_mm: Annotated[float, Field(ge=0, le=5000)] = 0.0
    stage: Annotated[int, Field(ge=1, le=9)] = 1
    after: Many[Code] = ()


class Holder(Model):
    """What only holds the part, and may come off once so many welds are in without the fit being proven anew."""

    id: Code
    kind: Gone = "clamp"
    after_welds: Annotated[int, Field(ge=1, le=1000)]


class SeamPlan(Model):
    """A seam: what is welded with what, how, in which limits, and every weld of it.

    `energy_j` and `seconds` of one weld are given where no arc says them. `watch`: points that are looked at while it is welded.
    """

    name: Annotated[str, Field(min_length=1, max_length=120)]
    section: int | None = None
    process: WeldProcess = "plug"
    metal: Metal = "steel"
    sheets_mm: Many[Annotated[float, Field(gt=0, le=100)]] = (1.0, 1.0)
    sheets_said: str = ""
    method: ArcMethod | None = None
    volts: Annotated[float, Field(gt=0, le=1e3)] | None = None
    amperes: Annotated[float, Field(gt=0, le=1e4)] | None = None
    seconds: Annotated[float, Field(gt=0, le=1e4)] | None = None
    speed_mm_s: Annotated[float, Field(gt=0, le=1e3)] | None = None
    energy_j: Annotated[float, Field(gt=0, le=1e9)] | None = None
    composition: Composition | None = None
    hydrogen_ml_100g: Annotated[float, Field(gt=0, le=100)] = 5.0
    maker: str = ""
    filler: str = ""
    ambient_c: Annotated[float, Field(ge=-60, le=60)] = 20.0
    limit_c: Annotated[float, Field(ge=-60, le=2000)] = 150.0
    max_wait_s: Annotated[float, Field(ge=0, le=86_400)] = 120.0
    welds: Many[JoinWeld] = ()
    watch: Many[Code] = ()
    holders: Many[Holder] = ()


class SeamFound(NamedTuple):
    """What follows from a seam's plan: its settings, the order of its welds, or in words why there is none."""

    settings: SettingsFound | None
    order: WeldsOrdered | None
    asked: WeldOrder | None
    fault: FairSquareError | None


def check_seam(plan: SeamPlan) -> None:
    """Raise `Refused` for welds that repeat or come after themselves, and a holder that waits for more than there are."""
    if len(plan.welds) > MOST_WELDED:
        raise Refused(f"A seam has up to {MOST_WELDED} welds: make two of it.", field="welds", value=len(plan.welds))
    _check_welds(plan)
    for k, holder in enumerate(plan.holders):
        if holder.after_welds > len(plan.welds):
            raise Refused(
                f"{holder.id} waits for {holder.after_welds} welds, and there are {len(plan.welds)}.",
                field=f"holder-{k}-welds",
                value=holder.after_welds,
            )
    if not 2 <= len(plan.sheets_mm) <= 3:
        raise Refused("A seam joins two sheets or three.", field="sheets_mm", value=list(plan.sheets_mm))
    if plan.limit_c <= plan.ambient_c:
        raise Refused("The limit should be above the air around.", field="limit_c", value=plan.limit_c)
    settings_of(plan)
    if plan.welds:
        weld_order_checked(plan)


def _check_welds(plan: SeamPlan) -> None:
    """Raise `Refused` for welds that repeat, come after themselves or what is not there, and runs without a length."""
    known = [weld.id for weld in plan.welds]
    for k, weld in enumerate(plan.welds):
        if weld.id in known[:k]:
            raise Refused(f"Weld {weld.id} stands there twice.", field=f"weld-{k}-id", value=weld.id)
        if weld.id in weld.after:
            raise Refused(f"Weld {weld.id} cannot come after itself.", field=f"weld-{k}-follows", value=weld.id)
        for other in weld.after:
            if other not in known:
                raise Refused(f"There is no weld {other}.", field=f"weld-{k}-follows", value=other)
        if plan.process == "seam" and weld.length_mm <= 0:
            raise Refused("A run along a seam has a length.", field=f"weld-{k}-length", value=weld.length_mm)


def settings_of(plan: SeamPlan, length_mm: float | None = None) -> SettingsFound:
    """Return the settings of a seam; for a run of that length its energy too. Raises `Refused`."""
    return weld_settings(
        WeldSettings(
            process=plan.process,
            metal=plan.metal,
            thickness_mm=plan.sheets_mm,
            arc=_arc(plan, length_mm),
            composition=plan.composition,
            hydrogen_ml_100g=plan.hydrogen_ml_100g,
        )
    )


def _arc(plan: SeamPlan, length_mm: float | None) -> Arc | None:
    if plan.process == "squeeze" or plan.method is None or plan.volts is None or plan.amperes is None:
        return None
    plug = plan.process == "plug"
    return Arc(
        method=plan.method,
        volts=plan.volts,
        amperes=plan.amperes,
        seconds=plan.seconds if plug else None,
        speed_mm_s=None if plug else plan.speed_mm_s,
        length_mm=None if plug else length_mm,
    )


def order_asked(plan: SeamPlan) -> WeldOrder:
    """Return the question for the order of a seam's welds. Raises `Refused` where energy or time of a weld is not known."""
    conductivity, density, capacity = PLATES[plan.metal]
    welds = []
    for weld in plan.welds:
        settings = settings_of(plan, weld.length_mm or None)
        energy = plan.energy_j or settings.energy_j
        seconds = plan.seconds if plan.process != "seam" else None
        if seconds is None and plan.speed_mm_s and weld.length_mm:
            seconds = weld.length_mm / plan.speed_mm_s
        if energy is None:
            raise Refused("How much heat goes into one weld? Give the arc, or joules.", field="energy_j", value=None)
        if seconds is None:
            raise Refused("How long does one weld take?", field="seconds", value=None)
        before = [earlier.id for earlier in plan.welds if earlier.stage < weld.stage and earlier.id not in weld.after]
        welds.append(
            PlannedWeld(
                id=weld.id,
                at=(weld.along_mm, weld.across_mm, 0.0),
                energy_j=energy,
                seconds=seconds,
                after=(*weld.after, *before),
            )
        )
    return WeldOrder(
        welds=tuple(welds),
        plate=WeldedPlate(
            thickness_mm=settings_of(plan).governing_mm,
            conductivity=conductivity,
            density=density,
            heat_capacity=capacity,
            loss=LOSS_W_M2K,
        ),
        ambient_c=plan.ambient_c,
        limit_c=plan.limit_c,
        max_wait_s=plan.max_wait_s,
    )


def weld_order_checked(plan: SeamPlan) -> WeldsOrdered:
    """Return the order of a seam's welds, worked out once for the same plan. Raises `Refused`."""
    return _ordered(Same(plan))


@lru_cache(maxsize=64)
def _ordered(held: Same[SeamPlan]) -> WeldsOrdered:
    return weld_order(order_asked(held.held))


def seam_found(plan: SeamPlan) -> SeamFound:
    """Return what follows from a plan, and what stands in the way of it. Never raises for what a person could type."""
    try:
        settings = settings_of(plan)
        if not plan.welds:
            return SeamFound(settings, None, None, None)
        return SeamFound(settings, weld_order_checked(plan), order_asked(plan), None)
    except FairSquareError as fault:
        return SeamFound(None, None, None, fault)


def heat_at(asked: WeldOrder, order: WeldsOrdered, at_s: float, places: Floats) -> Floats:
    """Return the temperature at `places`, (n, 3) in mm, at a moment of the order, °C.

    A weld counts from its end as an instantaneous line source, taken half a second after it at the soonest: at the very end its own
    place would be infinitely hot.
    """
    by_id = {weld.id: weld for weld in asked.welds}
    made = [(by_id[started.id], started.start_s + by_id[started.id].seconds) for started in order.order]
    ended = [(weld, end) for weld, end in made if end <= at_s]
    heat = np.full(len(places), asked.ambient_c)
    if not ended:
        return heat
    plate = plate_heat(
        np.array([weld.at for weld, _ in ended], dtype=float),
        [weld.energy_j for weld, _ in ended],
        [weld.seconds for weld, _ in ended],
        thickness_mm=asked.plate.thickness_mm,
        conductivity=asked.plate.conductivity,
        density=asked.plate.density,
        heat_capacity=asked.plate.heat_capacity,
        loss=asked.plate.loss,
        ambient_c=asked.ambient_c,
        limit_c=asked.limit_c,
    )
    diffusivity = asked.plate.conductivity / (asked.plate.density * asked.plate.heat_capacity)
    for k, (weld, end) in enumerate(ended):
        t = max(at_s - end, 0.5)
        squares = np.sum(((places - np.array(weld.at)) / 1000.0) ** 2, axis=1) / (4.0 * diffusivity)
        heat += plate.strength[k] / t * np.exp(-squares / t - plate.loss * t)
    return heat


def stages(welds: Sequence[JoinWeld]) -> tuple[int, ...]:
    """Return the stages of a seam in order."""
    return tuple(sorted({weld.stage for weld in welds}))
