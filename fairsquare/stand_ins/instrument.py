"""A simulated 3-D instrument: it asks the API which points it should read, and sends what it reads.

It knows the vehicles of the demo; of any other it reads the sheet and finds an undamaged vehicle. Each set-up stands
in its own attitude. Noise is normal with the set-up's sigma.
"""

import time
import uuid
from typing import Any

import httpx
import numpy as np

from fairsquare.core.model import Row3
from fairsquare.core.sheet.model import Sheet
from fairsquare.demo.vehicles import VEHICLES, Vehicle, instrument_reading, seed_of

_PAUSE_S = 0.4
_NOISE_MM = 0.3
_BETWEEN_READINGS_S = 0.25


class SimulatedInstrument:
    """One instrument, signed in to one server."""

    def __init__(self, client: httpx.Client) -> None:
        self._client = client
        self._random = np.random.default_rng()
        self._vehicles: dict[str, dict[str, Any]] = {}

    def sign_in(self, name: str, password: str) -> None:
        """Get a token. Raises `httpx.HTTPStatusError` when the server refuses."""
        answer = self._client.post("/api/v1/session", json={"name": name, "password": password})
        answer.raise_for_status()
        self._client.headers["authorization"] = f"Bearer {answer.json()['token']}"

    def orders(self) -> list[dict[str, Any]]:
        """Return what it is asked to read."""
        answer = self._client.get("/api/v1/instrument/orders")
        answer.raise_for_status()
        return list(answer.json())

    def read(self, order: dict[str, Any]) -> None:
        """Read one point and send it. The order's id makes the key, so that it is recorded once."""
        place = self._truth(order["job"])[order["code"]]
        noise = self._random.normal(0, _NOISE_MM, 3)
        xyz: Row3 = instrument_reading(place, seed_of(order["job"], order["setup"]), noise)
        reading = {"code": order["code"], "xyz": xyz, "purpose": order["purpose"], "order": order["id"]}
        sent = {
            "request_key": str(uuid.uuid5(uuid.NAMESPACE_OID, f"order {order['job']} {order['id']}")),
            "setup": order["setup"],
            "readings": [reading],
            "instrument": "Simulated 3-D instrument",
        }
        self._client.post(f"/api/v1/jobs/{order['job']}/readings", json=sent).raise_for_status()

    def _truth(self, job: str) -> dict[str, Any]:
        if job not in self._vehicles:
            shown = self._client.get(f"/api/v1/jobs/{job}").json()["details"]["vehicle"]
            sheet = Sheet.model_validate_json(self._client.get(f"/api/v1/jobs/{job}/sheet").text)
            known = next((vehicle for vehicle in VEHICLES if vehicle.name == shown), None)
            vehicle = Vehicle(shown, sheet, known.moved if known else {})
            self._vehicles[job] = vehicle.true_places(seed_of(job))
        return self._vehicles[job]


def run(server: str, name: str, password: str) -> int:
    """Serve orders until it is stopped; keep trying while the server is away."""
    client = httpx.Client(base_url=server, timeout=10)
    instrument = SimulatedInstrument(client)
    signed_in = False
    while True:
        try:
            if not signed_in:
                instrument.sign_in(name, password)
                signed_in = True
            for order in instrument.orders():
                time.sleep(_BETWEEN_READINGS_S)
                instrument.read(order)
        except httpx.HTTPStatusError as fault:
            signed_in = fault.response.status_code != 401
            time.sleep(_PAUSE_S * 5)
        except httpx.HTTPError:
            time.sleep(_PAUSE_S * 5)
        time.sleep(_PAUSE_S)
