"""Several server processes at one address: all equal, started anew when they die, replaced in turn, none left behind."""

import os
import signal
import socket
import sys
import time
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress

import httpx
import pytest
from prometheus_client.parser import text_string_to_metric_families

from fairsquare.demo.people import SIGN_INS
from fairsquare.processes import free_port, start, stop
from fairsquare.service.server import listen_on
from tests.conftest import key
from tests.store.test_service import alive, children_of, until

WORKERS = 2
METRICS_KEY = "tern-and-lantern"


class Several:
    """A real server of two processes over the module's database."""

    def __init__(self, url: str, log) -> None:
        port = free_port()
        self.address = f"http://127.0.0.1:{port}"
        self.process = start(
            [sys.executable, "-m", "fairsquare", "start", "--port", str(port), "--workers", str(WORKERS)],
            log=log,
            environment={"FAIRSQUARE_DATABASE_URL": url, "FAIRSQUARE_DEMO": "1", "FAIRSQUARE_METRICS_KEY": METRICS_KEY},
        )
        until(lambda: self.ready() and len(self.listening()) == WORKERS, "both answer")

    def ready(self) -> bool:
        with suppress(httpx.HTTPError):
            return httpx.get(f"{self.address}/readyz", timeout=5).status_code == 200
        return False

    def workers(self) -> set[int]:
        return {pid for pid, command in children_of(self.process.pid).items() if "spawn_main" in command}

    def listening(self) -> set[int]:
        """The workers that have begun: the slow work of each has a process of its own by then."""
        return {pid for pid in self.workers() if any("spawn_main" in made for made in children_of(pid).values())}

    def session(self) -> httpx.Client:
        http = httpx.Client(base_url=self.address, timeout=20)
        sent = {"name": SIGN_INS[2].name, "password": SIGN_INS[2].password}
        http.headers["Authorization"] = f"Bearer {http.post('/api/v1/session', json=sent).json()['token']}"
        return http


@pytest.fixture(scope="module")
def several(url: str, persons, tmp_path_factory) -> Iterator[Several]:
    folder = tmp_path_factory.mktemp("several")
    with (folder / "log").open("wb") as log:
        running = Several(url, log)
        yield running
        stop(running.process)


def opened(http: httpx.Client, vehicle: str, request_key: str) -> str:
    answer = http.post("/api/v1/jobs", json={"request_key": request_key, "details": {"vehicle": vehicle}})
    assert answer.status_code < 300, answer.text
    return answer.json()["number"]


def test_every_process_knows_what_any_of_them_recorded(several: Several) -> None:
    http = several.session()
    number = opened(http, "Sanderling tug", key())
    for _ in range(8):
        with httpx.Client(base_url=several.address, headers=http.headers, timeout=20) as other:
            assert other.get(f"/api/v1/jobs/{number}").json()["details"]["vehicle"] == "Sanderling tug"


def counted(several: Several, name: str, *labels: str) -> float:
    """Return a sum over all processes, as whichever answers tells it."""
    answer = httpx.get(f"{several.address}/metrics", headers={"Authorization": f"Bearer {METRICS_KEY}"}, timeout=20)
    samples = (one for family in text_string_to_metric_families(answer.text) for one in family.samples)
    return sum(one.value for one in samples if one.name == name and set(labels) <= set(one.labels.values()))


def test_whichever_is_asked_tells_what_all_of_them_counted(several: Several) -> None:
    asked = "fairsquare_requests_total", "/api/v1/compute"
    before = counted(several, *asked)
    for _ in range(12):
        assert httpx.get(f"{several.address}/api/v1/compute", timeout=20).status_code == 200
    assert [counted(several, *asked) - before for _ in range(4)] == [12] * 4
    assert counted(several, "fairsquare_node_in_use") == WORKERS


def test_a_process_that_is_killed_is_started_anew_and_nothing_that_was_confirmed_is_lost(several: Several) -> None:
    before = several.listening()
    keys = [key() for _ in range(30)]
    headers = several.session().headers

    def record(k: int) -> str:
        """Open a job, and send it again with the same key for as long as no answer comes."""
        end = time.monotonic() + 60
        while time.monotonic() < end:
            with suppress(httpx.HTTPError), httpx.Client(base_url=several.address, headers=headers) as http:
                return opened(http, f"Tug {k}", keys[k])
            time.sleep(0.05)
        raise AssertionError("no answer for a minute")

    with ThreadPoolExecutor(4) as pool:
        asked = [pool.submit(record, k) for k in range(30)]
        time.sleep(0.2)
        os.kill(min(before), signal.SIGKILL)
        numbers = [one.result() for one in asked]
    assert len(set(numbers)) == 30
    http = several.session()
    seen = [http.get(f"/api/v1/jobs/{number}").json()["details"]["vehicle"] for number in numbers]
    assert Counter(seen) == Counter(f"Tug {k}" for k in range(30))
    until(lambda: len(several.listening()) == WORKERS and min(before) not in several.listening(), "it stands again")
    assert counted(several, "fairsquare_node_in_use") == WORKERS, "the one that is gone counts no longer"


def test_on_hup_each_is_replaced_in_turn_and_no_request_is_refused(several: Several) -> None:
    before = several.listening()
    several.process.send_signal(signal.SIGHUP)
    asked = 0
    end = time.monotonic() + 120
    while several.workers() & before and time.monotonic() < end:
        assert httpx.get(f"{several.address}/healthz", timeout=20).status_code == 200
        asked += 1
        time.sleep(0.02)
    assert asked > 3 and len(several.workers()) == WORKERS


def test_they_end_with_their_supervisor_however_that_ends(several: Several) -> None:
    workers = several.workers()
    below = {pid for worker in workers for pid in children_of(worker)}
    several.process.kill()
    several.process.wait()
    until(lambda: not any(alive(pid) for pid in workers | below), "all have ended")


def test_what_a_shared_socket_accepts_answers_at_once() -> None:
    """A socket as uvicorn makes it for several processes: without the name of its protocol, by which asyncio would know it."""
    with socket.socket(socket.AF_INET) as listening:
        assert listening.proto == 0
        listening.bind(("127.0.0.1", 0))
        listen_on(listening)
        with socket.create_connection(listening.getsockname()), listening.accept()[0] as accepted:
            assert accepted.getsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY)
