"""A simulated tower and vehicle: it follows the boards of jobs and pulls each vehicle's frame as far as its board lets it.

It speaks the public API as a load cell and an instrument would: forces at each tower, points under load, and, once let go, points
free; and it reads what an instrument is asked to read, where the vehicle stands by then.
"""

import time
import uuid
from collections.abc import Mapping
from typing import Any

import httpx
import numpy as np

from fairsquare.core.model import Row3
from fairsquare.core.pull.job import BoardState, PlanSaid, WorkPull
from fairsquare.core.pull.setting import Setting
from fairsquare.core.sheet.model import Sheet
from fairsquare.stand_ins.client import Line
from fairsquare.stand_ins.instrument import httpx_json
from fairsquare.stand_ins.vehicle import NOISE_MM, RigFaults, SimulatedVehicle, Told, told_force
from fairsquare.stand_ins.vehicles import VEHICLES, Floats, instrument_reading, places_of, seed_of

NAME = "Simulated tower and vehicle"
_PAUSE_S, _AWAY_S = 0.25, 2.0


class SimulatedTower:
    """One vehicle on one rig, driven by the board of one job."""

    def __init__(
        self,
        line: Line,
        job: str,
        faults: RigFaults | None = None,
        seed: int | None = None,
        *,
        strength: float = 1.0,
        struck: Mapping[str, Row3] | None = None,
    ) -> None:
        """`strength`: how many times as strong the vehicle is as the job's frame says; `struck`: how far its points moved, mm.

        `struck` is for a vehicle that is none of the demo's.
        """
        self.line, self.job, self.faults = line, job, faults or RigFaults()
        self._strength, self._struck = strength, dict(struck or {})
        self._random = np.random.default_rng(seed)
        self._vehicle: SimulatedVehicle | None = None
        self._plan: tuple[tuple[int, int, int], WorkPull, Setting] | None = None

    def serve(self) -> bool:
        """Look at the board once and do what it says; say whether a pull is under way. Raises `httpx.HTTPError` while the server
        cannot be reached."""
        board = self.line.get(f"/jobs/{self.job}/board")
        self._serve_orders()
        if board["state"] is None:
            return False
        now = (board["plan_version"], board["pull"], board["cycle"])
        if self._plan is None or self._plan[0] != now:
            plan = PlanSaid.model_validate(self.line.get(f"/jobs/{self.job}/pulls")["plan"])
            setting = Setting.model_validate(self.line.get(f"/jobs/{self.job}/pulls/setting"))
            self._plan = now, plan.pulls[board["pull"] - 1], setting
        _, work, setting = self._plan
        codes = [point["watched"]["code"] for point in board["points"]]
        state: BoardState = "hold" if board["let_go"] else board["state"]  # who pumps stops at the board's word
        told = self._ready().step(state, board["pull"], board["cycle"], work, setting, codes)
        self._tell(told, {tower.id for tower in setting.towers}, board["setup"])
        return True

    def places(self) -> dict[str, Floats]:
        """Return where each point truly is now."""
        return self._ready().places()

    def _ready(self) -> SimulatedVehicle:
        if self._vehicle is None:
            sheet = Sheet.model_validate_json(httpx_json(self.line, f"/jobs/{self.job}/sheet"))
            shown = self.line.get(f"/jobs/{self.job}")
            known = next((vehicle for vehicle in VEHICLES if vehicle.name == shown["details"]["vehicle"]), None)
            metal = seed_of(self.job)
            places = places_of(sheet, known.moved if known and not self._struck else self._struck, metal)
            if shown["picture"] and self._was_pulled():
                places |= {code: np.array(placed["xyz"]) for code, placed in shown["picture"]["placed"].items()}
            self._vehicle = SimulatedVehicle(sheet, places, metal, self.faults, self._strength)
        return self._vehicle

    def _was_pulled(self) -> bool:
        """Say whether a pull was let go in this job before: another pulled it, and it stands where it was read."""
        return any(event["state"] == "read_free" for event in self.line.get(f"/jobs/{self.job}/facts")["pull_events"])

    def _tell(self, told: Told, cells: set[str], setup: int | None) -> None:
        for tower, force in told.forces.items():
            if tower in cells:
                self._post("load", {"tower": tower, "force_n": told_force(force, self._random)})
        if told.codes:
            asked = [{"code": code, "loaded": told.loaded, "purpose": "point"} for code in told.codes]
            self._read(asked, uuid.uuid4().hex, setup)

    def _serve_orders(self) -> None:
        """Read what an instrument is asked to read in this job."""
        for order in self.line.get("/instrument/orders"):
            if order["job"] == self.job:
                asked = {"code": order["code"], "loaded": False, "purpose": order["purpose"], "order": order["id"]}
                self._read([asked], f"order {self.job} {order['id']}", self.line.get(f"/jobs/{self.job}")["setup"])

    def _read(self, asked: list[dict[str, Any]], key: str, setup: int | None) -> None:
        if setup is None:
            return
        places = self.places()
        readings = [
            point
            | {
                "xyz": instrument_reading(
                    places[point["code"]], seed_of(self.job, setup), self._random.normal(0, NOISE_MM, 3)
                )
            }
            for point in asked
            if point["code"] in places
        ]
        self.line.put_aside(self.job, setup, readings, NAME, key)
        self.line.send()

    def _post(self, path: str, body: dict[str, Any]) -> None:
        self.line.post(f"/jobs/{self.job}/{path}", {"request_key": uuid.uuid4().hex, **body})


class Yard:
    """The rigs of all jobs in which pulling has begun, each with its vehicle; what one was told to do, its tower does."""

    def __init__(self, line: Line) -> None:
        self.line = line
        self._towers: dict[str, SimulatedTower] = {}

    def serve(self) -> frozenset[str]:
        """Serve the boards that are on, and return the jobs whose instrument this is from now on."""
        pulled = {row["job"]: row["under_way"] for row in self.line.get("/instrument/pulls")}
        asked = {order["job"] for order in self.line.get("/instrument/orders")} if pulled else set()
        for job, under_way in pulled.items():
            if under_way or job in asked:
                self._towers.setdefault(job, SimulatedTower(self.line, job)).serve()
        return frozenset(pulled)


def run(server: str, name: str, password: str, job: str, faults: RigFaults | None = None) -> int:
    """Follow a job's board until it is stopped; keep trying while the server is away."""
    with httpx.Client(base_url=server, timeout=10) as client:
        tower = SimulatedTower(Line(client, name, password), job, faults)
        while True:
            try:
                tower.serve()
            except httpx.HTTPError:
                time.sleep(_AWAY_S)
            time.sleep(_PAUSE_S)
