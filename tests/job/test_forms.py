"""Special forms of pulls: which one a picture calls for, which way it draws, and that it brings nearer what it is for."""

import numpy as np
import pytest

from fairsquare.core.pull.setting import frame_of_setting, usual_setting
from fairsquare.core.structure.of_sheet import usual_boxes
from fairsquare.job.pull.forms import Form, forms_tried
from fairsquare.stand_ins.rigged import setting_of_vehicle
from fairsquare.stand_ins.vehicles import DUNLIN, HERON, PUFFIN, TEAL


def forms(vehicle, moved, setting=None, school="reverse"):
    setting = setting or usual_setting(vehicle.sheet, {**usual_boxes(vehicle.sheet), **vehicle.boxes})
    places = {p.code: tuple(np.add(p.xyz, moved.get(p.code, (0.0, 0.0, 0.0))).tolist()) for p in vehicle.sheet.points}
    tried = forms_tried(vehicle.sheet, places, setting, school)
    return {form.id: form for form in tried if isinstance(form, Form)}


def way(form, sheet, chain=0):
    """Return the unit vector in which a chain of a form draws what is at its hook."""
    one, nodes = form.work.chains[chain], frame_of_setting(sheet, form.setting).nodes
    place = np.array(nodes[next(hook.code for hook in form.setting.hooks if hook.id == one.hook)])
    tower = next(t for t in form.setting.towers if t.id == one.tower)
    along = np.array([*tower.at, one.height_mm]) - place
    return along / np.linalg.norm(along)


def test_the_puffin_is_bent_back_at_three_points() -> None:
    found = forms(PUFFIN, PUFFIN.moved, setting_of_vehicle(PUFFIN))
    bend = found["bend C2R"]
    assert way(bend, PUFFIN.sheet) == pytest.approx([0, 1, 0], abs=0.2)
    held = {anchor.code for anchor in bend.setting.anchors}
    assert {"C1R", "C3R"} <= held, "its neighbours are held"
    assert bend.after_mm < 0.7 * bend.before_mm


@pytest.mark.parametrize(("sign", "word"), [(1.0, "chained down"), (-1.0, "drawn up")])
def test_a_rail_that_is_high_or_low_between_its_neighbours(sign, word) -> None:
    found = forms(DUNLIN, {"F3R": (0.0, 0.0, 9.0 * sign)})
    bend = found["bend F3R"]
    assert word in bend.why and way(bend, DUNLIN.sheet)[2] * sign < -0.9


def test_a_frame_end_that_slopes_is_chained_at_the_high_place_and_jacked_beyond() -> None:
    found = forms(HERON, {"R2L": (0.0, 0.0, 8.0), "R3L": (0.0, 0.0, -9.0)}, setting_of_vehicle(HERON))
    bend = found["bend R2L"]
    assert "jacked up at R3L beyond it" in bend.why and len(bend.work.chains) == 2
    assert way(bend, HERON.sheet, 0)[2] < -0.9 and way(bend, HERON.sheet, 1)[2] > 0.9


def test_a_hook_is_set_higher_where_only_the_top_is_out() -> None:
    found = forms(TEAL, {"U1R": (14.0, 0.0, 0.0)})
    form = found["height U1R"]
    assert form.title.startswith("Hook set higher") and way(form, TEAL.sheet)[0] < -0.7


def test_nothing_is_proposed_for_what_is_fair() -> None:
    assert forms(DUNLIN, {"F5R": (-2.0, 1.0, 2.0)}) == {}
