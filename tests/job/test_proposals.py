"""Plans that a person can rig: what is refused and proposed, what a frame that is pulled teaches; a bare sheet is completed."""

import numpy as np
import pytest

from fairsquare.core.pull.game import Chain
from fairsquare.core.pull.job import ChainSet, PlanSaid, WorkPull, plan_request, seen_plan
from fairsquare.core.pull.learned import FrameFactors, PulledCycle, fitted_factors, with_factors
from fairsquare.core.pull.plan import game_of
from fairsquare.core.pull.rigging import PullRules, barred_lines
from fairsquare.core.pull.setting import frame_of_setting, usual_setting
from fairsquare.core.sheet.model import Point, Sheet
from fairsquare.core.structure.blow import left_by
from fairsquare.core.structure.complete import assumed_of
from fairsquare.core.structure.frame import frame_of
from fairsquare.core.structure.of_sheet import usual_boxes
from fairsquare.drawings.pulls import pull_drawing
from fairsquare.job.pull.board import setting_of
from fairsquare.job.pull.proposals import Asked, judged_plan, proposals
from fairsquare.stand_ins.rigged import setting_of_vehicle
from fairsquare.stand_ins.vehicles import DUNLIN, HERON, PUFFIN, TEAL, TURNSTONE
from fairsquare.words.tell import tell
from tests.job.facts import facts

_ROWS = [
    ("F4", 2100.0, 480.0, 420.0),
    ("F3", 1600.0, 478.0, 360.0),
    ("C1", 950.0, 550.0, 180.0),
    ("C2", 50.0, 570.0, 180.0),
    ("C3", -850.0, 555.0, 180.0),
    ("R1", -1350.0, 505.0, 300.0),
    ("R2", -2100.0, 490.0, 400.0),
]
PLAIN = Sheet(
    name="a plain sheet",
    construction="unibody",
    points=tuple(
        Point(code=code + side, xyz=(x, sign * y, z), reference=code[0] == "C")
        for code, x, y, z in _ROWS
        for side, sign in (("L", 1), ("R", -1))
    ),
)
"""14 points, no members, nothing above the frame: what a technician types."""


def places(sheet, moved) -> dict:
    return {p.code: tuple(np.add(p.xyz, moved.get(p.code, (0.0, 0.0, 0.0))).tolist()) for p in sheet.points}


def asked(vehicle, **rules) -> Asked:
    school = "reverse" if vehicle.sheet.construction in ("ladder", "trailer") else "outward"
    return Asked(
        vehicle.sheet, places(vehicle.sheet, vehicle.moved), setting_of_vehicle(vehicle), school, PullRules(**rules)
    )


# ── a frame made of a bare sheet ─────────────────────────────────────────────


def test_a_bare_sheet_is_completed_with_what_is_marked_as_assumed() -> None:
    setting = usual_setting(PLAIN, usual_boxes(PLAIN), complete=True)
    frame = frame_of_setting(PLAIN, setting)
    frame_of(frame)
    for name in ("cowl left", "roof front right", "roof rear left", "tower front right"):
        assert name in frame.nodes and name in setting.assumed
    assert {"along", "across"} <= set(setting.assumed), "its sections are assumed too"
    drawn = pull_drawing(PLAIN, frame, setting, {}, None, None)
    assert drawn.count('class="frame-assumed"') == 2, "dotted, from above and from the side"
    bare = usual_setting(PLAIN, usual_boxes(PLAIN))
    assert bare.assumed == () and not bare.corners
    push = {"F4R": (-20_000.0, 8_000.0, 0.0)}
    assert left_by(frame, push) == left_by(frame_of_setting(PLAIN, bare), push) == {}, "neither yields under little"


def test_what_the_sheet_shows_is_not_assumed() -> None:
    assert assumed_of(PUFFIN.sheet).corners == {}, "a trailer has nothing above its frame"
    cab = assumed_of(HERON.sheet).corners
    assert set(cab) == {f"cab {end} {side}" for end in ("front", "back") for side in ("left", "right")}
    assert not any(name.startswith("tower rear") for name in assumed_of(TEAL.sheet).corners), "hinges stand there"


def test_a_job_of_which_nobody_said_a_frame_begins_with_one_that_is_assumed() -> None:
    assert setting_of(facts()).assumed


# ── what can be rigged ───────────────────────────────────────────────────────


def test_no_chain_runs_under_or_through_the_vehicle() -> None:
    setting = setting_of_vehicle(DUNLIN)
    barred = barred_lines(frame_of_setting(DUNLIN.sheet, setting), setting, "unibody")
    assert ("at F3L", "rear") in barred and ("at F3L", "right rear") in barred
    assert ("at F4L", "right front") in barred, "across, through the other rail"
    assert ("at F5R", "front right") not in barred and ("at F4R", "right front") not in barred


@pytest.mark.parametrize("vehicle", [DUNLIN, TEAL, TURNSTONE, PUFFIN], ids=lambda one: one.name)
def test_every_demo_vehicle_but_the_heron_comes_home_by_what_one_shop_can_rig(vehicle) -> None:
    looks = []
    for looked in proposals(asked(vehicle)):
        looks.append(looked)
        if looked.best and not looked.best[0].nominal.off and not looked.best[0].refused:
            break
    best = looks[-1].best[0]
    assert best.nominal.off == () and best.refused == ()
    assert all(len(pull.chains) <= 2 for pull in best.plan.pulls)
    assert all(c.force_n >= 5000 for pull in best.plan.pulls for c in pull.chains)
    assert best.needs_reason == (best.past_share > 1.0)


def test_a_plan_that_spoils_a_fair_point_or_makes_one_worse_is_refused() -> None:
    setting = usual_setting(PLAIN, usual_boxes(PLAIN), complete=True)
    request = Asked(PLAIN, places(PLAIN, {"F4R": (-6.0, 0.0, 0.0)}), setting, "outward")
    aside = WorkPull(chains=(ChainSet(hook="at F4L", tower="left front", height_mm=420, force_n=88_000),))
    plan = PlanSaid(school="outward", pulls=(aside,))
    made = plan_request(PLAIN, request.places, setting, "outward")
    outcomes, _, _, refused, _ = judged_plan(request, setting, plan, seen_plan(made, setting, plan))
    assert [one.strength for one in outcomes] == [1.0, 0.5, 2.0], "as assumed, half and double"
    assert refused and "fair" in tell(refused[0])
    assert outcomes[0].spoiled
    many = PlanSaid(
        school="outward",
        pulls=(
            WorkPull(
                chains=tuple(
                    ChainSet(hook="at F4R", tower=tower, height_mm=400, force_n=force)
                    for tower, force in (("front right", 20_000), ("right front", 3_000), ("rear", 9_000))
                )
            ),
        ),
    )
    *_, words, _ = judged_plan(request, setting, many, seen_plan(made, setting, many))
    said = " ".join(words)
    assert "3 chains at once" in said and "3.0 kN" in said and "under or through" in said


def test_where_no_plan_brings_all_home_it_says_what_could_be_changed() -> None:
    few = setting_of_vehicle(HERON).model_copy(update={"machines": (), "towers": setting_of_vehicle(HERON).towers[:1]})
    request = Asked(HERON.sheet, places(HERON.sheet, HERON.moved), few, "reverse")
    last = None
    for looked in proposals(request):
        last = looked
    assert last is not None and last.over
    assert last.ways_out, "what to hold, cut free or replace, and what it would bring"
    assert all(way.beyond_mm < 100 for way in last.ways_out)


# ── what a frame that is pulled teaches ──────────────────────────────────────


@pytest.mark.parametrize(("strong", "measured"), [(1.6, True), (0.6, True), (1.0, True), (1.5, False)])
def test_the_frame_learns_from_what_cycles_did(strong, measured) -> None:
    """A vehicle `strong` times its assumed sections is pulled twice; the fit finds that, within what two cycles can tell."""
    setting = setting_of_vehicle(TURNSTONE).model_copy(update={"assumed": ("along",)})
    stood = places(TURNSTONE.sheet, TURNSTONE.moved)
    request = plan_request(TURNSTONE.sheet, stood, setting, "outward")
    true = game_of(with_factors(request, setting, FrameFactors(stiff=strong, strong=strong)))
    random, cycles, so_far = np.random.default_rng(5), [], true.begun()
    codes = ("R3L", "R2L")
    for share in (0.8, 1.0):
        chains = (Chain("at R2L", "left rear", 400.0, 36_000.0 * share * strong),)
        so_far = true.pulled(so_far, chains)
        points = []
        for code in codes:
            k = true.codes.index(code)
            way = np.array((0.0, 1.0, 0.0))
            loaded, free = (
                float((at[k] - true.start[k]) @ way) + float(random.normal(0, 0.3))
                for at in (so_far.pulls[-1].loaded, so_far.pulls[-1].free)
            )
            points.append((code, (0.0, 1.0, 0.0), loaded, free))
        cycles.append(PulledCycle(chains, measured, tuple(points)))
    found = fitted_factors(request, setting, cycles)
    if measured:
        assert found.cycles == 2
        assert found.strong == pytest.approx(strong, rel=0.15) and found.stiff == pytest.approx(strong, rel=0.2)
    else:
        assert found == FrameFactors(), "nobody read how hard it was pulled"


def test_nothing_pulled_teaches_nothing() -> None:
    setting = setting_of_vehicle(DUNLIN)
    request = plan_request(DUNLIN.sheet, places(DUNLIN.sheet, DUNLIN.moved), setting, "outward")
    assert fitted_factors(request, setting, ()) == FrameFactors()
    blind = PulledCycle((Chain("at F5R", "front right", 400.0, 1e4),), False, (("F5R", (1.0, 0.0, 0.0), None, 0.0),))
    assert fitted_factors(request, setting, (blind,)) == FrameFactors()
