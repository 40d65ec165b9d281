"""The bell: who listens hears of what any server recorded, in one question for all, and nothing is asked where nobody does."""

import asyncio
import threading
import time
from contextlib import contextmanager

import pymysql
import pytest

from fairsquare.actions import Desk
from fairsquare.actions.bell import LEAST_S, Bell
from fairsquare.store import listening
from fairsquare.store.database import execute
from fairsquare.store.jobs import JobDetails, touch
from tests.conftest import key


class Told:
    """Stands for the database: revisions by number, and what was asked."""

    def __init__(self, monkeypatch) -> None:
        self.numbers = {"SL-0001": 1, "SL-0002": 1}
        self.asked: list[set[str]] = []
        self.lines, self.away, self.here = 0, 0, 0
        monkeypatch.setattr(listening, "line", self.line)
        monkeypatch.setattr(listening, "others", lambda connection, name, machine: ())

    @contextmanager
    def line(self, database):
        self.lines += 1
        yield self

    def run(self, work):
        return work(None)

    def listen(self, name, machine, host, port) -> None:
        assert host == "127.0.0.1" and port > 0 and machine
        self.here += 1

    def leave(self, name) -> None:
        self.here = 0

    def revisions(self, numbers):
        if self.away:
            self.away -= 1
            raise pymysql.OperationalError(2013, "Lost connection")
        self.asked.append(set(numbers))
        return {number: self.numbers[number] for number in numbers if number in self.numbers}


@pytest.fixture
def told(monkeypatch) -> Told:
    return Told(monkeypatch)


@pytest.fixture
def patient(monkeypatch) -> None:
    """Nobody asks without being knocked at."""
    for pause in ("PAUSE_S", "LIVELY_PAUSE_S"):
        monkeypatch.setattr(f"fairsquare.actions.bell.{pause}", 30.0)


async def heard(ear, revision: int, seconds: float = 3.0) -> bool:
    end = time.monotonic() + seconds
    while ear.revision != revision and time.monotonic() < end:
        ear.rung.clear()
        try:
            await asyncio.wait_for(ear.rung.wait(), 0.2)
        except TimeoutError:
            continue
    return ear.revision == revision


def test_all_who_listen_are_told_of_what_others_recorded_by_one_question(told) -> None:
    bell = Bell(told)

    async def look() -> None:
        with bell.listen("SL-0001") as one, bell.listen("SL-0001") as same, bell.listen("SL-0002") as other:
            assert await heard(one, 1) and await heard(same, 1) and await heard(other, 1)
            told.numbers["SL-0001"] = 2
            assert await heard(one, 2) and await heard(same, 2)
            assert other.revision == 1 and told.lines == 1 and told.here == 1
            assert told.asked[-1] == {"SL-0001", "SL-0002"}
        for _ in range(100):
            await asyncio.sleep(0.05)
            if not told.here:
                break
        assert not told.here, "it says that it is gone"
        many = len(told.asked)
        await asyncio.sleep(0.3)
        assert len(told.asked) == many, "nobody listens, nothing is asked"
        with bell.listen("SL-0002") as late:
            assert await heard(late, 1)

    asyncio.run(look())


@pytest.mark.usefixtures("patient")
def test_what_this_server_recorded_is_asked_for_at_once(told) -> None:
    bell = Bell(told)

    async def look() -> None:
        with bell.listen("SL-0001") as ear:
            assert await heard(ear, 1)
            await asyncio.sleep(0.1)
            told.numbers["SL-0001"] = 5
            bell.ring("SL-0002")
            assert not await heard(ear, 5, 0.3), "nobody listens for that one"
            bell.ring("SL-0001")
            assert await heard(ear, 5, 2.0)
        bell.close()

    asyncio.run(look())


def test_a_database_that_is_away_is_asked_again_and_the_end_is_told(told, monkeypatch) -> None:
    monkeypatch.setattr("fairsquare.actions.bell._AWAY_S", 0.05)
    told.away = 2
    bell = Bell(told)

    async def look() -> None:
        with bell.listen("SL-0001") as ear, bell.listen("SL-0099") as nothing:
            assert await heard(ear, 1)
            assert told.lines == 3 and nothing.revision is None
            ear.rung.clear()
            threading.Thread(target=bell.close).start()
            await asyncio.wait_for(ear.rung.wait(), 2)
            assert bell.closed and ear.revision == 1

    asyncio.run(look())


@pytest.mark.usefixtures("patient")
def test_however_often_it_is_knocked_few_questions_are_asked(told) -> None:
    bell = Bell(told)

    async def look() -> None:
        with bell.listen("SL-0001") as ear:
            assert await heard(ear, 1)
            before, began = len(told.asked), time.monotonic()
            for _ in range(2000):
                bell.ring("SL-0001")
            await asyncio.sleep(0.2)
            assert len(told.asked) - before < (time.monotonic() - began) / LEAST_S + 3
        bell.close()

    asyncio.run(look())


def test_an_address_that_is_not_of_this_machine_is_refused(told) -> None:
    with pytest.raises(ValueError, match=r"FAIRSQUARE_OWN_HOST: 192\.0\.2\.1 is no address of this machine"):
        Bell(told, "192.0.2.1")


def other_desk(database) -> Desk:
    return Desk(database, software="Fair Square test", workshop="a test", number_prefix="SL-")


@pytest.mark.usefixtures("patient")
def test_what_another_server_recorded_is_knocked_for(desk: Desk, database, persons) -> None:
    number = desk.open_job(persons["lead"], key(), JobDetails(vehicle="Sanderling tug"))
    other = other_desk(database)
    first = desk.view(number).job.revision

    async def look() -> None:
        with desk.bell.listen(number) as ear:
            assert await heard(ear, first)
            await asyncio.to_thread(other.answer_safety, persons["lead"], key(), number, "battery", "done")
            assert await heard(ear, first + 1)

    asyncio.run(look())


def test_where_no_knock_comes_it_is_asked_for_all_the_same(desk: Desk, database, persons) -> None:
    number = desk.open_job(persons["lead"], key(), JobDetails(vehicle="Sanderling tug"))
    job = desk.view(number).job

    async def look() -> None:
        with desk.bell.listen(number) as ear:
            assert await heard(ear, job.revision)
            database.run(lambda c: touch(c, job.id))
            assert await heard(ear, job.revision + 1)

    asyncio.run(look())


def test_who_is_knocked_at(database) -> None:
    """Servers of this machine, those of others that listen for other machines, and none that has not been heard of for long."""
    with listening.line(database) as line:
        for name, machine, host in (
            ("a", "here", "127.0.0.1"),
            ("b", "there", "127.0.0.1"),
            ("c", "there", "10.0.0.12"),
            ("d", "here", "::1"),
            ("own", "here", "127.0.0.1"),
            ("old", "here", "127.0.0.1"),
        ):
            line.listen(name, machine, host, 4000)
        long_ago = "UPDATE listening SET seen_at = UTC_TIMESTAMP(6) - INTERVAL 20 SECOND WHERE name = 'old'"
        database.run(lambda c: execute(c, long_ago))
        doors = database.run(lambda c: listening.others(c, "own", "here"))
        assert sorted(doors) == [("10.0.0.12", 4000), ("127.0.0.1", 4000), ("::1", 4000)]
        for name in ("a", "c", "d"):
            line.leave(name)
        assert database.run(lambda c: listening.others(c, "own", "here")) == ()
