"""Deeds of measuring: set-ups, readings, what is kept out of the picture, what was moved, what an instrument is asked for."""

import datetime
from collections.abc import Sequence
from typing import Any

from fairsquare.actions.checking import as_fact, checked_reading
from fairsquare.actions.desk import Desk, JobView, Unsure, reason_of
from fairsquare.actions.rights import check_may, check_own
from fairsquare.core.errors import Refused
from fairsquare.core.measure.observations import SetupKind
from fairsquare.core.sheet.model import find_point, points_by_code
from fairsquare.core.who import Who
from fairsquare.job.facts.measure import NewReading, Purpose
from fairsquare.job.facts.setup import Moved
from fairsquare.job.measure.counted import reference_readings
from fairsquare.job.measure.drift import FEWEST_MOVED, moved_references
from fairsquare.job.moves import MOVES, SIMPLE
from fairsquare.job.pull.board import setting_of, under_way
from fairsquare.job.pull.slip import slips_now
from fairsquare.store import measuring, people, pulls
from fairsquare.store.database import Connection, utc
from fairsquare.store.facts import load_facts
from fairsquare.store.people import Person


def open_setup(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    instrument: str,
    sigma_mm: float,
    kind: SetupKind = "instrument",
) -> int:
    """Open the next set-up. Raises `Unsure` without a sheet, and while another set-up is in force."""
    check_may(person, "measure")
    instrument = instrument.strip()
    if not instrument or len(instrument) > 120:
        raise Refused("Name the instrument, in up to 120 letters.", field="instrument", value=instrument)
    if not 0 < sigma_mm <= 100:
        raise Refused(
            "Give how well the instrument reads one coordinate, above 0 and up to 100 mm, such as 0.3.",
            field="sigma_mm",
            value=sigma_mm,
        )

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        desk.check_crossed(view, "made_safe")
        if view.facts.sheet_version is None:
            raise Unsure("There is no sheet yet: references are read against a sheet. Get the sheet first.")
        if view.setup is not None and view.setup.left is None:
            raise Unsure(f"Set-up {view.setup.number} is in force. Void it first if something was moved.")
        return {
            "setup": measuring.open_setup(
                connection, view.job.id, kind, instrument, sigma_mm, view.facts.sheet_version, person.id
            )
        }

    return int(desk.in_job(person, key, f"set-up {number}", number, work)["setup"])


def take_readings(
    desk: Desk, person: Person, key: str, number: str, setup: int | None, taken: list[NewReading]
) -> list[int]:
    """Record readings in the set-up in force, all or none, and return their ids.

    A reference read again replaces its reading before. Spans and differences need no set-up. Raises `Unsure` when
    `setup` is void or not the one in force, and for what is off sound frame before the set-up is accepted.
    """
    check_may(person, "measure")
    if not taken:
        raise Refused("There is no reading in this.", field="readings", value=[])

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        own = setup
        if any(new.kind not in ("span", "difference") for new in taken):
            _check_in_force(view, setup)
        elif view.setup is None or view.setup.number != setup:
            own = None
        checked = [checked_reading(view.facts, view.setup, new, index) for index, new in enumerate(taken)]
        if any(new.purpose != "reference" and new.kind not in ("span", "difference") for new in checked):
            desk.check_crossed(view, "setup_accepted")
        before = {r.code: r.id for r in reference_readings(view.facts, own) if r.kind == "point"} if own else {}
        ids = []
        for new in checked:
            if new.replaces is not None:
                check_own(person, people.who_recorded(connection, "reading", new.replaces))
            again = new.kind == "point" and new.purpose == "reference" and new.replaces is None and new.code in before
            reading = new.model_copy(update={"replaces": before[new.code]}) if again else new
            ids.append(measuring.take_reading(connection, view.job.id, own, reading, person.id))
            if reading.kind == "point" and reading.purpose == "reference":
                before[reading.code] = ids[-1]
        if any(new.kind == "point" and new.purpose == "reference" for new in checked):
            _void_if_moved(connection, view, person)
        _void_if_slipped(connection, view, checked, person)
        return {"ids": ids}

    return list(desk.in_job(person, key, f"readings {number}", number, work, quick=True)["ids"])


def _void_if_moved(connection: Connection, view: JobView, person: Person) -> None:
    """Void the set-up in force when references that were read again do not stand where they stood."""
    setup = view.setup
    if setup is None or not _was_accepted(view, setup.number):
        return
    moved = moved_references(load_facts(connection, view.job).readings, setup.number, setup.sigma_mm)
    if len(moved) < FEWEST_MOVED:
        return
    far = ", ".join(f"{code} by {mm:.1f} mm" for code, mm in moved.items())
    words = f"the vehicle or the instrument has moved: references read again are off, {far}"
    measuring.record_move(connection, view.job.id, setup.number, "vehicle", words[:500], person.id)


def _void_if_slipped(connection: Connection, view: JobView, taken: Sequence[NewReading], person: Person) -> None:
    """Stop the pull under way, and void the set-up, when what was just read under load shows that a clamp slips."""
    setting, setup = setting_of(view.facts), view.setup
    held = {anchor.code for anchor in setting.anchors} if setting else set()
    if setup is None or not any(new.loaded and new.code in held for new in taken):
        return
    at = utc(datetime.datetime.now(datetime.UTC).replace(tzinfo=None))
    by = Who(name=person.full_name, role=person.role, at=at)
    now = [as_fact(new, setup, by) for new in taken]
    facts = view.facts.model_copy(update={"readings": (*view.facts.readings, *now)})
    slips, events = slips_now(facts), under_way(facts)
    if not slips or not events:
        return
    words = f"{slips[0].anchor} slipped {slips[0].mm:.1f} mm in pull {events[0].pull}: the vehicle moved"
    measuring.record_move(connection, view.job.id, setup.number, "vehicle", words, person.id)
    if events[-1].state != "stopped":
        body = {"ticked": [], "words": words}
        pulls.note_event(connection, view.job.id, events[0].plan, events[0].pull, "stopped", body, person.id)


def decide_on_reading(
    desk: Desk, person: Person, key: str, number: str, reading: int, keep_out: bool, reason: str
) -> None:
    """Decide that a reading is kept out of the picture, or used again, with a reason."""
    check_may(person, "judge readings")
    given = reason_of(reason)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        return {"id": measuring.decide_on_reading(connection, view.job.id, reading, keep_out, given, person.id)}

    desk.in_job(person, key, f"keep reading {number} {reading}", number, work)


def take_back(desk: Desk, person: Person, key: str, number: str, reading: int) -> None:
    """Take a reading back: it stays, and counts no longer."""
    check_may(person, "measure")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        check_own(person, people.who_recorded(connection, "reading", reading))
        measuring.take_back(connection, view.job.id, reading, person.id)
        return {}

    desk.in_job(person, key, f"take back {number} {reading}", number, work)


def choose(
    desk: Desk, person: Person, key: str, number: str, setup: int, trusted: tuple[str, ...], reason: str
) -> None:
    """Decide which of the reference sets that fit is relied on, or, for gauges and tape, which points stand on sound frame.

    Raises `Refused` for a set that does not fit.
    """
    check_may(person, "judge readings")
    reason = reason_of(reason)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        _check_in_force(view, setup)
        if view.setup and view.setup.kind == "sight":
            points = points_by_code(view.facts.sheet) if view.facts.sheet else {}
            if not trusted:
                raise Refused("Choose the points that stand on sound frame.", field="trusted", value=[])
            for index, code in enumerate(trusted):
                find_point(points, code, f"trusted.{index}")
            sound = tuple(code for code in points if code in trusted)
            return {"id": measuring.choose_references(connection, view.job.id, setup, sound, reason, person.id)}
        fit = view.state.picture.fit if view.state.picture else None
        offered = [fit.trusted, *(other.trusted for other in fit.alternatives)] if fit and fit.trusted else []
        chosen = next((choice for choice in offered if set(choice) == set(trusted)), None)
        if chosen is None:
            raise Refused(
                "These references do not fit together: choose one of the sets that are offered.",
                field="trusted",
                value=list(trusted),
            )
        return {"id": measuring.choose_references(connection, view.job.id, setup, chosen, reason, person.id)}

    desk.in_job(person, key, f"choose {number}", number, work)


def record_move(desk: Desk, person: Person, key: str, number: str, what: Moved, words: str) -> None:
    """Record that something was moved: vehicle, bench or bridge void the set-up; the structure makes readings old.

    A `sight` that was set anew (gauges hung again, the line aimed again) is another one; its readings before stay good.
    """
    check_may(person, "measure")
    if what not in SIMPLE:
        raise Refused("That has a place of its own: on the page of the fit, or of the welds.", field="what", value=what)
    move_words = words.strip()[:500] or MOVES[what].usual

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        return {"id": desk.moved(connection, view, what, move_words, person)}

    desk.in_job(person, key, f"move {number}", number, work)


def order_readings(
    desk: Desk, person: Person, key: str, number: str, setup: int, purpose: Purpose, codes: list[str]
) -> None:
    """Ask the instrument that is connected to read these points."""
    check_may(person, "measure")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        _check_in_force(view, setup)
        if purpose != "reference":
            desk.check_crossed(view, "setup_accepted")
        points = points_by_code(view.facts.sheet) if view.facts.sheet else {}
        for index, code in enumerate(codes):
            find_point(points, code, f"codes.{index}")
        measuring.order_reading(connection, view.job.id, setup, purpose, codes, person.id)
        return {}

    desk.in_job(person, key, f"order {number}", number, work)


def _check_in_force(view: JobView, setup: int | None) -> None:
    now = view.setup
    if now is not None and now.number == setup and now.left is not None:
        raise Unsure(
            f"{now.left.words[:1].upper()}{now.left.words[1:]}: only spans are read now, which need no set-up. Open a new one "
            "to measure points.",
            field="setup",
            value=setup,
        )
    if now is not None and now.number == setup:
        return
    void = next((s.voided for s in view.facts.setups if s.number == setup and s.voided), None)
    if setup is None:
        raise Unsure("There is no set-up in force: set up first. Spans and differences need none.", field="setup")
    why = f"Set-up {setup} is void: {void.words}." if void else f"Set-up {setup} is not in force."
    raise Unsure(f"{why} Make a new set-up; what was read before stays with the old one.", field="setup", value=setup)


def _was_accepted(view: JobView, setup: int) -> bool:
    signed = (s for s in view.facts.signatures if s.hold == "setup_accepted")
    return any(signature.evidence.get("setup") == str(setup) for signature in signed)
