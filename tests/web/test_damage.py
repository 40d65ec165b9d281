"""From the walk-round to the decision, through the pages: what is seen, photos, contradictions, members, the hold."""

import io
import re

import numpy as np
import pytest
from PIL import Image

from fairsquare.actions import Desk
from fairsquare.demo.damage import decisions_of, walk_round_of
from fairsquare.job.damage.job import damage_of
from fairsquare.stand_ins.vehicles import DUNLIN
from tests.conftest import key
from tests.web.test_job import make_safe, new_job, read_all, sign, with_references, with_sheet

MOVED = {code: np.array(far) for code, far in DUNLIN.moved.items()}


@pytest.fixture(scope="module")
def struck(as_role) -> str:
    """A Dunlin that was struck, measured whole."""
    ngozi = as_role("technician")
    job = new_job(ngozi)
    make_safe(ngozi, job)
    with_sheet(ngozi, job)
    with_references(ngozi, job)
    sign(ngozi, job, "setup_accepted")
    read_all(ngozi, job, MOVED)
    return job


def jpeg(size=(640, 480)) -> bytes:
    out = io.BytesIO()
    Image.new("RGB", size, "#667").save(out, "JPEG")
    return out.getvalue()


def test_what_is_seen_is_noted_placed_and_taken_back(as_role) -> None:
    keahi, ngozi = as_role("apprentice"), as_role("technician")
    job = new_job(ngozi)
    assert "Nothing yet." in keahi.get(f"/jobs/{job}/walk-round")
    assert "Say what it is" in keahi.get(f"/jobs/{job}/walk-round/understood?call=it+looks+bad", 422)
    page = keahi.post(f"/jobs/{job}/walk-round", call="crack in the right rail", unit="mm", xy="1800,-470")
    assert "Crack in the right rail" in page
    assert 'class="w-mark"' in page
    page = keahi.post(f"/jobs/{job}/walk-round", 422, call="gap lid 4", unit="mm")
    assert "Read a gap on both sides" in page
    assert 'value="gap lid 4"' in page, "what was typed is kept"
    page = ngozi.post(f"/jobs/{job}/walk-round", call="gap lid left 5/32 in right 8", unit="mm")
    assert "4.0 | 8.0 mm" in page
    assert "panels do not fit here" in page
    finding = re.search(r'id="seen-(\d+)"', page).group(1)
    page = ngozi.post(f"/jobs/{job}/walk-round/{finding}/take-back", 422, back_reason="no")
    assert "write in a sentence why it is taken back" in page, "what binds a decision goes with a reason"
    page = ngozi.post(f"/jobs/{job}/walk-round/{finding}/take-back", back_reason="it was dirt, wiped off")
    assert "Taken back: crack in the right rail" in page
    assert "it was dirt, wiped off" in page
    other = new_job(ngozi)
    assert "There is no finding" in ngozi.post(f"/jobs/{other}/walk-round/{finding}/take-back", 422)


def test_parts_along_the_line_and_worth(as_role) -> None:
    ngozi, tomasz = as_role("technician"), as_role("estimator")
    job = new_job(ngozi)
    assert "Say what is hurt" in ngozi.post(f"/jobs/{job}/line", 422, item="axle", answer="hurt")
    assert "hurt: bent at the left mount" in ngozi.post(
        f"/jobs/{job}/line", item="axle", answer="hurt", words="bent at the left mount"
    )
    assert "not on the list" in ngozi.post(f"/jobs/{job}/line", 422, item="wings", answer="sound")
    ngozi.post(f"/jobs/{job}/worth", 403, value="8000", cost="2000")
    assert "An amount" in tomasz.post(f"/jobs/{job}/worth", 422, value="a lot", cost="2000")
    assert "<b>40 %</b> of its value" in tomasz.post(f"/jobs/{job}/worth", value="8 000", cost="3200,00")
    assert ": in doubt" in tomasz.post(f"/jobs/{job}/worth", value="8000", cost="6400")


def test_photos_are_kept_and_shown_only_to_who_is_signed_in(as_role, app) -> None:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    page = ngozi.post(f"/jobs/{job}/photos", files={"photo": ("front.jpg", jpeg(), "image/jpeg")}, about="job")
    path = re.search(rf"/jobs/{job}/photos/\d+\.jpg", page).group(0)
    answer = ngozi.http.get(path)
    assert answer.headers["content-type"] == "image/jpeg"
    assert answer.headers["x-content-type-options"] == "nosniff"
    assert Image.open(io.BytesIO(answer.content)).size == (640, 480)
    assert max(Image.open(io.BytesIO(ngozi.http.get(path + "?small=1").content)).size) == 320
    ngozi.http.get(path.replace(job, new_job(ngozi)))
    assert ngozi.http.get(path.replace(job, new_job(ngozi))).status_code == 409, "not by another job's number"
    from tests.conftest import Pages

    assert "Sign in" in Pages(app, None).http.get(path).text
    json = {"accept": "application/json"}
    svg = {"photo": ("x.svg", b"<svg/>", "image/svg+xml")}
    refused = ngozi.http.post(
        f"/jobs/{job}/photos",
        data={"csrf": ngozi.csrf(), "request_key": key()},
        files=svg,
        headers=json,
    )
    assert refused.status_code == 422
    assert "Send a JPEG, PNG or WebP" in refused.json()["title"]
    assert "Choose a photo" in ngozi.post(f"/jobs/{job}/photos", 422, about="job")
    assert "not of this job" in ngozi.post(
        f"/jobs/{job}/photos", 422, files={"photo": ("a.jpg", jpeg(), "image/jpeg")}, about="walk", about_id="999999"
    )
    large = ngozi.http.post(f"/jobs/{job}/photos", content=b"x", headers={"content-length": str(65 * 1024 * 1024)})
    assert large.status_code == 413
    assert "64 MB" in large.text


def test_the_damage_is_read_and_contradictions_are_settled(as_role, struck) -> None:
    ngozi, keahi = as_role("technician"), as_role("apprentice")
    page = ngozi.get(f"/jobs/{struck}/damage")
    assert re.search(r"It starts at \+9\d\d ± \d+", page)
    assert re.search(r"From the front right, \d+°", page)
    assert "The two agree." in page
    assert "Nothing contradicts, and every point is known." in page
    assert "kept its shape" in page
    ngozi.post(f"/jobs/{struck}/walk-round", call="lid does not fit at C2L", unit="mm")
    page = ngozi.get(f"/jobs/{struck}/damage")
    assert "To settle before deciding: 1" in page
    assert "C2L reads fair, yet the panels there do not fit" in page
    assert "Write the reason" in ngozi.post(f"/jobs/{struck}/damage/settle", 422, finding="fit:C2L", reason="no")
    assert "settled by a" in keahi.post(
        f"/jobs/{struck}/damage/settle", 403, finding="fit:C2L", reason="the hinge is bent"
    )
    page = ngozi.post(f"/jobs/{struck}/damage/settle", finding="fit:C2L", reason="the hinge is bent, not the rail")
    assert "the hinge is bent, not the rail" in page
    assert "To settle before deciding: 0" in page
    assert "is not there any more" in ngozi.post(
        f"/jobs/{struck}/damage/settle", 409, finding="fit:F5L", reason="a reason that is long enough"
    )


def see(pages, job: str, member: str, status: int = 200, **fields) -> str:
    whole = {
        "member": member,
        "layer": "",
        "material": "high_strength",
        "role": "structural",
        "signs": "bent",
        **fields,
    }
    return pages.post(f"/jobs/{job}/decide/member", status, **whole)


def seen_id(page: str) -> str:
    return re.search(r'name="seen" value="(\d+)"', page).group(1)


def test_members_are_decided_by_rule_by_person_and_by_lead(as_role, struck) -> None:
    ngozi, solveig = as_role("technician"), as_role("lead")
    assert "Name the member" in see(ngozi, struck, " ", 422)
    assert "choose from mild" in see(ngozi, struck, "right front rail", 422, material="cheese")
    page = see(ngozi, struck, "right front rail", straighten="no", source="leaflet 7")
    assert "Nobody may decide otherwise." in page
    path = f"/jobs/{struck}/decide"
    common = {"member": "right front rail", "layer": "", "seen": seen_id(page)}
    assert "Nobody may decide otherwise here" in solveig.post(path, 422, decision="straighten", **common)
    assert "Nobody may decide otherwise here" in solveig.post(path, 422, decision="try", **common)
    ngozi.post(path, decision="replace_at_seams", hours="7,5", donor="new", **common)
    page = see(ngozi, struck, "left front rail")
    common = {"member": "left front rail", "layer": "", "seen": seen_id(page)}
    assert "Only a lead may decide otherwise" in ngozi.post(
        path, 422, decision="section", reason="it is quicker so", **common
    )
    assert "Say what would make us give it up" in ngozi.post(path, 422, decision="try", **common)
    assert "Name the owner" in ngozi.post(path, 422, decision="leave", remains="4 mm at the left end", **common)
    assert "Hours as a number" in ngozi.post(path, 422, decision="straighten", hours="some", **common)
    ngozi.post(path, decision="try", gives_up="a crack at the dye test", reason="the donor is six weeks away", **common)
    page = see(ngozi, struck, "left front rail", signs="kinked")
    assert "seen anew since it was decided" in page
    assert "looked at again meanwhile" in ngozi.post(path, 409, decision="try", **common)
    common["seen"] = seen_id(page)
    solveig.post(path, decision="straighten", reason="the kink is a scratch, seen with the paint off", **common)
    page = ngozi.post(f"/jobs/{struck}/decide/keep-fair")
    assert "All the evidence is there." in page
    sign(ngozi, struck, "decision_made")
    assert "Signed by Ngozi Adeyemi" in ngozi.get(path)
    see(ngozi, struck, "left sill", layer="inner", signs="")
    assert "a member was looked at again" in ngozi.get(path)


def test_the_makers_word_is_entered_once_for_a_variant(as_role, struck) -> None:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    make_safe(ngozi, job)
    with_sheet(ngozi, job)
    page = ngozi.get(f"/jobs/{job}/decide?member=right+front+rail")
    assert 'value="leaflet 7"' in page
    assert "as entered on another job of this variant" in page
    assert '<option value="no" selected>forbidden' in page


def test_what_was_found_stands_in_the_record_after_the_pulls(as_role, struck, desk: Desk) -> None:
    ngozi = as_role("technician")
    before = damage_of(desk.view(struck).facts)
    ngozi.post(f"/jobs/{struck}/moved", what="structure", words="pulled at the right rail", at="measure")
    read_all(ngozi, struck)
    after = damage_of(desk.view(struck).facts)
    assert after is not None
    assert before is not None
    assert after.ends["front"].onset == before.ends["front"].onset
    assert "as it was before the first pull" in ngozi.get(f"/jobs/{struck}/damage")
    page = as_role("lead").post(f"/jobs/{struck}/record")
    assert "Whole, and its figures follow from its readings." in page
    assert "replace at seams" in page
    assert "a crack at the dye test" in page
    assert "lid does not fit at C2L" in page


def test_the_demo_has_a_walk_round_with_pictures(desk: Desk, persons) -> None:
    from fairsquare.store.jobs import JobDetails

    job = desk.open_job(persons["lead"], key(), JobDetails(vehicle=DUNLIN.name))
    walk_round_of(desk, {"ngozi": persons["technician"], "tomasz": persons["estimator"]}, job, DUNLIN)
    decisions_of(desk, persons["technician"], persons["lead"], job, DUNLIN)
    facts = desk.view(job).facts
    assert len(facts.photos) == 2
    assert {seen.kind for seen in facts.walk} >= {"kink", "buckle", "gap", "plate"}
    assert facts.decisions == (), "nothing is decided of what is not measured"


def test_what_only_a_qualified_person_may_do_names_that_person(as_role) -> None:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    path = f"/jobs/{job}/safety"
    assert "who did it? Name the person" in ngozi.post(path, 422, item="refrigerant", answer="done")
    page = ngozi.post(path, 422, item="high_voltage", answer="done", done_by="Pernille Ostrander")
    assert "the number of the qualification of Pernille Ostrander" in page
    assert 'value="Pernille Ostrander"' in page, "what was typed is kept"
    page = ngozi.post(path, item="high_voltage", answer="done", done_by="Pernille Ostrander", qualification="HV-3-118")
    assert "done by Pernille Ostrander, qualification HV-3-118" in page
    assert "not on this vehicle" in ngozi.post(path, item="refrigerant", answer="absent")


def test_a_member_has_photos_of_its_own(as_role, desk: Desk) -> None:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    with_sheet(ngozi, job)
    see(ngozi, job, "left sill", signs="")
    seen = desk.view(job).facts.members[0].id
    photo = {"photo": ("sill.jpg", jpeg(), "image/jpeg")}
    page = ngozi.post(f"/jobs/{job}/photos", files=photo, about="member", about_id=seen)
    assert "Decide" in page
    assert 'alt="photo of left sill"' in ngozi.get(f"/jobs/{job}/decide?member=left+sill")
