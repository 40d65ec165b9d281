"""Measuring with every tool: the network against scipy's solver, a reading until it is drawn, a stream that loses none."""

import html
import re
import secrets
import statistics
import time
from typing import Any

import httpx
import numpy as np
from scipy.optimize import least_squares

from bench.stage import Stage
from fairsquare.core.measure.adjust import AdjustNetwork, adjust_network
from fairsquare.demo.people import INSTRUMENT, SIGN_INS
from fairsquare.stand_ins.client import Line
from fairsquare.stand_ins.instrument import SimulatedInstrument
from fairsquare.stand_ins.vehicles import instrument_reading
from tests.core.network import SIGHT, computed

POINTS, OBSERVATIONS = 60, 250
STREAM_RATE, STREAM_S = 40.0, 60.0
DRAWN_READINGS = 40


def network() -> tuple[AdjustNetwork, list[dict[str, Any]]]:
    """Return sixty points and 250 observations by gauges, line and tram."""
    random = np.random.default_rng(1)
    points = [
        {"code": f"P{k}{side}", "xyz": [2400.0 - 160 * k, sign * (500.0 + 9 * (k % 7)), 300.0 + 31 * (k % 5)]}
        for k in range(POINTS // 2)
        for side, sign in (("L", 1), ("R", -1))
    ]
    sound = [str(p["code"]) for p in points if 10 <= int(str(p["code"])[1:-1]) < 16]
    true = {
        str(p["code"]): np.array(p["xyz"]) + random.normal(0, 0.5 if p["code"] in sound else 6.0, 3) for p in points
    }
    plan: list[dict[str, Any]] = [
        {"kind": kind, "setup": "line", "code": code} for code in true for kind in ("height", "offset")
    ]
    while len(plan) < OBSERVATIONS:
        a, b = random.choice(list(true), 2, replace=False)
        if 300 < np.linalg.norm(true[a] - true[b]) < 2600:
            plan.append({"kind": "span", "a": str(a), "b": str(b), "mode": "point_to_point"})
    job = [
        {**one, "id": str(k), "sigma": 1.0, "mm": float(computed(one, true, {"line": SIGHT}, {})[0] + random.normal())}
        for k, one in enumerate(plan)
    ]
    sheet = {"name": "bench", "construction": "ladder", "points": points}
    whole = {"sheet": sheet, "trusted": sound, "setups": [{"id": "line", "kind": "sight"}], "observations": job}
    return AdjustNetwork.model_validate({**whole, "snoop": False}, strict=False), job


def against_scipy() -> float:
    """Return the time of scipy's least_squares (trf, 2-point) on the same residuals, in arrays, over adjust-network's."""
    request, job = network()
    codes = {p.code: row for row, p in enumerate(request.sheet.points)}
    base = np.array([p.xyz for p in request.sheet.points])
    sigmas = np.where(np.isin(list(codes), request.trusted), 0.5, 100.0)[:, None]
    rows = {kind: [one for one in job if one["kind"] == kind] for kind in ("height", "offset", "span")}
    at = {kind: np.array([codes[one.get("code", one.get("a"))] for one in own]) for kind, own in rows.items()}
    to = np.array([codes[one["b"]] for one in rows["span"]])
    read = {kind: np.array([one["mm"] for one in own]) for kind, own in rows.items()}

    def residuals(theta: np.ndarray) -> np.ndarray:
        moved, own = theta[: base.size].reshape(-1, 3), theta[base.size :]
        p, (l0, l1, c0, c1, c2) = base + moved, own
        high, off = p[at["height"]], p[at["offset"]]
        return np.concatenate(
            [
                read["height"] - (high[:, 2] - (c0 + c1 * high[:, 0] + c2 * high[:, 1])),
                read["offset"] - (off[:, 1] - (l0 + l1 * off[:, 0])),
                read["span"] - np.linalg.norm(p[at["span"]] - p[to], axis=1),
                (moved / sigmas).ravel(),
                own / [2000, 0.2, 2000, 0.2, 0.2],
            ]
        )

    own, theirs = [], []
    for _ in range(3):
        began = time.perf_counter()
        found = adjust_network(request)
        own.append(time.perf_counter() - began)
        began = time.perf_counter()
        solved = least_squares(residuals, np.zeros(base.size + 5))
        theirs.append(time.perf_counter() - began)
    places = base + solved.x[: base.size].reshape(-1, 3)
    apart = max(float(np.abs(places[row] - found.points[code].xyz).max()) for code, row in codes.items())
    if apart > 0.01:
        raise RuntimeError(f"scipy's minimum is {apart} mm from ours")
    return statistics.median(theirs) / statistics.median(own)


def until_drawn(at: Stage, number: str, codes: list[str]) -> tuple[float, float]:
    """Return the median and the 95th percentile of the seconds from a call that is sent to the drawing with it, which the page asks
    for once it has the figures."""
    with httpx.Client(base_url=at.address, follow_redirects=True, timeout=30) as http:
        http.post("/sign-in", data={"name": SIGN_INS[0].name, "password": SIGN_INS[0].password})
        csrf = http.get("/help").text.split('"X-CSRF-Token": "')[1].split('"')[0]
        spent = []
        for turn in range(DRAWN_READINGS + 3):
            code = codes[turn % len(codes)]
            sheet = at.desk.view(number).facts.sheet
            place = next(p.xyz for p in sheet.points if p.code == code) if sheet else (0.0, 0.0, 0.0)
            xyz = instrument_reading(np.array(place), 3, np.zeros(3))
            form = {
                "csrf": csrf,
                "request_key": secrets.token_hex(12),
                "setup": "1",
                "call": f"{code} {xyz[0]} {xyz[1]} {xyz[2]}",
            }
            began = time.perf_counter()
            answer = http.post(f"/jobs/{number}/readings", data=form, headers={"HX-Request": "true"})
            late = re.search(r'class="drawing-late" hx-get="([^"]+)"', answer.text)
            drawn = http.get(html.unescape(late.group(1))) if late else answer
            if answer.status_code != 200 or 'class="structure"' not in drawn.text:
                raise RuntimeError(f"{answer.status_code}, {drawn.status_code}: {drawn.text[:300]}")
            if turn >= 3:
                spent.append(time.perf_counter() - began)
    return statistics.median(spent), float(np.quantile(spent, 0.95))


def stream(at: Stage, number: str, codes: list[str]) -> tuple[int, int]:
    """Post 40 live readings a second for a minute; return how many were read, and how many the job has more than before."""
    before = len(at.desk.view(number).facts.readings)
    with httpx.Client(base_url=at.address, timeout=30) as client:
        arm = SimulatedInstrument(Line(client, INSTRUMENT.name, INSTRUMENT.password), seed=1)
        sent = arm.stream(number, 1, codes, STREAM_RATE, STREAM_S)
    return sent, len(at.desk.view(number).facts.readings) - before
