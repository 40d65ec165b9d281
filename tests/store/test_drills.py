"""The drills: what they find where something is lost, doubled or out of order; and the first of them, held in short."""

import json
import socket
import threading
import time
from contextlib import suppress

import pytest

from drills import scenes
from drills.__main__ import held, line, main
from drills.grounds import GROUNDS, plain
from drills.journal import Journal, Row, Told, found, told
from drills.lines import AtCommit, Dropped, Line

HAND = "a hand"


def told_of(*kept: int, sent: int = 0) -> dict[str, Told]:
    deeds = range(1, max(sent, len(kept)) + 1)
    return {HAND: Told(tuple(deeds), dict(zip(deeds, kept, strict=False)), 0.4)}


def rows(*ids: tuple[int, int]) -> list[Row]:
    return [Row(own, HAND, deed) for own, deed in ids]


WHOLE = rows((1, 1), (4, 2), (7, 3))


@pytest.mark.parametrize(
    ("nodes", "lost", "doubled", "out_of_order", "unlike"),
    [
        ([WHOLE, WHOLE, WHOLE], 0, 0, 0, 0),
        ([WHOLE, rows((1, 1), (7, 3)), WHOLE], 1, 0, 0, 1),
        ([rows((1, 1), (4, 2), (5, 2), (7, 3))] * 3, 1, 1, 0, 0),
        ([rows((1, 1), (2, 2), (4, 2), (7, 3))] * 3, 0, 1, 0, 0),
        ([rows((1, 2), (4, 1), (7, 3))] * 3, 2, 0, 1, 0),
        ([rows((1, 1), (5, 2), (7, 3))] * 3, 1, 0, 0, 0),
        ([[], [], []], 3, 0, 0, 0),
    ],
    ids=["whole", "lost at one", "doubled, the other confirmed", "doubled", "out of order", "another id", "empty"],
)
def test_what_is_lost_doubled_out_of_order_or_unlike_is_found(nodes, lost, doubled, out_of_order, unlike) -> None:
    result = found(told_of(1, 4, 7), nodes)
    assert (result.lost, result.doubled, result.out_of_order, result.unlike) == (lost, doubled, out_of_order, unlike)
    assert result.good == (nodes == [WHOLE] * 3)
    assert result.acknowledged == 3 and (result.found == 3) == (lost == 0)


def test_what_was_sent_and_not_confirmed_may_be_there_or_not() -> None:
    for there in ((), rows((9, 4))):
        assert found(told_of(1, 4, 7, sent=4), [[*WHOLE, *there]] * 3).good


def test_nothing_confirmed_is_nothing_shown() -> None:
    assert not found({HAND: Told((1, 2), {}, 0.0)}, [[], [], []]).good


def test_a_journal_is_read_as_far_as_it_goes(tmp_path) -> None:
    journal = Journal(tmp_path / "a")
    journal.sends(1)
    journal.confirmed(1, 17, 0.25)
    journal.sends(2)
    journal.close()
    with (tmp_path / "a").open("a") as file:
        file.write(json.dumps({"deed": 2, "kept": 18, "took_s": 1})[:-4])
    assert told(tmp_path / "a") == Told((1, 2), {1: 17}, 0.25)


def until(true) -> bool:
    end = time.monotonic() + 10
    while not true() and time.monotonic() < end:
        time.sleep(0.01)
    return bool(true())


def answering() -> tuple[socket.socket, list[bytes]]:
    """A server that answers every line with the same in capitals."""
    door, heard = socket.create_server(("127.0.0.1", 0)), []

    def serve() -> None:
        while True:
            try:
                line = door.accept()[0]
            except OSError:
                return
            with line, suppress(OSError):
                while data := line.recv(100):
                    heard.append(data)
                    line.sendall(data.upper())

    threading.Thread(target=serve, daemon=True).start()
    return door, heard


def test_at_a_commit_something_happens_once_and_its_answer_does_not_come_back() -> None:
    door, heard = answering()
    at_commit, happened = AtCommit(), []
    way = Line("127.0.0.1", door.getsockname()[1], after=at_commit.passed)
    at_commit.arm(lambda: happened.append(1))
    with socket.create_connection(("127.0.0.1", way.port), 5) as near:
        near.sendall(b"select 1")
        assert near.recv(100) == b"SELECT 1"
        near.sendall(b"\x03COMMIT")
        assert near.recv(100) == b""
    assert at_commit.happened.wait(10) and happened == [1]
    assert until(lambda: heard[-1] == b"\x03COMMIT"), "it arrived"
    with socket.create_connection(("127.0.0.1", way.port), 5) as near:
        near.sendall(b"\x03COMMIT")
        assert near.recv(100) == b"\x03COMMIT", "once"
    way.close()
    door.close()


@pytest.mark.parametrize("when", ["before", "after"])
def test_a_line_drops_before_or_after_what_it_carries(when) -> None:
    door, heard = answering()

    def drop(*_) -> None:
        raise Dropped

    way = Line("127.0.0.1", door.getsockname()[1], **{when: drop})
    with socket.create_connection(("127.0.0.1", way.port), 5) as near:
        near.sendall(b"hello")
        assert near.recv(100) == b""
    way.close()
    door.close()
    assert (heard == [b"hello"]) == (when == "after") or heard == []


def test_a_drill_that_is_none_says_which_there_are(capsys) -> None:
    assert main(["earthquake"]) == 2
    said = capsys.readouterr().err
    assert all(scene.name in said for _, held_there in GROUNDS for scene in held_there)


def test_the_first_drill_a_server_is_killed_and_nothing_is_lost(monkeypatch) -> None:
    monkeypatch.setattr(scenes, "_BEFORE_S", 1.5)
    monkeypatch.setattr(scenes, "_AFTER_S", 2.0)
    short = scenes.FIRST._replace(crew=scenes.Crew(hands=6, jobs=3, every_s=0.4))
    ((_, outcome),) = held(plain, [short])
    assert outcome.good, line(short.name, outcome) + str(outcome.remarks + outcome.refused)
    assert outcome.found.acknowledged > 20 and outcome.records, "people were at work"
    assert outcome.saw["no line"], "somebody was at the server that was killed"
