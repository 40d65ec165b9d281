"""What was seen reaches what is decided, and no point is left out of it: through the pages, as a technician would."""

import re

import numpy as np
import pytest

from fairsquare.files.sheets import sheet_as_csv
from fairsquare.stand_ins.vehicles import DUNLIN
from tests.web.test_damage import jpeg
from tests.web.test_job import make_safe, new_job, read_all, sign, with_references, with_sheet

BENT = {"F4R": np.array([-9.0, 3.0, 2.0]), "F5R": np.array([-15.0, 5.0, 3.0])}
RAIL = "right front rail"


@pytest.fixture(scope="module")
def struck(as_role) -> str:
    """A van that was struck at the front right, measured whole, nothing decided."""
    ngozi = as_role("technician")
    job = new_job(ngozi)
    make_safe(ngozi, job)
    with_sheet(ngozi, job)
    with_references(ngozi, job)
    sign(ngozi, job, "setup_accepted")
    read_all(ngozi, job, BENT)
    return job


def seen(pages, job: str, call: str) -> str:
    """Note something seen and return its number."""
    page = pages.post(f"/jobs/{job}/walk-round", call=call, unit="mm")
    return re.findall(r'id="seen-(\d+)"', page)[-1]


def look(pages, job: str, status: int = 200, member: str = RAIL, signs=("bent",), **more) -> str:
    fields = {"material": "high_strength", "role": "structural", **more}
    return pages.post(f"/jobs/{job}/decide/member", status, member=member, layer="", signs=list(signs), **fields)


def seen_id(page: str) -> str:
    return re.search(r'name="seen" value="(\d+)"', page).group(1)


def ticked(page: str) -> set[str]:
    return set(re.findall(r'name="signs" value="(\w+)" checked', page))


def test_a_kink_called_at_the_walk_round_stands_ticked_on_its_member_and_goes_only_with_a_reason(
    as_role, struck
) -> None:
    ngozi, solveig = as_role("technician"), as_role("lead")
    finding = seen(ngozi, struck, "kink right rail at F4R")
    photo = {"photo": ("kink.jpg", jpeg(), "image/jpeg")}
    ngozi.post(f"/jobs/{struck}/photos", files=photo, about="walk", about_id=finding)
    assert f"<b>{RAIL}</b></a>, as its words tell" in ngozi.get(f"/jobs/{struck}/walk-round")
    page = ngozi.get(f"/jobs/{struck}/decide?member={RAIL}")
    assert ticked(page) == {"kinked", "bent"}, "what was seen stands ticked beside what was read"
    assert "Kink right rail at F4R" in page
    assert 'alt="photo of kink right rail at F4R"' in page
    page = look(ngozi, struck, 422)
    assert "Seen on it: “kink right rail at F4R”" in page
    page = look(ngozi, struck, signs=("bent", "kinked"))
    assert "Replace at seams." in page, "kinked is replaced, whatever else it is"
    page = look(solveig, struck, contradicts="a crease of the undercoat only: the metal below is smooth")
    assert "Seen and not counted: “a crease of the undercoat only" in page
    assert "Straighten." in page


def test_a_finding_after_the_decision_opens_it_where_it_is_structural(as_role, struck) -> None:
    ngozi, solveig = as_role("technician"), as_role("lead")
    page = look(ngozi, struck, signs=("bent", "kinked"))
    ngozi.post(f"/jobs/{struck}/decide", member=RAIL, layer="", seen=seen_id(page), decision="replace_at_seams")
    ngozi.post(f"/jobs/{struck}/decide/keep-fair")
    page = ngozi.get(f"/jobs/{struck}/holds/decision_made")
    sign(solveig, struck, "decision_made")
    ngozi.post(f"/jobs/{struck}/walk-round", call="plate on the sill at C1L", unit="mm")
    ngozi.post(f"/jobs/{struck}/walk-round", call="gap lid to fender left 4 right 5", unit="mm")
    assert "Signed by" in ngozi.get(f"/jobs/{struck}/holds/decision_made"), "a label and an even gap open nothing"
    finding = seen(ngozi, struck, "crack left sill at C2L")
    page = ngozi.get(f"/jobs/{struck}/holds/decision_made")
    assert "something was seen at the walk-round" in page
    assert "seen since it was looked at: “crack left sill at C2L”" in page
    assert f"/jobs/{struck}/decide?member=left+sill" in page, "and it leads to where that is cleared"
    page = look(ngozi, struck, member="left sill", signs=("cracked",), material="mild")
    ngozi.post(f"/jobs/{struck}/decide", member="left sill", layer="", seen=seen_id(page), decision="replace_at_seams")
    sign(solveig, struck, "decision_made")
    assert "Signed by" in ngozi.get(f"/jobs/{struck}/holds/decision_made")
    ngozi.post(f"/jobs/{struck}/walk-round/{finding}/take-back", back_reason="a scratch, seen under the lens")
    assert "or taken back" in ngozi.get(f"/jobs/{struck}/holds/decision_made")


def test_a_finding_on_no_member_asks_on_which_and_bars_the_decision(as_role, struck) -> None:
    ngozi = as_role("technician")
    finding = seen(ngozi, struck, "buckle in the apron at F3R")
    page = ngozi.get(f"/jobs/{struck}/holds/decision_made")
    assert "Seen: “buckle in the apron at F3R”, and it is not said on which member" in page
    assert f"walk-round#seen-{finding}" in page
    assert "Seen, and on no member yet: 1" in ngozi.get(f"/jobs/{struck}/decide")
    on = f"/jobs/{struck}/walk-round/{finding}/on"
    assert "Say on which member it is" in ngozi.post(on, 422, member="", other="")
    page = ngozi.post(on, other="right apron", back="decide")
    assert ticked(page) == {"buckled"}
    assert "right apron" in ngozi.get(f"/jobs/{struck}/holds/decision_made")
    assert "not said on which member" not in ngozi.get(f"/jobs/{struck}/holds/decision_made")
    look(ngozi, struck, member="right apron", signs=("buckled",), material="mild")
    inner = ngozi.post(
        f"/jobs/{struck}/decide/member", member=RAIL, layer="inner", material="mild", role="structural", signs=["bent"]
    )
    assert "right front rail, inner" in inner
    late = seen(ngozi, struck, "crack right front rail at F5R")
    assert "On which layer?" in ngozi.get(f"/jobs/{struck}/walk-round"), "a member with layers asks for the layer"
    assert "Say on which of them it is" in ngozi.post(f"/jobs/{struck}/walk-round/{late}/on", 422, member=RAIL)
    page = ngozi.post(f"/jobs/{struck}/walk-round/{late}/on", member=f"{RAIL} › inner", back="decide")
    assert "cracked" in ticked(page)


def test_what_it_is_made_of_is_unknown_until_somebody_says_it(as_role, desk) -> None:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    make_safe(ngozi, job)
    with_sheet(ngozi, job)
    with_references(ngozi, job)
    sign(ngozi, job, "setup_accepted")
    read_all(ngozi, job, BENT)
    page = ngozi.post(f"/jobs/{job}/decide/keep-fair")
    kept = page.split('<table class="points members">')[1].split("</table>")[0]
    assert "not known yet" in kept
    assert "high-strength" not in kept, "nobody said so"
    page = look(ngozi, job, material="unknown")
    assert "nobody has said what it is made of" in page
    assert "Say what it is made of" in page
    described = str(desk.view(job).facts.members[-1].id)
    refused = ngozi.post(f"/jobs/{job}/decide", 422, member=RAIL, layer="", seen=described, decision="straighten")
    assert "Say what it is made of first" in refused
    page = look(ngozi, job, material="press_hardened")
    assert "Nobody may decide otherwise." in page


def without_members() -> str:
    bare = tuple(
        point.model_copy(update={"member": None, "reference": point.reference}) for point in DUNLIN.sheet.points
    )
    return sheet_as_csv(DUNLIN.sheet.model_copy(update={"points": bare}))


def test_points_off_on_no_member_are_refused_and_made_members_by_touch(as_role) -> None:
    ngozi, solveig = as_role("technician"), as_role("lead")
    job = new_job(ngozi)
    make_safe(ngozi, job)
    ngozi.post(f"/jobs/{job}/sheet", table=without_members(), source="plain.csv", seen_version="")
    with_references(ngozi, job)
    sign(ngozi, job, "setup_accepted")
    read_all(ngozi, job, BENT)
    page = solveig.get(f"/jobs/{job}/holds/decision_made")
    assert "F4R, F5R: out of tolerance, and on no member" in page or "F5R, F4R: out of tolerance" in page
    assert "<textarea" not in page, "a lead cannot write it away either"
    link = re.search(rf'href="(/jobs/{job}/sheet/members\?touched=[^"]+)"', page).group(1)
    page = ngozi.get(link)
    assert "2 touched" in page
    page = ngozi.get(f"{link}&touch=F3R")
    assert "3 touched" in page
    assert page.count('class="ring"') >= 3, "what is touched has a ring in every view"
    codes = re.search(r'name="touched" value="([^"]+)"', page).group(1)
    assert "Name the member" in ngozi.post(f"/jobs/{job}/sheet/members", 422, touched=codes, do="member", member="")
    assert "Touch the points" in ngozi.post(f"/jobs/{job}/sheet/members", 422, touched="", do="member", member="rail")
    assert "Did you mean" in ngozi.post(f"/jobs/{job}/sheet/members", 422, touched="F4X", do="member", member="rail")
    page = ngozi.post(f"/jobs/{job}/sheet/members", touched=codes, do="member", member="right rail", seen_version="1")
    assert "right right rail" not in page, "a name that says its side keeps it"
    assert '<th scope="row">right rail</th>' in page
    assert "Version 2 of the sheet was accepted meanwhile" in ngozi.post(
        f"/jobs/{job}/sheet/members", 409, touched="F3L", do="member", member="rail", seen_version="1"
    )
    assert "Signed by" in ngozi.get(f"/jobs/{job}/holds/setup_accepted"), "names change no dimension"
    page = ngozi.get(f"/jobs/{job}/holds/decision_made")
    assert "right rail: not looked at yet" in page
    relied = ngozi.post(f"/jobs/{job}/sheet/members", 422, touched="C1L", do="not reference")
    assert "read as a reference in the set-up in force" in relied
    moved = without_members().replace("2420", "2421")
    ngozi.post(f"/jobs/{job}/sheet", table=moved, source="plain.csv", seen_version="2")
    assert "the sheet is another version" in ngozi.get(f"/jobs/{job}/holds/setup_accepted"), "dimensions do"


def test_a_sheet_without_any_member_is_not_decided(as_role) -> None:
    ngozi, solveig = as_role("technician"), as_role("lead")
    job = new_job(ngozi)
    make_safe(ngozi, job)
    ngozi.post(f"/jobs/{job}/sheet", table=without_members(), source="plain.csv", seen_version="")
    with_references(ngozi, job)
    sign(ngozi, job, "setup_accepted")
    read_all(ngozi, job, {})
    page = solveig.get(f"/jobs/{job}/holds/decision_made")
    assert "The sheet names no member" in page
    assert f"/jobs/{job}/sheet/members" in page
