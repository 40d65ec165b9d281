"""Several nodes of a database: where one is gone, hangs or may not be written to another is asked; the first is gone back to.

The nodes here are ways to one MariaDB that can be cut and blocked, so that what is written at one is at the other.
"""

import threading
import time
from collections.abc import Iterator

import pymysql
import pytest
from starlette.testclient import TestClient

from fairsquare.settings import Settings
from fairsquare.store import nodes
from fairsquare.store.database import Connection, Database, DatabaseAway, execute, insert, select_one
from fairsquare.store.nodes import Node, Nodes, arguments_of_serving, connect_arguments, nodes_of
from fairsquare.web.app import create_app
from tests.store.ways import url_of


@pytest.fixture
def both(url: str, ways, monkeypatch) -> Iterator[Database]:
    """A database over two ways, looked after five times a second."""
    monkeypatch.setattr(nodes, "CONNECT_S", 1)
    database = Database(url_of(url, ways), 4)
    database.nodes._look_every_s = 0.2
    yield database
    database.close()


def ask(connection: Connection) -> int:
    row = select_one(connection, "SELECT CONNECTION_ID() AS id")
    assert row is not None
    return int(row["id"])


def until(true, seconds: float = 5.0) -> bool:
    end = time.monotonic() + seconds
    while not true() and time.monotonic() < end:
        time.sleep(0.02)
    return bool(true())


@pytest.mark.parametrize(
    ("hosts", "expected"),
    [
        ("db", (Node("db", 3306),)),
        ("10.0.0.1:3307,10.0.0.2", (Node("10.0.0.1", 3307), Node("10.0.0.2", 3306))),
        ("[::1]:3307,db.shop.example", (Node("::1", 3307), Node("db.shop.example", 3306))),
        ("a,a,b", (Node("a", 3306), Node("b", 3306))),
        ("", (Node("127.0.0.1", 3306),)),
    ],
)
def test_a_url_names_its_nodes_in_order(hosts, expected) -> None:
    assert nodes_of(f"mysql://fair%40square:p%2Cw@{hosts}/shop") == expected
    arguments = connect_arguments(f"mysql://fair%40square:p%2Cw@{hosts}/shop", expected[-1])
    assert (arguments["user"], arguments["password"], arguments["database"]) == ("fair@square", "p,w", "shop")
    assert (arguments["host"], arguments["port"]) == expected[-1]


@pytest.mark.parametrize("url", ["", "postgres://a/b", "mysql://a,b", "mysql://a:x,b:y/shop", "mysql://a:99999/shop"])
def test_what_is_no_url_is_said_with_how_it_should_look(url) -> None:
    with pytest.raises(ValueError, match="FAIRSQUARE_DATABASE_URL should look like mysql://"):
        nodes_of(url)


def test_the_first_is_asked_and_the_next_as_soon_as_it_is_gone_and_it_is_gone_back_to(both, ways) -> None:
    both.run(ask)
    assert both.nodes.in_use == ways[0].node
    ways[0].cut()
    began = time.monotonic()
    both.run(ask)
    assert time.monotonic() - began < nodes.READ_S / 3, "no answer is waited for"
    assert both.nodes.in_use == ways[1].node and list(both.nodes.away) == [ways[0].node]
    ways[0].open()
    assert until(lambda: both.nodes.in_use == ways[0].node)
    both.run(ask)
    ways[1].cut()
    both.run(ask)
    assert both.nodes.in_use == ways[0].node


def test_what_is_written_while_a_node_goes_is_written_once_and_none_of_it_is_lost(both, ways, persons) -> None:
    """As a deed does it: a key that is there already is not written again."""
    both.run(lambda c: execute(c, "CREATE TABLE IF NOT EXISTS journal (name VARCHAR(20) PRIMARY KEY, at DATETIME(6))"))
    kept: list[str] = []

    def write(k: int) -> None:
        name = f"row {k}"
        both.run(lambda c: execute(c, "INSERT IGNORE INTO journal VALUES (%s, UTC_TIMESTAMP(6))", name))
        kept.append(name)

    def writer(first: int) -> None:
        for k in range(first, first + 40):
            write(k)
            time.sleep(0.01)

    threads = [threading.Thread(target=writer, args=(100 * n,)) for n in range(4)]
    for thread in threads:
        thread.start()
    time.sleep(0.15)
    ways[0].cut()
    for thread in threads:
        thread.join(30)
    rows = both.run(lambda c: select_one(c, "SELECT COUNT(*) AS many, GROUP_CONCAT(name) AS names FROM journal"))
    assert len(kept) == 160 and rows["many"] == 160
    both.run(lambda c: execute(c, "DROP TABLE journal"))


def test_a_node_that_hangs_is_left_with_what_waits_for_it(both, ways) -> None:
    both.run(ask)
    ways[0].blocked = True
    began = time.monotonic()
    both.run(ask)
    assert time.monotonic() - began < nodes.READ_S - 2, "before the answer is given up"
    assert both.nodes.in_use == ways[1].node
    assert "timed out" in both.nodes.away[ways[0].node]


def test_where_none_is_there_it_is_said_soon_and_it_goes_on_by_itself(both, ways) -> None:
    both.run(ask)
    for way in ways:
        way.cut()
    began = time.monotonic()
    with pytest.raises(DatabaseAway):
        both.run(ask)
    assert 3.0 < time.monotonic() - began < 20.0, "a cluster may have to agree first"
    ways[1].open()
    assert both.run(ask)
    assert until(lambda: both.nodes.in_use == ways[1].node)


class NotServing:
    """Has one node say what a node without a quorum, or one that may not be written to, says."""

    def __init__(self, monkeypatch, node: Node) -> None:
        self.node: Node | None = node
        own = Nodes._connected

        def connected(self_, node, more):
            if node == self.node:
                raise pymysql.OperationalError(1047, "WSREP has not yet prepared node for application use")
            return own(self_, node, more)

        monkeypatch.setattr(Nodes, "_connected", connected)


class Giving:
    """Has one node say of itself that it gives another all it has."""

    def __init__(self, monkeypatch, node: Node) -> None:
        self.node: Node | None = node
        own = Nodes._connected
        monkeypatch.setattr(
            Nodes, "_connected", lambda self_, node, more: (own(self_, node, more)[0], node == self.node)
        )


def test_a_node_that_gives_another_all_it_has_is_left_where_a_third_serves_and_gone_back_to(
    both, ways, monkeypatch
) -> None:
    both.run(ask)
    giving = Giving(monkeypatch, ways[0].node)
    assert until(lambda: both.nodes.in_use == ways[1].node), "seen by who looks after them"
    assert both.nodes.away == {ways[0].node: "it gives another node all it has"}
    both.run(ask)
    giving.node = None
    assert until(lambda: both.nodes.in_use == ways[0].node)


def test_a_node_that_gives_another_all_it_has_is_asked_where_no_other_serves(both, ways, monkeypatch) -> None:
    Giving(monkeypatch, ways[0].node)
    assert both.run(ask) and both.nodes.in_use == ways[1].node
    ways[1].cut()
    assert both.run(ask), "at once, and not after the other was asked first"
    assert both.nodes.in_use == ways[0].node
    ways[1].open()
    assert until(lambda: both.nodes.in_use == ways[1].node)


@pytest.mark.parametrize("code", [1047, 1180, 1290, 1792])
def test_a_node_that_says_that_it_does_not_serve_is_left(both, ways, monkeypatch, code) -> None:
    both.run(ask)
    refused = [True]

    def work(connection: Connection) -> int:
        if refused:
            refused.clear()
            NotServing(monkeypatch, ways[0].node)
            raise pymysql.OperationalError(code, "not here")
        return ask(connection)

    assert both.run(work)
    assert both.nodes.in_use == ways[1].node


def test_a_node_that_is_read_only_is_not_asked(both, ways, mariadb, monkeypatch) -> None:
    seen: list[Node] = []
    own = nodes._check_serves

    def check(connection) -> None:
        seen.append(Node("127.0.0.1", connection.port))
        if connection.port == ways[0].node.port:
            raise pymysql.OperationalError(1290, "it is read only")
        own(connection)

    monkeypatch.setattr(nodes, "_check_serves", check)
    both.run(ask)
    assert both.nodes.in_use == ways[1].node and both.nodes.away == {ways[0].node: "it is read only"}
    assert ways[0].node in seen


def test_read_only_and_no_quorum_are_read_from_the_server_itself() -> None:
    class Cursor:
        def __init__(self, status, own) -> None:
            self.rows, self.own = [{"Variable_name": name, "Value": value} for name, value in status.items()], own

        def __enter__(self):
            return self

        def __exit__(self, *_):
            return None

        def execute(self, _):
            return 0

        def fetchall(self):
            return self.rows

        def fetchone(self):
            return self.own

    class Server:
        def __init__(self, read_only, of_a_cluster, **status) -> None:
            self.status, self.own = status, {"read_only": read_only, "of_a_cluster": of_a_cluster}

        def cursor(self):
            return Cursor(self.status, self.own)

        def rollback(self):
            return None

    nodes._check_serves(Server(0, 0, wsrep_ready="OFF", wsrep_cluster_status="Disconnected"))
    nodes._check_serves(Server(0, 1, wsrep_ready="ON", wsrep_cluster_status="Primary"))
    for server, words in (
        (Server(1, 0), "read only"),
        (Server(0, 1, wsrep_ready="ON", wsrep_cluster_status="non-Primary"), "non-Primary, not primary"),
        (Server(0, 1, wsrep_ready="OFF", wsrep_cluster_status="Primary"), "not primary"),
    ):
        with pytest.raises(pymysql.OperationalError, match=words):
            nodes._check_serves(server)


def test_a_deadlock_that_does_not_end_is_said_in_words(both) -> None:
    tried = []

    def work(_: Connection) -> None:
        tried.append(1)
        raise pymysql.OperationalError(1213, "Deadlock found when trying to get lock")

    with pytest.raises(DatabaseAway):
        both.run(work)
    assert len(tried) == 8 and not both.nodes.away, "the node is not to blame"


def test_a_certification_that_fails_at_the_commit_is_tried_again(both, monkeypatch) -> None:
    both.run(lambda c: execute(c, "CREATE TABLE IF NOT EXISTS commits (id INT AUTO_INCREMENT PRIMARY KEY)"))
    fails = [1213, 1213]
    own = pymysql.connections.Connection.commit

    def commit(self):
        if fails:
            self.rollback()
            raise pymysql.OperationalError(fails.pop(), "Deadlock found when trying to get lock")
        own(self)

    monkeypatch.setattr(pymysql.connections.Connection, "commit", commit)
    both.run(lambda c: insert(c, "INSERT INTO commits () VALUES ()"))
    row = both.run(lambda c: select_one(c, "SELECT COUNT(*) AS many FROM commits"))
    assert row["many"] == 1 and not fails
    both.run(lambda c: execute(c, "DROP TABLE commits"))


def test_tools_are_pointed_at_a_node_that_serves(url, ways) -> None:
    ways[0].cut()
    assert arguments_of_serving(url_of(url, ways))["port"] == ways[1].node.port
    assert arguments_of_serving(url) == connect_arguments(url)


def test_one_node_alone_is_not_looked_after(url) -> None:
    database = Database(url, 1)
    assert database.run(ask)
    database.nodes.leave(database.nodes.in_use, "whatever")
    assert not database.nodes.away and database.nodes._thread is None
    database.close()


def test_readiness_names_the_node_or_says_what_is_wrong_with_each(url, ways, both) -> None:
    app = create_app(Settings(database_url=url_of(url, ways), address="http://testserver"), both)
    http = TestClient(app)
    assert http.get("/readyz").text == f"ready, at {ways[0].node}\n"
    ways[0].cut()
    assert http.get("/readyz").text == f"ready, at {ways[1].node}\n"
    ways[1].cut()
    answer = http.get("/readyz")
    assert answer.status_code == 503 and answer.text.startswith("the database does not serve\n")
    assert all(f"{way.node}: " in answer.text for way in ways)
    assert http.get("/healthz").status_code == 200
