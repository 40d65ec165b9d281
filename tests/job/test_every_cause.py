"""Every way in which a hold point can lack something is made to happen here, and goes when its cause goes."""

import ast
import sys
from collections.abc import Callable
from pathlib import Path
from typing import NamedTuple

import numpy as np
import pytest

import fairsquare.job.release
from fairsquare.core.fit.said import FitSaid
from fairsquare.core.measure.calibration import ToolFact
from fairsquare.core.pull.job import AfterPull
from fairsquare.core.weld.bonding import BondSaid, SurfaceSaid
from fairsquare.demo.by_hand import SOUND, ByHand
from fairsquare.job.facts.cuts import SectionFact
from fairsquare.job.facts.damage import SettlementFact
from fairsquare.job.facts.done import Finished, FinishItem, Hung, OutsideWork
from fairsquare.job.facts.finishing import ClockFact, DoneFact, JobSaidFact
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import ChoiceFact, KeptOut
from fairsquare.job.facts.parts import PartFact, PartItemFact
from fairsquare.job.facts.supplements import SupplementLineFact
from fairsquare.job.facts.walk_round import WalkFact
from fairsquare.job.fit.job import fit_findings
from fairsquare.job.missing import Missing
from fairsquare.job.release.holds import job_state
from fairsquare.stand_ins.vehicles import HERON
from fairsquare.words.tell import tell
from tests.job.facts import REFERENCES, changed, facts, reading, readings, who
from tests.job.test_board import FORWARD, event
from tests.job.test_board import pulled as board_job
from tests.job.test_by_hand import hand, heron
from tests.job.test_calibration import LONG, checked
from tests.job.test_finishing import DOOR
from tests.job.test_proof import lowered_job, moved, run, straightened, welding

RELEASE = Path(fairsquare.job.release.__file__).parent


class Case(NamedTuple):
    """What a hold point says in a job, and a job in which its cause is gone."""

    hold: str
    words: str
    caused: Callable[[], JobFacts]
    cured: Callable[[], JobFacts]


# ── jobs with one thing wrong ────────────────────────────────────────────────


def fair() -> JobFacts:
    return facts()


def but(code: str, *instead, **more) -> JobFacts:
    """The fair job with other readings of a point, or none."""
    return facts(readings=(*(one for one in facts().readings if one.code != code), *instead), **more)


def straightening(**changes) -> JobFacts:
    """A job in which something is straightened, signed as far as the decision; `changes` as of the fair job."""
    job = straightened()
    return changed(job, **{"signatures": job.signatures[:3], **changes})


def unqualified() -> JobFacts:
    return facts(safety=tuple(one.model_copy(update={"qualification": None}) for one in facts().safety))


def chosen(setups_of: JobFacts, *trusted: str) -> JobFacts:
    """The job, with references that a person chose."""
    choice = ChoiceFact(id=1, trusted=trusted, reason="the left sill was struck", by=who(12))
    return changed(setups_of, setups=(setups_of.setups[0].model_copy(update={"choice": choice}),))


def askew(far: float) -> JobFacts:
    """References that stand elsewhere than the sheet says, each in its own way."""
    ways = np.array(((1, 0, 0), (0, 1, 0), (0, 0, 1), (-1, 1, 0), (0, -1, 1), (1, 0, -1))) * far
    pairs = enumerate(zip(REFERENCES, ways, strict=True), start=1)
    return facts(readings=tuple(reading(n, code, moved=tuple(map(float, way))) for n, (code, way) in pairs))


def split() -> JobFacts:
    """Five references of which two sets fit."""
    five = enumerate(REFERENCES[:5], start=1)
    return facts(readings=tuple(reading(n, code, moved=(0.0, 0.0, 6.0 * (code == "C2R"))) for n, code in five))


def split_and_chosen() -> JobFacts:
    return chosen(split(), *job_state(split()).picture.fit.alternatives[0].trusted)


def by_hand(*more: str, sound=SOUND) -> JobFacts:
    return heron([*hand().on_sound_frame(), *more], sound=sound)


def on_one_another() -> JobFacts:
    """A span between two points that the sheet, as it was corrected since, puts on one another."""
    job = by_hand("f1l f2l 750")
    (first,) = (p for p in job.sheet.points if p.code == "F1L")
    points = tuple(p.model_copy(update={"xyz": first.xyz}) if p.code == "F2L" else p for p in job.sheet.points)
    return changed(job, sheet=job.sheet.model_copy(update={"points": points}))


def a_sound_point_has_moved() -> JobFacts:
    places = HERON.true_places(2)
    places["C2L"] = places["C2L"] + [9.0, 6.0, 0.0]
    return heron(list(ByHand(places, 2).on_sound_frame()))


def doubted() -> JobFacts:
    """The flatbed read ahead, and a span 60 mm longer than it is."""
    a, b = (HERON.true_places(1)[code] for code in ("F1L", "C1R"))
    return by_hand(*hand().ahead(), f"f1l c1r {np.linalg.norm(a - b) + 60:.0f}")


def kept_out() -> JobFacts:
    """The same with every contradicted reading kept out."""
    job = doubted()
    doubts = {number for doubt in job_state(job).picture.joined.doubts for number in doubt.readings}
    out = KeptOut(reason="misread", by=who(55))
    return changed(
        job, readings=tuple(r.model_copy(update={"kept_out": out}) if r.id in doubts else r for r in job.readings)
    )


def contradicted() -> JobFacts:
    """A front that went rearward, told as a hit from behind."""
    moves = {"F5R": (-20.0, 6.0, 8.0), "F4R": (-13.0, 4.0, 5.0), "F3R": (-6.0, 2.0, 2.0)}
    own = [reading(200 + n, code, moved=far) for n, (code, far) in enumerate(moves.items())]
    return facts(hit_from_deg=180, readings=(*(r for r in facts().readings if r.code not in moves), *own))


def settled(job: JobFacts, finding: str) -> JobFacts:
    reason = SettlementFact(id=1, finding=finding, reason="looked at twice, it is so", by=who(40))
    return changed(job, settlements=(reason,))


def on_no_member(*codes: str) -> dict:
    """The sheet on which those points, or all, belong to no member."""
    points = tuple(
        p.model_copy(update={"member": None}) if not codes or p.code in codes else p for p in facts().sheet.points
    )
    return {"sheet": facts().sheet.model_copy(update={"points": points})}


def pulled(*events, **more) -> JobFacts:
    return straightening(pull_plans=board_job().pull_plans, pull_events=events, **more)


def torn(signed_at: int = 30) -> JobFacts:
    """A seam has opened in the pull that ended at 10:09; the decision was signed at that minute of nine, or later."""
    found = event(9, "ended", after=AfterPull(seams="a seam has opened at F4R"))
    *before, decision = straightening().signatures
    late = decision.model_copy(
        update={"by": who(30).model_copy(update={"at": f"2026-03-02T{9 + signed_at // 60:02d}:30"})}
    )
    return pulled(event(1, "cautions", watched=(FORWARD,)), found, signatures=(*before, late))


def watched(*instead) -> JobFacts:
    return changed(straightened(), readings=(*straightened().readings, *instead))


def gaps(**last) -> JobFacts:
    return facts(gaps=(facts().gaps[0], facts().gaps[1].model_copy(update=last)))


def hung(*panels: str) -> JobFacts:
    return finished(*(Hung(panel=name, strip=True) for name in panels), said=(said("fit", fit=DOOR),))


def misfit() -> JobFacts:
    """A gap that is wide though every point near it is home."""
    near = DOOR.gaps[0].model_copy(update={"place": "lid", "panel": "", "near": "f5r"})
    wide = tuple(gap.model_copy(update={"mm": 7.0}) for gap in facts().gaps)
    return facts(gaps=wide, said=(said("fit", fit=FitSaid(gaps=(near,))),))


def misfit_settled() -> JobFacts:
    (found,) = fit_findings(misfit(), job_state(misfit()).picture)
    return settled(misfit(), found.key)


def part(plan: str = "") -> JobFacts:
    item = PartItemFact(id=1, part=1, kind="bracket", words="bracket", old_count=2, new_count=1, plan=plan, by=who(8))
    own = PartFact(id=1, name="rail", origin="new", source="", by=who(7))
    return facts(parts=(own,), part_items=(item,))


def bonded(*gets: str) -> JobFacts:
    joint = SurfaceSaid(place="rail flange", kind="flange", gets=gets)
    return facts(said=(said("bond", bond=BondSaid(surfaces=(joint,))),))


def said(topic: str, **what) -> JobSaidFact:
    return JobSaidFact(id=1, topic=topic, subject=0, version=1, by=who(3), **what)


def finished(*items, **more) -> JobFacts:
    return facts(
        done=tuple(DoneFact(id=n, kind=what.kind, what=what, by=who(9)) for n, what in enumerate(items, 1)), **more
    )


def clock(**more) -> JobFacts:
    return facts(clocks=(ClockFact(id=1, kind="cure", product="", label="sealer", minutes=30, by=who(20), **more),))


def read_with(*events) -> JobFacts:
    return facts(tools=(ToolFact(name="3-D instrument", kind="instrument", sigma_mm=0.5, events=events),))


def aligned(end: str) -> OutsideWork:
    return OutsideWork(what="alignment", end=end, by_whom="Axle and Tide", paper="17")


LOADED, STALE = reading(99, "F5R", loaded=True), reading(99, "F5R", stale=True)
OFF, CLOSE = reading(99, "F5R", moved=(-8.0, 0.0, 0.0)), reading(99, "F5R", moved=(-2.9, 0.0, 0.0))
WATCH = reading(702, "F5R", minute=52, moved=(6.0, 0.0, 0.0)).model_copy(update={"purpose": "watch"})
COOL = reading(703, "F5R", minute=55)
SEEN = WalkFact(
    id=1, kind="crack", said="a crack", place="", code=None, xy=None, left_mm=None, right_mm=None, by=who(6)
)
LINE = SupplementLineFact(id=1, station="damage", words="a torn seam", hours=1.0, parts="", amount_cents=0, by=who(18))
SECTION = SectionFact(id=1, number=1, member="right front rail", how="seams", by=who(17))
PRIMER = FinishItem(what="primer", words="inner rail")
GAUGES, STATIONS = ("gauge c2l c2r pin 3 left", "gauge c3l c3r pin 3 left"), ("C2L", "C2R", "C3L", "C3R")
ALL_WELDS = (run(5, "a"), run(6, "b"))


def read(one) -> JobFacts:
    return but("F5R", one)


def pulled_and_read(*own) -> JobFacts:
    return straightening(readings=but("F5R", *own).readings)


CASES = (
    Case("fit_accepted", "Practice ends with the pulls", lambda: facts(number="PRACTICE-0001"), fair),
    Case("fit_accepted", "“Decision made” is not signed", fair, straightened),
    Case("pulls_done", "“Decision made” is not signed", lambda: straightening(signatures=()), straightening),
    Case("made_safe", "12 V battery off: not answered", lambda: facts(safety=()), fair),
    Case("made_safe", "the number of the licence", unqualified, fair),
    # the set-up
    Case("setup_accepted", "There is no sheet", lambda: facts(sheet=None, sheet_version=None), fair),
    Case("setup_accepted", "Set-up 1 is void", lambda: facts(setups=moved(facts(), "vehicle").setups), fair),
    Case("setup_accepted", "There is no set-up", lambda: facts(setups=(), readings=()), fair),
    Case("setup_accepted", "needs three", lambda: facts(readings=readings(REFERENCES[:2])), fair),
    Case("setup_accepted", "No four of the 6 references agree", lambda: askew(30.0), lambda: askew(0.0)),
    Case("setup_accepted", "choose which to trust", split, split_and_chosen),
    Case(
        "setup_accepted",
        "The references chosen do not agree",
        lambda: chosen(split(), *REFERENCES),
        split_and_chosen,
    ),
    Case("setup_accepted", "nothing checks them", lambda: facts(readings=readings(REFERENCES[:3])), fair),
    Case("setup_accepted", "which points stand on sound frame", lambda: by_hand(sound=()), by_hand),
    Case("setup_accepted", "Choose two stations or more", lambda: by_hand(sound=("C2L", "C2R")), by_hand),
    Case("setup_accepted", "too close for a span", on_one_another, lambda: by_hand("f1l f2l 750")),
    Case("setup_accepted", "Nothing checks the sound points", lambda: heron(GAUGES, sound=STATIONS), by_hand),
    Case("setup_accepted", "not where the sheet says", a_sound_point_has_moved, by_hand),
    # the decision
    Case("decision_made", "what cannot be seen is not decided", lambda: facts(setups=(), readings=()), fair),
    Case("decision_made", "Supplement: “a torn seam” is", lambda: facts(supplement_lines=(LINE,)), fair),
    Case("decision_made", "What is not read is not proven sound", lambda: but("F5R"), fair),
    Case("decision_made", "not said on which member", lambda: facts(walk=(SEEN,)), fair),
    Case("decision_made", "not looked at yet", lambda: facts(members=(), decisions=()), fair),
    Case("decision_made", "Told: from the rear", contradicted, lambda: settled(contradicted(), "hit")),
    Case(
        "decision_made",
        "F5R: out of tolerance, and on no member",
        lambda: but("F5R", OFF, **on_no_member("F5R")),
        lambda: read(OFF),
    ),
    Case("decision_made", "The sheet names no member", lambda: facts(**on_no_member(), members=(), decisions=()), fair),
    Case("decision_made", "kept, though F5R is off", lambda: read(OFF), fair),
    # the pulls
    Case("pulls_done", "there is no set-up in force", lambda: straightening(setups=()), straightening),
    Case("pulls_done", "A pull is under way", lambda: pulled(event(1, "cautions", watched=(FORWARD,))), straightening),
    Case("pulls_done", "Found after pull 1: a seam has opened", torn, lambda: torn(signed_at=120)),
    Case("pulls_done", "1 point not read: F5R", pulled_and_read, straightening),
    Case("pulls_done", "Read only under load: F5R", lambda: pulled_and_read(LOADED), straightening),
    Case("pulls_done", "Read before the last pull: F5R", lambda: pulled_and_read(STALE), straightening),
    Case("pulls_done", "1 point out of tolerance: F5R", lambda: pulled_and_read(OFF), straightening),
    Case("pulls_done", "inside, but not by more", lambda: pulled_and_read(CLOSE), straightening),
    # final welding
    Case("fit_accepted", "what it read is no evidence", lambda: read_with(checked(1, "2026-03-01", LONG)), fair),
    Case("fit_accepted", "there is no set-up in force", lambda: facts(setups=()), fair),
    Case("fit_accepted", "1 point not read: F5R", lambda: but("F5R"), fair),
    Case("fit_accepted", "Read only under load: F5R", lambda: read(LOADED), fair),
    Case("fit_accepted", "Older than the last move: F5R", lambda: read(STALE), fair),
    Case("fit_accepted", "in every direction: F1L", lambda: by_hand(hand().span("F1L", "C1R")), fair),
    Case("fit_accepted", "contradicted by other readings", doubted, kept_out),
    Case("fit_accepted", "1 point out of tolerance: F5R", lambda: read(OFF), fair),
    Case("fit_accepted", "Out of tolerance while welding: F5R", lambda: watched(WATCH), lambda: watched(WATCH, COOL)),
    Case("fit_accepted", "F5L to F5R by +4.0 mm", lambda: lowered_job((4.0, 0.0, 0.0)), lowered_job),
    Case("fit_accepted", "The gap check is not made", lambda: facts(gaps=()), fair),
    Case("fit_accepted", "Gaps not read on the rack: lid", lambda: facts(gaps=facts().gaps[1:]), fair),
    Case("fit_accepted", "Gaps not read on the wheels: lid", lambda: facts(gaps=facts().gaps[:1]), fair),
    Case("fit_accepted", "Gaps read before the last move: lid", lambda: gaps(stale=True), gaps),
    Case("fit_accepted", "Gaps out of tolerance: lid", lambda: gaps(mm=5.2), gaps),
    Case("fit_accepted", "Not hung with its weatherstrip on: door", hung, lambda: hung("door")),
    Case("fit_accepted", "lid is wide, and F5R is home by reading", misfit, misfit_settled),
    Case("fit_accepted", "rail: bracket: 1 of 2", part, lambda: part("moved over from the old one")),
    Case("fit_accepted", "its welds are not mapped", lambda: facts(sections=(SECTION,)), fair),
    Case("fit_accepted", "no seam is planned for it", lambda: facts(sections=(SECTION,)), fair),
    Case("fit_accepted", "no accepted coupon", lambda: changed(welding(), done=(), signatures=()), welding),
    Case("fit_accepted", "rail flange: no ", lambda: bonded("primer"), lambda: bonded("weld_primer")),
    # the release
    Case("released", "“Fit accepted: weld” is not signed", fair, lambda: welding(*ALL_WELDS)),
    Case("released", "to be made again: a", lambda: welding(run(6, "b")), lambda: welding(*ALL_WELDS)),
    Case(
        "released",
        "Final welding is not recorded as done",
        lambda: welding(*ALL_WELDS),
        lambda: moved(welding(*ALL_WELDS), "welded"),
    ),
    Case("released", "No protection, pads or later seams", fair, lambda: finished(PRIMER)),
    Case("released", "Not done yet: inner rail", lambda: finished(PRIMER), lambda: finished(PRIMER, Finished(item=1))),
    Case("released", "No word on wheel alignment", fair, lambda: finished(aligned("done"))),
    Case("released", "wheel alignment failed", lambda: finished(aligned("failed")), lambda: finished(aligned("done"))),
    Case("released", "Clocks run: sealer", clock, lambda: clock(ended=who(50))),
)


class Heard(NamedTuple):
    """What every case says is missing, and the lines of code that said it."""

    said: dict[Case, list[Missing]]
    lines: set[tuple[str, int]]


def lacks(job: JobFacts, hold: str) -> list[Missing]:
    """Return what a hold point of a job lacks, each with the page that its demand names where it names none itself."""
    own = next((one for one in job_state(job).holds if one.name == hold), None)
    if own is None:
        return []
    pages = {one.model_dump_json(): demand.page for demand in own.demands for one in demand.missing}
    found = [(one, one.page or pages.get(one.model_dump_json(), "")) for one in own.missing]
    return [one.model_copy(update={"page": page}) for one, page in found]


@pytest.fixture(scope="module")
def heard() -> Heard:
    lines: set[tuple[str, int]] = set()
    plain = Missing.__init__

    def listening(self, **fields) -> None:
        frame = sys._getframe(1)
        while Path(frame.f_code.co_filename).parent != RELEASE and frame.f_back:
            frame = frame.f_back
        lines.add((Path(frame.f_code.co_filename).name, frame.f_lineno))
        plain(self, **fields)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Missing, "__init__", listening)
        return Heard({case: lacks(case.caused(), case.hold) for case in CASES}, lines)


@pytest.mark.parametrize("case", CASES, ids=lambda case: f"{case.hold}: {case.words[:40]}")
def test_what_is_missing_is_said_with_its_page_and_goes_with_its_cause(case: Case, heard: Heard) -> None:
    of_it = [one for one in heard.said[case] if case.words in tell(one.said)]
    assert of_it, [tell(one.said) for one in heard.said[case]]
    assert all(one.page for one in of_it)
    after = [tell(one.said) for one in lacks(case.cured(), case.hold)]
    assert not any(case.words in words for words in after), after


def test_there_is_no_other_cause(heard: Heard) -> None:
    """Every place in the code that says what a hold point lacks was reached by a case."""
    unheard = []
    for file in sorted(RELEASE.glob("*.py")):
        for call in ast.walk(ast.parse(file.read_text(encoding="utf-8"))):
            if isinstance(call, ast.Call) and isinstance(call.func, ast.Name) and call.func.id in ("Missing", "lacks"):
                reached = range(call.lineno, (call.end_lineno or call.lineno) + 1)
                if not any(name == file.name and line in reached for name, line in heard.lines):
                    unheard.append(f"{file.name}:{call.lineno} {ast.unparse(call)[:90]}")
    assert unheard == []
