"""Deeds of clocks: started, ended; what is opened and closed has its working and its curing time counted."""

from typing import Any

from fairsquare.actions.desk import Desk, JobView, Unsure
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.core.weld.bonding import BondSaid, timeline_of
from fairsquare.job.facts.finishing import ClockKind
from fairsquare.job.weld.job import bond_said
from fairsquare.store import clocks
from fairsquare.store.database import Connection
from fairsquare.store.people import Person

LONGEST_CLOCK_MIN = 14 * 24 * 60.0


def start_clock(
    desk: Desk, person: Person, key: str, number: str, kind: ClockKind, product: str, label: str, minutes: float
) -> int:
    """Start a clock. Foam that is opened is let in, and swells: a move like any other. Raises `Refused` and `Unsure`."""
    check_may(person, "run clocks")
    label = " ".join(label.split())
    if not 2 <= len(label) <= 120:
        raise Refused("What does it count? Such as: foam sets.", field="label", value=label[:120])
    if not 0 < minutes <= LONGEST_CLOCK_MIN:
        raise Refused("A clock runs for more than 0 minutes, up to 14 days.", field="minutes", value=minutes)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        bond = bond_said(view.facts)
        if product and (bond is None or product not in {product.id for product in bond.products}):
            raise Refused(f"{product} is not among the products.", field="product", value=product)
        running = [
            clock
            for clock in view.facts.clocks
            if clock.ended is None and clock.product == product and clock.kind == kind
        ]
        if product and running:
            raise Unsure(f"{product}: that clock runs already.", field="product", value=product)
        foams = {product.id for product in bond.products if product.kind == "foam"} if bond else set()
        if kind == "open" and product in foams:
            desk.moved(connection, view, "foam", f"{product} was opened: foam swells", person)
        return {"id": clocks.start(connection, view.job.id, kind, product, label, minutes, person.id)}

    return int(desk.in_job(person, key, f"clock {number}", number, work)["id"])


def end_clock(desk: Desk, person: Person, key: str, number: str, clock: int, words: str) -> None:
    """End a clock. A product whose working time ends so is closed: its curing begins to count. An ended one stays as it is."""
    check_may(person, "run clocks")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        own = next((clock_fact for clock_fact in view.facts.clocks if clock_fact.id == clock), None)
        if own is None:
            raise Refused("There is no such clock in this job.", field="clock", value=clock)
        if own.ended is not None:
            return {}
        clocks.end(connection, clock, words.strip()[:500], person.id)
        cure = _cure_min(view, own.product) if own.kind == "open" else 0.0
        if cure > 0:
            clocks.start(connection, view.job.id, "cure", own.product, f"{own.product} cures", cure, person.id)
        return {}

    desk.in_job(person, key, f"clock end {number} {clock}", number, work)


def _cure_min(view: JobView, product: str) -> float:
    """Return how long a product takes to cure at the temperature of the bonding, minutes; 0 where it does not, or nobody knows."""
    line = timeline_of(bond_said(view.facts) or BondSaid())
    timed = line.products.get(product) if line else None
    return timed.cured_min - timed.closed_min if timed and timed.cured_min is not None else 0.0
