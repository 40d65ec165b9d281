"""What the log of a real server holds: one JSON object a line, doors told apart, and nothing secret."""

import json
import re
import socket
from urllib.parse import urlsplit

import httpx

from fairsquare.demo.people import SIGN_INS
from fairsquare.security_log import told_code, told_path
from tests.conftest import served
from tests.web.test_job import make_safe, new_job


def test_a_path_is_told_without_its_code() -> None:
    assert told_path("/handover/abc/record.pdf") == f"/handover/{told_code('abc')}/record.pdf"
    assert told_path("/supplement/abc") == f"/supplement/{told_code('abc')}"
    assert told_path("/jobs/SL-0001/measure") == "/jobs/SL-0001/measure"
    assert "abc" not in told_code("abc")
    assert told_code("\udc80")


def test_the_log_is_json_tells_of_doors_and_holds_nothing_secret(url, as_role, tmp_path) -> None:
    lead, own = as_role("lead"), next(one for one in SIGN_INS if one.role == "apprentice")
    job = new_job(lead)
    make_safe(lead, job)
    lead.post(f"/jobs/{job}/record")
    record = re.search(r"/records/([0-9a-f]{64})", lead.get(f"/jobs/{job}/record")).group(1)
    page = lead.post(f"/jobs/{job}/record/links", record=record, audience="payer", named="Ines", days="7")
    code = re.search(r"/handover/([\w-]{20,})", page).group(1)
    with served(url, tmp_path) as address, httpx.Client(base_url=address, timeout=60) as http:
        http.post("/sign-in", data={"name": own.name, "password": "not-the-password"})
        token = http.post("/api/v1/session", json={"name": own.name, "password": own.password}).json()["token"]
        http.post(f"/api/v1/jobs/{job}/holds/made_safe/sign", json={}, headers={"authorization": f"Bearer {token}"})
        http.get(f"/handover/{code}")
        http.get("/handover/a-code-that-is-none")
        with socket.create_connection(("127.0.0.1", urlsplit(address).port)) as line:
            line.sendall(b"no request at all\r\n\r\n")
            line.recv(1000)
    text = (tmp_path / "log").read_text()
    lines = [json.loads(line) for line in text.splitlines()]
    assert all(isinstance(one, dict) for one in lines)
    kinds = [one["kind"] for one in lines if one["event"] == "security"]
    for kind in ("sign-in refused", "signed in", "role refused", "link used", "link refused"):
        assert kind in kinds
    assert all(one["address"] == "127.0.0.1" for one in lines if one["event"] == "request")
    assert "Invalid HTTP request received." in [one["event"] for one in lines]
    for secret in (code, "a-code-that-is-none", token, own.password, "not-the-password"):
        assert secret not in text
