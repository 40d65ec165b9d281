"""Several servers over one database, `python -m bench.workers`: how soon one shows what another recorded, what it costs to listen
when nothing happens, and what two processes serve that one does not."""

import itertools
import os
import secrets
import socket
import statistics
import sys
import threading
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from pathlib import Path

import httpx
import numpy as np

from bench import board
from bench.bench import measure
from bench.cores import SHARE, cores_of_their_own
from bench.drills import own
from bench.stage import Stage, stage
from fairsquare.core.sheet.model import Point
from fairsquare.demo.load import load
from fairsquare.demo.people import INSTRUMENT
from fairsquare.stand_ins.client import Line
from fairsquare.stand_ins.vehicles import DUNLIN, instrument_reading
from fairsquare.store import people
from fairsquare.store.jobs import JobDetails
from fairsquare.store.people import Person

READINGS, APART_S = 60, 0.25
MOST_PAGE_S, MOST_BOARD_S, BOARD_RATE = 0.150, 0.120, 5.0
LISTENERS, IDLE_S, MOST_IDLE = 20, 10.0, 0.01
AT_ONCE, SERVED_S, LEAST_MORE = 12, 15.0, 1.8
_TICKS = os.sysconf("SC_CLK_TCK")


def main() -> int:
    """Print what was measured and return how many limits were passed."""
    with stage((1, 1)) as at:
        load(at.desk)
        over = tell_idle(at) + tell_page(at) + tell_board(at)
    with stage((1, 2)) as at:
        load(at.desk)
        over += tell_served(at)
    return int(bool(over))


def browser(address: str, role: str = "technician") -> httpx.Client:
    """Return a browser of a person of that role, signed in at an address."""
    http = httpx.Client(base_url=address, follow_redirects=True, timeout=60)
    http.post("/sign-in", data={"name": own(role).name, "password": own(role).password})
    return http


def job_of(at: Stage) -> str:
    """Return a job of twenty points that is measured."""
    ids = at.desk.database.run(lambda c: {row["name"]: row["id"] for row in people.people(c)})
    sign_in = own("lead")
    person = Person(ids[sign_in.name], sign_in.name, sign_in.full_name, sign_in.role)
    number = at.desk.open_job(person, secrets.token_hex(12), JobDetails(vehicle=DUNLIN.name))
    measure(at, person, number, DUNLIN.sheet)
    return number


def cpu_s(pid: int) -> float:
    """Return the seconds of processor time that a process has taken, its threads included."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / _TICKS


def tell_idle(at: Stage) -> int:
    """Print what a process takes when nobody looks, and when pages and a board listen and nothing is recorded."""
    jobs = [f"SL-000{k}" for k in range(1, 6)]
    shares = {"nobody looks": _share(at.pids[1])}
    for name, board_too in ((f"{LISTENERS} pages listen", False), (f"{LISTENERS} pages and a board listen", True)):
        over, ready = threading.Event(), threading.Semaphore(0)
        addresses = [f"/jobs/{jobs[k % 5]}/live?revision=0" for k in range(LISTENERS)]
        addresses += [f"/jobs/{jobs[2]}/live?revision=0&board=1"] if board_too else []
        http = browser(at.addresses[1])
        for address in addresses:
            threading.Thread(
                target=_listen, args=(http.cookies, at.addresses[1], address, over, ready), daemon=True
            ).start()
        for _ in addresses:
            ready.acquire(timeout=10)
        time.sleep(2.0)
        shares[name] = _share(at.pids[1])
        over.set()
        time.sleep(3.0)
    for name, share in shares.items():
        sys.stdout.write(f"{name}, nothing is recorded: {share:.2%} of a core (limit {MOST_IDLE:.0%})\n")
    return sum(share > MOST_IDLE for share in shares.values())


def _listen(cookies: httpx.Cookies, address: str, path: str, over: threading.Event, ready: threading.Semaphore) -> None:
    with httpx.Client(base_url=address, cookies=cookies, timeout=30) as http, http.stream("GET", path) as live:
        ready.release()
        for _ in live.iter_lines():
            if over.is_set():
                return


def _share(pid: int) -> float:
    before, began = cpu_s(pid), time.monotonic()
    time.sleep(IDLE_S)
    return (cpu_s(pid) - before) / (time.monotonic() - began)


def tell_page(at: Stage) -> int:
    """Print how long a reading that is posted to one server takes to be drawn on a page of the same, and of another."""
    number, over = job_of(at), 0
    for name, address in (("the same", at.addresses[0]), ("another", at.addresses[1])):
        median, late = _until_drawn(at, number, address)
        sys.stdout.write(f"a reading until a page of {name} server draws it: median {median * 1000:.0f} ms, ")
        sys.stdout.write(f"95th percentile {late * 1000:.0f} ms (limit {MOST_PAGE_S * 1000:.0f})\n")
        over += late > MOST_PAGE_S
    return over


def _until_drawn(at: Stage, number: str, address: str) -> tuple[float, float]:
    drawn: dict[int, float] = {}
    ready, over = threading.Event(), threading.Event()

    def look() -> None:
        page = f"/jobs/{number}/measure?seen=sides&point="
        http = browser(address)
        with http.stream("GET", f"/jobs/{number}/live?revision=0") as live:
            for line in live.iter_lines():
                if over.is_set():
                    return
                if line.startswith("data:"):
                    answer = http.get(page, headers={"HX-Request": "true"})
                    if 'class="structure"' not in answer.text:
                        raise RuntimeError(answer.text[:300])
                    drawn[int(line[5:])] = time.perf_counter()
                    ready.set()

    threading.Thread(target=look, daemon=True).start()
    ready.wait(20)
    spent = []
    with httpx.Client(base_url=at.address, timeout=30) as client:
        line = Line(client, INSTRUMENT.name, INSTRUMENT.password)
        codes = [point for point in DUNLIN.sheet.points if not point.reference]
        for k in range(READINGS):
            began = time.perf_counter()
            _sent_s(line, number, codes[k % len(codes)])
            time.sleep(APART_S)
            later = [moment for moment in drawn.values() if moment > began]
            spent.append(min(later) - began if later else 9.0)
    over.set()
    return statistics.median(spent), float(np.quantile(spent, 0.95))


def tell_board(at: Stage) -> int:
    """Print how long a reading under load that is posted to one server takes to stand on a board of the same, and of another."""
    board.begin(at)
    over = 0
    for name, address in (("the same", at.addresses[0]), ("another", at.addresses[1])):
        median, late = board.until_on_board(at, address, BOARD_RATE)
        sys.stdout.write(
            f"a reading under load until a board of {name} server shows it: median {median * 1000:.0f} ms, "
        )
        sys.stdout.write(f"95th percentile {late * 1000:.0f} ms (limit {MOST_BOARD_S * 1000:.0f})\n")
        over += late > MOST_BOARD_S
    return over


def tell_served(at: Stage) -> int:
    """Print what one process and two serve: on the cores that there are, then each process on a core of its own."""
    number, measured = job_of(at), job_of(at)
    over = _tell_more(at, number, measured, shared=True)
    with cores_of_their_own([process for pid in at.pids for process in _family(pid)]) as can:
        if not can:
            sys.stdout.write("each on a core of its own: not measured, this machine makes no control groups for it\n")
            return over
        sys.stdout.write(f"each process on a core of its own, of {SHARE:.0%} of the speed of these:\n")
        return over + _tell_more(at, number, measured, shared=False)


def _tell_more(at: Stage, number: str, measured: str, *, shared: bool) -> int:
    """Print what one process and two serve, turn by turn, and how long pages, and readings of another job, take meanwhile.

    `shared`: the database and whoever asks are on the same cores.
    """
    served: dict[int, list[float]] = {1: [], 2: []}
    took: dict[int, list[float]] = {1: [], 2: []}
    read: dict[int, list[float]] = {1: [], 2: []}
    spent: dict[int, list[float]] = {1: [], 2: []}
    beside: list[float] = []
    for _ in range(3):
        for workers, address, pid in zip((1, 2), at.addresses, at.pids, strict=True):
            before, others = sum(map(cpu_s, _family(pid))), cpu_s(at.mariadb.pid) + time.process_time()
            with _measuring(address, measured) as readings:
                many, times = _load(address, number)
            read[workers] += readings
            beside.append((cpu_s(at.mariadb.pid) + time.process_time() - others) / many * 1000)
            spent[workers].append((sum(map(cpu_s, _family(pid))) - before) / many * 1000)
            served[workers].append(many / SERVED_S)
            took[workers] += times
    for workers in (1, 2):
        sys.stdout.write(
            f"{workers} process{'' if workers == 1 else 'es'}, {AT_ONCE} at once: "
            f"{statistics.median(served[workers]):.0f} pages a second, "
            f"{statistics.median(spent[workers]):.1f} ms of processor each, "
            f"95th percentile {np.quantile(took[workers], 0.95) * 1000:.0f} ms, of readings meanwhile "
            f"{np.quantile(read[workers], 0.95) * 1000:.0f} ms\n"
        )
    ratio = statistics.median(served[2]) / statistics.median(served[1])
    if not shared:
        slower = np.quantile(read[2], 0.95) > np.quantile(read[1], 0.95)
        sys.stdout.write(f"two over one: {ratio:.2f} (limit {LEAST_MORE:g})\n")
        return int(ratio < LEAST_MORE or slower)
    cores, other, page = len(os.sched_getaffinity(0)), statistics.median(beside), statistics.median(spent[1])
    most = min(2.0, cores / (page + other) * page)
    sys.stdout.write(
        f"two over one: {ratio:.2f} (limit {LEAST_MORE:g}). The database and whoever asks take {other:.1f} ms a page of the same "
        f"{cores} cores: there are {most:.2f} to be had\n"
    )
    return int(ratio < min(LEAST_MORE, 0.9 * most))


@contextmanager
def _measuring(address: str, number: str) -> Iterator[list[float]]:
    """Have an instrument send a reading of a job twice a second; yield the seconds that each took, a list that grows."""
    spent: list[float] = []
    over = threading.Event()

    def measure_on() -> None:
        points = itertools.cycle(point for point in DUNLIN.sheet.points if not point.reference)
        with httpx.Client(base_url=address, timeout=60) as client:
            line = Line(client, INSTRUMENT.name, INSTRUMENT.password)
            while not over.wait(0.5):
                spent.append(_sent_s(line, number, next(points)))

    with ThreadPoolExecutor(1) as hand:
        measuring = hand.submit(measure_on)
        try:
            yield spent
        finally:
            over.set()
        measuring.result()


def _sent_s(line: Line, number: str, point: Point) -> float:
    """Send a reading of a point; return the seconds until it is answered."""
    xyz = instrument_reading(np.array(point.xyz), 3, np.zeros(3))
    line.put_aside(number, 1, [{"code": point.code, "xyz": xyz, "purpose": "point"}], "bench", secrets.token_hex(12))
    began = time.perf_counter()
    line.send()
    return time.perf_counter() - began


def _family(pid: int) -> list[int]:
    """Return a process and those that it started, which answer requests with it."""
    children = Path(f"/proc/{pid}/task/{pid}/children").read_text().split()
    return [pid, *(int(child) for child in children)]


def _load(address: str, number: str) -> tuple[int, list[float]]:
    """Ask for a page by several at once, each over a line of its own; return how many came, and how long each took.

    Bare sockets: whoever asks is on the same processors, and a client that does more would take them from the servers.
    """
    cookies = "; ".join(f"{name}={value}" for name, value in browser(address).cookies.items())
    host = address.removeprefix("http://")
    asked = (
        f"GET /jobs/{number}/measure HTTP/1.1\r\nHost: {host}\r\nCookie: {cookies}\r\nHX-Request: true\r\n\r\n".encode()
    )
    times: list[float] = []
    over = time.monotonic() + SERVED_S

    def ask(_: int) -> None:
        with socket.create_connection((host.split(":")[0], int(host.split(":")[1])), 60) as line:
            while time.monotonic() < over:
                began = time.perf_counter()
                line.sendall(asked)
                _whole_answer(line)
                times.append(time.perf_counter() - began)

    with ThreadPoolExecutor(AT_ONCE) as pool:
        list(pool.map(ask, range(AT_ONCE)))
    return len(times), times


def _whole_answer(line: socket.socket) -> None:
    """Read one answer to its end. Raises `RuntimeError` for one that is not 200."""
    answer = line.recv(262144)
    head, _, body = answer.partition(b"\r\n\r\n")
    if not head.startswith(b"HTTP/1.1 200"):
        raise RuntimeError(head.decode())
    length = int(head.lower().split(b"content-length:")[1].split(b"\r\n")[0])
    left = length - len(body)
    while left > 0:
        left -= len(line.recv(262144))


if __name__ == "__main__":
    raise SystemExit(main())
