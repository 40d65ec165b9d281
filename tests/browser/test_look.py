"""The look of every page, measured in the browser: three widths, both lights, all demo vehicles. There is no list of exceptions."""

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page

from fairsquare.actions import Desk, pulling
from fairsquare.core.pull.job import CAUTIONS, AfterPull, BoardState, PointCycle
from fairsquare.job.pull.board import board_of
from fairsquare.store.people import Person
from tests.browser.conftest import sign_in
from tests.conftest import key
from tests.pulling import begin_pull

LOOK = (Path(__file__).parent / "look.js").read_text(encoding="utf-8")
WIDTHS = {"desk": (1280, 800), "tablet": (800, 1280), "telephone": (390, 844)}
LIGHTS = {"light": "light", "shop": "dark"}
ROOMS = (
    "/",
    "/day",
    "/jobs/new",
    "/clocks",
    "/tools",
    "/rig",
    "/practice",
    "/past",
    "/people",
    "/own",
    "/keys",
    "/shop",
    "/help",
    "/calculations",
)
NOT_PAGES = re.compile(
    r"\.(pdf|csv|json|zip|svg|dxf|jpg|ics|xlsx|tsv|txt)\b|/static/|/api/|/sign-|/photos/|/records/|/file$"
)
MOST_PAGES = 160
TEAL_JOB = "SL-0003"
STEPS: tuple[tuple[BoardState, BoardState], ...] = (("cautions", "test"), ("test", "look"), ("look", "pulling"))
TICKED = (*(name for name, _ in CAUTIONS), "clamps")
WHOLE, DRAWN = ("SL-0003", "SL-0006"), ("SL-0001", "SL-0002", "SL-0004", "SL-0005")
"""Jobs of which every page is looked at, a cut and a seam among them; and those of which what is drawn is."""
DRAWINGS = (
    *("walk-round", "sheet", "set-up", "measure", "measure?seen=ends", "measure?seen=gauges", "measure?seen=readings"),
    *("damage", "decide", "pulls", "cuts/1", "went", "hours/list"),
)


pytestmark = pytest.mark.usefixtures("demo")


@pytest.fixture(params=WIDTHS)
def sized(request: pytest.FixtureRequest, browser: Browser, server: str) -> Iterator[Page]:
    """A page of each width; the two narrow ones are touched, not pointed at."""
    wide, high = WIDTHS[request.param]
    touch = request.param != "desk"
    context = browser.new_context(
        viewport={"width": wide, "height": high}, base_url=server, has_touch=touch, is_mobile=touch
    )
    yield context.new_page()
    context.close()


@pytest.fixture
def pulled(desk: Desk, persons: dict[str, Person]) -> str:
    """The Teal, decided, with a pull of two chains that was begun."""
    begin_pull(desk, persons, TEAL_JOB)
    return TEAL_JOB


def close(desk: Desk, person: Person, job: str) -> None:
    """End the pull that was let go: nobody read what it did."""
    board = board_of(desk.view(job).facts)
    assert board is not None
    cycles = tuple(
        PointCycle(code=one.watched.code, before_mm=one.stands_mm, after_mm=one.stands_mm) for one in board.points
    )
    pulling.close_cycle(desk, person, key(), job, cycles, again=False, after=AfterPull())


def shape(path: str) -> str:
    """Return what pages of one kind have in common: numbers and what is asked for are left out, names of fields kept."""
    way, _, asked = path.partition("?")
    names = "&".join(sorted({field.partition("=")[0] for field in asked.split("&") if field}))
    return f"{re.sub(r'/[0-9]+|/why/.*', '/*', way)}?{names}"


def pages_of(page: Page, starts: list[str], within: str) -> Iterator[str]:
    """Go to every page that is linked from the starts, `within` a path, one of each shape, and yield where it is."""
    waiting, seen = list(starts), {shape(path) for path in starts}
    for _ in range(MOST_PAGES):
        if not waiting:
            return
        path = waiting.pop(0)
        answer = page.goto(path)
        if answer is None or answer.status != 200:
            continue
        yield path
        for link in page.eval_on_selector_all("a[href]", "all => all.map(one => one.getAttribute('href'))"):
            link = link.partition("#")[0]
            if link.startswith("?"):
                link = path.partition("?")[0] + link
            if link.startswith(within) and not NOT_PAGES.search(link) and shape(link) not in seen:
                seen.add(shape(link))
                waiting.append(link)


def faults(page: Page, path: str) -> list[str]:
    """Return what is wrong with the page that is open, in either light."""
    found = []
    for light, theme in LIGHTS.items():
        page.evaluate("theme => { document.documentElement.dataset.bsTheme = theme; }", theme)
        found += [f"{path} ({light}): {words}" for words in page.evaluate(LOOK)]
    return found


def test_the_rooms_can_be_read_and_touched(sized: Page) -> None:
    sign_in(sized, "solveig", "north-light-12")
    found = [fault for path in pages_of(sized, list(ROOMS), "/no-further") for fault in faults(sized, path)]
    assert not found, "\n".join(found)


@pytest.mark.parametrize("job", WHOLE)
def test_every_page_of_a_job_can_be_read_and_touched(sized: Page, job: str) -> None:
    sign_in(sized, "solveig", "north-light-12")
    found, pages = [], 0
    for path in pages_of(sized, [f"/jobs/{job}/take-in", f"/jobs/{job}/pulls"], f"/jobs/{job}/"):
        pages += 1
        found += faults(sized, path)
    assert not found, "\n".join(found)
    assert pages >= 40, "it has gone round"


@pytest.mark.parametrize("job", DRAWN)
def test_what_is_drawn_of_a_vehicle_can_be_read(sized: Page, job: str) -> None:
    sign_in(sized, "solveig", "north-light-12")
    found = []
    for page in DRAWINGS:
        path = f"/jobs/{job}/{page}"
        sized.goto(path)
        found += faults(sized, path)
    assert not found, "\n".join(found)


def test_the_board_of_a_pull_under_way_can_be_read_and_touched(sized: Page, desk: Desk, persons, pulled: str) -> None:
    sign_in(sized, "solveig", "north-light-12")
    path = f"/jobs/{pulled}/board"
    sized.goto(path)
    found = faults(sized, path)
    for seen, at in STEPS:
        pulling.go_on(desk, persons["lead"], key(), pulled, seen, at, TICKED)
        sized.reload()
        found += faults(sized, f"{path}, {at}")
    pulling.go_on(desk, persons["lead"], key(), pulled, "pulling", "let_go")
    sized.reload()
    found += faults(sized, f"{path}, let go")
    close(desk, persons["lead"], pulled)
    assert not found, "\n".join(found)
