"""What a server counts for Prometheus: only for who has the key, every figure as its parser reads it, nothing that names a person.

Outside of this project: the text is read by the parser of Prometheus' own client library.
"""

from collections.abc import Iterable

import pymysql
import pytest
from prometheus_client.parser import text_string_to_metric_families
from starlette.testclient import TestClient

from fairsquare import metrics
from fairsquare.settings import Settings
from fairsquare.store.database import Database, DatabaseAway, execute, select_one
from fairsquare.store.put_back import ClockWatch
from fairsquare.web.app import create_app
from fairsquare.workers import Queue

KEY = "tern-and-lantern"


class Watcher:
    """Whoever reads the counts, as Prometheus does."""

    def __init__(self, http: TestClient) -> None:
        self.http = http

    def read(self) -> dict[tuple[str, ...], float]:
        """Return every sample by its name and the values of its labels."""
        answer = self.http.get("/metrics", headers={"authorization": f"Bearer {KEY}"})
        assert answer.status_code == 200 and answer.headers["content-type"].startswith("text/plain; version=")
        families = text_string_to_metric_families(answer.text)
        return {(one.name, *one.labels.values()): one.value for family in families for one in family.samples}

    def more(self, before: dict[tuple[str, ...], float], *names: str) -> float:
        return self.read().get(names, 0.0) - before.get(names, 0.0)


@pytest.fixture(scope="module")
def watcher(url, database, persons) -> Watcher:
    settings = Settings(database_url=url, address="http://testserver", metrics_key=KEY)
    return Watcher(TestClient(create_app(settings, database)))


def test_without_a_key_in_the_settings_there_is_nothing(app) -> None:
    assert TestClient(app, base_url="http://127.0.0.1").get("/metrics").status_code == 404


@pytest.mark.parametrize("sent", [None, "", "Bearer ", "Bearer tern", KEY, f"Basic {KEY}"])
def test_without_the_key_in_the_request_nothing_is_told(watcher, sent) -> None:
    answer = watcher.http.get("/metrics", headers={} if sent is None else {"authorization": sent})
    assert answer.status_code == 401 and "FAIRSQUARE_METRICS_KEY" in answer.text


def test_requests_are_counted_by_route_and_never_by_what_somebody_made_up(watcher) -> None:
    before = watcher.read()
    for path in ("/jobs/SL-9001/measure", "/jobs/SL-9002/measure", "/nothing/of/the/kind", "/static/none.css"):
        watcher.http.get(path)
    watcher.http.request("JUMP", "/people")
    route = "/jobs/{number}/measure"
    assert watcher.more(before, "fairsquare_requests_total", "GET", route, "303") == 2, "led to the sign-in"
    assert watcher.more(before, "fairsquare_request_seconds_count", "GET", route) == 2
    assert watcher.more(before, "fairsquare_requests_total", "GET", "/static", "404") == 1
    counted = {name for name in watcher.read() if name[0] == "fairsquare_requests_total"}
    assert not any("9001" in part or "nothing/of" in part or "JUMP" in part for name in counted for part in name)


def test_a_transaction_that_is_done_again_or_given_up_is_counted(watcher, url) -> None:
    own, before, faults = Database(url, 1), watcher.read(), [pymysql.err.OperationalError(1213, "deadlock")]

    def work(connection) -> object:
        if faults:
            raise faults.pop()
        return select_one(connection, "SELECT 1 AS yes")

    assert own.run(work) == {"yes": 1}
    faults[:] = [pymysql.err.OperationalError(2013, "lost")]
    assert own.run(work) == {"yes": 1}
    faults[:] = [pymysql.err.OperationalError(2013, "lost")] * 9
    with pytest.raises(DatabaseAway):
        own.run(work)
    assert watcher.more(before, "fairsquare_database_retries_total", "conflict") == 1
    assert watcher.more(before, "fairsquare_database_retries_total", "lost") == 2
    assert watcher.more(before, "fairsquare_database_away_total") == 1
    own.close()


def test_connections_in_use_are_seen_while_they_are_used(watcher, database) -> None:
    before, seen = watcher.read(), []

    def work(connection) -> None:
        execute(connection, "DO 0")
        seen.append(watcher.more(before, "fairsquare_pool_in_use"))

    database.run(work)
    assert seen == [1] and watcher.more(before, "fairsquare_pool_in_use") == 0
    assert watcher.more(before, "fairsquare_pool_wait_seconds_count") == 1


def test_a_pool_that_is_closed_counts_no_longer(watcher, url) -> None:
    before = watcher.read()
    own = Database(url, 3)
    assert watcher.more(before, "fairsquare_pool_size") == 3
    own.close()
    own.close()
    assert watcher.more(before, "fairsquare_pool_size") == 0


def test_what_waits_is_seen_while_it_waits(watcher) -> None:
    before = watcher.read()
    with Queue("papers").place("a person"):
        assert watcher.more(before, "fairsquare_slow_work_waiting", "papers") == 1
    assert watcher.more(before, "fairsquare_slow_work_waiting", "papers") == 0


def test_a_clock_that_is_ahead_or_was_put_back_is_seen(watcher, database) -> None:
    watch, before = ClockWatch(database), watcher.read()
    watch.look(100.0)
    assert abs(watcher.read()[("fairsquare_database_clock_ahead_seconds",)]) < 5
    watch.look(400.0)
    assert watcher.more(before, "fairsquare_database_clock_put_back_total") == 1


def test_the_node_in_use_is_told(watcher, database) -> None:
    assert watcher.read()[("fairsquare_node_in_use", str(database.nodes.in_use))] == 1


def test_what_processes_count_together_goes_with_them_and_the_dead_count_no_longer(tmp_path, monkeypatch) -> None:
    with metrics.kept_together(wanted=True):
        folder = metrics.os.environ[metrics.KEPT_IN]
        gone = metrics.Path(folder) / "gauge_livesum_999999999.db"
        gone.write_bytes(b"\0" * 64)
        assert metrics.text().decode() == "" and not gone.exists()
    assert not metrics.Path(folder).exists() and metrics.KEPT_IN not in metrics.os.environ
    with metrics.kept_together(wanted=False):
        assert metrics.KEPT_IN not in metrics.os.environ


def test_every_count_stands_in_the_help_of_who_watches() -> None:
    words = (metrics.Path(__file__).parents[2] / "docs" / "running.md").read_text()
    missing: Iterable[str] = [
        one.name for one in metrics.REGISTRY.collect() if one.name.startswith("fairsquare") and one.name not in words
    ]
    assert not list(missing)
