"""How each invented vehicle is held and pulled, where that is not as usual."""

from fairsquare.core.pull.setting import Machine, PlacedHook, PlacedTower, Setting, usual_setting
from fairsquare.core.structure.of_sheet import usual_boxes
from fairsquare.stand_ins.vehicles import HERON, PUFFIN, Vehicle


def setting_of_vehicle(vehicle: Vehicle) -> Setting:
    """Return how a vehicle of the scenario is held and pulled: the usual, and what its own job asks for besides."""
    setting = usual_setting(vehicle.sheet, {**usual_boxes(vehicle.sheet), **vehicle.boxes})
    if vehicle.name == HERON.name:
        hooks = tuple(hook.model_copy(update={"kind": "chain", "capacity_n": 300_000.0}) for hook in setting.hooks)
        pot = PlacedTower(id="floor pot", at=(2240.0, 420.0), z=(0.0, 100.0), capacity_n=120_000.0)
        gantry = PlacedTower(
            id="gantry", at=(2890.0, -420.0), z=(900.0, 1600.0), capacity_n=60_000.0, ram_area_mm2=1430
        )
        jack = Machine(id="frame jack", bears_on="C1L", capacity_n=300_000.0, bears_capacity_n=300_000.0)
        return setting.model_copy(
            update={"hooks": hooks, "towers": (*setting.towers, pot, gantry), "machines": (jack,)}
        )
    if vehicle.name == PUFFIN.name:
        bowed = PlacedHook(id="round C2R", code="C2R", kind="chain", capacity_n=90_000.0)
        post = PlacedTower(id="left, across", at=(0.0, 1900.0), capacity_n=90_000.0, ram_area_mm2=1710.0)
        puller = Machine(
            id="chain puller", bears_on="C1R", pushes=False, capacity_n=100_000.0, bears_capacity_n=100_000.0
        )
        return setting.model_copy(
            update={
                "hooks": (*setting.hooks, bowed),
                "towers": (*setting.towers, post),
                "machines": (puller,),
                "members_out": vehicle.members_out,
            }
        )
    return setting
