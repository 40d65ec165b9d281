"""The bell: who listens hears of what any server recorded, in one question for all, and nothing is asked where nobody does."""

import asyncio
import threading
import time
from contextlib import contextmanager

import pymysql
import pytest

from fairsquare.actions import Desk
from fairsquare.actions.bell import Bell
from fairsquare.store.jobs import JobDetails, touch
from tests.conftest import key


class Told:
    """Stands for the database: revisions by number, and what was asked."""

    def __init__(self) -> None:
        self.revisions = {"SL-0001": 1, "SL-0002": 1}
        self.asked: list[set[str]] = []
        self.lines, self.away = 0, 0

    @contextmanager
    def line(self):
        self.lines += 1

        def ask(numbers):
            if self.away:
                self.away -= 1
                raise pymysql.OperationalError(2013, "Lost connection")
            self.asked.append(set(numbers))
            return {number: self.revisions[number] for number in numbers if number in self.revisions}

        yield ask


async def heard(ear, revision: int, seconds: float = 3.0) -> bool:
    end = time.monotonic() + seconds
    while ear.revision != revision and time.monotonic() < end:
        ear.rung.clear()
        try:
            await asyncio.wait_for(ear.rung.wait(), 0.2)
        except TimeoutError:
            continue
    return ear.revision == revision


def test_all_who_listen_are_told_of_what_others_recorded_by_one_question() -> None:
    told = Told()
    bell = Bell(told.line)

    async def listening() -> None:
        with bell.listen("SL-0001") as one, bell.listen("SL-0001") as same, bell.listen("SL-0002") as other:
            assert await heard(one, 1) and await heard(same, 1) and await heard(other, 1)
            told.revisions["SL-0001"] = 2
            assert await heard(one, 2) and await heard(same, 2)
            assert other.revision == 1 and told.lines == 1
            assert told.asked[-1] == {"SL-0001", "SL-0002"}
        await asyncio.sleep(0.3)
        many = len(told.asked)
        await asyncio.sleep(0.3)
        assert len(told.asked) == many, "nobody listens, nothing is asked"
        with bell.listen("SL-0002") as late:
            assert await heard(late, 1)

    asyncio.run(listening())


def test_what_this_server_recorded_is_asked_for_at_once(monkeypatch) -> None:
    monkeypatch.setattr("fairsquare.actions.bell.PAUSE_S", 30.0)
    told = Told()
    bell = Bell(told.line)

    async def listening() -> None:
        with bell.listen("SL-0001") as ear:
            assert await heard(ear, 1)
            await asyncio.sleep(0.1)
            told.revisions["SL-0001"] = 5
            bell.ring("SL-0002")
            assert not await heard(ear, 5, 0.3), "nobody listens for that one"
            bell.ring("SL-0001")
            assert await heard(ear, 5, 2.0)
        bell.close()

    asyncio.run(listening())


def test_a_database_that_is_away_is_asked_again_and_the_end_is_told(monkeypatch) -> None:
    monkeypatch.setattr("fairsquare.actions.bell._AWAY_S", 0.05)
    told = Told()
    told.away = 2
    bell = Bell(told.line)

    async def listening() -> None:
        with bell.listen("SL-0001") as ear, bell.listen("SL-0099") as nothing:
            assert await heard(ear, 1)
            assert told.lines == 3 and nothing.revision is None
            ear.rung.clear()
            threading.Thread(target=bell.close).start()
            await asyncio.wait_for(ear.rung.wait(), 2)
            assert bell.closed and ear.revision == 1

    asyncio.run(listening())


@pytest.mark.parametrize("on_board", [False, True])
def test_a_desk_hears_of_what_another_server_recorded(desk: Desk, database, persons, on_board) -> None:
    number = desk.open_job(persons["lead"], key(), JobDetails(vehicle="Sanderling tug"))
    job = desk.view(number).job

    async def listening() -> None:
        with desk.bell.listen(number, on_board=on_board) as ear:
            assert await heard(ear, job.revision)
            database.run(lambda c: touch(c, job.id))
            assert await heard(ear, job.revision + 1)

    asyncio.run(listening())
