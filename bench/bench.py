"""`./run bench`: what is timed, as ratios in one run. Pages to a bare page of the same server, calculations to scipy's."""

import json
import secrets
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import httpx
import numpy as np
from scipy.spatial.transform import Rotation

from bench import board, cuts, damage, honesty, many, measuring, pulls
from bench.stage import Stage, stage
from fairsquare.actions.measuring import open_setup, take_readings
from fairsquare.core.catalogue import CATALOGUE
from fairsquare.core.intake.safety import SAFETY_ITEMS
from fairsquare.core.pull.job import FIRST_RETURN
from fairsquare.core.pull.springback import Prior
from fairsquare.core.sheet.model import Point, Sheet
from fairsquare.demo.load import load
from fairsquare.demo.people import SIGN_INS
from fairsquare.job.facts.holds import HoldName
from fairsquare.job.facts.measure import NewReading
from fairsquare.stand_ins.vehicles import DUNLIN, instrument_reading
from fairsquare.store import people
from fairsquare.store.jobs import JobDetails
from fairsquare.store.people import Person

JOBS = 500
ROUNDS = 40
BARE = "/help"
LIMITS = {"the floor, 500 jobs": 6.0, "measuring, 20 points": 6.0, "adjust-network over scipy's time": 0.25}
HONEST_JOBS = 400
DAMAGED_JOBS, LEAST_COVERED = 1000, 0.93
STRUCTURES = 2000
PLANNED_FRAMES, LEAST_HOME = 40, 0.75
INSIDE_FRAMES = 20
SEEDS_EACH = 10
FAIR_BUT_OUT = 0.025
MOST_SLOWER = 1.3


def main() -> int:
    """Print the ratios and return 1 when one is over its limit."""
    over = tell_honesty() + tell_damage() + tell_pulls()
    ratios = calculations() | {"the demo's second start over an import": second_start()}
    ratios["adjust-network over scipy's time"] = 1 / measuring.against_scipy()
    with stage() as at:
        load(at.desk)
        paths = fill(at)
        ratios |= pages(at, paths)
        over += tell_cuts(at)
        over += tell_live(at)
        board.begin(at)
        median, late = board.until_on_board(at)
        sys.stdout.write(f"a reading under load until it is on the board, 20 a second: median {median * 1000:.0f} ms, ")
        sys.stdout.write(f"95th percentile {late * 1000:.0f} ms (limit 250)\n")
        over += late > 0.25
    over += tell_many()
    for name, ratio in ratios.items():
        limit = LIMITS.get(name)
        over += limit is not None and ratio > limit
        sys.stdout.write(f"{name:<40} {ratio:8.2f}{f'   (limit {limit:g})' if limit else ''}\n")
    return 1 if over else 0


def tell_many() -> int:
    """Print how much slower pages are with ten thousand jobs than with a hundred; return how many are over the limit."""
    with stage() as at:
        load(at.desk)
        found = many.grown(at)
    sys.stdout.write(
        f"{many.MANY} jobs with {many.READINGS_EACH} readings each over {many.FEW}, both over a bare page\n"
    )
    for name, ratio in found.ratios.items():
        sys.stdout.write(f"  {name:<28} {ratio:6.2f}   (limit {MOST_SLOWER:g})\n")
    return sum(ratio > MOST_SLOWER for ratio in found.ratios.values())


def tell_honesty() -> int:
    """Print what simulated jobs show of blunders and of what is called fair; return 1 where too much of it is out."""
    over = 0
    sys.stdout.write(f"{HONEST_JOBS} simulated jobs a mix; half have one reading 12 to 60 mm wrong\n")
    for mix in honesty.MIXES:
        found = honesty.honesty(mix, HONEST_JOBS)
        over += found.fair_but_out > FAIR_BUT_OUT
        sys.stdout.write(
            f"  {mix:<30} wrong one among those named {found.named:6.1%}, alone {found.told_apart:6.1%}; good ones lost "
            f"{found.good_rejected:6.2%}; called fair and out {found.fair_but_out:6.2%} of {found.fair}\n"
        )
    return over


def tell_damage() -> int:
    """Print what is recovered of simulated damage; return 1 where the onset's interval does not hold the truth at its rate."""
    found = damage.recovered(DAMAGED_JOBS)
    sys.stdout.write(
        f"{DAMAGED_JOBS} front ends pushed in: an onset found in {found.found:.1%}, its interval ({found.width:.0f} mm wide) holds "
        f"the truth in {found.covered:.1%}, off by {found.onset_off:.0f} mm; push off by {found.push_off:.1f}°; an onset in the "
        f"sound end {found.false_onsets:.2%}\nas many swung as one piece: told so, and nothing else, {found.groups_right:.1%}, "
        f"turn off by {found.turn_off:.2f}°\n"
    )
    return int(not found.covered >= LEAST_COVERED)


def tell_pulls() -> int:
    """Print what the advice and plans do to simulated structures; return how many limits were passed."""
    for words, prior in (("a right prior, 5 ± 2", Prior(return_mm=5, sigma_mm=2)), ("a wide one, 8 ± 4", FIRST_RETURN)):
        sys.stdout.write(
            f"{STRUCTURES} structures that give back 5 ± 2 mm, {words}: home by 12 mm, ± 1.5, readings ± 0.3\n"
        )
        for name, loop in pulls.closed_loop(STRUCTURES, prior).items():
            sys.stdout.write(
                f"  {name:<30} inside {loop.inside:6.1%}, beyond {loop.beyond:6.1%}, pulls {loop.pulls:.2f}\n"
            )
    planned = pulls.plans(PLANNED_FRAMES)
    sys.stdout.write(
        f"{planned.frames} frames hit once at an end: {planned.home:.1%} of the points off come home, all of them in "
        f"{planned.complete:.0%}, in {planned.pulls:.2f} pulls; {planned.seconds:.1f} s a frame, {planned.slowest:.1f} s at most\n"
    )
    for words, one in (
        ("the demo's five vehicles", pulls.of_vehicles(("SL-0005", "SL-0004", "SL-0003", "SL-0002", "SL-0001"))),
        (f"{5 * SEEDS_EACH} hidden blows of practice", pulls.of_seeds(SEEDS_EACH)),
        *((f"{INSIDE_FRAMES} ladders {name}", one) for name, one in pulls.inside(INSIDE_FRAMES).items()),
    ):
        sys.stdout.write(
            f"{words}: {one.home:.1%} of the points off come home, all of them in {one.complete:.0%}, in {one.pulls:.2f} pulls; "
            f"{one.seconds:.1f} s a frame, {one.slowest:.1f} s at most\n"
        )
    ratio = pulls.frame_over_solves()
    sys.stdout.write(f"60 members in 40 steps over 1600 plain solves of 120 unknowns: {ratio:.2f}   (limit 1)\n")
    return (planned.home < LEAST_HOME) + (ratio > 1)


def tell_cuts(at: Stage) -> int:
    """Print how quickly a strip follows a dragged cut, and how long a large map takes; return how many limits were passed."""
    found = cuts.dragged(at)
    sys.stdout.write(
        f"a cut dragged over {cuts.LAYERS} layers and {cuts.FEATURES} features: median {found.median * 1000:.0f} ms, "
        f"95th percentile {found.late * 1000:.0f} ms (limit 100); placing all cuts anew {found.placing * 1000:.0f} ms\n"
        f"a map of {cuts.WELDS} welds: {found.mapping:.2f} s, its page {found.map_page:.2f} s (limit 1)\n"
    )
    return (found.late > 0.1) + (max(found.mapping, found.map_page) > 1)


def tell_live(at: Stage) -> int:
    """Print how long a reading takes to be drawn, and what a minute's stream lost; return how many limits were passed."""
    found = at.desk.database.run(lambda c: {one["name"]: one["id"] for one in people.people(c)})
    ngozi = Person(found["ngozi"], "ngozi", SIGN_INS[0].full_name, SIGN_INS[0].role)
    number = at.desk.open_job(ngozi, secrets.token_hex(12), JobDetails(vehicle="Dunlin, 120 points"))
    sheet = sheet_of(120)
    measure(at, ngozi, number, sheet)
    codes = [point.code for point in sheet.points if not point.reference]
    again = [
        NewReading(purpose="point", code=code, xyz=instrument_reading(np.array(place), 3, np.zeros(3)), said=code)
        for code, place in list({p.code: p.xyz for p in sheet.points if not p.reference}.items()) * 2
    ][: 300 - 120]
    take_readings(at.desk, ngozi, secrets.token_hex(12), number, 1, again)
    median, late = measuring.until_drawn(at, number, codes)
    sys.stdout.write(f"a reading until it is drawn, 120 points and 300 readings: median {median * 1000:.0f} ms, ")
    sys.stdout.write(f"95th percentile {late * 1000:.0f} ms (limit 150)\n")
    sent, kept = measuring.stream(at, "SL-0005", ["F4L", "F4R", "F3L", "F3R"])
    sys.stdout.write(f"40 readings a second for a minute: {sent} read, {kept} recorded\n")
    return (late > 0.15) + (kept != sent)


def fill(at: Stage) -> dict[str, str]:
    """Make five hundred jobs that are measured, and one with a sheet of 400 points; return the paths to time."""
    found = at.desk.database.run(lambda c: {one["name"]: one["id"] for one in people.people(c)})
    ngozi = Person(found["ngozi"], "ngozi", SIGN_INS[0].full_name, SIGN_INS[0].role)
    number = ""
    for index in range(JOBS):
        details = JobDetails(vehicle=f"Dunlin post van {index}", hit_words="struck low at the right front corner")
        number = at.desk.open_job(ngozi, secrets.token_hex(12), details)
        measure(at, ngozi, number, DUNLIN.sheet)
    large = at.desk.open_job(ngozi, secrets.token_hex(12), JobDetails(vehicle="Heron long wheelbase"))
    measure(at, ngozi, large, sheet_of(400))
    return {
        "the floor, 500 jobs": "/",
        "the floor, a search": "/?q=van+499",
        "measuring, 20 points": f"/jobs/{number}/measure?point=F4R",
        "measuring, 400 points": f"/jobs/{large}/measure?point=P100",
        "the sheet, 400 points": f"/jobs/{large}/sheet",
        "the set-up": f"/jobs/{number}/set-up",
    }


def measure(at: Stage, person: Person, number: str, sheet: Sheet) -> None:
    """Give a job a sheet, a set-up and a reading of every point."""
    at.desk.accept_sheet(person, secrets.token_hex(12), number, sheet, {}, "bench")
    for item in SAFETY_ITEMS:
        at.desk.answer_safety(person, secrets.token_hex(12), number, item.key, "done", "", "the bench", "B-1")
    sign(at, person, number, "made_safe")
    open_setup(at.desk, person, secrets.token_hex(12), number, "3-D instrument", 0.3)
    taken = [
        NewReading(
            purpose="reference" if point.reference else "point",
            code=point.code,
            xyz=instrument_reading(np.array(point.xyz), 3, np.zeros(3)),
            said=point.code,
        )
        for point in sheet.points
    ]
    references = [reading for reading in taken if reading.purpose == "reference"]
    take_readings(at.desk, person, secrets.token_hex(12), number, 1, references)
    sign(at, person, number, "setup_accepted")
    points = [reading for reading in taken if reading.purpose == "point"]
    take_readings(at.desk, person, secrets.token_hex(12), number, 1, points)


def sign(at: Stage, person: Person, number: str, hold: HoldName) -> None:
    """Sign a hold point on the evidence as it stands."""
    state = at.desk.view(number).state.hold(hold)
    at.desk.sign(
        person, secrets.token_hex(12), number, hold, state.evidence, "the bench says so" if state.missing else ""
    )


def sheet_of(count: int) -> Sheet:
    """Return a sheet of that many points, six of them references."""
    random = np.random.default_rng(4)
    points = [point for point in DUNLIN.sheet.points if point.reference]
    for index in range(count - len(points)):
        xyz = random.uniform((-2500, -800, 0), (2500, 800, 1000)).round(1)
        points.append(
            Point(code=f"P{index}", xyz=(float(xyz[0]), float(xyz[1]), float(xyz[2])), member=f"m{index % 9}")
        )
    return Sheet(name=f"{count} points", construction="ladder", points=tuple(points))


def pages(at: Stage, paths: dict[str, str]) -> dict[str, float]:
    """Return the median time of each page over that of the bare one, the pages taken in turn."""
    http = httpx.Client(base_url=at.address, follow_redirects=True)
    http.post("/sign-in", data={"name": SIGN_INS[0].name, "password": SIGN_INS[0].password})
    times: dict[str, list[float]] = {BARE: [], **{name: [] for name in paths}}
    for turn in range(ROUNDS + 3):
        for name, path in ((BARE, BARE), *paths.items()):
            began = time.perf_counter()
            answer = http.get(path)
            spent = time.perf_counter() - began
            if answer.status_code != 200:
                raise RuntimeError(f"{path}: {answer.status_code}")
            if turn >= 3:
                times[name].append(spent)
    bare = statistics.median(times.pop(BARE))
    return {name: statistics.median(own) / bare for name, own in times.items()}


def second_start() -> float:
    """Return the time of a demo's second start, until its welcome, over that of a Python that imports the application."""
    with tempfile.TemporaryDirectory(prefix="fairsquare-bench-") as name:
        Path(name).chmod(0o755)
        command = [sys.executable, "-m", "fairsquare", "demo", "--folder", name, "--port", "8300"]
        until_welcome(command)
        spent = until_welcome(command)
    bare = timed(
        lambda: subprocess.run([sys.executable, "-c", "import fairsquare.web.app"], check=True),
        rounds=3,
    )
    sys.stdout.write(f"the demo's second start took {spent:.1f} s\n")
    return spent / bare


def until_welcome(command: list[str]) -> float:
    """Start a demo, stop it once it has told its address, and return the seconds until then."""
    began = time.perf_counter()
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
        for line in process.stdout or ():
            if "Fair Square is at" in line:
                break
        spent = time.perf_counter() - began
        process.terminate()
        process.communicate()
    return spent


def calculations() -> dict[str, float]:
    """Return the time of calculations, JSON in and out, over scipy's alignment of the same six points."""
    references = [point for point in DUNLIN.sheet.points if point.reference]
    sheet = np.array([p.xyz for p in references])
    read = [
        {"code": point.code, "xyz": list(instrument_reading(np.array(point.xyz), 3, np.zeros(3)))}
        for point in references
    ]
    xyz = np.array([one["xyz"] for one in read])
    own = DUNLIN.sheet.model_dump(mode="json")
    fit = json.dumps({"sheet": own, "readings": read})
    bare = timed(lambda: Rotation.align_vectors(sheet - sheet.mean(0), xyz - xyz.mean(0)))
    return {
        "fit-setup over align_vectors": timed(lambda: CATALOGUE["fit-setup"].run_json(fit)) / bare,
        "parse-length over align_vectors": timed(lambda: CATALOGUE["parse-length"].run_json('{"text": "21 3/8 in"}'))
        / bare,
    }


def timed(work: Callable[[], object], rounds: int = 60) -> float:
    """Return the median seconds of one run."""
    spent = []
    for _ in range(rounds):
        began = time.perf_counter()
        work()
        spent.append(time.perf_counter() - began)
    return statistics.median(spent)


if __name__ == "__main__":
    sys.exit(main())
