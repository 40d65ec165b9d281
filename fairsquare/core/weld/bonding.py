"""What people say of the bonding: products, steps, the temperature, and what goes on which surface and excludes what."""

from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.model import Code, Many, Model
from fairsquare.core.said import Said, say
from fairsquare.core.weld.timeline import BondProduct, BondStep, BondTimeline, TimelineFound, bond_timeline

Treatment = Literal["bare", "weld_primer", "adhesive", "sealer", "foam", "primer", "wax"]
TREATMENTS: dict[Treatment, str] = {
    "bare": "bare metal",
    "weld_primer": "weld-through primer",
    "adhesive": "adhesive",
    "sealer": "seam sealer",
    "foam": "panel foam",
    "primer": "primer",
    "wax": "cavity wax",
}
Surface = Literal["weld", "flange", "bonded", "outside", "cavity"]
SURFACES: dict[Surface, str] = {
    "weld": "where a weld goes",
    "flange": "mating flange between welds",
    "bonded": "bonded flange",
    "outside": "outside of a seam",
    "cavity": "inside a cavity",
}
ProductKind = Literal["foam", "adhesive", "sealer", "primer", "wax", "paint"]
PRODUCT_KINDS: dict[ProductKind, str] = {
    "foam": "panel foam",
    "adhesive": "adhesive",
    "sealer": "seam sealer",
    "primer": "primer",
    "wax": "cavity wax",
    "paint": "paint",
}
USUAL_OPEN_MIN: dict[ProductKind, float] = {
    "foam": 15,
    "adhesive": 90,
    "sealer": 20,
    "primer": 30,
    "wax": 30,
    "paint": 60,
}
"""Working times at 20 °C where the label says nothing; common practice, no source: the label comes first."""
_NEVER: dict[Surface, tuple[Treatment, ...]] = {
    "weld": ("adhesive", "sealer", "primer", "foam", "wax"),
    "flange": ("primer", "foam", "wax"),
    "bonded": ("weld_primer", "wax", "sealer", "foam"),
    "outside": ("weld_primer", "foam"),
    "cavity": (),
}
"""What may not go on a surface; words say why. Common practice, no source: the maker's procedure comes first."""
_NOT_TOGETHER: tuple[tuple[Treatment, Treatment], ...] = (
    ("weld_primer", "adhesive"),
    ("wax", "adhesive"),
    ("wax", "sealer"),
    ("foam", "wax"),
    ("bare", "primer"),
)
"""What excludes each other on any surface; common practice, no source."""


class SurfaceSaid(Model):
    """A surface of the joint and what goes on it, in order."""

    place: Annotated[str, Field(min_length=1, max_length=120)]
    kind: Surface
    gets: Many[Treatment] = ()


Warmth = Annotated[float, Field(ge=-60, le=200)]
"""A temperature in a shop, or of what is cured in it, °C."""


class ProductSaid(Model):
    """A product: its kind, and what its label says. `batch` and `best_before` (ISO date) are what stands on the cartridge."""

    id: Code
    kind: ProductKind
    open_min: Annotated[float, Field(gt=0, le=20_160)]
    at_c: Warmth = 20.0
    q10: Annotated[float, Field(ge=1, le=100)] = 2.0
    cure_min: Annotated[float, Field(ge=0, le=20_160)] | None = None
    range_c: Annotated[tuple[Warmth, Warmth], Field(strict=False)] = (5.0, 35.0)
    batch: str = ""
    best_before: Annotated[str, Field(pattern=r"^([0-9]{4}-[0-9]{2}-[0-9]{2})?$")] = ""


class BondSaid(Model):
    """Products, steps in order at a temperature, and the surfaces."""

    temperature_c: Warmth = 20.0
    products: Many[ProductSaid] = ()
    steps: Many[BondStep] = ()
    surfaces: Many[SurfaceSaid] = ()


def surface_faults(said: BondSaid) -> tuple[Said, ...]:
    """Return what may not go where, and what excludes what, surface by surface; what a surface never gets excludes nothing more."""
    faults = []
    for surface in said.surfaces:
        never = [treatment for treatment in _NEVER[surface.kind] if treatment in surface.gets]
        faults += [say("bond.never", place=surface.place, on=surface.kind, what=treatment) for treatment in never]
        faults += [
            say("bond.exclude", place=surface.place, a=a, b=b)
            for a, b in _NOT_TOGETHER
            if a in surface.gets and b in surface.gets and a not in never and b not in never
        ]
    return tuple(faults)


def timeline_asked(said: BondSaid) -> BondTimeline:
    """Return the question whether the steps fit into the working times."""
    return BondTimeline(
        temperature_c=said.temperature_c,
        products=tuple(
            BondProduct(
                id=product.id,
                open_min=product.open_min,
                at_c=product.at_c,
                q10=product.q10,
                cure_min=product.cure_min,
                range_c=product.range_c,
            )
            for product in said.products
        ),
        steps=said.steps,
    )


def timeline_of(said: BondSaid) -> TimelineFound | None:
    """Return the timeline of the steps, or None where nothing is bonded or it cannot be worked out."""
    try:
        return bond_timeline(timeline_asked(said)) if said.products or said.steps else None
    except FairSquareError:
        return None


def check_bond(said: BondSaid) -> None:
    """Raise `Refused` for products and steps that cannot be timed, and names that repeat."""
    for kind, ids in (("product", [p.id for p in said.products]), ("step", [s.id for s in said.steps])):
        for k, name in enumerate(ids):
            if name in ids[:k]:
                raise Refused(f"{name} stands there twice.", field=f"{kind}-{k}-id", value=name)
    if said.products or said.steps:
        bond_timeline(timeline_asked(said))


def bond_waits(said: BondSaid | None, today: str) -> tuple[Said, ...]:
    """Return why the products are not ready; `today` is an ISO date, empty where it does not matter."""
    if said is None:
        return ()
    waits = list(surface_faults(said))
    line = timeline_of(said)
    for product in said.products:
        timed = line.products.get(product.id) if line else None
        if timed is not None and not timed.temperature_ok:
            low, high = product.range_c
            waits.append(say("bond.cold", product=product.id, at_c=said.temperature_c, low_c=low, high_c=high))
        elif timed is not None and not timed.fits:
            waits.append(say("bond.too_long", product=product.id, used_min=timed.used_min, open_min=timed.open_min))
        if product.best_before and today and product.best_before < today:
            waits.append(say("bond.past", product=product.id, day=product.best_before))
    return tuple(waits)
