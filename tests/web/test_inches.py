"""Who reads inches: no page of the demo's jobs tells them a figure in mm. Fields say in what is typed, and take any unit."""

import html
import re
from html.parser import HTMLParser

import pytest

from fairsquare.demo.load import load
from fairsquare.demo.rig import RIG
from tests.conftest import key

ROOMS = (
    *("/", "/day", "/jobs/new", "/clocks", "/tools", "/rig", "/practice", "/past", "/people", "/own", "/keys", "/shop"),
    "/help",
)
NOT_PAGES = re.compile(
    r"\.(pdf|csv|json|zip|svg|dxf|jpg|ics|xlsx|tsv|txt)\b|/static/|/api|/sign-|/photos/|/file$|/calc"
)
IN_MM = re.compile(r"\d[\d.,]*\s*mm(?!\w)")
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
def given(desk, persons) -> set[str]:
    """What people called things themselves, with sizes in the names, or wrote down."""
    numbers = load(desk)
    desk.make_record(persons["lead"], key(), numbers[2])
    desk.make_record(persons["lead"], key(), numbers[-1])
    names = {tool.name for tool in desk.tools()} | {gear[0] for gear in RIG}
    for number in numbers:
        facts = desk.view(number).facts
        names |= {done.what.settings for done in facts.done if hasattr(done.what, "settings")}
        names |= {reading.said for reading in facts.readings}
    return {name for name in names if name}


def test_no_page_tells_a_figure_in_mm(as_role, given) -> None:
    pages = as_role("lead")
    pages.http.cookies.set("units", "in")
    todo, seen, many, found = list(ROOMS), set(), {}, {}
    while todo:
        path = todo.pop(0)
        kind = kind_of(path)
        if path in seen or many.get(kind, 0) >= EACH:
            continue
        seen.add(path)
        many[kind] = many.get(kind, 0) + 1
        answer = pages.http.get(path)
        assert answer.status_code == 200, (path, answer.status_code)
        if "html" not in answer.headers["content-type"]:
            continue
        for line in lines_of(answer.text):
            told = line
            for name in given:
                told = told.replace(name, "")
            if IN_MM.search(told):
                found.setdefault(told[:160], path)
        links = re.findall(r'href="(/[^"]*)"', answer.text)
        todo += [one for link in links if not NOT_PAGES.search(one := html.unescape(link).split("#")[0])]
    assert len(many) > 60, "every kind of page was reached"
    assert not found, "\n".join(f"{path}: {line}" for line, path in found.items())
