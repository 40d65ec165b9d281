"""What a reading should be, cross spans, drift, tools, advice, and the picture that all readings make together."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from fairsquare.core.measure.adjust import SightLine
from fairsquare.demo.by_hand import SOUND, TOOLS, ByHand
from fairsquare.drawings.gauges import gauge_row, hung_gauges
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import KeptOut, ReadingFact
from fairsquare.job.facts.setup import SetupFact
from fairsquare.job.measure.advice import advise, undecided
from fairsquare.job.measure.calls import Context, understand_call
from fairsquare.job.measure.counted import counting
from fairsquare.job.measure.drift import moved_references
from fairsquare.job.measure.expected import cross_pairs, meaning_of, partners_by_letter
from fairsquare.job.measure.picture import picture_of
from fairsquare.job.measure.tools import ShopTool, tools_that_read, what_it_can_read
from fairsquare.job.release.holds import job_state
from fairsquare.stand_ins.vehicles import HERON
from fairsquare.words.tell import tell
from tests.job.facts import changed, facts, movement, reading, who

PLACES = {p.code: p.xyz for p in HERON.sheet.points}
CONTEXT = Context(places=PLACES, pin_mm=12.0)
SHOP = tuple(
    ShopTool(id=n, name=name, kind=kind, sigma_mm=sigma, **reach) for n, (name, kind, sigma, reach) in enumerate(TOOLS)
)
SIGHT = SightLine(l0=2.0, l1=0.0, c0=100.0, c1=0.0, c2=0.0)


def called(text: str, number: int = 1, *, sigma: float = 1.0, setup: int | None = 1, **more) -> ReadingFact:
    call = understand_call(text, CONTEXT)
    whole = {**call.read, "id": number, "setup": setup, "purpose": "point", "said": text, "loaded": bool(call.loaded)}
    return ReadingFact(
        **{**whole, "instrument": "tram", "by": who(number % 50), "sigma_mm": sigma * call.share, **more}
    )


def heron(calls, *, sound=SOUND, **more) -> JobFacts:
    setup = SetupFact(number=1, kind="sight", instrument="by hand", sigma_mm=1.0, sheet_version=1, opened=who(1))
    choice = {"id": 1, "trusted": tuple(sound), "reason": "unmarked", "by": who(2)}
    setup = setup.model_copy(update={"choice": type(setup).model_fields["choice"].annotation.__args__[0](**choice)})
    readings = tuple(called(text, number) for number, text in enumerate(calls, start=1))
    return facts(sheet=HERON.sheet, setups=(setup,), readings=readings, gaps=(), **more)


def hand(seed: int = 1) -> ByHand:
    return ByHand(HERON.true_places(seed), seed)


@pytest.mark.parametrize(
    ("text", "expected", "difference", "word"),
    [
        ("f2l c1r 1652.6", 1659.6, -7.0, "short"),
        ("f2l 400 left", 384.0, 16.0, "wide"),
        ("f2r 380 right", -388.0, 8.0, "narrow"),
        ("f2l 455 high", 460.0, -5.0, "low"),
        ("gauge f2l f2r pin 6 left", -2.0, 8.0, "left"),
        ("gauge f2r f2l level 3 left high", 0.0, -3.0, "left high"),
        ("f1l f2l 740 behind", -750.0, 10.0, "ahead"),
    ],
)
def test_what_a_reading_should_be_and_how_far_it_is_in_words(text, expected, difference, word) -> None:
    part = meaning_of(HERON.sheet, understand_call(text, CONTEXT), SIGHT).parts[0]
    assert part.expected_mm == pytest.approx(expected, abs=0.05)
    assert part.difference_mm == pytest.approx(difference, abs=0.05)
    assert part.word == word


def test_a_span_that_fits_only_the_other_way_is_said_so() -> None:
    flat = float(np.hypot(*(np.array(PLACES["F3L"]) - PLACES["C1R"])[:2]))
    sheet = HERON.sheet.model_copy(update={"tolerance_mm": 0.5})
    said = meaning_of(sheet, understand_call(f"f3l c1r {flat:.1f}", CONTEXT))
    assert "fits only seen from above" in said.remark
    assert meaning_of(sheet, understand_call(f"f3l c1r {flat:.1f} flat", CONTEXT)).pointers_mm == (190.0, 100.0)
    assert "other holes" in meaning_of(sheet, understand_call("f3l c1r 900", CONTEXT)).remark


def test_cross_spans_are_held_against_their_mirror_images() -> None:
    spans = [
        called("f2l c1r 1650", 1),
        called("f2r c1l 1643", 2),
        called("f2r c1l 1699 loaded", 3),
        called("f2l c2l 900", 4),
    ]
    (pair,) = cross_pairs(spans, partners_by_letter(PLACES))
    assert pair.difference_mm == 7.0
    assert pair.sigma_mm == pytest.approx(2**0.5)
    assert pair.differs
    assert cross_pairs(spans[:1], partners_by_letter(PLACES)) == ()


def test_references_that_moved_are_told_from_noise() -> None:
    first = [reading(n, code) for n, code in enumerate(("C1L", "C1R", "C2L"), start=1)]
    noisy = [reading(10 + n, code, moved=(0.4, -0.3, 0.2)) for n, code in enumerate(("C1L", "C1R"))]
    assert moved_references([*first, *noisy], 1, 0.3) == {}
    bumped = [reading(20 + n, code, moved=(4.0, -3.0, 0.0)) for n, code in enumerate(("C1L", "C1R"))]
    moved = moved_references([*first, *noisy, *bumped], 1, 0.3)
    assert moved == pytest.approx({"C1L": 5.0, "C1R": 5.0}, abs=0.2)
    taken_back = [one.model_copy(update={"taken_back": who(40)}) for one in bumped]
    assert moved_references([*first, *taken_back], 1, 0.3) == {}
    assert moved_references([*first, *bumped], 2, 0.3) == {}


def test_tools_read_what_they_are_made_for() -> None:
    assert [tool.kind for tool in tools_that_read("span", SHOP)] == ["tram", "tape"]
    assert tools_that_read("point", SHOP) == ()
    assert [t.kind for tool in SHOP for t in what_it_can_read(tool, None)] == ["span", "span"]
    assert {t.kind for tool in SHOP for t in what_it_can_read(tool, "sight 1")} == {"span", "offset", "height"}


def test_the_picture_by_hand_judges_what_it_knows_and_nothing_else() -> None:
    by_hand = hand()
    job = heron([*by_hand.on_sound_frame(), *by_hand.ahead()])
    picture = picture_of(job, job.setups[0], HERON.sheet)
    states = {code: judged.state for code, judged in picture.judged.items()}
    assert states["F2L"] == states["F2R"] == "off"
    assert all(states[code] == "fair" for code in SOUND)
    assert states["R3L"] == "unread"
    bad = next(r.id for r in job.readings if r.said.startswith("F2R C1L"))
    assert [doubt.readings for doubt in picture.joined.doubts] == [(bad,)]
    assert "contradicted" in " ".join(tell(m.said) for m in job_state(job).hold("fit_accepted").missing)
    kept_out = tuple(
        r.model_copy(update={"kept_out": KeptOut(reason="slipped", by=who(3))}) if r.id == bad else r
        for r in job.readings
    )
    settled = changed(job, readings=kept_out)
    assert bad not in {r.id for r in counting(settled.readings)}
    assert picture_of(settled, job.setups[0], HERON.sheet).joined.doubts == ()


def test_nothing_is_judged_before_a_person_has_said_what_is_sound() -> None:
    job = heron([*hand().on_sound_frame(), *hand().ahead()], sound=())
    assert {j.state for j in picture_of(job, job.setups[0], HERON.sheet).judged.values()} == {"unread"}
    assert "never assumed" in tell(job_state(job).hold("setup_accepted").missing[0].said)
    near = heron(list(hand().on_sound_frame()), sound=("C2L", "C2R"))
    assert "two stations or more" in tell(job_state(near).hold("setup_accepted").missing[0].said)
    alone = heron(["gauge c2l c2r pin 3 left", "gauge c3l c3r pin 3 left"], sound=("C2L", "C2R", "C3L", "C3R"))
    assert "Nothing checks the sound points" in tell(job_state(alone).hold("setup_accepted").missing[0].said)


def test_a_moved_sound_point_is_found_out() -> None:
    places = HERON.true_places(2)
    places["C2L"] = places["C2L"] + [9.0, 6.0, 0.0]
    job = heron(list(ByHand(places, 2).on_sound_frame()))
    words = " ".join(tell(missing.said) for missing in job_state(job).hold("setup_accepted").missing)
    assert "C2L" in words
    assert "not where the sheet says" in words


def test_a_line_set_anew_is_another_sight_and_spans_outlive_a_bench() -> None:
    by_hand = hand(3)
    job = heron(list(by_hand.on_sound_frame()))
    anew = changed(job, movements=(movement("sight", minute=2),))
    names = picture_of(anew, job.setups[0], HERON.sheet).joined.sights
    assert list(names) == ["sight 1", "sight 2"]
    later = job.setups[0].model_copy(update={"number": 2})
    used = picture_of(changed(job, setups=(later,)), later, HERON.sheet).used
    spans = {r.id for r in job.readings if r.kind == "span"}
    assert {number for ids in used.values() for number in ids} == spans


def test_the_next_reading_is_for_what_still_decides_something() -> None:
    by_hand = hand(4)
    job = heron([*by_hand.on_sound_frame(), *by_hand.ahead()])
    picture = picture_of(job, job.setups[0], HERON.sheet)
    goal = undecided(picture)
    assert "R3L" in goal
    assert "C3L" not in goal
    advice = advise(job, picture, HERON.sheet, SHOP)
    assert advice.trace_after < advice.trace_before
    assert set(advice.codes) & set(goal)
    tape = advise(job, picture, HERON.sheet, [tool for tool in SHOP if tool.kind == "tape"])
    assert tell(tape.said).startswith("Steel tape, 8 m ")
    assert advise(job, picture, HERON.sheet, []) is None


def test_the_row_of_gauges_is_drawn_as_seen_from_behind() -> None:
    job = heron(["gauge c2l c2r pin 0 left level 0", "gauge f2r f2l pin 10 left level 8 left high"])
    picture = picture_of(job, job.setups[0], HERON.sheet)
    front, rear = hung_gauges(HERON.sheet, picture, job.readings, SightLine(l0=0.0, l1=0.0, c0=0.0, c1=0.0, c2=0.0))
    assert (front.left, front.right, front.sound, rear.sound) == ("F2L", "F2R", False, True)
    assert front.level.difference_mm == pytest.approx(8.0), "left high is + whichever point was named first"
    drawn = str(gauge_row([front, rear], 10))
    assert "pin off by 10.0 left" in drawn
    assert "level off by 8.0 left high" in drawn
    assert drawn.count('class="gauge off"') == 1


DEEDS = st.lists(
    st.tuples(
        st.sampled_from(("span", "flat", "height", "offset", "gauge")),
        st.sampled_from(sorted(set(PLACES) - set(SOUND))),
        st.sampled_from(SOUND),
        st.sampled_from(("free", "free", "free", "loaded", "stale", "taken back", "kept out")),
    ),
    max_size=24,
)


@settings(max_examples=60, deadline=None)
@given(DEEDS, st.integers(0, 10**6))
def test_whatever_is_recorded_nothing_is_fair_without_a_free_current_reading_that_counts(deeds, seed) -> None:
    """All doors lead to these facts: what nothing good reads, or is not given by the readings, is never fair."""
    by_hand, readings = ByHand(HERON.true_places(seed), seed), []
    for number, (kind, code, end, fate) in enumerate(deeds, start=1):
        text = {
            "span": lambda c, e: by_hand.span(c, e),
            "flat": lambda c, e: by_hand.span(c, e) + " flat",
            "height": lambda c, _: by_hand.height(c),
            "offset": lambda c, _: by_hand.offset(c),
            "gauge": lambda c, _: by_hand.gauge(c[:2]),
        }[kind](code, end)
        more = {"loaded": {"loaded": True}, "stale": {"stale": True}, "taken back": {"taken_back": who(50)}}.get(
            fate, {}
        )
        if fate == "kept out":
            more = {"kept_out": KeptOut(reason="not trusted", by=who(50))}
        readings.append(called(text, number).model_copy(update=more))
    base = heron(list(ByHand(HERON.true_places(seed), seed).on_sound_frame()))
    shifted = [r.model_copy(update={"id": r.id + 100}) for r in base.readings]
    job = changed(base, readings=(*shifted, *readings))
    picture = job_state(job).picture
    good = {c for r in readings for c in r.codes if not (r.loaded or r.stale or r.taken_back or r.kept_out)}
    for code, judged in picture.judged.items():
        if code not in SOUND and code not in good:
            assert judged.state == "unread"
        placed = picture.placed.get(code)
        for axis, state in enumerate(judged.states):
            assert state == "unread" or placed.determined[axis]
