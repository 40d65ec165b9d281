"""What leaves and what comes: names of files, links, hosts that are not ours, and passwords that stand on no command line."""

import re
from email.utils import decode_rfc2231
from urllib.parse import unquote

import pytest
from fastapi.testclient import TestClient
from typer.testing import CliRunner

from fairsquare.cli import app as command_line
from fairsquare.settings import Settings
from fairsquare.store import people
from fairsquare.web.app import create_app
from fairsquare.web.sending import disposition, is_our_host
from tests.conftest import Pages
from tests.web.test_job import new_job
from tests.web.test_own import someone

__all__ = ["someone"]


@pytest.mark.parametrize(
    "name", ["SL-0001-record.pdf", 'a"; filename="b.exe', "a\r\nset-cookie: x=1", "Ærø-ø.csv", "²/../x", "\ud800.zip"]
)
def test_a_name_of_a_file_stays_one_name_whatever_it_is(name) -> None:
    told = disposition(name)
    assert told.isascii()
    assert told.isprintable()
    found = re.fullmatch(
        r"attachment; filename=\"([A-Za-z0-9._-]+)\"(?:; filename\*=([!#$&+.^_`|~%A-Za-z0-9'-]+))?", told
    )
    assert found, told
    # RFC 5987, section 3.2, as the standard library reads it.
    charset, _, read = decode_rfc2231(found.group(2)) if found.group(2) else ("", "", found.group(1))
    assert unquote(read, charset or "ascii") == name.encode(errors="replace").decode()


@pytest.mark.parametrize(
    ("host", "configured", "server", "ours"),
    [
        ("square.example", "https://square.example", "10.0.0.2", True),
        ("square.example:443", "https://square.example", "10.0.0.2", True),
        ("SQUARE.example", "https://square.example/", "10.0.0.2", True),
        ("evil.example", "https://square.example", "10.0.0.2", False),
        ("10.0.0.2:8000", "https://square.example", "10.0.0.2", True),
        ("10.0.0.3:8000", "https://square.example", "10.0.0.2", False),
        ("localhost:8000", "", "127.0.0.1", True),
        ("[::1]:8000", "", "::1", True),
        ("192.168.1.4:8000", "", "192.168.1.4", True),
        ("evil.example", "", "127.0.0.1", False),
        ("square.example@evil.example", "https://square.example", "10.0.0.2", False),
        ("", "", "127.0.0.1", False),
        ("[", "", "127.0.0.1", False),
    ],
)
def test_which_hosts_are_ours(host, configured, server, ours) -> None:
    assert is_our_host(host, configured, server) == ours


def test_links_are_made_from_the_address_and_no_other_host_is_answered(url, database, as_role) -> None:
    app = create_app(
        Settings(database_url=url, demo=True, address="https://square.example", sign_in_tries=60), database
    )
    ngozi = as_role("technician")
    job = new_job(ngozi)
    ngozi.post(f"/jobs/{job}/record")
    record = re.search(r"/records/([0-9a-f]{64})", ngozi.get(f"/jobs/{job}/record")).group(1)
    client = TestClient(app, base_url="http://square.example", follow_redirects=True)
    client.post("/sign-in", data={"name": "ngozi", "password": "tide-tables-40"})
    csrf = client.get("/help").text.split('"X-CSRF-Token": "')[1].split('"')[0]
    said = {"csrf": csrf, "request_key": "k" * 20, "record": record, "audience": "owner", "named": "Ines", "days": "7"}
    text = client.post(f"/jobs/{job}/record/links", data=said, headers={"x-forwarded-host": "evil.example"}).text
    assert re.search(r'value="https://square\.example/handover/[\w-]+"', text)
    told = client.get("/", headers={"host": "evil.example"})
    assert (told.status_code, "FAIRSQUARE_ADDRESS" in told.text) == (421, True)
    assert "evil" not in told.text
    own = ngozi.post(f"/jobs/{job}/record/links", record=record, audience="owner", named="Ines", days="7")
    assert re.search(r'value="http://testserver/handover/[\w-]+"', own), "where none is said: the socket's"


def test_a_password_stands_on_no_command_line(url, database, tmp_path) -> None:
    run = CliRunner()
    refused = run.invoke(command_line, ["tower", "SL-0001", "--password", "x"])
    assert (refused.exit_code, "No such option" in refused.output) == (2, True)
    (tmp_path / "p").write_text("a quiet harbour wall\n")
    done = run.invoke(
        command_line,
        ["add-person", "ines", "--full-name", "Ines Holm", "--password-file", str(tmp_path / "p")],
        env={"FAIRSQUARE_DATABASE_URL": url},
    )
    assert done.exit_code == 0, done.output
    assert database.run(lambda c: people.find_by_password(c, "ines", "a quiet harbour wall")).full_name == "Ines Holm"
    typed = run.invoke(
        command_line,
        ["add-person", "ida", "--full-name", "Ida Holm"],
        env={"FAIRSQUARE_DATABASE_URL": url},
        input="another quiet wall\nanother quiet wall\n",
    )
    assert typed.exit_code == 0, typed.output
    assert "another quiet" not in typed.output


def test_looking_makes_no_record(as_role) -> None:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    for path in (f"/jobs/{job}/file", f"/api/v1/jobs/{job}/file"):
        assert ngozi.http.get(path).status_code in (401, 405)
    assert "None yet" in ngozi.get(f"/jobs/{job}/record")


def test_a_payer_answers_nothing_in_a_closed_job(app, as_role) -> None:
    tomasz, lead = as_role("estimator"), as_role("lead")
    job = new_job(tomasz)
    tomasz.post(f"/jobs/{job}/supplements/lines", words="right rail", hours="2.5", parts="", amount="", station="cuts")
    line = re.search(r'name="lines?" value="(\d+)"', tomasz.get(f"/jobs/{job}/supplements")).group(1)
    text = tomasz.post(f"/jobs/{job}/supplements/send", lines=line, payer="Tern Mutual", days="30")
    link = re.search(r"/supplement/[\w-]+", text).group(0)
    payer = Pages(app, None)
    assert "Send what is marked" in payer.get(link)
    lead.post(f"/jobs/{job}/close", closed="yes")
    shown = payer.get(link)
    assert "has closed this job" in shown
    assert "Send what is marked" not in shown
    answer = payer.http.post(link, data={f"answer-{line}": "approved", "named": "Tern Mutual", "do": "marked"})
    assert (answer.status_code, "has closed this job" in answer.text) == (409, True)
