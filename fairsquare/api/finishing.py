"""From the dry fit to the handing over, as JSON."""

from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, ConfigDict, Field

from fairsquare.actions import clocking, finishing, gaps
from fairsquare.api.doors import At, By
from fairsquare.api.models import Given, Key, KeyOnly, KeyWords, Sent
from fairsquare.api.told import HoldShown, hold_shown
from fairsquare.core.fit.said import FitSaid
from fairsquare.core.lengths import Unit
from fairsquare.core.weld.bonding import BondSaid
from fairsquare.core.weld.seam import SeamPlan
from fairsquare.job.facts.done import Done
from fairsquare.job.facts.finishing import ClockFact, ClockKind, DoneFact, JobSaidFact


class SayFit(Sent):
    """Panels and gaps, as read at `version` (0: nothing was listed)."""

    request_key: Key
    version: int
    fit: FitSaid


class SaySeam(Sent):
    """The plan of a seam, as read at `version`; seam 0 begins a new one."""

    request_key: Key
    version: int
    plan: SeamPlan


class SayBond(Sent):
    """Products, steps and surfaces, as read at `version`."""

    request_key: Key
    version: int
    bond: BondSaid


class NoteDone(Sent):
    """Something that was done, tried or found: a trial hanging, a coupon, a weld, an item that is finished."""

    request_key: Key
    done: Done


class CallGap(Sent):
    """A gap as it is called; bare numbers in `unit`."""

    request_key: Key
    call: Annotated[str, Field(max_length=200)]
    unit: Unit = "mm"


class StartClock(Sent):
    """A clock; `product` is one of the bonding's, or empty."""

    request_key: Key
    kind: ClockKind = "other"
    product: str = ""
    label: str
    minutes: float


class FinishingShown(BaseModel):
    """From the dry fit to the handing over: what was said and done, the clocks, and both hold points with their demands."""

    model_config = ConfigDict(frozen=True)

    said: tuple[JobSaidFact, ...]
    done: tuple[DoneFact, ...]
    clocks: tuple[ClockFact, ...]
    fit_accepted: HoldShown
    released: HoldShown


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
