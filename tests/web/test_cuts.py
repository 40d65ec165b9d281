"""From the decision to opened welds and the final line, through the pages and the API: strip, cuts, lines, map, gate, papers."""

import ast
import inspect
import re

import numpy as np
import pytest

from fairsquare.actions import cutting, deciding, parts
from fairsquare.actions.deciding import DecisionSaid, MemberSaid
from fairsquare.core.damage.decide import MakersWord
from fairsquare.core.errors import FairSquareError
from fairsquare.demo.cuts import _SECTIONS
from fairsquare.demo.people import SIGN_INS
from fairsquare.demo.pictures import drawn_photo
from fairsquare.job import cut_gate
from fairsquare.job.damage.choices import member_states
from fairsquare.job.facts.damage import SettlementFact
from fairsquare.job.facts.parts import Blank
from fairsquare.job.release.holds import job_state
from fairsquare.job.release.record import facts_of, make_record, recompute
from fairsquare.stand_ins.vehicles import DUNLIN, TEAL
from fairsquare.words.tell import tell
from tests.conftest import key
from tests.job.facts import changed
from tests.web.cutting import RAIL, STRIP, WELDS, section
from tests.web.test_damage import MOVED
from tests.web.test_job import call, make_safe, new_job, read_all, sign, with_references, with_sheet


def check_part_in(desk, persons, job):
    part = parts.take_part_in(desk, persons["technician"], key(), job, "right front rail end", "new", "counter")
    parts.count_item(desk, persons["technician"], key(), job, part, "nut", "bumper nuts", 2, 2, "")
    return part


def test_the_decision_leads_to_the_cuts(decided, as_role, desk) -> None:
    ngozi = as_role("technician")
    assert f"Plan how to replace the {RAIL}" in ngozi.get("/")
    page = ngozi.get(f"/jobs/{decided}/cuts")
    assert f'value="{RAIL}"' in page
    ngozi.post(f"/jobs/{decided}/cuts", member=RAIL, how="cut")
    assert "Its layers are not described yet" in ngozi.get(f"/jobs/{decided}/cuts/1")
    assert "is being planned already" in ngozi.post(f"/jobs/{decided}/cuts", 422, member=RAIL, how="cut")
    assert "Choose how it is replaced" in ngozi.post(
        f"/jobs/{decided}/cuts", 422, member="left front rail", how="magic"
    )


def test_a_strip_typed_in_any_unit_is_cut_at_its_best_place(planned, as_role, desk) -> None:
    strip = section(desk, planned).strip
    assert (strip.datum, strip.layers[0].end, strip.layers[0].damage) == ("F4R", 400.0, (101.6, 300.0))
    assert [face.width_mm for face in strip.layers[0].faces] == [18.0, 96.0]
    assert section(desk, planned).placed.judged.cuts == {"outer": 45.0}, "the hole needs 15, the damage 10"
    page = as_role("technician").get(f"/jobs/{planned}/cuts/1")
    assert "Best place" in page
    assert "45 mm" in page or ">45<" in page
    assert "the hole from 60 to 80 needs 15 mm clear" in page
    assert "wiring harness" in page


def test_nothing_typed_is_lost_when_a_field_is_wrong(decided, as_role) -> None:
    ngozi = as_role("technician")
    ngozi.post(f"/jobs/{decided}/cuts", member=RAIL, how="cut")
    wrong = [
        ({"layer-0-thick": "0"}, "above 0 mm", "layer-0-thick"),
        ({"layer-0-to": "forty"}, "", "layer-0-to"),
        ({"layer-0-hurt-to": ""}, "from where to where", "layer-0-hurt-to"),
        ({"layer-0-hurt-to": "900"}, "should lie on it", "layer-0-hurt-from"),
        ({"feature-0-from": "900", "feature-0-to": "910"}, "off the member", "feature-0-from"),
        ({"feature-0-layers": "roof"}, "There is no layer roof", "feature-0-layers"),
        ({"layer-0-faces": "web"}, "name and width", "layer-0-faces"),
        ({"datum": "Q9Z"}, "Q9Z", "datum"),
        ({"layer-0-to": "20 m"}, "look for a slip", "layer-0-to"),
        ({"clear-hole": "-3"}, "0 or more", "clear-hole"),
        ({"feature-0-kind": "ghost"}, "", "feature-0-kind"),
        (
            {
                "window-0-layer": "outer",
                "window-0-from": "0",
                "window-0-to": "60",
                "window-1-layer": "outer",
                "window-1-from": "50",
                "window-1-to": "90",
            },
            "overlap",
            "window-1-from",
        ),
    ]
    for change, words, field in wrong:
        page = ngozi.post(f"/jobs/{decided}/cuts/1/strip", 422, **{**STRIP, **change})
        assert words in page
        assert re.search(rf'is-invalid"[^>]*name="{field}"|is-invalid" id="f-{field}"', page), field
        assert 'value="harness hole"' in page, "what was typed is there yet"
    assert ngozi.post(f"/jobs/{decided}/cuts/1/strip", **{**STRIP, "do": "more"}).count('name="feature-1') > 0


def test_a_person_may_put_the_cut_elsewhere_and_sees_what_it_costs(planned, as_role, desk) -> None:
    ngozi = as_role("technician")
    tried = ngozi.get(f"/jobs/{planned}/cuts/1/try?cut-0=55")
    assert "Breaks 1 rule" in tried
    assert "5 mm from the hole at 60, which needs 15 clear" in tried
    assert "10.0 mm less" in tried
    assert "<html" not in tried
    page = ngozi.post(f"/jobs/{planned}/cuts/1/put", do="try", **{"cut-0": "35", "version": "1"})
    assert "Breaks nothing" in page
    assert "10.0 mm more" in page
    assert section(desk, planned).strip.chosen == {}
    ngozi.post(
        f"/jobs/{planned}/cuts/1/put", do="keep", reason="the torch sits better", **{"cut-0": "1.5 in", "version": "1"}
    )
    assert section(desk, planned).strip.chosen == {"outer": pytest.approx(38.1)}
    stale = ngozi.post(f"/jobs/{planned}/cuts/1/put", 409, do="keep", **{"cut-0": "30", "version": "1"})
    assert "changed this meanwhile" in stale
    assert "reaches from" in ngozi.post(
        f"/jobs/{planned}/cuts/1/put", 422, do="keep", **{"cut-0": "900", "version": "2"}
    )
    ngozi.post(f"/jobs/{planned}/cuts/1/put", do="best", **{"cut-0": "30", "version": "2"})
    assert section(desk, planned).placed.judged.cuts == {"outer": 45.0}


def test_where_there_is_no_place_the_rules_that_clash_are_named(planned, as_role, desk) -> None:
    ngozi = as_role("technician")
    window = {"window-0-layer": "outer", "window-0-from": "120", "window-0-to": "200", "version": "1"}
    page = ngozi.post(f"/jobs/{planned}/cuts/1/strip", **{**STRIP, **window})
    assert "the damage of outer against the maker&#39;s window of outer" in page
    assert "Give up one of them" in page
    assert "There is no place for this cut" in page
    put = ngozi.post(f"/jobs/{planned}/cuts/1/put", do="keep", **{"cut-0": "45", "version": "2", "reason": ""})
    assert "The cuts stand where a rule is broken: say why" in put


def test_the_gap_is_weighed_by_how_it_is_marked(planned, as_role, desk) -> None:
    ngozi = as_role("technician")
    page = ngozi.get(f"/jobs/{planned}/cuts/1")
    assert re.search(r"96\.2 %.*53\.1 %", page, re.S)
    ngozi.post(f"/jobs/{planned}/cuts/1/lines", marking="felt_tip", marks="2", kerf="3", saw="air saw", version="0")
    page = ngozi.get(f"/jobs/{planned}/cuts/1")
    assert "cut in one stroke" in page, "a kerf wider than the gap"
    assert (section(desk, planned).lines.marking, section(desk, planned).lines.tool) == ("felt_tip", "air saw")
    assert page.count('id="f-tool"') == 1
    for field, value, words in (
        ("kerf_sigma", "-1", "0 or more"),
        ("limit-low", "3", "in pairs"),
        ("gap", "wide", ""),
        ("marking", "chalk", "marking"),
    ):
        said = {"marking": "scribe", "marks": "2", "kerf": "1.2", "version": "1", field: value}
        assert words in ngozi.post(f"/jobs/{planned}/cuts/1/lines", 422, **said)
    limits = {"limit-low": "3", "limit-high": "1"}
    assert "comes first" in ngozi.post(f"/jobs/{planned}/cuts/1/lines", 422, kerf="1.2", version="1", **limits)


def test_welds_in_a_row_are_numbered_and_mapped(planned, as_role, desk) -> None:
    said = section(desk, planned).welds
    assert [(weld.id, weld.at_mm) for weld in said.welds] == [("1", 120.0), ("2", 200.0), ("3", 280.0)]
    page = as_role("technician").get(f"/jobs/{planned}/cuts/1/map")
    assert "DO NOT DRILL APRON" in page
    assert "Done: 1, cut flat" in page
    assert "hole for plug" in page
    for change, words in (
        ({"weld-0-stack": "rail end"}, "two to four layers"),
        ({"weld-0-stack": "rail end, roof"}, "none of the parts listed"),
        ({"weld-0-at": "0-100 by 0"}, "1 to 400"),
        ({"weld-1-id": "2", "weld-1-at": "9", "weld-1-stack": "rail end, apron"}, ""),
        ({"part-1-id": "rail end"}, "twice"),
    ):
        ngozi = as_role("technician")
        status = 422 if words else 200
        page = ngozi.post(f"/jobs/{planned}/cuts/1/welds", status, **{**WELDS, "version": "1", **change})
        assert words in page
        assert not words or "is-invalid" in page
    all_stay = {**WELDS, "version": "2", "part-0-fate": "stays"}
    page = as_role("technician").post(f"/jobs/{planned}/cuts/1/welds", **all_stay)
    assert "Nothing is to be opened on the vehicle" in page


def test_codes_with_markup_stay_text(planned, as_role, desk) -> None:
    ngozi = as_role("technician")
    evil = "<b onmouseover=alert(1)>"
    typed = {**WELDS, "version": "1", "part-0-id": evil, "weld-0-stack": f"{evil}, apron", "weld-0-flange": evil}
    for page in (
        ngozi.post(f"/jobs/{planned}/cuts/1/welds", **typed),
        ngozi.get(f"/jobs/{planned}/cuts/1"),
        ngozi.get(f"/jobs/{planned}/cuts/1/map"),
    ):
        assert evil not in page
        assert "&lt;b onmouseover" in page


def test_a_map_is_worked_off_by_two_people(planned, as_role, desk, persons) -> None:
    ngozi, keahi = as_role("technician"), as_role("apprentice")
    path = f"/jobs/{planned}/cuts/1/map"
    assert "Done: 2, cut flat" in ngozi.post(path, whose="vehicle", weld="1", done="yes")
    part = keahi.post(path, whose="vehicle", weld="1", done="yes", headers={"hx-request": "true"})
    assert "1 of 3" in part, "ticked by both, counted once"
    assert len(desk.view(planned).facts.weld_ticks) == 1
    keahi.post(path, whose="vehicle", weld="2", done="yes")
    page = ngozi.post(path, whose="vehicle", weld="1", done="no")
    assert "Ticked by mistake: 1" in page
    assert [(t.weld, t.done) for t in desk.view(planned).facts.weld_ticks] == [("1", True), ("2", True), ("1", False)]
    assert "There is nothing to open at 9" in ngozi.post(path, 422, whose="vehicle", weld="9", done="yes")
    changed = {**WELDS, "version": "1", "part-1-fate": "returns", "weld-0-after": "both", "weld-0-squeeze": "yes"}
    ngozi.post(f"/jobs/{planned}/cuts/1/welds", **{**changed, "weld-0-vehicle": "bottom"})
    assert "the map says something else by now" in ngozi.get(f"{path}?whose=vehicle&weld=2")


def test_an_access_cut_goes_into_scrap_and_leaves_enough_to_pull_by(planned, as_role, desk) -> None:
    ngozi = as_role("technician")
    path = f"/jobs/{planned}/cuts/1/made"
    said = {"kind": "access", "layer": "outer", "tool": "air saw"}
    assert "100 mm are left long" in ngozi.post(path, 422, at="120", **said)
    assert "With which tool?" in ngozi.post(path, 422, at="200", **{**said, "tool": " "})
    assert "reaches from" in ngozi.post(path, 422, at="2000", **said)
    assert "Settle first where the final line goes" in ngozi.post(path, 422, at="200", **{**said, "layer": "inner"})
    assert "Access cuts need" not in ngozi.post(path, at="8 in", words="to see in", **said)
    (cut,) = section(desk, planned).cuts
    assert (cut.kind, cut.at_mm, cut.by.role) == ("access", pytest.approx(203.2), "technician")
    page = ngozi.post(f"{path}/{cut.id}/back")
    assert "Recorded by mistake: outer at 203.2" in page
    assert section(desk, planned).cuts == ()
    assert "taken back already" in ngozi.post(f"{path}/{cut.id}/back", 422)


def test_an_access_cut_is_planned_drawn_and_recorded(planned, as_role, desk) -> None:
    ngozi = as_role("technician")
    wrong = {"opening-0-layer": "roof", "opening-0-at": "250", "version": "1"}
    assert "There is no layer roof" in ngozi.post(f"/jobs/{planned}/cuts/1/strip", 422, **{**STRIP, **wrong})
    two = {"opening-0-layer": "outer", "opening-0-at": "25 cm", "opening-0-words": "the crushed end", "version": "1"}
    two |= {"opening-1-layer": "outer", "opening-1-at": "100"}
    page = ngozi.post(f"/jobs/{planned}/cuts/1/strip", **{**STRIP, **two})
    assert page.count("access-planned") == 2
    assert "access cut 250.0 mm ahead of F4R: the crushed end" in page
    assert "55 mm beyond the final line: 100 mm are left long" in page
    said = {"kind": "access", "layer": "outer", "at": "250 mm", "tool": "air saw", "words": "the crushed end"}
    page = ngozi.post(f"/jobs/{planned}/cuts/1/made", **said)
    assert page.count("access-planned") == 1
    assert section(desk, planned).cuts[0].at_mm == 250.0


def test_access_cuts_need_metal_that_is_given_up(planned, as_role, desk, persons) -> None:
    ngozi = as_role("technician")
    page = ngozi.post(f"/jobs/{planned}/cuts", 422, member="left front rail", how="cut")
    assert "left front rail is decided: keep" in page, "what is cut across is what was decided"
    ngozi.post(f"/jobs/{planned}/cuts", member="left front rail", how="seams")
    ngozi.post(f"/jobs/{planned}/cuts/2/strip", **{**STRIP, "datum": "F4L"})
    page = ngozi.post(f"/jobs/{planned}/cuts/2/made", 422, kind="access", layer="outer", at="200", tool="saw")
    assert "not decided to come off" in page


def test_a_member_that_is_replaced_at_its_seams_is_not_cut_across(planned, as_role, desk, persons) -> None:
    ngozi, technician = as_role("technician"), persons["technician"]
    torn = MemberSaid(RAIL, "", "high_strength", "structural", ("torn",), MakersWord(section=False), "the book")
    seen = deciding.see_member(desk, technician, key(), planned, torn)
    deciding.decide(desk, technician, key(), planned, seen, DecisionSaid("replace_at_seams", "the maker has no window"))
    page = ngozi.get(f"/jobs/{planned}/cuts/1")
    assert f"{RAIL}, outer, is not decided to be cut across (decided: replace at seams)" in page
    assert f'<a href="/jobs/{planned}/decide">Decide {RAIL}</a>' in page
    said = {"kind": "final", "layer": "outer", "tool": "body saw", "reason": "it was planned so before"}
    assert "is not decided to be cut across" in as_role("lead").post(f"/jobs/{planned}/cuts/1/made", 409, **said)


def test_nothing_said_is_typed_again_and_no_metal_is_made_up(decided, as_role) -> None:
    ngozi = as_role("technician")
    ngozi.post(f"/jobs/{decided}/cuts", member=RAIL, how="cut")
    page = ngozi.get(f"/jobs/{decided}/cuts/1/strip")
    assert f'value="{RAIL}"' in page and '<option value="high_strength" selected>' in page
    unsaid = {**STRIP, "layer-0-material": ""}
    assert "Of what is it made?" in ngozi.post(f"/jobs/{decided}/cuts/1/strip", 422, **unsaid)
    ngozi.post(f"/jobs/{decided}/cuts/1/strip", **STRIP)
    page = ngozi.get(f"/jobs/{decided}/cuts/1/welds")
    for name, value in (("id", "outer"), ("thick", "1.2"), ("id", "inner"), ("thick", "1")):
        assert re.search(rf'name="part-\d-{name}"[^>]*value="{value}"', page), (name, value)
    unsaid = {**WELDS, "part-1-thick": ""}
    assert "A length is missing here" in ngozi.post(f"/jobs/{decided}/cuts/1/welds", 422, **unsaid)
    ngozi.post(f"/jobs/{decided}/cuts/1/welds", **WELDS)
    page = ngozi.get(f"/jobs/{decided}/seams/0/plan?section=1")
    assert re.search(r'name="sheets"[^>]*value="1.2 \+ 1.5"', page), "a seam takes the sheets of its map"
    assert re.search(r'name="watch"[^>]*value="F5R, F4R, F3R, F2R"', page), "and watches the points of its member"


def test_everything_the_final_line_waits_for_leads_to_the_page_that_clears_it(planned, as_role, desk) -> None:
    ngozi = as_role("technician")
    calls = [one for one in ast.walk(ast.parse(inspect.getsource(cut_gate))) if isinstance(one, ast.Call)]
    missing = [one for one in calls if getattr(one.func, "id", "") in ("Missing", "lacks")]
    assert len(missing) >= 9
    for one in missing:
        assert {"page", "todo"} <= {word.arg for word in one.keywords}, ast.unparse(one)
    view = desk.view(planned)
    waits = cut_gate.final_waits(view.facts, view.state, section(desk, planned), "outer")
    assert waits
    for one in waits:
        ngozi.get(f"/jobs/{planned}/{one.page}")
        assert tell(one.todo) in ngozi.get(f"/jobs/{planned}/cuts/1")


def test_a_contradiction_and_a_plate_on_the_member_hold_the_final_line_until_they_are_cleared(
    planned, as_role, desk
) -> None:
    ngozi = as_role("technician")

    def waits(**changes) -> str:
        view = desk.view(planned)
        job = changed(view.facts, **changes)
        return " ".join(
            tell(one.said) for one in cut_gate.final_waits(job, job_state(job), section(desk, planned), "outer")
        )

    assert "contradiction" not in waits() and "plate" not in waits()
    spoilt = {**MOVED, "F4L": np.zeros(3)}
    struck = tuple(
        one.model_copy(update={"xyz": tuple(map(float, call(one.code, spoilt.get(one.code, np.zeros(3))).split()[1:]))})
        for one in desk.view(planned).facts.readings
    )
    assert "A contradiction is not settled: F4L reads fair between" in waits(readings=struck)
    settled = SettlementFact(id=1, finding="between:F4L", reason="a stiffener stands there", by=struck[0].by)
    assert "contradiction" not in waits(readings=struck, settlements=(settled,))
    ngozi.post(f"/jobs/{planned}/walk-round", call="plate right front rail at F4R")
    assert "photograph the plate or label first" in waits()
    (seen,) = (one for one in desk.view(planned).facts.walk if one.kind == "plate")
    photo = {"photo": ("plate.jpg", drawn_photo("plate", "crack"), "image/jpeg")}
    ngozi.post(f"/jobs/{planned}/photos", files=photo, about="walk", about_id=str(seen.id), words="", page="walk-round")
    assert "plate" not in waits()


def test_the_final_line_waits_and_says_for_what(planned, as_role, desk, persons) -> None:
    ngozi, solveig = as_role("technician"), as_role("lead")
    path = f"/jobs/{planned}/cuts/1"
    said = {"kind": "final", "layer": "outer", "tool": "body saw"}
    assert "No part is checked in" in ngozi.get(path)
    assert "Only a lead may let it go on" in ngozi.post(f"{path}/made", 409, **said)
    part = parts.take_part_in(desk, persons["technician"], key(), planned, "rail end", "donor", "yard")
    page = ngozi.get(path)
    for words in ("not counted off", "measure it", "layers are not counted", "cut from is not written down"):
        assert words in page
    assert "a sentence of 8 to 2000" in solveig.post(f"{path}/made", 422, reason="", **said)
    solveig.post(f"{path}/made", reason="the maker's rail comes tonight, this one is measured", **said)
    cut = section(desk, planned).final("outer")
    assert cut.at_mm == 45.0
    assert any("not counted off" in words for words in cut.overridden)
    assert "cut already" in solveig.post(f"{path}/made", 409, reason="again and again", **said)
    assert tuple(map(tell, section(desk, planned).wanting)) == (
        f"{RAIL}: 3 welds to open on the vehicle",
        f"{RAIL}: 3 welds to open on the donor",
    )
    assert part


def test_once_cut_the_lines_follow_the_cut_and_not_the_plan(planned, as_role, desk, persons) -> None:
    ngozi = as_role("technician")
    check_part_in(desk, persons, planned)
    ngozi.post(f"/jobs/{planned}/cuts/1/made", kind="final", layer="outer", tool="body saw, 1.2 mm")
    page = ngozi.post(
        f"/jobs/{planned}/cuts/1/put", do="keep", reason="an afterthought", **{"cut-0": "30", "version": "1"}
    )
    assert "The plan says 30.0 mm by now" in page
    assert section(desk, planned).drawn[0].donor.line_mm == 45.0


def test_with_everything_there_the_final_line_is_cut_and_the_station_is_done(planned, as_role, desk, persons) -> None:
    ngozi = as_role("technician")
    check_part_in(desk, persons, planned)
    page = ngozi.get(f"/jobs/{planned}/cuts/1")
    assert "the final line may be cut" in page
    ngozi.post(f"/jobs/{planned}/cuts/1/made", kind="final", layer="outer", tool="body saw, 1.2 mm")
    for whose in ("vehicle", "donor"):
        for weld in ("1", "2", "3"):
            ngozi.post(f"/jobs/{planned}/cuts/1/map", whose=whose, weld=weld, done="yes")
    assert section(desk, planned).wanting == ()
    assert "All 3 opened on the vehicle" in ngozi.get(f"/jobs/{planned}/cuts/1/map")
    assert "14 points to read again, since something moved" in ngozi.get("/"), "a cut lets go of what was locked in"
    hold = desk.view(planned).state.hold("fit_accepted")
    told = [tell(missing.said) for missing in hold.missing if RAIL in tell(missing.said)]
    assert told == [f"{RAIL}: no seam is planned for it."], "what was to be cut and opened is done"


def test_what_was_planned_and_not_done_stands_in_the_way_of_the_fit(planned, desk) -> None:
    hold = desk.view(planned).state.hold("fit_accepted")
    words = [tell(missing.said) for missing in hold.missing if missing.overridable]
    assert f"{RAIL}: not cut yet: outer." in words
    assert f"{RAIL}: 3 welds to open on the vehicle." in words


def test_a_plate_in_the_way_asks_for_its_photo_first(planned, as_role, desk, persons) -> None:
    ngozi = as_role("technician")
    check_part_in(desk, persons, planned)
    plate = {"feature-1-kind": "plate", "feature-1-from": "250", "feature-1-to": "280", "feature-1-layers": "outer"}
    ngozi.post(f"/jobs/{planned}/cuts/1/strip", **{**STRIP, **plate, "version": "1"})
    said = {"kind": "final", "layer": "outer", "tool": "body saw"}
    assert "photograph it first" in ngozi.post(f"/jobs/{planned}/cuts/1/made", 409, **said)
    assert "photograph it first" in ngozi.post(
        f"/jobs/{planned}/cuts/1/made", 422, kind="access", layer="outer", at="200", tool="saw"
    )
    photo = drawn_photo("identity plate", "right front rail")
    own = str(section(desk, planned).fact.id)
    ngozi.post(
        f"/jobs/{planned}/photos", files={"photo": ("plate.jpg", photo, "image/jpeg")}, about="section", about_id=own
    )
    ngozi.post(f"/jobs/{planned}/cuts/1/made", **said)
    assert section(desk, planned).final("outer") is not None


def test_an_apprentice_opens_welds_and_plans_nothing(planned, as_role) -> None:
    keahi = as_role("apprentice")
    keahi.post(f"/jobs/{planned}/cuts/1/strip", 403, **{**STRIP, "version": "1"})
    keahi.post(f"/jobs/{planned}/cuts/1/made", 403, kind="final", layer="outer", tool="saw")
    keahi.post(f"/jobs/{planned}/cuts/1/map", whose="vehicle", weld="1", done="yes")


def test_a_record_carries_the_cuts_and_is_recomputed(planned, as_role, desk, persons) -> None:
    as_role("technician").post(f"/jobs/{planned}/cuts/1/map", whose="vehicle", weld="1", done="yes")
    view = desk.view(planned)
    who = view.facts.sections[0].by
    record = make_record(view.facts, {}, who, software="x", workshop="y")
    assert recompute(record) == ()
    again = type(record).model_validate_json(record.model_dump_json())
    assert facts_of(again) == view.facts
    assert '"from":-300.0' in record.model_dump_json()


def by_api(as_role):
    """Return a function that asks the API as the technician: method, path, status, body."""
    http = as_role("technician").http
    own = next(one for one in SIGN_INS if one.name == "ngozi")
    token = http.post("/api/v1/session", json={"name": own.name, "password": own.password}).json()["token"]

    def ask(method, path, status=200, **body):
        sent = {"json": {"request_key": key(), **body}} if method != "GET" else {}
        answer = http.request(method, f"/api/v1{path}", headers={"authorization": f"Bearer {token}"}, **sent)
        assert answer.status_code == status, answer.text
        return answer.json()

    return ask


def test_the_api_plans_opens_and_cuts(decided, as_role) -> None:
    ask, rail, base = by_api(as_role), _SECTIONS[TEAL.name][0], f"/jobs/{decided}/sections"
    (number,) = ask("POST", base, 201, member=RAIL, how="cut")["ids"]
    strip = {**rail.strip, "datum": "F4R"}
    own = f"{base}/{number}"
    assert ask("PUT", f"{own}/strip", strip=strip, version=0)["version"] == 1
    assert ask("PUT", f"{own}/strip", 409, strip=strip, version=0)["title"].startswith("Ngozi")
    ask("PUT", f"{own}/lines", lines={"marking": "tape"}, version=0)
    ask("PUT", f"{own}/welds", welds=rail.welds, version=0)
    ask("PUT", f"{own}/cuts", cuts={"outer": 60}, reason="room for the torch", version=1)
    ask("POST", f"{own}/ticks", whose="vehicle", weld="1")
    shown = ask("GET", own)
    assert shown["placed"]["judged"]["cuts"]["outer"] == 60
    step = shown["steps"]["vehicle"][0]
    assert (step["weld"], step["mark"], step["side"], step["done"]) == ("1", "drill", "top", True)
    assert "No part is checked in" in str(shown["waits"]["outer"])
    ask("POST", f"{own}/made", 201, layer="outer", kind="access", at_mm=200, tool="saw")
    assert "Not yet" in ask("POST", f"{own}/made", 409, layer="outer", kind="final", tool="saw")["title"]
    assert ask("GET", base)[0]["cuts"][0]["at_mm"] == 200
    assert (
        ask("PUT", f"{own}/strip", 422, strip={**strip, "layers": []}, version=2)["errors"][0]["field"] == "layers.0.id"
    )


def test_a_part_made_here_has_a_drawing_and_a_caution(decided, as_role, desk) -> None:
    ngozi = as_role("technician")
    said = {"name": "closing plate", "origin": "made", "length": "120", "width": "1.5 in", "thickness": "1.5"}
    said |= {"material": "aluminium", "touches": "mild", "folds": "12, 26", "holes": "20 6 8, 100 6 8"}
    for change, words in (
        ({"width": "-3"}, "above 0"),
        ({"folds": "50"}, "A fold lies between"),
        ({"holes": "20 1 8"}, "does not lie in the blank"),
        ({"holes": "20 8"}, "along, across and diameter"),
        ({"material": "wood"}, "choose one of the list"),
    ):
        page = ngozi.post(f"/jobs/{decided}/parts", 422, **{**said, **change})
        assert words in page
        assert 'value="closing plate"' in page
    page = ngozi.post(f"/jobs/{decided}/parts", **said)
    assert "Aluminium on steel" in page
    (part,) = desk.view(decided).facts.parts
    assert part.blank == Blank(
        length_mm=120,
        width_mm=38.1,
        thickness_mm=1.5,
        material="aluminium",
        touches="mild",
        folds_mm=(12.0, 26.0),
        holes_mm=((20.0, 6.0, 8.0), (100.0, 6.0, 8.0)),
    )
    assert b"<svg" in ngozi.http.get(f"/jobs/{decided}/parts/{part.id}/template.svg").content
    assert ngozi.http.get(f"/jobs/{decided}/parts/{part.id}/template.pdf?paper=Letter").content.startswith(b"%PDF")
    assert ngozi.http.get(f"/jobs/{decided}/parts/999/template.svg").status_code == 422


def test_what_comes_off_a_donor_blocks_until_it_is_off(decided, as_role, desk, persons) -> None:
    ngozi = as_role("technician")
    part = parts.take_part_in(desk, persons["technician"], key(), decided, "rail end", "donor", "yard", "ABC123")
    page = ngozi.post(f"/jobs/{decided}/parts/{part}/comes-off", words="old foam")
    assert "old foam is still on it" in page
    assert "ABC123" in page
    page = ngozi.post(f"/jobs/{decided}/parts/{part}/comes-off", words="old foam", off="yes")
    assert "old foam is still on it" not in page


def test_two_people_describing_one_strip_are_told_of_each_other(planned, desk, persons) -> None:
    from fairsquare.core.cut.section import StripSaid

    strip = StripSaid.model_validate(_SECTIONS[DUNLIN.name][0].strip, strict=False)
    cutting.keep_strip(desk, persons["lead"], key(), planned, 1, strip, 1)
    with pytest.raises(FairSquareError) as late:
        cutting.keep_strip(desk, persons["technician"], key(), planned, 1, strip, 1)
    assert late.value.field == "version"
    assert "Solveig" in late.value.title


def test_what_lies_beneath_is_brought_home_before_the_outer_is_cut(as_role, desk, persons) -> None:
    ngozi, technician = as_role("technician"), persons["technician"]
    job = new_job(ngozi)
    make_safe(ngozi, job)
    with_sheet(ngozi, job)
    with_references(ngozi, job)
    sign(ngozi, job, "setup_accepted")
    read_all(ngozi, job, {"F4R": np.array((-8.0, 0.0, 0.0))})
    for layer, signs, maker in (("outer", ("kinked",), MakersWord(section=True)), ("inner", ("bent",), MakersWord())):
        said = MemberSaid(RAIL, layer, "high_strength", "structural", signs, maker, "the book")
        seen = deciding.see_member(desk, technician, key(), job, said)
        state = next(one for one in member_states(desk.view(job).facts) if one.layer == layer)
        deciding.decide(desk, technician, key(), job, seen, DecisionSaid(state.proposal.decision))
    ngozi.post(f"/jobs/{job}/cuts", member=RAIL, how="cut")
    page = ngozi.post(f"/jobs/{job}/cuts/1/strip", **STRIP)
    assert "right front rail, inner is not home beneath it: F4R." in page
    assert "“Pulls done” is not signed." in page
    editor = ngozi.get(f"/jobs/{job}/cuts/1/strip")
    assert "The damage, as it was read" in editor
    assert "F4R: 8.0 short" in editor
