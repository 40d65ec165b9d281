"""Pages on paper: HTML to PDF by WeasyPrint, in a process of its own, so that nobody else waits while one is made.

Run as a module it reads HTML from standard input and writes the PDF to standard output.
"""

import asyncio
import hashlib
import os
import subprocess
import sys
from collections.abc import Callable
from concurrent.futures import Future
from pathlib import Path
from threading import Lock
from weakref import WeakKeyDictionary

from fastapi import Request, Response
from fastapi.responses import HTMLResponse, RedirectResponse
from markupsafe import Markup
from starlette.concurrency import run_in_threadpool

from fairsquare import __version__
from fairsquare.actions.made_once import MadeOnce, not_to_be_cancelled
from fairsquare.core.errors import FairSquareError
from fairsquare.processes import die_with_parent
from fairsquare.store.database import Database
from fairsquare.store.kept import Kept
from fairsquare.workers import NICER, Queue, waited_for

STATIC = Path(__file__).parent / "static"
_LONGEST_S, AT_A_TIME = 180, 2
QUICK_S = 4.0
"""How long a PDF is waited for before a page says that it is being made."""


class PaperFault(FairSquareError):
    """The PDF could not be made."""

    status = 500
    kind = "paper"


class Papers:
    """PDFs that are being made or were made lately, by their names, once for all servers; few are made at a time in each."""

    def __init__(self, database: Database, at_a_time: int = AT_A_TIME) -> None:
        self._once = MadeOnce(database, "paper", at_a_time)
        self._kept: Kept[Future[bytes]] = Kept(most=30)
        self._names: WeakKeyDictionary[Future[bytes], str] = WeakKeyDictionary()
        self._lock = Lock()
        self._running: set[subprocess.Popen[bytes]] = set()
        self.queue = Queue("papers")

    def order(self, name: str, by: str, page: Callable[[], str]) -> Future[bytes]:
        """Return the PDF of that name, begun for whoever asks when it is not there; one that failed is begun anew.

        A name says all that the PDF is made from. Raises `TooBusy`, `DatabaseAway`.
        """
        whole = f"{name} {__version__}"
        with self._lock:
            kept = self._kept.look(name)
            if kept is not None:
                if kept.done() and kept.exception() is not None:
                    self._kept.forget(name)
                return kept
            paper = not_to_be_cancelled()
            self._kept.put(name, paper)
            self._names[paper] = whole
        try:
            self._once.order(whole, by, lambda: pdf_of(page(), self._running), paper)
        except BaseException as fault:
            self._kept.forget(name)
            paper.set_exception(fault)
            raise
        return paper

    def before(self, paper: Future[bytes]) -> int:
        """Return how many have to be made before it is begun."""
        name = self._names.get(paper)
        return 0 if paper.done() or name is None else self._once.before(name)

    async def made(self, by: str, order: Callable[[], Future[bytes]]) -> bytes:
        """Return a PDF once it is made: the order is placed by a thread, and none waits for it. Raises `TooBusy`, `PaperFault`."""
        return await waited_for(self.queue, by, await run_in_threadpool(order))

    def close(self) -> None:
        """Make no more, nor what is being made: the server stops."""
        self._once.close()
        for process in tuple(self._running):
            process.kill()


async def when_made(
    request: Request, paper: Future[bytes], address: str, page: Callable[[BaseException | None], Response]
) -> Response:
    """Go to a PDF once it is made; one that takes long is waited for on a `page` that asks again, and that can be left.

    Where it could not be made, the page says why, and has it made again.
    """
    polled = bool(request.headers.get("hx-request"))
    if not paper.done() and not polled:
        await asyncio.wait([asyncio.wrap_future(paper)], timeout=QUICK_S)
    made = paper.done()
    papers: Papers = request.app.state.papers
    request.state.before = 0 if made else await run_in_threadpool(papers.before, paper)
    fault = paper.exception() if made else None
    if fault is not None:
        told = await run_in_threadpool(page, fault)
        if polled:
            told.headers.update({"HX-Retarget": "#making", "HX-Reselect": "#making", "HX-Reswap": "outerHTML"})
        return told
    if polled and made:
        return Response(status_code=204, headers={"HX-Redirect": address})
    if polled:
        place = f'<p id="paper-place" role="status" hx-swap-oob="true">{place_words(request.state.before)}</p>'
        return HTMLResponse(place)
    return RedirectResponse(address, status_code=303) if made else await run_in_threadpool(page, None)


def place_words(before: int) -> str:
    """Return where in the queue something is, in words."""
    return f"{before} other{'' if before == 1 else 's'} before this one." if before else ""


def by_link(request: Request, code: str) -> str:
    """Return who asks by a link: the link and the address, so that neither has more made than its part."""
    return f"{hashlib.sha256(code.encode()).hexdigest()[:16]} {request.client.host if request.client else ''}"


def drawn_on_paper(drawing: Markup) -> Markup:
    """Return a drawing that carries its own style: on paper the page's style sheet does not reach into it."""
    style = Markup((STATIC / "print-drawing.css").read_text(encoding="utf-8"))  # noqa: S704 - a file of ours
    head, bracket, rest = drawing.partition(">")
    return head + bracket + Markup("<style>{}</style>").format(style) + rest


def pdf_of(page: str, running: set[subprocess.Popen[bytes]]) -> bytes:
    """Return a page of HTML as PDF; the process that makes it stands in `running` meanwhile. Raises `PaperFault`."""
    process = subprocess.Popen(
        [sys.executable, "-m", "fairsquare.web.paper"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        preexec_fn=die_with_parent(),  # noqa: PLW1509 - one prctl call, no locks
    )
    running.add(process)
    try:
        made, told = process.communicate(page.encode(), timeout=_LONGEST_S)
    except subprocess.TimeoutExpired as fault:
        raise PaperFault("The PDF could not be made: it took too long.") from fault
    finally:
        process.kill()
        process.wait()
        running.discard(process)
    if process.returncode:
        words = told.decode(errors="replace").strip().splitlines()
        raise PaperFault(f"The PDF could not be made: {words[-1] if words else 'its process was ended'}.")
    return made


def _make() -> None:
    """Make one PDF, leaving the processors to whoever answers requests. Only files of our static folder are fetched."""
    os.nice(NICER)
    from weasyprint import HTML
    from weasyprint.urls import URLFetcher, URLFetcherResponse

    class OnlyOurs(URLFetcher):  # type: ignore[misc]  # the library has no types
        def fetch(self, url: str, headers: dict[str, str] | None = None) -> URLFetcherResponse:
            if not url.startswith(STATIC.as_uri() + "/") or ".." in url:
                raise ValueError(f"{url} is not ours: nothing is fetched from elsewhere")
            return super().fetch(url, headers)

    fetcher = OnlyOurs(allowed_protocols={"file"}, fail_on_errors=True)
    page = sys.stdin.buffer.read().decode()
    sys.stdout.buffer.write(HTML(string=page, base_url=STATIC.as_uri() + "/", url_fetcher=fetcher).write_pdf())


if __name__ == "__main__":
    _make()
