"""Pulls from inside in a job: where jacks, pullers and ties are tried, what is forbidden, what is found, and what is said of it."""

import numpy as np
import pytest

from fairsquare.core.pull.job import (
    CAUTIONS,
    ChainSet,
    PlanSaid,
    WorkPull,
    cautions_of,
    plan_request,
    seen_plan,
    will_hold,
)
from fairsquare.core.pull.rigging import PullRules
from fairsquare.core.pull.setting import Machine, PlacedAnchor, PlacedHook, PlacedTie, PlacedTower, usual_setting
from fairsquare.core.sheet.model import Point, Sheet
from fairsquare.core.structure.blow import left_by
from fairsquare.core.structure.of_sheet import Box, skeleton_of, usual_boxes
from fairsquare.drawings.pulls import pull_drawing
from fairsquare.job.pull.inside import inside_of, named, only_used
from fairsquare.job.pull.proposals import Asked, Proposal, proposals
from fairsquare.stand_ins.rigged import setting_of_vehicle
from fairsquare.stand_ins.vehicle import SimulatedVehicle
from fairsquare.stand_ins.vehicles import HERON, PUFFIN
from fairsquare.words.tell import tell
from tests.job.test_proposals import asked, places
from tests.straightening import GEAR

LADDER = Sheet(
    name="a bowed ladder",
    construction="ladder",
    points=tuple(
        Point(code=f"{name}{side}", xyz=(x, sign * 430.0, 300.0), reference=name in ("F1", "F5"))
        for name, x in (("F1", 1600.0), ("F2", 900.0), ("F3", 100.0), ("F4", -700.0), ("F5", -1500.0))
        for side, sign in (("L", 1), ("R", -1))
    ),
)
BOW = {f"{name}{side}": (0.0, by, 0.0) for name, by in (("F2", 4.5), ("F3", 9.0), ("F4", 4.5)) for side in "LR"}


def inside(vehicle, gear=GEAR, **changes):
    one = asked(vehicle)
    setting = one.setting.model_copy(update=changes)
    request = plan_request(one.sheet, one.places, setting, one.school)
    return inside_of(one.sheet, one.places, setting, request.skeleton, gear), request


def first_home(one: Asked) -> Proposal:
    """The first plan of the search that brings every point home."""
    for looked in proposals(one):
        if looked.best and looked.best[0].home:
            return looked.best[0]
    pytest.fail("nothing brings it home")


def lines(found):
    """The hooks and machines between which something is tried, by their points and whether they push."""
    setting = found.setting
    return {
        (hook.code, machine.bears_on, machine.pushes)
        for hook in setting.hooks
        for machine in setting.machines
        if (hook.id, machine.id) not in found.barred
    }


def test_a_jack_is_tried_where_two_places_stand_too_near_and_a_puller_where_too_far_apart() -> None:
    found, request = inside(HERON)
    at = {code: np.array(request.points[code].xyz) for code in request.points}
    tried = lines(found)
    assert ("F2L", "C2L", True) in tried, "pushed forward from the cab mount behind it"
    for hook, bears, pushes in tried:
        now = np.linalg.norm(at[hook] - at[bears])
        then = np.linalg.norm(np.subtract(request.skeleton.nodes[hook], request.skeleton.nodes[bears]))
        assert (now < then) == pushes
    assert len(tried) <= 60


def test_what_is_hurt_forbidden_or_to_be_left_alone_is_not_tried() -> None:
    hurt = tuple(piece.model_copy(update={"found": "hurt"}) for piece in GEAR)
    assert {machine.id for machine in inside(HERON, hurt)[0].setting.machines} == {"frame jack"}, "what a person placed"
    found, _ = inside(HERON, no_bearing=("C1L", "C2L"), still=("F3L",))
    assert not any(bears in ("C1L", "C2L") for _, bears, _ in lines(found))
    assert not any("F3L" in line[:2] for line in lines(found))


def test_one_piece_is_at_one_place_at_once() -> None:
    found, _ = inside(HERON)
    jacks = [name for name in found.pieces if name.startswith("Frame jack")]
    assert len(jacks) > 4
    assert {found.pieces[name] for name in jacks} == {"Frame jack, long"}


def test_rails_that_bow_the_same_way_are_tied_where_nothing_joins_them() -> None:
    setting = usual_setting(LADDER, usual_boxes(LADDER)).model_copy(update={"members_out": ("F3L F3R",)})
    request = plan_request(LADDER, places(LADDER, BOW), setting, "outward")
    found = inside_of(LADDER, places(LADDER, BOW), setting, request.skeleton, ())
    assert [tie.between for tie in found.setting.ties] == [("F3L", "F3R")]
    joined = setting.model_copy(update={"members_out": ()})
    request = plan_request(LADDER, places(LADDER, BOW), joined, "outward")
    assert inside_of(LADDER, places(LADDER, BOW), joined, request.skeleton, ()).setting.ties == ()


def test_a_plan_brings_only_what_it_uses() -> None:
    found, _ = inside(HERON)
    work = WorkPull(chains=(ChainSet(hook="at F2L", tower="Frame jack, long on C2L", height_mm=0, force_n=1e5),))
    before = setting_of_vehicle(HERON)
    assert {m.id for m in only_used(before, found.setting, [work]).machines} == {
        "frame jack",
        "Frame jack, long on C2L",
    }


@pytest.mark.parametrize(
    ("hook", "bears", "pushes", "words"),
    [
        ("T1L", "C2R", False, "Drawn square across the long diagonal T1L–C2R"),
        ("T1L", "C2R", True, "Jacked square across the short diagonal T1L–C2R"),
        ("T1L", "T1R", True, "Pushed apart from inside, T1L and T1R"),
        ("T1L", "T1R", False, "Drawn together, T1L and T1R"),
        ("T1L", "C1L", True, "Jacked apart, T1L from C1L"),
    ],
)
def test_a_pull_inside_is_called_by_its_name(hook, bears, pushes, words) -> None:
    setting = usual_setting(PUFFIN.sheet, usual_boxes(PUFFIN.sheet))
    setting = setting.model_copy(update={"machines": (Machine(id="m", bears_on=bears, pushes=pushes),)})
    request = plan_request(PUFFIN.sheet, places(PUFFIN.sheet, {}), setting, "outward")
    own = next(one.id for one in setting.hooks if one.code == hook)
    work = WorkPull(chains=(ChainSet(hook=own, tower="m", height_mm=0, force_n=1e4),))
    assert named(setting, request.skeleton, work) == (words,)


def test_what_is_ticked_before_a_pull_inside() -> None:
    setting = setting_of_vehicle(HERON)
    jack = WorkPull(chains=(ChainSet(hook="at F2L", tower="frame jack", height_mm=0, force_n=1e5),))
    tower = WorkPull(chains=(ChainSet(hook="at F2L", tower="front left", height_mm=400, force_n=1e5),))
    assert cautions_of(setting, tower) == CAUTIONS
    more = dict(cautions_of(setting, jack)[len(CAUTIONS) :])
    assert "kick out" in more["jack_line"]
    assert "over" in more["jack_clear"]
    assert "ties" in dict(cautions_of(setting, tower.model_copy(update={"ties": ("bar",)})))


@pytest.mark.parametrize("vehicle", [HERON, PUFFIN], ids=lambda one: one.name)
def test_heron_and_trailer_come_home_by_the_search_alone(vehicle) -> None:
    """What a person placed for them besides is taken away: the search places the shop's own pieces."""
    one = asked(vehicle)
    one = one._replace(gear=GEAR, setting=one.setting.model_copy(update={"machines": ()}))
    best = first_home(one)
    assert best.nominal.off == ()
    assert all(len(pull.chains) <= 2 for pull in best.plan.pulls)
    if vehicle is HERON:
        assert "Jacked apart, F2L from C" in best.title


def test_a_bowed_ladder_comes_home_with_its_rails_tied_by_the_search_alone() -> None:
    """Both rails bowed where nothing joins them, one chain round the near one: it wants the bar that makes them one."""
    rows = [("C1", 940.0), ("C2", 60.0), ("B1", -700.0), ("B2", -1420.0), ("B3", -2140.0), ("C3", -2860.0)]
    sheet = Sheet(
        name="a stake truck's ladder",
        construction="ladder",
        tolerance_mm=4.0,
        points=tuple(
            Point(code=f"{name}{side}", xyz=(x, sign * 412.0, 520.0), reference=name[0] == "C", member="frame")
            for name, x in rows
            for side, sign in (("L", 1), ("R", -1))
        ),
    )
    boxes = usual_boxes(sheet) | {"frame": Box(height_mm=150, width_mm=65, wall_mm=3.0, yield_mpa=300)}
    held, apart = ("C1L", "C1R", "C2L", "C2R", "C3L", "C3R"), ("B2L B2R",)
    push = {"B2L": (900.0, -38_500.0, 700.0), "B2R": (-500.0, -38_500.0, -300.0)}
    moved = left_by(skeleton_of(sheet, boxes, held, members_out=apart), push)
    assert moved is not None and min(-moved["B2L"][1], -moved["B2R"][1]) > 10
    usual = usual_setting(sheet, boxes)
    post = PlacedTower(id="left, across", at=(-1420.0, 1900.0), capacity_n=90_000.0)
    clamps = tuple(PlacedAnchor(id=f"clamp {c}", code=c, kind="clamp", capacity_n=120_000.0) for c in ("C2L", "C2R"))
    setting = usual.model_copy(
        update={
            "towers": (post,),
            "hooks": (PlacedHook(id="round B2L", code="B2L", kind="chain", capacity_n=90_000.0),),
            "anchors": (*usual.anchors, *clamps),
            "members_out": apart,
        }
    )
    best = first_home(Asked(sheet, places(sheet, moved), setting, "reverse", PullRules(), gear=GEAR))
    assert best.nominal.off == ()
    assert "Both rails tied at B2L and B2R, drawn as one" in best.title
    assert [pull.ties for pull in best.plan.pulls] == [("tie B2L B2R",)]


def test_a_tie_is_put_on_drawn_told_and_let_go_with_the_chains() -> None:
    """Played on the stand-in as in the plan: where its points end, and that the bar carries, by the same metal."""
    setting = usual_setting(LADDER, usual_boxes(LADDER)).model_copy(update={"members_out": ("F3L F3R",)})
    tie = PlacedTie(id="bar", between=("F3L", "F3R"), capacity_n=60_000.0)
    towers = (usual_setting(PUFFIN.sheet, {}).towers[0].model_copy(update={"id": "across", "at": (100.0, -2200.0)}),)
    hooks = (setting_of_vehicle(PUFFIN).hooks[0].model_copy(update={"id": "at F3R", "code": "F3R"}),)
    setting = setting.model_copy(update={"ties": (tie,), "towers": towers, "hooks": hooks})
    work = WorkPull(chains=(ChainSet(hook="at F3R", tower="across", height_mm=300, force_n=52_000),), ties=("bar",))
    stands = places(LADDER, BOW)
    request = plan_request(LADDER, stands, setting, "outward")
    seen = seen_plan(request, setting, PlanSaid(school="outward", pulls=(work,)))
    carried = seen.played.pulls[0].tie_forces_n["bar"]
    assert len(carried) == 10 and carried[-1] > 5000, "it draws the far rail along"
    statics, _ = will_hold(request.skeleton, setting, work)
    drawn = pull_drawing(LADDER, request.skeleton, setting, {}, work, statics)
    assert 'class="tie"' in drawn and drawn.count('class="tie-end"') == 4

    vehicle = SimulatedVehicle(LADDER, {code: np.array(at) for code, at in stands.items()}, metal=3)
    vehicle._metal = dict.fromkeys(vehicle._metal, 1.0)
    vehicle.step("test", 1, 1, work, setting, ("F3L",))
    while vehicle.share < 1.0:
        vehicle.step("pulling", 1, 1, work, setting, ("F3L",))
    kept = vehicle.kept()
    again = SimulatedVehicle(LADDER, {code: np.array(at) for code, at in stands.items()}, metal=3)
    again._metal = dict.fromkeys(again._metal, 1.0)
    again.take_up(type(kept).model_validate_json(kept.model_dump_json()), setting)
    for one in (vehicle, again):
        one.share = 1.0
        one._pull(work.chains, 1.0, setting)
        assert one.peaks["bar"] == pytest.approx(carried[-1] / 60_000.0, rel=0.05)
        one.step("let_go", 1, 1, work, setting, ())
        for code in ("F3L", "F3R", "F2L"):
            planned = np.array(seen.played.pulls[0].free[code]) + np.array(
                next(p.xyz for p in LADDER.points if p.code == code)
            )
            assert one.places()[code] == pytest.approx(planned, abs=0.4)


def test_a_point_that_is_to_be_left_is_left() -> None:
    one = asked(PUFFIN)
    assert isinstance(one, Asked)
    kept = one._replace(setting=one.setting.model_copy(update={"still": ("T1R",)}))
    stood = np.subtract(kept.places["T1R"], next(p.xyz for p in PUFFIN.sheet.points if p.code == "T1R"))
    tried = False
    for looked in proposals(kept):
        for best in looked.best:
            far = max(float(np.abs(np.subtract(pull.free["T1R"], stood)).max()) for pull in best.seen.played.pulls)
            told = [tell(why) for why in best.refused]
            assert (far > 1.25) == any("T1R is to be left where it stands" in why for why in told)
            tried = True
        if "towers, played" in str(looked.words):
            break
    assert tried
