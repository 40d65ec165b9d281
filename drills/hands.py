"""Who records while a part dies: hands that post readings with keys of their own, one who makes records, and who looks at a page.

Each goes to a server of its own and, where that does not answer, to the other, as a proxy would have it.
"""

import random
import secrets
import threading
import time
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import httpx
import numpy as np

from drills.journal import Journal
from fairsquare.demo.people import SIGN_INS, SignIn
from fairsquare.stand_ins.vehicles import DUNLIN, instrument_reading

NO_LINE = "no line"
_PATIENCE_S, _AGAIN_S, _TIMEOUT_S = 90.0, 0.25, 30.0
_POINTS = [point for point in DUNLIN.sheet.points if not point.reference]


def sign_in_of(role: str) -> SignIn:
    """Return who signs in in a role."""
    return next(one for one in SIGN_INS if one.role == role)


class Caller:
    """A person's way to the servers: tries again, with what was sent, until it is answered."""

    def __init__(self, addresses: Sequence[str], first: int, role: str = "technician") -> None:
        self._addresses, self._at, self._role = addresses, first % len(addresses), role
        self._http = httpx.Client(timeout=_TIMEOUT_S, follow_redirects=True)
        self.seen: Counter[str] = Counter()
        self.refused: list[str] = []

    def sign_in(self) -> None:
        """Sign in, which every server knows of."""
        who = sign_in_of(self._role)
        answer = self.post("/api/v1/session", {"name": who.name, "password": who.password}, time.monotonic() + 60)
        assert answer is not None
        self._http.headers["Authorization"] = f"Bearer {answer['token']}"

    def post(self, path: str, sent: dict[str, Any], until: float) -> dict[str, Any] | None:
        """Return the answer to what is sent until it is confirmed; None where it was refused, or until the time is over."""
        while time.monotonic() < until:
            try:
                answer = self._http.post(self._addresses[self._at] + path, json=sent)
            except httpx.HTTPError:
                self.seen[NO_LINE] += 1
                self._at = (self._at + 1) % len(self._addresses)
                time.sleep(_AGAIN_S / 5)
                continue
            if answer.status_code < 300:
                return dict(answer.json())
            words = f"{answer.status_code}: {_title(answer)}"
            self.seen[words] += 1
            if answer.status_code not in (429, 503):
                self.refused.append(words)
                return None
            time.sleep(_AGAIN_S)
        return None

    def close(self) -> None:
        """Hang up."""
        self._http.close()


def _title(answer: httpx.Response) -> str:
    try:
        return str(answer.json()["title"]).partition(".")[0]
    except (ValueError, KeyError, TypeError):
        return answer.text[:60]


class Hand(threading.Thread):
    """Posts readings into a job, one after the other, and keeps a journal of what was confirmed."""

    def __init__(self, name: str, caller: Caller, job: str, every_s: float, file: Path, over: threading.Event) -> None:
        super().__init__(name=name, daemon=True)
        self.file, self.caller = file, caller
        self._job, self._every_s, self._over = job, every_s, over
        self._journal = Journal(file)

    def run(self) -> None:
        """Record until it is over; what was sent then is still waited for."""
        self.caller.sign_in()
        deed = 0
        while not self._over.wait(random.uniform(0.5, 1.5) * self._every_s):  # noqa: S311 - a pause
            deed += 1
            self._record(deed)
        self._journal.close()
        self.caller.close()

    def _record(self, deed: int) -> None:
        point = _POINTS[deed % len(_POINTS)]
        xyz = instrument_reading(np.array(point.xyz), 3, np.zeros(3))
        sent = {
            "request_key": secrets.token_hex(12),
            "setup": 1,
            "instrument": f"{self.name} #{deed}",
            "readings": [{"code": point.code, "xyz": [float(value) for value in xyz]}],
        }
        self._journal.sends(deed)
        began = time.monotonic()
        answer = self.caller.post(f"/api/v1/jobs/{self._job}/readings", sent, began + _PATIENCE_S)
        if answer is not None:
            self._journal.confirmed(deed, answer["ids"][0], time.monotonic() - began)


class Recorder(threading.Thread):
    """Makes a record of a job now and then; `made`: what was confirmed."""

    def __init__(self, caller: Caller, job: str, over: threading.Event) -> None:
        super().__init__(name="recorder", daemon=True)
        self.caller, self.made = caller, list[str]()
        self._job, self._over = job, over

    def run(self) -> None:
        """Make records until it is over."""
        self.caller.sign_in()
        while not self._over.wait(2.0):
            sent = {"request_key": secrets.token_hex(12)}
            answer = self.caller.post(f"/api/v1/jobs/{self._job}/records", sent, time.monotonic() + _PATIENCE_S)
            if answer is not None:
                self.made.append(str(answer["sha256"]))
        self.caller.close()


class Watcher(threading.Thread):
    """Looks at the page of a job all the time, at one server first: how long it was not there, and what stood there instead."""

    def __init__(self, addresses: Sequence[str], first: int, job: str, over: threading.Event) -> None:
        super().__init__(name=f"watcher {first}", daemon=True)
        self.saw: Counter[str] = Counter()
        self.longest_s = 0.0
        self._addresses, self._at, self._job, self._over = addresses, first, job, over

    def run(self) -> None:
        """Look until it is over."""
        with httpx.Client(timeout=_TIMEOUT_S, follow_redirects=True) as http:
            while not self._sign_in(http) and not self._over.wait(0.2):
                self.saw[NO_LINE] += 1
            last = time.monotonic()
            while not self._over.wait(0.2):
                words = self._look(http)
                if words == "the page":
                    self.longest_s = max(self.longest_s, time.monotonic() - last)
                    last = time.monotonic()
                else:
                    self.saw[words] += 1
            self.longest_s = max(self.longest_s, time.monotonic() - last)

    def _sign_in(self, http: httpx.Client) -> bool:
        who = sign_in_of("technician")
        try:
            http.post(f"{self._addresses[self._at]}/sign-in", data={"name": who.name, "password": who.password})
        except httpx.HTTPError:
            self._at = (self._at + 1) % len(self._addresses)
            return False
        return True

    def _look(self, http: httpx.Client) -> str:
        try:
            answer = http.get(f"{self._addresses[self._at]}/jobs/{self._job}/measure")
        except httpx.HTTPError:
            self._at = (self._at + 1) % len(self._addresses)
            return NO_LINE
        if answer.status_code == 200 and self._job in answer.text and "sign-in" not in str(answer.url):
            return "the page"
        return "a page that says it in words" if answer.status_code == 503 else f"a page of {answer.status_code}"
