"""The stand-in of practice: it reads what is asked for and pulls what the board says, on a vehicle that only the seed knows.

It works in the server, beside the pages, through the same deeds as they do, and only while somebody looks.
"""

import secrets
import threading
import time
from http import HTTPStatus

import numpy as np
import structlog

from fairsquare.actions import Desk, measuring, pulling
from fairsquare.actions.desk import JobView
from fairsquare.actions.practice import INSTRUMENT, as_in_practice, first_setting, hidden_places, noisy
from fairsquare.core.errors import FairSquareError
from fairsquare.job.facts.measure import NewReading, Purpose
from fairsquare.job.pull.board import Board, board_of, setting_of
from fairsquare.stand_ins.vehicle import SimulatedVehicle, VehicleState, told_force
from fairsquare.store import practice as kept
from fairsquare.store.measuring import open_orders
from fairsquare.store.people import Person

_PAUSE_S, _LOOKED_S = 0.1, 600.0
log = structlog.get_logger()


class PracticeYard:
    """The vehicles of practice that somebody looks at, served by one thread that ends when nobody does."""

    def __init__(self, desk: Desk) -> None:
        self.desk = desk
        self._looked: dict[str, float] = {}
        self._lock = threading.Lock()
        self._thread: threading.Thread | None = None
        self._random = np.random.default_rng()

    def look(self, number: str) -> None:
        """Say that somebody looks at a practice: it is served for the next ten minutes."""
        with self._lock:
            self._looked[number] = time.monotonic()
            if self._thread is None or not self._thread.is_alive():
                self._thread = threading.Thread(target=self._serve_all, name="practice", daemon=True)
                self._thread.start()

    def _serve_all(self) -> None:
        while True:
            with self._lock:
                now = time.monotonic()
                self._looked = {number: at for number, at in self._looked.items() if now - at < _LOOKED_S}
                numbers = list(self._looked)
                if not numbers:
                    self._thread = None
                    return
            for number in numbers:
                try:
                    self.serve(number)
                except FairSquareError as fault:
                    log.info("practice waits", job=number, why=fault.title)
                    if fault.status == HTTPStatus.NOT_FOUND:
                        self._looked.pop(number, None)
                except Exception as fault:
                    log.error("practice broken", job=number, exc_info=fault)
                    self._looked.pop(number, None)
            time.sleep(_PAUSE_S)

    def serve(self, number: str) -> None:
        """Read what is asked for, and take one step of the pull that is under way."""
        own = self.desk.database.run(lambda c: kept.find(c, number))
        if own["ended_at"] is not None:
            with self._lock:
                self._looked.pop(number, None)
            return
        view = self.desk.quick_view(number)
        board = board_of(view.facts)
        orders = self.desk.database.run(lambda c: open_orders(c, practice=number))
        if not orders and board is None:
            return
        if not self.desk.database.run(lambda c: kept.take_step(c, own["job_id"])):
            return
        person = as_in_practice(own["person"])
        vehicle = self._vehicle(view, own["seed"], own["state"])
        for order in orders:
            self._read(person, view, {order["code"]: order["id"]}, order["purpose"], vehicle, loaded=False)
        if board is not None:
            self._pull(person, view, board, vehicle)
        state = vehicle.kept()
        if state is not None:
            self.desk.database.run(lambda c: kept.keep(c, own["job_id"], state.model_dump_json()))

    def _vehicle(self, view: JobView, seed: int, state: str | None) -> SimulatedVehicle:
        sheet, first = first_setting(view)
        places = {code: np.array(place) for code, place in hidden_places(sheet, first, seed).items()}
        vehicle = SimulatedVehicle(sheet, places, seed)
        setting = setting_of(view.facts)
        if state and setting:
            vehicle.take_up(VehicleState.model_validate_json(state), setting)
        return vehicle

    def _pull(self, person: Person, view: JobView, board: Board, vehicle: SimulatedVehicle) -> None:
        setting = setting_of(view.facts)
        if setting is None:
            return
        work = board.plan.plan.pulls[board.pull - 1]
        codes = [point.watched.code for point in board.points]
        gear = pulling.fullest_now(self.desk, view, board)
        let_go = board.state == "pulling" and (board.let_go or bool(gear and gear.let_go))
        state = "hold" if let_go else board.state  # who pumps stops at the board's word
        told = vehicle.step(state, board.pull, board.cycle, work, setting, codes)
        cells = {tower.id for tower in setting.towers}
        for tower, force in told.forces.items():
            if tower in cells:
                pulling.read_load(
                    self.desk, person, _key(), view.job.number, tower, told_force(force, self._random), None
                )
        if told.codes:
            self._read(person, view, dict.fromkeys(told.codes), "point", vehicle, loaded=told.loaded)

    def _read(
        self,
        person: Person,
        view: JobView,
        asked: dict[str, int | None],
        purpose: Purpose,
        vehicle: SimulatedVehicle,
        *,
        loaded: bool,
    ) -> None:
        if view.setup is None:
            return
        places = vehicle.places()
        taken = [
            NewReading(
                purpose=purpose,
                code=code,
                xyz=noisy((float(places[code][0]), float(places[code][1]), float(places[code][2])), self._random),
                said=code,
                loaded=loaded,
                instrument=INSTRUMENT,
                order=order,
            )
            for code, order in asked.items()
            if code in places
        ]
        if taken:
            measuring.take_readings(self.desk, person, _key(), view.job.number, view.setup.number, taken)


def _key() -> str:
    return secrets.token_urlsafe(18)
