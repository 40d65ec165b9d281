"""Bad input: a clear message that names the field, what was typed is kept, and nothing of it is stored or run."""

import re
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pymysql
import pytest

from fairsquare import web
from fairsquare.actions.sign_in import check_sign_in
from fairsquare.demo.people import SIGN_INS
from fairsquare.settings import Settings
from fairsquare.store import jobs
from fairsquare.web.app import create_app
from tests.conftest import Pages, by_admin, key
from tests.web.test_job import call, make_safe, new_job, sign, with_references, with_sheet

MARKUP = '<script>alert("x")</script>'
SHOWN = "&lt;script&gt;alert(&#34;x&#34;)&lt;/script&gt;"


def preview(pages, job: str, name: str, content: bytes, status: int) -> str:
    return pages.post(f"/jobs/{job}/sheet/preview", status, files={"file": (name, content)}, unit="mm")


@pytest.fixture(scope="module")
def job(as_role) -> str:
    return new_job(as_role("technician"))


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("empty.csv", b"", "the file is empty"),
        ("picture.xlsx", b"\x89PNG\r\n\x1a\n" + bytes(200), "named .xlsx but is no workbook"),
        ("cut.xlsx", b"PK\x03\x04" + bytes(300), "the workbook cannot be opened"),
        ("noise.csv", bytes(range(256)) * 3, "neither text nor a workbook"),
        ("big.csv", b"code,length,width,height\n" + b"A,1,2,3\n" * 400_000, "larger than 2 MB"),
        ("bad.json", b'{"name": "x", "points": 3}', "construction: field required"),
    ],
)
def test_files_that_are_no_sheets(as_role, job, name, content, words) -> None:
    assert words in preview(as_role("technician"), job, name, content, 422)
    assert "there is no sheet yet" in as_role("technician").get(f"/jobs/{job}/sheet")


def test_a_hundred_megabytes(as_role, job) -> None:
    pages = as_role("technician")
    content = b"x" * (100 * 1024 * 1024)
    assert "larger than 8 MB" in preview(pages, job, "huge.csv", content, 413)


def test_latin_1_bytes_are_read_and_said(as_role, job) -> None:
    content = "code;name;length;width;height\nA1L;Türholm;1,5;2;3\nB1L;x;4;5;6\n".encode("latin-1")
    page = preview(as_role("technician"), job, "old.csv", content, 200)
    assert "read as Windows-1252" in page
    assert "length 1.5" in page
    assert "Türholm" in page


@pytest.mark.parametrize(
    ("table", "words"),
    [
        ("code,length,width,height\nA,1,2,3\nA,1,2,4\n", "A stands already on line 2"),
        ("code,length,width\nA,1,2\n", "is missing"),
        ("code,length,width,height\nA,1,2,3\n", "A sheet of one point"),
        ("code,length,width,height\nA,NaN,2,3\nB,1e308,2,3\n", "is not a length"),
        ("code,length,width,height\nA,=1+1,2,3\nB,1,2,3\n", "is a formula"),
    ],
)
def test_sheets_with_problems_are_not_accepted_and_keep_what_was_typed(as_role, job, table, words) -> None:
    page = as_role("technician").post(f"/jobs/{job}/sheet", 422, table=table, unit="mm")
    assert words in page
    assert table.splitlines()[1].split(",")[0] in page.split("<textarea")[1]
    assert "there is no sheet yet" in as_role("technician").get(f"/jobs/{job}/sheet")


def test_markup_in_every_text_field_is_shown_as_text(as_role) -> None:
    ngozi = as_role("technician")
    text = ngozi.post("/jobs", vehicle=MARKUP, construction="unibody", hit_words=MARKUP, notes=MARKUP)
    number = re.search(r"/jobs/(SL-\d+)/take-in", text).group(1)
    make_safe(ngozi, number)
    named = "code,name,member,length,width,height,reference\n" + "".join(
        f'{code},"{MARKUP.replace(chr(34), chr(34) * 2)}","{MARKUP.replace(chr(34), chr(34) * 2)}",{x},{y},180,yes\n'
        for code, x, y in (("C1L", 1000, 500), ("C1R", 1000, -500), ("C2L", -900, 510), ("C2R", -900, -510))
    )
    ngozi.post(f"/jobs/{number}/sheet", table=named, unit="mm", source=MARKUP, name=MARKUP)
    ngozi.post(f"/jobs/{number}/set-up", instrument=MARKUP, sigma_mm="0.3")
    for code, x, y in (("c1l", 1000, 500), ("c1r", 1000, -500), ("c2l", -900, 510), ("c2r", -900, -510)):
        ngozi.post(f"/jobs/{number}/set-up/references", setup="1", call=f"{code} {x} {y} 180", unit="mm")
    ngozi.post(f"/jobs/{number}/gaps", place=MARKUP, said="4", target="4", tolerance="1", unit="mm")
    ngozi.post(f"/jobs/{number}/readings", 422, setup="1", call=MARKUP, unit="mm")
    ngozi.post(f"/jobs/{number}/moved", what="bridge", words=MARKUP)
    made = ngozi.post(f"/jobs/{number}/record")
    pages = [made, ngozi.get("/?q=" + "%3Cscript"), text]
    own = ("take-in", "sheet", "sheet?a=<script>&b=C1L", "sheet?edit=true", "set-up", "set-up?setup=1", "fit", "record")
    pages += [ngozi.http.get(f"/jobs/{number}/{page}").text for page in own]
    for page in pages:
        assert "<script>alert" not in page
    assert sum(SHOWN in page for page in pages) >= 6


def test_a_job_that_is_not_there(as_role) -> None:
    page = as_role("technician").get("/jobs/SL-9999/measure", 404)
    assert "There is no job SL-9999" in page
    assert "There is no such page" in as_role("technician").get("/nowhere", 404)


def test_wrong_fields_keep_what_was_typed(as_role, job) -> None:
    ngozi = as_role("technician")
    page = ngozi.post("/jobs", 422, vehicle="", construction="unibody", notes="the long story")
    assert "Vehicle is needed" in page
    assert "the long story" in page
    page = ngozi.post("/jobs", 422, vehicle="Dunlin", vin="OOO", construction="unibody")
    assert "look for 1 and 0" in page
    page = ngozi.post(f"/jobs/{job}/gaps", 422, place="lid", said="four", target="4", tolerance="1", unit="mm")
    assert "“four” is not a length" in page
    assert 'value="lid four"' in page
    page = ngozi.post(f"/jobs/{job}/set-up", 409, instrument="an arm", sigma_mm="0.3")
    assert "“Made safe” is not signed, and the job may not go past it: 12 V battery off" in page
    make_safe(ngozi, job)
    page = ngozi.post(f"/jobs/{job}/set-up", 409, instrument="an arm", sigma_mm="0.3")
    assert "There is no sheet yet" in page


def test_a_stale_edit_keeps_what_was_typed(as_role) -> None:
    ngozi, tomasz = as_role("technician"), as_role("estimator")
    number = new_job(ngozi)
    fields = {"vehicle": "Dunlin", "construction": "unibody", "version": "1"}
    tomasz.post(f"/jobs/{number}/take-in", **fields, notes="sold for nine hours")
    page = ngozi.post(f"/jobs/{number}/take-in", 409, **fields, notes="my own notes")
    assert "Tomasz Wrona changed" in page
    assert "my own notes" in page


def test_the_same_reading_posted_twice_is_recorded_once(as_role) -> None:
    ngozi = as_role("technician")
    number = new_job(ngozi)
    with_sheet(ngozi, number)
    with_references(ngozi, number)
    sign(ngozi, number, "setup_accepted")
    again = key()
    for _ in range(3):
        ngozi.post(f"/jobs/{number}/readings", setup="1", call=call("F4R"), unit="mm", request_key=again)
    assert "1 reading, free" in re.sub(r"\s+", " ", ngozi.get(f"/jobs/{number}/measure?point=F4R"))
    page = ngozi.post(f"/jobs/{number}/gaps", 409, request_key=again, place="lid", said="4", target="4", tolerance="1")
    assert "used for something else" in page


def test_another_roles_action(as_role) -> None:
    ngozi, keahi, tomasz = as_role("technician"), as_role("apprentice"), as_role("estimator")
    number = new_job(ngozi)
    assert "you are signed in as apprentice" in keahi.post("/jobs", 403, vehicle="x", construction="unibody")
    assert "apprentice" in keahi.post(f"/jobs/{number}/safety", 403, item="battery", answer="done")
    make_safe(ngozi, number)
    with_sheet(ngozi, number)
    with_references(ngozi, number)
    for pages in (keahi, tomasz):
        assert "Hold points are signed by a" in sign(pages, number, "setup_accepted", 403)
    sign(ngozi, number, "setup_accepted")
    assert "Readings are taken by a" in tomasz.post(
        f"/jobs/{number}/readings", 403, setup="1", call=call("F4R"), unit="mm"
    )
    keahi.post(f"/jobs/{number}/readings", setup="1", call=call("F4R"), unit="mm")
    assert "People are managed by a lead" in ngozi.post(
        "/people", 403, name="x", full_name="X", role="lead", password="long-enough-1"
    )


def test_a_lead_overrides_with_a_reason_but_not_what_was_not_read(as_role) -> None:
    ngozi, solveig = as_role("technician"), as_role("lead")
    number = new_job(ngozi)
    make_safe(ngozi, number)
    with_sheet(ngozi, number)
    with_references(ngozi, number)
    sign(ngozi, number, "setup_accepted")
    assert "14 points not read" in sign(solveig, number, "fit_accepted", 409, reason="it looks well enough")


def test_a_sign_in_tried_fifty_times(url, database, persons) -> None:
    app = create_app(Settings(database_url=url, demo=True, sign_in_tries=8), database)
    pages = Pages(app, None)
    answers = [pages.http.post("/sign-in", data={"name": "solveig", "password": f"guess-{n}"}) for n in range(50)]
    assert [a.status_code for a in answers[:8]] == [401] * 8
    assert {a.status_code for a in answers[8:]} == {429}
    assert "Wait five minutes" in answers[-1].text
    assert pages.http.post("/sign-in", data={"name": "solveig", "password": "north-light-12"}).status_code == 429


def test_guesses_all_at_once_blanks_and_other_places(url, database, persons) -> None:
    settings = Settings(database_url=url, demo=True, sign_in_tries=8)
    app = create_app(settings, database)
    by_admin(url, "DELETE FROM sign_in_attempt")

    def guess(number: int) -> int:
        name = " " * (number % 4) + "tomasz" + " " * (number % 3)
        return Pages(app, None).http.post("/sign-in", data={"name": name, "password": f"guess-{number}"}).status_code

    with ThreadPoolExecutor(8) as many:
        answers = list(many.map(guess, range(40)))
    assert answers.count(401) <= 8
    assert set(answers) == {401, 429}
    own = next(one for one in SIGN_INS if one.name == "tomasz")
    assert check_sign_in(database, own.name, own.password, "10.0.0.9", 8).name == "tomasz", (
        "he is let in from elsewhere"
    )
    by_admin(url, "DELETE FROM sign_in_attempt")


def test_the_old_password_is_not_guessed_more_often_than_at_the_sign_in(url, database, persons) -> None:
    by_admin(url, "DELETE FROM sign_in_attempt")
    own = next(one for one in SIGN_INS if one.name == "keahi")
    pages = Pages(create_app(Settings(database_url=url, demo=True, sign_in_tries=3), database), own)
    said = {"person_id": str(persons["apprentice"].id), "new": "nine brown otters"}
    for _ in range(3):
        assert "The old password is not this one" in pages.post("/people/password", 422, old="wrong", **said)
    assert "Too many tries" in pages.post("/people/password", 429, old=own.password, **said)
    by_admin(url, "DELETE FROM sign_in_attempt")


def test_headers_cookies_and_tokens(app, as_role) -> None:
    stranger = Pages(app, None)
    answer = stranger.http.get("/jobs/new", follow_redirects=False)
    assert (answer.status_code, answer.headers["location"]) == (303, "/sign-in?next=/jobs/new")
    answer = stranger.http.post(
        "/sign-in", data={"name": "ngozi", "password": SIGN_INS[0].password}, follow_redirects=False
    )
    cookie = answer.headers["set-cookie"]
    assert "HttpOnly" in cookie
    assert "SameSite=lax" in cookie
    policy = answer.headers["content-security-policy"]
    assert "default-src 'none'" in policy
    assert "unsafe-inline" not in policy
    assert answer.headers["x-content-type-options"] == "nosniff"
    assert len(answer.headers["x-request-id"]) == 16
    forged = stranger.http.post("/jobs", data={"vehicle": "x", "csrf": "wrong", "request_key": key()})
    assert forged.status_code == 403
    elsewhere = stranger.http.post(
        "/sign-in", data={"name": "ngozi", "password": SIGN_INS[0].password}, headers={"origin": "http://elsewhere"}
    )
    assert elsewhere.status_code == 401
    away = stranger.http.post(
        "/preferences", data={"units": "in", "back": "//elsewhere.example"}, follow_redirects=False
    )
    assert away.headers["location"] == "/"


def test_pages_carry_no_inline_styles_or_scripts(as_role) -> None:
    ngozi = as_role("technician")
    number = new_job(ngozi)
    with_sheet(ngozi, number)
    with_references(ngozi, number)
    for page in (
        "/",
        "/jobs/new",
        "/people",
        "/help",
        "/calculations",
        *(f"/jobs/{number}/{p}" for p in ("take-in", "sheet", "set-up", "measure", "fit", "record")),
    ):
        text = ngozi.get(page)
        assert " style=" not in text, page
        assert not re.search(r"<script(?![^>]*src=)", text), page
        assert not re.search(r"\son\w+=", text), page


def test_health(app) -> None:
    pages = Pages(app, None)
    assert pages.http.get("/healthz").text == "ok\n"
    assert pages.http.get("/readyz").text == "ready\n"


def test_a_real_start_refuses_demo_passwords(database, persons) -> None:
    from fairsquare.service.server import unfit_to_start

    assert "everybody knows" in unfit_to_start(Settings(demo=False), database)
    assert unfit_to_start(Settings(demo=True), database) is None


def test_a_form_sent_while_the_database_is_away_is_kept_and_sent_again(as_role, mariadb) -> None:
    ngozi = as_role("technician")
    csrf, sent = ngozi.csrf(), key()
    fields = {
        "csrf": csrf,
        "request_key": sent,
        "vehicle": "Knot dumper",
        "construction": "truck",
        "notes": "a <long> story",
    }
    mariadb.kill()
    try:
        page = ngozi.http.post("/jobs", data=fields)
    finally:
        mariadb.restart()
    assert page.status_code == 503
    assert "Nothing that was confirmed is lost" in page.text
    assert "a &lt;long&gt; story" in page.text
    assert f'name="request_key" value="{sent}"' in page.text
    for _ in range(2):
        assert "Knot dumper" in ngozi.http.post("/jobs", data=fields).text
    assert "1 job match" in ngozi.get("/?q=knot+dumper")


def test_a_form_sent_while_the_disk_is_full_is_kept_and_says_what_helps(as_role, monkeypatch) -> None:
    ngozi = as_role("technician")

    def full(*_: object) -> str:
        raise pymysql.OperationalError(1114, "The table 'job' is full")

    monkeypatch.setattr(jobs, "open_job", full)
    page = ngozi.post("/jobs", 503, vehicle="Knot tipper", construction="truck", notes="a <long> story")
    assert "no room left on its disk" in page
    assert "a &lt;long&gt; story" in page
    answer = ngozi.http.get("/jobs/SL-9999")
    assert answer.status_code == 404, "what only reads is answered"
    monkeypatch.undo()
    ngozi.post("/jobs", vehicle="Knot tipper", construction="truck")


def test_a_lead_manages_people(app, as_role) -> None:
    solveig = as_role("lead")
    solveig.post("/people", name="ada", full_name="Ada B", role="apprentice", password="long-enough-1")
    solveig.post("/people", 422, name="ada", full_name="Ada C", role="apprentice", password="long-enough-1")
    shown = solveig.get("/people")
    numbers = {
        who: n for n, who in re.findall(r'/people/(\d+)/active".*?aria-label="Let go: ([^"]+)"', shown, re.DOTALL)
    }
    number = numbers["Ada B"]
    solveig.post("/people/password", person_id=number, new="another-long-1")
    ada = Pages(app, None)
    assert ada.http.post("/sign-in", data={"name": "ada", "password": "long-enough-1"}).status_code == 401
    assert "The floor" in ada.http.post("/sign-in", data={"name": "ada", "password": "another-long-1"}).text
    ada.post("/people/password", 422, person_id=number, old="wrong", new="my-own-words-1")
    ada.post("/people/password", 403, person_id="1", old="another-long-1", new="my-own-words-1")
    solveig.post(f"/people/{number}/active", active="no")
    assert ada.http.get("/", follow_redirects=False).status_code == 303
    assert ada.http.post("/sign-in", data={"name": "ada", "password": "another-long-1"}).status_code == 401


def test_what_is_slow_says_so_by_one_mechanism() -> None:
    """What templates write is what the script reads, on every form that waits."""
    folder = Path(web.__file__).parent
    script = (folder / "static" / "app.js").read_text(encoding="utf-8")
    texts = {page.name: page.read_text(encoding="utf-8") for page in (folder / "templates").rglob("*.html")}
    told = {name for name, text in texts.items() if "data-busy=" in text}
    assert "dataset.busy" in script
    assert {"day.html", "practice.html", "practice_told.html", "new_job.html"} <= told
    assert not [name for name, text in texts.items() if "data-slow" in text]


def test_a_hold_point_that_the_job_does_not_have(as_role, job) -> None:
    """Nothing was decided yet, so that nothing is to be pulled: its hold is neither shown nor signed."""
    pages = as_role("lead")
    assert "no hold point “Pulls done”" in pages.get(f"/jobs/{job}/holds/pulls_done", 404)
    pages.post(f"/jobs/{job}/holds/pulls_done", 404, seen="{}", reason="")
    lead = next(one for one in SIGN_INS if one.role == "lead")
    token = pages.http.post("/api/v1/session", json={"name": lead.name, "password": lead.password}).json()["token"]
    answer = pages.http.post(
        f"/api/v1/jobs/{job}/holds/pulls_done/sign",
        json={"request_key": key(), "seen": {}, "reason": ""},
        headers={"authorization": f"Bearer {token}"},
    )
    assert answer.status_code == 404, answer.text
    assert answer.json()["errors"][0]["field"] == "hold"
