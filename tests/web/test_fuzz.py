"""What nobody would send: requests made from the API's own description, with fixed seeds, and forms with each field broken."""

import os
import re
from html.parser import HTMLParser
from urllib.parse import urlsplit

import pytest
import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import (
    content_type_conformance,
    response_schema_conformance,
    status_code_conformance,
)

from fairsquare.demo.people import SIGN_INS
from tests.conftest import key
from tests.web.test_inches import lines_of
from tests.web.test_job import new_job, read_all, sign, with_references, with_sheet

EXAMPLES = int(os.environ.get("FAIRSQUARE_FUZZ", "6"))
"""Of each route; `FAIRSQUARE_FUZZ=100` looks longer."""
CHECKS = (not_a_server_error, status_code_conformance, content_type_conformance, response_schema_conformance)
BROKEN = (
    "²",
    "9" * 5000,
    "\ud800",
    "9999-12-31",
    "9999-12-31T23:59",
    "-1e309",
    "nan",
    "é" * 300,
    "'; -- \x00\x1b",
    "[" * 3000,
    "9223372036854775808",
    "",
)
ROOMS = ("/", "/jobs/new", "/tools", "/rig", "/shop", "/people", "/own", "/keys", "/day", "/practice", "/audit")
PAGES = (
    *(
        "take-in",
        "walk-round",
        "sheet",
        "sheet/members",
        "set-up",
        "measure",
        "damage",
        "decide",
        "pulls",
        "cuts",
        "supplements",
    ),
    *(
        "parts",
        "hours",
        "waits",
        "fit",
        "bond",
        "weld",
        "finish",
        "record",
        "settings",
        "holds/setup_accepted",
        "board",
    ),
)
PASSED_OVER = re.compile(r"/(sign-out|sign-in|active|role|forget|begin|end|new|close|preferences|practice)(/|$)")
"""What would end the job or the sign-in that the others are sent with."""


@schemathesis.serializer("application/zip")
def as_bytes(context, value):
    return value if isinstance(value, bytes) else str(value).encode(errors="replace")


@pytest.fixture(scope="module")
def job(as_role) -> str:
    ngozi = as_role("technician")
    number = new_job(ngozi)
    with_sheet(ngozi, number)
    with_references(ngozi, number)
    sign(ngozi, number, "setup_accepted")
    read_all(ngozi, number, {"F5R": (-9.0, 2.0, 4.0), "F4R": (-5.0, 1.0, 2.0)})
    return number


@pytest.fixture(scope="module")
def api(app, as_role, job):
    """The API's description of itself, and the token of a lead."""
    lead = next(one for one in SIGN_INS if one.role == "lead")
    http = as_role("lead").http
    token = http.post("/api/v1/session", json={"name": lead.name, "password": lead.password}).json()["token"]
    return schemathesis.openapi.from_asgi("/api/openapi.json", app), {"authorization": f"Bearer {token}"}


def test_nothing_breaks_and_nothing_undocumented_comes(api, job) -> None:
    schema, signed = api
    faults, calls, statuses = {}, 0, set()
    for found in schema.get_all_operations():
        operation = found.ok()

        def call(case) -> None:
            nonlocal calls
            calls += 1
            if "number" in (case.path_parameters or {}) and calls % 4:
                case.path_parameters["number"] = job
            statuses.add(case.call_and_validate(headers=signed, checks=CHECKS, timeout=60).status_code)

        try:
            settings(
                max_examples=EXAMPLES,
                derandomize=True,
                database=None,
                deadline=None,
                phases=[Phase.generate],
                suppress_health_check=list(HealthCheck),
            )(given(case=operation.as_strategy())(call))()
        except Exception as fault:
            faults[operation.label] = str(fault)[:900]
    assert not faults, "\n\n".join(f"{label}: {words}" for label, words in faults.items())
    assert calls > 100 * EXAMPLES / 2
    assert {200, 404, 422} <= statuses, "some get through, some do not"


FIELDS, UNTYPED = ("input", "select", "textarea", "button"), ("file", "checkbox", "radio")


class Forms(HTMLParser):
    """The forms of a page: where each is sent, and its fields with what stands in them."""

    def __init__(self) -> None:
        super().__init__()
        self.found: list[tuple[str, dict[str, str]]] = []
        self._open = False

    def handle_starttag(self, tag, attributes):
        said = dict(attributes)
        if tag == "form":
            self._open = said.get("method") == "post"
            if self._open:
                self.found.append((said.get("action", ""), {}))
        elif self._open and said.get("name") and tag in FIELDS and said.get("type") not in UNTYPED:
            self.found[-1][1].setdefault(said["name"], said.get("value") or "")

    def handle_endtag(self, tag):
        self._open = self._open and tag != "form"


def forms_of(pages, job: str) -> dict[str, dict[str, str]]:
    """Every form of every page, by where it is sent; numbers in the address count as one."""
    found: dict[str, tuple[str, dict[str, str]]] = {}
    for path in (*ROOMS, *(f"/jobs/{job}/{page}" for page in PAGES)):
        answer = pages.http.get(path)
        assert answer.status_code == 200, (path, lines_of(answer.text))
        reader = Forms()
        reader.feed(answer.text)
        for action, fields in reader.found:
            where = urlsplit(action).path
            if where and not PASSED_OVER.search(where):
                found.setdefault(re.sub(r"/\d+(?=/|$)", "/1", where), (where, fields))
    return dict(found.values())


def test_no_form_breaks_whatever_stands_in_its_fields(as_role, job) -> None:
    lead = as_role("lead")
    forms, csrf, broken = forms_of(lead, job), lead.csrf(), []
    assert len(forms) > 25
    for path, fields in forms.items():
        named = [name for name in fields if name not in ("csrf", "request_key")]
        for k, name in enumerate(named):
            for value in BROKEN if EXAMPLES > 50 else BROKEN[k % 4 :: 4]:
                sent = {**fields, name: value, "csrf": csrf, "request_key": key()}
                if name in ("version", "seen_version"):
                    sent["version"] = value
                try:
                    answer = lead.http.post(
                        path,
                        content="&".join(f"{encoded(a)}={encoded(b)}" for a, b in sent.items()),
                        headers={"content-type": "application/x-www-form-urlencoded"},
                        follow_redirects=False,
                    )
                    if answer.status_code >= 500:
                        broken.append((path, name, value[:30], answer.status_code))
                except Exception as fault:
                    broken.append((path, name, value[:30], repr(fault)[:300]))
    assert not broken, "\n".join(map(str, broken))


def encoded(text: str) -> str:
    """A field as a browser would write it; what is no letter as the bytes it would be."""
    return "".join(f"%{byte:02X}" for byte in text.encode("utf-8", "surrogatepass"))


@pytest.mark.parametrize("query", ["²", "9" * 5000, "%ED%A0%80", "9999-12-31", "-1", "1e400"])
def test_no_page_breaks_whatever_is_asked_of_it(as_role, job, query) -> None:
    lead, broken = as_role("lead"), []
    asked = {
        "/": ("q", "closed", "page"),
        "/audit": ("q", "day", "person", "page"),
        "/past": ("construction", "place"),
        "/day": ("days",),
        "/vin": ("vin",),
        f"/jobs/{job}/measure": ("call", "factor", "code"),
        f"/jobs/{job}/measure/understood": ("call", "unit", "tool"),
        f"/jobs/{job}/set-up/understood": ("call", "unit"),
        f"/jobs/{job}/changed": ("revision",),
        f"/jobs/{job}/damage": ("show", "mode"),
        f"/jobs/{job}/pulls": ("plan", "step", "pull"),
        "/clocks": ("job",),
    }
    for path, names in asked.items():
        for name in names:
            answer = lead.http.get(f"{path}?{name}={query}")
            if answer.status_code >= 500:
                broken.append((path, name, answer.status_code))
    others = ("/jobs/{}/measure", f"/jobs/{job}/why/{{}}", "/records/{}", "/tools/{}", "/records/{}.pdf")
    broken += [path for path in others if lead.http.get(path.format(query)).status_code >= 500]
    assert not broken
