"""What people say of the bonding: products, steps, the temperature, and what goes on which surface and excludes what."""

from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.model import Code, Many, Model
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
_EXCLUDES: dict[Surface, tuple[tuple[Treatment, str], ...]] = {
    "weld": (
        ("adhesive", "adhesive burns there and spoils the weld"),
        ("sealer", "sealer burns there and spoils the weld"),
        ("primer", "common primer is not welded through"),
        ("foam", "foam burns"),
        ("wax", "wax burns"),
    ),
    "flange": (
        ("primer", "common primer between flanges is not welded through: weld-through primer goes there"),
        ("foam", "foam holds flanges apart"),
        ("wax", "wax goes in after welding and paint"),
    ),
    "bonded": (
        ("weld_primer", "adhesive does not hold on weld-through primer"),
        ("wax", "adhesive does not hold on wax"),
        ("sealer", "sealer is not adhesive, and they do not mix"),
        ("foam", "foam holds flanges apart"),
    ),
    "outside": (("weld_primer", "weld-through primer is for flanges, and paint does not hold on it"), ("foam", "")),
    "cavity": (),
}
"""What may not go on a surface, and why. Common practice, no source: the maker's procedure comes first."""
_TOGETHER: tuple[tuple[Treatment, Treatment, str], ...] = (
    ("weld_primer", "adhesive", "adhesive does not hold on weld-through primer"),
    ("wax", "adhesive", "adhesive does not hold on wax"),
    ("wax", "sealer", "sealer does not hold on wax: it goes on first"),
    ("foam", "wax", "foam does not hold on wax: it goes in first"),
    ("bare", "primer", "it is either left bare or primed"),
)


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


def surface_faults(said: BondSaid) -> tuple[str, ...]:
    """Return in words what may not go where, and what excludes what, surface by surface."""
    faults = []
    for surface in said.surfaces:
        for treatment, why in _EXCLUDES[surface.kind]:
            if treatment in surface.gets:
                faults.append(
                    f"{surface.place}: no {TREATMENTS[treatment]} {_on(surface.kind)}{': ' + why if why else ''}."
                )
        for a, b, why in _TOGETHER:
            both = a in surface.gets and b in surface.gets
            if both and not any(surface.place in words and why in words for words in faults):
                faults.append(f"{surface.place}: {TREATMENTS[a]} and {TREATMENTS[b]} exclude each other: {why}.")
    return tuple(faults)


def _on(kind: Surface) -> str:
    return {
        "weld": "where a weld goes",
        "flange": "on a mating flange",
        "bonded": "on a bonded flange",
        "outside": "on the outside",
        "cavity": "in a cavity",
    }[kind]


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
        for k, one in enumerate(ids):
            if one in ids[:k]:
                raise Refused(f"{one} stands there twice.", field=f"{kind}-{k}-id", value=one)
    if said.products or said.steps:
        bond_timeline(timeline_asked(said))


def bond_waits(said: BondSaid | None, today: str) -> tuple[str, ...]:
    """Return in words why the products are not ready; `today` is an ISO date, empty where it does not matter."""
    if said is None:
        return ()
    waits = list(surface_faults(said))
    line = timeline_of(said)
    for product in said.products:
        timed = line.products.get(product.id) if line else None
        if timed is not None and not timed.temperature_ok:
            low, high = product.range_c
            waits.append(f"{product.id}: {said.temperature_c:g} °C is outside its {low:g} to {high:g} °C.")
        elif timed is not None and not timed.fits:
            waits.append(
                f"{product.id}: the steps take {timed.used_min:.0f} min, it stays workable for {timed.open_min:.0f} min."
            )
        if product.best_before and today and product.best_before < today:
            waits.append(f"{product.id}: past its date, {product.best_before}.")
    return tuple(waits)
