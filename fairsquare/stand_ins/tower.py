"""A simulated tower and vehicle: it follows a job's board and pulls the vehicle's frame as far as the board lets it.

It speaks the public API as a load cell and an instrument would: forces at each tower, points under load, and, once let go, points
free. The frame is that of the job's setting; it yields and springs back by itself, with noise. It can be told to misbehave:
oil that runs low, a clamp that slips, a chain that goes slack.
"""

import time
import uuid
from dataclasses import dataclass, field
from typing import Any

import httpx
import numpy as np

from fairsquare.core.pull.job import PlanSaid
from fairsquare.core.pull.setting import Setting, frame_of_setting
from fairsquare.core.sheet.model import Sheet
from fairsquare.core.structure.frame import Frame, frame_of
from fairsquare.core.structure.path import Follower, Standing
from fairsquare.demo.vehicles import VEHICLES, Floats, instrument_reading, places_of, seed_of
from fairsquare.stand_ins.client import Line
from fairsquare.stand_ins.instrument import httpx_json

NAME = "Simulated tower and vehicle"
NOISE_MM, NOISE_SHARE = 0.3, 0.01
STEP_SHARE, MOST_SHARE, LIGHT_SHARE = 0.03, 2.5, 0.05
_PAUSE_S, _AWAY_S = 0.25, 2.0
_SLIP_MM = np.array([-6.0, 3.0, 1.0])


@dataclass
class TowerFaults:
    """What goes wrong, by the share of the planned force: above `low_oil` no more is reached; at `slip` a clamp lets the vehicle
    creep at once; at `slack` the chain hangs loose."""

    low_oil: float | None = None
    slip: float | None = None
    slack: float | None = None


@dataclass
class _Rig:
    """What stands there: the frame with where it is, what the vehicle has crept, the share of the planned force, what was read."""

    frame: Frame
    follower: Follower
    standing: Standing
    crept: Floats = field(default_factory=lambda: np.zeros(3))
    share: float = 0.0
    read_free: int = 0


class SimulatedTower:
    """One vehicle on one rig, driven by the board of one job."""

    def __init__(self, line: Line, job: str, faults: TowerFaults | None = None, seed: int | None = None) -> None:
        self.line, self.job, self.faults = line, job, faults or TowerFaults()
        self._random = np.random.default_rng(seed)
        self._rig: _Rig | None = None
        self._places: dict[str, Floats] = {}
        self._setting: Setting | None = None

    def serve(self) -> None:
        """Look at the board once and do what it says. Raises `httpx.HTTPError` while the server cannot be reached."""
        board = self.line.get(f"/jobs/{self.job}/board")
        state = board["state"]
        if state is None:
            return
        rig = self._ready()
        codes = [point["watched"]["code"] for point in board["points"]]
        plan = PlanSaid.model_validate(self.line.get(f"/jobs/{self.job}/pulls")["plan"])
        work = plan.pulls[board["pull"] - 1]
        if state in ("test", "look"):
            rig.share, rig.read_free = LIGHT_SHARE, 0
        elif state == "pulling":
            rig.share = min(rig.share + STEP_SHARE, MOST_SHARE)
        elif state in ("read_free", "cautions", "ended"):
            rig.share = 0.0
        share = self._faulty(rig)
        self._pull(rig, share * self._loads(rig, work.chains))
        if state in ("test", "look", "pulling", "hold", "relieve", "stopped"):
            for chain in work.chains:
                force = max(0.0, share * chain.force_n * (1 + self._random.normal(0, NOISE_SHARE)))
                if self._setting is None or chain.tower not in {one.id for one in self._setting.towers}:
                    continue
                self._post("load", {"tower": chain.tower, "force_n": round(force, 1)})
            self._read(codes, loaded=True)
        elif state == "read_free" and rig.read_free != board["cycle"]:
            rig.read_free = board["cycle"]
            self._read([code for code in self._places if code in rig.frame.nodes], loaded=False)

    def _ready(self) -> _Rig:
        if self._rig is None:
            sheet = Sheet.model_validate_json(httpx_json(self.line, f"/jobs/{self.job}/sheet"))
            self._setting = Setting.model_validate(self.line.get(f"/jobs/{self.job}/pulls/setting"))
            shown = self.line.get(f"/jobs/{self.job}")["details"]["vehicle"]
            known = next((vehicle for vehicle in VEHICLES if vehicle.name == shown), None)
            self._places = places_of(sheet, known.moved if known else {}, seed_of(self.job))
            frame = frame_of(frame_of_setting(sheet, self._setting))
            follower = Follower(frame)
            self._rig = _Rig(frame, follower, follower.rest())
        return self._rig

    def _faulty(self, rig: _Rig) -> float:
        """Return the share of the planned force that arrives, and let go wrong what is due."""
        faults = self.faults
        if faults.slip is not None and rig.share >= faults.slip:
            rig.crept = rig.crept + _SLIP_MM
            faults.slip = None
        if faults.slack is not None and rig.share >= faults.slack:
            return 0.0
        return rig.share if faults.low_oil is None else min(rig.share, faults.low_oil)

    def _loads(self, rig: _Rig, chains: Any) -> Floats:
        """Return the planned forces of chains at all degrees of freedom that are free (1, f)."""
        setting = self._setting
        loads = np.zeros((len(rig.frame.nodes), 6))
        hooks = {hook.id: hook.code for hook in setting.hooks} if setting else {}
        towers = {tower.id: tower.at for tower in setting.towers} if setting else {}
        for chain in chains:
            node = rig.frame.nodes.index(hooks[chain.hook])
            if chain.tower not in towers:
                continue
            along = np.array([*towers[chain.tower], chain.height_mm]) - rig.frame.places[node]
            loads[node, :3] += chain.force_n * along / np.linalg.norm(along)
        return loads.ravel()[rig.frame.free][None]

    def _pull(self, rig: _Rig, loads: Floats) -> None:
        if np.any(loads != rig.standing.loads):
            rig.standing = rig.follower.follow(rig.standing, loads, 2)

    def _read(self, codes: list[str], *, loaded: bool) -> None:
        rig, setup = self._ready(), self.line.get(f"/jobs/{self.job}")["setup"]
        if setup is None:
            return
        moved = np.zeros(rig.frame.free.shape)
        moved[rig.frame.free] = rig.standing.moved[0]
        by_node = dict(zip(rig.frame.nodes, moved.reshape(-1, 6)[:, :3], strict=True))
        readings = []
        for code in codes:
            place = self._places[code] + by_node.get(code, np.zeros(3)) + rig.crept
            xyz = instrument_reading(place, seed_of(self.job, setup), self._random.normal(0, NOISE_MM, 3))
            readings.append({"code": code, "xyz": xyz, "loaded": loaded, "purpose": "point"})
        self.line.put_aside(self.job, setup, readings, NAME, uuid.uuid4().hex)
        self.line.send()

    def _post(self, path: str, body: dict[str, Any]) -> None:
        self.line.post(f"/jobs/{self.job}/{path}", {"request_key": uuid.uuid4().hex, **body})


def run(server: str, name: str, password: str, job: str, faults: TowerFaults | None = None) -> int:
    """Follow a job's board until it is stopped; keep trying while the server is away."""
    with httpx.Client(base_url=server, timeout=10) as client:
        tower = SimulatedTower(Line(client, name, password), job, faults)
        while True:
            try:
                tower.serve()
            except httpx.HTTPError:
                time.sleep(_AWAY_S)
            time.sleep(_PAUSE_S)
