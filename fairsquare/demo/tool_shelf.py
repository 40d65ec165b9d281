"""The demo's tools: what each was calibrated to, and what they read of the reference bar over the last half year."""

import datetime
import secrets

import numpy as np

from fairsquare.actions import Desk, tooling
from fairsquare.demo.by_hand import TOOLS
from fairsquare.store.people import Person

_CALIBRATED = {
    "3-D instrument": (210, 365, "Quayside Metrology, certificate 4471"),
    "Long tram": (430, 365, "against the reference bar, Solveig"),
    "Steel tape, 8 m": (120, 730, "class II mark, bought new"),
    "Set of four gauges": (120, 365, "hung on the reference bar, Solveig"),
    "Slipway laser": (120, 365, "two-way test over 20 m, Mateus"),
    "Framing square, 600 mm": (120, 365, "turned over on a scribed line, Mateus"),
    "Reference bar, 1 m": (300, 1825, "Quayside Metrology, certificate 4402"),
}
"""How many days ago each was calibrated, for how many days, and by whom. The long tram is overdue."""
_READ_EVERY, _MANY = 30, 6
_DRIFT_MM = {"3-D instrument": 0.03, "Long tram": 0.12}
"""By how much more each reads long at every check."""


def fill_the_shelf(desk: Desk, lead: Person, technician: Person, today: datetime.date) -> None:
    """Add the tools with their calibrations and checks."""
    ids = {name: tooling.add_tool(desk, lead, _key(), name, kind, sigma, **reach) for name, kind, sigma, reach in TOOLS}
    for name, (ago, lasts, words) in _CALIBRATED.items():
        done = today - datetime.timedelta(days=ago)
        due = (done + datetime.timedelta(days=lasts)).isoformat()
        tooling.calibrate(desk, lead, _key(), ids[name], done.isoformat(), due, words, today)
    chance = np.random.default_rng(11)
    sigmas = {name: sigma * (2**0.5 if kind == "instrument" else 1.0) for name, kind, sigma, _ in TOOLS}
    for name, drift in _DRIFT_MM.items():
        for k in range(_MANY):
            read = 1000.02 + drift * k + chance.normal(0.0, 0.6 * sigmas[name], 5)
            said = "\n".join(f"{mm:.1f}" for mm in read)
            day = (today - datetime.timedelta(days=_READ_EVERY * (_MANY - k) - 20)).isoformat()
            readings = [float(line) for line in said.splitlines()]
            bar = ids["Reference bar, 1 m"]
            tooling.check_on_bar(desk, technician, _key(), ids[name], bar, readings, said, day, today)


def _key() -> str:
    return secrets.token_urlsafe(18)
