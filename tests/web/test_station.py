"""A station is added by files of its own: none that exists is touched, and it works from its page to the database and back."""

import json
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

import httpx
import pytest
from pydantic import ValidationError

from fairsquare.actions import Desk
from fairsquare.demo.people import SIGN_INS
from fairsquare.job.release.record import JobRecord
from fairsquare.store.database import Database, select
from fairsquare.store.jobs import JobDetails
from fairsquare.store.migrate import migrate
from tests.conftest import Pages, key, let_in, read_it, served

HERE = Path(__file__).parents[2]
BROUGHT = HERE / "tests" / "station" / "fairsquare"


@pytest.fixture(scope="module")
def house(tmp_path_factory) -> Path:
    """The folder of a house: a link to each file of the package as it stands, and beside them those of the station."""
    folder = tmp_path_factory.mktemp("house")
    for source in (HERE / "fairsquare", BROUGHT):
        for file in sorted(source.rglob("*")):
            to = folder / "fairsquare" / file.relative_to(source)
            if file.is_dir():
                continue
            assert not to.exists(), f"{to.name} exists already"
            to.parent.mkdir(parents=True, exist_ok=True)
            to.symlink_to(file)
    shutil.copy(HERE / "pyproject.toml", folder)
    return folder


class At(NamedTuple):
    """Where the house's server answers, its database, and a job that was taken in there."""

    address: str
    database: Database
    job: str

    def signed_in(self, role: str) -> Pages:
        """Return the pages of somebody of a role."""
        http = httpx.Client(base_url=self.address, follow_redirects=True, timeout=30)
        http.event_hooks = {"response": [read_it]}
        return Pages(None, next(one for one in SIGN_INS if one.role == role), http)


@pytest.fixture(scope="module")
def at(empty_for_module: str, house: Path, tmp_path_factory) -> Iterator[At]:
    migrate(empty_for_module)
    database = Database(empty_for_module, 2)
    desk = Desk(database, software="Fair Square test", workshop="a test", number_prefix="SL-")
    job = desk.open_job(let_in(database)["lead"], key(), JobDetails(vehicle="Dunlin", hit_where="front"))
    with served(empty_for_module, tmp_path_factory.mktemp("server"), package_in=house) as address:
        yield At(address, database, job)
    database.close()


def test_it_has_its_place_in_the_order_of_the_work(at):
    page = at.signed_in("technician").get(f"/jobs/{at.job}/take-in")
    stops = [page.index(f"/jobs/{at.job}/{name}") for name in ("weld", "stance", "finish")]
    assert stops == sorted(stops), "it stands behind the weld, as its row says"


def test_what_is_read_comes_back_in_the_units_of_its_reader(at):
    pages = at.signed_in("technician")
    before = pages.get(f"/jobs/{at.job}/stance")
    assert "The front axle’s stance is not read." in before and "0 of 2 axles read" in before
    refused = pages.post(f"/jobs/{at.job}/stance", status=422, axle="front", left="tall", right="612")
    assert 'id="wrong-left"' in refused and 'value="612"' in refused, "beside its field, and nothing typed is lost"
    pages.post(f"/jobs/{at.job}/stance", axle="front", left="630", right="612")
    assert "The front axle stands 18.0 mm higher on the left" in pages.get(f"/jobs/{at.job}/stance")
    pages.http.cookies["units"] = "in"
    inches = pages.get(f"/jobs/{at.job}/stance")
    assert "The front axle stands 45/64 in higher on the left; at most 25/64 in are let go." in inches
    assert [one["left_mm"] for one in at.database.run(lambda c: select(c, "SELECT left_mm FROM stance"))] == [630.0]


def test_the_release_asks_for_it_and_the_audit_has_words_for_it(at):
    lead = at.signed_in("lead")
    assert "It stands level on its wheels" in lead.get(f"/jobs/{at.job}/holds/released")
    assert "The rear axle’s stance is not read." in lead.get(f"/jobs/{at.job}/finish")
    assert "read how it stands on its wheels" in lead.get("/audit")


def test_who_may_not_is_kept_out_at_its_doors(at):
    pages = at.signed_in("estimator")
    assert "Read an axle" not in pages.get(f"/jobs/{at.job}/stance")
    pages.post(f"/jobs/{at.job}/stance", status=403, axle="rear", left="600", right="600")
    assert httpx.get(f"{at.address}/jobs/{at.job}/stance").status_code == 303


def test_its_api_is_described_and_answers(at):
    http = httpx.Client(base_url=at.address, timeout=60)
    assert "/api/v1/jobs/{number}/stances" in http.get("/api/openapi.json").json()["paths"]
    own = next(one for one in SIGN_INS if one.role == "technician")
    token = http.post("/api/v1/session", json={"name": own.name, "password": own.password}).json()["token"]
    sent = {"request_key": key(), "axle": "rear", "left_mm": 598.0, "right_mm": 601.0}
    answers = [
        http.post(f"/api/v1/jobs/{at.job}/stances", json=sent, headers={"authorization": f"Bearer {token}"})
        for _ in range(2)
    ]
    assert [one.status_code for one in answers] == [201, 201]
    assert answers[0].json() == answers[1].json(), "safe to repeat"
    sent = {**sent, "request_key": key(), "axle": "middle"}
    assert http.post(f"/api/v1/jobs/{at.job}/stances", json=sent, headers={"authorization": f"Bearer {token}"}).is_error
    assert "The rear axle" not in at.signed_in("lead").get(f"/jobs/{at.job}/finish")


def test_a_record_has_it_and_follows_and_a_house_without_it_says_so(at, house, tmp_path):
    lead = at.signed_in("lead")
    lead.post(f"/jobs/{at.job}/record")
    stored = at.database.run(lambda c: select(c, "SELECT body FROM record"))[0]["body"]
    assert [one["axle"] for one in json.loads(stored)["further"]["stances"]] == ["front", "rear"]
    file = tmp_path / "record.json"
    file.write_text(stored)
    command = [sys.executable, "-m", "fairsquare", "verify", str(file), "--json"]
    said = subprocess.run(command, cwd=house, capture_output=True, text=True, check=False)
    assert json.loads(said.stdout)["follows"] is True, said.stdout + said.stderr
    body = {name: one for name, one in json.loads(stored).items() if name in JobRecord.model_fields}
    with pytest.raises(ValidationError, match="'stances' is nothing that a station here records"):
        JobRecord.model_validate_json(json.dumps(body))


def test_the_order_of_the_rooms_holds_with_it(house):
    command = [sys.executable, "-c", "from importlinter.cli import lint_imports_command as c; c()"]
    said = subprocess.run(command, cwd=house, capture_output=True, text=True, check=False)
    assert said.returncode == 0, said.stdout
