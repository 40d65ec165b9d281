"""Ten thousand jobs with a year of readings against a hundred: floor, search and a job's pages, each over a bare page."""

import statistics
import time
from typing import NamedTuple

import httpx

from bench.stage import Stage
from fairsquare.demo.people import SIGN_INS
from fairsquare.store.database import Connection, execute, select, select_one
from fairsquare.store.search import index_job

FEW, MANY = 100, 10_000
READINGS_EACH = 60
ROUNDS = 30
BARE = "/help"
PAGES = {
    "the floor": "/",
    "the closed jobs": "/?closed=1",
    "the search, a number": "/?closed=1&q=SL-0077",
    "the search, a vehicle": "/?closed=1&q=sanderling+tug",
    "the search, a VIN": "/?closed=1&q=9ZZMANY0000077",
    "the search, a day": "/?closed=1&q=2025-01-03",
    "a job's measuring": "/jobs/SL-0005/measure",
    "a job's hours": "/jobs/SL-0003/hours",
    "who did what": "/audit",
}


class Grown(NamedTuple):
    """Medians of each page over a bare page, with few jobs and with many."""

    few: dict[str, float]
    many: dict[str, float]

    @property
    def ratios(self) -> dict[str, float]:
        """How much slower each page is with many."""
        return {name: self.many[name] / self.few[name] for name in self.few}


def grown(at: Stage) -> Grown:
    """Fill the demo's database up to a hundred jobs, time the pages, fill it up to ten thousand, and time them again."""
    http = httpx.Client(base_url=at.address, follow_redirects=True, timeout=60)
    http.post("/sign-in", data={"name": SIGN_INS[0].name, "password": SIGN_INS[0].password})
    at.desk.database.run(lambda c: fill(c, FEW))
    few = _timed(http)
    at.desk.database.run(lambda c: fill(c, MANY))
    return Grown(few, _timed(http))


def fill(connection: Connection, jobs: int) -> None:
    """Close as many jobs of the past year as lack, each with a set-up and readings, by the database's own sequences."""
    have = select_one(connection, "SELECT COUNT(*) AS many, MIN(opened_by) AS person FROM job") or {}
    first = int(have["many"]) + 1
    execute(
        connection,
        f"""INSERT INTO job (number, vehicle, construction, vin, hit_where, hit_height, hit_words, notes, version, revision,
                             opened_by, opened_at, touched_at, closed_at)
            SELECT CONCAT('SL-', LPAD(seq, GREATEST(4, LENGTH(seq)), '0')), CONCAT('Sanderling tug ', seq), 'unibody',
                   CONCAT('9ZZMANY', LPAD(seq, 7, '0')), 'front', 'low', 'ran into the linkspan',
                   CONCAT('berth ', seq MOD 9), 1, 1, %s,
                   '2025-01-01' + INTERVAL seq HOUR, '2025-01-02' + INTERVAL seq HOUR, '2025-01-09' + INTERVAL seq HOUR
            FROM seq_{first}_to_{jobs}""",
        have["person"],
    )
    for one in select(
        connection, "SELECT id FROM job j WHERE NOT EXISTS (SELECT 1 FROM job_gram g WHERE g.job_id = j.id)"
    ):
        index_job(connection, one["id"])
    execute(
        connection,
        """INSERT INTO setup (job_id, number, instrument, sigma_mm, sheet_version, opened_by, opened_at)
           SELECT j.id, 1, 'a bench', 0.3, 1, j.opened_by, j.opened_at FROM job j
           WHERE j.vin LIKE '9ZZMANY%%' AND NOT EXISTS (SELECT 1 FROM setup s WHERE s.job_id = j.id)""",
    )
    execute(
        connection,
        f"""INSERT INTO reading (job_id, setup_id, purpose, code, x, y, z, said, loaded, instrument, person_id, at)
            SELECT s.job_id, s.id, 'point', CONCAT('P', seq), seq, seq, seq, 'as called', FALSE, 'a bench', s.opened_by, s.opened_at
            FROM setup s JOIN job j ON j.id = s.job_id JOIN seq_1_to_{READINGS_EACH} WHERE j.vin LIKE '9ZZMANY%%'
              AND NOT EXISTS (SELECT 1 FROM reading r WHERE r.setup_id = s.id)""",
    )


def _timed(http: httpx.Client) -> dict[str, float]:
    """Return the median of each page over that of a bare one, taken turn by turn."""
    took: dict[str, list[float]] = {path: [] for path in (BARE, *PAGES.values())}
    for turn in range(ROUNDS + 3):
        for path, times in took.items():
            began = time.perf_counter()
            http.get(path).raise_for_status()
            if turn >= 3:
                times.append(time.perf_counter() - began)
    bare = statistics.median(took[BARE])
    return {name: statistics.median(took[path]) / bare for name, path in PAGES.items()}
