"""Deeds of gaps: read one by one or called, and the contradictions of gaps and readings settled."""

from typing import Any

from fairsquare.actions.desk import Desk, JobView, Unsure, reason_of
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.core.fit.call import GapCall, understand_gap
from fairsquare.core.fit.said import FARTHEST_GAP_MM, FitSaid, GapSaid
from fairsquare.core.lengths import Unit, read_length
from fairsquare.job.facts.setup import Stand
from fairsquare.job.fit.job import STANDS, fit_findings, fit_said
from fairsquare.job.measure.ageing import stands_on
from fairsquare.store import damage, measuring
from fairsquare.store.database import Connection
from fairsquare.store.people import Person

_SAME_MM = 0.01
"""Targets of a gap that differ by no more are one, said in other units."""
_WIDEST_TOLERANCE_MM = 100.0


def read_gap(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    place: str,
    said: str,
    target: str,
    tolerance: str,
    unit: Unit,
    stand: Stand | None = None,
) -> None:
    """Record a gap; the three lengths are texts in any unit. `stand`: None where it stands by the log.

    Raises `Unsure` for a gap on the wheels of a vehicle that is on the rack by the log, and the reverse; `Refused` for one that is
    listed otherwise.
    """
    check_may(person, "measure")
    place = place.strip()
    if not place or len(place) > 120:
        raise Refused("Say where the gap is, such as “lid to right fender, front”.", field="place", value=place)
    mm = float(read_length(said, unit, field="said").mm)
    target_mm = float(read_length(target, unit, field="target").mm)
    tolerance_mm = float(read_length(tolerance, unit, field="tolerance").mm)
    if abs(mm) > FARTHEST_GAP_MM or abs(target_mm) > FARTHEST_GAP_MM:
        raise Refused("That is no gap: it is over a metre.", field="said", value=said)
    if not 0 < tolerance_mm <= _WIDEST_TOLERANCE_MM:
        raise Refused("The tolerance should be above 0, up to 100 mm.", field="tolerance", value=tolerance)
    gap = GapSaid(place=place, target_mm=target_mm, tolerance_mm=tolerance_mm)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        _check_listed(view, gap)
        on = stands_on(view.facts)
        if stand is not None and stand != on:
            words = f"It stands {STANDS[on]} by the log: record first that it was moved."
            raise Unsure(words, field="stand", value=stand)
        return _keep(connection, view, GapCall(gap, mm, said), person)

    desk.in_job(person, key, f"gap {number}", number, work)


def call_gap(
    desk: Desk, person: Person, key: str, number: str, call: str, unit: Unit, called_ago_s: float | None = None
) -> None:
    """Record a gap as it was called. Raises `Refused` for one that is not listed: a gap without a target says nothing."""
    check_may(person, "measure")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        heard = understand_gap(call, fit_said(view.facts) or FitSaid(), unit)
        return _keep(connection, view, heard, person, called_ago_s)

    desk.in_job(person, key, f"gap {number}", number, work)


def _keep(
    connection: Connection, view: JobView, heard: GapCall, person: Person, called_ago_s: float | None = None
) -> dict[str, Any]:
    made = measuring.read_gap(
        connection,
        view.job.id,
        heard.gap.place,
        heard.said,
        heard.mm,
        heard.gap.target_mm,
        heard.gap.tolerance_mm,
        stands_on(view.facts),
        person.id,
        called_ago_s,
    )
    return {"id": made}


def _check_listed(view: JobView, gap: GapSaid) -> None:
    """Raise `Refused` for a gap that is listed with another target or tolerance: nobody makes a gap fit by saying so."""
    listed = (fit_said(view.facts) or FitSaid()).gap(gap.place)
    if listed is None:
        return
    apart = abs(listed.target_mm - gap.target_mm), abs(listed.tolerance_mm - gap.tolerance_mm)
    if max(apart) > _SAME_MM:
        raise Refused(
            f"{listed.place} is listed with {listed.target_mm:g} mm ± {listed.tolerance_mm:g} mm. "
            "Change the list where that is wrong.",
            field="target",
            value=gap.target_mm,
        )


def settle_fit(desk: Desk, person: Person, key: str, number: str, finding: str, reason: str) -> None:
    """Settle a contradiction of a gap and the readings with a reason. Raises `Unsure` for one that is not there (any more)."""
    check_may(person, "judge readings")
    given = reason_of(reason)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        if finding not in {fit_finding.key for fit_finding in fit_findings(view.facts, view.state.picture)}:
            raise Unsure(
                "This contradiction is not there any more: look at the page again.", field="finding", value=finding
            )
        return {"id": damage.settle_finding(connection, view.job.id, finding, given, person.id)}

    desk.in_job(person, key, f"settle {number}", number, work)
