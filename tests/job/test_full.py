"""What works hardest of the rig: how full it is by the forces as read, and what a plan may need of it."""

import pytest

from fairsquare.core.pull.setting import Machine, usual_setting
from fairsquare.core.structure.of_sheet import usual_boxes
from fairsquare.job.pull.full import WORKING_SHARE, Fullest, within_working
from fairsquare.stand_ins.vehicles import VEHICLES


def test_gear_is_let_go_before_it_is_full() -> None:
    assert [Fullest("at F5R", use).let_go for use in (0.94, 0.95, 1.02)] == [False, True, True]
    assert [Fullest("at F5R", use).full for use in (0.99, 1.0, 1.01)] == [False, False, True]


@pytest.mark.parametrize("vehicle", VEHICLES, ids=lambda one: one.name)
def test_every_piece_takes_as_much_less_and_what_nobody_knows_stays_unknown(vehicle) -> None:
    setting = usual_setting(vehicle.sheet, usual_boxes(vehicle.sheet), complete=True)
    jack = Machine(id="jack", bears_on="C1L", capacity_n=10_000.0)
    setting = setting.model_copy(update={"machines": (jack,)})
    within = within_working(setting)
    for name in ("towers", "hooks", "anchors"):
        for before, after in zip(getattr(setting, name), getattr(within, name), strict=True):
            assert after.id == before.id
            assert after.capacity_n == (before.capacity_n and pytest.approx(WORKING_SHARE * before.capacity_n))
    assert within.machines[0].capacity_n == pytest.approx(9_500.0) and within.machines[0].bears_capacity_n is None
