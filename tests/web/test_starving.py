"""Who asks for more than their part: sixty PDFs by a link, sixty photos of an apprentice. Others are answered meanwhile."""

import asyncio
import io
import re
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress

import httpx
import numpy as np
import pytest
from PIL import Image

from fairsquare.core.errors import Refused
from fairsquare.demo.people import SIGN_INS
from fairsquare.files.photos import photo_to_keep
from fairsquare.workers import Broke, Queue, TooBusy, Workers
from tests.conftest import key, served
from tests.web.test_job import make_safe, new_job

SIXTY = 60


def photo(megapixels: float) -> bytes:
    """A photo that is slow to decode: noise."""
    side = int((megapixels * 1e6) ** 0.5)
    picture = Image.fromarray(np.random.default_rng(1).integers(0, 255, (side, side, 3), dtype=np.uint8))
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=60)
    return out.getvalue()


def ends(*_: object) -> None:
    raise SystemExit(1)


def fills() -> int:
    return len(bytes(64 * 1024**3))


def test_work_is_done_elsewhere_and_its_refusals_come_back() -> None:
    workers = Workers(1)

    async def both() -> None:
        made = await workers.run("ngozi", photo_to_keep, photo(0.2), "a.jpg")
        assert made.width > 400
        with pytest.raises(Refused, match="is no photo that can be read") as refused:
            await workers.run("ngozi", photo_to_keep, b"nothing", "b.jpg")
        assert refused.value.field == "photo"
        with pytest.raises(Broke):
            await workers.run("ngozi", fills)
        assert (await workers.run("ngozi", photo_to_keep, photo(0.1), "c.jpg")).width > 100, "it goes on after that"

    asyncio.run(both())
    workers.close()


def test_the_queue_is_bounded_and_says_how_long_it_is() -> None:
    queue = Queue("made", most=3, most_of_one=2)
    with queue.place("a") as before:
        assert before == 0
        with queue.place("a"):
            with pytest.raises(TooBusy, match="2 things that you asked for"), queue.place("a"):
                pass
            with queue.place("b") as before:
                assert before == 2
                with pytest.raises(TooBusy, match="3 things are being made before this one"), queue.place("c"):
                    pass
    with queue.place("c") as before:
        assert before == 0


class Others:
    """Somebody else, who asks for the health and takes readings meanwhile; the longest that each took, s."""

    def __init__(self, server: str, token: str, job: str) -> None:
        self.longest = {"/healthz": 0.0, f"/api/v1/jobs/{job}": 0.0}
        self.asked, self._server, self._headers = 0, server, {"authorization": f"Bearer {token}"}
        self._over = threading.Event()
        self._thread = threading.Thread(target=self._ask, daemon=True)

    def _ask(self) -> None:
        with httpx.Client(base_url=self._server, timeout=60, headers=self._headers) as http:
            while not self._over.is_set():
                for path in self.longest:
                    began = time.monotonic()
                    assert http.get(path).status_code == 200
                    self.longest[path] = max(self.longest[path], time.monotonic() - began)
                self.asked += 1
                time.sleep(0.02)

    def __enter__(self) -> "Others":
        self._thread.start()
        return self

    def __exit__(self, *_: object) -> None:
        self._over.set()
        self._thread.join()


@pytest.fixture
def job(as_role) -> str:
    number = new_job(as_role("technician"))
    make_safe(as_role("technician"), number)
    return number


def token_of(server: str, role: str) -> str:
    own = next(one for one in SIGN_INS if one.role == role)
    answer = httpx.post(f"{server}/api/v1/session", json={"name": own.name, "password": own.password}, timeout=60)
    return answer.json()["token"]


def at_once(ask) -> list[int]:
    with ThreadPoolExecutor(SIXTY) as asking:
        return list(asking.map(lambda _: ask(), range(SIXTY)))


def test_sixty_pdfs_by_a_link_starve_nobody(server, as_role, job) -> None:
    paper = link_to_paper(as_role("lead"), job)
    limits = httpx.Limits(max_connections=SIXTY)
    with (
        Others(server, token_of(server, "technician"), job) as others,
        httpx.Client(timeout=120, limits=limits) as http,
    ):
        answers = at_once(lambda: http.get(f"{server}{paper}").status_code)
    assert set(answers) == {200}, "all are answered, a few at a time"
    assert others.asked > 3
    assert max(others.longest.values()) < 10, others.longest


def link_to_paper(lead, job: str) -> str:
    lead.post(f"/jobs/{job}/record")
    page = lead.post(f"/jobs/{job}/record/links", record=record_of(lead, job), audience="payer", named="Ines", days="7")
    return re.search(r"/handover/([\w-]{20,})", page).group(0) + "/record.pdf"


def record_of(lead, job: str) -> str:
    return re.search(r"/records/([0-9a-f]{64})", lead.get(f"/jobs/{job}/record")).group(1)


def test_sixty_photos_of_an_apprentice_starve_nobody(server, job) -> None:
    content, token = photo(8), token_of(server, "apprentice")
    limits = httpx.Limits(max_connections=SIXTY)
    with (
        Others(server, token_of(server, "technician"), job) as others,
        httpx.Client(timeout=120, limits=limits) as http,
    ):

        def send() -> int:
            return http.post(
                f"{server}/api/v1/jobs/{job}/photos",
                data={"request_key": key(), "about": "job"},
                files={"photo": ("a.jpg", content, "image/jpeg")},
                headers={"authorization": f"Bearer {token}"},
            ).status_code

        answers = at_once(send)
    assert set(answers) == {201}, "all are taken, a few at a time"
    assert others.asked > 3
    assert max(others.longest.values()) < 10, others.longest


def test_a_server_that_is_stopped_ends_what_it_began(url, as_role, job, tmp_path) -> None:
    """A photo and a PDF are being made when it is told to stop; `served` asks that it ends by itself, its log whole."""
    paper, picture = link_to_paper(as_role("lead"), job), photo(8)
    answers: list[int] = []
    with served(url, tmp_path) as address, ThreadPoolExecutor(2) as asking:
        token = token_of(address, "lead")

        def ask(method: str, path: str, **sent) -> None:
            with suppress(httpx.HTTPError):
                answers.append(httpx.request(method, address + path, timeout=60, **sent).status_code)

        asking.submit(ask, "GET", paper)
        asking.submit(
            ask,
            "POST",
            f"/api/v1/jobs/{job}/photos",
            data={"request_key": key(), "about": "job"},
            files={"photo": ("a.jpg", picture, "image/jpeg")},
            headers={"authorization": f"Bearer {token}"},
        )
        time.sleep(1.5)
        asking.shutdown(wait=False)
    assert set(answers) <= {200, 201}, "what was not cut off was kept"
