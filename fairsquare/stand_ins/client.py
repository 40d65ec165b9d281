"""A client of the public API for stand-ins: signs in, posts readings once each and in order, keeps them while the line is down."""

import time
import uuid
from collections import deque
from typing import Any

import httpx

_REFUSED = (400, 403, 404, 409, 413, 422)


class Line:
    """One connection to a server. What cannot be sent waits, and is sent in order with its own times."""

    def __init__(self, client: httpx.Client, name: str, password: str) -> None:
        self.client = client
        self._name, self._password = name, password
        self._signed_in = False
        self.waiting: deque[tuple[str, dict[str, Any], float]] = deque()
        self.refused: list[tuple[dict[str, Any], str]] = []

    def get(self, path: str) -> Any:
        """Return what the API answers. Raises `httpx.HTTPError` while it cannot be reached."""
        self._sign_in()
        answer = self.client.get(f"/api/v1{path}")
        self._signed_in = answer.status_code != 401
        answer.raise_for_status()
        return answer.json()

    def post(self, path: str, body: dict[str, Any]) -> None:
        """Send what is of the moment only: what cannot be sent is not kept. Raises `httpx.HTTPError` when it cannot be reached."""
        self._sign_in()
        answer = self.client.post(f"/api/v1{path}", json=body)
        self._signed_in = answer.status_code != 401
        answer.raise_for_status()

    def put_aside(self, job: str, setup: int | None, readings: list[dict[str, Any]], instrument: str, key: str) -> None:
        """Add readings to what is to be sent; the same `key` is recorded once, however often it is sent."""
        sent = {
            "request_key": str(uuid.uuid5(uuid.NAMESPACE_OID, key)),
            "setup": setup,
            "instrument": instrument,
            "readings": readings,
        }
        self.waiting.append((job, sent, time.monotonic()))

    def send(self) -> bool:
        """Send what waits, in order; return whether all of it is gone. What the server refuses is kept in `refused`."""
        while self.waiting:
            job, sent, read_at = self.waiting[0]
            ago = round(time.monotonic() - read_at, 3)
            readings = [{**reading, "called_ago_s": ago} if ago > 1 else reading for reading in sent["readings"]]
            try:
                self._sign_in()
                answer = self.client.post(f"/api/v1/jobs/{job}/readings", json={**sent, "readings": readings})
            except httpx.HTTPError:
                return False
            if answer.status_code == 401:
                self._signed_in = False
                return False
            if answer.status_code in _REFUSED:
                self.refused.append((sent, str(answer.json().get("detail", answer.text))))
            elif answer.is_error:
                return False
            self.waiting.popleft()
        return True

    def _sign_in(self) -> None:
        if self._signed_in:
            return
        answer = self.client.post("/api/v1/session", json={"name": self._name, "password": self._password})
        answer.raise_for_status()
        self.client.headers["authorization"] = f"Bearer {answer.json()['token']}"
        self._signed_in = True
