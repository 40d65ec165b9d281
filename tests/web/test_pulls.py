"""From the plan to “Pulls done”, through the pages and the API: rig, plan, statics, the board's steps, cycles, the hold."""

import re

import numpy as np
import pytest
from fastapi.testclient import TestClient

from fairsquare.actions import pull_plans, pulling
from fairsquare.core.pull.job import (
    CAUTIONS,
    AfterPull,
    ChainSet,
    PlanSaid,
    PointCycle,
    WorkPull,
    plan_request,
    seen_plan,
)
from fairsquare.demo.people import SIGN_INS
from fairsquare.job.pull.board import board_of, places_now, plan_of, setting_of
from fairsquare.job.pull.settling import learned, pulled_ways
from fairsquare.stand_ins.vehicles import DUNLIN
from tests.conftest import key, read_it
from tests.web.test_job import call, make_safe, new_job, read_all, sign, with_references, with_sheet

PUSHED = {"F5R": np.array((-9.0, 0.0, 0.0)), "F5L": np.array((-7.0, 0.0, 0.0))}
HOME = {code: np.zeros(3) for code in PUSHED}
TICKS = {f"tick-{name}": "1" for name, _ in CAUTIONS}


@pytest.fixture
def planned(as_role, desk, persons):
    """A Dunlin pushed in at both rail ends, decided, with a plan of one pull of two chains, set by a person."""
    from fairsquare.actions import deciding
    from fairsquare.actions.deciding import DecisionSaid, MemberSaid
    from fairsquare.core.damage.decide import MakersWord
    from fairsquare.job.damage.choices import member_states
    from fairsquare.job.damage.job import damage_of, key_of, open_findings

    ngozi = as_role("technician")
    job = new_job(ngozi)
    make_safe(ngozi, job)
    with_sheet(ngozi, job)
    with_references(ngozi, job)
    sign(ngozi, job, "setup_accepted")
    read_all(ngozi, job, PUSHED)
    lead = persons["lead"]
    deciding.keep_what_is_fair(desk, lead, key(), job)
    for state in member_states(desk.view(job).facts):
        if state.seen is None:
            said = MemberSaid(state.member, "", "mild", "structural", ("bent",), MakersWord(), "the maker's book")
            seen = deciding.see_member(desk, lead, key(), job, said)
            deciding.decide(desk, lead, key(), job, seen, DecisionSaid("straighten"))
    facts = desk.view(job).facts
    for finding in open_findings(facts, damage_of(facts).findings):
        deciding.settle(desk, lead, key(), job, key_of(finding), "looked at again, stands as it is")
    sign(ngozi, job, "decision_made")
    chains = tuple(
        ChainSet(hook=f"at F5{side}", tower=f"front {name}", height_mm=430, force_n=40_000)
        for side, name in (("L", "left"), ("R", "right"))
    )
    pull_plans.keep_plan(desk, lead, key(), job, PlanSaid(school="outward", pulls=(WorkPull(chains=chains),)), 0)
    return job


def go(pages, job, seen, state, status=200, **more):
    return pages.post(f"/jobs/{job}/board/go", status, seen=seen, state=state, **more)


def read_free(pages, job, moved):
    for point in DUNLIN.sheet.points:
        if not point.reference:
            pages.post(
                f"/jobs/{job}/readings",
                setup="1",
                purpose="point",
                call=call(point.code, moved.get(point.code, (0, 0, 0))),
            )


def test_from_the_plan_to_the_signed_hold(planned, as_role, desk) -> None:
    job, ngozi = planned, as_role("technician")
    page = ngozi.get(f"/jobs/{job}/pulls")
    assert "at F5R → front right" in page
    assert "It holds" in page
    assert "40.0 kN" in page
    assert "pulls_done" in page or "Pulls done" in page
    ngozi.post(f"/jobs/{job}/board/begin", pull="1")
    page = ngozi.get(f"/jobs/{job}/board")
    assert "BEFORE TENSION" in page
    assert "Tick each one by hand first" in go(ngozi, job, "cautions", "test", 422, **{"tick-line": "1"})
    page = go(ngozi, job, "cautions", "test", **TICKS)
    assert "LIGHT TEST PULL" in page
    go(ngozi, job, "test", "look")
    assert "Look at every clamp again" in go(ngozi, job, "look", "pulling", 422)
    page = go(ngozi, job, "look", "pulling", **{"tick-clamps": "1"})
    assert "PULL ON, SLOWLY" in page
    assert re.search(r"marks ahead of where it stands: home \d+\.\d, let go", page), "for who has tape or laser alone"

    for far in (-5.0, 0.5):
        moved = np.array((far, 0.0, 0.0))
        ngozi.post(f"/jobs/{job}/readings", setup="1", purpose="point", call=call("F5R", moved), loaded="yes")
    board = board_of(desk.view(job).facts)
    watched = next(point for point in board.points if point.watched.code == "F5R")
    assert watched.loaded and watched.now_mm == pytest.approx(0.5, abs=1.0)
    page = ngozi.get(f"/jobs/{job}/board/now")
    assert 'data-code="F5R"' in page and "data-read=" in page

    page = go(ngozi, job, "pulling", "let_go")
    assert "READ FREE" in page
    assert "Let go and read free" in ngozi.get(f"/jobs/{job}/holds/pulls_done") or "under way" in ngozi.get(
        f"/jobs/{job}/holds/pulls_done"
    )
    read_free(ngozi, job, HOME)
    codes = [point.watched.code for point in board_of(desk.view(job).facts).points]
    typed = {
        f"{name}-{code}": mm for code in codes for name, mm in (("before", "-8"), ("loaded", "+0.5"), ("after", "0"))
    }
    assert "looked" in ngozi.post(f"/jobs/{job}/board/cycle", 422, do="end", **typed)
    ngozi.post(f"/jobs/{job}/board/cycle", do="end", looked="1", dolly="1", **typed)
    facts = desk.view(job).facts
    assert board_of(facts) is None
    assert facts.pull_events[-1].after.dolly and len(facts.pull_events[-1].cycles) == len(codes)
    page = ngozi.get(f"/jobs/{job}/board")
    assert "What the structure gave back" in page and "no new crack" in page
    sign(ngozi, job, "pulls_done")
    record = ngozi.post(f"/jobs/{job}/record")
    assert "<h2>Pulls</h2>" in record
    assert "no new crack; dolly" in record
    assert desk.view(job).state.hold("pulls_done").status == "closed"
    ngozi.post(f"/jobs/{job}/board/begin", pull="1")
    assert desk.view(job).state.hold("pulls_done").status != "closed", "a pull after it opens the hold again"


def test_a_stop_and_two_people_on_one_board(planned, as_role, desk) -> None:
    job, ngozi, solveig = planned, as_role("technician"), as_role("lead")
    ngozi.post(f"/jobs/{job}/board/begin", pull="1")
    assert "under way already" in solveig.post(f"/jobs/{job}/board/begin", 409, pull="1")
    go(ngozi, job, "cautions", "test", **TICKS)
    assert "the board has moved" in go(solveig, job, "cautions", "test", 409, **TICKS)
    page = go(solveig, job, "cautions", "stopped")
    assert "STOP" in page and "data-stop" in page
    assert "STOP" in ngozi.get(f"/jobs/{job}/board"), "it comes back where it was"
    assert "does not go" in go(ngozi, job, "stopped", "ended", 409)
    go(ngozi, job, "stopped", "let_go")
    assert desk.view(job).facts.movements[-1].what == "structure"


def test_a_limit_that_is_passed_under_load_says_stop(planned, as_role, desk) -> None:
    job, ngozi = planned, as_role("technician")
    ngozi.post(f"/jobs/{job}/board/begin", pull="1")
    for seen, state, more in (
        ("cautions", "test", TICKS),
        ("test", "look", {}),
        ("look", "pulling", {"tick-clamps": "1"}),
    ):
        go(ngozi, job, seen, state, **more)
    ngozi.post(
        f"/jobs/{job}/readings", setup="1", purpose="point", call=call("F5R", np.array((150.0, 0, 0))), loaded="yes"
    )
    page = ngozi.get(f"/jobs/{job}/board/now")
    assert "STOP" in page and "past the limit" in page
    assert "nothing to pull here" not in page.split('data-code="F5R"')[1].split("</section>")[0]


def test_the_load_is_shown_and_old_plans_stay(planned, as_role, desk, persons, app) -> None:
    from fairsquare.actions import pulling

    job, ngozi = planned, as_role("technician")
    pulling.read_load(desk, persons["technician"], key(), job, "front left", None, 12.0)
    pulling.read_load(desk, persons["technician"], key(), job, "front right", 23_400.0, None)
    ngozi.post(f"/jobs/{job}/board/begin", pull="1")
    page = ngozi.get(f"/jobs/{job}/board")
    assert ">23.4<" in page
    assert f">{12.0 * 1710 / 1000:.1f}<" in page, "pressure times the ram's area"
    go(ngozi, job, "cautions", "ended")
    page = ngozi.post(
        f"/jobs/{job}/pulls/change", do="keep", pull="1", plan_version="1", purpose="try",
        **{"hook-0": "at F5R", "tower-0": "front right", "height-0": "430", "force-0": "140"},
    )  # fmt: skip
    assert "is more than it takes" in page
    assert "meanwhile" in ngozi.post(f"/jobs/{job}/pulls/change", 409, do="drop", pull="1", plan_version="1")
    assert len(desk.view(job).facts.pull_plans) == 2


def test_towers_are_tried_and_moved_and_bad_settings_name_the_field(planned, as_role, desk) -> None:
    job, ngozi = planned, as_role("technician")
    part = ngozi.get(f"/jobs/{job}/pulls/try?pull=1&tower=front+left&x=3700&y=900&height=600")
    assert "creeps" in part and "keep-clear" in part
    ngozi.post(f"/jobs/{job}/pulls/tower", tower="front left", x="3700", y="900", setting_version="0", pull="1")
    assert setting_of(desk.view(job).facts).towers[0].at == (3700.0, 900.0)
    assert "changed it meanwhile" in ngozi.post(
        f"/jobs/{job}/pulls/tower", 409, tower="front left", x="3700", y="900", setting_version="0", pull="1"
    )
    page = ngozi.get(f"/jobs/{job}/pulls")
    fields = dict(re.findall(r'name="((?:tower|hook|anchor|box)-\d+-\w+|mass_kg|cg_[xyz])"[^>]*value="([^"]*)"', page))
    assert "above 0 kN" in ngozi.post(
        f"/jobs/{job}/pulls/setting", 422, setting_version="1", **{**fields, "tower-0-takes": "0"}
    )
    tied = fields | {"anchor-0-kind": "chain", "anchor-0-toward": "1500 800 -200"}
    assert "three numbers" in ngozi.post(
        f"/jobs/{job}/pulls/setting", 422, setting_version="1", **tied | {"anchor-0-toward": "1500 800"}
    )
    ngozi.post(f"/jobs/{job}/pulls/setting", setting_version="1", **tied)
    assert setting_of(desk.view(job).facts).anchors[0].kind == "chain"
    assert "slack" in ngozi.get(f"/jobs/{job}/pulls") or "It holds" in ngozi.get(f"/jobs/{job}/pulls")
    jack = {
        "machine-0-id": "jack",
        "machine-0-code": "F3L",
        "machine-0-how": "pushes",
        "machine-0-takes": "100",
        "machine-0-bears": "20",
    }
    assert "no point of this sheet" in ngozi.post(
        f"/jobs/{job}/pulls/setting", 422, setting_version="2", **fields | jack | {"machine-0-code": "F99"}
    )
    for wrong, told in (
        ({"no_bearing": "F3L F99"}, "F99 is no point of this sheet"),
        ({"still": "F98"}, "F98 is no point of this sheet"),
        ({"tie-0-id": "bar", "tie-0-between": "F3L"}, "Between which two points"),
        ({"tie-0-id": "bar", "tie-0-between": "F3L F3L"}, "between two different points"),
        ({"tie-0-id": "bar", "tie-0-between": "F3L F97"}, "F97 is no point of this sheet"),
    ):
        assert told in ngozi.post(f"/jobs/{job}/pulls/setting", 422, setting_version="2", **fields | jack | wrong)
    inside = {
        "no_bearing": "C1L, C1R",
        "still": "C2L",
        "tie-0-id": "bar",
        "tie-0-between": "F3L F3R",
        "tie-0-takes": "60",
    }
    ngozi.post(f"/jobs/{job}/pulls/setting", setting_version="2", **fields | jack | inside)
    kept = setting_of(desk.view(job).facts)
    assert (kept.no_bearing, kept.still) == (("C1L", "C1R"), ("C2L",))
    assert (kept.ties[0].between, kept.ties[0].capacity_n) == (("F3L", "F3R"), 60_000.0)
    by_jack = {
        "do": "add",
        "pull": "1",
        "plan_version": "1",
        "purpose": "straighten",
        "tower-0": "jack",
        "force-0": "30",
    }
    weak = ngozi.post(f"/jobs/{job}/pulls/change", 422, **by_jack | {"hook-0": "at F5R", "force-0": "130"})
    assert weak.count("jack takes 100 kN: 130 kN is more.") == 1, "beside its row"
    own = ngozi.post(f"/jobs/{job}/pulls/change", 422, **by_jack | {"hook-0": "at F3L"})
    assert own.count("jack bears on F3L, where its hook is") == 1
    page = ngozi.post(f"/jobs/{job}/pulls/change", **by_jack | {"hook-0": "at F5R", "ties": "bar"})
    assert "tied:" in page
    assert "bears on F3L" in page
    cards = ngozi.get(f"/jobs/{job}/pulls/cards")
    assert "it can kick out" in cards
    assert "Tie bar" in cards
    assert "finger tight" in cards
    assert "F3L, where jack bears, is asked for more than it takes" in page
    assert "It does not hold" in page, "the place it bears on is a link too"
    without = {name: "" if re.fullmatch(r"anchor-\d+-id", name) else value for name, value in fields.items()}
    page = ngozi.post(f"/jobs/{job}/pulls/setting", setting_version="3", **without | jack | inside)
    assert "is free to move" in page, "a rig with no anchor says which way the vehicle is free"
    assert 'name="anchor-0-id"' in page, "and can be given one again"


def test_a_plan_needs_readings_and_a_decision(as_role, desk, persons) -> None:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    assert "There is no sheet" in ngozi.get(f"/jobs/{job}/pulls")
    make_safe(ngozi, job)
    with_sheet(ngozi, job)
    assert "Nothing is measured yet" in ngozi.get(f"/jobs/{job}/pulls")
    assert "Nothing is measured yet" in ngozi.post(f"/jobs/{job}/pulls/find", 422, school="outward", plan_version="0")
    as_role("apprentice").post(f"/jobs/{job}/pulls/find", 403, school="outward", plan_version="0")


def test_the_rig_is_listed_looked_at_and_loud_about_what_nobody_knows(as_role) -> None:
    ngozi = as_role("technician")
    page = ngozi.post("/rig", name="Chain 13 mm", kind="chain", capacity="53", made="maker")
    assert "53.0 kN" in page and "Never looked at" in page
    page = ngozi.post("/rig", name="Welded hook of ours", kind="hook", made="home")
    assert "Home-made, and nobody knows what it takes." in page
    assert "another name" in ngozi.post("/rig", 422, name="Chain 13 mm", kind="chain", made="maker")
    assert "above 0" in ngozi.post("/rig", 422, name="Nothing", kind="chain", capacity="0", made="maker")
    item = re.search(r'action="/rig/(\d+)/look"', page).group(1)
    assert "today" in ngozi.post(f"/rig/{item}/look", found="sound")
    assert "Say what is wrong" in ngozi.post(f"/rig/{item}/look", 422, found="hurt")
    page = ngozi.get("/rig?place=tab_weld&thickness_mm=2&rm_mpa=400&length_mm=50&factor=2")
    assert "8.1 kN" in page and "the weld" in page
    assert "reaches the edge" in ngozi.get("/rig?place=hole&thickness_mm=2&rm_mpa=400&diameter_mm=20&edge_mm=9")


def test_what_a_persons_plan_does_is_that_of_the_frame(planned, desk) -> None:
    facts = desk.view(planned).facts
    plan, setting = plan_of(facts).plan, setting_of(facts)
    request = plan_request(facts.sheet, places_now(facts), setting, plan.school)
    seen = seen_plan(request, setting, plan)
    assert seen.held[0] is not None and not seen.held[0].over
    assert seen.played.pulls[0].chains[0].force_n == 40_000


def test_pieces_of_the_rig_are_chosen_and_bring_what_they_take(as_role, planned, desk, persons) -> None:
    ngozi, job = as_role("technician"), planned
    pull_plans.add_gear(desk, persons["lead"], key(), "Post by the door", "post", 77_000.0, None, "maker", "")
    pull_plans.add_gear(desk, persons["lead"], key(), "Hook off the crane", "hook", None, None, "home", "")
    setting = setting_of(desk.view(job).facts)
    page = ngozi.get(f"/jobs/{job}/pulls")
    assert "Post by the door" in page and 'name="tower-0-piece"' in page
    fields = typed_setting(setting)
    number = [t.id for t in setting.towers].index("front right")
    hook = [h.id for h in setting.hooks].index("at F5R")
    fields |= {f"tower-{number}-piece": "Post by the door", f"hook-{hook}-piece": "Hook off the crane"}
    fields |= {f"hook-{hook}-takes": ""}
    version = desk.view(job).facts.pull_settings[-1].version if desk.view(job).facts.pull_settings else 0
    ngozi.post(f"/jobs/{job}/pulls/setting", setting_version=str(version), **fields)
    kept = setting_of(desk.view(job).facts)
    placed = next(t for t in kept.towers if t.id == "front right")
    assert placed.piece == "Post by the door" and placed.capacity_n == 77_000.0
    work = WorkPull(chains=(ChainSet(hook="at F5R", tower="front right", height_mm=430, force_n=20_000),))
    said = pull_plans.gear_words(desk, kept, work)
    assert said == (
        "Hook off the crane: Home-made, and nobody knows what it takes.",
        "Post by the door: Never looked at.",
    )
    gone = {**fields, f"tower-{number}-piece": "a rope"}
    now = desk.view(job).facts.pull_settings[-1].version
    assert "no such piece" in ngozi.post(f"/jobs/{job}/pulls/setting", 422, setting_version=str(now), **gone)


def typed_setting(setting) -> dict[str, str]:
    """Return a setting as its form sends it."""
    fields = {"mass_kg": f"{setting.mass_kg}", **dict(zip(("cg_x", "cg_y", "cg_z"), map(str, setting.cg), strict=True))}
    for k, t in enumerate(setting.towers):
        fields |= {f"tower-{k}-id": t.id, f"tower-{k}-x": str(t.at[0]), f"tower-{k}-y": str(t.at[1])}
        fields |= {f"tower-{k}-low": str(t.z[0]), f"tower-{k}-high": str(t.z[1]), f"tower-{k}-takes": "120"}
    for k, h in enumerate(setting.hooks):
        fields |= {f"hook-{k}-id": h.id, f"hook-{k}-code": h.code, f"hook-{k}-kind": h.kind, f"hook-{k}-takes": "90"}
    for k, a in enumerate(setting.anchors):
        fields |= {f"anchor-{k}-id": a.id, f"anchor-{k}-code": a.code, f"anchor-{k}-kind": a.kind}
        fields |= {f"anchor-{k}-stiff": str(a.stiffness), f"anchor-{k}-takes": "120"}
    for k, (name, box) in enumerate(setting.boxes.items()):
        fields |= {f"box-{k}-id": name, f"box-{k}-h": str(box.height_mm), f"box-{k}-w": str(box.width_mm)}
        fields |= {f"box-{k}-t": str(box.wall_mm), f"box-{k}-y": str(box.yield_mpa)}
    return fields


def test_the_frame_is_changed_member_by_member(as_role, planned, desk) -> None:
    ngozi, job = as_role("technician"), planned
    page = ngozi.get(f"/jobs/{job}/pulls")
    assert 'name="frame-out" value="F5L F4L"' in page
    setting = setting_of(desk.view(job).facts)
    fields = typed_setting(setting) | {"frame-out": "F3L F3R"}
    fields |= {"corner-0-id": "tower left", "corner-0-at": "1800 560 820"}
    fields |= {"member-0-id": "F3L tower", "member-0-section": "across"}
    now = desk.view(job).facts.pull_settings[-1].version if desk.view(job).facts.pull_settings else 0
    refused = ngozi.post(f"/jobs/{job}/pulls/setting", 422, setting_version=str(now), **fields)
    assert "tower is no point of the sheet and no corner" in refused
    fields |= {"corner-0-id": "T9L", "member-0-id": "F3L T9L", "member-1-id": "T9L C2L", "member-1-section": "across"}
    ngozi.post(f"/jobs/{job}/pulls/setting", setting_version=str(now), **fields)
    kept = setting_of(desk.view(job).facts)
    assert kept.members_out == ("F3L F3R",) and kept.corners == {"T9L": (1800.0, 560.0, 820.0)}
    assert [(m.i, m.j) for m in kept.members_in] == [("F3L", "T9L"), ("T9L", "C2L")]
    assert "From where to where?" in ngozi.post(
        f"/jobs/{job}/pulls/setting", 422, setting_version=str(now + 1), **{**fields, "member-0-id": "F3L"}
    )


def test_what_driving_takes_back_is_learned_apart(as_role, planned, desk, persons) -> None:
    ngozi, job, lead = as_role("technician"), planned, persons["lead"]
    page = ngozi.post(f"/jobs/{job}/board/settle", 409, do="settle", how="driven", words="")
    assert "Nothing that was pulled is read free yet" in page
    ngozi.post(f"/jobs/{job}/board/begin", pull="1")
    for seen, state, more in (
        ("cautions", "test", TICKS),
        ("test", "look", {}),
        ("look", "pulling", {"tick-clamps": "1"}),
        ("pulling", "let_go", {}),
    ):
        go(ngozi, job, seen, state, **more)
    read_free(ngozi, job, {"F5R": np.array((0.0, 0.0, 0.0)), "F5L": np.array((0.0, 0.0, 0.0))})
    board = board_of(desk.view(job).facts)
    cycles = tuple(
        PointCycle(code=p.watched.code, before_mm=p.watched.was_mm, loaded_mm=p.now_mm + 5, after_mm=p.now_mm)
        for p in board.points
    )
    pulling.close_cycle(desk, lead, key(), job, cycles, again=False, after=AfterPull())
    ways = pulled_ways(desk.view(job).facts)
    assert "Say what is done with it" in ngozi.post(f"/jobs/{job}/board/settle", 422, do="settle", how="washed")
    page = ngozi.post(f"/jobs/{job}/board/settle", do="settle", how="driven", words="twice round, empty")
    assert "Driven round the yard: twice round, empty" in page and desk.view(job).setup is None
    assert "Not read again yet" in ngozi.post(f"/jobs/{job}/board/settle", 409, do="read")
    with_references(ngozi, job, setup=2)
    sign(ngozi, job, "setup_accepted")
    for code, way in ways.items():
        ngozi.post(f"/jobs/{job}/readings", setup="2", purpose="point", call=call(code, -2.0 * np.array(way), setup=2))
    page = ngozi.post(f"/jobs/{job}/board/settle", do="read")
    found = learned(desk.view(job).facts, "driven")
    assert found.mean_mm == pytest.approx(2.0, abs=0.8) and found.readings == len(ways)
    assert learned(desk.view(job).facts, "loaded") is None
    assert "taken back when driven round the yard" in re.sub(r"\s+", " ", page)
    assert "it took back" in ngozi.get(f"/jobs/{job}/pulls")
    assert board_of(desk.view(job).facts) is None, "and it is not mixed with what comes back when a chain is let go"
    assert "Nothing was driven or loaded" in ngozi.post(f"/jobs/{job}/board/settle", 409, do="read")


def test_the_board_of_the_api_says_what_the_page_says(as_role, planned, app) -> None:
    ngozi, job = as_role("technician"), planned
    ngozi.post(f"/jobs/{job}/board/begin", pull="1")
    go(ngozi, job, "cautions", "test", **TICKS)
    lead = next(one for one in SIGN_INS if one.role == "lead")
    http = TestClient(app)
    http.event_hooks = {"response": [read_it]}
    token = http.post("/api/v1/session", json={"name": lead.name, "password": lead.password}).json()["token"]
    shown = http.get(f"/api/v1/jobs/{job}/board", headers={"authorization": f"Bearer {token}"}).json()
    assert (shown["stop"], shown["say"]) == (False, "LIGHT TEST PULL")
    assert "LIGHT TEST PULL" in ngozi.get(f"/jobs/{job}/board/now")
    go(ngozi, job, "test", "stopped")
    shown = http.get(f"/api/v1/jobs/{job}/board", headers={"authorization": f"Bearer {token}"}).json()
    assert (shown["stop"], shown["say"], shown["why"]) == (True, "STOP", "say why, look, then go on or let go")


def test_a_weakest_link_is_let_go_before_it_is_full(as_role, planned, desk, persons) -> None:
    ngozi, job = as_role("technician"), planned
    ngozi.post(f"/jobs/{job}/board/begin", pull="1")
    for seen, state, more in (
        ("cautions", "test", TICKS),
        ("test", "look", {}),
        ("look", "pulling", {"tick-clamps": "1"}),
    ):
        go(ngozi, job, seen, state, **more)
    pulling.read_load(desk, persons["technician"], key(), job, "front left", 39_000.0, None)
    assert "of what it takes: " not in ngozi.get(f"/jobs/{job}/board/now")
    view = desk.view(job)
    gear = pulling.fullest_now(desk, view, board_of(view.facts))
    nearly = 39_000.0 * 0.97 / gear.use
    pulling.read_load(desk, persons["technician"], key(), job, "front left", nearly, None)
    page = ngozi.get(f"/jobs/{job}/board/now")
    assert "LET GO" in page and "is at 97% of what it takes: let go" in page, "it is let go before it is full"
    go(ngozi, job, "pulling", "let_go")
    page = ngozi.get(f"/jobs/{job}/board/now")
    assert "STOP" not in page and "of what it takes: " not in page
    view = desk.view(job)
    assert pulling.fullest_now(desk, view, board_of(view.facts)).let_go, "and it is known that it can give no more"


def test_a_weakest_link_beyond_what_it_takes_says_stop(as_role, planned, desk, persons) -> None:
    ngozi, job = as_role("technician"), planned
    ngozi.post(f"/jobs/{job}/board/begin", pull="1")
    for seen, state, more in (
        ("cautions", "test", TICKS),
        ("test", "look", {}),
        ("look", "pulling", {"tick-clamps": "1"}),
    ):
        go(ngozi, job, seen, state, **more)
    pulling.read_load(desk, persons["technician"], key(), job, "front left", 95_000.0, None)
    page = ngozi.get(f"/jobs/{job}/board/now")
    assert "STOP" in page and re.search(r"is at 10\d% of what it takes: no more, let go", page)


def test_a_frame_that_falls_apart_is_told_and_the_plan_waits(as_role, planned, desk) -> None:
    ngozi, job = as_role("technician"), planned
    fields = typed_setting(setting_of(desk.view(job).facts))
    now = desk.view(job).facts.pull_settings[-1].version if desk.view(job).facts.pull_settings else 0
    page = ngozi.post(
        f"/jobs/{job}/pulls/setting",
        setting_version=str(now),
        **fields,
        **{"frame-out": ["F5L F4L", "F5R F4R"]},
    )
    assert "No plan yet." in page and re.search(r"without straining|mechanism|can move", page)
    assert "F5L F4L" in page and "left out" in page, "and it can be put right on the same page"


def test_a_frame_is_held_by_ties_and_stands_where_that_is_chosen(as_role, planned, desk) -> None:
    ngozi, job = as_role("technician"), planned
    setting = setting_of(desk.view(job).facts)
    now = desk.view(job).facts.pull_settings[-1].version if desk.view(job).facts.pull_settings else 0
    page = ngozi.post(f"/jobs/{job}/pulls/setting", setting_version=str(now), **typed_setting(setting), hold_by="ties")
    kept = setting_of(desk.view(job).facts)
    assert [a.kind for a in kept.anchors] == ["chain", "stand"] * 4
    front = next(a for a in kept.anchors if a.id == "tie C1L")
    assert front.toward[0] > 1016 and front.toward[1] > 548 and front.toward[2] < 180, "outward, down to the floor"
    assert "tie C1L" in page and "It holds" in page
    _, _, request = pull_plans.request_of(desk.view(job).facts)
    assert {one.id for one in request.rig.anchors} == {f"tie {code}" for code in ("C1L", "C1R", "C3L", "C3R")}


def test_a_persons_plan_that_makes_the_vehicle_worse_says_so_loudly(planned, as_role) -> None:
    job, ngozi = planned, as_role("technician")
    assert "It makes the vehicle worse" not in ngozi.get(f"/jobs/{job}/pulls")
    aside = {"hook-0": "at F5L", "tower-0": "left front", "height-0": "430", "force-0": "88", "purpose": "straighten"}
    page = ngozi.post(f"/jobs/{job}/pulls/change", plan_version="1", pull="1", school="outward", do="add", **aside)
    assert "It makes the vehicle worse, by calculation:" in page
    assert "which is fair now" in page
