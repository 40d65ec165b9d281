"""What only grows is worked out from the shorter: alike to the whole, whatever was added, replaced or taken back."""

from hypothesis import given
from hypothesis import strategies as st

from fairsquare.core.facts import KeptOut, ReadingFact
from fairsquare.core.grown import Grown
from fairsquare.core.measure.picture import _count, counting
from fairsquare.core.measure.trusted_tools import _of_ids
from fairsquare.core.who import Who

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
    assert tuple(one.id for one in _count(readings)) == plainly(readings)


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
