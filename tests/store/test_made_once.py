"""Work that all servers share: made once, taken over from a server that is gone, limited for all together."""

import threading
import time
from concurrent.futures import Future

import pytest

from fairsquare.actions import made_once
from fairsquare.actions.made_once import Leases, MadeOnce, new_token
from fairsquare.core.errors import FairSquareError
from fairsquare.store import slow_work
from fairsquare.store.database import Database, execute
from fairsquare.web.paper import Papers
from fairsquare.workers import TooBusy


@pytest.fixture
def servers(database: Database):
    """Two servers over one database."""
    database.run(lambda c: execute(c, "DELETE FROM slow_work"))
    two = MadeOnce(database, "paper", 1), MadeOnce(database, "paper", 1)
    yield two
    for server in two:
        server.close()


class Slow:
    """Something that is made once it may be, and counts how often."""

    def __init__(self, what: bytes = b"made") -> None:
        self.what, self.times, self.may = what, 0, threading.Event()

    def make(self) -> bytes:
        self.times += 1
        assert self.may.wait(10)
        return self.what


def lapse(database: Database) -> None:
    database.run(lambda c: execute(c, "UPDATE slow_work SET lease_until = UTC_TIMESTAMP(6) - INTERVAL 1 SECOND"))


def until(true, seconds: float = 5.0) -> bool:
    end = time.monotonic() + seconds
    while not true() and time.monotonic() < end:
        time.sleep(0.02)
    return true()


def test_what_two_servers_are_asked_for_is_made_by_one(servers) -> None:
    one, other = servers
    slow = Slow()
    ordered = [server.order("a", "ngozi", slow.make) for server in (one, other, other)]
    assert not any(order.done() for order in ordered)
    slow.may.set()
    assert [order.result(5) for order in ordered] == [b"made"] * 3
    assert other.order("a", "mateus", slow.make).result(0) == b"made", "it is kept"
    assert slow.times == 1


def test_what_a_server_that_is_gone_was_making_is_made_by_the_next(servers, database) -> None:
    gone, other = servers
    theirs, ours = Slow(b"theirs"), Slow(b"ours")
    first = gone.order("b", "ngozi", theirs.make)
    second = other.order("b", "ngozi", ours.make)
    lapse(database)
    assert until(lambda: ours.times == 1)
    ours.may.set()
    assert second.result(5) == b"ours"
    theirs.may.set()
    assert first.result(5) == b"theirs", "its own page is served"
    assert other.order("b", "ngozi", ours.make).result(1) == b"ours", "and nobody else's is changed"


def test_a_fault_is_told_everywhere_and_the_next_time_it_is_tried_again(servers) -> None:
    one, other = servers
    may = threading.Event()

    def fails() -> bytes:
        may.wait(10)
        fault = FairSquareError("The PDF could not be made: no paper.")
        fault.status, fault.kind = 500, "paper"
        raise fault

    ordered: list[Future[bytes]] = [server.order("c", "ngozi", fails) for server in (one, other)]
    may.set()
    for order in ordered:
        fault = order.exception(5)
        assert isinstance(fault, FairSquareError)
        assert (fault.title, fault.status, fault.kind) == ("The PDF could not be made: no paper.", 500, "paper")
    assert other.order("c", "ngozi", lambda: b"now").result(5) == b"now"
    broken = one.order("d", "ngozi", lambda: bytes(1 // 0))
    assert isinstance(broken.exception(5), ZeroDivisionError)


def test_places_before_it_and_limits_count_for_all_servers(servers, monkeypatch) -> None:
    monkeypatch.setattr(made_once, "MOST_OF_ONE", 3)
    monkeypatch.setattr(made_once, "MOST_WAITING", 4)
    one, other = servers
    slow = Slow()
    ordered = [one.order(f"e{k}", "ngozi", slow.make) for k in range(3)]
    assert [one.before(f"e{k}") for k in range(3)] == [0, 1, 2]
    assert other.before("e2") == 2, "whoever asks"
    with pytest.raises(TooBusy, match="3 things that you asked for"):
        other.order("f", "ngozi", slow.make)
    ordered.append(other.order("f", "mateus", slow.make))
    assert other.before("f") == 0, "the other server makes another"
    with pytest.raises(TooBusy, match="4 things are being made"):
        other.order("g", "mateus", slow.make)
    ordered.append(other.order("e0", "mateus", slow.make))
    slow.may.set()
    assert [order.result(5) for order in ordered] == [b"made"] * 5 and slow.times == 4
    assert one.before("e2") == 0


def test_a_lease_is_renewed_and_says_when_it_was_lost_or_is_to_stop(database) -> None:
    database.run(lambda c: execute(c, "DELETE FROM slow_work"))
    leases, token = Leases(database), new_token()
    database.run(lambda c: slow_work.claim(c, "search", "SL-0001", "ngozi", "a" * 16, token))
    with leases.held(token) as hold:
        lapse(database)
        assert database.run(lambda c: slow_work.look(c, "search", "SL-0001")).lapsed
        leases.renew((hold,))
        assert not database.run(lambda c: slow_work.look(c, "search", "SL-0001")).lapsed
        assert (hold.lost, hold.stopped) == (False, False)
        database.run(lambda c: slow_work.stop(c, "search", "SL-0001"))
        leases.renew((hold,))
        assert (hold.lost, hold.stopped) == (False, True)
        lapse(database)
        assert database.run(lambda c: slow_work.take_over(c, "search", "SL-0001", "b" * 16, new_token()))
        assert not database.run(lambda c: slow_work.tell(c, token, 1, "late"))
        assert not database.run(lambda c: slow_work.finish(c, token, None))
        leases.renew((hold,))
        assert hold.lost
    row = database.run(lambda c: slow_work.look(c, "search", "SL-0001"))
    assert (row.over, row.tried, row.stopped) == (False, 0, False)


def test_of_what_lapsed_one_takes_over(database) -> None:
    database.run(lambda c: execute(c, "DELETE FROM slow_work"))
    database.run(lambda c: slow_work.claim(c, "paper", "h", "ngozi", "a" * 16, new_token()))
    assert not database.run(lambda c: slow_work.take_over(c, "paper", "h", "b" * 16, new_token()))
    lapse(database)
    taken = [database.run(lambda c: slow_work.take_over(c, "paper", "h", "b" * 16, new_token())) for _ in range(3)]
    assert taken == [True, False, False]


def test_what_is_a_day_old_is_forgotten(servers, database) -> None:
    one, other = servers
    assert one.order("i", "ngozi", lambda: b"old").result(5) == b"old"
    database.run(lambda c: execute(c, "UPDATE slow_work SET at = UTC_TIMESTAMP(6) - INTERVAL 25 HOUR"))
    one.order("j", "ngozi", lambda: b"new").result(5)
    assert other.order("i", "ngozi", lambda: b"again").result(5) == b"again"


def test_papers_that_are_too_many_are_refused_and_can_be_asked_for_again(database, monkeypatch) -> None:
    """Two that ask at once have the same; who is refused leaves nothing behind that others would wait for."""
    database.run(lambda c: execute(c, "DELETE FROM slow_work"))
    papers, slow = Papers(database, 1), Slow()
    monkeypatch.setattr("fairsquare.web.paper.pdf_of", lambda page, running: slow.make() + page.encode())
    first = papers.order("a", "ngozi", lambda: " a")
    assert papers.order("a", "mateus", lambda: " a") is first and not first.cancel()
    monkeypatch.setattr(made_once, "MOST_OF_ONE", 1)
    with pytest.raises(TooBusy):
        papers.order("b", "ngozi", lambda: " b")
    monkeypatch.setattr(made_once, "MOST_OF_ONE", 2)
    second = papers.order("b", "ngozi", lambda: " b")
    assert (papers.before(first), papers.before(second)) == (0, 1)
    slow.may.set()
    assert (first.result(5), second.result(5)) == (b"made a", b"made b")
    papers.close()
