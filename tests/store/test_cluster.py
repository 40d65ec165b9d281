"""A cluster of three nodes on this machine: what is written at two of them is at the third after one was killed."""

import tempfile
import threading
import time
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from uuid import uuid4

import pytest

from fairsquare.service import cluster
from fairsquare.service.cluster import Cluster, ClusterNode, free_ways
from fairsquare.store.database import Database, DatabaseAway, execute, select
from fairsquare.store.migrate import migrate
from fairsquare.store.nodes import nodes_of

WRITE = """INSERT INTO listening (name, machine, host, port, seen_at)
           VALUES (%s, 'm', '127.0.0.1', 1, UTC_TIMESTAMP(6))"""


def test_every_node_has_ports_of_its_own_and_the_others_are_named_to_it(tmp_path) -> None:
    made = Cluster(tmp_path)
    ports = [port for ways in free_ways(3) for port in ways[:4]]
    assert len(set(ports)) == 12
    groups = {next(word for word in node._options(tmp_path) if "gcomm" in word) for node in made.nodes}
    assert len(groups) == 1, "the same for all"
    assert all(f"127.0.0.1:{node._ways.group}" in next(iter(groups)) for node in made.nodes)
    assert not any("--wsrep-new-cluster" in node._options(tmp_path) for node in made.nodes), "none begins a second one"


def test_each_server_asks_another_node_first(tmp_path) -> None:
    made = Cluster(tmp_path)
    ports = [node.port for node in made.nodes]
    assert [node.port for node in nodes_of(made.url(0))] == ports
    assert [node.port for node in nodes_of(made.url(1))] == [ports[1], ports[2], ports[0]]


@pytest.mark.parametrize("last", [None, 1])
def test_it_is_begun_with_the_node_that_stopped_last_or_with_the_one_that_has_most(tmp_path, monkeypatch, last) -> None:
    made = Cluster(tmp_path)
    for k, node in enumerate(made.nodes):
        (node.folder / "data").mkdir(parents=True)
        (node.folder / "data" / "grastate.dat").write_text(f"seqno: 5\nsafe_to_bootstrap: {int(k == last)}\n")
        monkeypatch.setattr(node, "position", lambda k=k: f"{uuid4()}:{(7, 9, 8)[k]}")
        monkeypatch.setattr(node, "join", lambda password, node=node: done.append(f"{node.name} joins with {password}"))
        monkeypatch.setattr(node, "begin", lambda node=node: done.append(f"{node.name} begins") or "mysql://f:pw@h/f")
    done: list[str] = []
    made.start()
    assert done == ["node 2 begins", "node 1 joins with pw", "node 3 joins with pw"]
    assert made.nodes[1].is_safe_to_begin


def test_what_died_is_started_again_after_a_while(monkeypatch, capsys) -> None:
    now = [100.0]
    monkeypatch.setattr(cluster.time, "monotonic", lambda: now[0])
    died: dict[str, float] = {}
    assert not cluster._is_due(died, "node 1", alive=True) and not died
    assert not cluster._is_due(died, "node 1", alive=False)
    now[0] += 19.0
    assert not cluster._is_due(died, "node 1", alive=False)
    now[0] += 2.0
    assert cluster._is_due(died, "node 1", alive=False)
    assert capsys.readouterr().out == "· node 1 died\n", "said once"
    assert not cluster._is_due(died, "node 1", alive=True) and not died


@pytest.fixture
def three() -> Iterator[Cluster]:
    with tempfile.TemporaryDirectory(prefix="fairsquare-cluster-") as name:
        folder = Path(name)
        folder.chmod(0o755)
        made = Cluster(folder, quick=True)
        made.start()
        yield made
        made.stop()
        made.remove()


def _in_time(database: Database, work) -> None:
    """Do what the others have to agree for first who is left; on a busy machine they take longer than a deed waits."""
    until = time.monotonic() + 60
    while True:
        try:
            return database.run(work)
        except DatabaseAway:
            assert time.monotonic() < until, "they never agreed"


@contextmanager
def _behind(node: ClusterNode, for_s: float) -> Iterator[None]:
    """Have a node take in for a while nothing that the others confirm, as one that has much to do."""
    with node.as_root() as cursor:
        cursor.execute("FLUSH TABLES WITH READ LOCK")
        later = threading.Timer(for_s, cursor.execute, ["UNLOCK TABLES"])
        later.start()
        yield
        later.join()


def _names(database: Database) -> list[str]:
    return [row["name"] for row in database.run(lambda c: select(c, "SELECT name FROM listening ORDER BY name"))]


class Hands:
    """Who records at several nodes all the time, and remembers what was confirmed."""

    def __init__(self, databases: Sequence[Database]) -> None:
        self.confirmed: list[str] = []
        self.refused: list[BaseException] = []
        self._over = threading.Event()
        self._threads = [threading.Thread(target=self._write, args=own) for own in enumerate(databases)]

    def _write(self, own: int, database: Database) -> None:
        count = 0
        while not self._over.wait(0.02):
            count += 1
            try:
                database.run(lambda c, name=f"hand {own} {count}": execute(c, WRITE, name))
            except Exception as fault:  # whatever somebody would have seen
                self.refused.append(fault)
            self.confirmed.append(f"hand {own} {count}")

    def __enter__(self) -> "Hands":
        for thread in self._threads:
            thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        for thread in self._threads:
            thread.join()


def _migrations_under_load(three: Cluster, databases: Sequence[Database], folder: Path) -> None:
    """Bring in a new version through two nodes at once while others record: one applies it, nobody is refused."""
    added = [f"ALTER TABLE listening ADD COLUMN IF NOT EXISTS c{k} INT NOT NULL DEFAULT 0;" for k in range(6)]
    added += ["CREATE INDEX IF NOT EXISTS by_seen ON listening (seen_at);"]
    (folder / "9001_more.sql").write_text("\n".join(added) + "\n")
    with Hands(databases) as hands, ThreadPoolExecutor(2) as pool:
        begun = [pool.submit(migrate, three.url(k), folder) for k in (0, 1)]
        applied = [one.result() for one in begun]
    assert sorted(applied) == [[], ["9001_more"]]
    assert not hands.refused
    assert set(hands.confirmed) == set(_names(databases[0])) and len(hands.confirmed) > 4
    databases[0].run(lambda c: execute(c, "DELETE FROM listening"))


def test_what_is_written_at_two_nodes_is_at_the_third_after_one_was_killed(three: Cluster, tmp_path) -> None:
    migrate(three.url())
    first, second = (Database(three.url(k), 2) for k in (0, 1))
    _migrations_under_load(three, (first, second), tmp_path)
    with _behind(three.nodes[1], 0.5):
        first.run(lambda c: execute(c, WRITE, "at node 1"))
        assert _names(second) == ["at node 1"], "what begins sees all that was confirmed anywhere"
    second.run(lambda c: execute(c, WRITE, "at node 2"))
    three.nodes[0].kill()
    _in_time(first, lambda c: execute(c, WRITE, "after node 1"))
    assert first.nodes.in_use == nodes_of(three.url())[1]
    third = Database(three.url(2), 1)
    assert _names(third) == ["after node 1", "at node 1", "at node 2"]
    three.nodes[1].kill()
    with pytest.raises(DatabaseAway):
        third.run(lambda c: execute(c, WRITE, "without a quorum"))
    for database in (first, second, third):
        database.close()
