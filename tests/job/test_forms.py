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
    tower = next((t for t in form.setting.towers if t.id == one.tower), None)
    if tower is not None:
        along = np.array([*tower.at, one.height_mm]) - place
    else:
        machine = next(m for m in form.setting.machines if m.id == one.tower)
        along = (place - np.array(nodes[machine.bears_on])) * (1 if machine.pushes else -1)
    return along / np.linalg.norm(along)


def test_the_puffin_is_drawn_square_and_bent_back_at_three_points() -> None:
    found = forms(PUFFIN, PUFFIN.moved, setting_of_vehicle(PUFFIN))
    square, bend = found["square T1L"], found["bend C2R"]
    assert square.work.chains[0].tower == "chain puller" and way(square, PUFFIN.sheet)[1] < -0.8
    assert 15_000 < square.work.chains[0].force_n < 45_000
    assert way(bend, PUFFIN.sheet) == pytest.approx([0, 1, 0], abs=0.2)
    held = {anchor.code for anchor in bend.setting.anchors}
    assert {"C1R", "C3R"} <= held, "its neighbours are held"
    assert max(square.after_mm, bend.after_mm) < 0.7 * square.before_mm


def test_the_heron_is_jacked_apart() -> None:
    found = forms(HERON, HERON.moved, setting_of_vehicle(HERON))
    jack = found["apart F2L"]
    assert jack.work.chains[0].tower == "frame jack" and way(jack, HERON.sheet)[0] > 0.98
    assert 150_000 < jack.work.chains[0].force_n <= 300_000


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


def test_a_frame_swayed_in_the_middle_is_tied_and_drawn_level() -> None:
    swayed = {"C2L": (0.0, 11.0, 0.0), "C2R": (0.0, 11.0, 0.0)}
    found = forms(PUFFIN, swayed)
    tied = found["tied C2L"]
    assert len(tied.work.chains) == 2
    for chain in (0, 1):
        assert way(tied, PUFFIN.sheet, chain)[1] < -0.95 and abs(way(tied, PUFFIN.sheet, chain)[2]) < 0.1
    assert {"C1L", "C1R", "C3L", "C3R"} <= {anchor.code for anchor in tied.setting.anchors}


@pytest.mark.parametrize(("by", "title"), [(-6.0, "Pushed apart from inside"), (6.0, "Drawn together")])
def test_a_pair_that_is_pinched_or_apart(by, title) -> None:
    without = usual_setting(DUNLIN.sheet, usual_boxes(DUNLIN.sheet)).model_copy(update={"members_out": ("F4L F4R",)})
    found = forms(DUNLIN, {"F4L": (0.0, by, 0.0), "F4R": (0.0, -by, 0.0)}, without)
    form = found["across F4L"]
    assert form.title.startswith(title) and way(form, DUNLIN.sheet)[1] * by < 0


def test_a_hook_is_set_higher_where_only_the_top_is_out() -> None:
    found = forms(TEAL, {"U1R": (14.0, 0.0, 0.0)})
    form = found["height U1R"]
    assert form.title.startswith("Hook set higher") and way(form, TEAL.sheet)[0] < -0.7


def test_nothing_is_proposed_for_what_is_fair() -> None:
    assert forms(DUNLIN, {"F5R": (-2.0, 1.0, 2.0)}) == {}
