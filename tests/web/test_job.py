"""The job through its pages, without a screen: taken in, sheet, set-up, readings, holds, record; and what opens again."""

import json
import re
import time
from io import BytesIO
from types import SimpleNamespace

import numpy as np
import pytest
from pypdf import PdfReader

from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.files.records import check_record
from fairsquare.files.sheets import sheet_as_csv, sheet_as_xlsx, sheet_from_json
from fairsquare.stand_ins.vehicles import DUNLIN, instrument_reading
from fairsquare.store.jobs import JobDetails
from tests.web.fitting import SPANS, fit_on_rack_and_wheels, read_spans

PLACES = {point.code: np.array(point.xyz) for point in DUNLIN.sheet.points}
REFERENCES = [point.code for point in DUNLIN.sheet.points if point.reference]


def call(code: str, moved=(0.0, 0.0, 0.0), setup: int = 1) -> str:
    xyz = instrument_reading(PLACES[code] + np.array(moved), setup, np.zeros(3))
    return f"{code.lower()} {xyz[0]} {xyz[1]} {xyz[2]}"


def new_job(pages, vehicle: str = "Dunlin post van", **more: str) -> str:
    text = pages.post("/jobs", vehicle=vehicle, construction="unibody", hit_where="front", hit_from_deg="45", **more)
    return re.search(r"/jobs/(SL-\d+)/take-in", text).group(1)


def make_safe(pages, job: str) -> None:
    for item in SAFETY_ITEMS:
        by = {"done_by": "Pernille Ostrander", "qualification": "KR-2231"} if item.qualified else {}
        pages.post(f"/jobs/{job}/safety", item=item.key, answer="done", **by)
    sign(pages, job, "made_safe")


def sign(pages, job: str, hold: str, status: int = 200, **more: str) -> str:
    page = pages.get(f"/jobs/{job}/holds/{hold}")
    seen = re.search(r'name="seen" value="([^"]*)"', page)
    evidence = seen.group(1).replace("&#34;", '"') if seen else "{}"
    return pages.post(f"/jobs/{job}/holds/{hold}", status, seen=evidence, **more)


def with_sheet(pages, job: str) -> None:
    """Give the job its sheet, and make it safe where that was not done."""
    if "Done: 12 V battery off" in pages.get(f"/jobs/{job}/take-in"):
        make_safe(pages, job)
    pages.post(f"/jobs/{job}/sheet", table=sheet_as_csv(DUNLIN.sheet), unit="mm", seen_version="0")


def with_references(pages, job: str, setup: int = 1) -> None:
    pages.post(f"/jobs/{job}/set-up", instrument="3-D instrument", sigma_mm="0.3")
    table = "\n".join(call(code, setup=setup).replace(" ", ", ") for code in REFERENCES)
    pages.post(f"/jobs/{job}/set-up/paste", setup=str(setup), table=table, unit="mm")


def read_all(pages, job: str, moved=None, setup: int = 1) -> None:
    for code in PLACES:
        if code not in REFERENCES:
            text = call(code, (moved or {}).get(code, (0.0, 0.0, 0.0)), setup)
            pages.post(f"/jobs/{job}/readings", setup=str(setup), call=text, unit="mm")


def decide_to_keep(pages, job: str) -> None:
    """Keep every member, all of them being fair, and sign that."""
    pages.post(f"/jobs/{job}/decide/keep-fair")
    sign(pages, job, "decision_made")


@pytest.fixture(scope="module")
def fair_job(as_role) -> str:
    """A job that has come as far as its last hold, signed by the lead."""
    ngozi, solveig = as_role("technician"), as_role("lead")
    job = new_job(ngozi)
    make_safe(ngozi, job)
    with_sheet(ngozi, job)
    with_references(ngozi, job)
    sign(ngozi, job, "setup_accepted")
    read_all(ngozi, job)
    decide_to_keep(ngozi, job)
    fit_on_rack_and_wheels(ngozi, job)
    sign(solveig, job, "fit_accepted")
    return job


def test_the_whole_way(as_role, fair_job) -> None:
    solveig = as_role("lead")
    page = solveig.post(f"/jobs/{fair_job}/record")
    assert "Whole, and its figures follow from its readings." in page
    digest = re.search(r"/records/([0-9a-f]{64})\.json", page).group(1)
    answer = solveig.http.get(f"/records/{digest}.json")
    assert check_record(answer.content).good
    assert [h["status"] for h in answer.json()["results"]["holds"]] == ["closed"] * 4 + ["missing"]
    pdf = solveig.http.get(f"/records/{digest}.pdf")
    assert pdf.content[:5] == b"%PDF-"
    assert solveig.get(f"/records/{digest}.csv").count("\n") == 21
    assert f'filename="{fair_job}-record' in answer.headers["content-disposition"]


def test_the_record_is_on_paper_to_be_read(as_role, fair_job) -> None:
    digest = re.search(r"/records/([0-9a-f]{64})\.json", as_role("lead").post(f"/jobs/{fair_job}/record")).group(1)
    pages = PdfReader(BytesIO(as_role("lead").http.get(f"/records/{digest}.pdf").content)).pages
    text = " ".join(page.extract_text() for page in pages)
    assert digest in text.replace("\n", "").replace(" ", "")
    for words in ("Solveig Haraldsen", "F5R", "lid to right fender", "local law come first"):
        assert words in text
    width, height = (float(v) for v in pages[0].mediabox[2:])
    assert (round(width), round(height)) == (595, 842)


def test_the_page_shows_what_stands(as_role, fair_job) -> None:
    page = as_role("technician").get(f"/jobs/{fair_job}/measure?point=F4R")
    assert page.count('data-code="F4R"') >= 2
    assert "<b>20</b> of 20 points" in page
    why = as_role("technician").get(f"/jobs/{fair_job}/why/F4R")
    for words in ("chance of being within", "JCGM 106:2012", "Ngozi Adeyemi", "yes"):
        assert words in why
    assert "ready to be signed" not in as_role("technician").get(f"/jobs/{fair_job}/record")


def test_a_new_reading_opens_the_hold_again_and_says_why(as_role, fair_job) -> None:
    ngozi, solveig = as_role("technician"), as_role("lead")
    refused = ngozi.post(f"/jobs/{fair_job}/readings", 409, setup="1", call=call("F5R"), unit="mm")
    assert "only spans are read now" in refused, "it stands on its wheels"
    read_spans(ngozi, fair_job, 9.0, spans=SPANS[:1])
    page = solveig.get(f"/jobs/{fair_job}/holds/fit_accepted")
    assert "Open again: points were read, corrected or taken back." in page
    assert "contradicted by other readings" in page
    assert "Spans differ from before it was let down" in page
    number = re.findall(r'data-correct="(\d+)"', ngozi.get(f"/jobs/{fair_job}/measure?seen=readings"))
    last = max(int(one) for one in number)
    ngozi.post(f"/jobs/{fair_job}/take-back", reading=str(last))
    page = solveig.get(f"/jobs/{fair_job}/holds/fit_accepted")
    assert "Signed by Solveig Haraldsen" in page, "the evidence is again what was signed"


def test_a_bench_that_was_moved_voids_the_set_up(as_role, fair_job) -> None:
    ngozi = as_role("technician")
    page = ngozi.post(f"/jobs/{fair_job}/moved", what="bench", words="bumped by the lift")
    assert "is void" in page
    assert "bumped by the lift" in page
    refused = ngozi.post(f"/jobs/{fair_job}/readings", 409, setup="1", call=call("F5R"), unit="mm")
    assert "Set-up 1 is void: bumped by the lift" in refused
    assert "There is no set-up in force" in ngozi.get(f"/jobs/{fair_job}/measure")
    assert call("C1L").replace(" ", ", ") in ngozi.get(f"/jobs/{fair_job}/set-up?setup=1")
    with_references(ngozi, fair_job, 2)
    assert "points not read" in ngozi.get(f"/jobs/{fair_job}/holds/fit_accepted")
    early = ngozi.post(f"/jobs/{fair_job}/readings", 409, setup="2", call=call("F5R", setup=2), unit="mm")
    assert "“Set-up accepted” is not signed any more, and the job may not go past it" in early
    sign(ngozi, fair_job, "setup_accepted")
    read_all(ngozi, fair_job, setup=2)
    ngozi.post(f"/jobs/{fair_job}/moved", what="structure", at="measure")
    page = ngozi.get(f"/jobs/{fair_job}/holds/fit_accepted")
    assert "Older than the last move" in page


def test_a_set_up_that_is_not_clear_is_chosen_with_a_reason(as_role) -> None:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    with_sheet(ngozi, job)
    ngozi.post(f"/jobs/{job}/set-up", instrument="3-D instrument", sigma_mm="0.3")
    for code in REFERENCES[:5]:
        moved = (0.0, 0.0, 6.0) if code == "C2R" else (0.0, 0.0, 0.0)
        ngozi.post(f"/jobs/{job}/set-up/references", setup="1", call=call(code, moved), unit="mm")
    page = ngozi.get(f"/jobs/{job}/set-up")
    assert "Ambiguous" in page
    offered = re.findall(r'name="trusted" value="([^"]+)"', page)
    assert len(offered) > 1
    assert "choose which to trust" in ngozi.get(f"/jobs/{job}/holds/setup_accepted")
    ngozi.post(f"/jobs/{job}/set-up/choose", 422, setup="1", trusted=offered[1], reason="no")
    ngozi.post(f"/jobs/{job}/set-up/choose", 422, setup="1", trusted="C1L C1R C3L", reason="a reason of some length")
    page = ngozi.post(f"/jobs/{job}/set-up/choose", setup="1", trusted=offered[1], reason="the right sill was struck")
    assert "chosen by Ngozi Adeyemi, “the right sill was struck”" in page
    refused = sign(ngozi, job, "setup_accepted", 409)
    assert "Only a lead may override what is missing: The references hold the turn" in refused
    sign(as_role("lead"), job, "setup_accepted", 422, reason="short")
    assert "Signed by" in sign(as_role("lead"), job, "setup_accepted", reason="only the front is judged on this one")


def test_a_reading_is_corrected_and_nothing_is_erased(as_role) -> None:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    with_sheet(ngozi, job)
    with_references(ngozi, job)
    sign(ngozi, job, "setup_accepted")
    slip = call("F5R", (300.0, 0.0, 0.0))
    ngozi.post(f"/jobs/{job}/readings", setup="1", call=slip, unit="mm")
    number = re.search(r'data-correct="(\d+)"', ngozi.get(f"/jobs/{job}/measure?point=F5R")).group(1)
    ngozi.post(f"/jobs/{job}/readings", setup="1", call=call("F5R"), unit="mm", replaces=number)
    why = ngozi.get(f"/jobs/{job}/why/F5R")
    assert "no: corrected" in why
    assert slip in why
    wrong = ngozi.post(f"/jobs/{job}/readings", 422, setup="1", call=call("F5L"), unit="mm", replaces=number)
    assert "A correction names the points that it corrects" in wrong
    ngozi.post(f"/jobs/{job}/readings", setup="1", call=call("F4R") + " loaded", unit="mm")
    assert "Read only under load: F4R" in ngozi.get(f"/jobs/{job}/holds/fit_accepted")
    ngozi.post(f"/jobs/{job}/readings", setup="1", call=call("F3R"), unit="mm")
    ngozi.post(f"/jobs/{job}/readings", setup="1", call=call("F3R", (0.8, 0.0, 0.0)), unit="mm")
    assert "2 readings, apart by up to 0.4" in ngozi.get(f"/jobs/{job}/measure?point=F3R")


def test_the_call_line_says_what_it_understood(as_role, fair_job) -> None:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    with_sheet(ngozi, job)
    with_references(ngozi, job)
    said = ngozi.get(f"/jobs/{job}/measure/understood?call={call('F4R', (-14.0, 5.0, 7.0))}&unit=mm")
    assert "14.0 short, 5.0 left (narrow), 7.0 high" in said
    assert 'class="sign off"' in said
    near = ngozi.get(f"/jobs/{job}/measure/understood?call={call('F4R', (-2.9, 0.0, 0.0))}&unit=mm")
    assert 'class="sign close"' in near, "within tolerance, and not surely: it is not fair"
    assert "± 1.5" in near
    loaded = ngozi.get(f"/jobs/{job}/measure/understood?call={call('F4R')} loaded&unit=mm")
    assert "under load" in loaded
    assert 'class="sign fair"' not in loaded, "under load nothing is judged"
    assert "Did you mean F4R" in ngozi.get(f"/jobs/{job}/measure/understood?call=f4q 1 2 3", 422)
    assert "needs three numbers" in ngozi.get(f"/jobs/{job}/measure/understood?call=f4r 1", 422)
    in_inches = ngozi.get(f"/jobs/{job}/set-up/understood?call=c1l 40 21 3/8 7&unit=in")
    assert "1016.0" in in_inches


def test_a_reading_is_answered_before_it_is_drawn(as_role, fair_job, monkeypatch) -> None:
    """The figures are there at once, beside the drawing of before, in whose place the page asks for the one with the reading."""
    del fair_job
    ngozi = as_role("technician")
    job = new_job(ngozi)
    with_sheet(ngozi, job)
    with_references(ngozi, job)
    sign(as_role("lead"), job, "setup_accepted")
    square = re.compile(r'<a [^>]*data-code="F4R".*?</a>|<g [^>]*data-code="F4R".*?</g>', re.DOTALL)
    before = square.search(ngozi.get(f"/jobs/{job}/measure"))
    monkeypatch.setitem(ngozi.http.headers, "hx-request", "true")
    answer = ngozi.post(
        f"/jobs/{job}/readings", setup="1", call=call("F4R", (-14.0, 5.0, 7.0)), unit="mm", seen="sides"
    )
    assert "14.0" in answer
    assert "Drawn before the last reading" in answer
    assert before and square.search(answer).group() == before.group()
    asked = re.search(r'class="drawing-late" hx-get="([^"]+)"', answer).group(1).replace("&amp;", "&")
    drawn = ngozi.get(asked)
    assert drawn.startswith("<svg")
    assert square.search(drawn).group() != before.group()
    again = ngozi.post(f"/jobs/{job}/readings", setup="1", call="f4r 1", unit="mm", seen="sides", status=422)
    assert "Drawn before" not in again, "what was not taken needs no other drawing"
    nothing = ngozi.http.get(asked.replace("sides", "readings"))
    assert (nothing.status_code, nothing.headers["hx-trigger"]) == (204, "changed"), "the page asks for itself anew"


def test_inches_and_shop_light_are_remembered(app, as_role, fair_job) -> None:
    from fairsquare.demo.people import SIGN_INS
    from tests.conftest import Pages

    mateus = Pages(app, SIGN_INS[0])
    mateus.post("/preferences", units="in", back="/")
    mateus.post("/preferences", mode="shop", back="/")
    page = mateus.get(f"/jobs/{fair_job}/sheet?a=F4L&b=C1R")
    assert 'data-bs-theme="dark"' in page
    assert re.search(r"<b>59 3/4</b> in", page), "1517.6 mm"


def test_sheet_files_in_and_out(as_role) -> None:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    book = ("dunlin.xlsx", sheet_as_xlsx(DUNLIN.sheet))
    page = ngozi.post(f"/jobs/{job}/sheet/preview", files={"file": book}, unit="mm")
    assert "20 points understood; nothing is stored until you accept" in page
    assert "there is no sheet yet" in ngozi.get(f"/jobs/{job}/sheet")
    with_sheet(ngozi, job)
    assert sheet_from_json(ngozi.http.get(f"/jobs/{job}/sheet.json").text) == DUNLIN.sheet
    for kind in ("csv", "xlsx"):
        answer = ngozi.http.get(f"/jobs/{job}/sheet.{kind}")
        page = ngozi.post(f"/jobs/{job}/sheet/preview", files={"file": (f"x.{kind}", answer.content)}, unit="mm")
        assert "nothing differs" in page, kind
    changed = sheet_as_csv(DUNLIN.sheet).replace("2420", "2421")
    page = ngozi.post(f"/jobs/{job}/sheet/preview", table=changed, unit="mm")
    assert "F5L: length 2420 mm → 2421 mm" in page
    stale = ngozi.post(f"/jobs/{job}/sheet", 409, table=changed, unit="mm", seen_version="0")
    assert "was accepted meanwhile" in stale
    ngozi.post(f"/jobs/{job}/sheet", table=changed, unit="mm", seen_version="1")
    assert "version 2" in ngozi.get(f"/jobs/{job}/sheet")
    assert "(not the newest)" in ngozi.get(f"/jobs/{job}/sheet?version=1")


def test_the_floor(as_role, fair_job) -> None:
    ngozi = as_role("technician")
    assert fair_job in ngozi.get("/")
    assert "Nothing matches" in ngozi.get("/?q=zzzz")
    new_job(ngozi, "Sanderling tractor")
    assert "1 job match “sanderling”" in ngozi.get("/?q=sanderling")
    assert json.loads(ngozi.http.get("/api/openapi.json").text)["info"]["title"] == "Fair Square"


def test_a_closed_job_leaves_the_floor_and_takes_nothing_more(as_role) -> None:
    ngozi, solveig = as_role("technician"), as_role("lead")
    job = new_job(ngozi, "Ruff forklift")
    ngozi.post(f"/jobs/{job}/close", 403, closed="yes")
    solveig.post(f"/jobs/{job}/close", closed="yes")
    assert job not in ngozi.get("/")
    assert job in ngozi.get("/?closed=1")
    assert "is closed. A lead can open it again" in ngozi.post(
        f"/jobs/{job}/safety", 409, item="battery", answer="done"
    )
    solveig.post(f"/jobs/{job}/close", closed="no")
    assert job in ngozi.get("/?q=ruff")


def test_a_pdf_of_400_points(desk, persons, as_role) -> None:
    """It takes some seconds: the page that waits for it says so and can be left."""
    from bench.bench import measure, sheet_of

    job = desk.open_job(persons["lead"], "k" * 20, JobDetails(vehicle="Heron long wheelbase"))
    measure(SimpleNamespace(desk=desk), persons["lead"], job, sheet_of(400))
    digest = desk.make_record(persons["lead"], "r" * 20, job)
    pages = as_role("technician")
    first = pages.http.get(f"/records/{digest}/paper")
    assert first.headers["content-type"] == "application/pdf" or "The PDF is being made" in first.text
    until = time.monotonic() + 120
    while not (pdf := pages.http.get(f"/records/{digest}.pdf").content).startswith(b"%PDF-"):
        assert time.monotonic() < until, pdf[:500]
    polled = pages.http.get(f"/records/{digest}/paper", headers={"hx-request": "true"})
    assert polled.headers["hx-redirect"] == f"/records/{digest}.pdf"
    assert "P393" in "".join(page.extract_text() for page in PdfReader(BytesIO(pdf)).pages)
