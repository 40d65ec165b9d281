"""What only grows is worked out from the shorter: alike to the whole, whatever was added, replaced or taken back."""

from hypothesis import given
from hypothesis import strategies as st

from fairsquare.core.grown import Grown
from fairsquare.core.who import Who
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.measure import KeptOut, ReadingFact
from fairsquare.job.facts.setup import SetupFact
from fairsquare.job.measure.counted import counting, own_readings, reference_readings, watched_readings
from fairsquare.job.measure.trusted_tools import _of_ids
from fairsquare.stand_ins.vehicles import DUNLIN

BY = Who(name="Ada", role="technician", at="2026-11-20T08:00:00Z")


def reading(number: int, replaces: int | None = None, *, back: bool = False, out: bool = False) -> ReadingFact:
    return ReadingFact(
        id=number,
        setup=1,
        purpose="point",
        kind="point",
        code="A1L",
        xyz=(0.0, 0.0, 0.0),
        said="x",
        loaded=False,
        instrument="arm",
        by=BY,
        replaces=replaces,
        taken_back=BY if back else None,
        kept_out=KeptOut(reason="it lies", by=BY) if out else None,
        stale=False,
    )


def plainly(readings: tuple[ReadingFact, ...]) -> tuple[int, ...]:
    kept = [one for one in readings if one.taken_back is None]
    replaced = {one.replaces for one in kept}
    return tuple(one.id for one in kept if one.id not in replaced and one.kept_out is None)


@given(
    st.lists(st.tuples(st.integers(0, 12), st.booleans(), st.booleans(), st.integers(0, 5)), min_size=1, max_size=30)
)
def test_readings_that_count_are_the_same_step_by_step_as_at_once(said) -> None:
    readings: tuple[ReadingFact, ...] = ()
    for number, (replaces, back, out, changed) in enumerate(said, start=1):
        readings = (*readings, reading(number, replaces if 0 < replaces < number else None, back=back, out=out))
        if changed == 0:
            k = number // 2
            readings = (*readings[:k], readings[k].model_copy(update={"taken_back": BY}), *readings[k + 1 :])
        assert tuple(one.id for one in counting(readings)) == plainly(readings)


def test_only_what_was_added_is_looked_at() -> None:
    seen: list[int] = []

    def go_on(before: int, newer: tuple[object, ...]) -> int:
        seen.append(len(newer))
        return before + len(newer)

    sums = Grown(lambda held: go_on(0, held), go_on)
    things = tuple(object() for _ in range(100))
    assert [sums.of(things[:many]) for many in (40, 60, 60, 100, 60)] == [40, 60, 60, 100, 60]
    assert seen == [40, 20, 40], "the first whole, then what was added"
    assert sums.of((things[0], object(), *things[2:])) == 100
    assert seen[-1] == 100, "what was changed in the middle is another list"
    assert sums.of(()) == 0


@given(st.sets(st.integers(1, 40)), st.booleans())
def test_readings_are_found_by_their_ids(wanted, jumbled) -> None:
    readings = tuple(reading(number) for number in (range(30, 0, -1) if jumbled else range(1, 31)))
    assert {one.id for one in _of_ids(readings, wanted)} == {number for number in wanted if number <= 30}


def one_of_many(number: int, said: tuple) -> ReadingFact:
    kind, purpose, code, setup, loaded, stale, replaces = said
    many = {"kind": kind, "purpose": purpose, "code": code, "loaded": loaded, "stale": stale, "setup": setup}
    if kind == "span":
        many |= {"setup": None, "b": "F5L", "mm": 900.0, "mode": "point_to_point", "xyz": None, "purpose": "point"}
    return reading(number, replaces if 0 < replaces < number else None).model_copy(update=many)


KINDS, CODES = st.sampled_from(["point", "span"]), st.sampled_from(["C1L", "C1R", "C2L", "elsewhere"])
PURPOSES = st.sampled_from(["point", "point", "reference", "watch"])


@given(
    st.lists(
        st.tuples(KINDS, PURPOSES, CODES, st.integers(1, 2), st.booleans(), st.booleans(), st.integers(0, 30)),
        min_size=1,
        max_size=25,
    )
)
def test_readings_of_a_set_up_are_the_same_step_by_step_as_plainly(said) -> None:
    setup = SetupFact(number=1, instrument="arm", sigma_mm=1.0, sheet_version=1, opened=BY)
    readings: tuple[ReadingFact, ...] = ()
    for number, one in enumerate(said, start=1):
        readings = (*readings, one_of_many(number, one))
        facts = JobFacts(number="SL-0001", sheet=None, sheet_version=None, readings=readings)
        counted = [r for r in readings if r.id in plainly(readings)]
        assert watched_readings(facts, 1) == tuple(r for r in counted if (r.setup, r.purpose) == (1, "watch"))
        last = {(r.code, r.kind): r for r in counted if (r.setup, r.purpose) == (1, "reference")}
        references = tuple(sorted(last.values(), key=lambda r: r.id))
        assert reference_readings(facts, 1) == references
        own = [
            r for r in counted if r.code != "elsewhere" and (r.setup is None or (r.setup, r.purpose) == (1, "point"))
        ]
        for include_stale in (False, True):
            found = own_readings(facts, setup, DUNLIN.sheet, include_stale=include_stale)
            assert found.references == tuple(r for r in references if r.code != "elsewhere")
            assert found.points == tuple(r for r in own if not r.loaded and (include_stale or not r.stale))
            assert found.loaded == {code for r in own if r.loaded and not r.stale for code in r.codes}
            assert found.stale == {code for r in own if r.stale for code in r.codes}
