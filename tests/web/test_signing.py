"""Keys on the pages: records are signed, another shop's key is accepted by a person, keys are made anew, verify says which."""

import html
import json
import re

import rfc8785
from typer.testing import CliRunner

from fairsquare.cli import app as command_line
from fairsquare.files.records import check_record, sealed
from fairsquare.files.signing import in_groups, new_key
from fairsquare.store import jobs, records
from fairsquare.web.routes.record import record_of
from tests.files.test_golden import GOLDEN
from tests.web.test_carrying import file, job, members, other, resealed

__all__ = ["file", "job", "other"]


def own_fingerprint(pages) -> str:
    groups = re.findall(r"<span>([0-9a-f]{4})</span>", pages.get("/keys"))
    assert len(groups) == 8
    return " ".join(groups)


def verify(tmp_path, content: bytes, *more: str, url: str = "") -> tuple[int, str]:
    (tmp_path / "f").write_bytes(content)
    done = CliRunner().invoke(
        command_line,
        ["verify", str(tmp_path / "f"), "--folder", str(tmp_path), *more],
        env={"FAIRSQUARE_DATABASE_URL": url},
    )
    return done.exit_code, done.output


def test_every_record_is_signed_and_its_page_says_so(as_role, job, file, url, tmp_path) -> None:
    lead = as_role("lead")
    own = own_fingerprint(lead)
    text = members(file)["record.json"]
    check = check_record(text)
    assert in_groups(check.signed_by.fingerprint) == own
    assert f"This shop, as Sandlark Sound Ferries, with its key {own}." in lead.get(f"/records/{check.sha256}")
    code, told = verify(tmp_path, text, "--key", own)
    assert (code, f"signed by: Sandlark Sound Ferries, key {own}: the one that you gave" in told) == (0, True)
    code, told = verify(tmp_path, text, "--key", in_groups("0" * 32))
    assert (code, "signed by: NOT the key that you gave" in told) == (1, True)
    code, told = verify(tmp_path, file)
    assert (code, "whole: yes" in told, "key that is not known here" in told) == (0, True, True)
    code, told = verify(tmp_path, file, url=url)
    assert (code, f"signed by: This shop, as Sandlark Sound Ferries, with its key {own}" in told) == (0, True)


def test_a_record_that_is_forged_is_told_from_one_that_is_signed(file, tmp_path) -> None:
    text = members(file)["record.json"].decode()
    forged = record_of(text).model_copy(update={"workshop": "Sandlark Sound Ferries "})
    integrity = json.loads(text)["integrity"]
    plain = sealed(forged, integrity["previous"])[0]
    code, told = verify(tmp_path, plain.encode())
    assert (code, "whole: yes" in told, "signed by: Nobody: " in told) == (0, True, True)
    fingerprint = in_groups(check_record(text.encode()).signed_by.fingerprint)
    assert verify(tmp_path, plain.encode(), "--key", fingerprint)[0] == 1, "who has the fingerprint is not taken in"
    loaded = json.loads(plain)
    kept = {**loaded["integrity"], "signature": integrity["signature"]}
    code, told = verify(tmp_path, rfc8785.dumps({**loaded, "integrity": kept}))
    assert (code, "not of this content" in told) == (1, True)
    own = sealed(forged, integrity["previous"], new_key("Sandlark Sound Ferries"))[0]
    assert verify(tmp_path, own.encode(), "--key", fingerprint)[0] == 1


def test_another_shops_key_is_accepted_once_by_a_person_who_heard_it(as_role, job, file, other) -> None:
    here = as_role("technician")
    other.post("/jobs/files", files={"file": ("a.job.zip", file, "application/zip")})
    page = "/jobs/TB-0001/record"
    text = html.unescape(other.get(page))
    assert "Somebody who calls themselves Sandlark Sound Ferries, with a key that is not known here." in text
    fingerprint = own_fingerprint(here)
    assert fingerprint not in text, "it is heard, not copied"
    refused = other.post(f"{page}/key", 422, fingerprint=in_groups("1" * 32))
    assert "this file is not from them" in html.unescape(refused)
    assert "eight groups of four" in other.post(f"{page}/key", 422, fingerprint="abc")
    text = html.unescape(other.post(f"{page}/key", fingerprint=fingerprint.upper().replace(" ", "")))
    assert f"Signed by:</b> Sandlark Sound Ferries, key {fingerprint}, which Somebody Else accepted here" in text
    assert "accepted before" in other.post("/keys", 422, shop="Sandlark", fingerprint=fingerprint)
    assert "own key" in other.post("/keys", 422, shop="Us", fingerprint=own_fingerprint(other))
    sha256 = check_record(members(file)["record.json"]).sha256
    assert "accepted here on" in other.get(f"/records/{sha256}")
    number = re.search(r"/keys/(\d+)/take-back", other.get("/keys")).group(1)
    assert "taken back by Somebody Else" in other.post(f"/keys/{number}/take-back")
    assert "Somebody Else took back" in other.get(page)
    assert f"Sandlark Sound Ferries</b> <code>{fingerprint}" in other.get("/keys")


def test_a_file_without_a_signature_or_with_anothers_says_so(file, other) -> None:
    found = members(file)
    manifest = json.loads(found["manifest.json"])
    changed = {**manifest, "workshop": "Somewhere"}
    bare = {name: value for name, value in changed.items() if name != "signature"}
    for said, words in ((bare, "its list was changed"), (changed, "its list was changed")):
        answer = other.post("/jobs/files", 422, files={"file": ("a.zip", resealed_as(found, said), "application/zip")})
        assert words in html.unescape(answer)
    stripped = {name: value for name, value in manifest.items() if name != "signature"}
    answer = other.post("/jobs/files", 422, files={"file": ("a.zip", resealed_as(found, stripped), "application/zip")})
    assert "its signature was cut away" in answer
    text = other.post("/jobs/files", files={"file": ("a.zip", resealed(found), "application/zip")})
    assert "Nobody: it was made before records were signed, or its signature was cut away." in html.unescape(text)


def resealed_as(found: dict[str, bytes], manifest: dict) -> bytes:
    from tests.web.test_carrying import packed

    return packed({**found, "manifest.json": rfc8785.dumps(manifest)})


def test_a_new_key_leaves_what_was_signed_before_signed(as_role, job) -> None:
    lead, technician = as_role("lead"), as_role("technician")
    before = own_fingerprint(lead)
    digest = re.search(r"/records/([0-9a-f]{64})", lead.get(f"/jobs/{job}/record")).group(1)
    assert "lead" in technician.post("/keys/new", 403)
    lead.post("/keys/new")
    assert own_fingerprint(lead) != before
    assert f"with its earlier key {before}" in lead.get(f"/records/{digest}")
    technician.post(f"/jobs/{job}/record")
    again = re.search(r"/records/([0-9a-f]{64})", lead.get(f"/jobs/{job}/record")).group(1)
    assert f"with its key {own_fingerprint(lead)}" in lead.get(f"/records/{again}")
    assert before in lead.get("/keys"), "what was is still known"


def test_a_record_of_an_earlier_format_is_shown_by_the_rules_of_then(as_role, database, persons, job) -> None:
    lead = as_role("lead")
    body = (GOLDEN / "7" / "record.json").read_text()
    sha256 = json.loads(body)["integrity"]["sha256"]
    of = database.run(lambda c: jobs.find_job(c, job)).id
    database.run(lambda c: records.keep_record(c, of, sha256, body, persons["lead"].id))
    page = html.unescape(lead.get(f"/records/{sha256}"))
    assert "Whole, and its figures follow from its readings, by the rules of then." in page
    assert "by the rules of then -634.2983672810835, today -634.2983" in page
    said = {"record": sha256, "audience": "payer", "named": "Ines", "days": "7"}
    link = re.search(r"/handover/[\w-]{20,}", lead.post(f"/jobs/{job}/record/links", **said)).group(0)
    assert "its figures follow from its readings, by the rules of then." in lead.get(link)
    assert lead.http.get(f"/records/{sha256}.json").text == body
    assert lead.http.get(f"/records/{sha256}.pdf").content.startswith(b"%PDF")
