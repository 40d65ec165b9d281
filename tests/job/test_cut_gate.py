"""What a cut waits for, from facts alone: the Teal's right rear rail as it stands in the sealed record of format 10."""

import json
from functools import cache
from pathlib import Path

import pytest

from fairsquare.core.cut.section import AccessCut, StripFeature
from fairsquare.core.errors import Refused
from fairsquare.job.cut.job import SectionState, section_states
from fairsquare.job.cut_gate import access_waits, check_access_cut, check_how, final_waits, how_decided, plate_waits
from fairsquare.job.facts.intake import PhotoFact
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.missing import Lacking
from fairsquare.job.release.holds import job_state
from fairsquare.job.release.record import JobRecord, facts_of
from fairsquare.words.tell import tell
from tests.job.facts import changed, signed, who

RECORD = Path(__file__).parents[1] / "golden" / "10" / "record.json"
RAIL, FLOOR = "right rear rail", "luggage floor"
OUTER, LONG_MM = 80.0, 100.0
"""Where the final line of the outer layer stands, and how much is left long beyond it."""


@cache
def teal() -> JobFacts:
    body = json.loads(RECORD.read_text(encoding="utf-8"))
    body.pop("integrity", None)
    return facts_of(JobRecord.model_validate(body, strict=False))


def rail(facts: JobFacts) -> SectionState:
    return next(state for state in section_states(facts) if state.fact.member == RAIL)


def waits(facts: JobFacts, layer: str = "outer") -> list[str]:
    return [missing.said.kind for missing in final_waits(facts, job_state(facts), rail(facts), layer)]


def decided(facts: JobFacts, member: str, decision: str) -> JobFacts:
    """Return the job with another decision on a member."""
    seen = {fact.id for fact in facts.members if fact.member == member}
    decisions = tuple(
        fact.model_copy(update={"decision": decision} if fact.seen in seen else {}) for fact in facts.decisions
    )
    return changed(facts, decisions=decisions)


def strip_with(facts: JobFacts, **changes) -> JobFacts:
    """Return the job with its strip said otherwise."""
    said = tuple(
        fact.model_copy(update={"strip": fact.strip.model_copy(update=changes)}) if fact.strip else fact
        for fact in facts.section_said
    )
    return changed(facts, section_said=said)


def with_plate(facts: JobFacts, start: float, end: float, layers: tuple[str, ...] | None = None) -> JobFacts:
    plate = StripFeature(start=start, end=end, kind="plate", layers=layers, words="identity plate")
    return strip_with(facts, features=(*rail(facts).strip.features, plate))


def photo_of(about: str, number: int) -> PhotoFact:
    size = {"width": 640, "height": 480, "sha256": "0" * 64}
    return PhotoFact(id=901, about=about, about_id=number, name="plate.jpg", words="", by=who(40), **size)


def access(facts: JobFacts, layer: str, at: float) -> None:
    check_access_cut(facts, job_state(facts), rail(facts), layer, at)


# ── the final line ───────────────────────────────────────────────────────────


def test_the_final_line_waits_for_signatures_and_for_what_is_wrong_with_the_part() -> None:
    assert waits(teal()) == ["not_signed", "not_signed", "part.faults"]
    assert waits(signed(teal(), "decision_made")) == ["not_signed", "part.faults"]
    clean = changed(teal(), part_items=(), part_spans=())
    assert waits(signed(clean, "decision_made"))[:1] == ["not_signed"]
    pulls, *_ = final_waits(signed(teal(), "decision_made"), job_state(teal()), rail(teal()), "outer")[1:]
    assert pulls.overridable, "a lead may let the line be cut before the pulls are signed, with a reason"


def test_no_part_no_line() -> None:
    assert "part.none" in waits(changed(teal(), parts=()))
    assert "part.none" not in waits(teal())


def test_a_member_that_was_decided_otherwise_is_not_cut_across() -> None:
    for decision in ("keep", "straighten", "replace_at_seams"):
        assert "cut.not_decided" in waits(decided(teal(), RAIL, decision)), decision
    assert "cut.not_decided" not in waits(decided(teal(), RAIL, "straighten_then_replace"))
    assert how_decided(teal(), RAIL) == "cut"
    assert how_decided(teal(), FLOOR) == "seams"
    assert how_decided(changed(teal(), decisions=()), RAIL) == "cut", "nobody decided anything else"
    check_how(teal(), RAIL, "cut")
    check_how(teal(), FLOOR, "seams")
    with pytest.raises(Refused, match="luggage floor is decided: ") as fault:
        check_how(teal(), FLOOR, "cut")
    assert fault.value.field == "how"


def test_without_a_strip_or_with_a_layer_that_is_not_there_there_is_no_line() -> None:
    bare = changed(teal(), section_said=())
    assert waits(bare) == ["cut.nowhere"]
    assert waits(teal(), "roof") == ["cut.nowhere"]


def test_what_lies_beneath_is_brought_home_before_the_line_above_it_is_cut() -> None:
    own = next(fact for fact in teal().members if fact.member == RAIL)
    inner = own.model_copy(update={"id": 900, "layer": "inner"})
    straightened = teal().decisions[0].model_copy(update={"id": 900, "seen": 900, "decision": "straighten"})
    job = changed(teal(), members=(*teal().members, inner), decisions=(*teal().decisions, straightened))
    (beneath,) = (one for one in final_waits(job, job_state(job), rail(job), "outer") if one.said.kind == "cut.beneath")
    assert beneath.said.values["codes"], "points of the rail are off"
    assert "cut.beneath" not in waits(job, "inner"), "nothing lies beneath the innermost"
    assert "cut.beneath" not in waits(teal())


def test_a_rule_that_is_broken_needs_a_reason() -> None:
    hole = StripFeature(start=OUTER - 4, end=OUTER + 4, kind="hole", layers=None, words="a hole", across_mm=48.0)
    through = strip_with(teal(), features=(hole,), chosen=dict(rail(teal()).placed.judged.cuts))
    assert "cut.rule_broken" not in waits(teal())
    assert "cut.rule_broken" in waits(through)
    assert "cut.rule_broken" not in waits(strip_with(through, reason="the maker puts the line there"))


# ── a plate that would go with it ────────────────────────────────────────────


def test_a_plate_that_comes_off_is_photographed_first() -> None:
    lost, stays = with_plate(teal(), 200.0, 260.0), with_plate(teal(), -200.0, -150.0)
    assert "cut.plate" in waits(lost)
    assert "cut.plate" not in waits(stays), "it is on the side that is kept"
    other_end = strip_with(stays, keep="high")
    assert [one.said.kind for one in plate_waits(other_end, rail(other_end), "outer", OUTER)] == ["cut.plate"]
    assert "cut.plate" not in waits(with_plate(teal(), 200.0, 260.0, ("inner",)), "outer")
    photo = photo_of("section", rail(lost).fact.id)
    assert "cut.plate" not in waits(changed(lost, photos=(*lost.photos, photo)))


def test_a_plate_that_was_seen_near_is_photographed_first() -> None:
    first = teal().walk[0]
    seen = first.model_copy(
        update={"id": 999, "kind": "plate", "place": RAIL, "code": None, "said": "label on the rail"}
    )
    job = changed(teal(), walk=(*teal().walk, seen))
    (missing,) = plate_waits(job, rail(job), "outer", OUTER)
    assert missing.said.kind == "cut.plate_seen"
    assert "label on the rail" in tell(missing.said)
    photo = photo_of("walk", 999)
    assert list(plate_waits(changed(job, photos=(*job.photos, photo)), rail(job), "outer", OUTER)) == []


# ── access cuts ──────────────────────────────────────────────────────────────


def test_an_access_cut_keeps_away_from_the_final_line() -> None:
    access(teal(), "outer", OUTER + LONG_MM + 1)
    for at in (OUTER + LONG_MM - 1, OUTER, OUTER - 200):
        with pytest.raises(Refused, match="100 mm are left long"):
            access(teal(), "outer", at)


@pytest.mark.parametrize(
    ("job", "layer", "at", "words"),
    [
        (teal, "roof", 300.0, "Name a layer"),
        (lambda: changed(teal(), section_said=()), "outer", 300.0, "Name a layer"),
        (lambda: changed(teal(), signatures=()), "outer", 300.0, "“Made safe” is not signed"),
        (teal, "outer", 431.0, "outer reaches from -330 mm to 430 mm"),
        (lambda: decided(teal(), RAIL, "keep"), "outer", 300.0, "goes into metal that is given up"),
    ],
)
def test_what_is_no_access_cut_is_refused_in_words(job, layer, at, words) -> None:
    with pytest.raises(Refused, match=words):
        access(job(), layer, at)


def test_why_a_planned_access_cut_waits_is_told() -> None:
    job, state = teal(), job_state(teal())
    planned = AccessCut.model_construct(layer="outer", at_mm=OUTER + LONG_MM + 1)
    assert access_waits(job, state, rail(job), planned) is None
    near = access_waits(job, state, rail(job), AccessCut.model_construct(layer="outer", at_mm=OUTER + 10))
    assert "100 mm are left long" in tell(near)
    lost = with_plate(job, 300.0, 330.0)
    with pytest.raises(Lacking):
        access(lost, "outer", OUTER + LONG_MM + 1)
    assert access_waits(lost, job_state(lost), rail(lost), planned).kind == "cut.plate"
