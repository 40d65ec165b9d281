"""How things are shown: fractions of an inch, words of direction, what a job waits for, and who may do what."""

from fractions import Fraction

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fairsquare.actions.desk import JobView
from fairsquare.actions.rights import NotYours, check_may, may
from fairsquare.actions.spine import spine, waits
from fairsquare.core.measure.conformity import direction_words
from fairsquare.job.facts.damage import LineFact
from fairsquare.job.facts.done import Finished, FinishItem, OutsideWork
from fairsquare.job.facts.finishing import DoneFact
from fairsquare.job.release.holds import job_state
from fairsquare.store.jobs import Job, JobDetails
from fairsquare.store.kept import Kept
from fairsquare.store.people import ROLES, Person
from fairsquare.web.page import local_path
from fairsquare.words import lengths as units
from fairsquare.words.tell import tell
from tests.job.facts import REFERENCES, changed, facts, movement, readings, signed, who


@given(st.floats(-5000, 5000))
def test_a_length_in_inches_is_the_nearest_sixty_fourth(mm) -> None:
    text = units.length(mm, "in")
    parts = text.lstrip("−").split()
    value = sum(Fraction(part) for part in parts) * (-1 if text.startswith("−") else 1)
    assert abs(float(value) * 25.4 - mm) <= 25.4 / 128 + 1e-9
    assert Fraction(parts[-1]).denominator <= 64


@given(st.floats(-5000, 5000))
def test_a_length_in_mm_is_to_a_tenth_and_never_minus_nought(mm) -> None:
    text = units.length(mm, "mm")
    assert float(text.replace("−", "-")) == pytest.approx(mm, abs=0.0500001)
    assert text not in ("-0.0", "−0.0")


@given(st.tuples(*[st.floats(-60, 60)] * 3), st.tuples(*[st.floats(-3000, 3000)] * 3))
def test_words_in_mm_are_the_cores_own(deviation, place) -> None:
    assert units.words(deviation, place, "mm") == direction_words(deviation, place)


def test_words_in_inches() -> None:
    assert units.words((14.3, -5.2, 0.1), (-1000.0, -500.0, 0.0), "in") == "9/16 short, 13/64 right (wide)"
    assert units.words((0.1, 0.1, 0.1), (1.0, 1.0, 1.0), "in") == "on the sheet"
    assert units.words(None, (1.0, 1.0, 1.0), "in") == "not read"
    assert units.short_word((0.0, 3.0, 0.0), (1.0, 1.0, 1.0), 0, "mm") == ""
    assert units.length(None, "mm") == "–"


def view(job) -> JobView:
    row = Job(
        id=1,
        number=job.number,
        version=1,
        revision=1,
        details=JobDetails(vehicle="Dunlin"),
        opened_by="Tomasz",
        opened_at="2026-03-02T09:00:00Z",
        touched_at="2026-03-02T09:00:00Z",
        closed=False,
    )
    return JobView(row, job, job_state(job))


def finished() -> tuple[DoneFact, ...]:
    """What the release demands of a job in which nothing is welded."""
    every = (
        FinishItem(what="wax", words="wax"),
        Finished(item=1),
        OutsideWork(what="alignment", end="done", by_whom="others", paper="17"),
        OutsideWork(what="calibration", end="not_needed", by_whom="maker", words="no aids"),
    )
    return tuple(DoneFact(id=n, kind=one.kind, what=one, by=who(22)) for n, one in enumerate(every, start=1))


LINE = (LineFact(id=1, item="rolls", answer="sound", words="", by=who(2)),)


@pytest.mark.parametrize(
    ("job", "words", "mood"),
    [
        (facts(safety=(), sheet=None, sheet_version=None, setups=(), readings=()), "Walk round it", "work"),
        (
            facts(safety=(), sheet=None, sheet_version=None, setups=(), readings=(), line=LINE),
            "12 V battery off",
            "blocked",
        ),
        (facts(line=LINE), "Made safe: to be signed by a technician or a lead", "sign"),
        (signed(facts(sheet=None, sheet_version=None, setups=(), readings=()), "made_safe"), "Get the sheet", "work"),
        (signed(facts(setups=(), readings=()), "made_safe"), "Set up and read the reference points", "work"),
        (
            signed(facts(readings=readings(REFERENCES[:2])), "made_safe"),
            "Read the reference points of set-up 1",
            "work",
        ),
        (signed(facts(), "made_safe"), "Set-up accepted: to be signed", "sign"),
        (signed(facts(readings=readings(REFERENCES)), "made_safe", "setup_accepted"), "14 points to read", "work"),
        (signed(facts(members=(), decisions=()), "made_safe", "setup_accepted"), "Read the damage and decide", "work"),
        (signed(facts(), "made_safe", "setup_accepted"), "Decision made: to be signed", "sign"),
        (
            signed(facts(gaps=()), "made_safe", "setup_accepted", "decision_made"),
            "The gap check is not made: read the gaps on the dry fit",
            "work",
        ),
        (
            signed(facts(), "made_safe", "setup_accepted", "decision_made"),
            "Fit accepted: weld: to be signed by a lead",
            "sign",
        ),
        (
            signed(facts(), "made_safe", "setup_accepted", "decision_made", "fit_accepted"),
            "No protection, pads",
            "work",
        ),
        (
            changed(signed(facts(), "made_safe", "setup_accepted", "decision_made", "fit_accepted"), done=finished()),
            "Released: to be signed by a lead",
            "sign",
        ),
        (
            signed(facts(done=finished()), "made_safe", "setup_accepted", "decision_made", "fit_accepted", "released"),
            "make the record",
            "done",
        ),
    ],
)
def test_what_a_job_waits_for(job, words, mood) -> None:
    found = waits(view(job))
    assert words in tell(found.words)
    assert found.mood == mood


def test_a_job_that_was_opened_again_says_so() -> None:
    whole = signed(facts(), "made_safe", "setup_accepted", "decision_made", "fit_accepted")
    setup = whole.setups[0].model_copy(update={"voided": movement("bench")})
    void = view(changed(whole, setups=(setup,)))
    assert waits(void).words == "Set-up 1 is void: make a new one"
    moved = view(changed(whole, movements=(movement("structure"),)))
    assert "is open again: something was moved" in tell(waits(moved).words)
    assert waits(moved).mood == "blocked"
    assert [stop.status for stop in spine(moved)][-6:] == ["now", *["todo"] * 5]


def test_the_spine_has_one_place_where_the_job_is() -> None:
    for job in (facts(), signed(facts(), "made_safe"), facts(sheet=None, sheet_version=None, setups=(), readings=())):
        stops = spine(view(job))
        assert [stop.status for stop in stops].count("now") == 1
        assert [stop.kind for stop in stops].count("hold") == 5
        assert all(stop.words for stop in stops if stop.kind == "hold")


def test_an_apprentice_signs_and_decides_nothing() -> None:
    rights = {role: {deed for deed in DEEDS if may(Person(1, "x", "X", role), deed)} for role in ROLES}
    assert rights["apprentice"] == {"measure", "walk round"}
    assert rights["lead"] == set(DEEDS)
    assert "sign" not in rights["estimator"]
    assert "manage people" not in rights["technician"]
    with pytest.raises(
        NotYours, match="Hold points are signed by a technician or a lead; you are signed in as apprentice"
    ):
        check_may(Person(1, "x", "X", "apprentice"), "sign")


DEEDS = (
    "take in",
    "walk round",
    "estimate",
    "answer safety",
    "accept sheet",
    "measure",
    "decide",
    "sign",
    "make record",
    "close",
    "manage people",
)


@pytest.mark.parametrize(
    ("path", "kept"),
    [
        ("/jobs/SL-0001/measure?point=F4R", True),
        ("//elsewhere.example/x", False),
        ("/\\elsewhere.example", False),
        ("https://elsewhere.example", False),
        ("javascript:alert(1)", False),
        ("/x\r\nset-cookie: a=b", False),
    ],
)
def test_ways_back_stay_here(path, kept) -> None:
    assert local_path(path) == (path if kept else "/")


def test_what_is_kept_is_made_once_and_forgotten_in_turn() -> None:
    made: list[int] = []
    kept: Kept[int] = Kept(most=2)

    def ask(key: int) -> int:
        return kept.get(key, lambda: made.append(key) or key * 10)

    assert [ask(1), ask(1), ask(2), ask(1), ask(3), ask(2)] == [10, 10, 20, 10, 30, 20]
    assert made == [1, 2, 3, 2], "2 was the one not asked for longest when 3 came"
    kept.forget(3)
    ask(3)
    assert made[-1] == 3
