"""The seams of a job: what was planned of each, its coupon, the welds that are in, and what may come off by now."""

from typing import NamedTuple

from fairsquare.core.errors import FairSquareError
from fairsquare.core.said import Said, say
from fairsquare.core.weld.bonding import BondSaid
from fairsquare.core.weld.seam import Holder, SeamFound, SeamPlan, seam_found, settings_of
from fairsquare.core.weld.settings import SettingsFound
from fairsquare.job.cut.job import section_states
from fairsquare.job.facts.done import COUPON_GOOD, CouponMade, WeldMade
from fairsquare.job.facts.finishing import DoneFact, JobSaidFact
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.setup import MovementFact

SAME_SHEET_MM = 0.05


class SeamState(NamedTuple):
    """A seam as it stands. `log` is everything that was made of it, oldest first; `last` the last of each weld."""

    fact: JobSaidFact
    plan: SeamPlan
    coupons: tuple[DoneFact, ...]
    log: tuple[DoneFact, ...]

    @property
    def number(self) -> int:
        """Its number in the job."""
        return self.fact.subject

    @property
    def settings(self) -> SettingsFound | None:
        """Its settings, where they can be worked out."""
        try:
            return settings_of(self.plan)
        except FairSquareError:
            return None

    @property
    def found(self) -> SeamFound:
        """Everything that follows from its plan, the order of its welds too: for many welds that takes seconds, once."""
        return seam_found(self.plan)

    @property
    def last(self) -> dict[str, WeldMade]:
        """The last run of each weld."""
        return {event.what.weld: event.what for event in self.log if isinstance(event.what, WeldMade)}

    @property
    def good(self) -> tuple[str, ...]:
        """The welds that are in and look good."""
        return tuple(weld.id for weld in self.plan.welds if weld.id in self.last and self.last[weld.id].look == "good")

    @property
    def open(self) -> tuple[str, ...]:
        """The welds that are not made yet, or have to be made again."""
        return tuple(weld.id for weld in self.plan.welds if weld.id not in self.good)

    @property
    def coupon(self) -> DoneFact | None:
        """The accepted coupon that speaks of this seam as it is planned now."""
        governing = self.settings.governing_mm if self.settings else None
        for coupon in reversed(self.coupons):
            made = coupon.what
            if (
                isinstance(made, CouponMade)
                and made.accepted
                and made.end in COUPON_GOOD
                and made.process == self.plan.process
                and made.metal == self.plan.metal
                and governing is not None
                and abs(made.governing_mm - governing) <= SAME_SHEET_MM
            ):
                return coupon
        return None

    @property
    def waits(self) -> Said | None:
        """What the seam lacks before it may be welded; None where nothing."""
        name = self.plan.name
        if not self.plan.welds:
            return say("seam.no_welds", seam=name)
        if self.settings is None:
            return say("seam.no_settings", seam=name)
        if self.coupon is None:
            return say("seam.no_coupon", seam=name, refused=bool(self.coupons))
        return None

    def next_welds(self, most: int = 3) -> tuple[str, ...]:
        """Return the welds that come next in the order."""
        order = self.found.order
        wanted = set(self.open)
        return tuple(weld.id for weld in order.order if weld.id in wanted)[:most] if order else self.open[:most]

    def may_come_off(self, holder: Holder) -> bool:
        """Say whether enough welds are in for what only held the part to come off."""
        return len(self.good) >= holder.after_welds


def seam_states(facts: JobFacts) -> tuple[SeamState, ...]:
    """Return the seams of a job by their numbers."""
    states = []
    for statement in facts.said:
        if statement.topic != "seam" or statement.seam is None:
            continue
        own = [fact for fact in facts.done if fact.taken_back is None]
        coupons = tuple(f for f in own if isinstance(f.what, CouponMade) and f.what.seam == statement.subject)
        log = tuple(f for f in own if isinstance(f.what, WeldMade) and f.what.seam == statement.subject)
        states.append(SeamState(statement, statement.seam, coupons, log))
    return tuple(sorted(states, key=lambda state: state.number))


def bond_said(facts: JobFacts) -> BondSaid | None:
    """Return what was last said of the bonding."""
    return next((statement.bond for statement in facts.said if statement.topic == "bond"), None)


def unplanned_sections(facts: JobFacts) -> tuple[str, ...]:
    """Return the members that are sectioned or replaced at their seams, for which no seam is planned."""
    planned = {state.plan.section for state in seam_states(facts)}
    return tuple(
        state.fact.member
        for state in section_states(facts)
        if state.fact.how != "bolts" and state.fact.number not in planned
    )


def needs_welding(facts: JobFacts) -> bool:
    """Say whether anything is welded in this job."""
    return bool(unplanned_sections(facts)) or any(statement.topic == "seam" for statement in facts.said)


def welded(facts: JobFacts) -> MovementFact | None:
    """Return when final welding was recorded as done."""
    return next((move for move in reversed(facts.movements) if move.what == "welded"), None)
