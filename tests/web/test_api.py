"""The API: the worked example of the docs as it stands, the fourth door, problem JSON, the simulated instrument."""

import json
import os
import re
import subprocess
import sys
from pathlib import Path

import httpx
import pytest

from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.demo.people import SIGN_INS
from fairsquare.files.records import check_record
from fairsquare.stand_ins.client import Line
from fairsquare.stand_ins.instrument import SimulatedInstrument
from fairsquare.stand_ins.vehicles import DUNLIN
from tests.conftest import key
from tests.core.test_catalogue import REQUESTS

DOCS = Path(__file__).parents[2] / "docs" / "by-the-api.md"


@pytest.fixture(scope="module")
def api(server) -> httpx.Client:
    client = httpx.Client(base_url=server, timeout=20)
    token = client.post("/api/v1/session", json={"name": "ngozi", "password": SIGN_INS[0].password}).json()["token"]
    client.headers["authorization"] = f"Bearer {token}"
    return client


def test_the_worked_example_of_the_docs(server, tmp_path) -> None:
    code = "\n".join(re.findall(r"```python\n(.*?)```", DOCS.read_text(encoding="utf-8"), re.DOTALL))
    example, record = tmp_path / "example.py", tmp_path / "record.json"
    example.write_text(code, encoding="utf-8")
    environment = {**os.environ, "FAIRSQUARE_SERVER": server, "FAIRSQUARE_RECORD": str(record)}
    done = subprocess.run([sys.executable, str(example)], env=environment, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr + done.stdout
    assert check_record(record.read_bytes()).good
    verify = [sys.executable, "-m", "fairsquare", "verify", str(record)]
    told = subprocess.run(verify, capture_output=True, text=True, check=False)
    assert (told.returncode, "whole: yes" in told.stdout) == (0, True)
    record.write_bytes(record.read_bytes().replace(b'"said":"', b'"said":"9', 1))
    told = subprocess.run(verify, capture_output=True, text=True, check=False)
    assert told.returncode == 1
    assert "/gaps/0: changed since the record was made" in told.stdout


@pytest.mark.parametrize("name", list(CATALOGUE))
def test_the_fourth_door_gives_the_same_to_the_last_digit(api, name) -> None:
    text = json.dumps(REQUESTS[name])
    answer = api.post(f"/api/v1/compute/{name}", content=text, headers={"content-type": "application/json"})
    assert answer.text == CATALOGUE[name].run_json(text)
    assert api.get(f"/api/v1/compute/{name}").json() == CATALOGUE[name].schemas()


@pytest.mark.parametrize(
    ("path", "body", "status", "words"),
    [
        ("compute/parse-length", {"text": "5 furlongs"}, 422, "is not a length"),
        ("compute/parse-length", {"text": 5}, 422, "string"),
        ("compute/nothing", {}, 404, "There is no calculation"),
        ("jobs", {"request_key": "12345678", "details": {"vehicle": ""}}, 422, "vehicle"),
        ("jobs", {"request_key": "12345678", "details": {"vehicle": "x", "more": 1}}, 422, "more"),
        (
            "jobs/SL-9999/safety",
            {"request_key": "12345678", "item": "battery", "answer": "done"},
            404,
            "no job SL-9999",
        ),
        ("session", {"name": "ngozi", "password": "wrong"}, 401, "do not go together"),
    ],
)
def test_faults_are_problem_json(api, path, body, status, words) -> None:
    answer = api.post(f"/api/v1/{path}", json=body)
    assert answer.status_code == status, answer.text
    assert answer.headers["content-type"] == "application/problem+json"
    assert words in answer.json()["title"]
    assert answer.json()["status"] == status


def test_nothing_without_a_token(server) -> None:
    for path in ("jobs", "jobs/SL-0001", "instrument/orders"):
        assert httpx.get(f"{server}/api/v1/{path}").status_code == 401


def test_the_simulated_instrument_reads_what_a_page_asks_for(server, api) -> None:
    details = {"vehicle": DUNLIN.name, "construction": "unibody"}
    job = api.post("/api/v1/jobs", json={"request_key": key(), "details": details}).json()["number"]
    sheet = DUNLIN.sheet.model_dump(mode="json")
    slip = {**sheet, "points": [{**p, "xyz": [p["xyz"][0], -p["xyz"][1], p["xyz"][2]]} for p in sheet["points"][:1]]}
    slip["points"] += sheet["points"][1:]
    told = api.put(f"/api/v1/jobs/{job}/sheet", json={"request_key": key(), "sheet": slip}).json()
    assert [found["points"][0] for found in told["findings"]] == [sheet["points"][0]["code"]], told
    assert told["version"] == 1, "it is accepted as it was sent"
    assert api.put(f"/api/v1/jobs/{job}/sheet", json={"request_key": key(), "sheet": sheet}).json()["findings"] == []

    def sign(hold: str) -> None:
        holds = api.get(f"/api/v1/jobs/{job}").json()["holds"]
        seen = next(one["evidence"] for one in holds if one["name"] == hold)
        answer = api.post(f"/api/v1/jobs/{job}/holds/{hold}/sign", json={"request_key": key(), "seen": seen})
        assert answer.status_code == 200, answer.text

    for item in SAFETY_ITEMS:
        by = {"done_by": "Pernille Ostrander", "qualification": "KR-2231"} if item.qualified else {}
        sent = {"request_key": key(), "item": item.key, "answer": "done", **by}
        api.post(f"/api/v1/jobs/{job}/safety", json=sent)
    sign("made_safe")
    api.post(f"/api/v1/jobs/{job}/setups", json={"request_key": key(), "instrument": "3-D instrument"})
    pages = httpx.Client(base_url=server, follow_redirects=True)
    pages.post("/sign-in", data={"name": "ngozi", "password": SIGN_INS[0].password})
    csrf = pages.get("/help").text.split('"X-CSRF-Token": "')[1].split('"')[0]
    line = Line(httpx.Client(base_url=server), "ngozi", SIGN_INS[0].password)
    instrument = SimulatedInstrument(line)
    for page, count in (("set-up/order", 6), ("order", 14)):
        pages.post(f"/jobs/{job}/{page}", data={"csrf": csrf, "request_key": key(), "setup": "1"})
        orders = line.get("/instrument/orders")
        assert len(orders) == count
        for order in orders:
            instrument.take(order)
            instrument.take(order)
        assert line.get("/instrument/orders") == []
        if page == "set-up/order":
            sign("setup_accepted")
    shown = api.get(f"/api/v1/jobs/{job}").json()
    assert shown["picture"]["fit"]["verdict"] == "accepted"
    states = {code: judged["state"] for code, judged in shown["picture"]["judged"].items()}
    assert states["F5R"] == "off"
    assert "unread" not in states.values()
    assert {len(ids) for ids in shown["picture"]["used"].values()} == {1}, "a reading sent twice is recorded once"


def test_the_pages_of_the_api_are_files_of_ours(server) -> None:
    page = httpx.get(f"{server}/api/docs").text
    assert "https://" not in page
    assert "/api/v1/jobs/{number}/readings" in page
    assert "made by the client, new for each deed" in page
    paths = httpx.get(f"{server}/api/openapi.json").json()["paths"]
    assert "/api/v1/jobs/{number}/readings" in paths
    assert not any(path.startswith("/jobs") for path in paths)
