"""What tests of pulling share: a demo job brought to its signed decision, and a stand-in that pulls beside a live server."""

import threading
from collections.abc import Iterator
from contextlib import contextmanager

import httpx
import numpy as np

from fairsquare.actions import Desk, deciding, measuring, pull_plans, pulling
from fairsquare.actions.deciding import DecisionSaid, MemberSaid
from fairsquare.core.damage.decide import MakersWord
from fairsquare.core.pull.job import ChainSet, PlanSaid, WorkPull
from fairsquare.demo.people import INSTRUMENT
from fairsquare.job.damage.choices import member_states
from fairsquare.job.damage.job import damage_of, key_of, open_findings
from fairsquare.job.facts.measure import NewReading
from fairsquare.stand_ins.client import Line
from fairsquare.stand_ins.tower import SimulatedTower
from fairsquare.stand_ins.vehicle import RigFaults
from fairsquare.stand_ins.vehicles import Vehicle, instrument_reading, seed_of
from tests.conftest import key


def read_unread(desk: Desk, person, job: str, vehicle: Vehicle) -> None:
    """Read every point of a job that was not read yet, by the instrument."""
    view, places = desk.view(job), vehicle.true_places(seed_of(job))
    unread = [code for code, judged in view.state.picture.judged.items() if judged.state == "unread"]
    random = np.random.default_rng(9)
    taken = [
        NewReading(
            purpose="point",
            code=c,
            xyz=instrument_reading(places[c], seed_of(job, view.setup.number), random.normal(0, 0.3, 3)),
            said=c,
        )
        for c in unread
    ]
    if taken:
        measuring.take_readings(desk, person, key(), job, view.setup.number, taken)


def decide_all(desk: Desk, persons, job: str) -> None:
    """Straighten every member that is not decided yet, settle what contradicts, and sign the decision."""
    lead = persons["lead"]
    for state in member_states(desk.view(job).facts):
        if state.open:
            why = "seen again with the paint off: it is bent only" if state.found else ""
            said = MemberSaid(state.member, state.layer, "mild", "structural", ("bent",), MakersWord(), "the book", why)
            seen = deciding.see_member(desk, lead, key(), job, said)
            deciding.decide(desk, lead, key(), job, seen, DecisionSaid("straighten"))
    facts = desk.view(job).facts
    for finding in open_findings(facts, damage_of(facts).findings):
        deciding.settle(desk, lead, key(), job, key_of(finding), "looked at again, it stands")
    hold = desk.view(job).state.hold("decision_made")
    reason = "" if not hold.missing else "signed so that the pulls can be tried"
    desk.sign(lead, key(), job, "decision_made", hold.evidence, reason)


def begin_pull(desk: Desk, persons, job: str) -> None:
    """Begin a pull of two chains at the Teal's R3, decided before where it was not."""
    if not desk.view(job).facts.pull_plans:
        decide_all(desk, persons, job)
        chains = tuple(
            ChainSet(hook=f"at R3{side}", tower=tower, height_mm=200, force_n=30_000)
            for side, tower in (("R", "rear"), ("L", "left rear"))
        )
        plan = PlanSaid(school="outward", pulls=(WorkPull(chains=chains),))
        pull_plans.keep_plan(desk, persons["lead"], key(), job, plan, 0)
    pulling.begin(desk, persons["lead"], key(), job, 1)


@contextmanager
def pulled_by(server: str, job: str, faults: RigFaults | None = None, seed: int = 3) -> Iterator[SimulatedTower]:
    """Let a simulated tower follow the board of a job on a live server, as a load cell and an instrument would, meanwhile."""
    over = threading.Event()
    with httpx.Client(base_url=server, timeout=10) as client:
        tower = SimulatedTower(Line(client, INSTRUMENT.name, INSTRUMENT.password), job, faults, seed=seed)

        def follow() -> None:
            while not over.is_set():
                tower.serve()
                over.wait(0.08)

        thread = threading.Thread(target=follow)
        thread.start()
        try:
            yield tower
        finally:
            over.set()
            thread.join()
