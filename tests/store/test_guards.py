"""What comes at once, and a clock that is put back: no record forks, nobody has two clocks, no hours go without a word."""

import json
from concurrent.futures import ThreadPoolExecutor

import pytest

from fairsquare.actions import Desk, working
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.store import put_back, records, work
from fairsquare.store.database import Database, select_one
from fairsquare.store.jobs import JobDetails
from fairsquare.store.nodes import connect_arguments
from fairsquare.store.put_back import ClockWatch
from tests.conftest import key


def opened(desk: Desk, persons, vehicle: str = "Sanderling tug") -> str:
    return desk.open_job(persons["lead"], key(), JobDetails(vehicle=vehicle))


def guarded(database: Database, table: str, name: str, value) -> int:
    return database.run(lambda c: select_one(c, f"SELECT guarded FROM {table} WHERE {name} = %s", value))["guarded"]


def test_records_made_at_once_stand_one_behind_the_other(desk: Desk, database: Database, persons) -> None:
    number = opened(desk, persons)
    with ThreadPoolExecutor(6) as pool:
        made = list(pool.map(lambda _: desk.make_record(persons["lead"], key(), number), range(12)))
    texts = [json.loads(database.run(lambda c, s=one: records.find_record(c, s))) for one in dict.fromkeys(made)]
    before = {one["integrity"]["sha256"]: one["integrity"]["previous"] for one in texts}
    assert len(before) == len(texts) == 12
    assert sorted(before.values()) == sorted({"", *before} - {last for last in before if last not in before.values()})


def test_a_person_who_touches_many_at_once_has_one_clock(desk: Desk, database: Database, persons) -> None:
    numbers = [opened(desk, persons, f"Tug {k}") for k in range(6)]
    name = working.work_on(desk, desk.view(numbers[0])).rows[0].name

    def begin(number: str) -> None:
        working.start_work(desk, persons["technician"], key(), number, name)

    with ThreadPoolExecutor(6) as pool:
        list(pool.map(begin, numbers * 2))
    running = database.run(lambda c: work.going_on(c, persons["technician"].id))
    assert len(running) == 1
    working.stop_work(desk, persons["technician"], key(), running[0].job, running[0].id)


def test_the_guard_is_a_write_so_that_it_holds_on_a_cluster_too(desk: Desk, database: Database, persons) -> None:
    number, own = opened(desk, persons), persons["technician"]
    job, person = guarded(database, "job", "number", number), guarded(database, "person", "id", own.id)
    desk.make_record(persons["lead"], key(), number)
    assert guarded(database, "job", "number", number) == job + 1
    name = working.work_on(desk, desk.view(number)).rows[0].name
    clock = working.start_work(desk, own, key(), number, name)
    assert guarded(database, "person", "id", own.id) == person + 1
    working.stop_work(desk, own, key(), number, clock)


@pytest.fixture
def shifted(url):
    """Return a desk over a database whose clock is shifted by so many seconds."""
    made = []

    def shift(seconds: float) -> tuple[Desk, Database]:
        usual_clock, again = Database(url, 1), Database(url, 2)
        now = usual_clock.run(lambda c: select_one(c, "SELECT UNIX_TIMESTAMP(NOW(6)) AS now"))["now"]
        usual_clock.close()
        own, usual = again.nodes._connected, connect_arguments(url)["init_command"]
        command = f"{usual}, timestamp = {float(now) + seconds:.6f}"
        again.nodes._connected = lambda node, more: own(node, {**more, "init_command": command})
        made.append(again)
        return Desk(again, software="t", workshop="t", number_prefix="SL-"), again

    yield shift
    for one in made:
        one.close()


def test_a_clock_put_back_loses_no_hours_without_a_word(desk: Desk, database: Database, persons, shifted) -> None:
    number, own = opened(desk, persons), persons["apprentice"]
    name = working.work_on(desk, desk.view(number)).rows[0].name
    clock = working.start_work(desk, own, key(), number, name)
    back, _ = shifted(-3600)
    with pytest.raises(Refused, match=r"put back by 1 h 0 min"):
        working.stop_work(back, own, key(), number, clock)
    with pytest.raises(FairSquareError, match="say first when you stopped"):
        working.start_work(back, own, key(), opened(desk, persons, "Another"), name)
    began = next(one.by.at for one in desk.view(number).facts.worked if one.id == clock)
    working.stop_work(back, own, key(), number, clock, working._later(began, 1800))
    assert next(one.hours for one in desk.view(number).facts.worked if one.id == clock) == pytest.approx(0.5)


def test_whoever_watches_notes_it_once_and_only_for_what_ran(desk: Desk, database: Database, persons, shifted) -> None:
    number, own = opened(desk, persons), persons["estimator"]
    lead = persons["lead"]
    name = working.work_on(desk, desk.view(number)).rows[0].name
    clock = working.start_work(desk, lead, key(), number, name)
    watches = [ClockWatch(database), ClockWatch(database)]
    for watch in watches:
        assert watch.look(1000.0) == 0.0
        assert watch.look(1000.0) == 0.0, "time that stands is no time put back"
    assert [round(watch.look(1000.0 + 1800.0) / 60) for watch in watches] == [30, 30], (
        "as if it stood half an hour back"
    )
    running = next(one for one in database.run(work.going_on) if one.id == clock)
    assert running.put_back_s == pytest.approx(1800, abs=5), "once, whoever saw it"
    with pytest.raises(Refused, match="put back by 30 min"):
        working.stop_work(desk, lead, key(), number, clock)
    began = running.since
    working.stop_work(desk, lead, key(), number, clock, working._later(began, 600))
    after = working.start_work(desk, lead, key(), number, name)
    assert next(one for one in database.run(work.going_on) if one.id == after).put_back_s <= 0
    working.stop_work(desk, lead, key(), number, after)
    assert put_back.LEAST_S > 5
    assert own.role == "estimator"
