"""Hold points: what each needs, who may sign, and what opens one again after it was signed."""

import pytest

from fairsquare.core.said import Said, say
from fairsquare.job.facts.damage import SettlementFact
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import ChoiceFact
from fairsquare.job.facts.walk_round import WalkFact
from fairsquare.job.missing import demand, lacks
from fairsquare.job.release.holds import job_state, may_sign
from fairsquare.job.stations.row import Asked, station
from fairsquare.stand_ins.vehicles import DUNLIN
from fairsquare.words.tell import tell
from tests.job.facts import OTHERS, REFERENCES, changed, facts, movement, reading, readings, signed, who


def missing(job, hold: str) -> str:
    return " ".join(tell(one.said) for one in job_state(job).hold(hold).missing)


def test_a_fair_job_is_closed_hold_by_hold() -> None:
    job = facts()
    assert job_state(job).hold("made_safe").status == "ready"
    assert job_state(job).hold("setup_accepted").status == "ready"
    assert "“Made safe” is not signed." in missing(job, "fit_accepted")
    job = signed(job, "made_safe", "setup_accepted")
    assert job_state(job).hold("decision_made").status == "ready"
    assert missing(job, "fit_accepted") == "“Decision made” is not signed."
    job = signed(job, "decision_made")
    assert job_state(job).hold("fit_accepted").status == "ready"
    job = signed(job, "fit_accepted")
    assert [hold.status for hold in job_state(job).holds] == ["closed"] * 4 + ["missing"]


def test_roles() -> None:
    holds = job_state(signed(facts(), "made_safe", "setup_accepted", "decision_made"))
    fit = holds.hold("fit_accepted")
    assert may_sign(fit, "lead") is None
    assert "signed by a lead" in tell(may_sign(fit, "technician"))
    for role in ("apprentice", "estimator"):
        assert may_sign(job_state(facts()).hold("made_safe"), role) is not None
    assert "signed already" in tell(may_sign(holds.hold("made_safe"), "lead"))


def test_what_is_missing_is_said() -> None:
    assert "12 V battery off: not answered yet." in missing(facts(safety=()), "made_safe")
    assert "There is no sheet" in missing(facts(sheet=None, sheet_version=None), "setup_accepted")
    assert "There is no set-up" in missing(facts(setups=(), readings=()), "setup_accepted")
    assert "needs three" in missing(facts(readings=readings(REFERENCES[:2])), "setup_accepted")
    assert "nothing checks them" in missing(facts(readings=readings(REFERENCES[:3])), "setup_accepted")
    assert "14 points not read: F5L" in missing(facts(readings=readings(REFERENCES)), "fit_accepted")
    assert "The gap check is not made" in missing(facts(gaps=()), "fit_accepted")
    wide = facts().gaps[1].model_copy(update={"mm": 5.2})
    assert "Gaps out of tolerance: lid" in missing(facts(gaps=(facts().gaps[0], wide)), "fit_accepted")
    assert "Gaps not read on the wheels: lid" in missing(facts(gaps=facts().gaps[:1]), "fit_accepted")
    assert "Gaps not read on the rack: lid" in missing(facts(gaps=facts().gaps[1:]), "fit_accepted")


@pytest.mark.parametrize(
    ("last", "words"),
    [
        (reading(99, "F5R", loaded=True), "Read only under load: F5R"),
        (reading(99, "F5R", stale=True), "Older than the last move: F5R"),
        (reading(99, "F5R", taken_back=who(50)), "1 point not read: F5R"),
    ],
)
def test_missing_loaded_and_stale_readings_are_never_overridden(last, words) -> None:
    kept = [r for r in facts().readings if r.code != "F5R"]
    job = signed(facts(readings=(*kept, last)), "made_safe", "setup_accepted")
    hold = job_state(job).hold("fit_accepted")
    assert words in missing(job, "fit_accepted")
    assert hold.blocked
    assert "Not yet" in tell(may_sign(hold, "lead"))


def test_what_is_off_may_be_overridden_by_a_lead() -> None:
    bent = [r for r in facts().readings if r.code != "F5R"]
    job = facts(readings=(*bent, reading(99, "F5R", moved=(-8.0, 0.0, 0.0))))
    job = signed(job, "made_safe", "setup_accepted", "decision_made")
    hold = job_state(job).hold("fit_accepted")
    assert [one.overridable for one in hold.missing] == [True]
    assert "1 point out of tolerance: F5R" in tell(hold.missing[0].said)
    assert may_sign(hold, "lead") is None


@pytest.mark.parametrize(
    ("change", "opened", "why"),
    [
        ({"readings": (*facts().readings, reading(77, "F4L", minute=50))}, {"fit_accepted"}, "read, corrected"),
        (
            {"readings": (*facts().readings, reading(77, "C1L", minute=50))},
            {"setup_accepted", "fit_accepted"},
            "read again",
        ),
        ({"sheet_version": 2}, {"setup_accepted", "decision_made", "fit_accepted"}, "another version"),
        ({"movements": (movement("structure"),)}, {"fit_accepted"}, "was moved"),
        ({"gaps": (facts().gaps[0].model_copy(update={"id": 9}),)}, {"fit_accepted"}, "gaps were read"),
        (
            {"setups": (facts().setups[0].model_copy(update={"voided": movement("bench")}),)},
            {"setup_accepted", "fit_accepted"},
            "set-up is another one",
        ),
        (
            {"safety": (facts().safety[0].model_copy(update={"id": 70, "answer": "undone"}), *facts().safety[1:])},
            {"made_safe", "fit_accepted"},
            "made-safe list",
        ),
    ],
)
def test_a_change_after_the_signature_opens_the_hold_and_says_why(change, opened, why) -> None:
    job = changed(signed(facts(), "made_safe", "setup_accepted", "decision_made", "fit_accepted"), **change)
    state = job_state(job)
    assert {hold.name for hold in state.holds if hold.status != "closed"} == opened | {"released"}
    assert any(why in tell(one) for hold in state.holds for one in hold.reopened)


def test_a_decision_needs_every_member_decided_and_every_contradiction_settled() -> None:
    job = signed(facts(hit_from_deg=180), "made_safe", "setup_accepted")
    assert "not looked at yet" in missing(changed(job, members=(), decisions=()), "decision_made")
    assert "left front rail: not decided." in missing(changed(job, decisions=job.decisions[1:]), "decision_made")
    anew = job.members[0].model_copy(update={"id": 90})
    assert "left front rail: seen anew" in missing(changed(job, members=(*job.members, anew)), "decision_made")
    inspect = job.decisions[0].model_copy(update={"decision": "inspect"})
    assert "looked into" in missing(changed(job, decisions=(inspect, *job.decisions[1:])), "decision_made")
    moved = {"F5R": (-20.0, 6.0, 8.0), "F4R": (-13.0, 4.0, 5.0), "F3R": (-6.0, 2.0, 2.0)}
    read = [r for r in job.readings if r.code not in moved]
    bent = [reading(200 + n, code, moved=far) for n, (code, far) in enumerate(moved.items())]
    hit = changed(job, readings=(*read, *bent))
    assert "kept, though F5R, F4R, F3R are off" in missing(hit, "decision_made")
    assert "Told: from the rear. Read: from the front right" in missing(hit, "decision_made")
    settled = SettlementFact(id=1, finding="hit", reason="there were two hits", by=who(40))
    assert "Told" not in missing(changed(hit, settlements=(settled,)), "decision_made")
    closed = signed(changed(hit, settlements=(settled,)), "decision_made")
    assert job_state(closed).hold("decision_made").status == "closed"
    later = changed(closed, readings=(*closed.readings, reading(300, "F5R", minute=55)))
    assert job_state(later).hold("decision_made").status == "closed", "what is read at the pulls does not open it again"
    crack = WalkFact(
        id=1,
        kind="crack",
        said="crack at F4R",
        place="at F4R",
        code="F4R",
        xy=None,
        left_mm=None,
        right_mm=None,
        by=who(56),
    )
    assert job_state(changed(closed, walk=(crack,))).hold("decision_made").status == "missing" or (
        job_state(changed(closed, walk=(crack,))).hold("decision_made").reopened
    )


def test_of_a_contradiction_what_was_read_once_is_read_again_first() -> None:
    moved = {"F5R": (-20.0, 6.0, 8.0), "F4R": (-13.0, 4.0, 5.0), "F3R": (-6.0, 2.0, 2.0)}
    job = signed(facts(hit_from_deg=180), "made_safe", "setup_accepted")
    once = tuple(reading(200 + n, code, moved=far) for n, (code, far) in enumerate(moved.items()))
    job = changed(job, readings=(*(r for r in job.readings if r.code not in moved), *once))
    assert told_again(job).values["codes"] == ("F5R", "F4R")
    job = changed(job, readings=(*job.readings, reading(300, "F5R", moved=moved["F5R"], minute=55)))
    assert told_again(job).values["codes"] == ("F4R",)
    twice = tuple(reading(310 + n, code, moved=far, minute=56) for n, (code, far) in enumerate(moved.items()))
    assert told_again(changed(job, readings=(*job.readings, *twice))).kind == "decision.stays_so"


def test_what_was_signed_before_the_house_had_a_station_stands_until_something_is_read_there(monkeypatch) -> None:
    job = signed(facts(), "made_safe", "setup_accepted", "decision_made")
    read = {"evidence": ""}

    def asked(_facts) -> Asked:
        return Asked(demand("stance", None, (lacks("stance.unread"),)), read["evidence"])

    row = station("stance", "Stance")._replace(asks={"decision_made": asked})
    before = job_state(job).holds
    monkeypatch.setattr("fairsquare.job.release.holds.ADDED", (row,))
    assert job_state(job).holds == before
    unsigned = job_state(signed(facts(), "made_safe", "setup_accepted")).hold("decision_made")
    assert [one.said.kind for one in unsigned.missing] == ["stance.unread"], (
        "who signs from now on has it to read first"
    )
    read["evidence"] = "1"
    assert job_state(job).hold("decision_made").status != "closed"


def told_again(job):
    found = next(one for one in job_state(job).hold("decision_made").missing if one.said.kind == "damage.hit")
    return found.todo


def test_what_needs_a_qualification_says_whose() -> None:
    bare = tuple(fact.model_copy(update={"qualification": None}) for fact in facts().safety)
    assert "Refrigerant recovered: say by whom, and the number of the licence." in missing(
        facts(safety=bare), "made_safe"
    )


def test_an_ambiguous_set_up_needs_a_choice() -> None:
    five = REFERENCES[:5]
    wrong = {"C2R": (0.0, 0.0, 6.0)}
    split = facts(
        readings=tuple(reading(n, code, moved=wrong.get(code, (0.0, 0.0, 0.0))) for n, code in enumerate(five, start=1))
    )
    fit = job_state(split).picture.fit
    assert fit.verdict == "ambiguous"
    assert "choose which to trust" in missing(split, "setup_accepted")
    other = fit.alternatives[0].trusted
    choice = ChoiceFact(id=1, trusted=other, reason="the left sill was struck", by=who(12))
    chosen = changed(split, setups=(split.setups[0].model_copy(update={"choice": choice}),))
    assert job_state(chosen).picture.relied_on == other
    assert "choose which" not in missing(chosen, "setup_accepted")


def test_a_correction_counts_and_what_it_replaces_does_not() -> None:
    slip = reading(90, "F5R", moved=(500.0, 0.0, 0.0))
    right = reading(91, "F5R", replaces=90)
    kept = [r for r in facts().readings if r.code != "F5R"]
    picture = job_state(facts(readings=(*kept, slip, right))).picture
    assert picture.used["F5R"] == (91,)
    assert picture.judged["F5R"].state == "fair"
    undone = job_state(facts(readings=(*kept, slip, right.model_copy(update={"taken_back": who(55)})))).picture
    assert undone.used["F5R"] == (90,)
    assert len(OTHERS) == 14


# ── references that hold the set-up too loosely ──────────────────────────────


def loosely(*codes: str) -> JobFacts:
    """Return the fair job with these references alone, read or on the sheet."""
    points = tuple(point.model_copy(update={"reference": point.code in codes}) for point in DUNLIN.sheet.points)
    kept = tuple(
        one.model_copy(update={"purpose": "reference" if one.code in codes else "point"}) for one in facts().readings
    )
    return facts(sheet=DUNLIN.sheet.model_copy(update={"points": points}), readings=kept)


def todo_of(job: JobFacts) -> Said:
    (weak,) = (one for one in job_state(job).hold("setup_accepted").missing if one.said.kind == "fit.weak")
    return weak.todo


def test_references_that_were_not_read_are_named_where_the_set_up_is_held_loosely() -> None:
    near = tuple(one for one in facts().readings if one.code not in ("C3L", "C3R"))
    assert todo_of(facts(readings=near)) == say("setup.left_to_read", codes=["C3L", "C3R"])


def test_where_the_sheet_has_no_other_reference_sound_points_far_beyond_them_are_named() -> None:
    two_pairs = ("C1L", "C1R", "C2L", "C2R")
    assert todo_of(loosely(*two_pairs)).kind == "setup.no_other_reference"
    states = job_state(loosely(*two_pairs)).picture.judged
    beyond = {
        point.code: max(point.xyz[0] - 1016.0, 118.0 - point.xyz[0])
        for point in DUNLIN.sheet.points
        if point.code not in two_pairs and states[point.code].state == "fair"
    }
    farthest = sorted(beyond, key=lambda code: -beyond[code])[:2]
    assert todo_of(loosely(*two_pairs)) == say("setup.no_other_reference", sound=farthest)
    assert min(beyond.values()) < beyond[farthest[0]]
