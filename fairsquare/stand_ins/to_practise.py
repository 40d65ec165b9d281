"""The vehicles to practise on: those of the scenario, undamaged but for what a seed does to them."""

from fairsquare.core.errors import Refused
from fairsquare.core.pull.setting import Setting
from fairsquare.core.sheet.model import Sheet
from fairsquare.stand_ins.rigged import setting_of_vehicle
from fairsquare.stand_ins.vehicles import VEHICLES


def vehicle_to_practise(name: str) -> tuple[Sheet, Setting]:
    """Return the sheet of a vehicle and how it is held. Raises `Refused` for one that is not to be practised on."""
    vehicle = next((vehicle for vehicle in VEHICLES if vehicle.name == name), None)
    if vehicle is None:
        raise Refused(
            f"Choose one of {', '.join(vehicle.name for vehicle in VEHICLES)}.", field="vehicle", value=name[:60]
        )
    setting = setting_of_vehicle(vehicle)
    return vehicle.sheet, setting.model_copy(update={"members_out": ()})
