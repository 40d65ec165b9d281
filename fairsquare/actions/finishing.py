"""Deeds from the dry fit to the handing over: what is planned, what was done of it, and the moves that have conditions."""

from collections.abc import Callable
from typing import Any

from fairsquare.actions.desk import Desk, JobView, Unsure, lacking, reason_of
from fairsquare.actions.rights import check_may
from fairsquare.core.errors import Refused
from fairsquare.core.fit.said import FitSaid, check_fit_said
from fairsquare.core.fit.square import SquareUp, square_up
from fairsquare.core.said import say
from fairsquare.core.sheet.model import find_point, points_by_code
from fairsquare.core.weld.bonding import BondSaid, check_bond
from fairsquare.core.weld.seam import SeamPlan, check_seam
from fairsquare.job.deeds import Deed
from fairsquare.job.facts.done import (
    COUPON_GOOD,
    CouponMade,
    Done,
    DoneKind,
    Finished,
    FinishItem,
    FixtureSet,
    HingeLooked,
    Hung,
    LeftOut,
    OpeningRead,
    OutsideWork,
    WeldMade,
)
from fairsquare.job.facts.finishing import SaidTopic
from fairsquare.job.fit.job import fit_said, near_points
from fairsquare.job.measure.ageing import stands_on
from fairsquare.job.moves import MOVES
from fairsquare.job.release.handover import finish_items
from fairsquare.job.weld.job import SeamState, needs_welding, seam_states
from fairsquare.store import finishing
from fairsquare.store.database import Connection
from fairsquare.store.finishing import Said
from fairsquare.store.people import Person
from fairsquare.words.tell import tell

_DEEDS: dict[DoneKind, Deed] = {
    "hung": "fit up",
    "hinge": "fit up",
    "opening": "fit up",
    "fixture": "fit up",
    "weld": "weld",
    "finish": "finish",
    "finished": "finish",
    "coupon": "decide",
    "left_out": "decide",
    "advice": "decide",
    "outside": "decide",
}
"""Which deed it is to note each kind of what is done."""


def version_of(view: JobView, topic: SaidTopic, subject: int = 0) -> int:
    """Return the version of what was last said of a topic; 0 where nothing was."""
    return next(
        (
            statement.version
            for statement in view.facts.said
            if statement.topic == topic and statement.subject == subject
        ),
        0,
    )


def seam_of(view: JobView, seam: int) -> SeamState:
    """Return a seam of a job. Raises `Refused` for one that is not there."""
    state = next((state for state in seam_states(view.facts) if state.number == seam), None)
    if state is None:
        raise Refused(f"There is no seam {seam} in this job.", field="seam", value=seam)
    return state


def say_fit(desk: Desk, person: Person, key: str, number: str, said: FitSaid, seen: int) -> int:
    """Keep the panels and gaps as they are listed."""
    check_fit_said(said)
    if said.none_hung:
        reason_of(said.none_hung)

    def checked(view: JobView) -> FitSaid:
        for k, gap in enumerate(said.gaps):
            if gap.near is not None and view.facts.sheet is not None and not near_points(view.facts.sheet, gap):
                find_point(points_by_code(view.facts.sheet), gap.near, f"gap-{k}-near")
        return said

    return _say(desk, person, key, number, "fit", 0, seen, checked)


def say_seam(desk: Desk, person: Person, key: str, number: str, seam: int, plan: SeamPlan, seen: int) -> int:
    """Keep the plan of a seam, by its number; 0 begins a new one. Returns its number."""
    check_may(person, "decide")
    check_seam(plan)

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        own = seam or max((state.number for state in seam_states(view.facts)), default=0) + 1
        _check_seen(view, "seam", own, seen)
        for k, code in enumerate(plan.watch):
            if view.facts.sheet is not None:
                find_point(points_by_code(view.facts.sheet), code, f"watch.{k}")
        made = {run.what.weld for run in _runs(view, own)}
        gone = sorted(made - {weld.id for weld in plan.welds})
        if gone:
            raise Unsure(f"Welds {', '.join(gone)} are made already: they stay in the plan.", field="welds", value=gone)
        finishing.say(connection, view.job.id, "seam", own, plan, person.id)
        return {"seam": own}

    return int(desk.in_job(person, key, f"seam {number} {seam}", number, work)["seam"])


def _runs(view: JobView, seam: int) -> list[Any]:
    state = next((seam_state for seam_state in seam_states(view.facts) if seam_state.number == seam), None)
    return list(state.log) if state else []


def say_bond(desk: Desk, person: Person, key: str, number: str, said: BondSaid, seen: int) -> int:
    """Keep products, steps and surfaces of the bonding."""
    check_bond(said)
    return _say(desk, person, key, number, "bond", 0, seen, lambda _view: said)


def _say(
    desk: Desk,
    person: Person,
    key: str,
    number: str,
    topic: SaidTopic,
    subject: int,
    seen: int,
    make: Callable[[JobView], Said],
) -> int:
    check_may(person, "decide")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        _check_seen(view, topic, subject, seen)
        return {"version": finishing.say(connection, view.job.id, topic, subject, make(view), person.id)}

    return int(desk.in_job(person, key, f"say {number} {topic}", number, work)["version"])


def _check_seen(view: JobView, topic: SaidTopic, subject: int, seen: int) -> None:
    now = next(
        (statement for statement in view.facts.said if statement.topic == topic and statement.subject == subject), None
    )
    if (now.version if now else 0) != seen:
        who = now.by.name if now else "Somebody"
        raise Unsure(
            f"{who} changed this meanwhile (version {now.version if now else 0}): look at it again, then put in what you had.",
            field="version",
            value=seen,
        )


def lower(desk: Desk, person: Person, key: str, number: str, words: str) -> None:
    """Record that the vehicle was let down on its wheels: the rack's proof stands where spans agree before and after."""
    check_may(person, "fit up")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        if stands_on(view.facts) == "wheels":
            raise Unsure("It stands on its wheels by the log.", field="what", value="lowered")
        return {"id": desk.moved(connection, view, "lowered", words.strip()[:500] or MOVES["lowered"].usual, person)}

    desk.in_job(person, key, f"lower {number}", number, work)


def holder_off(desk: Desk, person: Person, key: str, number: str, seam: int, holder: str) -> None:
    """Record that what only held the part came off, as the plan has it. Raises `Unsure` before enough welds are in."""
    check_may(person, "weld")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        state = seam_of(view, seam)
        own = next((listed for listed in state.plan.holders if listed.id == holder), None)
        if own is None:
            raise Refused(
                f"{holder} is not planned to come off: record it as a move.", field="holder", value=holder[:40]
            )
        if not view.state.may_weld:
            raise Unsure(
                "“Fit accepted” is not signed: taken off now, it is a move like any other.",
                field="holder",
                value=holder,
            )
        if not state.may_come_off(own):
            raise Unsure(
                f"{holder} comes off after {own.after_welds} welds; {len(state.good)} are in.",
                field="holder",
                value=holder,
            )
        words = f"{state.plan.name}: {holder} off, {len(state.good)} welds are in"
        return {"id": desk.moved(connection, view, "holder", words, person)}

    desk.in_job(person, key, f"holder off {number} {seam} {holder}", number, work)


def finish_welding(desk: Desk, person: Person, key: str, number: str) -> None:
    """Record that final welding is done. Raises `Unsure` while a weld is open, or the fit is not accepted."""
    check_may(person, "sign")

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        if not view.state.may_weld:
            raise Unsure(
                "“Fit accepted” is not signed, so nothing can have been welded for good.", field="hold", value=""
            )
        if not needs_welding(view.facts):
            raise Unsure("No seam is planned in this job: there is nothing to weld.", field="seam", value="")
        left = [f"{state.plan.name}: {', '.join(state.open)}" for state in seam_states(view.facts) if state.open]
        if left:
            raise Unsure(f"Not in, or to be made again: {'; '.join(left)}.", field="weld", value="")
        if view.state.welded:
            raise Unsure("That is recorded already.", field="weld", value="")
        return {"id": desk.moved(connection, view, "welded", MOVES["welded"].usual, person)}

    desk.in_job(person, key, f"welded {number}", number, work)


def note(desk: Desk, person: Person, key: str, number: str, done: Done) -> int:
    """Record something that was done, tried or found. Raises `Refused` and `Unsure` for what cannot be so."""
    check_may(person, _DEEDS[done.kind])

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        _check_done(view, done)
        return {"id": finishing.note(connection, view.job.id, done, person.id)}

    return int(desk.in_job(person, key, f"note {number} {done.kind}", number, work)["id"])


def _check_done(view: JobView, done: Done) -> None:
    check = _CHECKS.get(type(done))
    if check is not None:
        check(view, done)


def _check_panel(view: JobView, done: Hung | HingeLooked) -> None:
    said = fit_said(view.facts) or FitSaid()
    panel = next((panel for panel in said.panels if panel.name == done.panel), None)
    if panel is None:
        raise Refused(f"{done.panel} is not among the panels.", field="panel", value=done.panel)
    if isinstance(done, HingeLooked) and done.hinge not in {hinge.id for hinge in panel.hinges}:
        raise Refused(f"{done.panel} has no hinge {done.hinge}.", field="hinge", value=done.hinge)


def _check_opening(view: JobView, done: OpeningRead) -> None:
    del view
    asked = SquareUp(spans_mm=done.spans, target_mm=done.target, sigma_mm=done.sigma_mm, tolerance_mm=done.tolerance_mm)
    square_up(asked)


def _check_fixture(view: JobView, done: FixtureSet) -> None:
    for field, code in (("a", done.a), ("b", done.b)):
        find_point(points_by_code(view.facts.sheet) if view.facts.sheet else {}, code, field)
    if done.a == done.b:
        raise Refused("A span has two ends.", field="b", value=done.b)


def _check_coupon(view: JobView, done: CouponMade) -> None:
    state = seam_of(view, done.seam)
    if done.accepted and done.end not in COUPON_GOOD:
        raise Refused("A coupon that let go or was blown through is not accepted.", field="accepted", value=done.end)
    if done.process != state.plan.process or done.metal != state.plan.metal:
        raise Refused("The coupon is made as the seam is planned.", field="process", value=done.process)


def _check_outside(view: JobView, done: OutsideWork) -> None:
    del view
    if done.end == "done" and not done.paper.strip():
        raise Refused("Which paper says so? Its number, and its date.", field="paper", value="")
    if done.end != "done" and not done.words.strip():
        words = "Write the maker's word on it." if done.end == "not_needed" else "What was it that failed?"
        raise Refused(words, field="words", value="")


def _check_left_out(view: JobView, done: LeftOut) -> None:
    for k, code in enumerate(done.codes):
        find_point(points_by_code(view.facts.sheet) if view.facts.sheet else {}, code, f"codes.{k}")


def _check_weld(view: JobView, done: WeldMade) -> None:
    state = seam_of(view, done.seam)
    planned = next((weld for weld in state.plan.welds if weld.id == done.weld), None)
    if planned is None:
        raise Refused(f"There is no weld {done.weld} in {state.plan.name}.", field="weld", value=done.weld)
    hold = view.state.hold("fit_accepted")
    if hold.status != "closed":
        why = (*hold.reopened, *(missing.said for missing in hold.missing))
        not_welded = say("hold.not_welded", reopened=bool(hold.reopened), why=why[0] if why else "")
        raise lacking(not_welded, field="weld", value=done.weld)
    if view.state.welded:
        raise Unsure("Final welding is recorded as done: what comes after is a new fit.", field="weld", value=done.weld)
    first = [weld for weld in state.plan.welds if weld.stage < planned.stage or weld.id in planned.after]
    waiting = [weld.id for weld in first if weld.id not in state.good]
    if waiting and done.look == "good":
        raise Unsure(
            f"{done.weld} comes after {', '.join(waiting)}: what is inside comes before the plate that closes it.",
            field="weld",
            value=done.weld,
        )


def _check_finished(view: JobView, done: Finished) -> None:
    items = {item.id: item for item, _ in finish_items(view.facts)}
    if done.item not in items:
        raise Refused("There is no such item.", field="item", value=done.item)
    what = items[done.item].what
    if isinstance(what, FinishItem) and what.what == "filler":
        waits = gaps_before_filler(view)
        if waits:
            raise Unsure(waits, field="item", value=done.item)


_CHECKS: dict[type, Callable[[JobView, Any], None]] = {
    Hung: _check_panel,
    HingeLooked: _check_panel,
    OpeningRead: _check_opening,
    FixtureSet: _check_fixture,
    CouponMade: _check_coupon,
    WeldMade: _check_weld,
    Finished: _check_finished,
    OutsideWork: _check_outside,
    LeftOut: _check_left_out,
}


def gaps_before_filler(view: JobView) -> str:
    """Return why filler and paint wait, in words: for welding to be done, and for the gaps to be read once more after it."""
    if needs_welding(view.facts) and not view.state.welded:
        return (
            "Before filler and paint the gaps are read once more, after welding. Final welding is not recorded as done."
        )
    demand = next((demand for demand in view.state.hold("released").demands if demand.name == "gaps_wheels"), None)
    if demand is None or demand.met:
        return ""
    return f"Before filler and paint the gaps are read once more. {tell(demand.missing[0].said)}"


def take_back(desk: Desk, person: Person, key: str, number: str, event: int) -> None:
    """Record that something was noted by mistake: it stays in the log, and counts no longer."""

    def work(connection: Connection, view: JobView) -> dict[str, Any]:
        deed = next((deed for deed in view.facts.done if deed.id == event and deed.taken_back is None), None)
        if deed is None:
            raise Refused("There is no such entry, or it was taken back already.", field="event", value=event)
        check_may(person, _DEEDS[deed.kind])
        finishing.take_back(connection, event, person.id)
        return {}

    desk.in_job(person, key, f"note back {number} {event}", number, work)
