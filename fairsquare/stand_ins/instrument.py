"""A simulated 3-D instrument: it asks the API which points it should read, and sends what it reads.

It knows the vehicles of the demo; of any other it reads the sheet and finds an undamaged vehicle. Each set-up stands
in its own attitude. Noise is normal. It can be told to misbehave as real ones do: to be bumped and drift from then on, to lose
its line for a while, to read the wrong hole, to read under load.
"""

import time
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import httpx
import numpy as np

from fairsquare.core.model import Row3
from fairsquare.core.sheet.model import Sheet
from fairsquare.stand_ins.client import Line
from fairsquare.stand_ins.vehicles import VEHICLES, Floats, instrument_reading, places_of, seed_of

NAME = "Simulated 3-D instrument"
NOISE_MM = 0.3
_PAUSE_S = 0.3
_BETWEEN_READINGS_S = 0.15
_AWAY_S = 2.0
_BUMP_MM = np.array([4.2, -3.1, 1.4])
_DRIFT_MM = np.array([0.05, 0.02, -0.03])
_WRONG_HOLE_MM = np.array([24.0, -6.0, 11.0])


@dataclass
class Faults:
    """What goes wrong, counted in readings: after `bump_after` it stands elsewhere and drifts; after `drop_after` its line is
    down for `drop_s`; `wrong_hole` is a code whose neighbour hole it finds; after `loaded_after` the chains are tight."""

    bump_after: int | None = None
    drop_after: int | None = None
    drop_s: float = 5.0
    wrong_hole: str | None = None
    loaded_after: int | None = None


class SimulatedInstrument:
    """One instrument on one line."""

    def __init__(self, line: Line, faults: Faults | None = None, seed: int | None = None) -> None:
        self.line, self.faults = line, faults or Faults()
        self._random = np.random.default_rng(seed)
        self._vehicles: dict[str, dict[str, Floats]] = {}
        self._count = 0
        self._down_until = 0.0

    def serve(self, but: frozenset[str] = frozenset()) -> None:
        """Read what is asked for, and send what waits. Raises `httpx.HTTPError` while the server cannot be reached.

        The jobs named in `but` are left to others.
        """
        for order in self.line.get("/instrument/orders"):
            if order["job"] in but:
                continue
            time.sleep(_BETWEEN_READINGS_S)
            self.take(order)
        if not self.down():
            self.line.send()

    def take(self, order: dict[str, Any]) -> None:
        """Read one point and send it, or keep it while the line is down. The order's id makes the key: recorded once."""
        reading = self.read(order["job"], order["setup"], order["code"])
        reading |= {"purpose": order["purpose"], "order": order["id"]}
        key = f"order {order['job']} {order['id']}"
        self.line.put_aside(order["job"], order["setup"], [reading], NAME, key)
        if not self.down():
            self.line.send()

    def read(self, job: str, setup: int, code: str) -> dict[str, Any]:
        """Return one reading of a point in the instrument's axes, with whatever is wrong by now."""
        self._count += 1
        place = self._truth(job)[code]
        if code == self.faults.wrong_hole:
            place = place + _WRONG_HOLE_MM
            self.faults.wrong_hole = None
        error = self._random.normal(0, NOISE_MM, 3)
        if self.faults.bump_after is not None and self._count > self.faults.bump_after:
            error = error + _BUMP_MM + _DRIFT_MM * (self._count - self.faults.bump_after)
        if self._count == self.faults.drop_after:
            self._down_until = time.monotonic() + self.faults.drop_s
        xyz: Row3 = instrument_reading(place, seed_of(job, setup), error)
        loaded = self.faults.loaded_after is not None and self._count > self.faults.loaded_after
        return {"code": code, "xyz": xyz, "loaded": loaded}

    def stream(self, job: str, setup: int, codes: list[str], rate: float, seconds: float, batch_s: float = 0.5) -> int:
        """Read points without pause, `rate` a second, and send them in batches; return how many were read."""
        began, number = time.monotonic(), 0
        due: list[dict[str, Any]] = []
        while number < round(rate * seconds):
            time.sleep(max(0.0, began + number / rate - time.monotonic()))
            due.append(self.read(job, setup, codes[number % len(codes)]))
            number += 1
            if len(due) >= rate * batch_s or number == round(rate * seconds):
                self.line.put_aside(job, setup, due, NAME, f"stream {job} {setup} {began} {number}")
                due = []
                self.line.send()
        while not self.line.send():
            time.sleep(_PAUSE_S)
        return number

    def down(self) -> bool:
        """Say whether its line is down."""
        return time.monotonic() < self._down_until

    def _truth(self, job: str) -> dict[str, Floats]:
        if job not in self._vehicles:
            shown = self.line.get(f"/jobs/{job}")["details"]["vehicle"]
            sheet = Sheet.model_validate_json(httpx_json(self.line, f"/jobs/{job}/sheet"))
            known = next((vehicle for vehicle in VEHICLES if vehicle.name == shown), None)
            self._vehicles[job] = places_of(sheet, known.moved if known else {}, seed_of(job))
        return self._vehicles[job]


def httpx_json(line: Line, path: str) -> bytes:
    """Return the body of an answer as it came."""
    return line.client.get(f"/api/v1{path}").raise_for_status().content


def run(
    server: str,
    name: str,
    password: str,
    faults: Faults | None = None,
    beside: Callable[[Line], Callable[[], frozenset[str]]] | None = None,
) -> int:
    """Serve orders until it is stopped; keep trying while the server is away.

    `beside` makes, from the line, what serves the rigs of jobs in which pulling has begun and says which: those are left to it.
    """
    with httpx.Client(base_url=server, timeout=10) as client:
        line = Line(client, name, password)
        instrument, others = SimulatedInstrument(line, faults), beside(line) if beside else None
        while True:
            try:
                instrument.serve(others() if others else frozenset())
            except httpx.HTTPError:
                time.sleep(_AWAY_S)
            time.sleep(_PAUSE_S)
