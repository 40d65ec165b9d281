"""The table of deeds: every act once, told in words, and practice only where its deed has it."""

from typing import get_args

import pytest

from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.job.deeds import ACTS, RIGHTS, Deed, act_of, beginnings, told


def test_every_deed_has_its_row_and_every_act_stands_in_one() -> None:
    assert list(RIGHTS) == list(get_args(Deed))
    assert len({act.begins for act in ACTS}) == len(ACTS)


def test_what_is_practised_belongs_to_a_deed_that_practice_has() -> None:
    for right in RIGHTS.values():
        assert right.practised or not any(act.practised for act in right.acts)
    practised = {act.begins for act in ACTS if act.practised}
    assert {"readings", "plan", "begin pull", "cycle", "end practice"} <= practised
    assert not {"sign", "record", "make record", "decide", "supplement", "cut"} & practised


@pytest.mark.parametrize(
    ("recorded", "words", "job", "more"),
    [
        ("sign SL-0003 fit_accepted", "signed", "SL-0003", "Fit accepted: weld"),
        (f"safety SL-0003 {SAFETY_ITEMS[0].key}", "answered the made-safe list", "SL-0003", SAFETY_ITEMS[0].title),
        ("plan SL-0003", "planned the pulls", "SL-0003", ""),
        ("plan day", "planned the day", "", ""),
        ("move piece 12", "moved a piece of the day", "", "12"),
        ("move SL-0003 lowered", "recorded that something moved", "SL-0003", "lowered"),
        ("walk back SL-0003 4", "took a finding of the walk-round back", "SL-0003", "4"),
        ("carried off SL-0003", "carried off SL-0003", "SL-0003", ""),
    ],
)
def test_a_deed_is_told_in_words(recorded, words, job, more) -> None:
    said = told(recorded)
    assert (said.words, said.job, said.more) == (words, job, more)


def test_of_two_acts_that_fit_it_is_the_longer_one() -> None:
    assert act_of("work end SL-0001 3").begins == "work end"
    assert act_of("workbench SL-0001") is None, "a beginning ends with its word"


def test_deeds_are_found_by_their_words() -> None:
    assert set(beginnings("a pull")) == {"begin pull", "cycle", "board"}
