"""Whether the steps of a bonding job fit into the working time of what is squeezed out, and how late each may start."""

import math
from collections.abc import Mapping, Sequence
from typing import Annotated, NamedTuple

from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Model

Minutes = Annotated[float, Field(ge=0, le=1e7)]
Celsius = Annotated[float, Field(ge=-273.15, le=3000)]
_ROUNDING = 1e-9


class BondProduct(Model):
    """A product: how long it is workable and until it is cured at `at_c`, by what factor that changes over ten degrees, and between
    which temperatures it may be used."""

    id: Code
    open_min: Annotated[float, Field(gt=0, le=1e7)]
    at_c: Celsius
    q10: Annotated[float, Field(ge=1, le=1e3)] = 2.0
    cure_min: Minutes | None = None
    range_c: Annotated[tuple[Celsius, Celsius], Field(strict=False)] = (5.0, 35.0)


class BondStep(Model):
    """A step: what it opens at its start, what it has clamped or covered at its end, what must be cured before it."""

    id: Code
    minutes: Minutes
    opens: Many[Code] = ()
    closes: Many[Code] = ()
    needs_cured: Many[Code] = ()


class BondTimeline(Model):
    """Steps that follow one another without a pause, at a temperature, °C."""

    temperature_c: Celsius
    products: Many[BondProduct] = ()
    steps: Many[BondStep] = ()


class StepTimed(Model):
    """When a step starts and ends, and how late it may start; null when nothing is open then, or when it is too late already."""

    id: str
    start_min: float
    end_min: float
    latest_start_min: float | None


class ProductTimed(Model):
    """A product at this temperature: how long it is open, from when to when it was used, what is to spare, when it is cured."""

    open_min: float
    opened_min: float
    closed_min: float
    used_min: float
    spare_min: float
    fits: bool
    temperature_ok: bool
    cured_min: float | None


class TimelineFound(Model):
    """Whether everything is closed in its time, and when all is done."""

    fits: bool
    finish_min: float
    steps: tuple[StepTimed, ...]
    products: dict[Code, ProductTimed]


def bond_timeline(request: BondTimeline) -> TimelineFound:
    """Time the steps of a bonding job. Open and cure times change with temperature by van 't Hoff's rule, q10 for ten degrees.

    Raises `Refused` for a product that is not opened once and then closed once, for one that is needed cured and is not closed
    before or has no curing time, and for a range that does not ascend.
    """
    opened, closed = _checked(request)
    factors = {product.id: product.q10 ** ((product.at_c - request.temperature_c) / 10) for product in request.products}
    cures = {
        product.id: product.cure_min * factors[product.id]
        for product in request.products
        if product.cure_min is not None
    }
    plan = _run(request.steps, closed, cures, {}, 0, 0.0)
    products = {}
    for product in request.products:
        low, high = product.range_c
        start, end = plan.starts[opened[product.id]], plan.ends[closed[product.id]]
        wide = product.open_min * factors[product.id]
        ok = low <= request.temperature_c <= high
        products[product.id] = ProductTimed(
            open_min=wide,
            opened_min=start,
            closed_min=end,
            used_min=end - start,
            spare_min=wide - (end - start),
            fits=ok and end - start <= wide + _ROUNDING,
            temperature_ok=ok,
            cured_min=end + cures[product.id] if product.id in cures else None,
        )
    steps = tuple(
        StepTimed(
            id=step.id,
            start_min=plan.starts[k],
            end_min=plan.ends[k],
            latest_start_min=_latest(request.steps, plan, products, opened, closed, cures, k),
        )
        for k, step in enumerate(request.steps)
    )
    last = [plan.ends[-1]] if plan.ends else [0.0]
    cured = [product.cured_min for product in products.values() if product.cured_min is not None]
    return TimelineFound(
        fits=all(product.fits for product in products.values()),
        finish_min=max(last + cured),
        steps=steps,
        products=products,
    )


class _Plan(NamedTuple):
    starts: list[float]
    ends: list[float]
    cured: dict[str, float]


def _run(
    steps: Sequence[BondStep],
    closed: Mapping[str, int],
    cures: Mapping[str, float],
    cured: Mapping[str, float],
    first: int,
    at: float,
) -> _Plan:
    """Run the steps from `first` on, which starts at `at` or once what it needs is cured; `cured` before them as known."""
    plan = _Plan([], [], dict(cured))
    now = at
    for k in range(first, len(steps)):
        start = max([now, *(plan.cured[name] for name in steps[k].needs_cured)])
        now = start + steps[k].minutes
        plan.starts.append(start)
        plan.ends.append(now)
        plan.cured.update({name: now + cures[name] for name in steps[k].closes if name in cures and closed[name] == k})
    return plan


def _latest(
    steps: Sequence[BondStep],
    plan: _Plan,
    products: Mapping[str, ProductTimed],
    opened: Mapping[str, int],
    closed: Mapping[str, int],
    cures: Mapping[str, float],
    k: int,
) -> float | None:
    """Return how late step k may start.

    Later ends are the larger of a fixed time (a wait for something that is closed already) and one that moves with the delay; so
    the latest start of each product is where its moving time meets its limit.
    """
    running = [name for name in products if opened[name] < k <= closed[name]]
    if not running or any(products[name].used_min > products[name].open_min + _ROUNDING for name in running):
        return None
    before = {name: at for name, at in plan.cured.items() if closed[name] < k}
    far = max(plan.ends[-1] + sum(step.minutes for step in steps), *before.values(), 0.0) + sum(cures.values()) + 1.0
    moved = _run(steps, closed, cures, before, k, plan.starts[k] + far)
    rooms = []
    for name in running:
        limit = products[name].opened_min + products[name].open_min
        rooms.append(limit - (moved.ends[closed[name] - k] - moved.starts[0]))
    return max(min(rooms), plan.starts[k])


def _checked(request: BondTimeline) -> tuple[dict[str, int], dict[str, int]]:
    """Return in which step each product is opened and closed. Raises `Refused` that names the field."""
    known = {product.id: product for product in request.products}
    _check_products(request)
    opened: dict[str, int] = {}
    closed: dict[str, int] = {}
    for k, step in enumerate(request.steps):
        if step.id in {before.id for before in request.steps[:k]}:
            raise Refused(f"Step {step.id} is listed twice.", field=f"steps.{k}.id", value=step.id)
        for field, names, seen in (("opens", step.opens, opened), ("closes", step.closes, closed)):
            for name in names:
                if name not in known:
                    raise Refused(f"There is no product {name}.", field=f"steps.{k}.{field}", value=name)
                if name in seen:
                    word = "opened" if field == "opens" else "closed"
                    raise Refused(f"{name} is {word} twice: once is right.", field=f"steps.{k}.{field}", value=name)
                seen[name] = k
    for index, product in enumerate(request.products):
        if product.id not in opened or product.id not in closed:
            word = "opened" if product.id not in opened else "closed"
            raise Refused(
                f"{product.id} is never {word}: one step does it.", field=f"products.{index}.id", value=product.id
            )
        if closed[product.id] < opened[product.id]:
            words = f"{product.id} is closed before it is opened."
            raise Refused(words, field=f"steps.{closed[product.id]}.closes", value=product.id)
    _check_needs(request, closed)
    return opened, closed


def _check_needs(request: BondTimeline, closed: Mapping[str, int]) -> None:
    known = {product.id: product for product in request.products}
    for k, step in enumerate(request.steps):
        for name in step.needs_cured:
            if name not in known or closed[name] >= k:
                raise Refused(f"{name} is not closed before this step.", field=f"steps.{k}.needs_cured", value=name)
            if known[name].cure_min is None:
                raise Refused(f"{name} has no curing time: give cure_min.", field=f"steps.{k}.needs_cured", value=name)


def _check_products(request: BondTimeline) -> None:
    names = [product.id for product in request.products]
    for index, product in enumerate(request.products):
        if product.id in names[:index]:
            raise Refused(f"{product.id} is listed twice.", field=f"products.{index}.id", value=product.id)
        low, high = product.range_c
        if not low < high or not math.isfinite(low):
            raise Refused(
                "The range of temperatures ascends, such as 5 to 35.", field=f"products.{index}.range_c", value=low
            )
