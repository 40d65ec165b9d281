"""What the workshop of the scenario pulls and holds with, and how each of its vehicles is held where that is not as usual."""

from fairsquare.core.pull.setting import Machine, PlacedHook, PlacedTower, Setting, usual_setting
from fairsquare.core.structure.of_sheet import usual_boxes
from fairsquare.demo.vehicles import HERON, PUFFIN, Vehicle

RIG: tuple[tuple[str, str, float | None, float | None, str, str], ...] = (
    ("Tower, quay side", "tower", 120_000.0, None, "maker", ""),
    ("Tower, slip side", "tower", 120_000.0, None, "maker", ""),
    ("Floor post", "post", 90_000.0, None, "maker", "bolted to the slab"),
    ("Ram of the quay side tower", "ram", None, 1710.0, "maker", ""),
    ("Ram of the slip side tower", "ram", None, 1710.0, "maker", ""),
    ("Pump for both towers", "pump", None, None, "maker", "70 MPa at most; both rams share its pressure"),
    ("Chain, 13 mm", "chain", 107_000.0, None, "maker", "6 m"),
    ("Chain, 10 mm", "chain", 63_000.0, None, "maker", "4 m"),
    ("Sill clamps, four", "clamp", 120_000.0, None, "maker", "each"),
    ("Flange clamp, wide", "clamp", 90_000.0, None, "maker", ""),
    ("Frame hook", "hook", 90_000.0, None, "maker", ""),
    ("Hook from the old crane", "hook", None, None, "home", "bent and welded here"),
    ("Stands, four", "stand", 50_000.0, None, "maker", "each"),
    ("Jack between two places", "jack", 100_000.0, 1430.0, "maker", "bears on the vehicle itself"),
    ("Frame jack, long", "jack", 300_000.0, 4300.0, "maker", "bears on the vehicle itself, with its two saddles"),
    ("Chain puller", "jack", 100_000.0, 1430.0, "maker", "draws two places of the vehicle together"),
    ("Floor pot", "post", 120_000.0, None, "maker", "let into the slab"),
    ("Gantry over the slip side", "tower", 60_000.0, 1430.0, "maker", "draws upward"),
)
"""Name, kind, capacity in N, ram area in mm², who made it, more."""


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
