"""Practice: hidden damage, the stations of a job, the simulated vehicle, the score, and nothing signed."""

import re

import pytest

from fairsquare.actions import Desk, Unsure, measuring, pulling
from fairsquare.actions.practice import as_in_practice, hidden_places
from fairsquare.core.pull.job import CAUTIONS
from fairsquare.job.pull.board import board_of
from fairsquare.stand_ins.practice import PracticeYard
from fairsquare.stand_ins.to_practise import vehicle_to_practise
from fairsquare.stand_ins.vehicles import TURNSTONE
from fairsquare.store import practice
from tests.conftest import key
from tests.web.searching import found_plan, kept_plan

SEED = 2


@pytest.fixture
def yard(desk: Desk, monkeypatch) -> PracticeYard:
    """A yard that is served by hand, step by step; the server's own stands still."""
    monkeypatch.setattr(PracticeYard, "look", lambda self, number: None)
    monkeypatch.setattr("fairsquare.store.practice._STEP_APART_S", 0.0)
    return PracticeYard(desk)


@pytest.fixture
def begun(as_role, yard) -> str:
    del yard
    page = as_role("apprentice").post("/practice", vehicle=TURNSTONE.name, seed=str(SEED))
    return re.search(r"PRACTICE-\d{4}", page).group(0)


def measured(yard: PracticeYard, desk: Desk, job: str) -> None:
    codes = [point.code for point in TURNSTONE.sheet.points if not point.reference]
    measuring.order_readings(desk, desk_person(desk, job), key(), job, 1, "point", codes)
    yard.serve(job)


def desk_person(desk: Desk, job: str):
    return as_in_practice(desk.database.run(lambda c: practice.find(c, job))["person"])


def test_a_practice_from_the_hidden_blow_to_the_truth(as_role, begun, yard, desk: Desk) -> None:
    keahi, job = as_role("apprentice"), begun
    page = keahi.get(f"/jobs/{job}/measure")
    assert "PRACTICE" in page and "nothing is signed" in page
    assert "Supplement" not in page
    assert "Struck" not in keahi.get(f"/jobs/{job}/practice"), "the truth is hidden until the end"
    measured(yard, desk, job)
    assert "off" in keahi.get(f"/jobs/{job}/measure")
    assert keahi.get(f"/jobs/{job}/damage")
    refused = keahi.post(f"/jobs/{job}/pulls/find", 422, school="outward", plan_version="0")
    assert "Say your own plan first" in refused, "what the calculation finds stays closed until then"
    own = {"hook-0": "at R2L", "tower-0": "rear", "height-0": "400", "force-0": "20", "purpose": "straighten"}
    keahi.post(f"/jobs/{job}/pulls/change", plan_version="0", pull="1", school="outward", do="add", **own)
    page = found_plan(keahi, job, version="1")
    kept_plan(keahi, job, page, reason="practice: to see what it does" if "Why it may" in page else "")
    keahi.post(f"/jobs/{job}/board/begin", pull="1")
    person = desk_person(desk, job)
    pulling.go_on(desk, person, key(), job, "cautions", "test", tuple(name for name, _ in CAUTIONS))
    yard.serve(job)
    pulling.go_on(desk, person, key(), job, "test", "look")
    pulling.go_on(desk, person, key(), job, "look", "pulling", ("clamps",))
    for _ in range(60):
        yard.serve(job)
        board = board_of(desk.view(job).facts)
        if all(point.reached or point.advice.pull_to_mm is None for point in board.points):
            break
    assert any(point.reached for point in board.points)
    assert "A pull is under way" in keahi.post(f"/jobs/{job}/practice/end", 409)
    pulling.go_on(desk, person, key(), job, "pulling", "let_go")
    yard.serve(job)
    board = board_of(desk.view(job).facts)
    fields = {}
    for point in board.points:
        code = point.watched.code
        fields |= {
            f"before-{code}": f"{point.watched.was_mm:.1f}",
            f"loaded-{code}": f"{point.most_loaded_mm:.1f}",
            f"after-{code}": f"{point.now_mm:.1f}",
        }
    keahi.post(f"/jobs/{job}/board/cycle", do="end", looked="1", dye_test="clear", **fields)
    page = keahi.post(f"/jobs/{job}/practice/end")
    assert "of 100" in page and "Struck at" in page and "What would have been enough" in page
    assert "This practice has ended" in keahi.post(f"/jobs/{job}/board/begin", 409, pull="1")
    assert re.search(r'<b class="figures">\d+</b>', keahi.get("/practice"))


def test_practice_signs_and_records_nothing_and_is_on_no_floor(as_role, begun, persons, desk: Desk) -> None:
    solveig, keahi = as_role("lead"), as_role("apprentice")
    assert begun not in solveig.get("/")
    assert begun in solveig.get("/practice") and begun in keahi.get("/practice")
    assert begun not in as_role("estimator").get("/practice")
    hold = desk.view(begun).state.hold("fit_accepted")
    assert hold.signers == () and hold.status == "missing"
    assert "This is practice" in solveig.post(f"/jobs/{begun}/holds/setup_accepted", 409, seen="{}")
    assert "nothing is signed" in solveig.post(f"/jobs/{begun}/record", 409)
    with pytest.raises(Unsure, match="nothing is signed or recorded"):
        desk.make_record(desk_person(desk, begun), key(), begun)
    with pytest.raises(Unsure, match="nothing is signed or recorded"):
        desk.sign(persons["lead"], key(), begun, "setup_accepted", {}, "")
    assert "practises here" in solveig.post(f"/jobs/{begun}/practice/end", 422)
    assert "Choose one of" in keahi.post("/practice", 422, vehicle="a boat", seed="")
    assert "0 to 999,999" in keahi.post("/practice", 422, vehicle=TURNSTONE.name, seed="5000000")


def test_the_same_number_is_the_same_damage() -> None:
    sheet, setting = vehicle_to_practise(TURNSTONE.name)
    assert hidden_places(sheet, setting, 7) == hidden_places(sheet, setting, 7)
    assert hidden_places(sheet, setting, 7) != hidden_places(sheet, setting, 8)
