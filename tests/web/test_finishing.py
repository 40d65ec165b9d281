"""From the dry fit to the handing over: what opens the hold again through every door, and that nothing gets round it."""

import json
import re
from io import BytesIO

import pymysql
import pytest
from pypdf import PdfReader

from fairsquare.actions import finishing, gaps, measuring
from fairsquare.files.records import check_record
from fairsquare.job.facts.done import Finished, FinishItem, LeftOut, OutsideWork, WeldMade
from fairsquare.job.fit.job import gap_states
from fairsquare.job.moves import MOVES, SIMPLE
from fairsquare.store.nodes import connect_arguments
from fairsquare.words.tell import tell
from tests.conftest import key
from tests.web.fitting import (
    LID,
    SEAM,
    coupon,
    fit_on_rack_and_wheels,
    let_down,
    prove,
    read_gap,
    read_points,
    read_spans,
    ready_job,
    set_up,
    sign,
)


@pytest.fixture(scope="module")
def proven(desk, persons) -> str:
    """A job whose fit is accepted; what tests move in it they prove again."""
    job = ready_job(desk, persons)
    prove(desk, persons, job)
    return job


def by_page(pages, job: str, what: str) -> None:
    pages.post(f"/jobs/{job}/moved", what=what, words="by the page of measuring", at="measure")


def by_fit_page(pages, job: str, what: str) -> None:
    pages.post(f"/jobs/{job}/fit/moved", what=what, words="by the page of the fit")


def by_api(pages, job: str, what: str) -> None:
    token = pages.http.post("/api/v1/session", json={"name": "ngozi", "password": "tide-tables-40"}).json()["token"]
    sent = {"request_key": key(), "what": what, "words": "by the API"}
    answer = pages.http.post(f"/api/v1/jobs/{job}/movements", json=sent, headers={"authorization": f"Bearer {token}"})
    assert answer.status_code == 201, answer.text


DOORS = {"measuring page": by_page, "fit page": by_fit_page, "API": by_api}
OPENS_PULLS = {"structure", "heat", "heavy", "drop"}
VOIDS = {"vehicle", "bench", "bridge", "drop"}


@pytest.mark.parametrize("door", DOORS)
@pytest.mark.parametrize("what", SIMPLE)
def test_every_move_through_every_door_opens_what_it_has_to(as_role, desk, persons, proven, what, door) -> None:
    if desk.view(proven).state.hold("fit_accepted").status != "closed":
        prove(desk, persons, proven)
    DOORS[door](as_role("technician"), proven, what)
    state = desk.view(proven).state
    opened = {hold.name for hold in state.holds if hold.status != "closed"} - {"released"}
    expected = set() if what == "sight" else {"fit_accepted"} | ({"setup_accepted"} if what in VOIDS else set())
    assert opened == expected
    if what == "sight":
        return
    nobody_signs(as_role("lead"), desk, proven)


def nobody_signs(lead, desk, job: str) -> None:
    """The lead, with a reason, by the page, by a post with the evidence as it is, and by the API: all refused."""
    hold = desk.view(job).state.hold("fit_accepted")
    assert hold.blocked
    seen = json.dumps(hold.evidence)
    page = lead.post(f"/jobs/{job}/holds/fit_accepted", 409, seen=seen, reason="it looks home to me, and time is short")
    assert "Not yet:" in page
    token = lead.http.post("/api/v1/session", json={"name": "solveig", "password": "north-light-12"}).json()["token"]
    sent = {"request_key": key(), "seen": hold.evidence, "reason": "it looks home to me, and time is short"}
    headers = {"authorization": f"Bearer {token}"}
    answer = lead.http.post(f"/api/v1/jobs/{job}/holds/fit_accepted/sign", json=sent, headers=headers)
    assert answer.status_code == 409
    assert answer.json()["detail" if "detail" in answer.json() else "title"].startswith("Not yet")


def test_special_moves_are_not_simply_recorded(as_role, proven) -> None:
    for what in set(MOVES) - set(SIMPLE) - {"lowered"}:
        assert "has a place of its own" in as_role("technician").post(f"/jobs/{proven}/fit/moved", 422, what=what)
    assert "Say what moved" in as_role("technician").post(f"/jobs/{proven}/fit/moved", 422, what="moon")


def test_loaded_and_missing_readings_stand_in_the_way_of_everyone(as_role, desk, persons) -> None:
    job = ready_job(desk, persons)
    ngozi, solveig = as_role("technician"), as_role("lead")
    assert "Gaps are read on the rack" not in ngozi.get(f"/jobs/{job}/fit")
    assert "The gap check is not made" in ngozi.get(f"/jobs/{job}/holds/fit_accepted")
    nobody_signs(solveig, desk, job)
    read_gap(ngozi, job)
    assert f"Gaps not read on the wheels: {LID}" in ngozi.get(f"/jobs/{job}/fit")
    assert "Before it is let down, read three spans" in ngozi.get(f"/jobs/{job}/fit")
    read_spans(ngozi, job)
    let_down(ngozi, job)
    assert "on its wheels by the log" in let_down(ngozi, job, 409)
    assert "Read the same spans again on the wheels" in ngozi.get(f"/jobs/{job}/fit")
    nobody_signs(solveig, desk, job)
    refused = ngozi.post(f"/jobs/{job}/readings", 409, setup="1", call="f5r 1 2 3", unit="mm")
    assert "only spans are read now" in refused
    read_spans(ngozi, job, off=4.0)
    assert "Spans differ from before it was let down" in ngozi.get(f"/jobs/{job}/fit")
    nobody_signs(solveig, desk, job)
    read_spans(ngozi, job)
    assert "proof stands on the wheels" in ngozi.get(f"/jobs/{job}/fit")
    read_gap(ngozi, job, "6")
    hold = desk.view(job).state.hold("fit_accepted")
    assert [tell(m.said) for m in hold.missing if m.overridable] == [f"Gaps out of tolerance: {LID}."]
    read_gap(ngozi, job)
    sign(desk, persons["lead"], job, "fit_accepted")
    assert desk.view(job).state.may_weld


def test_gaps_are_called_where_they_are_listed_and_a_contradiction_is_settled(as_role, desk, persons) -> None:
    job = ready_job(desk, persons)
    ngozi = as_role("technician")
    listed = {
        "panel-0-name": "door",
        "panel-0-drop": "2",
        "hinge-0-panel": "door",
        "hinge-0-id": "upper",
        "hinge-0-at": "1000 700 900",
        "hinge-0-length": "3",
        "hinge-0-width": "-2 to 2",
        "hinge-0-height": "3",
        "hinge-1-panel": "door",
        "hinge-1-id": "lower",
        "hinge-1-at": "1000 700 400",
        "hinge-1-length": "3",
        "hinge-1-width": "2",
        "hinge-1-height": "3",
        "gap-0-place": "door rear top",
        "gap-0-panel": "door",
        "gap-0-way": "rearward",
        "gap-0-at": "0 700 900",
        "gap-0-target": "4",
        "gap-0-tolerance": "1",
        "gap-0-near": "c2l",
        "gap-1-place": "door top flush",
        "gap-1-panel": "door",
        "gap-1-way": "left",
        "gap-1-flush": "yes",
        "gap-1-at": "500 720 900",
        "gap-1-target": "0",
        "gap-1-tolerance": "0.5",
        "version": "0",
    }
    base = f"/jobs/{job}/fit/list"
    no_target = ngozi.post(base, 422, **{**listed, "gap-0-target": ""})
    assert "Without a target it says nothing" in no_target
    assert 'value="door rear top"' in no_target, "what was typed is still there"
    no_range = ngozi.post(base, 422, **{**listed, "hinge-0-length": "", "hinge-0-width": "", "hinge-0-height": ""})
    assert "upper has no range" in no_range
    assert "should hold 0" in ngozi.post(base, 422, **{**listed, "hinge-0-height": "1 to 3"})
    assert "List the panel first" in ngozi.post(base, 422, **{**listed, "hinge-0-panel": "bonnet"})
    assert "Did you mean" in ngozi.post(base, 422, **{**listed, "gap-0-near": "C2Q"})
    ngozi.post(base, **listed)
    assert "changed this meanwhile" in ngozi.post(base, 409, **listed)
    gaps = f"/jobs/{job}/gaps"
    unlisted = ngozi.post(gaps, 422, call="gap boot lid left 4", unit="mm")
    assert "is not listed, so nobody knows what it should be" in unlisted
    assert "Did you mean “door rear top”" in ngozi.post(gaps, 422, call="gap door rear toop 4", unit="mm")
    assert "are said of flushness" in ngozi.post(gaps, 422, call="gap door rear top 4 proud", unit="mm")
    said = ngozi.get(f"/jobs/{job}/fit/understood?call=gap+door+rear+top+7.5&unit=mm")
    assert "door rear top" in said
    assert "wide" in said
    ngozi.post(gaps, call="gap door rear top 7.5", unit="mm")
    ngozi.post(gaps, call="flush door top 0.2 proud", unit="mm")
    easy = ngozi.post(gaps, 422, place="Door rear top", said="7.5", target="7", tolerance="3", unit="mm")
    assert "door rear top is listed with 4 mm ± 1 mm" in easy, "nobody makes a gap fit by saying so"
    page = ngozi.get(f"/jobs/{job}/fit/panels")
    assert "Look at the hinges first: upper, lower" in page
    assert "Move the hinges as written" in page
    for hinge in ("upper", "lower"):
        ngozi.post(f"/jobs/{job}/fit/panels", do="hinge", panel="door", hinge=hinge, state="sound")
    ngozi.post(f"/jobs/{job}/fit/panels", do="hung", panel="door", off="no", minutes="20")
    ngozi.post(f"/jobs/{job}/fit/panels", do="hung", panel="door", off="yes", minutes="5")
    page = ngozi.get(f"/jobs/{job}/fit/panels")
    assert "hung 1 time, 25 min of work" in page
    assert all(one.last is None for one in gap_states(desk.view(job).facts)), "it was not hung when its gaps were read"
    assert "before its panel was recorded as hung" in ngozi.get(f"/jobs/{job}/fit")
    ngozi.post(gaps, call="gap door rear top 7.5", unit="mm")
    ngozi.post(gaps, call="flush door top 0.2 proud", unit="mm")
    fit = ngozi.get(f"/jobs/{job}/fit")
    assert "Home by reading, out by eye." in fit
    finding = re.search(r'name="finding" value="([^"]+)"', fit).group(1)
    assert "Write the reason" in ngozi.post(f"/jobs/{job}/fit/settle", 422, finding=finding, reason="no")
    ngozi.post(f"/jobs/{job}/fit/settle", finding=finding, reason="the hinges are new and not set yet")
    assert "Settled by Ngozi Adeyemi" in ngozi.get(f"/jobs/{job}/fit")
    assert "not there any more" in ngozi.post(f"/jobs/{job}/fit/settle", 409, finding="fit x 1", reason="a long reason")


def test_from_the_wheels_back_to_the_rack_points_are_watched_again(as_role, desk, persons) -> None:
    job, technician = ready_job(desk, persons), persons["technician"]
    ngozi = as_role("technician")
    fit_on_rack_and_wheels(ngozi, job)
    page = ngozi.get(f"/jobs/{job}/fit")
    assert "It is back on the rack: set up anew" in page and "the reference points, then every point" in page
    assert desk.view(job).setup.left
    set_up(desk, technician, job)
    read_points(desk, technician, job)
    after = desk.view(job)
    assert not after.setup.left, "what is read from now on is read on the rack"
    assert [bool(one.rack and one.wheels) for one in gap_states(after.facts)] == [True], "gaps hold"
    assert not after.state.hold("fit_accepted").missing
    sign(desk, persons["lead"], job, "fit_accepted")
    setup = after.setup.number
    measuring.order_readings(desk, technician, key(), job, setup, "watch", ["F5R"])
    read_points(desk, technician, job, "watch", ["F5R"])
    assert "It is back on the rack" not in ngozi.get(f"/jobs/{job}/fit")


def test_openings_and_fixtures(as_role, desk, persons) -> None:
    job = ready_job(desk, persons)
    ngozi = as_role("technician")
    spans = {"spans-ab": "1000", "spans-bc": "800", "spans-cd": "1000", "spans-da": "800"}
    target = {
        f"target-{name}": v
        for name, v in zip(
            ("ab", "bc", "cd", "da", "ac", "bd"), ("1000", "800", "1000", "800", "1280.6", "1280.6"), strict=True
        )
    }
    base = f"/jobs/{job}/fit/panels"
    page = ngozi.post(
        base, do="opening", name="tailgate", **spans, **{"spans-ac": "1286", "spans-bd": "1275.2"}, **target
    )
    assert "out of square" in page
    assert "draw it in across AC" in page
    assert "A length is missing" in ngozi.post(base, 422, do="opening", name="tailgate", **spans, **target)
    assert "Four corners in order" in ngozi.post(
        base, 422, do="opening", name="x", corners="R1L R2L", **spans, **{"spans-ac": "1", "spans-bd": "1"}
    )
    page = ngozi.post(base, do="fixture", tool="tram", a="r1l", b="f5r", mm="3866.1", flat="no")
    assert "R1L F5R" in page
    assert "A span has two ends" in ngozi.post(base, 422, do="fixture", tool="tram", a="r1l", b="r1l", mm="10")


@pytest.fixture
def welding(desk, persons) -> str:
    """A job with a seam planned and its coupon accepted, proven and signed."""
    job = ready_job(desk, persons)
    seam = finishing.say_seam(desk, persons["technician"], key(), job, 0, SEAM, 0)
    finishing.note(desk, persons["lead"], key(), job, coupon(seam))
    prove(desk, persons, job)
    return job


def weld(pages, job: str, name: str, look: str = "good", status: int = 200) -> str:
    return pages.post(f"/jobs/{job}/seams/1/log", status, weld=name, settings="70 A", look=look)


def test_a_seam_is_welded_in_its_order_with_a_drift_in_the_middle(as_role, desk, persons, welding) -> None:
    ngozi, solveig = as_role("technician"), as_role("lead")
    page = ngozi.get(f"/jobs/{welding}/seams/1")
    assert "It is in, and good" in page
    assert "c comes after a, b" in weld(ngozi, welding, "c", status=409)
    assert "There is no weld z" in weld(ngozi, welding, "z", status=422)
    weld(ngozi, welding, "a")
    assert "comes off after 2 welds; 1 are in" in ngozi.post(f"/jobs/{welding}/seams/1/holder", 409, holder="clamp 1")
    weld(ngozi, welding, "b", "crack")
    assert "b, c" in ngozi.post(f"/jobs/{welding}/weld", 409)
    weld(ngozi, welding, "b")
    ngozi.post(f"/jobs/{welding}/seams/1/holder", holder="clamp 1")
    assert desk.view(welding).state.may_weld, "a clamp that only held the part came off as planned"
    assert "is not planned to come off" in ngozi.post(f"/jobs/{welding}/seams/1/holder", 422, holder="clamp 9")
    desk_setup(desk, persons, welding)
    read_points(desk, persons["technician"], welding, "watch", ["F5R"], (2.2, 0.0, 0.0))
    assert "drifts" in ngozi.get(f"/jobs/{welding}/seams/1")
    assert desk.view(welding).state.may_weld
    read_points(desk, persons["technician"], welding, "watch", ["F5R"], (5.0, 0.0, 0.0))
    assert "STOP: out of tolerance" in ngozi.get(f"/jobs/{welding}/seams/1")
    refused = weld(ngozi, welding, "c", status=409)
    assert "Out of tolerance while welding: F5R by 5.0 mm" in refused
    nobody_signs(solveig, desk, welding)
    log = [one.what.look for one in desk.view(welding).facts.done if one.kind == "weld"]
    assert log == ["good", "crack", "good"], "cracks are kept"


def desk_setup(desk, persons, job: str) -> None:
    """Set up again after it was let down, and prove it, so that points can be watched."""
    if desk.view(job).setup.left is not None:
        technician = persons["technician"]
        set_up(desk, technician, job)
        read_points(desk, technician, job)
        gaps.read_gap(desk, technician, key(), job, LID, "4.2", "4", "1", "mm")
        sign(desk, persons["lead"], job, "fit_accepted")


def test_nothing_is_welded_before_the_fit_is_accepted(as_role, desk, persons) -> None:
    job = ready_job(desk, persons)
    finishing.say_seam(desk, persons["technician"], key(), job, 0, SEAM, 0)
    ngozi = as_role("technician")
    assert "nothing is welded for good" in weld(ngozi, job, "a", status=409)
    token = ngozi.http.post("/api/v1/session", json={"name": "ngozi", "password": "tide-tables-40"}).json()["token"]
    made = WeldMade(seam=1, weld="a", process="plug", settings="70 A", look="good").model_dump()
    answer = ngozi.http.post(
        f"/api/v1/jobs/{job}/done",
        json={"request_key": key(), "done": made},
        headers={"authorization": f"Bearer {token}"},
    )
    assert answer.status_code == 409
    assert "nothing is welded for good" in answer.text
    assert "nothing can have been welded" in ngozi.post(f"/jobs/{job}/weld", 409)
    hold = desk.view(job).state.hold("fit_accepted")
    assert any("no accepted coupon for these sheets, none is made" in tell(missing.said) for missing in hold.missing)


def test_a_seam_that_cannot_be(as_role, desk, persons) -> None:
    job = ready_job(desk, persons)
    ngozi = as_role("technician")
    typed = {
        "name": "rail",
        "process": "plug",
        "metal": "steel",
        "sheets": "18 ga + 16 ga",
        "method": "mag",
        "volts": "17",
        "amperes": "70",
        "seconds": "2",
        "weld-0-id": "a",
        "weld-0-along": "0",
        "weld-0-stage": "1",
        "version": "0",
    }
    base = f"/jobs/{job}/seams/0/plan"
    assert "cannot come after itself" in ngozi.post(base, 422, **typed, **{"weld-0-follows": "a"})
    assert "There is no weld q" in ngozi.post(base, 422, **typed, **{"weld-0-follows": "q"})
    circle = {"weld-0-follows": "b", "weld-1-id": "b", "weld-1-along": "40", "weld-1-stage": "1", "weld-1-follows": "a"}
    page = ngozi.post(base, 422, **typed, **circle)
    assert "Weld a would come after itself" in page
    assert "weld 1, follows" in page, "the row is named"
    assert "gauge numbers 3 to 28" in ngozi.post(base, 422, **{**typed, "sheets": "40 ga + 16 ga"})
    assert "Two or three sheets" in ngozi.post(base, 422, **{**typed, "sheets": "1.2"})
    assert "This is above 0" in ngozi.post(base, 422, **{**typed, "seconds": "0"})
    assert "above the air" in ngozi.post(base, 422, **{**typed, "limit_c": "10"})
    assert "Did you mean" in ngozi.post(base, 422, **{**typed, "watch": "F5Q"})
    page = ngozi.post(base, **typed)
    assert "18 ga (Manufacturers&#39; Standard Gauge, steel)" in page
    assert "Start on the coupon" in page
    plan = desk.view(job).facts.said[-1].seam
    assert plan.sheets_mm == pytest.approx((1.214, 1.519), abs=1e-3)
    refused = ngozi.post(f"/jobs/{job}/seams/1/coupon", 422, settings="70 A", made_by="N", end="let_go", accepted="yes")
    assert "is not accepted" in refused


def test_waits_stand_in_the_order_and_the_heat_follows_the_slider(as_role, desk, persons) -> None:
    job = ready_job(desk, persons)
    close = tuple(one.model_copy(update={"along_mm": one.along_mm / 4}) for one in SEAM.welds)
    plan = SEAM.model_copy(update={"limit_c": 90.0, "max_wait_s": 1.0, "welds": close})
    finishing.say_seam(desk, persons["technician"], key(), job, 0, plan, 0)
    page = as_role("technician").get(f"/jobs/{job}/seams/1")
    assert "Waits longer than 1 s: before" in page
    order = desk.view(job).facts.said[0].seam
    assert order.limit_c == 90.0
    assert len(re.findall(r'<td class="n">\d+<small>s</small></td><td class="n">\d+<small>s</small>', page)) >= 2
    first = as_role("technician").get(f"/jobs/{job}/seams/1/heat?t=0")
    later = as_role("technician").get(f"/jobs/{job}/seams/1/heat?t=4")
    assert 'rect class="heat' not in first
    assert 'rect class="heat' in later
    assert as_role("technician").get(f"/jobs/{job}/seams/1/heat?t=1e30").count("<svg") == 1
    assert as_role("technician").get(f"/jobs/{job}/seams/1/heat?t=nan").count("<svg") == 1
    as_role("technician").get(f"/jobs/{job}/seams/9", 422)


def test_clocks(as_role, desk, persons, url) -> None:
    job = ready_job(desk, persons)
    ngozi = as_role("technician")
    base = f"/jobs/{job}/clocks"
    for minutes in ("0", "-5", "99999", ""):
        assert "minutes" in ngozi.post(base, 422, label="foam sets", minutes=minutes)
    assert "What does it count" in ngozi.post(base, 422, label="", minutes="15")
    ngozi.post(base, label="foam sets", minutes="15", kind="other")
    assert re.search(r"14:5\d", ngozi.get("/clocks/strip"))
    assert "foam sets" in ngozi.get("/clocks")
    by_hand(url, "UPDATE clock SET at = at - INTERVAL 10 MINUTE")
    assert re.search(r"4:5\d", ngozi.get("/clocks/strip")), "ten minutes went by"
    by_hand(url, "UPDATE clock SET at = at - INTERVAL 10 MINUTE")
    assert "+5:0" in ngozi.get("/clocks")
    by_hand(url, "UPDATE clock SET at = UTC_TIMESTAMP(6) + INTERVAL 1 HOUR")
    strip = ngozi.get("/clocks/strip")
    assert "15:00" in strip, "it never counts more than it was set to"
    assert "time was put back: not sure" in strip
    number = desk.view(job).facts.clocks[0].id
    ngozi.post(f"{base}/{number}/end")
    assert "foam sets" not in ngozi.get("/clocks/strip")
    assert "There is no such clock" in ngozi.post(f"{base}/999999/end", 422)


def by_hand(url: str, sql: str) -> None:
    connection = pymysql.connect(**{**connect_arguments(url), "autocommit": True})
    connection.cursor().execute(sql)
    connection.close()


def test_bonding_says_before_a_cartridge_is_opened_whether_the_steps_fit(as_role, desk, persons) -> None:
    job = ready_job(desk, persons)
    ngozi = as_role("technician")
    typed = {
        "temperature_c": "30",
        "product-0-id": "foam",
        "product-0-kind": "foam",
        "product-0-open": "15",
        "product-0-cure": "60",
        "step-0-id": "fill",
        "step-0-minutes": "5",
        "step-0-opens": "foam",
        "step-1-id": "close",
        "step-1-minutes": "6",
        "step-1-closes": "foam",
        "surface-0-place": "flange",
        "surface-0-kind": "bonded",
        "surface-0-gets": "weld primer, adhesive",
        "version": "0",
    }
    base = f"/jobs/{job}/bond/plan"
    assert "above 0 minutes" in ngozi.post(base, 422, **{**typed, "product-0-open": "0"})
    assert "foam" in ngozi.post(base, 422, **{**typed, "step-0-opens": ""})
    page = ngozi.post(base, **typed)
    assert "do not open a cartridge" in page
    assert "adhesive does not hold on weld-through primer" in page
    assert "foam: the steps take 11 min, it stays workable for 8 min" in page
    ngozi.post(base, **{**typed, "temperature_c": "20", "surface-0-gets": "bare, adhesive", "version": "1"})
    assert "The steps fit" in ngozi.get(f"/jobs/{job}/bond")
    ngozi.post(f"/jobs/{job}/clocks", kind="open", product="foam", label="foam is workable", minutes="15")
    twice = ngozi.post(f"/jobs/{job}/clocks", 409, kind="open", product="foam", label="foam is workable", minutes="15")
    assert "that clock runs already" in twice
    assert [move.what for move in desk.view(job).facts.movements] == ["foam"], "foam that is opened swells"
    (clock,) = desk.view(job).facts.clocks
    ngozi.post(f"/jobs/{job}/clocks/{clock.id}/end")
    kinds = [(one.kind, one.minutes, one.ended is not None) for one in desk.view(job).facts.clocks]
    assert kinds == [("open", 15.0, True), ("cure", 60.0, False)], "closed, it begins to cure"
    ngozi.post(f"/jobs/{job}/clocks/{clock.id}/end")
    assert len(desk.view(job).facts.clocks) == 2, "it is closed once, however often that is said"


def test_the_whole_way_to_the_link(as_role, desk, persons, welding, url) -> None:
    ngozi, solveig, technician = as_role("technician"), as_role("lead"), persons["technician"]
    for name in ("a", "b", "c"):
        weld(ngozi, welding, name)
    filler = finishing.note(desk, technician, key(), welding, FinishItem(what="filler", words="filler and paint"))
    before = ngozi.post(f"/jobs/{welding}/finish", 409, do="finished", item=str(filler))
    assert "Final welding is not recorded as done" in before
    ngozi.post(f"/jobs/{welding}/weld")
    assert desk.view(welding).state.may_weld, "welding is behind"
    assert "that is recorded already" in ngozi.post(f"/jobs/{welding}/weld", 409).lower()
    early = ngozi.post(f"/jobs/{welding}/finish", 409, do="finished", item=str(filler))
    assert "Before filler and paint the gaps are read once more" in early
    set_up(desk, technician, welding)
    read_points(desk, technician, welding)
    read_spans(ngozi, welding, setup="2")
    let_down(ngozi, welding)
    read_spans(ngozi, welding, setup="2")
    read_gap(ngozi, welding)
    finishing.note(desk, technician, key(), welding, Finished(item=filler))
    bad = ngozi.post(f"/jobs/{welding}/finish", 422, do="outside", what="alignment", end="done", by_whom="Corran tyres")
    assert "Which paper says so" in bad
    ngozi.post(
        f"/jobs/{welding}/finish", do="outside", what="alignment", end="done", by_whom="Corran tyres", paper="A-17"
    )
    finishing.note(
        desk,
        technician,
        key(),
        welding,
        OutsideWork(what="calibration", end="not_needed", by_whom="maker", words="no aids"),
    )
    ngozi.post(
        f"/jobs/{welding}/finish", do="advice", what="overload", broke="a loose pallet", keep="lash what is carried"
    )
    left = {
        "left": "scratch on the sill",
        "why": "the owner does not mind",
        "consent": "the ferry line",
        "how": "by letter",
    }
    ngozi.post(f"/jobs/{welding}/finish", do="left_out", **left)
    assert "X9 is not on the sheet" in ngozi.post(f"/jobs/{welding}/finish", 422, do="left_out", codes="X9", **left)
    hold = desk.view(welding).state.hold("released")
    assert [tell(m.said) for m in hold.missing] == []
    sign(desk, persons["lead"], welding, "released")
    assert desk.view(welding).state.hold("released").status == "closed"
    digest = re.search(r"/records/([0-9a-f]{64})\.json", solveig.post(f"/jobs/{welding}/record")).group(1)
    assert check_record(solveig.http.get(f"/records/{digest}.json").content).good
    assert check_record(solveig.http.get(f"/records/{digest}.zip").content).good
    assert "scratch on the sill" in solveig.get(f"/records/{digest}/left-out")
    base = f"/jobs/{welding}/record/links"
    assert "Name them" in solveig.post(base, 422, record=digest, audience="payer", named="", days="30")
    page = solveig.post(base, record=digest, audience="payer", named="Mutual of the Isles", days="30")
    code = re.search(r"/handover/([\w-]+)\"", page).group(1)
    owners = solveig.post(base, record=digest, audience="owner", named="The ferry line", days="30")
    owners = re.search(r"/handover/([\w-]+)\"", owners).group(1)
    solveig.http.cookies.clear()
    for path in ("", "?whole=1", "/left-out", "/record.json", "/record.zip", "/record.pdf"):
        answer = solveig.http.get(f"/handover/{code}{path}")
        assert answer.status_code == 200, (path, answer.text[-500:])
        assert answer.headers["cache-control"] == "no-store"
    shown = solveig.get(f"/handover/{code}")
    for words in ("is released", "This record is whole", "lash what is carried", "Corran tyres"):
        assert words in shown
    assert solveig.http.get(f"/handover/{code}/record.json").json()["number"] == welding
    assert "Readings, as they were called" not in solveig.get(f"/handover/{owners}"), "the owner's is short"
    assert "Readings, as they were called" in solveig.get(f"/handover/{owners}?whole=1")
    many = [
        len(PdfReader(BytesIO(solveig.http.get(f"/handover/{owners}/record.pdf{whole}").content)).pages)
        for whole in ("", "?whole=1")
    ]
    assert many[0] < 3 < many[1]
    by_hand(url, "UPDATE record_link SET expires_at = UTC_TIMESTAMP(6) - INTERVAL 1 MINUTE")
    for path in ("", "/record.json", "/record.pdf", "/left-out"):
        assert "leads nowhere" in solveig.http.get(f"/handover/{code}{path}").text
        assert solveig.http.get(f"/handover/{code}{path}").status_code == 404


def test_what_is_repaired_after_welding_is_proven_and_welded_anew(as_role, desk, persons, welding) -> None:
    ngozi, technician = as_role("technician"), persons["technician"]
    for name in ("a", "b", "c"):
        weld(ngozi, welding, name)
    ngozi.post(f"/jobs/{welding}/weld")
    assert "what comes after is a new fit" in weld(ngozi, welding, "a", status=409)
    measuring.record_move(desk, technician, key(), welding, "cut", "weld c ground out again")
    assert "nothing is welded for good" in weld(ngozi, welding, "c", status=409)
    prove(desk, persons, welding)
    weld(ngozi, welding, "c")
    assert any("not recorded as done" in tell(m.said) for m in desk.view(welding).state.hold("released").missing)
    ngozi.post(f"/jobs/{welding}/weld")
    assert desk.view(welding).state.welded


def test_what_is_taken_back_opens_the_release_again(as_role, desk, persons) -> None:
    job = ready_job(desk, persons)
    prove(desk, persons, job)
    technician = persons["technician"]
    item = finishing.note(desk, technician, key(), job, FinishItem(what="wax", words="wax in the rail"))
    done = finishing.note(desk, technician, key(), job, Finished(item=item))
    for what in ("alignment", "calibration"):
        finishing.note(
            desk, technician, key(), job, OutsideWork(what=what, end="not_needed", by_whom="maker", words="not touched")
        )
    sign(desk, persons["lead"], job, "released")
    measuring.record_move(desk, technician, key(), job, "vehicle", "driven home")
    assert desk.view(job).state.hold("released").status == "closed", "what is handed over stands"
    finishing.take_back(desk, technician, key(), job, done)
    hold = desk.view(job).state.hold("released")
    assert hold.status != "closed"
    assert "something was done, found or taken back" in [tell(one) for one in hold.reopened]


def test_left_out_needs_a_point_of_the_sheet(desk, persons) -> None:
    job = ready_job(desk, persons)
    left = LeftOut(what="x", why="y", consent="z", how="w", codes=("X9",))
    with pytest.raises(Exception, match="X9"):
        finishing.note(desk, persons["technician"], key(), job, left)
