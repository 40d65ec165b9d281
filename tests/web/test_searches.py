"""Searches that all servers share: found by one, read by another, stopped by any, begun anew where a server is gone."""

import threading
import time
from collections.abc import Iterator
from dataclasses import replace

import pytest

from fairsquare.core.errors import FairSquareError
from fairsquare.job.pull.proposals import Looked, WayOut
from fairsquare.store import slow_work
from fairsquare.store.database import Database, execute
from fairsquare.web.searches import Search, Searches
from fairsquare.workers import TooBusy


def looks(many: int, pause_s: float) -> Iterator[Looked]:
    """What a search yields, in a process of its own."""
    for k in range(many):
        yield Looked(f"look {k}", (), (WayOut("a longer chain", ("F4L",), 1.5),), over=k == many - 1)
        time.sleep(pause_s)


def again(number: str, search: Search):
    if search.plan_version > 7:
        raise FairSquareError("The plan was changed meanwhile.")
    return looks, 3, 0.0


@pytest.fixture
def servers(database: Database) -> tuple[Searches, Searches]:
    database.run(lambda c: execute(c, "DELETE FROM slow_work"))
    return Searches(database, again, 1), Searches(database, again, 1)


def gone(database: Database) -> None:
    """Have the server that looks be gone: nobody renews, and what it writes is of an older claim."""
    database.run(lambda c: execute(c, "UPDATE slow_work SET lease_until = UTC_TIMESTAMP(6) - INTERVAL 1 SECOND"))
    database.run(lambda c: execute(c, "UPDATE slow_work SET claim = REVERSE(claim) WHERE ended = 0"))


def until(true, seconds: float = 20.0):
    end = time.monotonic() + seconds
    while not (value := true()) and time.monotonic() < end:
        time.sleep(0.05)
    return value


def test_another_server_shows_how_a_search_stands_and_that_it_is_over(servers) -> None:
    one, other = servers
    assert other.of("SL-0001") is None
    one.begin("SL-0001", Search("ngozi", 3, "outward"), looks, 2, 0.2)
    assert until(lambda: other.of("SL-0001").tried == 2)
    assert until(lambda: other.of("SL-0001").over)
    here, there = one.of("SL-0001"), other.of("SL-0001")
    assert (there.person, there.plan_version, there.school) == ("ngozi", 3, "outward")
    assert there.looked == here.looked == Looked("look 1", (), (WayOut("a longer chain", ("F4L",), 1.5),), over=True)
    assert not there.stopped and there.fault is None


def test_any_server_stops_it(servers) -> None:
    one, other = servers
    one.begin("SL-0002", Search("ngozi", 0, "outward"), looks, 200, 0.1)
    assert until(lambda: other.of("SL-0002").tried > 0)
    other.stop("SL-0002")
    assert until(lambda: other.of("SL-0002").over)
    assert other.of("SL-0002").stopped and one.of("SL-0002").stopped and one.of("SL-0002").tried < 200


def test_a_new_search_of_a_job_ends_the_one_before_wherever_that_is(servers) -> None:
    one, other = servers
    old, new = Search("ngozi", 1, "outward"), Search("mateus", 2, "reverse")
    one.begin("SL-0003", old, looks, 200, 0.1)
    assert until(lambda: old.tried)
    other.begin("SL-0003", new, looks, 2, 0.1)
    assert until(lambda: old.over), "it finds that its claim is not its own any more"
    assert until(lambda: one.of("SL-0003").over)
    assert (one.of("SL-0003").person, one.of("SL-0003").tried) == ("mateus", 2)


def test_where_the_server_is_gone_the_next_that_is_asked_begins_it_anew(servers, database) -> None:
    one, other = servers
    one.begin("SL-0004", Search("ngozi", 0, "outward"), looks, 200, 0.1)
    assert until(lambda: other.of("SL-0004").tried > 1)
    gone(database)
    seen = replace(other.of("SL-0004"))
    assert not seen.over and seen.looked.words.startswith("look"), "the best so far stays meanwhile"
    assert until(lambda: one.of("SL-0004").over)
    assert one.of("SL-0004").looked.words == other.of("SL-0004").looked.words == "look 2"
    assert one.of("SL-0004").tried == seen.tried + 3, "what was tried before counts on"


def test_what_cannot_be_begun_anew_says_why_and_what_was_stopped_stays_stopped(servers, database) -> None:
    one, other = servers
    for number, version in (("SL-0005", 8), ("SL-0006", 0)):
        one.begin(number, Search("ngozi", version, "outward"), looks, 200, 0.1)
    gone(database)
    assert until(lambda: other.of("SL-0005").fault).title == "The plan was changed meanwhile."
    assert one.of("SL-0005").over
    other.stop("SL-0006")
    assert other.of("SL-0006").over


def test_a_person_has_few_at_all_servers_and_waits_for_a_turn(servers) -> None:
    one, other = servers
    for k in range(4):
        one.begin(f"SL-001{k}", Search("ngozi", 0, "outward"), looks, 300, 0.1)
    with pytest.raises(TooBusy, match="4 searches of yours"):
        other.begin("SL-0019", Search("ngozi", 0, "outward"), looks, 1, 0.0)
    other.begin("SL-0018", Search("mateus", 0, "outward"), looks, 1, 0.0)
    assert until(lambda: other.of("SL-0012").before) == 2
    assert until(lambda: one.of("SL-0018").over)
    for k in range(4):
        other.stop(f"SL-001{k}")
    assert until(lambda: all(one.of(f"SL-001{k}").over for k in range(4)))
    assert not [thread for thread in threading.enumerate() if thread.name == "search" and not thread.daemon]


def test_what_it_found_is_written_whole(database) -> None:
    """As the row keeps it, with a plan that was found in earnest: nothing of it is lost."""
    from pydantic import TypeAdapter

    from fairsquare.job.pull.proposals import proposals
    from fairsquare.stand_ins.vehicles import DUNLIN
    from tests.job.test_proposals import asked

    found = next(looked for looked in proposals(asked(DUNLIN)) if looked.best)
    written = TypeAdapter(Looked)
    text = written.dump_json(found, by_alias=True).decode()
    database.run(lambda c: execute(c, "DELETE FROM slow_work"))
    database.run(lambda c: slow_work.claim(c, "search", "SL-0001", "ngozi", "a" * 16, "b" * 16))
    database.run(lambda c: slow_work.tell(c, "b" * 16, 1, text))
    kept = database.run(lambda c: slow_work.so_far(c, "search", "SL-0001"))
    assert written.validate_json(kept) == found
