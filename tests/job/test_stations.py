"""The table of stations: complete, and read by everything that names one."""

import json
import re
from typing import get_args

import pytest
from pydantic import ValidationError

from fairsquare.job.facts.holds import HoldName
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.walk_round import WalkFact
from fairsquare.job.release.holds import job_state
from fairsquare.job.stations import BY_KEY, HELD_UP, ORDER, STATIONS, is_hold
from fairsquare.job.stations.row import Station, in_order, station
from tests.job.facts import facts


def test_a_row_of_its_own_stands_behind_the_one_it_names():
    rows = in_order((station("weld", "Weld"), station("record", "Record")), (_after("weld"),))
    assert [one.key for one in rows] == ["weld", "stance", "record"]
    for wrong in (_after("bend"), _after("weld")._replace(key="record")):
        with pytest.raises(ValueError, match="name one of weld, record"):
            in_order((station("weld", "Weld"), station("record", "Record")), (wrong,))


def _after(key: str) -> Station:
    return station("stance", "Stance")._replace(after=key)


def test_every_hold_point_stands_in_it_once_and_in_the_order_of_the_work() -> None:
    holds = [one.key for one in STATIONS if is_hold(one.key)]
    assert holds == list(get_args(HoldName))
    assert len(set(ORDER)) == len(ORDER)
    assert all(one.signers for one in STATIONS if is_hold(one.key))


def test_a_page_is_that_of_a_station() -> None:
    stations = {one.key for one in BY_KEY.values() if one.kind == "station"}
    assert {one.page for one in STATIONS} <= stations
    assert {one.onward for one in STATIONS if one.onward} <= stations
    assert BY_KEY["pulls_done"].page == "board", "the pulls are done where they are pulled"
    assert BY_KEY["pulls_done"].address == "holds/pulls_done"


def test_holds_of_a_job_are_called_and_signed_as_it_says() -> None:
    job: JobFacts = facts()
    for hold in job_state(job).holds:
        row = BY_KEY[hold.name]
        assert (hold.title, set(hold.signers)) == (row.title, set(row.signers))


def test_what_a_wait_may_hold_up_comes_in_the_order_of_the_work() -> None:
    assert list(HELD_UP) == [key for key in ORDER if key in HELD_UP]
    assert {"made_safe", "released", "weld"} <= set(HELD_UP)
    assert not {"take-in", "record", "practice"} & set(HELD_UP)


def test_practice_has_no_hold_points() -> None:
    assert not [one.key for one in BY_KEY.values() if one.practised and one.kind == "hold"]


@pytest.mark.parametrize(
    ("further", "words"),
    [
        ({"tides": []}, "'tides' is nothing that a station here records"),
        ({"walks": 5}, "walks should be a list of facts"),
        ({"walks": [{"id": "one"}]}, "Field required"),
        (7, "facts stand under what they are called"),
    ],
)
def test_facts_of_another_houses_station_are_refused(monkeypatch, further, words) -> None:
    monkeypatch.setattr("fairsquare.job.facts.job.further_kinds", lambda: {"walks": WalkFact})
    with pytest.raises(ValidationError, match=re.escape(words)):
        JobFacts.model_validate_json(
            json.dumps({"number": "SL-1", "sheet": None, "sheet_version": None, "further": further})
        )


def test_a_job_without_further_facts_is_written_as_it_always_was() -> None:
    assert "further" not in facts().model_dump()
