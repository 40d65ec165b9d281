"""How long a reading under load takes to stand on the pull board, at 20 readings a second."""

import re
import secrets
import statistics
import threading
import time

import httpx
import numpy as np

from bench.stage import Stage
from fairsquare.actions import measuring, pull_plans, pulling
from fairsquare.core.pull.job import CAUTIONS, ChainSet, PlanSaid, WorkPull, along
from fairsquare.demo.people import INSTRUMENT, SIGN_INS
from fairsquare.job.facts.measure import NewReading
from fairsquare.job.pull.board import board_of
from fairsquare.stand_ins.client import Line
from fairsquare.stand_ins.vehicles import TEAL, instrument_reading, seed_of
from fairsquare.store import people
from fairsquare.store.people import Person

JOB, CODE = "SL-0003", "R3R"
RATE, SECONDS, WAY_MM = 20.0, 10.0, 40.0
_FIGURE = re.compile(rf'data-code="{CODE}".*?board-figure">\s*<b>([\d.]+)</b>\s*<span>mm\s*(past|short)', re.DOTALL)


def begin(at: Stage) -> None:
    """Take the Teal of the demo to the middle of a pull."""
    lead = _lead(at)
    hold = at.desk.view(JOB).state.hold("decision_made")
    at.desk.sign(lead, _key(), JOB, "decision_made", hold.evidence, "signed for the bench of the board")
    chain = ChainSet(hook="at R2R", tower="rear", height_mm=150, force_n=72_000)
    pull_plans.keep_plan(at.desk, lead, _key(), JOB, PlanSaid(school="outward", pulls=(WorkPull(chains=(chain,)),)), 0)
    pulling.begin(at.desk, lead, _key(), JOB, 1)
    pulling.go_on(at.desk, lead, _key(), JOB, "cautions", "test", tuple(name for name, _ in CAUTIONS))
    pulling.go_on(at.desk, lead, _key(), JOB, "test", "look")
    pulling.go_on(at.desk, lead, _key(), JOB, "look", "pulling", ("clamps",))


def read_loaded(at: Stage, code: str, moved: tuple[float, float, float]) -> None:
    """Read a point of the Teal under load, so far from its place on the sheet."""
    view = at.desk.view(JOB)
    setup = view.setup.number if view.setup else 1
    place = next(np.array(point.xyz) for point in TEAL.sheet.points if point.code == code)
    xyz = instrument_reading(place + np.array(moved), seed_of(JOB, setup), np.zeros(3))
    measuring.take_readings(
        at.desk,
        _lead(at),
        _key(),
        JOB,
        setup,
        [NewReading(purpose="point", code=code, xyz=xyz, said=code, loaded=True)],
    )


def read_force(at: Stage, tower: str, force_n: float) -> None:
    """Read the force at a tower."""
    pulling.read_load(at.desk, _lead(at), _key(), JOB, tower, force_n, None)


def _lead(at: Stage) -> Person:
    ids = at.desk.database.run(lambda c: {one["name"]: one["id"] for one in people.people(c)})
    return Person(ids["solveig"], "solveig", SIGN_INS[2].full_name, SIGN_INS[2].role)


def until_on_board(at: Stage, look_at: str = "", rate: float = RATE) -> tuple[float, float]:
    """Return the median and the 95th percentile of the seconds from a reading that is sent to the board that shows it.

    `look_at`: the server of the board; empty: the one that readings are sent to. `rate`: readings a second.
    """
    view = at.desk.view(JOB)
    board, sheet = board_of(view.facts), view.facts.sheet
    if board is None or sheet is None or view.setup is None:
        raise RuntimeError("no pull is under way")
    setup = view.setup.number
    watched = next(point.watched for point in board.points if point.watched.code == CODE)
    place = next(np.array(point.xyz) for point in TEAL.sheet.points if point.code == CODE)
    many = int(rate * SECONDS)
    places = [place + np.array(watched.way) * WAY_MM * (k / many - 0.5) for k in range(many)]
    shown = np.array([along(watched, sheet, (float(x), float(y), float(z))) for x, y, z in places])
    sent: list[float] = []
    seen: list[tuple[float, float]] = []
    over = threading.Event()

    def look() -> None:
        with httpx.Client(base_url=look_at or at.address, follow_redirects=True, timeout=30) as http:
            http.post("/sign-in", data={"name": SIGN_INS[0].name, "password": SIGN_INS[0].password})
            with http.stream("GET", f"/jobs/{JOB}/live?board=1&revision=0") as live:
                for line in live.iter_lines():
                    if over.is_set():
                        return
                    found = line.startswith("event: changed") and _FIGURE.search(
                        http.get(f"/jobs/{JOB}/board/now").text
                    )
                    if found:
                        past = float(found.group(1)) * (1 if found.group(2) == "past" else -1)
                        seen.append((time.perf_counter(), past))

    threading.Thread(target=look, daemon=True).start()
    time.sleep(2.0)
    with httpx.Client(base_url=at.address, timeout=30) as client:
        line = Line(client, INSTRUMENT.name, INSTRUMENT.password)
        line.get(f"/jobs/{JOB}")
        began = time.perf_counter()
        for number, at_place in enumerate(places):
            time.sleep(max(0.0, began + number / rate - time.perf_counter()))
            xyz = instrument_reading(at_place, seed_of(JOB, setup), np.zeros(3))
            sent.append(time.perf_counter())
            reading = {"code": CODE, "xyz": xyz, "loaded": True, "purpose": "point"}
            line.put_aside(JOB, setup, [reading], "bench", _key())
            line.send()
    time.sleep(1.5)
    over.set()
    shown += seen[-1][1] - shown[-1]  # the set-up's own fit moves all that is shown by as much
    newest = [(moment, int(np.argmin(np.abs(shown - past)))) for moment, past in seen]
    spent = []
    for number, when in enumerate(sent):
        later = [moment for moment, last in newest if last >= number and moment >= when]
        spent.append(later[0] - when if later else 9.0)
    return statistics.median(spent), float(np.quantile(spent, 0.95))


def _key() -> str:
    return secrets.token_hex(12)
