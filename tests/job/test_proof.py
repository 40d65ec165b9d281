"""“Final welding may start”: what each kind of move makes old, which holds it opens again, and that no way round is found."""

import math

import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, precondition, rule

from fairsquare.core.fit.said import FitSaid
from fairsquare.core.weld.seam import JoinWeld, SeamPlan
from fairsquare.core.who import Who
from fairsquare.job.damage.job import units_of
from fairsquare.job.facts.done import CouponMade, LeftOut, WeldMade
from fairsquare.job.facts.finishing import DoneFact, JobSaidFact
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import ReadingFact
from fairsquare.job.facts.setup import MovementFact, SetupFact
from fairsquare.job.facts.walk_round import GapFact
from fairsquare.job.measure.ageing import aged, stands_on
from fairsquare.job.measure.picture import picture_of
from fairsquare.job.moves import MOVES
from fairsquare.job.release.carried import carried
from fairsquare.job.release.holds import job_state, may_sign
from fairsquare.job.release.watching import drifts
from fairsquare.stand_ins.vehicles import DUNLIN
from fairsquare.words.tell import tell
from tests.job.facts import REFERENCES, changed, facts, reading, signed, who

ALL = ("made_safe", "setup_accepted", "decision_made", "pulls_done", "fit_accepted")
FEW = DUNLIN.sheet.model_copy(
    update={
        "points": tuple(p for p in DUNLIN.sheet.points if p.code in (*REFERENCES, "F5L", "F5R", "F4L", "F4R")),
        "spans": (),
    }
)
POINTS = tuple(point.code for point in FEW.points if not point.reference)


def straightened() -> JobFacts:
    """A job in which something is straightened, so that every hold point is there, signed as far as the welding."""
    job = facts()
    decided = job.decisions[0].model_copy(update={"decision": "straighten"})
    return signed(changed(job, decisions=(decided, *job.decisions[1:])), *ALL)


def moved(job: JobFacts, what: str, minute: int = 40, **more) -> JobFacts:
    """The job after a move, with what is old marked as the store marks it."""
    move = MovementFact(id=minute, what=what, words=what, setup=1, by=who(minute), **more)
    setups = job.setups
    if MOVES[what].voids:
        setups = (*setups[:-1], setups[-1].model_copy(update={"voided": move}))
    if what == "lowered":
        setups = (*setups[:-1], setups[-1].model_copy(update={"left": move}))
    return aged(changed(job, movements=(*job.movements, move), setups=setups))


def span(number: int, a: str, b: str, minute: int, *, off: float = 0.0, **more) -> ReadingFact:
    places = {point.code: point.xyz for point in DUNLIN.sheet.points}
    mm = math.dist(places[a], places[b]) + off
    base = reading(number, "F5L", minute=minute)
    return base.model_copy(
        update={
            "kind": "span",
            "setup": None,
            "code": a,
            "b": b,
            "mode": "point_to_point",
            "mm": mm,
            "xyz": None,
            "sigma_mm": 0.5,
            "said": f"{a} {b} {mm:.1f}",
            **more,
        }
    )


TABLE = [
    # what moved, the holds that it opens again, then whether it makes points, spans and gaps old, and the set-up void
    ("structure", {"pulls_done", "fit_accepted"}, True, True, True, False),
    ("heat", {"pulls_done", "fit_accepted"}, True, True, True, False),
    ("heavy", {"pulls_done", "fit_accepted"}, True, True, True, False),
    ("drop", {"setup_accepted", "pulls_done", "fit_accepted"}, True, True, True, True),
    ("clamp", {"fit_accepted"}, True, True, True, False),
    ("cut", {"fit_accepted"}, True, True, True, False),
    ("hinge", {"fit_accepted"}, True, True, True, False),
    ("foam", {"fit_accepted"}, True, True, True, False),
    ("vehicle", {"setup_accepted", "pulls_done", "fit_accepted"}, True, True, True, True),
    ("bench", {"setup_accepted", "pulls_done", "fit_accepted"}, True, False, False, True),
    ("bridge", {"setup_accepted", "pulls_done", "fit_accepted"}, True, False, False, True),
    ("sight", set(), False, False, False, False),
    ("lowered", {"fit_accepted"}, False, False, False, False),
    ("holder", set(), False, False, False, False),
]
"""Pulls are signed anew only where metal may have come back; a void set-up keeps them shut until the next one is accepted."""


@pytest.mark.parametrize(("what", "opened", "points", "spans", "gaps", "voids"), TABLE)
def test_what_each_move_makes_old_and_opens_again(what, opened, points, spans, gaps, voids) -> None:
    job = straightened()
    job = changed(job, readings=(*job.readings, span(300, "F5L", "F5R", 25)))
    job = signed(job, "pulls_done", "fit_accepted")
    assert [hold.status for hold in job_state(job).holds] == ["closed"] * 5 + ["missing"]
    after = moved(job, what)
    state = job_state(after)
    assert {hold.name for hold in state.holds if hold.status != "closed"} == opened | {"released"}
    for hold in state.holds:
        assert hold.name == "released" or bool(hold.reopened) == (hold.name in opened)
    assert any(r.stale for r in after.readings if r.purpose == "point" and r.kind == "point") == points
    assert next(r for r in after.readings if r.kind == "span").stale == spans
    assert all(gap.stale == gaps for gap in after.gaps)
    assert bool(after.setups[-1].voided) == voids


def test_every_kind_of_move_stands_in_the_table_but_the_end_of_welding() -> None:
    assert {row[0] for row in TABLE} | {"welded"} == set(MOVES)


def test_no_role_signs_over_what_is_missing_old_or_loaded() -> None:
    for job in (
        moved(straightened(), "hinge"),
        changed(straightened(), readings=readings_loaded()),
        changed(straightened(), gaps=()),
    ):
        hold = job_state(job).hold("fit_accepted")
        assert hold.blocked
        for role in ("lead", "technician", "estimator", "apprentice"):
            assert may_sign(hold, role) is not None


def readings_loaded() -> tuple[ReadingFact, ...]:
    return tuple(
        one.model_copy(update={"loaded": True}) if one.code == "F5R" else one for one in straightened().readings
    )


@pytest.mark.parametrize("what", ["clamp", "cut", "hinge", "foam", "structure", "heat", "heavy"])
def test_what_was_moved_is_proven_again_by_reading_it_again(what) -> None:
    job = moved(straightened(), what)
    again = tuple(
        r.model_copy(update={"id": r.id + 500, "by": who(45), "stale": False})
        for r in job.readings
        if r.purpose == "point"
    )
    gaps = tuple(g.model_copy(update={"id": g.id + 500, "by": who(45), "stale": False}) for g in job.gaps)
    job = aged(changed(job, readings=(*job.readings, *again), gaps=(*job.gaps, *gaps)))
    holds = job_state(job)
    assert not holds.hold("pulls_done").missing
    job = (
        signed(job, "pulls_done", "fit_accepted")
        if holds.hold("pulls_done").status != "closed"
        else signed(job, "fit_accepted")
    )
    assert job_state(job).may_weld


BEFORE = (("F5L", "F5R"), ("F5L", "F4R"), ("F5R", "F4L"))


def lowered_job(offs=(0.0, 0.0, 0.0), pairs=BEFORE, again=BEFORE, after: int = 45) -> JobFacts:
    job = straightened()
    first = [span(300 + k, a, b, 25) for k, (a, b) in enumerate(pairs)]
    job = changed(job, readings=(*job.readings, *first))
    job = moved(signed(job, "pulls_done", "fit_accepted"), "lowered")
    second = [span(400 + k, a, b, after, off=off) for k, ((a, b), off) in enumerate(zip(again, offs, strict=False))]
    return aged(changed(job, readings=(*job.readings, *second)))


def test_lowering_keeps_the_proof_where_spans_agree_before_and_after() -> None:
    assert stands_on(lowered_job()) == "wheels"
    hold = job_state(lowered_job()).hold("fit_accepted")
    assert [tell(m.said) for m in hold.missing if "spans" in tell(m.said).lower()] == []
    picture = job_state(lowered_job()).picture
    assert picture is not None
    assert picture.stale_only == ()
    assert tell(carried(lowered_job((2.0, 0.0, 0.0))).missing) == ""
    assert "differ from before it was let down: F5L to F5R by +2.2 mm" in tell(
        carried(lowered_job((2.2, 0.0, 0.0))).missing
    )
    assert "Read the same spans again on the wheels: F4L to F5R" in tell(carried(lowered_job(again=BEFORE[:2])).missing)
    assert "2 free spans were read before" in tell(carried(lowered_job(pairs=BEFORE[:2], again=BEFORE[:2])).missing)
    assert carried(straightened()) is None
    fresh = moved(lowered_job(), "hinge", 50)
    assert "0 free spans were read before" in tell(carried(fresh).missing)


def test_nothing_but_spans_is_proof_on_the_wheels_until_it_is_set_up_again() -> None:
    job = lowered_job()
    again = SetupFact(number=2, instrument="3-D instrument", sigma_mm=0.3, sheet_version=1, opened=who(50))
    assert stands_on(changed(job, setups=(*job.setups, again))) == "rack"


def test_a_point_that_drifts_while_it_is_welded_is_told_and_stops_the_welding() -> None:
    job = straightened()
    still = reading(700, "F5R", minute=50, moved=(0.2, 0.0, 0.0)).model_copy(update={"purpose": "watch"})
    state = job_state(changed(job, readings=(*job.readings, still)))
    assert state.may_weld
    assert [one.drifts for one in drifts(changed(job, readings=(*job.readings, still)), state.picture)] == [False]
    drift = reading(701, "F5R", minute=51, moved=(2.2, 0.0, 0.0)).model_copy(update={"purpose": "watch"})
    job = changed(job, readings=(*job.readings, still, drift))
    state = job_state(job)
    assert [(one.drifts, one.off, round(one.mm, 1)) for one in drifts(job, state.picture)] == [(True, False, 2.2)]
    assert state.may_weld, "it drifts, and is within its tolerance yet"
    far = reading(702, "F5R", minute=52, moved=(6.0, 0.0, 0.0)).model_copy(update={"purpose": "watch"})
    job = changed(job, readings=(*job.readings, far))
    hold = job_state(job).hold("fit_accepted")
    assert not job_state(job).may_weld
    assert hold.blocked
    assert "Out of tolerance while welding: F5R by 6.0 mm" in " ".join(map(tell, hold.reopened))
    cool = reading(703, "F5R", minute=55)
    job = signed(changed(job, readings=(*job.readings, cool)), "pulls_done", "fit_accepted")
    assert job_state(job).may_weld, "read free again, and signed anew"


def seam(*welds: str) -> JobSaidFact:
    plan = SeamPlan(
        name="rail",
        process="plug",
        method="mag",
        volts=17.0,
        amperes=80.0,
        seconds=2.0,
        welds=tuple(JoinWeld(id=name, along_mm=40.0 * k) for k, name in enumerate(welds)),
    )
    return JobSaidFact(id=1, topic="seam", subject=1, version=1, seam=plan, by=who(21))


def done(number: int, what, minute: int = 35) -> DoneFact:
    return DoneFact(id=number, kind=what.kind, what=what, by=who(minute))


def welding(*runs) -> JobFacts:
    coupon = CouponMade(
        seam=1,
        process="plug",
        metal="steel",
        governing_mm=1.0,
        settings="80 A",
        made_by="Ngozi",
        end="metal_tore",
        accepted=True,
    )
    job = changed(facts(), said=(seam("a", "b"),), done=(done(1, coupon, 22),))
    job = signed(job, "made_safe", "setup_accepted", "decision_made", "fit_accepted")
    return changed(job, done=(*job.done, *runs))


def run(number: int, weld: str, look: str = "good") -> DoneFact:
    made = WeldMade(seam=1, weld=weld, process="plug", settings="80 A", look=look)
    return done(number, made)


def test_once_welding_is_done_the_fit_is_behind_and_the_release_looks_at_what_is_new() -> None:
    assert job_state(welding()).may_weld
    job = moved(welding(run(5, "a"), run(6, "b")), "welded")
    state = job_state(job)
    assert state.may_weld
    wanted = " ".join(tell(m.said) for m in state.hold("released").missing)
    assert "Older than the last move" in wanted
    assert "Gaps read before the last move: lid" in wanted
    assert "not in, or to be made again" not in wanted
    cracked = " ".join(
        tell(m.said) for m in job_state(welding(run(5, "a"), run(6, "b", "crack"))).hold("released").missing
    )
    assert "rail: not in, or to be made again: b." in cracked
    for what in ("vehicle", "clamp", "hinge", "lowered"):
        assert job_state(moved(job, what, 50)).hold("fit_accepted").status == "closed", what
    for what in ("structure", "heat", "cut", "drop"):
        assert job_state(moved(job, what, 50)).hold("fit_accepted").status != "closed", what


def test_a_coupon_speaks_for_the_sheets_that_it_was_made_of() -> None:
    job = welding()
    thicker = job.said[0].seam.model_copy(update={"sheets_mm": (1.6, 1.6)})
    other = changed(job, said=(job.said[0].model_copy(update={"seam": thicker, "version": 2}),))
    hold = job_state(other).hold("fit_accepted")
    assert "welded otherwise than was planned" in " ".join(map(tell, hold.reopened))
    assert any("no accepted coupon" in tell(missing.said) for missing in hold.missing)


def test_what_is_left_out_with_consent_is_not_missing_at_the_release() -> None:
    bent = [r for r in facts().readings if r.code != "F5R"]
    job = facts(readings=(*bent, reading(99, "F5R", moved=(-8.0, 0.0, 0.0))))
    assert any("out of tolerance: F5R" in tell(m.said) for m in job_state(job).hold("released").missing)
    left = LeftOut(what="F5R", why="old damage", consent="the owner", how="by letter", codes=("F5R",))
    job = changed(job, done=(done(1, left),))
    released = job_state(job).hold("released")
    assert not any("out of tolerance" in tell(m.said) for m in released.missing)
    (fair,) = (one for one in released.demands if one.name == "fair")
    assert tell(fair.evidence).endswith("F5R left out with consent")
    assert any("out of tolerance: F5R" in tell(m.said) for m in job_state(job).hold("fit_accepted").missing)
    two = [r for r in job.readings if r.code != "F4R"]
    job = changed(job, readings=(*two, reading(98, "F4R", moved=(-8.0, 0.0, 0.0))))
    assert any("1 point out of tolerance: F4R." in tell(m.said) for m in job_state(job).hold("released").missing)


def test_nothing_hung_needs_no_gaps_and_says_why() -> None:
    none = JobSaidFact(
        id=1, topic="fit", subject=0, version=1, fit=FitSaid(none_hung="a flatbed: nothing is hung"), by=who(3)
    )
    job = facts(gaps=(), said=(none,))
    demands = {one.name: one for one in job_state(job).hold("fit_accepted").demands}
    assert demands["gaps"].met
    assert "a flatbed" in tell(demands["gaps"].evidence)


class Job(RuleBasedStateMachine):
    """A job driven at random. What was read when, loaded or not, and what moved when is kept apart in plain sets: the oracle."""

    @initialize()
    def begin(self) -> None:
        first = SetupFact(number=1, instrument="arm", sigma_mm=0.3, sheet_version=1, opened=self.at(1))
        self.minute, self.count = 10, 10
        self.job = facts(sheet=FEW, readings=(), gaps=(), setups=(first,))
        own = tuple(one for one in self.job.members if one.member in units_of(FEW))
        kept = tuple(one for one in self.job.decisions if one.seen in {member.id for member in own})
        self.job = changed(self.job, members=own, decisions=kept)
        self.fresh: set[str] = set()
        self.fresh_gaps: set[str] = set()
        self.wheels = False
        self.valid = True

    def at(self, minute: int) -> Who:
        return Who(
            name="Ngozi",
            role="technician",
            at=f"2026-03-{2 + minute // 1440:02d}T{minute // 60 % 24:02d}:{minute % 60:02d}:00Z",
        )

    def tick(self) -> Who:
        self.minute += 1
        return self.at(self.minute)

    def number(self) -> int:
        self.count += 1
        return self.count

    def keep(self, **changes) -> None:
        self.job = aged(changed(self.job, **changes))

    @rule(code=st.sampled_from((*REFERENCES, *POINTS)), loaded=st.booleans(), off=st.sampled_from((0.0, 0.0, 0.0, 9.0)))
    def read(self, code, loaded, off) -> None:
        if not self.valid or self.wheels:
            return
        own = reading(self.number(), code, moved=(off, 0.0, 0.0)).model_copy(
            update={"by": self.tick(), "setup": self.job.setups[-1].number, "loaded": loaded}
        )
        self.keep(readings=(*self.job.readings, own))
        if not loaded and code in POINTS:
            self.fresh.add(code)

    @rule()
    def read_all(self) -> None:
        for code in (*REFERENCES, *POINTS):
            self.read(code, False, 0.0)

    @rule(what=st.sampled_from(sorted(set(MOVES) - {"lowered", "holder", "welded", "sight"})))
    def move(self, what) -> None:
        move = MovementFact(id=self.number(), what=what, words=what, setup=self.job.setups[-1].number, by=self.tick())
        setups = self.job.setups
        if what in ("vehicle", "bench", "bridge", "drop"):
            setups = (*setups[:-1], setups[-1].model_copy(update={"voided": setups[-1].voided or move}))
            self.valid = False
        self.fresh.clear()
        if what not in ("bench", "bridge"):
            self.fresh_gaps.clear()
        self.keep(setups=setups, movements=(*self.job.movements, move))

    @precondition(lambda self: not self.valid or self.wheels)
    @rule()
    def set_up(self) -> None:
        number = self.job.setups[-1].number + 1
        own = SetupFact(number=number, instrument="arm", sigma_mm=0.3, sheet_version=1, opened=self.tick())
        self.keep(setups=(*self.job.setups, own))
        self.valid, self.wheels = True, False
        self.fresh.clear()

    @precondition(lambda self: not self.wheels)
    @rule()
    def let_down(self) -> None:
        move = MovementFact(
            id=self.number(), what="lowered", words="", setup=self.job.setups[-1].number, by=self.tick()
        )
        setups = (*self.job.setups[:-1], self.job.setups[-1].model_copy(update={"left": move}))
        self.keep(setups=setups, movements=(*self.job.movements, move))
        self.wheels = True

    @rule(off=st.sampled_from((0.0, 0.0, 5.0)))
    def spans(self, off) -> None:
        for a, b in BEFORE:
            self.keep(readings=(*self.job.readings, span(self.number(), a, b, 0, off=off, by=self.tick())))

    @rule(mm=st.sampled_from((4.0, 4.0, 7.0)))
    def gap(self, mm) -> None:
        stand = "wheels" if self.wheels else "rack"
        own = GapFact(
            id=self.number(), place="lid", said="", mm=mm, target_mm=4.0, tolerance_mm=1.0, by=self.tick(), stand=stand
        )
        self.keep(gaps=(*self.job.gaps, own))
        if self.wheels:
            self.fresh_gaps.add("lid")

    @rule()
    def sign_what_can_be(self) -> None:
        for name in ("made_safe", "setup_accepted", "decision_made", "fit_accepted"):
            hold = job_state(self.job).hold(name)
            if may_sign(hold, "lead") is None:
                self.job = signed(self.job, name)

    @invariant()
    def never_welds_unproven(self) -> None:
        if not getattr(self, "job", None) or not job_state(self.job).may_weld:
            return
        assert self.valid
        assert set(POINTS) <= self.fresh
        assert self.fresh_gaps
        setup = self.job.setups[-1]
        assert picture_of(self.job, setup, FEW).loaded_only == ()


Job.TestCase.settings = settings(
    max_examples=25, stateful_step_count=30, deadline=None, suppress_health_check=list(HealthCheck)
)
TestJobAtRandom = Job.TestCase


def test_the_machine_can_reach_the_welding() -> None:
    """The state machine would prove nothing if no way through led to a signed fit."""
    machine = Job()
    machine.begin()
    machine.read_all()
    machine.gap(4.0)
    machine.spans(0.0)
    machine.let_down()
    machine.spans(0.0)
    machine.gap(4.0)
    machine.sign_what_can_be()
    assert [tell(m.said) for m in job_state(machine.job).hold("fit_accepted").missing] == []
    assert job_state(machine.job).may_weld
    machine.never_welds_unproven()
