"""What posts by itself: the instrument that is bumped, cut off or wrong, a folder of files, and pages that hear of it at once."""

import json
import math
import re
import threading
import time

import httpx
import numpy as np
import pytest

from fairsquare.actions import deciding, measuring, pull_plans, pulling
from fairsquare.actions.deciding import DecisionSaid, MemberSaid
from fairsquare.core.damage.decide import MakersWord
from fairsquare.core.pull.job import CAUTIONS, ChainSet, PlanSaid, WorkPull
from fairsquare.demo.people import INSTRUMENT, SIGN_INS
from fairsquare.job.damage.choices import member_states
from fairsquare.job.damage.job import damage_of, key_of, open_findings
from fairsquare.job.moves import REFIT_NEEDED
from fairsquare.job.pull.board import board_of
from fairsquare.job.pull.slip import slipped, voided_last
from fairsquare.stand_ins.client import Line
from fairsquare.stand_ins.folder import WatchedFolder, reading_of_line
from fairsquare.stand_ins.instrument import Faults, SimulatedInstrument
from fairsquare.stand_ins.rigged import setting_of_vehicle
from fairsquare.stand_ins.tower import SimulatedTower
from fairsquare.stand_ins.vehicle import RigFaults
from fairsquare.stand_ins.vehicles import DUNLIN
from fairsquare.store import people
from tests.conftest import key
from tests.web.test_job import make_safe, new_job, sign

REFERENCES = [point.code for point in DUNLIN.sheet.points if point.reference]
OTHERS = [point.code for point in DUNLIN.sheet.points if not point.reference]


@pytest.fixture(scope="module")
def line(server, database, persons):
    database.run(
        lambda c: people.add_person(
            c, INSTRUMENT.name, INSTRUMENT.full_name, INSTRUMENT.role, INSTRUMENT.password, demo=True
        )
    )
    with httpx.Client(base_url=server, timeout=20) as client:
        yield Line(client, INSTRUMENT.name, INSTRUMENT.password)


@pytest.fixture
def job(as_role, desk, persons, line) -> str:
    """A Dunlin whose references the instrument has read, signed."""
    ngozi = as_role("technician")
    number = new_job(ngozi)
    make_safe(ngozi, number)
    desk.accept_sheet(persons["technician"], key(), number, DUNLIN.sheet, {}, "test")
    measuring.open_setup(desk, persons["technician"], key(), number, "arm", 0.3)
    arm = SimulatedInstrument(line, seed=1)
    send(arm, number, REFERENCES, "reference")
    sign(ngozi, number, "setup_accepted")
    return number


def send(arm: SimulatedInstrument, job: str, codes, purpose: str = "point") -> None:
    for code in codes:
        reading = {**arm.read(job, 1, code), "purpose": purpose}
        arm.line.put_aside(job, 1, [reading], "arm", key())
        arm.line.send()


def test_a_bump_in_the_middle_voids_the_set_up(line, job, desk) -> None:
    arm = SimulatedInstrument(line, Faults(bump_after=len(OTHERS)), seed=2)
    send(arm, job, OTHERS)
    assert desk.view(job).state.picture.judged["F5R"].deviation[0] == pytest.approx(-4.0, abs=2.5)
    send(arm, job, REFERENCES[:1], "reference")
    assert desk.view(job).setup is not None, "one reference that is off may be a wrong hole"
    send(arm, job, REFERENCES[1:2], "reference")
    view = desk.view(job)
    assert view.setup is None
    assert "references read again are off" in view.facts.setups[-1].voided.words
    send(arm, job, ["F4R"])
    assert "Set-up 1 is void" in line.refused[-1][1]


def test_references_read_again_where_nothing_moved_keep_the_set_up(line, job, desk) -> None:
    send(SimulatedInstrument(line, seed=3), job, REFERENCES, "reference")
    assert desk.view(job).setup is not None


def test_a_wrong_hole_is_contradicted_by_reading_it_again(line, job, desk) -> None:
    arm = SimulatedInstrument(line, Faults(wrong_hole="F4R"), seed=4)
    send(arm, job, ["F4R", "F4R", "F4R", "F4L", "F3L", "F3R"])
    joined = desk.view(job).state.picture.joined
    first = next(r.id for r in desk.view(job).facts.readings if r.code == "F4R")
    assert joined.readings[first].rejected
    assert desk.view(job).state.picture.judged["F4R"].deviation[0] == pytest.approx(-3.7, abs=2.5)


def test_loaded_readings_are_told_from_free_ones(line, job, desk) -> None:
    send(SimulatedInstrument(line, Faults(loaded_after=1), seed=5), job, ["F4L", "F4R"])
    picture = desk.view(job).state.picture
    assert picture.loaded_only == ("F4R",)
    assert picture.judged["F4R"].state == "unread"


def test_what_was_read_while_the_line_was_down_is_sent_once_in_order_with_its_own_time(line, job, desk) -> None:
    arm = SimulatedInstrument(line, Faults(drop_after=2, drop_s=1.3), seed=6)
    before = len(desk.view(job).facts.readings)
    for code in OTHERS[:5]:
        arm.line.put_aside(job, 1, [arm.read(job, 1, code)], "arm", key())
        if not arm.down():
            arm.line.send()
    assert len(desk.view(job).facts.readings) == before + 1
    time.sleep(1.4)
    arm.line.send()
    taken = desk.view(job).facts.readings[before:]
    assert [r.code for r in taken] == OTHERS[:5]
    assert all(r.called_at is not None and r.called_at < r.by.at for r in taken[1:])


def test_a_stream_loses_none(line, job, desk) -> None:
    arm = SimulatedInstrument(line, seed=7)
    before = len(desk.view(job).facts.readings)
    assert arm.stream(job, 1, OTHERS[:4], rate=40, seconds=2.5) == 100
    assert len(desk.view(job).facts.readings) == before + 100


def test_a_token_that_was_withdrawn_is_told_so(line, job, desk, database, persons) -> None:
    token = line.client.headers["authorization"]
    answer = line.client.post("/api/v1/session", json={"name": "keahi", "password": SIGN_INS[-1].password})
    theirs = {"authorization": f"Bearer {answer.json()['token']}"}
    assert line.client.get("/api/v1/instrument/orders", headers=theirs).status_code == 200
    database.run(lambda c: people.set_active(c, persons["apprentice"].id, False))
    refused = line.client.get("/api/v1/instrument/orders", headers=theirs)
    assert refused.status_code == 401
    assert "Sign in first" in refused.json()["title"]
    database.run(lambda c: people.set_active(c, persons["apprentice"].id, True))
    line.client.headers["authorization"] = token


def test_a_folder_of_files_half_written_by_another_program(line, job, desk, tmp_path) -> None:
    xyz = SimulatedInstrument(line, seed=8).read(job, 1, "F4R")["xyz"]
    whole = f"{job};1;F4R;{xyz[0]};{xyz[1]};{xyz[2]}\n"
    file = tmp_path / "arm.csv"
    file.write_text("job;setup;code;x;y;z\n" + whole[:17], encoding="utf-8")
    watched = WatchedFolder(tmp_path, line)
    assert watched.look() == 0
    before = len(desk.view(job).facts.readings)
    file.write_text("job;setup;code;x;y;z\n" + whole + "nonsense\n" + whole.replace("F4R", "F9X"), encoding="utf-8")
    watched.look()
    assert len(desk.view(job).facts.readings) == before + 1
    refused = (tmp_path / "arm.refused").read_text(encoding="utf-8")
    assert "line 3: nonsense" in refused
    assert "F9X is not on the sheet" in refused
    WatchedFolder(tmp_path, line).look()
    assert len(desk.view(job).facts.readings) == before + 1, "a restart posts nothing twice"


@pytest.mark.parametrize("text", ["SL-1,1,F4R,1,2", "SL-1,x,F4R,1,2,3", "SL-1,1,F4R,1,2,nan", "SL-1,1,F4R,1,2,3,tight"])
def test_a_line_that_is_no_reading_says_what_one_is(text) -> None:
    with pytest.raises(Exception, match=r"a line is|not a length"):
        reading_of_line(text)


def test_other_tools_post_on_the_same_path(line, job) -> None:
    def post(*readings):
        sent = {"request_key": key(), "setup": 1, "readings": list(readings)}
        return line.client.post(f"/api/v1/jobs/{job}/readings", json=sent)

    span = {"kind": "span", "code": "F4L", "b": "C1R", "mode": "point_to_point", "mm": 1512.0, "sigma_mm": 1.0}
    assert post(span, {"call": "F4R C1L 59 1/2 in"}).status_code == 201
    wrong = post({**span, "b": "C9R"})
    assert (wrong.status_code, wrong.json()["errors"][0]["field"]) == (422, "readings.0.b")
    assert "itself" in post({**span, "b": "F4L"}).json()["title"]
    assert post({**span, "mm": -4.0}).status_code == 422
    assert "leave the other fields out" in post({"call": "F4L C1R 1512", "mm": 5}).json()["title"]
    assert line.get(f"/jobs/{job}/next") is None or "words" in line.get(f"/jobs/{job}/next")
    kinds = {reading["kind"] for reading in line.get(f"/jobs/{job}/facts")["readings"]}
    assert kinds == {"point", "span"}


def test_ten_thousand_readings_are_too_many_for_one_message_and_none_is_taken(line, job, desk) -> None:
    before = len(desk.view(job).facts.readings)
    reading = {"code": "F4R", "xyz": [1.0, 2.0, 3.0]}
    sent = {"request_key": key(), "setup": 1, "readings": [reading] * 10_000}
    answer = line.client.post(f"/api/v1/jobs/{job}/readings", json=sent)
    assert answer.status_code == 422
    assert "1000" in json.dumps(answer.json())
    assert len(desk.view(job).facts.readings) == before


def test_a_page_hears_of_a_reading_at_once(server, line, job, desk) -> None:
    """Server-sent events over a real connection: the event names the new revision within a second."""
    heard: list[str] = []
    ready = threading.Event()

    def listen() -> None:
        with httpx.Client(base_url=server, timeout=10) as client:
            client.post("/sign-in", data={"name": "ngozi", "password": SIGN_INS[0].password})
            revision = desk.view(job).job.revision
            with client.stream("GET", f"/jobs/{job}/live", params={"revision": revision}) as stream:
                assert stream.headers["content-type"].startswith("text/event-stream")
                for text in stream.iter_lines():
                    ready.set()
                    if text.startswith("data:"):
                        heard.append(text)
                        return

    listening = threading.Thread(target=listen)
    listening.start()
    assert ready.wait(5)
    began = time.monotonic()
    send(SimulatedInstrument(line, seed=9), job, ["F4L"])
    listening.join(5)
    assert heard == [f"data: {desk.view(job).job.revision}"]
    assert time.monotonic() - began < 2.0
    assert httpx.get(f"{server}/jobs/{job}/live").status_code == 303


def test_noise_is_what_it_says(line, job) -> None:
    arm = SimulatedInstrument(line, seed=10)
    read = np.array([arm.read(job, 1, "F4R")["xyz"] for _ in range(400)])
    assert read.std(axis=0) == pytest.approx(0.3, abs=0.05)


@pytest.fixture
def on_the_board(job, line, desk, persons) -> str:
    """A Dunlin, decided, with one pull of its right rail begun on the board, up to pulling."""
    arm = SimulatedInstrument(line, seed=4)
    send(arm, job, OTHERS)
    lead = persons["lead"]
    hold = desk.view(job).state.hold("decision_made")
    for state in member_states(desk.view(job).facts):
        said = MemberSaid(state.member, "", "mild", "structural", ("bent",), MakersWord(), "the book")
        seen = deciding.see_member(desk, lead, key(), job, said)
        deciding.decide(desk, lead, key(), job, seen, DecisionSaid("straighten"))
    for finding in open_findings(desk.view(job).facts, damage_of(desk.view(job).facts).findings):
        deciding.settle(desk, lead, key(), job, key_of(finding), "looked at again, it stands")
    hold = desk.view(job).state.hold("decision_made")
    desk.sign(lead, key(), job, "decision_made", hold.evidence, "")
    pull_plans.keep_setting(desk, lead, key(), job, setting_of_vehicle(DUNLIN), 0)
    chain = ChainSet(hook="at F5R", tower="front right", height_mm=430, force_n=60_000)
    pull_plans.keep_plan(desk, lead, key(), job, PlanSaid(school="outward", pulls=(WorkPull(chains=(chain,)),)), 0)
    pulling.begin(desk, lead, key(), job, 1)
    pulling.go_on(desk, lead, key(), job, "cautions", "test", tuple(name for name, _ in CAUTIONS))
    pulling.go_on(desk, lead, key(), job, "test", "look")
    pulling.go_on(desk, lead, key(), job, "look", "pulling", ("clamps",))
    return job


def test_a_simulated_tower_pulls_until_it_is_let_go_and_the_metal_comes_back(on_the_board, line, desk, persons) -> None:
    job, lead = on_the_board, persons["lead"]
    tower = SimulatedTower(line, job, seed=2)
    for _ in range(40):
        tower.serve()
    board = board_of(desk.view(job).facts)
    point = board.points[0]
    assert point.loaded and point.now_mm > point.watched.was_mm + 3
    forces = pulling.loads(desk, desk.view(job))
    assert 15_000 < forces["front right"][0] <= 40 * 0.03 * 60_000, "it pumps slower where the metal gives"
    pulling.go_on(desk, lead, key(), job, "pulling", "let_go")
    tower.serve()
    after = board_of(desk.view(job).facts).points[0]
    assert not after.loaded
    assert point.watched.was_mm - 1.5 < after.now_mm < after.most_loaded_mm - 0.5, "it came part of the way back"
    another = SimulatedTower(line, job, seed=9)
    code = point.watched.code
    assert np.linalg.norm(another.places()[code] - tower.places()[code]) < 2, (
        "another finds the vehicle where it was left"
    )


def test_low_oil_a_slack_chain_and_a_twisted_one_show(on_the_board, line, desk) -> None:
    job = on_the_board
    for _ in range(3):
        SimulatedTower(line, job, RigFaults(low_oil=0.0), seed=3).serve()
    assert pulling.loads(desk, desk.view(job))["front right"][0] == 0
    slack = SimulatedTower(line, job, RigFaults(slack=0.05), seed=3)
    for _ in range(4):
        slack.serve()
    assert pulling.loads(desk, desk.view(job))["front right"][0] == 0
    turned = SimulatedTower(line, job, RigFaults(twist_mm=60.0), seed=3)
    straight = SimulatedTower(line, job, seed=3)
    for _ in range(12):
        turned.serve()
        straight.serve()
    assert np.linalg.norm(turned.places()["F5R"] - straight.places()["F5R"]) > 0.5, "a twisted chain turns the rail"


def test_a_slip_stops_the_board_and_voids_the_set_up_at_once_on_every_page(
    on_the_board, line, desk, as_role, persons
) -> None:
    job, ngozi = on_the_board, as_role("technician")
    slips = SimulatedTower(line, job, RigFaults(slip=0.1), seed=3)
    slips.serve()
    assert slipped(desk.view(job).facts, None) == (), "nothing slips yet"
    assert desk.view(job).setup is not None
    for _ in range(6):
        slips.serve()
    view = desk.view(job)
    assert view.setup is None, "the slip voids the set-up by itself"
    void = voided_last(view.facts)
    far = float(re.search(r"slipped ([\d.]+) mm in pull 1", void.words)[1])
    assert far == pytest.approx(math.sqrt(6**2 + 3**2 + 1), abs=2.5)
    assert board_of(view.facts).state == "stopped"
    shown = ngozi.get(f"/jobs/{job}/board/now")
    assert "STOP" in shown and "slipped" in shown
    assert "Look, then go on" not in shown and "Test pull is good" not in shown
    assert "set up again, then pull" in ngozi.post(f"/jobs/{job}/board/go", 409, seen="stopped", state="look")
    ngozi.post(f"/jobs/{job}/board/go", seen="stopped", state="let_go")
    for _ in range(3):
        slips.serve()
    for page in ("take-in", "sheet", "measure", "damage", "decide", "pulls", "set-up", "fit", "record"):
        assert "The vehicle moved: set up again." in ngozi.get(f"/jobs/{job}/{page}"), page
    board = ngozi.get(f"/jobs/{job}/board")
    assert "Set up again" in board and "SET UP AGAIN" in board, "it stays, whatever is read meanwhile"
    assert "Set-up accepted" in ngozi.get(f"/jobs/{job}/holds/setup_accepted")
    assert desk.view(job).state.hold("setup_accepted").status == "missing"
    setup = measuring.open_setup(desk, persons["technician"], key(), job, "3-D instrument", 0.3)
    assert setup == 2
    assert "The vehicle moved" not in ngozi.get(f"/jobs/{job}/measure")


@pytest.mark.parametrize("what", sorted(REFIT_NEEDED))
def test_every_move_that_voids_says_so_on_every_page_until_it_is_set_up_again(
    on_the_board, desk, persons, as_role, what
) -> None:
    job, ngozi = on_the_board, as_role("technician")
    assert "The vehicle moved" not in ngozi.get(f"/jobs/{job}/damage")
    measuring.record_move(desk, persons["technician"], key(), job, what, "")
    for page in ("measure", "damage", "pulls"):
        assert "set up again" in ngozi.get(f"/jobs/{job}/{page}"), page
    assert "SET UP AGAIN" in ngozi.get(f"/jobs/{job}/board") or "STOP" in ngozi.get(f"/jobs/{job}/board")


def test_the_structure_was_moved_stays_in_reach_when_a_point_is_looked_at(job, line, as_role) -> None:
    send(SimulatedInstrument(line, seed=4), job, OTHERS)
    for point in ("", "F4R"):
        assert "the structure was moved" in as_role("technician").get(f"/jobs/{job}/measure?point={point}")
