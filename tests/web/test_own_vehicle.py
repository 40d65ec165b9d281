"""A vehicle of one's own from a plain sheet, by pages alone, to a signed “Pulls done”; its true frame is not as assumed."""

import re

import httpx
import numpy as np
import pytest

from fairsquare.core.pull.job import CAUTIONS
from fairsquare.core.pull.setting import frame_of_setting, usual_setting
from fairsquare.core.structure.blow import left_by
from fairsquare.core.structure.of_sheet import usual_boxes
from fairsquare.demo.people import INSTRUMENT
from fairsquare.files.sheets import sheet_as_csv
from fairsquare.job.pull.board import board_of
from fairsquare.stand_ins.client import Line
from fairsquare.stand_ins.tower import SimulatedTower
from fairsquare.stand_ins.vehicles import instrument_reading, seed_of
from fairsquare.store import people
from tests.job.test_proposals import PLAIN
from tests.web.searching import found_plan, kept_plan
from tests.web.test_job import make_safe, new_job, sign

FORCE = (-34_000.0, 0.0, -42_500.0)
STRENGTH = 1.25
TICKS = {f"tick-{name}": "1" for name, _ in CAUTIONS}


@pytest.fixture
def line(server, database, persons):
    def add(c):
        return people.add_person(
            c, INSTRUMENT.name, INSTRUMENT.full_name, INSTRUMENT.role, INSTRUMENT.password, demo=True
        )

    database.run(add)
    with httpx.Client(base_url=server, timeout=20) as client:
        yield Line(client, INSTRUMENT.name, INSTRUMENT.password)


def struck() -> dict:
    """How far the points moved when something low and heavy struck the right front."""
    frame = frame_of_setting(PLAIN, usual_setting(PLAIN, usual_boxes(PLAIN), complete=True))
    left = left_by(frame, {"F4R": FORCE})
    codes = {point.code for point in PLAIN.points}
    return {code: by for code, by in left.items() if code in codes}


def called(job: str, code: str, place, random) -> str:
    x, y, z = instrument_reading(np.array(place), seed_of(job, 1), random.normal(0, 0.2, 3))
    return f"{code} {x} {y} {z}"


def test_a_vehicle_of_ones_own_comes_home_and_no_point_is_made_worse(as_role, desk, line, persons) -> None:
    ngozi, moved, random = as_role("technician"), struck(), np.random.default_rng(18)
    job = new_job(ngozi, "Own van")
    make_safe(ngozi, job)
    ngozi.post(f"/jobs/{job}/sheet", table=sheet_as_csv(PLAIN), source="typed in", seen_version="")
    places = {p.code: np.add(p.xyz, moved.get(p.code, (0.0, 0.0, 0.0))) for p in PLAIN.points}
    references = [point.code for point in PLAIN.points if point.reference]
    ngozi.post(f"/jobs/{job}/set-up", instrument="3-D instrument", sigma_mm="0.3")
    table = "\n".join(called(job, code, places[code], random).replace(" ", ", ") for code in references)
    ngozi.post(f"/jobs/{job}/set-up/paste", setup="1", table=table, unit="mm")
    sign(ngozi, job, "setup_accepted")
    for code, place in places.items():
        if code not in references:
            ngozi.post(f"/jobs/{job}/readings", setup="1", call=called(job, code, place, random), unit="mm")
    began = dict(desk.view(job).state.picture.judged)
    off = [code for code, one in began.items() if one.state == "off"]
    assert len(off) >= 2 and "F4R" in off
    assert "on no member" in ngozi.get(f"/jobs/{job}/holds/decision_made")
    for codes, name in (
        ("F4L F4R F3L F3R", "front rail"),
        ("C1L C1R C2L C2R C3L C3R", "sill"),
        ("R1L R1R R2L R2R", "rear rail"),
    ):
        ngozi.post(f"/jobs/{job}/sheet/members", touched=codes, do="member", member=name)
    for _ in range(8):
        page = ngozi.get(f"/jobs/{job}/decide")
        if "nobody" not in page and "not looked at yet" not in page and "not decided" not in page:
            break
        member = re.search(r'name="member" value="([^"]+)"', page).group(1)
        signs = ["bent"]
        page = ngozi.post(
            f"/jobs/{job}/decide/member", member=member, layer="", material="mild", role="structural", signs=signs
        )
        seen = re.search(r'name="seen" value="(\d+)"', page).group(1)
        ngozi.post(f"/jobs/{job}/decide", member=member, layer="", seen=seen, decision="straighten")
    for finding in re.findall(r'name="finding" value="([^"]+)"', ngozi.get(f"/jobs/{job}/damage")):
        ngozi.post(f"/jobs/{job}/damage/settle", finding=finding, reason="read twice, it stands as it is")
    sign(as_role("lead"), job, "decision_made", reason="measured twice, nothing contradicts")
    page = found_plan(ngozi, job, seconds=90)
    assert "Brings every point home" in page
    kept_plan(ngozi, job, page, reason="tried with little first, and learned from" if "Why it may" in page else "")
    tower = SimulatedTower(line, job, seed=3, strength=STRENGTH, struck=moved)
    pulls = len(desk.view(job).facts.pull_plans[-1].plan.pulls)
    for pull in range(1, pulls + 1):
        _pull(ngozi, desk, tower, job, pull)
    page = ngozi.get(f"/jobs/{job}/pulls")
    assert "times as strong" in page, "the frame has learned"
    after = desk.view(job).state.picture.judged
    limit = 3.0
    for code, one in after.items():
        before = began[code]
        if one.deviation and before.deviation:
            worse = sum(max(abs(a) - limit, 0.0) for a in one.deviation) - sum(
                max(abs(b) - limit, 0.0) for b in before.deviation
            )
            assert worse < 1.0, f"{code} was made worse"
    left = [code for code, one in after.items() if one.state == "off"]
    assert left == []
    page = sign(as_role("lead"), job, "pulls_done", reason="close by less than the reading scatters, read again")
    assert desk.view(job).state.hold("pulls_done").status == "closed"


def _pull(ngozi, desk, tower, job: str, pull: int) -> None:
    """Pull as the board says, in as many cycles as it takes."""
    ngozi.post(f"/jobs/{job}/board/begin", pull=str(pull))
    for _ in range(6):
        ngozi.post(f"/jobs/{job}/board/go", seen="cautions", state="test", **TICKS)
        tower.serve()
        ngozi.post(f"/jobs/{job}/board/go", seen="test", state="look")
        ngozi.post(f"/jobs/{job}/board/go", seen="look", state="pulling", **{"tick-clamps": "1"})
        for _ in range(90):
            tower.serve()
            board = board_of(desk.view(job).facts)
            if board.let_go or any(p.passed for p in board.points):
                break
        assert not any(p.passed for p in board.points), "who obeys is not told STOP"
        ngozi.post(f"/jobs/{job}/board/go", seen="pulling", state="let_go")
        tower.serve()
        board = board_of(desk.view(job).facts)
        fields, again = {}, board.again
        for p in board.points:
            code = p.watched.code
            fields |= {
                f"before-{code}": f"{p.stands_mm:.1f}",
                f"loaded-{code}": f"{max(p.most_loaded_mm, p.stands_mm):.1f}",
                f"after-{code}": f"{p.now_mm:.1f}",
            }
        do = "again" if again else "end"
        ngozi.post(f"/jobs/{job}/board/cycle", do=do, looked="1", dye_test="clear", **fields)
        if not again:
            return
    ngozi.post(f"/jobs/{job}/board/go", seen="cautions", state="ended")
