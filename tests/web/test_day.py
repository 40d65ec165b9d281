"""The shop and its day through the pages: said, planned, fixed, planned anew when a part comes late, printed."""

import datetime
import html
import re
from zoneinfo import ZoneInfo

import pytest
from fastapi.testclient import TestClient

from fairsquare.actions import Desk, planning, working
from fairsquare.demo.people import SIGN_INS
from fairsquare.job.plan.kept import KeptPlan
from fairsquare.store import restore_drills, shop
from fairsquare.store.database import Database, execute
from fairsquare.web.times import shown_time
from tests.conftest import Pages, key, read_it
from tests.web.test_job import new_job

WEEK = {f"week-{k}": "0:00-24:00" for k in range(7)}
HANDS = {
    "hand-0-name": "ngozi",
    "hand-0-skills": "structure, weld",
    "hand-1-name": "mateus",
    "hand-1-skills": "structure",
    "hand-2-name": "keahi",
}
PLACES = {"place-0-name": "rack", "place-0-many": "2"}
TAKES = {
    "takes-0-station": "set-up",
    "takes-0-skill": "structure",
    "takes-0-place": "rack",
    "takes-1-station": "measure",
    "takes-1-skill": "structure",
    "takes-1-place": "rack",
}


def say(pages: Pages, database: Database, status=200, **fields) -> str:
    version = str(database.run(shop.said)[0])
    return pages.post("/shop", status, **{"version": version, **WEEK, **HANDS, **PLACES, **TAKES, **fields})


def last(database: Database) -> tuple[int, KeptPlan]:
    number, plan, _ = database.run(shop.last_plan)
    return number, plan


def piece(plan: KeptPlan, job: str, what: str):
    return next(one for one in plan.pieces if one.key == (job, what))


def _apart_s(a: str, b: str) -> float:
    return abs((datetime.datetime.fromisoformat(a) - datetime.datetime.fromisoformat(b)).total_seconds())


def start_of(plan: KeptPlan, job: str, what: str) -> datetime.datetime:
    return datetime.datetime.fromisoformat(piece(plan, job, what).start)


@pytest.fixture(scope="module")
def jobs(as_role, database) -> list[str]:
    """Two jobs, and a shop that works round the clock so that the test says the same at any hour."""
    lead = as_role("lead")
    assert "Nobody is there to plan for" in lead.post("/day/plan", 422)
    say(lead, database)
    return [new_job(as_role("technician")), new_job(as_role("technician"))]


FOAM = {"product-0-id": "foam", "product-0-kind": "foam", "product-0-open": "15", "product-0-cure": "60"}


def test_units_time_zone_and_products_are_the_shops_own(app, as_role, database, jobs) -> None:
    lead = as_role("lead")
    assert "There is no time zone Nowhere/Here" in say(lead, database, 422, time_zone="Nowhere/Here")
    text = say(lead, database, 422, **FOAM, **{"product-0-at": "warm"})
    assert "product 1, at" in text
    assert 'value="warm"' in text, "what was typed stands there yet"
    twice = {"product-1-id": "FOAM", "product-1-kind": "foam"}
    assert "stands there twice" in say(lead, database, 422, **FOAM, **twice)
    say(lead, database, units="in", time_zone="Asia/Kolkata", **FOAM)
    fresh = Pages(app, SIGN_INS[0])
    page = fresh.get("/shop")
    assert '<button name="units" value="in" aria-pressed="true">' in page, "who chose no units sees the shop's"
    assert "Asia/Kolkata" in page
    now = datetime.datetime.now(ZoneInfo("Asia/Kolkata"))
    assert any(f"{now - datetime.timedelta(minutes=k):%H:%M}" in page for k in (0, 1)), "times in the shop's own zone"
    fresh.http.cookies.set("units", "mm")
    assert '<button name="units" value="mm" aria-pressed="true">' in fresh.get("/shop"), "a person's choice comes first"
    base = f"/jobs/{jobs[0]}/bond/plan"
    assert "Add foam" in lead.get(base)
    row = {"version": "0", "temperature_c": "18", "step-0-id": "squeeze it", "step-0-minutes": "4"}
    text = lead.post(base, **row, add="foam")
    assert 'name="product-0-id" aria-label="Product" value="foam"' in text
    assert 'value="squeeze it"' in text, "what was typed before is kept"
    assert "Add foam" not in text, "what is there is not offered again"
    assert "lists no glue" in lead.post(base, 422, **row, add="glue")
    say(lead, database)


@pytest.mark.parametrize(
    ("fields", "words"),
    [
        ({"week-0": "17-8"}, "These hours end before they begin"),
        ({"week-2": "all day"}, "Hours of a day are written like"),
        ({"place-0-many": "0"}, "A place with none of it is no place"),
        ({"hand-0-skills": "", "hand-1-skills": ""}, "Nobody can do structure"),
        ({"hand-0-name": "nobody-such"}, "Nobody signs in as nobody-such"),
        ({"hand-1-name": "ngozi"}, "stands there twice"),
        ({"hand-0-away": "soon"}, "away"),
        ({"holiday-0-day": "2026-02-31"}, "A day is written like"),
        ({f"week-{k}": "" for k in range(7)}, "Nobody works on any day"),
        ({"takes-0-place": "moon"}, "There is no place moon"),
    ],
)
def test_a_shop_said_wrong_keeps_what_was_typed(as_role, database, jobs, fields, words) -> None:
    before = database.run(shop.said)
    page = say(as_role("lead"), database, 422, **fields)
    assert words in page
    assert all(value in page for value in fields.values())
    assert database.run(shop.said) == before


def test_only_a_lead_says_the_shop_and_nobody_overwrites_another(as_role, database, jobs) -> None:
    assert "What the shop has is said by a lead" in say(as_role("technician"), database, 403)
    assert "disabled" in as_role("technician").get("/shop")
    assert "look at it again" in as_role("lead").post("/shop", 409, version="0", **WEEK, **HANDS, **PLACES, **TAKES)
    assert "keahi has no skill" in as_role("lead").get("/shop")
    assert "The day is planned by" in as_role("technician").post("/day/plan", 403)


def test_the_day_is_planned_over_all_jobs_and_read_by_everybody(as_role, database, jobs) -> None:
    page = as_role("lead").post("/day/plan")
    _, plan = last(database)
    assert {one.job for one in plan.pieces} == set(jobs)
    assert plan.optimal
    assert any(one.in_chain for one in plan.pieces)
    for job in jobs:
        assert (
            start_of(plan, job, "Make it safe")
            < start_of(plan, job, "Set up and clamp")
            < start_of(plan, job, "Measure")
        )
        assert piece(plan, job, "Set up and clamp").helpers
    assert page.count("d-piece") >= len(plan.pieces)
    assert "Solveig" in page
    wall = as_role("apprentice").get("/day/print")
    assert "Make it safe" in wall
    assert as_role("apprentice").get("/day?days=5").count("d-day") == 5


def test_a_part_that_comes_late_moves_what_waits_for_it_and_little_else(as_role, database, jobs, desk: Desk) -> None:
    lead, ngozi = as_role("lead"), as_role("technician")
    lead.post("/day/plan")
    _, before = last(database)
    late = datetime.datetime.now(datetime.UTC) + datetime.timedelta(days=1)
    ngozi.post(
        f"/jobs/{jobs[0]}/waits",
        kind="part",
        words="bracket",
        station="measure",
        asked_of="Ines",
        due=f"{late:%Y-%m-%dT%H:%M}",
    )
    assert f"Something was recorded since in {jobs[0]}" in lead.get("/day")
    page = lead.post("/day/plan")
    _, after = last(database)
    assert start_of(after, jobs[0], "Measure") >= late.replace(second=0, microsecond=0)
    assert "what it waits for is due then" in page
    others = [one for one in after.pieces if one.job == jobs[1]]
    assert not any(one.moved for one in others)
    assert start_of(before, jobs[1], "Measure") <= start_of(after, jobs[1], "Measure") + datetime.timedelta(minutes=20)
    (wait,) = desk.view(jobs[0]).facts.waits
    ngozi.post(f"/jobs/{jobs[0]}/waits/{wait.id}", do="say", asked_of="Ines", due="")
    page = lead.post("/day/plan")
    assert "waits for bracket, Ines was asked; nobody knows until when" in page
    assert not [one for one in last(database)[1].pieces if one.key == (jobs[0], "Measure")]
    ngozi.post(f"/jobs/{jobs[0]}/waits/{wait.id}", do="over")


def test_what_is_fixed_stays_and_what_is_worked_on_begins_now_with_its_person(
    as_role, database, jobs, desk, persons
) -> None:
    lead, ngozi = as_role("lead"), as_role("technician")
    lead.post("/day/plan", do="afresh")
    number, _ = last(database)
    lead.post("/day/fix", plan=str(number), job=jobs[1], what="Measure", fixed="yes")
    assert "planned anew meanwhile" in lead.post(
        "/day/fix", 409, plan=str(number), job=jobs[1], what="Measure", fixed="no"
    )
    fixed = piece(last(database)[1], jobs[1], "Measure")
    assert fixed.fixed
    ngozi.post(f"/jobs/{jobs[0]}/work", operation="Read and decide")
    lead.post("/day/plan")
    _, after = last(database)
    again = piece(after, jobs[1], "Measure")
    assert (again.person, again.fixed, again.asked_for) == (fixed.person, True, fixed.start)
    assert _apart_s(again.start, fixed.start) < 180, "where it was, but for a minute that has gone by meanwhile"
    going = piece(after, jobs[0], "Read and decide")
    assert (going.now, going.person) == (True, "ngozi")
    assert _apart_s(going.start, datetime.datetime.now(datetime.UTC).isoformat()) < 180
    clock = desk.view(jobs[0]).facts.worked[-1].id
    working.stop_work(desk, persons["technician"], "stop work key 1", jobs[0], clock)


def test_what_is_fixed_gives_way_to_no_move_but_to_the_time_that_goes_by(as_role, database, jobs, monkeypatch) -> None:
    lead = as_role("lead")
    lead.post("/day/plan", do="afresh")
    number, plan = last(database)
    fixed = piece(plan, jobs[0], "Set up and clamp")
    lead.post("/day/fix", plan=str(number), job=jobs[0], what="Set up and clamp", fixed="yes")
    number, _ = last(database)
    zone = ZoneInfo(database.run(shop.said)[1].time_zone or "UTC")
    safe = {"plan": str(number), "job": jobs[0], "what": "Make it safe", "to": fixed.person}
    then = datetime.datetime.fromisoformat(fixed.end).astimezone(zone) + datetime.timedelta(hours=3)
    said = lead.post("/day/move", 422, **safe, day=then.date().isoformat(), at=f"{then:%H:%M}")
    assert f"{jobs[0]}, “Set up and clamp”, is fixed and would have to give way" in said
    ahead = datetime.datetime.fromisoformat(fixed.start) + datetime.timedelta(minutes=40)
    monkeypatch.setattr(planning, "now_of", lambda connection: f"{ahead:%Y-%m-%dT%H:%M:%S.%fZ}")
    page = lead.post("/day/plan")
    again = piece(last(database)[1], jobs[0], "Set up and clamp")
    assert (again.fixed, again.person, again.asked_for) == (True, fixed.person, fixed.start)
    assert again.is_pushed and datetime.datetime.fromisoformat(again.start) > ahead
    assert f"fixed for {shown_time(fixed.start, zone)}, cannot be before" in " ".join(page.split())
    monkeypatch.undo()
    lead.post("/day/plan", do="afresh")


def test_a_promise_that_cannot_be_kept_is_said_in_hours(as_role, database, jobs) -> None:
    tomasz, lead = as_role("estimator"), as_role("lead")
    fields = {"operation-0-name": "Prove and hand over", "operation-0-hours": "30"}
    today = datetime.datetime.now(datetime.UTC).date().isoformat()
    tomasz.post(f"/jobs/{jobs[1]}/hours/list", version="0", promised=today, **fields)
    page = lead.post("/day/plan")
    assert "promises missed by" in page
    assert "h late" in page
    assert last(database)[1].late_min > 0


def test_the_same_by_the_api(app, jobs, database, persons) -> None:
    http = TestClient(app)
    http.event_hooks = {"response": [read_it]}
    lead = next(one for one in SIGN_INS if one.role == "lead")
    token = http.post("/api/v1/session", json={"name": lead.name, "password": lead.password}).json()["token"]
    http.headers["authorization"] = f"Bearer {token}"
    path = f"/api/v1/jobs/{jobs[0]}"
    shown = http.get(f"{path}/hours").json()
    assert shown["rows"][0]["name"] == "Make it safe"
    one = key()
    first = http.post(f"{path}/work", json={"request_key": one, "operation": "Measure"}).json()["ids"]
    assert http.post(f"{path}/work", json={"request_key": one, "operation": "Measure"}).json()["ids"] == first
    http.post(f"{path}/work/{first[0]}/stop", json={"request_key": key()})
    http.post(f"{path}/work/{first[0]}/back", json={"request_key": key()})
    late = {"request_key": key(), "kind": "paint", "words": "paint dries", "due_at": "2126-01-01T10:00:00+02:00"}
    wait = http.post(f"{path}/waits", json=late).json()["ids"][0]
    assert http.get(f"{path}/hours").json()["waiting"][0]["due_at"] == "2126-01-01T08:00:00.000000Z"
    bad = http.post(f"{path}/waits", json={**late, "request_key": key(), "due_at": "2126-01-01T10:00:00"})
    assert bad.status_code == 422
    assert "due_at" in bad.text
    http.post(f"{path}/waits/{wait}/over", json={"request_key": key()})
    planned = http.post("/api/v1/day", json={"request_key": key()})
    assert planned.status_code == 201, planned.text
    assert {piece["job"] for piece in http.get("/api/v1/day").json()["pieces"]} == set(jobs)
    found = http.get("/api/v1/shop").json()
    stale = http.put("/api/v1/shop", json={"request_key": key(), "version": 0, "shop": found["shop"]})
    assert stale.status_code == 409
    now = http.put("/api/v1/shop", json={"request_key": key(), "version": found["version"], "shop": found["shop"]})
    assert now.json()["version"] == found["version"] + 1


def test_a_piece_is_moved_by_hand_the_rest_goes_round_it_and_the_cost_is_told(as_role, database, jobs) -> None:
    lead = as_role("lead")
    lead.post("/day/plan", do="afresh")
    number, plan = last(database)
    own = piece(plan, jobs[0], "Set up and clamp")
    zone = ZoneInfo(database.run(shop.said)[1].time_zone or "UTC")
    start = datetime.datetime.fromisoformat(own.start).astimezone(zone) + datetime.timedelta(hours=1)
    other = "mateus" if own.person == "ngozi" else "ngozi"
    said = {"plan": str(number), "job": jobs[0], "what": "Set up and clamp", "to": other}
    day = start.date().isoformat()
    assert "A time, such as 14:30" in lead.post("/day/move", 422, **said, day=day, at="soon")
    gone = {**said, "what": "No longer planned for today"}
    assert "A time, such as 14:30" in lead.post("/day/move", 422, **gone, day=day, at="soon"), "with no form of its own"
    wrong = lead.post("/day/move", 422, **{**said, "to": "keahi"}, day=day, at=f"{start:%H:%M}")
    assert "takes another skill" in wrong, "an apprentice cannot do it"
    assert last(database)[0] == number, "what cannot be is not kept"
    page = lead.post("/day/move", **said, day=day, at=f"{start:%H:%M}")
    moved = piece(last(database)[1], jobs[0], "Set up and clamp")
    assert moved.person == other and moved.fixed
    assert abs(datetime.datetime.fromisoformat(moved.start) - start) <= datetime.timedelta(minutes=5)
    assert "Moved by hand:" in page and last(database)[1].cost
    assert start_of(last(database)[1], jobs[0], "Measure") >= datetime.datetime.fromisoformat(moved.end)
    assert "planned anew meanwhile" in lead.post("/day/move", 409, **said, day=day, at=f"{start:%H:%M}")
    later, own = start + datetime.timedelta(hours=1), {**said, "plan": str(last(database)[0])}
    lead.post("/day/move", **own, day=later.date().isoformat(), at=f"{later:%H:%M}")
    again = piece(last(database)[1], jobs[0], "Set up and clamp")
    assert again.fixed and again.asked_for > moved.asked_for, "what is fixed may be moved again by who fixed it"


def test_what_is_signed_for_is_not_given_to_an_apprentice_and_what_is_released_not_planned(
    as_role, database, jobs, monkeypatch
) -> None:
    lead = as_role("lead")
    lead.post("/day/plan", do="afresh")
    _, plan = last(database)
    assert {piece(plan, job, "Prove and hand over").person for job in jobs} <= {"ngozi", "mateus"}
    monkeypatch.setattr(planning, "_released", lambda view: view.job.number == jobs[1])
    lead.post("/day/plan", do="afresh")
    assert {one.job for one in last(database)[1].pieces} == {jobs[0]}


@pytest.mark.parametrize(
    ("good", "days", "words"),
    [
        (True, 1, ("✓", "was brought back beside what is here, with 3 jobs. 3 records checked")),
        (True, 40, ("That was 40 days ago",)),
        (False, 1, ("✕", "is not good. ends in the middle")),
    ],
)
def test_the_shop_says_when_a_backup_was_tried_and_what_came_of_it(as_role, database, good, days, words) -> None:
    assert "No backup of this shop was ever brought back" in as_role("technician").get("/shop")
    told = "3 records checked" if good else "ends in the middle."
    taken = datetime.datetime.now(datetime.UTC) - datetime.timedelta(days=days, hours=1)
    database.run(lambda c: restore_drills.keep(c, "b.backup", taken, good=good, told="3 jobs", words=told))
    database.run(lambda c: execute(c, "UPDATE restore_drill SET at = at - INTERVAL %s DAY", days))
    page = html.unescape(re.sub(r"<[^>]+>", "", as_role("technician").get("/shop")))
    page = re.sub(r"\s+", " ", page)
    database.run(lambda c: execute(c, "DELETE FROM restore_drill"))
    assert all(word in page for word in words) and "b.backup" in page
    assert ("days ago" in page) == (days > restore_drills.OLD_DAYS)
