"""Tools through their pages and the API: calibrated, checked on the bar, found bad; what a job then says of what they read."""

import datetime
import re

import httpx
import pytest

from fairsquare.demo.people import SIGN_INS
from tests.conftest import key
from tests.web.test_job import REFERENCES, call, new_job, sign, with_sheet


@pytest.fixture(scope="module")
def shelf(as_role) -> dict[str, int]:
    """An arm, a laser and a reference bar on the shop's list."""
    lead = as_role("lead")
    lead.post("/tools", name="Shop arm", kind="instrument", sigma_mm="0.3")
    lead.post("/tools", name="Slip laser", kind="line", sigma_mm="1")
    text = lead.post("/tools", name="Metre bar", kind="bar", sigma_mm="0.01", length_mm="39 3/8 in")
    return {name: int(number) for number, name in re.findall(r'href="/tools/(\d+)">([^<]+)</a>', text)}


def day(ago: int) -> str:
    return (datetime.datetime.now(datetime.UTC).date() - datetime.timedelta(days=ago)).isoformat()


def test_a_bar_needs_its_length_and_a_day_has_to_make_sense(as_role, shelf) -> None:
    lead = as_role("lead")
    assert "How long is this bar" in lead.post("/tools", 422, name="Another bar", kind="bar", sigma_mm="0.01")
    at = f"/tools/{shelf['Shop arm']}/calibrations"
    for done, due, words, wrong in (
        ("yesterday", "", "cert 1", "A day is written like"),
        (day(-2), "", "cert 1", "once it was done, not before"),
        (day(5), day(6), "cert 1", "due again after it was done"),
        (day(5), "", "", "by which certificate"),
    ):
        text = lead.post(at, 422, done_on=done, due_on=due, words=words)
        assert wrong in text
        assert f'value="{done}"' in text, "what was typed stands there yet"
    as_role("apprentice").post(at, 403, done_on=day(5), due_on="", words="cert 1")


def test_readings_of_the_bar_are_typed_in_any_unit_and_a_slip_is_named(as_role, shelf) -> None:
    ngozi = as_role("technician")
    at = f"/tools/{shelf['Shop arm']}/checks"
    bar = str(shelf["Metre bar"])
    assert "Reading 2" in ngozi.post(at, 422, bar=bar, readings="1000.1\nabout a metre\n1000.2", read_on=day(0))
    assert "3 times or more" in ngozi.post(at, 422, bar=bar, readings="1000.1; 1000.2", read_on=day(0))
    assert "slip of the pen" in ngozi.post(at, 422, bar=bar, readings="1000.1; 1000.2; 100.2", read_on=day(0))
    assert "not before" in ngozi.post(at, 422, bar=bar, readings="1000.1; 1000.2; 1000.1", read_on=day(-3))
    laser = f"/tools/{shelf['Slip laser']}/checks"
    assert "reads no length" in ngozi.post(laser, 422, bar=bar, readings="1000.1; 1000.2; 1000.1", read_on=day(0))
    text = ngozi.post(at, bar=bar, readings="39 3/8 in\n1000.1\n100.02 cm", read_on=day(3))
    assert "Good: reads" in text
    assert 'class="tool-history"' in text
    assert "39 3/8 in; 1000.1; 100.02 cm" in text


def test_overdue_is_said_wherever_it_counts_and_a_failed_check_bars_the_way_until_it_is_taken_back(
    as_role, shelf
) -> None:
    lead, ngozi = as_role("lead"), as_role("technician")
    arm = shelf["Shop arm"]
    lead.post(f"/tools/{arm}/calibrations", done_on=day(400), due_on=day(35), words="certificate 12")
    assert f"calibration overdue since {day(35)}" in lead.get("/tools")
    job = new_job(ngozi)
    with_sheet(ngozi, job)
    assert f"calibration overdue since {day(35)}" in ngozi.get(f"/jobs/{job}/set-up"), "before the set-up is made"
    opened = ngozi.post(f"/jobs/{job}/set-up", instrument="Shop arm", sigma_mm="", kind="instrument")
    assert "Shop arm ± 0.3" in opened, "sigma from the shop's list"
    table = "\n".join(call(code) for code in REFERENCES)
    ngozi.post(f"/jobs/{job}/set-up/paste", setup="1", table=table.replace(" ", ", "), unit="mm")
    for page in ("set-up", "measure", "damage", "holds/setup_accepted", "holds/fit_accepted"):
        assert f"calibration overdue since {day(35)}" in ngozi.get(f"/jobs/{job}/{page}"), page
    sign(ngozi, job, "setup_accepted")
    assert "Signed by" in ngozi.get(f"/jobs/{job}/holds/setup_accepted")
    long = "1002.4; 1002.6; 1002.5"
    ngozi.post(f"/tools/{arm}/checks", bar=str(shelf["Metre bar"]), readings=long, read_on=day(0))
    text = ngozi.get(f"/jobs/{job}/holds/setup_accepted")
    assert "Open again" in text
    assert "since found bad" in text
    assert "Do not use it" in ngozi.get(f"/tools/{arm}")
    record = lead.get(f"/jobs/{job}/record")
    assert "since found bad" in record
    event = re.search(rf"/tools/{arm}/events/(\d+)/take-back", lead.get(f"/tools/{arm}"))
    lead.post(f"/tools/{arm}/events/{event[1]}/take-back")
    text = ngozi.get(f"/jobs/{job}/holds/setup_accepted")
    assert "Signed by" in text
    assert "Open again" not in text


def test_tools_by_the_api(server, shelf) -> None:
    api = httpx.Client(base_url=server, timeout=20)
    lead = next(one for one in SIGN_INS if one.role == "lead")
    token = api.post("/api/v1/session", json={"name": lead.name, "password": lead.password}).json()["token"]
    api.headers["authorization"] = f"Bearer {token}"
    arm, bar = f"/api/v1/tools/{shelf['Shop arm']}", shelf["Metre bar"]
    done = {"request_key": key(), "done_on": day(1), "due_on": day(-300), "words": "certificate 13"}
    assert api.post(f"{arm}/calibrations", json=done).status_code == 201
    check = {"bar": bar, "readings_mm": [1000.1, 1000.2, 1000.1]}
    assert api.post(f"{arm}/checks", json={"request_key": key(), **check}).status_code == 201
    shown = api.get(arm).json()
    assert (shown["level"], shown["tool"]["kind"]) == ("good", "instrument")
    assert [one["what"]["kind"] for one in shown["events"]][-2:] == ["calibration", "check"]
    wrong = api.post(f"{arm}/checks", json={"request_key": key(), "bar": bar, "readings_mm": [1000.1]})
    assert (wrong.status_code, wrong.json()["errors"][0]["field"]) == (422, "readings_mm")
    assert api.get("/api/v1/tools/99999").json()["title"] == "There is no such tool."
