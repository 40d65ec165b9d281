"""One's own sign-in on the pages: where one is signed in, tokens, a second factor with codes on paper, and who has to have it."""

import html
import re
import time
from typing import NamedTuple

import pyotp
import pytest
from fastapi.testclient import TestClient
from typer.testing import CliRunner

from fairsquare.cli import app as command_line
from fairsquare.settings import Settings
from fairsquare.store import people, second_factor
from fairsquare.web.app import create_app
from fairsquare.web.at_the_door import cookie_name
from tests.conftest import Pages, SignIn, read_it


@pytest.fixture
def someone(database, request):
    """Return a maker of people with pages, each of whom nobody else uses."""
    made = []

    def make(app, role="technician", password="a quiet harbour wall") -> tuple[Pages, int]:
        name = f"{request.node.name[5:25]}{len(made)}".replace("[", "").replace("]", "")
        number = database.run(lambda c: people.add_person(c, name, "Ada Holm", role, password))
        made.append(number)
        return Pages(app, SignIn(name, password, "Ada Holm", role)), number

    return make


def sign_in(app, pages_name: str, password: str = "a quiet harbour wall", agent: str = "x") -> TestClient:
    client = TestClient(app, headers={"user-agent": agent})
    client.event_hooks = {"response": [read_it]}
    client.post("/sign-in", data={"name": pages_name, "password": password})
    return client


def name_of(database, number: int) -> str:
    return next(one["name"] for one in database.run(people.people) if one["id"] == number)


class SecondFactor(NamedTuple):
    """What the telephone has, the code it was set up with, and the codes on paper."""

    totp: pyotp.TOTP
    used: str
    paper: list[str]


def set_up(pages: Pages) -> SecondFactor:
    """Set a second factor up by the pages."""
    text = pages.post("/own/second-factor/begin")
    secret = "".join(re.findall(r"<code>([A-Z2-7]{4})</code>", text))
    assert "<svg" in text
    totp = pyotp.TOTP(secret)
    used = totp.now()
    text = pages.post("/own/second-factor/confirm", code=used)
    codes = re.findall(r"<li><code>([a-z0-9]{5}-[a-z0-9]{5})</code></li>", text)
    assert len(set(codes)) == 10
    return SecondFactor(totp, used, codes)


def test_the_codes_are_those_of_the_standard() -> None:
    # RFC 6238, appendix B, SHA-1: the last six of the eight digits printed there.
    totp = pyotp.TOTP("GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ")
    for at, code in ((59, "287082"), (1111111109, "081804"), (1111111111, "050471"), (20000000000, "353130")):
        assert totp.at(at) == code


def test_one_sees_where_one_is_signed_in_and_ends_it(app, database, someone) -> None:
    pages, number = someone(app)
    name = name_of(database, number)
    tablet = sign_in(app, name, agent="Mozilla/5.0 (Linux; Android 15) Chrome/140")
    desk = sign_in(app, name, agent="Mozilla/5.0 (Windows NT 10.0) Firefox/140")
    text = pages.get("/own")
    assert "Chrome on Android" in text
    assert "Firefox on Windows" in text
    ended = re.search(r'action="/own/sign-ins/(\d+)/end"[^>]*>(?:(?!/form).)*End: Chrome on Android', text, re.DOTALL)
    pages.post(f"/own/sign-ins/{ended.group(1)}/end")
    assert "Sign in" in tablet.get("/").text[:300]
    assert "Your sign-in" not in tablet.get("/own").text
    assert desk.get("/own").status_code == 200
    other, _ = someone(app)
    assert "has ended already" in other.post(f"/own/sign-ins/{int(ended.group(1)) + 1}/end", 422), "not somebody else's"
    pages.post("/own/sign-ins/end-others")
    assert "Your sign-in" not in desk.get("/own").text
    assert "Here" in pages.get("/own"), "this one stays"


def test_tokens_have_names_and_an_end_and_are_taken_back(app, database, someone) -> None:
    pages, _ = someone(app)
    text = pages.post("/own/tokens", token="the tower’s computer", days="7")
    token = re.search(r'readonly value="([^"]+)" aria-label="The token"', text).group(1)
    assert "the tower’s computer" in text
    api = TestClient(app, headers={"authorization": f"Bearer {token}"})
    assert api.get("/api/v1/jobs").status_code == 200
    assert token not in pages.get("/own"), "shown once"
    ends = database.run(
        lambda c: c.cursor().execute(
            "SELECT 1 FROM session WHERE name = 'the tower’s computer' AND DATEDIFF(expires_at, created_at) = 7"
        )
    )
    assert ends == 1
    for fields, field in (
        ({"token": "", "days": "7"}, "What is it for"),
        ({"token": "tower", "days": "800"}, "365 days"),
    ):
        assert field in html.unescape(pages.post("/own/tokens", 422, **fields))
    number = re.search(
        r'action="/own/sign-ins/(\d+)/end"[^>]*>(?:(?!/form).)*Take back: the tower', pages.get("/own"), re.S
    )
    pages.post(f"/own/sign-ins/{number.group(1)}/end")
    assert api.get("/api/v1/jobs").status_code == 401


def test_a_second_factor_is_asked_for_after_the_password_and_each_code_is_taken_once(app, database, someone) -> None:
    pages, number = someone(app)
    name = name_of(database, number)
    elsewhere = sign_in(app, name)
    totp, used, paper = set_up(pages)
    assert "Your sign-in" not in elsewhere.get("/own").text, "what was signed in before is not any more"
    client = sign_in(app, name)
    assert "Your sign-in" not in client.get("/own").text, "the password alone lets nobody in"
    assert "The code on your telephone" in client.get("/sign-in/code").text
    refused = client.post("/sign-in/code", data={"code": used, "next": "/own"})
    assert (refused.status_code, "not the code of now" in refused.text) == (401, True), (
        "it was taken when it was set up"
    )
    after = totp.at(time.time() + 30)
    assert (
        "Your sign-in" in client.post("/sign-in/code", data={"code": f" {after[:3]} {after[3:]} ", "next": "/own"}).text
    )
    again = sign_in(app, name)
    assert again.post("/sign-in/code", data={"code": after}).status_code == 401, "one code, one sign-in"
    assert "Your sign-in" in again.post("/sign-in/code", data={"code": paper[3].upper(), "next": "/own"}).text
    assert "9 of your codes on paper are left" in again.get("/own").text
    third = sign_in(app, name)
    assert third.post("/sign-in/code", data={"code": paper[3]}).status_code == 401, "so with those on paper"
    assert "took too long" in TestClient(app).post("/sign-in/code", data={"code": paper[4]}).text, (
        "no code without a password"
    )


def test_the_api_asks_for_it_too(app, database, someone) -> None:
    pages, number = someone(app)
    _, _, paper = set_up(pages)
    api = TestClient(app)
    said = {"name": name_of(database, number), "password": "a quiet harbour wall"}
    refused = api.post("/api/v1/session", json=said)
    assert (refused.status_code, refused.json()["errors"][0]["field"]) == (401, "code")
    assert api.post("/api/v1/session", json={**said, "code": "000000"}).status_code == 401
    token = api.post("/api/v1/session", json={**said, "code": paper[0], "token": "the press"}).json()["token"]
    assert api.get("/api/v1/jobs", headers={"authorization": f"Bearer {token}"}).status_code == 200
    assert "the press" in pages.get("/own")


def test_codes_are_not_guessed_at_length_and_not_all_at_once(url, database, someone) -> None:
    app = create_app(Settings(database_url=url, demo=True, sign_in_tries=8), database)
    pages, number = someone(app)
    totp, _, _ = set_up(pages)
    client = sign_in(app, name_of(database, number))
    told = [client.post("/sign-in/code", data={"code": f"{k:06}"}).status_code for k in range(12)]
    assert told[:7].count(401) == 7
    assert told[-3:] == [429] * 3
    right = totp.at(time.time() + 30)
    assert client.post("/sign-in/code", data={"code": right}).status_code == 429, "not even the right one now"


def test_new_codes_and_going_without_take_a_code(app, someone) -> None:
    pages, _ = someone(app)
    _, _, paper = set_up(pages)
    assert "not the code of now" in pages.post("/own/second-factor/codes", 401, code="000000")
    text = pages.post("/own/second-factor/codes", code=paper[0])
    fresh = re.findall(r"<li><code>([a-z0-9-]{11})</code></li>", text)
    assert not set(fresh) & set(paper)
    assert "not the code of now" in pages.post("/own/second-factor/end", 401, code=paper[1])
    assert "Set it up" in pages.post("/own/second-factor/end", code=fresh[0])


def test_where_the_shop_says_so_leads_have_to(url, database, someone) -> None:
    app = create_app(Settings(database_url=url, demo=True, sign_in_tries=60), database)
    lead, number = someone(app, "lead")
    technician, _ = someone(app)
    token = re.search(
        r'readonly value="([^"]+)" aria-label="The token"', lead.post("/own/tokens", token="tower", days="7")
    )
    version = re.search(r'name="version" value="(\d+)"', lead.get("/shop")).group(1)
    lead.post("/shop", version=version, leads_second_factor="yes", **{f"week-{k}": "8-12" for k in range(7)})
    assert "leads sign in with a second factor" in lead.get("/"), "every page leads to where it is set up"
    assert "leads sign in with a second factor" in lead.post(
        "/people", name="x", full_name="X", role="lead", password="y"
    )
    api = TestClient(app, headers={"authorization": f"Bearer {token.group(1)}"})
    refused = api.get("/api/v1/jobs")
    assert (refused.status_code, refused.json()["type"].endswith("second-factor")) == (403, True)
    assert "The floor" in technician.get("/")
    _, _, paper = set_up(lead)
    assert "who may sign in" in lead.get("/people")
    assert "not left out" in lead.post("/own/second-factor/end", 422, code=paper[0])
    other, _ = someone(app, "lead")
    set_up(other)
    other.post(f"/people/{number}/second-factor/forget")
    assert "Your sign-in" not in lead.http.get("/own").text, "whose telephone was lost is signed out"
    assert database.run(lambda c: second_factor.second_factor(c, number)) is None
    version = re.search(r'name="version" value="(\d+)"', other.get("/shop")).group(1)
    other.post("/shop", version=version, **{f"week-{k}": "8-12" for k in range(7)})


def test_a_role_is_given_by_a_lead_and_counts_at_once(app, as_role, database, someone) -> None:
    pages, number = someone(app, "apprentice")
    lead = as_role("lead")
    lead.post(f"/people/{number}/role", role="technician")
    assert "technician" in pages.get("/own")
    lead.post(f"/people/{number}/role", 422, role="king")
    own = next(one["id"] for one in database.run(people.people) if one["name"] == "solveig")
    assert "another lead" in lead.post(f"/people/{own}/role", 422, role="apprentice")
    pages.post(f"/people/{number}/role", 403, role="lead")


def test_under_https_the_cookie_is_bound_to_the_host(url, database, someone) -> None:
    app = create_app(Settings(database_url=url, demo=True, https=True, sign_in_tries=60), database)
    client = TestClient(app, base_url="https://testserver", follow_redirects=False)
    answer = client.post("/sign-in", data={"name": "ngozi", "password": "tide-tables-40"})
    told = answer.headers["set-cookie"]
    assert told.startswith(f"{cookie_name(https=True)}=")
    assert cookie_name(https=True).startswith("__Host-")
    assert {"Secure", "HttpOnly", "Path=/"} <= {part.strip() for part in told.split(";")}
    assert "domain" not in told.lower()
    assert client.get("/own").status_code == 200
    plain = TestClient(app, base_url="https://testserver", follow_redirects=False)
    plain.cookies.set("fairsquare", client.cookies[cookie_name(https=True)])
    assert plain.get("/own").status_code == 303, "the plain name counts for nothing"


@pytest.mark.parametrize("origin", ["null", "https://elsewhere.test"])
def test_nobody_is_signed_in_from_elsewhere(app, origin) -> None:
    answer = TestClient(app).post(
        "/sign-in", data={"name": "ngozi", "password": "tide-tables-40"}, headers={"origin": origin}
    )
    assert (answer.status_code, "from the page of this application" in answer.text) == (401, True)


def test_a_shops_only_lead_is_let_in_again_by_the_command_line(app, url, database, someone) -> None:
    pages, number = someone(app, "lead")
    set_up(pages)
    name, environment = name_of(database, number), {"FAIRSQUARE_DATABASE_URL": url}
    done = CliRunner().invoke(command_line, ["forget-second-factor", name], env=environment)
    assert (done.exit_code, "password alone" in done.output) == (0, True), done.output
    assert "Your sign-in" not in pages.http.get("/own").text, "signed out everywhere"
    assert "Your sign-in" in sign_in(app, name).get("/own").text, "and in again by the password"
    nobody = CliRunner().invoke(command_line, ["forget-second-factor", "nobody-here"], env=environment)
    assert (nobody.exit_code, "Nobody signs in as" in nobody.output) == (2, True)
