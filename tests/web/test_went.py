"""The shop's past through its pages: three vans pulled square and released, and what the next plan takes from them."""

import re

import pytest

from fairsquare.demo.past import load_past
from fairsquare.job.pull.board import board_of
from tests.web.test_job import new_job
from tests.web.test_pulls import planned  # noqa: F401 - a fixture


@pytest.fixture(scope="module")
def vans(desk, persons) -> list[str]:
    return load_past(desk)


def test_a_shop_without_a_past_says_so(as_role) -> None:
    assert "No job was released yet" in as_role("technician").get("/past")


def test_how_a_van_went(vans, as_role, desk) -> None:
    ngozi = as_role("technician")
    assert desk.view(vans[0]).job.closed
    page = ngozi.get(f"/jobs/{vans[0]}/went")
    assert "released" in page
    assert re.search(r"<b>2 → 0</b>points out of tolerance", page)
    assert re.search(r"<b>6\.5 → 9\.5</b>hours sold and worked", page)
    assert re.search(r"<b>1\.1\d</b>", page), "what came back, times what the frame said"
    assert "condenser out and in" in page
    assert "held up from Plan the pulls on" in page
    assert "How it went" in ngozi.get(f"/jobs/{vans[0]}/record")
    assert "so far; not released yet" in ngozi.get(f"/jobs/{new_job(ngozi)}/went")


def test_over_all_jobs_and_what_that_says_of_the_next(vans, as_role, desk) -> None:
    page = as_role("technician").get("/past")
    assert "3 released jobs" in page
    assert all(f"/jobs/{van}/went" in page for van in vans)
    assert page.count("w-dot") > 8
    past = desk.past()
    assert {share > 1 for share in past.shares("unibody", "front")} == {True}
    assert 1.0 < past.share("unibody", "front").mean < 1.26
    assert len(past.times("measure")) == 3
    assert past.hours("measure").mean > 1


def test_the_next_hours_and_the_next_pull_begin_with_the_past_and_say_so(vans, planned, as_role, desk, persons) -> None:  # noqa: F811
    ngozi = as_role("technician")
    hours = ngozi.get(f"/jobs/{planned}/hours")
    assert re.search(r"times the usual, as in 3 jobs of this shop", hours)
    ngozi.post(f"/jobs/{planned}/board/begin", pull="1")
    watched = next(one.watched for one in board_of(desk.view(planned).facts).points if one.watched.code == "F5R")
    share = desk.past().share("unibody", "front")
    assert watched.learned == pytest.approx(share.mean)
    assert watched.return_sigma_mm == pytest.approx(max(2.0, share.sigma * watched.return_mm / share.mean))
    assert (
        f"times {share.mean:.2f} as the front of vehicles of construction unibody did in 3 jobs of this shop"
        in watched.basis
    )
    ticks = {f"tick-{name}": "1" for name in ("line", "cover", "clear", "stands", "hooks", "eyes")}
    page = ngozi.post(f"/jobs/{planned}/board/go", seen="cautions", state="test", **ticks)
    assert "expected back:" in page
    assert "3 jobs of this shop" in page


def test_by_the_api(vans, server) -> None:
    import httpx

    from fairsquare.demo.people import SIGN_INS

    api = httpx.Client(base_url=server, timeout=20)
    token = api.post("/api/v1/session", json={"name": "ngozi", "password": SIGN_INS[0].password}).json()["token"]
    api.headers["authorization"] = f"Bearer {token}"
    assert [one["number"] for one in api.get("/api/v1/past").json()] == vans
    one = api.get(f"/api/v1/jobs/{vans[1]}/went").json()
    assert one["springs"] and one["waits"][0]["kind"] == "refrigerant"
