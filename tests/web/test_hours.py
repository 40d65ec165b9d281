"""Hours and waits through the pages: rows typed, two people's clocks, one forgotten, gaps sent on, what came and what did not."""

import datetime
import re

import pytest

from fairsquare.actions import Desk, working
from fairsquare.job.intake.supplements import line_states
from fairsquare.store import jobs, work
from fairsquare.store.database import Database
from tests.conftest import Pages, key
from tests.web.test_job import new_job

ROW = "operation-{}-{}"


@pytest.fixture
def job(as_role) -> str:
    return new_job(as_role("technician"))


def keep(pages: Pages, job: str, status=200, version="0", operations=(), parts=(), **more) -> str:
    fields = {f"operation-{k}-{name}": value for k, row in enumerate(operations) for name, value in row.items()}
    fields |= {f"part-{k}-{name}": value for k, row in enumerate(parts) for name, value in row.items()}
    return pages.post(f"/jobs/{job}/hours/list", status, version=version, **fields, **more)


def start(pages: Pages, job: str, operation: str, status=200) -> str:
    return pages.post(f"/jobs/{job}/work", status, operation=operation)


def running(database: Database, person: int | None = None) -> list[work.OpenWork]:
    return database.run(lambda c: work.going_on(c, person))


def begun(database: Database, desk: Desk, job: str, operation: str, person, hours: float) -> None:
    """As if a clock had been started so many hours ago."""
    since = datetime.datetime.now(datetime.UTC) - datetime.timedelta(hours=hours)
    view = desk.view(job)
    database.run(lambda c: work.start(c, view.job.id, operation, person.id, f"{since:%Y-%m-%d %H:%M:%S}"))
    database.run(lambda c: jobs.touch(c, view.job.id))


@pytest.fixture(autouse=True)
def nobody_works(database: Database):
    yield
    for one in running(database):
        database.run(lambda c, one=one: work.take_back(c, one.id, one.person))
        database.run(lambda c, one=one: jobs.touch(c, one.job_id))


def test_a_part_typed_under_another_comes_off_and_is_counted_once(as_role, job, desk: Desk) -> None:
    tomasz = as_role("estimator")
    page = keep(
        tomasz,
        job,
        operations=[
            {"name": "Measure", "hours": "1:30", "sold": "1", "off": "lamp"},
            {"name": "Clean the drain", "hours": "0,5", "off": "bumper, lamp"},
        ],
        parts=[
            {"name": "lamp", "off": "0.2", "on": "0.3", "under": "bumper", "trials": "2"},
            {"name": "bumper", "off": "0.5", "on": "0.5", "sold": "1"},
        ],
        promised="2026-12-24",
    )
    found = working.work_on(desk, desk.view(job))
    assert found.row("Measure").hours == 1.5
    assert found.row("Clean the drain").hours == 0.5
    assert found.found.off == ("bumper", "lamp")
    assert found.row("lamp").hours == pytest.approx(3 * 0.2 + 3 * 0.3)
    assert "promised for 2026-12-24" in page
    assert "2 trial fits" in page
    again = tomasz.get(f"/jobs/{job}/hours/list")
    assert 'value="lamp"' in again and 'name="operation-0-name"' in again
    left = keep(tomasz, job, version="1", operations=[{"name": "Measure", "hours": "1", "left": "yes"}])
    assert "Measure<small>" not in left


@pytest.mark.parametrize(
    ("row", "words"),
    [
        ({"name": "Measure", "hours": "soon"}, "Hours are a number"),
        ({"name": "Measure", "hours": "-1"}, "Hours are 0 to 1000"),
        ({"name": "Measure", "hours": "nan"}, "Hours are 0 to 1000"),
        ({"name": "", "hours": "2"}, "name"),
        ({"name": "Measure", "hours": "1", "off": "roof"}, "roof is not among the parts"),
        ({"name": "x" * 41, "hours": "1"}, "name"),
    ],
)
def test_what_is_typed_wrong_stays_in_its_field_and_nothing_is_kept(as_role, job, desk, row, words) -> None:
    page = keep(as_role("estimator"), job, 422, operations=[row])
    assert words in page
    assert all(value in page for value in row.values())
    assert desk.view(job).facts.hours is None


def test_hours_changed_by_another_meanwhile_are_not_overwritten(as_role, job) -> None:
    keep(as_role("estimator"), job, operations=[{"name": "Measure", "hours": "3"}])
    page = keep(as_role("lead"), job, 409, operations=[{"name": "Measure", "hours": "9"}])
    assert "Tomasz Wrona changed the hours meanwhile" in page
    assert 'value="9"' in page
    assert "planned and sold by" in keep(
        as_role("apprentice"), job, 403, operations=[{"name": "Measure", "hours": "9"}]
    )


def test_one_touch_starts_and_the_next_stops_what_went_on_before(as_role, job, desk, database) -> None:
    ngozi, mateus = as_role("technician"), as_role("lead")
    other = new_job(ngozi)
    assert "Stop" in start(ngozi, job, "Measure")
    start(ngozi, job, "Measure")
    assert len(running(database)) == 1, "a second touch begins nothing more"
    start(mateus, job, "Measure")
    start(ngozi, other, "Set up and clamp")
    assert {(one.job, one.operation) for one in running(database)} == {(job, "Measure"), (other, "Set up and clamp")}
    (ended, going) = desk.view(job).facts.worked
    assert (ended.how, ended.hours is not None, going.ended_at) == ("next", True, None)
    assert "Set up and clamp" in ngozi.get(f"/work/strip?back=/jobs/{job}/hours")
    mine = next(one for one in running(database) if one.job == other)
    ngozi.post(f"/jobs/{other}/work/{mine.id}/stop", back="/tools")
    assert ngozi.get("/work/strip").count("work-now") == 0
    assert "is not among the operations" in start(ngozi, job, "Paint the moon", 422)


def test_who_may_clock_and_stop_whose(as_role, job, database) -> None:
    ngozi = as_role("technician")
    start(ngozi, job, "Measure")
    (mine,) = running(database)
    stop = f"/jobs/{job}/work/{mine.id}/stop"
    assert "clock: they stop it" in as_role("apprentice").post(stop, 422)
    assert "Work is clocked by" in as_role("estimator").post(stop, 403)
    as_role("lead").post(stop)
    assert not running(database)


def test_a_forgotten_clock_counts_nothing_until_its_person_says_when(as_role, job, desk, database, persons) -> None:
    ngozi = as_role("technician")
    begun(database, desk, job, "Measure", persons["technician"], 20)
    (mine,) = running(database)
    strip = ngozi.get("/work/strip")
    assert "When did you stop?" in strip
    assert "say first when you stopped" in start(ngozi, job, "Set up and clamp", 409)
    stop = f"/jobs/{job}/work/{mine.id}/stop"
    assert "say when it stopped" in ngozi.post(stop, 422)
    began = datetime.datetime.now(datetime.UTC) - datetime.timedelta(hours=20)
    for wrong in (began - datetime.timedelta(hours=1), began + datetime.timedelta(hours=30)):
        page = ngozi.post(stop, 422, ended=f"{wrong:%Y-%m-%dT%H:%M}")
        assert "after it began, and not in the future" in page
        assert f'name="ended" value="{wrong:%Y-%m-%dT%H:%M}"' in page, "what was typed of this clock stands there again"
    assert working.work_on(desk, desk.view(job)).row("Measure").worked_h is None
    ngozi.post(stop, ended=f"{began + datetime.timedelta(hours=3):%Y-%m-%dT%H:%M}", words="went home")
    assert working.work_on(desk, desk.view(job)).row("Measure").worked_h == pytest.approx(3, abs=0.05)
    assert "time said by Ngozi" in ngozi.get(f"/jobs/{job}/hours")


def test_work_that_no_clock_counted_is_added_and_nobody_does_two_things_at_once(as_role, job, desk) -> None:
    ngozi, day = (
        as_role("technician"),
        (datetime.datetime.now(datetime.UTC) - datetime.timedelta(days=2)).date().isoformat(),
    )
    add = {"operation": "Measure", "day": day, "words": "by tram"}
    ngozi.post(f"/jobs/{job}/work/add", since="09:00", until="10:30", **add)
    assert working.work_on(desk, desk.view(job)).row("Measure").worked_h == pytest.approx(1.5)
    for since, until, words in (
        ("10:00", "11:00", "two things at once"),
        ("12:00", "11:00", "ends after it begins"),
        ("00:10", "23:10", "More than 10 hours"),
        ("9 o", "11:00", "Say day and time"),
    ):
        page = ngozi.post(f"/jobs/{job}/work/add", 422, since=since, until=until, **add)
        assert words in page
    future = (datetime.datetime.now(datetime.UTC) + datetime.timedelta(days=2)).date().isoformat()
    assert "in the future" in ngozi.post(
        f"/jobs/{job}/work/add", 422, since="09:00", until="10:00", **{**add, "day": future}
    )
    clock = desk.view(job).facts.worked[0].id
    ngozi.post(f"/jobs/{job}/work/{clock}/back")
    assert working.work_on(desk, desk.view(job)).row("Measure").worked_h is None


def test_a_touch_sent_twice_starts_one_clock(as_role, job, desk, persons, database) -> None:
    one = key()
    first = working.start_work(desk, persons["technician"], one, job, "Measure")
    assert working.start_work(desk, persons["technician"], one, job, "Measure") == first
    assert len(running(database)) == 1


def test_gaps_become_supplement_lines_ready_to_send(as_role, job, desk) -> None:
    tomasz = as_role("estimator")
    assert "What was sold is not typed in yet" in tomasz.get(f"/jobs/{job}/hours")
    keep(tomasz, job, operations=[{"name": "Measure", "hours": "2", "sold": "0.5"}])
    page = tomasz.get(f"/jobs/{job}/hours")
    assert "1.50 h" in page
    assert "Choose what the payer" in tomasz.post(f"/jobs/{job}/hours/gaps", 422, row="Nothing such")
    page = tomasz.post(f"/jobs/{job}/hours/gaps", row=["Measure", "Make it safe"])
    assert "Measure: takes longer than was sold" in page
    assert {state.line.hours for state in line_states(desk.view(job).facts)} == {1.5, 0.5}
    assert "Measure" not in {row.name for row in working.work_on(desk, desk.view(job)).gaps}


def note(pages: Pages, job: str, status=200, **fields) -> str:
    return pages.post(f"/jobs/{job}/waits", status, **{"kind": "part", "words": "left rear node", **fields})


def test_a_wait_stands_on_the_spine_and_the_floor_until_it_came(as_role, job, desk) -> None:
    ngozi = as_role("technician")
    in_two_days = datetime.datetime.now(datetime.UTC) + datetime.timedelta(days=2)
    page = note(ngozi, job, asked_of="Ines, parts", due=f"{in_two_days:%Y-%m-%dT14:00}")
    assert "Waits: left rear node; asked: Ines, parts, due" in page
    floor = re.sub(r"\s+", " ", ngozi.get(f"/?q={job}"))
    assert "left rear node<small>asked: Ines, parts</small>" in floor
    assert f"{in_two_days:%a} 14:00" in floor
    (wait,) = desk.view(job).facts.waits
    ngozi.post(f"/jobs/{job}/waits/{wait.id}", do="say", asked_of="The maker", due="")
    assert "nobody knows until when" in ngozi.get(f"/jobs/{job}/take-in")
    assert "no date" in ngozi.get(f"/?q={job}")
    ngozi.post(f"/jobs/{job}/waits/{wait.id}", do="over")
    assert "left rear node" not in ngozi.get(f"/?q={job}")
    assert "noted already that it came" in ngozi.post(f"/jobs/{job}/waits/{wait.id}", 409, do="over")


def test_what_can_be_done_now_comes_first_on_the_floor(as_role) -> None:
    ngozi = as_role("technician")
    waits, works = new_job(ngozi), new_job(ngozi)
    note(ngozi, waits, due="2020-01-01T10:00")
    floor = ngozi.get("/")
    assert floor.index(works) < floor.index(waits)
    assert "overdue" in floor
    later = new_job(ngozi)
    note(ngozi, later, station="weld")
    assert "left rear node" not in ngozi.get(f"/?q={later}"), "it holds nothing up yet"
    assert "Waits: left rear node" in ngozi.get(f"/jobs/{later}/take-in")


@pytest.mark.parametrize(
    ("fields", "words"),
    [
        ({"words": "x"}, "Say what it waits for"),
        ({"kind": "luck"}, "It is one of"),
        ({"due": "soon"}, "Say day and time"),
        ({"due": "2026-13-40T10:00"}, "Say day and time"),
        ({"station": "moon"}, "Choose a station"),
        ({"asked_of": "y" * 121}, "up to 120 letters"),
    ],
)
def test_a_wait_said_wrong_keeps_what_was_typed(as_role, job, desk, fields, words) -> None:
    page = note(as_role("technician"), job, 422, **fields)
    assert words in page
    assert not desk.view(job).facts.waits
