"""Supplements and their link, and parts check-in, through the pages."""

import io
import re

import httpx
import pytest
from PIL import Image

from fairsquare.actions import Desk
from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.demo.people import SIGN_INS, SignIn
from fairsquare.job.intake.parts import part_states
from fairsquare.job.intake.supplements import cross_spans, is_cross_checked, line_states
from fairsquare.stand_ins.vehicles import DUNLIN
from fairsquare.store.database import Database, execute
from tests.conftest import Pages, key
from tests.web.test_job import decide_to_keep, make_safe, new_job, read_all, sign, with_references, with_sheet


def jpeg() -> bytes:
    out = io.BytesIO()
    Image.new("RGB", (320, 240), "#667").save(out, "JPEG")
    return out.getvalue()


@pytest.fixture(scope="module")
def decided(as_role) -> str:
    """A fair Dunlin whose decision is signed."""
    ngozi = as_role("technician")
    job = new_job(ngozi)
    make_safe(ngozi, job)
    with_sheet(ngozi, job)
    with_references(ngozi, job)
    sign(ngozi, job, "setup_accepted")
    read_all(ngozi, job)
    decide_to_keep(ngozi, job)
    return job


def link_of(page: str) -> str:
    return re.search(r"/supplement/[\w-]{32}", page).group(0)


def send(pages, job: str, desk: Desk, **more) -> str:
    lines = [str(state.line.id) for state in line_states(desk.view(job).facts)]
    return link_of(pages.post(f"/jobs/{job}/supplements/send", payer="Harbour Mutual", days="30", lines=lines, **more))


def test_a_line_blocks_until_it_is_approved_or_a_lead_lets_it_go_on(as_role, decided, desk: Desk, app) -> None:
    ngozi, tomasz, solveig = as_role("technician"), as_role("estimator"), as_role("lead")
    path = f"/jobs/{decided}/supplements"
    assert "Say what was found" in ngozi.post(f"{path}/lines", 422, words="x", hours="2")
    assert "Hours as a number" in ngozi.post(f"{path}/lines", 422, words="inner panel torn", hours="two")
    ngozi.post(
        f"{path}/lines", words="inner panel torn behind the bumper", hours="2,5", amount="180", station="measure"
    )
    assert "Open again: a supplement waits for the payer" in ngozi.get(f"/jobs/{decided}/decide")
    (state,) = line_states(desk.view(decided).facts)
    line = f"{path}/lines/{state.line.id}"
    ngozi.post(
        f"/jobs/{decided}/photos",
        files={"photo": ("a.jpg", jpeg(), "image/jpeg")},
        about="supplement",
        about_id=state.line.id,
    )
    assert "not sent yet: nobody" in tomasz.post(f"{line}/answer", 409, answer="approved", named="Ines")
    ngozi.post(f"{path}/send", 403, payer="Harbour Mutual", days="30", lines=str(state.line.id))
    assert "Name the payer" in tomasz.post(f"{path}/send", 422, payer="", days="30", lines=str(state.line.id))
    assert "Choose the lines" in tomasz.post(f"{path}/send", 422, payer="Harbour Mutual", days="30")
    link = send(tomasz, decided, desk)
    payer = Pages(app, None)
    page = payer.get(link)
    assert "inner panel torn behind the bumper" in page
    assert "No cross spans were taken" not in page, "pairs of points are measured"
    assert "Sign out" not in page
    mark, words = f"answer-{state.line.id}", f"words-{state.line.id}"
    assert "Write your name" in payer.http.post(link, data={mark: "refused", "named": ""}).text
    assert "what you would like to know" in payer.http.post(link, data={mark: "asked", "named": "Ines"}).text
    assert "or approve all" in payer.http.post(link, data={"named": "Ines", "do": "marked"}).text
    assert "Approve, refuse, or ask" in payer.http.post(link, data={mark: "perhaps", "named": "Ines"}).text
    refused = payer.http.post(link, data={mark: "refused", "named": "Ines Okonjo", words: "not seen"})
    assert "Refused</b> by Ines Okonjo" in refused.text
    assert "is refused by the payer" in ngozi.get(f"/jobs/{decided}/holds/decision_made")
    ngozi.post(f"{line}/go-ahead", 403, reason="it cannot wait for that")
    payer.http.post(link, data={mark: "approved", "named": "Ines Okonjo"})
    assert "Signed by" in ngozi.get(f"/jobs/{decided}/decide"), "what was signed stands again"
    page = tomasz.get(path)
    assert page.index("Refused") < page.index("Approved ")
    ngozi.post(f"{path}/lines", words="clip missing", hours="0.2")
    more = line_states(desk.view(decided).facts)[-1].line.id
    solveig.post(f"{path}/lines/{more}/go-ahead", reason="a clip is not worth a letter")
    assert "Signed by" in ngozi.get(f"/jobs/{decided}/decide")
    ngozi.post(f"{path}/lines/{more}/take-back")
    assert "Taken back: clip missing" in ngozi.get(path)


def test_two_cross_spans_are_asked_for_before_an_estimate_leaves(as_role, desk: Desk) -> None:
    ngozi, tomasz = as_role("technician"), as_role("estimator")
    job = new_job(ngozi, hit_force="hard", hit_moved="spun")
    assert desk.view(job).job.details.hit_force == "hard" and desk.view(job).job.details.hit_moved == "spun"
    assert '<option value="spun" selected>it was spun round' in ngozi.get(f"/jobs/{job}/take-in")
    with_sheet(ngozi, job)
    ngozi.post(f"/jobs/{job}/supplements/lines", words="lamp bracket broken", hours="0.5")
    (first, second) = cross_spans(desk.view(job).facts)
    for page in (tomasz.get(f"/jobs/{job}/supplements"), tomasz.get(f"/jobs/{job}/hours")):
        assert f"Take {first[0]} to {first[1]} and {second[0]} to {second[1]}" in page
    for a, b in (first, second):
        ngozi.post(f"/jobs/{job}/readings", setup="", call=f"{a} {b} 4000", unit="mm")
    assert "First two cross spans" not in tomasz.get(f"/jobs/{job}/supplements")


def test_a_payer_names_himself_once_and_approves_all_but_what_is_marked(as_role, desk: Desk, app) -> None:
    ngozi, tomasz = as_role("technician"), as_role("estimator")
    job = new_job(ngozi)
    for words in ("rail end torn", "bracket bent", "floor seam open"):
        ngozi.post(f"/jobs/{job}/supplements/lines", words=words, hours="1")
    first, second, third = (one.line.id for one in line_states(desk.view(job).facts))
    answer = send(tomasz, job, desk)
    payer = Pages(app, None)
    page = payer.get(answer)
    assert page.count('name="named"') == 1 and "3 of 3</b> not answered" in page
    kept = payer.http.post(answer, data={f"answer-{second}": "asked", "named": "Ines Okonjo", "do": "rest"}).text
    assert "what you would like to know" in kept and 'value="asked" checked' in kept and "Ines Okonjo" in kept
    assert not desk.view(job).facts.supplement_answers, "where something is wrong nothing is recorded"
    done = payer.http.post(
        answer, data={f"answer-{second}": "asked", f"words-{second}": "why", "named": "Ines Okonjo", "do": "rest"}
    )
    assert str(done.url).endswith("#answered"), "it does not jump to the top"
    said = {one.line: one.answer for one in desk.view(job).facts.supplement_answers}
    assert said == {first: "approved", second: "asked", third: "approved"}
    assert "All 3 lines are answered" in payer.get(answer)


def test_the_link_shows_that_one_supplement_and_nothing_else(as_role, desk: Desk, app, database: Database) -> None:
    ngozi, tomasz = as_role("technician"), as_role("estimator")
    job = new_job(ngozi)
    path = f"/jobs/{job}/supplements"
    ngozi.post(f"{path}/lines", words="lamp bracket broken", hours="0.5")
    ngozi.post(f"/jobs/{job}/photos", files={"photo": ("other.jpg", jpeg(), "image/jpeg")}, about="job")
    (state,) = line_states(desk.view(job).facts)
    ngozi.post(
        f"/jobs/{job}/photos",
        files={"photo": ("own.jpg", jpeg(), "image/jpeg")},
        about="supplement",
        about_id=state.line.id,
    )
    assert not is_cross_checked(desk.view(job).facts)
    first = send(tomasz, job, desk)
    ngozi.post(f"{path}/lines", words="a line that came later", hours="9")
    payer = Pages(app, None)
    page = payer.get(first)
    assert "No cross spans were taken" in page
    before = tomasz.get(path)
    assert "First two cross spans" in before and "There is no sheet yet" in before
    assert "a line that came later" not in page, "it stays as it was sent"
    other, own = (photo.id for photo in desk.view(job).facts.photos)
    assert payer.http.get(f"{first}/photos/{own}.jpg?small=1").headers["content-type"] == "image/jpeg"
    assert payer.http.get(f"{first}/photos/{other}.jpg").status_code == 404
    answer = payer.http.get(first)
    assert answer.headers["referrer-policy"] == "no-referrer"
    assert answer.headers["cache-control"] == "no-store"
    assert "Sign in" in payer.get(f"/jobs/{job}/supplements"), "it is no way into the job"
    pdf = payer.http.get(f"{first}/paper.pdf")
    assert pdf.content[:5] == b"%PDF-"
    code = first.rsplit("/", 1)[1]
    stored = database.run(lambda c: execute(c, "SELECT 1 FROM supplement WHERE seen LIKE %s", f"%{code}%"))
    assert stored == 0, "the code itself is not kept"
    second = send(tomasz, job, desk)
    supplement = desk.view(job).facts.supplements[0].id
    tomasz.post(f"{path}/{supplement}/withdraw")
    assert payer.http.get(first).status_code == 404
    assert payer.http.post(first, data={"answer-1": "approved", "named": "Ines"}).status_code == 404
    database.run(lambda c: execute(c, "UPDATE supplement SET expires_at = UTC_TIMESTAMP(6) - INTERVAL 1 SECOND"))
    gone = payer.http.get(second)
    assert gone.status_code == 404
    assert "may have run out or been withdrawn" in gone.text


def test_guessing_links_is_stopped(app) -> None:
    payer = Pages(app, None)
    codes = [payer.http.get(f"/supplement/{number:032d}").status_code for number in range(16)]
    assert codes[-1] == 429
    assert set(codes) == {404, 429}


def test_a_part_is_counted_off_and_measured(as_role, desk: Desk) -> None:
    keahi = as_role("apprentice")
    job = new_job(as_role("technician"))
    with_sheet(as_role("technician"), job)
    path = f"/jobs/{job}/parts"
    assert "Name the part" in keahi.post(path, 422, name="", origin="donor")
    page = keahi.post(path, name="right rear rail end", origin="donor", source="yard at the north quay", identity="X12")
    assert "a donor can be bent too: measure it" in page
    (state,) = part_states(desk.view(job).facts)
    own = f"{path}/{state.part.id}"
    assert "Count from 0" in keahi.post(
        f"{own}/items", 422, kind="bracket", words="fuel filler", old_count="2000", new_count="1"
    )
    keahi.post(f"{own}/items", kind="bracket", words="fuel filler", old_count="2", new_count="1")
    page = keahi.post(f"{own}/items", kind="layer", words="at the flange", old_count="3", new_count="3")
    assert "fuel filler: 1 of 2" in page
    page = keahi.post(
        f"{own}/items", kind="bracket", words="Fuel filler", old_count="2", new_count="1", plan="moved over"
    )
    assert "fuel filler: 1 of 2" not in page
    assert "not on the sheet" in keahi.post(f"{own}/spans", 422, a="R2R", b="R9R", said="410", unit="mm")
    page = keahi.post(f"{own}/spans", a="r2r", b="R3R", said="452", unit="mm")
    assert "R2R to R3R is 13.2 mm too short" in page
    page = keahi.post(f"{own}/spans", a="R2R", b="R3R", said="465.3", unit="mm")
    assert "nothing is missing" in page
    other = new_job(as_role("technician"))
    assert "no part" in keahi.post(
        f"/jobs/{other}/parts/{state.part.id}/items", 422, kind="nut", words="m8", old_count="1", new_count="1"
    )


def test_the_same_by_the_api(server, database, persons) -> None:
    api = httpx.Client(base_url=f"{server}/api/v1", timeout=20)

    def sign_in(person: SignIn) -> None:
        token = api.post("/session", json={"name": person.name, "password": person.password}).json()["token"]
        api.headers["authorization"] = f"Bearer {token}"

    def send(path: str, status: int = 201, **body) -> dict:
        answer = api.post(path, json={"request_key": key(), **body})
        assert answer.status_code == status, answer.text
        return answer.json()

    sign_in(next(one for one in SIGN_INS if one.role == "lead"))
    job = send("/jobs", details={"vehicle": DUNLIN.name})["number"]
    sheet = {"request_key": key(), "sheet": DUNLIN.sheet.model_dump(mode="json")}
    api.put(f"/jobs/{job}/sheet", json=sheet)
    line = send(f"/jobs/{job}/supplements/lines", words="inner panel torn", hours=2.5)["ids"][0]
    assert "Say what was found" in send(f"/jobs/{job}/supplements/lines", 422, words="x", hours=2.5)["title"]
    code = send(f"/jobs/{job}/supplements", payer="Harbour Mutual", lines=[line])["code"]
    assert "inner panel torn" in httpx.get(f"{server}/supplement/{code}").text
    send(f"/jobs/{job}/supplements/lines/{line}/answer", 200, answer="refused", named="Ines Okonjo")
    send(f"/jobs/{job}/supplements/lines/{line}/go-ahead", 200, reason="the door cannot be hung without it")
    send(f"/jobs/{job}/supplements/1/withdraw", 422)
    sent = api.get(f"/jobs/{job}/facts").json()["supplements"][0]["id"]
    send(f"/jobs/{job}/supplements/{sent}/withdraw", 200)
    assert httpx.get(f"{server}/supplement/{code}").status_code == 404
    send(f"/jobs/{job}/supplements/lines/{line}/take-back", 200)
    part = send(f"/jobs/{job}/parts", name="rear rail end", origin="new")["ids"][0]
    send(f"/jobs/{job}/parts/{part}/items", kind="nut", words="M8", old_count=4, new_count=3)
    send(f"/jobs/{job}/parts/{part}/spans", a="R2R", b="R3R", said="46.5 cm")
    facts = api.get(f"/jobs/{job}/facts").json()
    assert (facts["part_items"][0]["new_count"], facts["part_spans"][0]["mm"]) == (3, 465.0)


def test_hours_that_were_left_out_open_no_decision_and_what_is_found_on_the_structure_does(as_role, desk) -> None:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    with_sheet(ngozi, job)
    with_references(ngozi, job)
    sign(ngozi, job, "setup_accepted")
    read_all(ngozi, job)
    decide_to_keep(ngozi, job)
    assert desk.view(job).state.hold("decision_made").status == "closed"
    ngozi.post(f"/jobs/{job}/supplements/lines", words="two more hours of refitting", hours="2", structural_asked="1")
    assert desk.view(job).state.hold("decision_made").status == "closed"
    ngozi.post(
        f"/jobs/{job}/supplements/lines",
        words="inner panel torn behind the bumper",
        hours="3",
        structural_asked="1",
        structural="1",
    )
    assert desk.view(job).state.hold("decision_made").status != "closed"
    assert 'href="/jobs/' + job + '/supplements"' in ngozi.get(f"/jobs/{job}/holds/decision_made")


def test_who_may_not_sign_is_not_offered_to(as_role) -> None:
    job = new_job(as_role("technician"))
    for item in SAFETY_ITEMS:
        by = {"done_by": "Pernille Ostrander", "qualification": "KR-2231"} if item.qualified else {}
        as_role("technician").post(f"/jobs/{job}/safety", item=item.key, answer="done", **by)
    assert "Sign “Made safe”" in as_role("technician").get(f"/jobs/{job}/take-in")
    page = as_role("apprentice").get(f"/jobs/{job}/take-in")
    assert "Sign “Made safe”" not in page and "For a technician or a lead to sign" in page
