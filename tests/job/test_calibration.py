"""Tools: the bar check against handbook tables and chance played through; what calibrations and checks say of what was read."""

import numpy as np
import pytest

from fairsquare.core.errors import Refused
from fairsquare.core.measure.bar_check import CheckTool, check_tool
from fairsquare.core.measure.calibration import BarRead, Calibrated, ToolEventFact, ToolFact, standing, standings
from fairsquare.core.who import Who
from fairsquare.files.records import check_record, sealed
from fairsquare.job.measure.trusted_tools import tools_behind
from fairsquare.job.release.holds import job_state
from fairsquare.job.release.record import make_record, tools_in_record
from fairsquare.words.tell import tell
from tests.job.facts import facts, signed, who

GOOD, LONG, AGAIN = (1000.1, 999.8, 1000.1), (1001.9, 1002.2, 1001.8), (1000.8, 1000.6, 1000.8)


def bar(readings, sigma=0.5, **changes):
    return check_tool(CheckTool(sigma_mm=sigma, bar_mm=1000.0, readings_mm=readings, **changes))


def event(id: int, day: str, what) -> ToolEventFact:
    return ToolEventFact(id=id, what=what, by=Who(name="Ngozi", role="technician", at=f"{day}T10:00:00.000000Z"))


def checked(id: int, day: str, readings) -> ToolEventFact:
    check = CheckTool(sigma_mm=0.5, bar_mm=1000.0, readings_mm=readings)
    return event(id, day, BarRead(read_on=day, bar="bar", said="", check=check))


def calibrated(id: int, day: str, due: str = "") -> ToolEventFact:
    return event(id, day, Calibrated(done_on=day, due_on=due, words="certificate 1"))


def arm(*events) -> ToolFact:
    return ToolFact(name="arm", kind="instrument", sigma_mm=0.5, events=events)


def test_a_check_by_hand() -> None:
    found = bar((1000.4, 1000.2, 1000.6, 1000.4), ends=2, bar_sigma_mm=0.3)
    assert found.mean_mm == pytest.approx(1000.4)
    assert found.error_mm == pytest.approx(0.4)
    assert found.scatter_mm == pytest.approx(0.163299, abs=1e-6)
    # sigma of one length is 0.5 * sqrt(2); of the mean of four half of that; with the bar's own, sqrt(0.35355^2 + 0.3^2)
    assert found.error_sigma_mm == pytest.approx(0.463681, abs=1e-6)
    assert found.verdict == "good"


@pytest.mark.parametrize(("n", "quantile"), [(3, 13.2155), (5, 17.7997), (10, 27.0934)])
def test_the_limit_of_scatter_is_the_handbooks(n, quantile) -> None:
    # chi-squared exceeded with probability 0.00135: 2 and 4 degrees of freedom by its closed form, 9 from a table, from memory.
    limit = bar(tuple(1000 + 0.01 * k for k in range(n))).scatter_limit_mm
    assert limit == pytest.approx(0.5 * np.sqrt(quantile / (n - 1)), rel=2e-4)
    if n % 2:
        half = quantile / 2
        tail = np.exp(-half) * sum(half**k / np.prod(range(1, k + 1)) for k in range((n - 1) // 2))
        assert tail == pytest.approx(0.00135, rel=5e-3), (
            "closed form of chi-squared for an even number of degrees of freedom"
        )


@pytest.mark.parametrize(
    ("readings", "verdict", "words"),
    [
        (GOOD, "good", "reads 0.00 mm"),
        (AGAIN, "again", "reads 0.73 mm long, near the limit"),
        (LONG, "bad", "reads 1.97 mm long, more than"),
        (tuple(2000 - mm for mm in LONG), "bad", "reads 1.97 mm short"),
        ((998.0, 1000.0, 1002.0), "bad", "its readings scatter by 2.00 mm"),
    ],
)
def test_how_a_check_comes_out(readings, verdict, words) -> None:
    found = bar(readings)
    assert found.verdict == verdict
    assert words in found.words


def test_a_good_tool_is_seldom_called_bad_and_one_that_is_out_by_four_sigma_nearly_always() -> None:
    chance = np.random.default_rng(3)
    good = [bar(tuple(1000 + chance.normal(0, 0.5, 6))).verdict for _ in range(2000)]
    assert good.count("bad") / 2000 == pytest.approx(0.0027 + 0.00135, abs=0.004)
    assert (good.count("bad") + good.count("again")) / 2000 == pytest.approx(0.0455 + 0.00135, abs=0.015)
    out = [bar(tuple(1000 + 5 * 0.5 / 6**0.5 + chance.normal(0, 0.5, 6))).verdict for _ in range(500)]
    assert out.count("bad") / 500 > 0.95


@pytest.mark.parametrize(
    ("readings", "field", "words"),
    [
        ((1000.0, 1000.1), "readings_mm", "3 times or more"),
        ((1000.0, 1000.1, 100.0), "readings_mm.2", "slip of the pen"),
    ],
)
def test_what_is_no_check_is_refused(readings, field, words) -> None:
    with pytest.raises(Refused, match=words) as caught:
        bar(readings)
    assert caught.value.field == field


@pytest.mark.parametrize(
    ("events", "at", "level", "words"),
    [
        ((), "2026-05-01T09", "unknown", "no calibration is on file"),
        ((calibrated(1, "2026-01-10", "2027-01-10"),), "2026-05-01T09", "good", "good until 2027-01-10"),
        ((calibrated(1, "2026-01-10", "2027-01-10"),), "2027-01-10T23", "good", "calibrated 2026-01-10"),
        ((calibrated(1, "2026-01-10", "2027-01-10"),), "2027-01-11T00", "overdue", "overdue since 2027-01-10"),
        ((calibrated(1, "2026-01-10", "2027-01-10"),), "2026-01-09T09", "unknown", "no calibration"),
        ((calibrated(1, "2026-01-10"),), "2036-01-09T09", "good", "nobody said until when"),
        (
            (calibrated(1, "2026-01-10"), checked(2, "2026-04-01", LONG)),
            "2026-05-01T09",
            "bad",
            "check of 2026-04-01 on bar",
        ),
        ((calibrated(1, "2026-01-10"), checked(2, "2026-04-01", LONG)), "2026-03-01T09", "bad", "since found bad"),
        (
            (calibrated(1, "2026-01-10"), checked(2, "2026-02-01", GOOD), checked(3, "2026-04-01", LONG)),
            "2026-01-20T09",
            "good",
            "calibrated",
        ),
        (
            (calibrated(1, "2026-01-10"), checked(2, "2026-04-01", LONG), calibrated(3, "2026-04-03")),
            "2026-05-01T09",
            "good",
            "2026-04-03",
        ),
        (
            (calibrated(1, "2026-01-10"), checked(2, "2026-04-01", LONG), calibrated(3, "2026-04-01")),
            "2026-05-01T09",
            "good",
            "calibrated 2026-04-01",
        ),
        (
            (calibrated(1, "2026-01-10"), checked(2, "2026-04-01", LONG), checked(3, "2026-04-02", AGAIN)),
            "2026-05-01T09",
            "bad",
            "2026-04-01",
        ),
        (
            (calibrated(1, "2026-01-10"), checked(2, "2026-04-01", LONG).model_copy(update={"taken_back": who(1)})),
            "2026-05-01T09",
            "good",
            "",
        ),
    ],
)
def test_how_far_a_tool_is_to_be_trusted(events, at, level, words) -> None:
    found = standing(arm(*events), at)
    assert found.level == level
    assert words in tell(found.said)


def test_of_all_that_a_tool_read_the_worst_is_said_and_a_stranger_is_called_one() -> None:
    tool = arm(calibrated(1, "2026-01-10", "2026-06-01"))
    found = standings(
        [tool], [("arm", "2026-05-01T09"), ("arm", "2026-07-01T09"), ("neighbour's tape", "2026-07-01T09")]
    )
    assert [(one.name, one.level) for one in found] == [("arm", "overdue"), ("neighbour's tape", "unknown")]
    assert "not on the shop's list" in tell(found[1].said)


def test_a_tool_found_bad_bars_what_rests_on_it_and_opens_what_was_signed() -> None:
    job = signed(facts(), "made_safe", "setup_accepted")
    assert job_state(job).hold("setup_accepted").status == "closed"
    name, day = job.setups[0].instrument, job.readings[0].by.at[:10]
    good = ToolFact(name=name, kind="instrument", sigma_mm=0.3, events=(calibrated(1, "2020-01-01", "2020-02-01"),))
    overdue = job.model_copy(update={"tools": (good,)})
    assert [one.level for one in tools_behind(overdue, job_state(overdue).picture)] == ["overdue"]
    assert job_state(overdue).hold("setup_accepted").status == "closed", "overdue is said, and bars nothing"
    demands = {one.name: one for one in job_state(overdue).hold("fit_accepted").demands}
    assert "NB calibration overdue" in tell(demands["tools"].evidence)
    found_bad = job.model_copy(
        update={"tools": (good.model_copy(update={"events": (*good.events, checked(2, day, LONG))}),)}
    )
    state = job_state(found_bad)
    assert state.hold("setup_accepted").status == "missing"
    assert "no evidence" in tell(state.hold("setup_accepted").reopened[0])
    assert state.hold("fit_accepted").blocked, "nobody overrides a tool that is out"


def test_a_record_says_how_its_tools_stood() -> None:
    job = facts().model_copy(update={"tools": (arm(calibrated(1, "2020-01-01", "2020-02-01")),)})
    job = job.model_copy(
        update={"readings": tuple(one.model_copy(update={"instrument": "arm"}) for one in job.readings)}
    )
    record = make_record(job, {"vehicle": "Dunlin"}, who(59), software="test", workshop="a test")
    assert [one.level for one in tools_in_record(record)] == ["overdue"]
    body, _ = sealed(record)
    assert check_record(body.encode()).good
