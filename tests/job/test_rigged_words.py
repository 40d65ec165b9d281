"""One figure for what works hardest, modes in true words, streamed readings summed up, calls as people write them."""

import pytest

from fairsquare.core.errors import Refused
from fairsquare.core.pull.job import ChainSet, WorkPull, undone_sense, will_hold, works_hardest
from fairsquare.core.pull.setting import frame_of_setting
from fairsquare.core.sheet.check import CheckSheet, check_sheet
from fairsquare.core.sheet.model import Span
from fairsquare.job.facts.pulls import PullEventFact
from fairsquare.job.measure.calls import Context, understand_call
from fairsquare.job.release.holds import job_state
from fairsquare.job.release.summed import readings_summed
from fairsquare.stand_ins.rigged import setting_of_vehicle
from fairsquare.stand_ins.vehicles import DUNLIN
from fairsquare.web.words import undone_words
from tests.job.facts import facts, reading, who


def test_what_works_hardest_is_told_of_anchors_and_chains_alike() -> None:
    setting = setting_of_vehicle(DUNLIN)
    work = WorkPull(chains=(ChainSet(hook="at F5R", tower="front right", height_mm=430, force_n=84_000),))
    held, _ = will_hold(frame_of_setting(DUNLIN.sheet, setting), setting, work)
    name, use = works_hardest(held, work)
    assert name == "at F5R to front right" and use == pytest.approx(84 / 90)
    assert use > max(one.use for one in held.anchors.values())
    assert works_hardest(None, work) is None


@pytest.mark.parametrize(
    ("mode", "by", "words"),
    [
        ("rise", (0.0, 0.0, -8.0), "what is low"),
        ("rise", (0.0, 0.0, 8.0), "what is high"),
        ("mash", (-9.0, 0.0, 0.0), "what is short"),
        ("mash", (9.0, 0.0, 0.0), "what is long"),
        ("sway", (0.0, 7.0, 0.0), "sway to the left"),
    ],
)
def test_a_mode_is_told_in_true_words(mode, by, words) -> None:
    """By hand: both front ends moved alike, and home after the pull."""
    before, home = {"F5L": by, "F5R": by}, dict.fromkeys(("F5L", "F5R"), (0.0, 0.0, 0.0))
    assert undone_words(mode, undone_sense(DUNLIN.sheet, before, home, mode)) == words


def test_readings_streamed_under_load_are_summed_up_by_cycle_and_the_rest_is_listed() -> None:
    events = tuple(
        PullEventFact(id=k, plan=1, pull=1, state=state, by=who(minute))
        for k, (state, minute) in enumerate((("cautions", 40), ("cautions", 50)), 1)
    )
    streamed = [
        reading(500 + k, "F5R", moved=(0.1 * k, 0.0, 0.0), minute=41 if k < 30 else 51).model_copy(
            update={"loaded": True}
        )
        for k in range(60)
    ]
    called = [reading(700, "F4R", minute=41).model_copy(update={"loaded": True}), reading(701, "F5R", minute=55)]
    alone, summed = readings_summed([*streamed, *called], events)
    assert [one.id for one in alone] == [700, 701], "what a person called is listed one by one"
    assert sum(one.many for one in summed) == 60
    assert {one.code for one in summed} == {"F5R"}
    assert summed[0].span_mm == pytest.approx(2.9, abs=0.01)


PLACES = {point.code: point.xyz for point in DUNLIN.sheet.points}


@pytest.mark.parametrize(
    ("said", "plain"),
    [
        ("f4l, c1r 1234", "f4l c1r 1234"),
        ("F4R, 2112.4, -478.2, 402.6", "F4R 2112.4 -478.2 402.6"),
        ("f4r 2112,4 -478,2 402,6", "f4r 2112.4 -478.2 402.6"),
        ("f2l, 512 left", "f2l 512 left"),
    ],
)
def test_commas_between_codes_and_numbers_are_taken(said, plain) -> None:
    assert understand_call(said, Context(PLACES)) == understand_call(plain, Context(PLACES))


def test_a_span_from_a_point_to_itself_is_refused() -> None:
    spans = (Span(a="F4R", b="F4R", mode="point_to_point", mm=100.0),)
    with pytest.raises(Refused, match="to itself has no length") as refused:
        check_sheet(CheckSheet(sheet=DUNLIN.sheet.model_copy(update={"spans": spans})))
    assert refused.value.field == "sheet.spans.0.b"


def test_everything_that_is_missing_before_a_hold_says_where_it_is_got() -> None:
    """Each hold of jobs that lack something: no blocker is a dead end."""
    bare = facts(sheet=None, sheet_version=None, setups=(), readings=(), safety=(), members=(), decisions=())
    lacking = (bare, facts(setups=(), readings=()), facts(readings=()), facts(members=(), decisions=()), facts())
    for job in lacking:
        for hold in job_state(job).holds:
            if hold.demands:
                assert all(demand.page for demand in hold.demands if not demand.met), hold.name
            else:
                assert all(missing.page for missing in hold.missing), (hold.name, hold.missing)
