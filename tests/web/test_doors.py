"""Every route × every role × page and API: who is let in, before a byte of what they send is read; and what practice has."""

import asyncio
import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from fastapi.routing import APIRoute
from starlette.types import ASGIApp

from fairsquare.actions import practice
from fairsquare.demo.people import SIGN_INS
from fairsquare.job.deeds import RIGHTS, ROLES_IN_ORDER
from fairsquare.stand_ins.to_practise import vehicle_to_practise
from fairsquare.web.at_the_door import cookie_name
from fairsquare.web.doors import Door, door_of, doors
from tests.conftest import key
from tests.web.test_job import new_job

COOKIE = cookie_name(https=False)
DOCS = Path(__file__).parents[2] / "docs" / "roles.md"
WRITES = tuple(
    one for one in doors() if one.method != "GET" and one.way not in ("open", "link") and one.path != "/sign-out"
)
PAGES_OF_LINKS = tuple(one for one in doors() if one.way in ("open", "link"))


def routes_of(routes) -> Iterator[APIRoute]:
    """Yield every route of an application, those of its routers too."""
    for route in routes:
        if isinstance(route, APIRoute):
            yield route
        elif hasattr(route, "original_router"):
            yield from routes_of(route.original_router.routes)


def filled(path: str, number: str = "SL-0001") -> str:
    """A path with something in each of its places."""
    return re.sub(
        r"\{[^}]*\}",
        "1",
        path.replace("{number}", number)
        .replace("{person_id}", "99")
        .replace("{sign_in}", "999999")
        .replace("{name}", "check-sheet"),
    )


class Answer:
    """What the application answers to a request whose body is never sent: how often it asked for a piece of it."""

    def __init__(self, app: ASGIApp, method: str, path: str, headers: dict[str, str], *, endless: bool = True) -> None:
        self.asked, self.status, self.body = 0, 0, b""
        self.endless = endless
        scope = {
            "type": "http",
            "asgi": {"version": "3.0"},
            "http_version": "1.1",
            "method": method,
            "path": path,
            "raw_path": path.encode(),
            "root_path": "",
            "scheme": "http",
            "query_string": b"",
            "headers": [(name.encode(), value.encode()) for name, value in {"host": "testserver", **headers}.items()],
            "client": ("127.0.0.1", 1),
            "server": ("testserver", 80),
        }
        asyncio.run(app(scope, self.receive, self.send))

    async def receive(self) -> dict:
        self.asked += 1
        if not self.endless:
            return {"type": "http.request", "body": b"", "more_body": False}
        assert self.asked < 200, "it reads on and on"
        return {"type": "http.request", "body": b"x" * 65536, "more_body": True}

    async def send(self, message) -> None:
        if message["type"] == "http.response.start":
            self.status = message["status"]
        self.body += message.get("body", b"")


@pytest.fixture(scope="module")
def known(app, as_role) -> dict[str, dict[str, str]]:
    """The headers with which each role is known, to pages and to the API."""
    found = {}
    for role in ROLES_IN_ORDER:
        pages, own = as_role(role), next(one for one in SIGN_INS if one.role == role)
        token = pages.http.post("/api/v1/session", json={"name": own.name, "password": own.password}).json()["token"]
        cookie = {"cookie": f"{COOKIE}={pages.http.cookies[COOKIE]}", "x-csrf-token": pages.csrf()}
        found[role] = {"page": cookie, "api": {"authorization": f"Bearer {token}"}}
    return found


def sent_by(known, role: str, door: Door) -> dict[str, str]:
    return known[role]["api" if door.path.startswith("/api/") else "page"]


def test_every_route_has_its_row_and_every_row_its_route(app) -> None:
    served = sorted(f"{method} {route.path}" for route in routes_of(app.routes) for method in route.methods)
    listed = sorted(f"{door.method} {door.path}" for door in doors())
    assert served == listed
    for door in doors():
        entered = door_of(door.method, filled(door.path))
        assert entered is not None and entered.door.way == door.way, door


def test_a_stranger_is_sent_away_and_nothing_is_read(app) -> None:
    large = {"content-type": "application/json", "content-length": "268435456"}
    for door in (one for one in doors() if one.way not in ("open", "link")):
        answer = Answer(app, door.method, filled(door.path), large)
        assert answer.status == (401 if door.path.startswith("/api/") else 303), door
        assert answer.asked <= 17, "a megabyte, so that a browser sees the answer, and no more"


@pytest.mark.parametrize("role", ROLES_IN_ORDER)
def test_who_may_is_let_in_and_nobody_else(app, known, role) -> None:
    for door in WRITES:
        headers = {"content-type": "application/json"} | sent_by(known, role, door)
        answer = Answer(app, door.method, filled(door.path), headers, endless=False)
        may = door.way not in RIGHTS or role in RIGHTS[door.way].roles
        assert (answer.status == 403) == (not may), (door, answer.status, answer.body[:300])
        assert answer.status < 500, (door, answer.body)
        assert may or f"you are signed in as {role}".encode() in answer.body, door


def test_whoever_may_not_sends_nothing_that_is_read(app, known) -> None:
    for door in WRITES:
        if door.way in RIGHTS and "apprentice" not in RIGHTS[door.way].roles:
            answer = Answer(app, door.method, filled(door.path), sent_by(known, "apprentice", door))
            assert (answer.status, answer.asked <= 17) == (403, True), door


def test_practice_has_what_the_table_says_by_its_exact_number_only(app, known, desk, persons) -> None:
    sheet, setting = vehicle_to_practise("Dunlin post van")
    number = practice.begin(desk, persons["apprentice"], key(), sheet, setting, "Dunlin post van", 65395)
    for door in (one for one in doors() if "{number}" in one.path and one.way not in ("open", "link")):
        headers = {"content-type": "application/json"} | sent_by(known, "apprentice", door)
        if door.path.endswith("/live"):
            continue
        has = door.way == "see" or (door.way in RIGHTS and RIGHTS[door.way].practised)
        answer = Answer(app, door.method, filled(door.path, number), headers, endless=False)
        refused = answer.status == 409 and "nothing of this in it" in answer.body.decode()
        assert refused != has, (door, answer.status)
        for spelt in (number.lower(), number.replace("A", "Á")):
            answer = Answer(app, door.method, filled(door.path, spelt), headers, endless=False)
            assert 400 <= answer.status < 500, (door, spelt, answer.status, answer.body[:300])


def test_an_apprentice_takes_back_only_what_is_his_own(as_role, desk) -> None:
    ngozi, keahi = as_role("technician"), as_role("apprentice")
    number = new_job(ngozi)
    ngozi.post(f"/jobs/{number}/walk-round", call="crack right front rail at F4R")
    keahi.post(f"/jobs/{number}/walk-round", call="rust left front rail at F4L")
    first, second = desk.view(number).facts.walk
    page = keahi.post(
        f"/jobs/{number}/walk-round/{first.id}/take-back", 403, back_reason="it is old, and was there before"
    )
    assert "taken back by a technician or a lead" in page
    keahi.post(f"/jobs/{number}/walk-round/{second.id}/take-back", back_reason="it is old, and was there before")
    assert [bool(one.taken_back) for one in desk.view(number).facts.walk] == [False, True]


def table_in_words() -> str:
    """The table of deeds as docs/roles.md shows it."""
    lines = ["| deed | " + " | ".join(ROLES_IN_ORDER) + " | practice |", "|---|" + "---|" * (len(ROLES_IN_ORDER) + 1)]
    for deed, right in RIGHTS.items():
        may = " | ".join("yes" if role in right.roles else "" for role in ROLES_IN_ORDER)
        lines.append(
            f"| {deed}: {right.words[0].lower()}{right.words[1:]} | {may} | {'yes' if right.practised else ''} |"
        )
    return "\n".join(lines)


def test_the_table_in_the_docs_is_the_table_of_the_rights() -> None:
    assert table_in_words() in DOCS.read_text(encoding="utf-8")
