"""From the dry fit to the handing over, as JSON."""

from fastapi import APIRouter

from fairsquare.actions import clocking, finishing, gaps
from fairsquare.api.doors import At, By
from fairsquare.api.models import (
    CallGap,
    FinishingShown,
    Given,
    KeyOnly,
    KeyWords,
    NoteDone,
    SayBond,
    SayFit,
    SaySeam,
    StartClock,
)
from fairsquare.api.told import hold_shown

router = APIRouter(prefix="/api/v1", tags=["fit"])


@router.get("/jobs/{number}/finishing")
def show(number: str, desk: At, person: By) -> FinishingShown:
    """Show what was said and done from the dry fit on, and what both hold points demand."""
    del person
    view = desk.view(number)
    return FinishingShown(
        said=view.facts.said,
        done=view.facts.done,
        clocks=view.facts.clocks,
        fit_accepted=hold_shown(view.state.hold("fit_accepted")),
        released=hold_shown(view.state.hold("released")),
    )


@router.put("/jobs/{number}/fit")
def say_fit(number: str, sent: SayFit, desk: At, person: By) -> Given:
    """Keep panels and gaps."""
    return Given(version=finishing.say_fit(desk, person, sent.request_key, number, sent.fit, sent.version))


@router.post("/jobs/{number}/gaps/called", status_code=201)
def call_gap(number: str, sent: CallGap, desk: At, person: By) -> Given:
    """Record a gap as it was called."""
    gaps.call_gap(desk, person, sent.request_key, number, sent.call, sent.unit)
    return Given()


@router.post("/jobs/{number}/lowered", status_code=201)
def lower(number: str, sent: KeyWords, desk: At, person: By) -> Given:
    """Record that the vehicle was let down on its wheels."""
    finishing.lower(desk, person, sent.request_key, number, sent.words)
    return Given()


@router.put("/jobs/{number}/seams/{seam}")
def say_seam(number: str, seam: int, sent: SaySeam, desk: At, person: By) -> Given:
    """Keep the plan of a seam; 0 begins a new one. Returns its number."""
    return Given(ids=(finishing.say_seam(desk, person, sent.request_key, number, seam, sent.plan, sent.version),))


@router.post("/jobs/{number}/seams/{seam}/holders/{holder}/off", status_code=201)
def holder_off(number: str, seam: int, holder: str, sent: KeyOnly, desk: At, person: By) -> Given:
    """Record that what only held the part came off."""
    finishing.holder_off(desk, person, sent.request_key, number, seam, holder)
    return Given()


@router.post("/jobs/{number}/welded", status_code=201)
def finish_welding(number: str, sent: KeyOnly, desk: At, person: By) -> Given:
    """Record that final welding is done."""
    finishing.finish_welding(desk, person, sent.request_key, number)
    return Given()


@router.put("/jobs/{number}/bond")
def say_bond(number: str, sent: SayBond, desk: At, person: By) -> Given:
    """Keep products, steps and surfaces."""
    return Given(version=finishing.say_bond(desk, person, sent.request_key, number, sent.bond, sent.version))


@router.post("/jobs/{number}/done", status_code=201)
def note(number: str, sent: NoteDone, desk: At, person: By) -> Given:
    """Record something that was done, tried or found."""
    return Given(ids=(finishing.note(desk, person, sent.request_key, number, sent.done),))


@router.post("/jobs/{number}/done/{event}/take-back")
def take_back(number: str, event: int, sent: KeyOnly, desk: At, person: By) -> Given:
    """Take back something that was noted by mistake."""
    finishing.take_back(desk, person, sent.request_key, number, event)
    return Given()


@router.post("/jobs/{number}/clocks", status_code=201)
def start_clock(number: str, sent: StartClock, desk: At, person: By) -> Given:
    """Start a clock."""
    own = clocking.start_clock(
        desk, person, sent.request_key, number, sent.kind, sent.product, sent.label, sent.minutes
    )
    return Given(ids=(own,))


@router.post("/jobs/{number}/clocks/{clock}/end")
def end_clock(number: str, clock: int, sent: KeyWords, desk: At, person: By) -> Given:
    """End a clock."""
    clocking.end_clock(desk, person, sent.request_key, number, clock, sent.words)
    return Given()
