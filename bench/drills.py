"""Drills, `python -m bench.drills`: a long job against a short one, who is answered beside slow work, an outage of the database."""

import io
import multiprocessing
import os
import re
import secrets
import statistics
import sys
import threading
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor, ThreadPoolExecutor
from functools import partial

import httpx
import numpy as np
from PIL import Image

from bench.bench import measure, sheet_of
from bench.stage import Stage, stage
from fairsquare.demo.load import load
from fairsquare.demo.people import SIGN_INS, SignIn
from fairsquare.stand_ins.vehicles import DUNLIN
from fairsquare.store import people
from fairsquare.store.database import execute, select_one
from fairsquare.store.jobs import JobDetails
from fairsquare.store.people import Person

SHORT, LONG, ROUNDS, MOST_LONGER = 100, 5_000, 25, 1.5
SIXTY, MOST_MS = 60, 100.0
PERSON_S, INSTRUMENT_S, WATCH_S = 0.5, 0.2, 0.1
"""Between two readings that a person calls, two of an instrument, and two questions after the health: each quicker than it is.
Whoever asks more often takes the processors from the readings that are measured."""
AWAY_S, MOST_AWAY_S, MOST_BACK_S = 6.0, 0.2, 0.3


def main() -> int:
    """Run the drills and print what they show; return 1 where a limit was passed."""
    with stage() as at:
        load(at.desk)
        over = tell_length(at) + tell_starved(at)
        over += tell_outage(at)
    return int(bool(over))


def own(role: str) -> SignIn:
    """Return the sign-in of a role."""
    return next(one for one in SIGN_INS if one.role == role)


def signed_in(at: Stage, role: str) -> tuple[httpx.Client, str]:
    """Return a browser of a person of that role, and the token of its forms."""
    http = httpx.Client(base_url=at.address, follow_redirects=True, timeout=120)
    http.post("/sign-in", data={"name": own(role).name, "password": own(role).password})
    return http, http.get("/help").text.split('"X-CSRF-Token": "')[1].split('"')[0]


def tell_length(at: Stage) -> int:
    """Print how much longer a reading and its page take in a long job than in a short one; return how many are too long."""
    found = at.desk.database.run(lambda c: {one["name"]: one["id"] for one in people.people(c)})
    ngozi = Person(found["ngozi"], "ngozi", own("technician").full_name, "technician")
    http, csrf = signed_in(at, "technician")
    jobs = {many: grown(at, ngozi, many) for many in (SHORT, LONG)}
    times: dict[str, dict[int, list[float]]] = {"a reading": {SHORT: [], LONG: []}, "its page": {SHORT: [], LONG: []}}
    for turn in range(ROUNDS + 3):
        for many, (number, call) in jobs.items():
            form = {"csrf": csrf, "request_key": secrets.token_hex(12), "setup": "1", "call": call}
            read = timed(partial(http.post, f"/jobs/{number}/readings", data=form, headers={"HX-Request": "true"}))
            shown = timed(partial(http.get, f"/jobs/{number}/measure"))
            if turn >= 3:
                times["a reading"][many].append(read)
                times["its page"][many].append(shown)
    over = 0
    for name, each in times.items():
        short, long = (statistics.median(each[many]) for many in (SHORT, LONG))
        over += long / short > MOST_LONGER
        sys.stdout.write(
            f"{name}: {long * 1000:.0f} ms in a job of {LONG} readings, {short * 1000:.0f} in one of {SHORT}: "
            f"{long / short:.2f} times   (limit {MOST_LONGER:g})\n"
        )
    return over


def grown(at: Stage, person: Person, many: int) -> tuple[str, str]:
    """Return a job with that many readings, nearly all of them under load, and a call of one more."""
    number = at.desk.open_job(person, secrets.token_hex(12), JobDetails(vehicle=f"Dunlin, {many} readings"))
    measure(at, person, number, DUNLIN.sheet)
    view = at.desk.view(number)
    last = view.facts.readings[-1]
    at.desk.database.run(
        lambda c: execute(
            c,
            f"""INSERT INTO reading (job_id, setup_id, purpose, kind, code, x, y, z, said, loaded, instrument, person_id, at)
                SELECT job_id, setup_id, purpose, kind, code, x, y, z, said, TRUE, instrument, person_id, at
                FROM reading JOIN seq_1_to_{int(many - len(view.facts.readings))} s WHERE id = %s""",
            last.id,
        )
    )
    at.desk.database.run(lambda c: execute(c, "UPDATE job SET revision = revision + 1 WHERE number = %s", number))
    assert last.xyz is not None
    return number, f"{last.code} {' '.join(f'{value:.2f}' for value in last.xyz)}"


def timed(work: Callable[[], httpx.Response]) -> float:
    """Return the seconds of one answer, which has to be one."""
    began = time.perf_counter()
    answer = work()
    if not answer.is_success:
        raise RuntimeError(f"{answer.status_code}: {answer.text[:300]}")
    return time.perf_counter() - began


class Others:
    """Somebody else, who asks for the health and takes readings meanwhile: by the API as an instrument does, or where it `draws` on
    the page, each answered with its figures. How long each answer took, s."""

    def __init__(self, at: Stage, number: str, call: str, *, draws: bool) -> None:
        self.health: list[float] = []
        self.readings: list[float] = []
        self.drawn: list[float] = []
        self._at, self._number, self._call = at, number, call
        self._over = threading.Event()
        also = (self._read,) if draws else (self._send,)
        self._threads = [threading.Thread(target=work, daemon=True) for work in (self._look, *also)]

    def _look(self) -> None:
        with httpx.Client(base_url=self._at.address, timeout=60) as http:
            while not self._over.is_set():
                self.health.append(timed(lambda: http.get("/healthz")))
                time.sleep(WATCH_S)

    def _read(self) -> None:
        http, csrf = signed_in(self._at, "technician")
        timed(partial(http.get, f"/jobs/{self._number}/measure"))
        while not self._over.is_set():
            form = {"csrf": csrf, "request_key": secrets.token_hex(12), "setup": "1", "call": self._call}
            send = partial(http.post, f"/jobs/{self._number}/readings", data=form, headers={"HX-Request": "true"})
            self.drawn.append(timed(send))
            time.sleep(PERSON_S)
        http.close()

    def _send(self) -> None:
        code, *xyz = self._call.split()
        with httpx.Client(base_url=self._at.address, timeout=60) as http:
            said = {"name": own("technician").name, "password": own("technician").password}
            http.headers["authorization"] = f"Bearer {http.post('/api/v1/session', json=said).json()['token']}"
            path = f"/api/v1/jobs/{self._number}/readings"
            while not self._over.is_set():
                one = {"purpose": "point", "code": code, "xyz": [float(value) for value in xyz]}
                sent = {"request_key": secrets.token_hex(12), "setup": 1, "readings": [one]}
                self.readings.append(timed(partial(http.post, path, json=sent)))
                time.sleep(INSTRUMENT_S)

    def __enter__(self) -> "Others":
        for one in self._threads:
            one.start()
        time.sleep(3)
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        for one in self._threads:
            one.join()


def tell_starved(at: Stage) -> int:
    """Print how long others wait while sixty PDFs are asked for by a link, and an apprentice sends sixty photos."""
    found = at.desk.database.run(lambda c: {one["name"]: one["id"] for one in people.people(c)})
    ngozi = Person(found["ngozi"], "ngozi", own("technician").full_name, "technician")
    over = 0
    floods = (("nobody else", nothing), ("sixty PDFs", pdfs), ("sixty photos of 20 megapixels", photos))
    for words, work in floods:
        flood = work(at, ngozi)
        with Others(at, *grown(at, ngozi, SHORT), draws=False) as others:
            flood()
        with Others(at, *grown(at, ngozi, SHORT), draws=True) as drawing:
            flood()
        health, readings, drawn = (_told(each) for each in (others.health, others.readings, drawing.drawn))
        sys.stdout.write(f"beside {words}: health {health}; a reading {readings}; on its page {drawn}\n")
        answered = (others.health, others.readings, drawing.drawn)
        over += sum(1000 * float(np.quantile(each, 0.95)) > MOST_MS for each in answered)
    return over


def _told(spent: list[float]) -> str:
    late, longest = 1000 * float(np.quantile(spent, 0.95)), 1000 * max(spent)
    return f"{1000 * statistics.median(spent):.0f} ms, 95 % {late:.0f}, longest {longest:.0f}"


def nothing(at: Stage, person: Person) -> Callable[[], None]:
    """Return what asks for nothing for a while."""
    del at, person
    return partial(time.sleep, 15)


def pdfs(at: Stage, person: Person) -> Callable[[], None]:
    """Make a record and a link to it; return what asks for its PDF sixty times at once by the link."""
    number = at.desk.open_job(person, secrets.token_hex(12), JobDetails(vehicle="two hundred points"))
    measure(at, person, number, sheet_of(200))
    sha256 = at.desk.make_record(person, secrets.token_hex(12), number)
    http, csrf = signed_in(at, "technician")
    said = {"record": sha256, "audience": "payer", "named": "Ines", "days": "7"}
    form = {"csrf": csrf, "request_key": secrets.token_hex(12), **said}
    link = re.search(r"/handover/[\w-]{20,}", http.post(f"/jobs/{number}/record/links", data=form).text)
    assert link is not None
    return partial(_apart, _ask_for_pdfs, f"{at.address}{link.group(0)}/record.pdf")


def _ask_for_pdfs(address: str) -> list[int]:
    os.nice(19)
    return _at_once(lambda http: http.get(f"{address}?n={secrets.token_hex(3)}").status_code)


def photos(at: Stage, person: Person) -> Callable[[], None]:
    """Open a job; return what sends sixty photos to it at once as an apprentice."""
    number = at.desk.open_job(person, secrets.token_hex(12), JobDetails(vehicle="sixty photos"))
    said = {"name": own("apprentice").name, "password": own("apprentice").password}
    token = httpx.post(f"{at.address}/api/v1/session", json=said).json()["token"]
    return partial(_apart, _send_photos, f"{at.address}/api/v1/jobs/{number}/photos", token)


def _send_photos(address: str, token: str) -> list[int]:
    os.nice(19)
    random = np.random.default_rng(1).integers(0, 255, (40, 60, 3), dtype=np.uint8)
    out = io.BytesIO()
    Image.fromarray(random).resize((5400, 3700)).save(out, "JPEG", quality=60)

    def send(http: httpx.Client) -> int:
        return http.post(
            address,
            data={"request_key": secrets.token_hex(12), "about": "job"},
            files={"photo": ("a.jpg", out.getvalue(), "image/jpeg")},
            headers={"authorization": f"Bearer {token}"},
        ).status_code

    return _at_once(send)


def _at_once(ask: Callable[[httpx.Client], int]) -> list[int]:
    limits = httpx.Limits(max_connections=SIXTY)
    with httpx.Client(timeout=180, limits=limits) as http, ThreadPoolExecutor(SIXTY) as asking:
        return list(asking.map(lambda _: ask(http), range(SIXTY)))


def _apart(flood: Callable[..., list[int]], *arguments: str) -> None:
    """Have a process of its own send a flood, so that its threads do not hold up whoever measures; print what it was answered.

    It stands back for the server (`os.nice`): what comes from other machines takes no processor of this one.
    """
    with ProcessPoolExecutor(1, mp_context=multiprocessing.get_context("spawn")) as apart:
        answers = apart.submit(flood, *arguments).result()
    told = {status: answers.count(status) for status in sorted(set(answers))}
    sys.stdout.write(f"  answers: {told}\n")


def tell_outage(at: Stage) -> int:
    """Print how quickly an outage of the database is told, and how soon pages are there again."""
    http, _ = signed_in(at, "technician")
    at.mariadb.stop()
    told, until = [], time.monotonic() + AWAY_S
    while time.monotonic() < until:
        began = time.perf_counter()
        answer = http.get("/")
        told.append(time.perf_counter() - began)
        if answer.status_code != 503:
            raise RuntimeError(f"{answer.status_code} without a database")
        time.sleep(0.05)
    at.mariadb.start()
    began = time.perf_counter()
    while http.get("/").status_code != 200:
        time.sleep(0.01)
    back = time.perf_counter() - began
    late = float(np.quantile(told, 0.95))
    sys.stdout.write(
        f"without a database for {AWAY_S:g} s: 503 after {1000 * statistics.median(told):.0f} ms, 95 % {1000 * late:.0f} "
        f"(limit {1000 * MOST_AWAY_S:g}); served again {1000 * back:.0f} ms after it was back (limit {1000 * MOST_BACK_S:g})\n"
    )
    found = at.desk.database.run(lambda c: select_one(c, "SELECT COUNT(*) AS many FROM job"))
    return (late > MOST_AWAY_S) + (back > MOST_BACK_S) + (found is None)


if __name__ == "__main__":
    sys.exit(main())
