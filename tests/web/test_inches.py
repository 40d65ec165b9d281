"""Who reads inches: no page of the demo's jobs tells them a figure in mm. Fields say in what is typed, and take any unit."""

import html
import io
import re
from html.parser import HTMLParser

import pytest
from pypdf import PdfReader

from fairsquare.actions import measuring, pulling
from fairsquare.core.pull.job import CAUTIONS
from fairsquare.demo.rig import RIG
from fairsquare.job.cut.job import section_states
from fairsquare.job.facts.measure import NewReading
from fairsquare.job.pull.board import board_of
from tests.conftest import Pages, key
from tests.pulling import begin_pull

ROOMS = (
    *("/", "/day", "/jobs/new", "/clocks", "/tools", "/rig", "/practice", "/past", "/people", "/own", "/keys", "/shop"),
    "/help",
)
NOT_PAGES = re.compile(
    r"\.(pdf|csv|json|zip|svg|dxf|jpg|ics|xlsx|tsv|txt)\b|/static/|/api|/sign-|/photos/|/file$|/calc"
)
IN_MM = re.compile(r"\d[\d.,]*\s*mm(?!\w)")
TEAL_JOB, CUT_JOB = "SL-0003", "SL-0005"
STEPS = (("cautions", "test"), ("test", "look"), ("look", "pulling"))
TICKED = (*(name for name, _ in CAUTIONS), "clamps")
EACH = 2
"""So many pages of a kind are looked at."""


class Told(HTMLParser):
    """The lines of text of a page, without what is typed into."""

    def __init__(self) -> None:
        super().__init__()
        self.lines: list[str] = [""]
        self._inside: list[str] = []

    def handle_starttag(self, tag, attrs) -> None:
        self._inside.append(tag)
        if tag in ("input", "br", "img", "meta", "link", "hr", "path", "rect", "use", "line", "circle", "polyline"):
            self._inside.pop()
        self.lines += [value for name, value in attrs if name in ("title", "aria-label", "alt") and value]
        self.lines.append("")

    def handle_endtag(self, tag) -> None:
        while self._inside and self._inside.pop() != tag:
            pass
        if tag not in ("b", "span", "small", "em", "strong", "i", "tspan", "sub", "sup"):
            self.lines.append("")

    def handle_data(self, data) -> None:
        if not {"script", "style", "label", "select", "textarea"} & set(self._inside):
            self.lines[-1] += data


def lines_of(page: str) -> list[str]:
    told = Told()
    told.feed(page)
    return [" ".join(line.split()) for line in told.lines]


def kind_of(path: str) -> str:
    """Return what kind of page it is: its address without numbers, checksums and what is asked of it."""
    return re.sub(r"=[^&]*", "=", re.sub(r"[0-9a-f]{32,}|\d+", "N", re.sub(r"/[A-Z]\w+L|/[A-Z]\w+R", "/CODE", path)))


@pytest.fixture(scope="module")
def given(demo, desk, persons) -> set[str]:
    """What people called things themselves, with sizes in the names, or wrote down."""
    desk.make_record(persons["lead"], key(), demo[2])
    desk.make_record(persons["lead"], key(), demo[-1])
    names = {tool.name for tool in desk.tools()} | {gear[0] for gear in RIG}
    for number in demo:
        facts = desk.view(number).facts
        names |= {done.what.settings for done in facts.done if hasattr(done.what, "settings")}
        names |= {reading.said for reading in facts.readings} | {state.lines.tool for state in section_states(facts)}
    return {name for name in names if name}


def in_mm(text: str, given: set[str]) -> str:
    """Return what of a line is a figure in mm, beside what people wrote themselves; empty where nothing is."""
    for name in given:
        text = text.replace(name, "")
    return text[:160] if IN_MM.search(text) else ""


@pytest.fixture(scope="module")
def lead(demo, as_role) -> Pages:
    pages = as_role("lead")
    pages.http.cookies.set("units", "in")
    return pages


def test_no_page_tells_a_figure_in_mm(lead, given) -> None:
    todo, seen, many, found = list(ROOMS), set(), {}, {}
    while todo:
        path = todo.pop(0)
        kind = kind_of(path)
        if path in seen or many.get(kind, 0) >= EACH:
            continue
        seen.add(path)
        many[kind] = many.get(kind, 0) + 1
        answer = lead.http.get(path)
        assert answer.status_code == 200, (path, answer.status_code)
        if "html" not in answer.headers["content-type"]:
            continue
        for line in lines_of(answer.text):
            assert "kind='" not in line, "a code is told, never shown"
            if told := in_mm(line, given):
                found.setdefault(told, path)
        links = re.findall(r'href="(/[^"]*)"', answer.text)
        todo += [one for link in links if not NOT_PAGES.search(one := html.unescape(link).split("#")[0])]
    assert len(many) > 60, "every kind of page was reached"
    assert not found, "\n".join(f"{path}: {line}" for line, path in found.items())


def test_no_board_tells_a_figure_in_mm(lead, desk, persons, given) -> None:
    begin_pull(desk, persons, TEAL_JOB)
    for before, after in STEPS:
        pulling.go_on(desk, persons["lead"], key(), TEAL_JOB, before, after, TICKED)
        shown = lead.get(f"/jobs/{TEAL_JOB}/board")
        assert [one for one in (in_mm(line, given) for line in lines_of(shown)) if one] == [], after
    view = desk.view(TEAL_JOB)
    board = board_of(view.facts)
    assert board is not None
    code = board.points[0].watched.code
    last = next(one for one in reversed(view.facts.readings) if one.code == code and one.xyz is not None)
    measuring.take_readings(
        desk,
        persons["lead"],
        key(),
        TEAL_JOB,
        view.setup.number,
        [NewReading(purpose="point", code=code, xyz=last.xyz, said=code, loaded=True)],
    )
    shown = lead.get(f"/jobs/{TEAL_JOB}/board")
    assert re.search(r" in to go at ", shown)
    assert [one for one in (in_mm(line, given) for line in lines_of(shown)) if one] == []


def test_no_paper_tells_a_figure_in_mm(lead, desk, persons, given) -> None:
    digest = desk.make_record(persons["lead"], key(), CUT_JOB)
    for path in (f"/records/{digest}.pdf", f"/jobs/{CUT_JOB}/cuts/1/sheet.pdf"):
        answer = lead.http.get(path)
        assert answer.content[:5] == b"%PDF-"
        text = "\n".join(page.extract_text() for page in PdfReader(io.BytesIO(answer.content)).pages)
        assert len(text) > 2000
        assert [one for one in (in_mm(line, given) for line in text.splitlines()) if one] == [], path
