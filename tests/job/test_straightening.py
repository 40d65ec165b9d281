"""Vehicles pulled as the board says, to the end, where the metal is not what the plan takes it for."""

import pytest

from fairsquare.stand_ins.vehicles import DUNLIN, TEAL, TURNSTONE, Vehicle
from tests.straightening import straightened


@pytest.mark.parametrize(
    ("vehicle", "strength"), [(DUNLIN, 0.8), (TEAL, 1.6), (TURNSTONE, 1.0)], ids=["Dunlin", "Teal", "Turnstone"]
)
def test_who_obeys_brings_the_vehicle_home_and_makes_no_point_worse(vehicle: Vehicle, strength: float) -> None:
    done = straightened(vehicle, strength, 0, learning=True)
    assert done.off_before >= 6
    assert done.off_after == ()
    assert done.worse == ()
    assert done.stops == 0, "who lets go when told is not told STOP"
