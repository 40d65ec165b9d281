"""A whole job as one file: out of one shop, changed on the way in every manner, and into another, where it is read and verified."""

import hashlib
import html
import io
import json
import os
import re
import zipfile
from collections.abc import Callable

import httpx
import pymysql
import pytest
import rfc8785
from PIL import Image
from typer.testing import CliRunner

from fairsquare.cli import app as command_line
from fairsquare.core.errors import Refused
from fairsquare.core.sheet.model import Span
from fairsquare.demo.people import SIGN_INS
from fairsquare.files.foreign import foreign_faults
from fairsquare.files.job_file import _own_sha256, check_file, read_job_file
from fairsquare.files.records import check_record
from fairsquare.job.facts.cuts import WeldTickFact
from fairsquare.job.facts.damage import LineFact
from fairsquare.job.facts.intake import SafetyFact
from fairsquare.settings import Settings
from fairsquare.store import people, photos
from fairsquare.store.database import Database, select
from fairsquare.store.migrate import migrate
from fairsquare.web.app import create_app
from tests.conftest import Pages, by_admin, key
from tests.web.test_job import new_job, read_all, sign, with_references, with_sheet

LEAD = next(one for one in SIGN_INS if one.role == "lead")


def grain() -> bytes:
    """A picture that every encoding changes a little."""
    out = io.BytesIO()
    Image.effect_noise((400, 300), 60).convert("RGB").save(out, "JPEG", quality=95)
    return out.getvalue()


@pytest.fixture(scope="module")
def job(as_role) -> str:
    """A job with its set-up signed, one point out, a finding with a photo, hours, a wait, and an earlier record."""
    ngozi = as_role("technician")
    number = new_job(ngozi)
    with_sheet(ngozi, number)
    with_references(ngozi, number)
    sign(ngozi, number, "setup_accepted")
    read_all(ngozi, number, {"F5R": (-9.0, 2.0, 4.0), "F4R": (-5.0, 1.0, 2.0)})
    ngozi.post(
        f"/jobs/{number}/photos",
        files={"photo": ("rail end.jpg", grain(), "image/jpeg")},
        about="job",
        words="the rail end",
    )
    ngozi.post(f"/jobs/{number}/waits", kind="part", words="right rail", asked_of="Ines", due="", station="cuts")
    ngozi.post(f"/jobs/{number}/record")
    return number


@pytest.fixture(scope="module")
def file(as_role, job) -> bytes:
    answer = as_role("technician").http.post(f"/jobs/{job}/file", data={"csrf": as_role("technician").csrf()})
    assert answer.status_code == 200
    assert f'filename="{job}-' in answer.headers["content-disposition"]
    return answer.content


@pytest.fixture
def other(empty):
    """Another shop: its own database, its own people, its own numbers, working in inches."""
    migrate(empty)
    database = Database(empty, 4)
    database.run(lambda c: people.add_person(c, LEAD.name, "Somebody Else", "lead", LEAD.password, demo=True))
    settings = Settings(database_url=empty, demo=True, workshop="Tern Bay Garage", number_prefix="TB-")
    yield Pages(create_app(settings, database), LEAD)
    database.close()


def members(file: bytes) -> dict[str, bytes]:
    with zipfile.ZipFile(io.BytesIO(file)) as archive:
        return {name: archive.read(name) for name in archive.namelist()}


def packed(found: dict[str, bytes]) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, content in found.items():
            archive.writestr(name, content)
    return out.getvalue()


def resealed(found: dict[str, bytes]) -> bytes:
    """The file with its list made anew, as somebody would who wants to hide a change and has no key to sign it with."""
    manifest = json.loads(found["manifest.json"])
    del manifest["sha256"], manifest["signature"]
    manifest["format"] = "fairsquare-job/1"
    manifest["members"] = {n: hashlib.sha256(c).hexdigest() for n, c in found.items() if n != "manifest.json"}
    manifest["sha256"] = _own_sha256(manifest)
    return packed({**found, "manifest.json": rfc8785.dumps(manifest)})


def test_another_shop_reads_it_with_all_its_pages_and_verifies_its_records(job, file, other, as_role) -> None:
    text = other.post("/jobs/files", files={"file": ("a.job.zip", file, "application/zip")})
    assert "Came from Sandlark Sound Ferries as SL-0001" in text
    assert "The file was whole and its figures follow from its readings" in text
    here = "TB-0001"
    for page in (
        "measure",
        "damage",
        "sheet",
        "set-up",
        "walk-round",
        "hours",
        "waits",
        "holds/setup_accepted",
        "take-in",
    ):
        shown = other.get(f"/jobs/{here}/{page}")
        assert "This job came as a file, as SL-0001 of Sandlark Sound Ferries" in shown, page
    assert "signed by" in other.get(f"/jobs/{here}/record")
    own = as_role("technician").http.get(f"/jobs/{job}/measure").text
    assert own.count("axis-off") == other.get(f"/jobs/{here}/measure").count("axis-off") > 0, "the same figures"
    assert "right rail" in other.get(f"/jobs/{here}/waits")
    records = [name for name in members(file) if name.startswith("record")]
    assert len(records) == 2, "the record of now and the one before"
    for name in records:
        sha256 = check_record(members(file)[name]).sha256
        assert "Whole, and its figures follow from its readings." in other.get(f"/records/{sha256}")
        archive = other.http.get(f"/records/{sha256}.zip")
        assert check_record(archive.content).good, "with its photo"
    shown = re.search(rf"/jobs/{here}/photos/\d+\.jpg", other.get(f"/jobs/{here}/walk-round")).group()
    picture = other.http.get(shown).content
    sent = members(file)["photos/1.jpg"]
    assert picture != sent, "what a page shows was made anew from the pixels"
    assert members(archive.content)["photos/1.jpg"] == sent, "what the record names goes out as it came"
    assert here not in other.get("/"), "it is not on the floor"
    assert here in other.get("/?closed=yes&q=Dunlin")


def test_nothing_is_added_to_it_and_it_is_not_taken_twice(file, other) -> None:
    other.post("/jobs/files", files={"file": ("a.job.zip", file, "application/zip")})
    again = other.post("/jobs/files", files={"file": ("b.job.zip", file, "application/zip")})
    assert "TB-0001" in again
    assert "TB-0002" not in other.get("/?closed=yes")
    for page, fields in (
        ("readings", {"setup": "1", "call": "f5r 1 2 3"}),
        ("close", {"closed": "no"}),
        ("record", {}),
        ("waits", {"kind": "part", "words": "another rail", "asked_of": "", "due": "", "station": ""}),
        ("work/add", {"operation": "Measure", "day": "2026-11-20", "since": "09:00", "until": "10:00"}),
    ):
        refused = other.post(f"/jobs/TB-0001/{page}", 409, **fields)
        assert "came as a file, as SL-0001 of Sandlark Sound Ferries" in refused, page
    assert "came as a file" in other.post("/jobs/TB-0001/file", 409)


def apart(url: str) -> list[dict]:
    database = Database(url, 1)
    rows = database.run(
        lambda c: select(c, "SELECT a.*, f.picture AS beside FROM photo_apart a LEFT JOIN photo f ON f.apart_id = a.id")
    )
    database.close()
    return rows


@pytest.mark.parametrize("answered", [True, False])
def test_its_photos_are_kept_one_by_one_and_taken_up_again_where_one_was_lost(
    file, other, empty, monkeypatch, answered
) -> None:
    own, times = photos.keep_apart, []

    def lost_once(connection, **given) -> int:
        kept = own(connection, **given)
        times.append(given["place"])
        if len(times) == 1:
            if answered:
                connection.commit()
            raise pymysql.err.OperationalError(2013, "lost")
        return kept

    monkeypatch.setattr(photos, "keep_apart", lost_once)
    other.post("/jobs/files", files={"file": ("a.job.zip", file, "application/zip")})
    (row,) = apart(empty)
    assert times == [0, 0] and row["beside"] == b"", "kept once, and not a second time in the photo's own row"
    assert row["as_sent"] == members(file)["photos/1.jpg"]


def test_of_a_job_that_is_not_taken_nothing_is_kept_nor_of_one_whose_server_was_gone(
    file, other, empty, monkeypatch
) -> None:
    by_admin(
        empty,
        "INSERT INTO photo_apart (claim, place, picture, at) VALUES ('gone', 0, 'x', UTC_TIMESTAMP(6) - INTERVAL 25 HOUR), "
        "('under way', 0, 'y', UTC_TIMESTAMP(6))",
    )

    def refuse(*_) -> None:
        raise Refused("This job file is not taken.")

    with monkeypatch.context() as patch:
        patch.setattr("fairsquare.actions.carrying._check_it_can_be_shown", refuse)
        other.post("/jobs/files", 422, files={"file": ("a.job.zip", file, "application/zip")})
    assert [row["claim"] for row in apart(empty)] == ["under way"]
    other.post("/jobs/files", files={"file": ("a.job.zip", file, "application/zip")})
    assert len(apart(empty)) == 2


def test_it_is_not_taken_where_it_comes_from(as_role, job, file) -> None:
    refused = as_role("lead").post("/jobs/files", 422, files={"file": ("a.job.zip", file, "application/zip")})
    assert f"This job is here already: {job} has a record of it" in refused
    as_role("apprentice").post("/jobs/files", 403, files={"file": ("a.job.zip", file, "application/zip")})
    assert "Choose the file" in as_role("lead").post("/jobs/files", 422)


def facts_changed(found: dict[str, bytes]) -> bytes:
    body = json.loads(found["job.json"])
    body["facts"]["readings"][-1]["xyz"][0] += 3.0
    return resealed({**found, "job.json": rfc8785.dumps(body)})


def said_otherwise(**ways) -> Callable[[dict[str, bytes]], bytes]:
    """A file that says something else of the job, sealed anew: of what its record does not carry, or of both alike."""

    def forged(found: dict[str, bytes]) -> bytes:
        body = json.loads(found["job.json"])
        for way, value in ways.items():
            *path, last = way.split("__")
            at = body["facts"]
            for step in path:
                at = at[int(step)] if step.isdigit() else at[step]
            at[int(last) if last.isdigit() else last] = value
        return resealed({**found, "job.json": rfc8785.dumps(body)})

    return forged


@pytest.mark.parametrize(
    ("ways", "words"),
    [
        ({"waits__0__station": "nowhere"}, "there is no station nowhere"),
        ({"waits__0__due_at": "tomorrow"}, "waits.0.due_at is no time: tomorrow"),
        ({"waits__0__by__at": "9999-12-31T00:00:00Z"}, "waits.0.by.at is no time"),
        ({"waits__0__by__name": " "}, "waits.0.by.name names nobody"),
        ({"waits__0__words": "x\u0000y"}, "waits.0.words has letters that cannot be shown"),
        ({"waits__0__words": "x" * 9000}, "waits.0.words is longer than 8000"),
        ({"waits__0__kind": "holiday"}, "job.json cannot be read"),
    ],
)
def test_a_forged_job_is_not_taken_and_no_list_is_broken(file, other, ways, words) -> None:
    before = other.get("/?closed=yes")
    answer = other.post(
        "/jobs/files", 422, files={"file": ("a.job.zip", said_otherwise(**ways)(members(file)), "application/zip")}
    )
    assert words in html.unescape(answer)
    assert other.get("/?closed=yes") == before


def test_a_genuine_file_is_verified_and_a_changed_one_is_not(file, tmp_path) -> None:
    for content, status, words in (
        (file, 0, "whole: yes"),
        (said_otherwise(waits__0__station="no")(members(file)), 1, "whole: NO"),
    ):
        kept = tmp_path / "a.job.zip"
        kept.write_bytes(content)
        told = CliRunner().invoke(command_line, ["verify", str(kept)])
        assert (told.exit_code, words in told.output) == (status, True), told.output
    assert check_file(members(file)["record.json"]).good


def test_what_refers_to_nothing_is_foreign(file) -> None:
    facts = read_job_file(file).body.facts
    assert list(foreign_faults(facts)) == []
    reading, tick = (
        facts.readings[0],
        WeldTickFact(id=1, section=7, whose="vehicle", weld="1", done=True, did="", by=facts.waits[0].by),
    )
    line = LineFact(id=1, item="wings", answer="hurt", words="", by=tick.by)
    astray = Span(a=facts.sheet.points[0].code, b="X9", mode="point_to_point", mm=100.0)
    for change, words in (
        ({"readings": (reading.model_copy(update={"setup": 9}),)}, "readings, set-up: there is no 9"),
        ({"readings": (reading, reading)}, "readings: one of them is in it twice"),
        ({"weld_ticks": (tick,)}, "ticks, section: there is no 7"),
        ({"line": (line,)}, "line: there is no part wings"),
        (
            {"safety": (SafetyFact(id=1, item="horn", answer="done", words="", by=tick.by),)},
            "safety: there is no item horn",
        ),
        ({"sheet": facts.sheet.model_copy(update={"points": ()})}, "sheet: it has no point"),
        ({"sheet": facts.sheet.model_copy(update={"spans": (astray,)})}, "sheet, spans: there is no point X9"),
        ({"photos": (facts.photos[0].model_copy(update={"sha256": "x" * 64}),)}, "photos: 1 has no checksum"),
    ):
        assert next(foreign_faults(facts.model_copy(update=change))) == words


def test_a_job_that_is_broken_all_the_same_takes_no_list_down(file, other, empty) -> None:
    """Such as one that an older version took in: its rows are changed behind the application's back."""
    other.post("/jobs/files", files={"file": ("a.job.zip", file, "application/zip")})
    by_admin(empty, "UPDATE job_came SET facts = JSON_SET(facts, '$.readings[0].kind', 'guess')")
    database = Database(empty, 4)
    other = Pages(create_app(Settings(database_url=empty, demo=True), database), LEAD)
    other.post("/jobs", vehicle="Tern Bay launch", construction="trailer", hit_where="front", hit_from_deg="45")
    closed = other.get("/?closed=yes&q=Dunlin")
    assert "This job cannot be shown" in closed and "TB-0001" in closed
    assert "Tern Bay launch" in other.get("/")
    other.get("/day")
    by_admin(empty, "UPDATE job SET closed_at = NULL")
    token = other.http.post("/api/v1/session", json={"name": "solveig", "password": "north-light-12"}).json()["token"]
    listed = other.http.get("/api/v1/jobs", headers={"authorization": f"Bearer {token}"}).json()["jobs"]
    assert {one["number"]: one["waits"] for one in listed}["TB-0001"] == "cannot be shown: see the log"
    assert "The shop" in other.post("/day/plan", 422), "it asks who works there, as it does without that job"
    database.close()


def figures_changed(found: dict[str, bytes]) -> bytes:
    return resealed({**found, "record.json": found["record.json"].replace(b'"off"', b'"fair"')})


@pytest.mark.parametrize(
    ("change", "words"),
    [
        (lambda f: b"no file at all", "no job file, or it is damaged"),
        (lambda f: packed(f)[:-200], "not taken: it is damaged"),
        (lambda f: packed({n: c for n, c in f.items() if n != "manifest.json"}), "no list of what it holds"),
        (lambda f: packed({n: c for n, c in f.items() if n != "record.json"}), "record.json is missing"),
        (lambda f: packed({**f, "job.json": f["job.json"].replace(b"Dunlin", b"Durlin")}), "job.json was changed"),
        (lambda f: packed({**f, "more.txt": b"x"}), "more.txt was added"),
        (
            lambda f: packed({**f, "manifest.json": f["manifest.json"].replace(b"SL-0001", b"SL-0002")}),
            "list was changed",
        ),
        (lambda f: packed({**f, "manifest.json": f["manifest.json"].replace(b"job/2", b"job/9")}), "of version 9"),
        (facts_changed, "its readings are not those of its record"),
        (figures_changed, "its record is not whole"),
        (
            lambda f: resealed({n: c for n, c in f.items() if not n.startswith("photos/")}),
            "photo 1, rail end.jpg, is missing",
        ),
        (lambda f: resealed({**f, "record.json": b"{}"}), "its record is not whole"),
        (lambda f: resealed({**f, "job.json": b"[]"}), "job.json cannot be read"),
        (
            lambda f: resealed({n: c[:-9] + b"         " if n.startswith("records/") else c for n, c in f.items()}),
            "an earlier record",
        ),
    ],
)
def test_a_file_that_was_changed_is_not_taken_and_says_what(file, change, words) -> None:
    with pytest.raises(Refused, match=words) as caught:
        read_job_file(change(members(file)))
    assert caught.value.field == "file"


def test_by_the_command_line_and_by_the_api(url, job, server, other, empty, tmp_path) -> None:
    def run(where: str, *words: str):
        return CliRunner().invoke(command_line, words, env={**os.environ, "FAIRSQUARE_DATABASE_URL": where})

    out = tmp_path / "a.job.zip"
    made = run(url, "export", job, str(out), "--as", "ngozi")
    assert made.exit_code == 0, made.output
    again = run(url, "export", job, str(out), "--as", "ngozi")
    assert (again.exit_code, "is there already" in again.output) == (2, True)
    assert "Nobody signs in as x" in run(empty, "import", str(out), "--as", "x").output
    back = run(empty, "import", str(out), "--as", "solveig")
    assert back.exit_code == 0, back.output
    assert f"{job} of " in back.output
    api = httpx.Client(base_url=server, timeout=30)
    lead = next(one for one in SIGN_INS if one.role == "lead")
    token = api.post("/api/v1/session", json={"name": lead.name, "password": lead.password}).json()["token"]
    api.headers["authorization"] = f"Bearer {token}"
    got = api.post(f"/api/v1/jobs/{job}/file")
    assert read_job_file(got.content).manifest.number == job
    sent = api.post(
        "/api/v1/jobs/files", content=got.content, headers={"request-key": key(), "content-type": "application/zip"}
    )
    assert (sent.status_code, "is here already" in sent.json()["title"]) == (422, True)
