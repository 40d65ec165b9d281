"""The board, the setting and the hold behind the pulls, from facts alone; sections against handbook forms; what is said of gear."""

import math

import numpy as np
import pytest

from fairsquare.core.errors import Refused
from fairsquare.core.pull.gear import Gear
from fairsquare.core.pull.job import (
    HAND_MM,
    AfterPull,
    ChainSet,
    PlanSaid,
    PointCycle,
    Watched,
    WorkPull,
    advice_for,
    along,
    plan_request,
    room_mm,
    seen_plan,
    watched_points,
    will_hold,
)
from fairsquare.core.pull.setting import Machine, usual_setting
from fairsquare.core.pull.springback import NextPull, Prior, next_pull
from fairsquare.core.structure.frame import frame_of
from fairsquare.core.structure.of_sheet import ACROSS, Box, skeleton_of, usual_boxes
from fairsquare.core.who import Who
from fairsquare.drawings.board import cycles_drawing, scale_drawing
from fairsquare.drawings.pulls import pull_drawing
from fairsquare.job.facts.pulls import PullEventFact, PullPlanFact
from fairsquare.job.facts.setup import MovementFact
from fairsquare.job.measure.picture import picture_of
from fairsquare.job.pull.board import board_of, learned_return, pulls_wanted, setting_of, under_way
from fairsquare.job.pull.spent import spent_lines
from fairsquare.job.release.holds import job_state
from fairsquare.stand_ins.rigged import setting_of_vehicle
from fairsquare.stand_ins.vehicles import DUNLIN, PUFFIN, TEAL, VEHICLES
from fairsquare.web.words import way_words
from fairsquare.words.tell import tell
from tests.job.facts import REFERENCES, facts, reading
from tests.job.facts import who as morning

PLACES = {p.code: tuple(map(float, np.add(p.xyz, DUNLIN.moved.get(p.code, (0, 0, 0))))) for p in DUNLIN.sheet.points}
SETTING = usual_setting(DUNLIN.sheet, usual_boxes(DUNLIN.sheet))
PULL = WorkPull(chains=(ChainSet(hook="at F5R", tower="front right", height_mm=420, force_n=40_000),))
PLAN = PlanSaid(school="outward", pulls=(PULL,))
FORWARD = Watched(code="F5R", way=(1.0, 0.0, 0.0), target_mm=0.0, tolerance_mm=3.0, was_mm=-21.4)


def who(minute: int) -> Who:
    return Who(name="Ngozi Adeyemi", role="technician", at=f"2026-03-02T10:{minute:02d}:00.000000Z")


def event(number: int, state: str, **more) -> PullEventFact:
    return PullEventFact(id=number, plan=1, pull=1, state=state, by=who(number), **more)


def pulled(*events: PullEventFact, **more):
    return facts(pull_plans=(PullPlanFact(id=1, version=1, plan=PLAN, by=who(0)),), pull_events=events, **more)


# ── the board from facts ─────────────────────────────────────────────────────


def test_a_board_is_the_pull_that_was_begun_and_not_ended() -> None:
    begun = event(1, "cautions", watched=(FORWARD,))
    assert board_of(pulled()) is None and pulls_wanted(pulled())
    board = board_of(pulled(begun, event(2, "test"), event(3, "look"), event(4, "pulling")))
    assert (board.pull, board.state, board.cycle) == (1, "pulling", 1)
    assert board.points[0].watched == FORWARD and board.points[0].now_mm is None
    assert board.points[0].marks == pytest.approx((21.4, *np.add(board.points[0].marks[1:], 0)))
    ended = pulled(begun, event(2, "test"), event(3, "ended"))
    assert board_of(ended) is None and under_way(ended) == ()
    again = board_of(pulled(begun, event(2, "ended"), event(3, "cautions", watched=(FORWARD,))))
    assert again.state == "cautions" and len(again.events) == 1


def test_a_closed_cycle_is_learned_from_and_the_next_one_begins_where_it_ended() -> None:
    cycle = PointCycle(code="F5R", before_mm=-21.4, loaded_mm=-4.0, after_mm=-10.0)
    board = board_of(
        pulled(event(1, "cautions", watched=(FORWARD,)), event(2, "cautions", cycles=(cycle,), after=AfterPull()))
    )
    point = board.points[0]
    assert board.cycle == 2 and point.stands_mm == -10.0
    assert point.advice.return_mm == pytest.approx(6.0, abs=0.2), "it gave back 6 of 17.4"
    assert point.advice.pull_to_mm == pytest.approx(6.0, abs=0.4)


def test_what_came_back_is_carried_to_the_next_pull_as_a_share_of_what_the_frame_said() -> None:
    expected = FORWARD.model_copy(update={"return_mm": 10.0, "return_sigma_mm": 2.5})
    cycle = PointCycle(code="F5R", before_mm=-21.4, loaded_mm=-4.0, after_mm=-11.0)
    first = pulled(event(1, "cautions", watched=(expected,)), event(2, "ended", cycles=(cycle,), after=AfterPull()))
    assert learned_return(pulled()) is None
    assert learned_return(first) == pytest.approx(0.7), "it gave back 7 where the frame said 10"
    again = expected.model_copy(update={"return_mm": 7.0, "learned": 0.7})
    more = PointCycle(code="F5R", before_mm=-11.0, loaded_mm=2.0, after_mm=-7.0)
    later = pulled(
        event(1, "cautions", watched=(expected,)),
        event(2, "ended", cycles=(cycle,), after=AfterPull()),
        event(3, "cautions", watched=(again,)),
        event(4, "ended", cycles=(more,), after=AfterPull()),
    )
    assert learned_return(later) == pytest.approx((7 + 9) / 20), (
        "shares are of what the frame said, not of what was learned"
    )
    request = plan_request(DUNLIN.sheet, PLACES, SETTING, "outward")
    played = seen_plan(request, SETTING, PLAN).played
    plain = watched_points(DUNLIN.sheet, PLACES, PULL, played, 0)
    told = watched_points(DUNLIN.sheet, PLACES, PULL, played, 0, learned=0.7)
    for one, other in zip(plain, told, strict=True):
        assert other.return_mm == pytest.approx(0.7 * one.return_mm) and other.return_sigma_mm <= one.return_sigma_mm


def test_advice_of_two_cycles_without_gain_is_to_relieve() -> None:
    cycles = [PointCycle(code="F5R", before_mm=-21.4, loaded_mm=mm, after_mm=-21.3) for mm in (-9.0, -2.0)]
    assert advice_for(FORWARD, -21.3, cycles).advice == "relieve"
    timid = [c.model_copy(update={"loaded_mm": c.loaded_mm - 10.0}) for c in cycles]
    onward = advice_for(FORWARD, -21.3, timid)
    assert onward.advice == "pull", "let go before the frame would have yielded: nothing is stuck yet"
    assert max(c.loaded_mm for c in timid) < onward.pull_to_mm <= onward.must_not_pass_mm - room_mm() + 1e-9
    assert advice_for(FORWARD, -21.3, [c.model_copy(update={"code": "F4R"}) for c in cycles]).advice == "pull"


def test_a_place_along_the_way_of_a_watched_point() -> None:
    short = FORWARD.model_copy(update={"way": (0.6, 0.0, -0.8)})
    x, _, z = DUNLIN.moved["F5R"]
    assert along(short, DUNLIN.sheet, PLACES["F5R"]) == pytest.approx(0.6 * x - 0.8 * z)


def test_what_is_watched_stops_where_it_is_nearest_to_home() -> None:
    request = plan_request(DUNLIN.sheet, PLACES, SETTING, "outward")
    down = WorkPull(chains=(ChainSet(hook="at F3R", tower="front right", height_mm=150, force_n=60_000),))
    played = seen_plan(request, SETTING, PlanSaid(school="outward", pulls=(down,))).played
    found = watched_points(DUNLIN.sheet, PLACES, down, played, 0)
    assert 1 <= len(found) <= 3
    for one in found:
        moved, way = np.array(DUNLIN.moved[one.code]), np.array(one.way)
        assert one.was_mm == pytest.approx(moved @ way) and np.linalg.norm(way) == pytest.approx(1)
        home = np.linalg.norm(moved - one.was_mm * way)
        assert all(home <= np.linalg.norm(moved + (far - one.was_mm) * way) for far in (-1.0, 1.0))
        gone = np.subtract(played.pulls[0].free[one.code], moved)
        assert np.allclose(way, gone / np.linalg.norm(gone), atol=1e-6), "along the way that the pull brings it"


def test_a_point_that_a_pull_hardly_brings_nearer_is_not_waited_for() -> None:
    setting = setting_of_vehicle(PUFFIN)
    places = {
        p.code: tuple(map(float, np.add(p.xyz, PUFFIN.moved.get(p.code, (0, 0, 0))))) for p in PUFFIN.sheet.points
    }
    work = WorkPull(chains=(ChainSet(hook="at T1L", tower="chain puller", height_mm=0, force_n=28_600),))
    played = seen_plan(
        plan_request(PUFFIN.sheet, places, setting, "reverse"), setting, PlanSaid(school="reverse", pulls=(work,))
    ).played
    found = {one.code: one for one in watched_points(PUFFIN.sheet, places, work, played, 0)}
    assert set(found) == {"T1L", "T1R"}, "the rail's bow at C2R is for another pull"
    assert found["T1L"].return_mm > 10, "the frame says what comes back"


def test_a_reference_that_is_not_relied_on_is_old_once_the_structure_has_moved() -> None:
    off = (0.0, -9.4, 0.0)
    bad = tuple(reading(k, c, moved=off if c == "C2R" else (0.0, 0.0, 0.0)) for k, c in enumerate(REFERENCES, 1))
    moved = (MovementFact(id=1, what="structure", words="pulled", setup=1, by=morning(40)),)
    before, after = facts(readings=bad), facts(readings=bad, movements=moved)
    first = picture_of(before, before.setups[0], before.sheet)
    assert "C2R" not in first.relied_on and first.judged["C2R"].state == "off"
    later = picture_of(after, after.setups[0], after.sheet)
    assert later.stale_only == ("C2R",) and later.judged["C1R"].state == "fair"
    again = (*bad, reading(90, "C2R", minute=50).model_copy(update={"purpose": "point"}))
    now = facts(readings=again, movements=moved)
    assert picture_of(now, now.setups[0], now.sheet).judged["C2R"].state == "fair", "as it was read after the pull"


# ── the hold behind the pulls ────────────────────────────────────────────────


@pytest.mark.parametrize(("last", "spoiled"), [(True, ("F3L",)), (False, ())])
def test_read_free_in_the_last_pull_the_board_knows_which_fair_points_are_off(last, spoiled) -> None:
    """Pulls before the last may leave points off that are brought home after them."""
    fair = [code for code in PLACES if code not in REFERENCES]
    plan = PLAN if last else PlanSaid(school="outward", pulls=(PULL, PULL))
    before = tuple(
        reading(n, code).model_copy(update={"by": who(0), "stale": code not in REFERENCES})
        for n, code in enumerate((*REFERENCES, *fair), 1)
    )
    went = {"F3L": (0.0, 4.5, 0.0)}
    after = tuple(
        reading(100 + n, code, moved=went.get(code, (0.0, 0.0, 0.0))).model_copy(update={"by": who(20)})
        for n, code in enumerate(fair)
    )
    job = facts(
        readings=(*before, *after),
        pull_plans=(PullPlanFact(id=1, version=1, plan=plan, by=who(0)),),
        pull_events=(event(1, "cautions", watched=(FORWARD,)), event(9, "let_go"), event(10, "read_free")),
        movements=(
            MovementFact(id=1, what="structure", words="pulled", setup=1, by=who(9), after_reading=len(before)),
        ),
    )
    assert board_of(job).spoiled == spoiled


@pytest.mark.parametrize(
    ("force_n", "after_mm", "spent"), [(400e3, -20.9, True), (400e3, -9.0, False), (9e3, -20.9, False)]
)
def test_a_chain_is_spent_where_the_forces_that_were_read_filled_the_rig_for_nothing(force_n, after_mm, spent) -> None:
    cycle = PointCycle(code="F5R", before_mm=-21.0, loaded_mm=8.0, after_mm=after_mm)
    job = pulled(
        event(1, "cautions", watched=(FORWARD,)),
        event(2, "cautions", cycles=(cycle,), forces={"front right": force_n}),
        event(3, "ended", cycles=(cycle,), forces={"front right": 9e3}),
    )
    assert spent_lines(job) == ({("at F5R", "front right")} if spent else set())


def words_of(held) -> str:
    return " ".join(tell(missing.said) for missing in job_state(held).hold("pulls_done").missing)


def test_the_hold_is_there_only_where_anything_is_pulled() -> None:
    assert "pulls_done" not in {hold.name for hold in job_state(facts()).holds}
    assert "pulls_done" in {hold.name for hold in job_state(pulled()).holds}


def test_a_pull_under_way_a_crack_and_old_readings_stand_in_its_way() -> None:
    assert "A pull is under way" in words_of(pulled(event(1, "cautions", watched=(FORWARD,))))
    cracked = AfterPull(cracks="at the root of the right rail")
    assert "Found after pull 1: at the root" in words_of(pulled(event(1, "ended", after=cracked)))
    old = tuple(r.model_copy(update={"stale": True}) if r.code == "F4L" else r for r in facts().readings)
    assert "Read before the last pull: F4L" in words_of(pulled(event(1, "ended", after=AfterPull()), readings=old))
    loaded = tuple(r.model_copy(update={"loaded": True}) if r.code == "F4L" else r for r in facts().readings)
    assert "Read only under load: F4L" in words_of(pulled(readings=loaded))
    fine = words_of(pulled(event(1, "ended", after=AfterPull())))
    assert "F4L" not in fine and "under way" not in fine


# ── the setting and the frame of a sheet ─────────────────────────────────────


@pytest.mark.parametrize("vehicle", VEHICLES, ids=lambda one: one.name)
def test_every_sheet_of_the_demo_makes_a_frame_that_is_held(vehicle) -> None:
    setting = usual_setting(vehicle.sheet, usual_boxes(vehicle.sheet))
    skeleton = skeleton_of(vehicle.sheet, setting.boxes, [anchor.code for anchor in setting.anchors])
    assert set(skeleton.nodes) == {point.code for point in vehicle.sheet.points}
    frame_of(skeleton)
    across = [member for member in skeleton.members if member.section == ACROSS]
    assert len(across) >= 4
    if setting.hooks:
        work = WorkPull(
            chains=(ChainSet(hook=setting.hooks[0].id, tower=setting.towers[0].id, height_mm=400, force_n=20_000),)
        )
        held, words = will_hold(skeleton, setting, work)
        assert held is not None and words == ()


def test_a_box_has_the_section_values_of_handbooks() -> None:
    """Hollow rectangle 100 × 60 × 3: A, I and plastic moduli by the handbook's differences of rectangles; Bredt for torsion."""
    section = Box(height_mm=100, width_mm=60, wall_mm=3, yield_mpa=300).section()
    assert section.area == 100 * 60 - 94 * 54
    assert section.iy == pytest.approx((60 * 100**3 - 54 * 94**3) / 12)
    assert section.iz == pytest.approx((100 * 60**3 - 94 * 54**3) / 12)
    assert section.mpy == pytest.approx(300 * (60 * 100**2 / 4 - 54 * 94**2 / 4))
    area, round_ = 97 * 57, 2 * (97 + 57)
    assert section.j == pytest.approx(4 * area**2 / (round_ / 3))
    assert section.tp == pytest.approx(2 * area * 3 * 300 / math.sqrt(3))
    with pytest.raises(Refused, match="nothing hollow"):
        Box(height_mm=100, width_mm=6, wall_mm=3, yield_mpa=300).section()


def test_the_usual_setting_stands_until_another_is_kept() -> None:
    assert setting_of(facts()).towers == usual_setting(facts().sheet, usual_boxes(facts().sheet)).towers
    assert setting_of(facts(sheet=None)) is None


def test_a_plan_that_names_what_is_not_there_says_which() -> None:
    request = plan_request(DUNLIN.sheet, PLACES, SETTING, "outward")
    wrong = PULL.chains[0].model_copy(update={"tower": "nowhere"})
    with pytest.raises(Refused) as refused:
        seen_plan(request, SETTING, PlanSaid(school="outward", pulls=(PULL.model_copy(update={"chains": (wrong,)}),)))
    assert refused.value.field == "pulls.0.chains.0.tower"
    jack = SETTING.model_copy(update={"machines": (Machine(id="jack", bears_on="F5R"),)})
    itself = PULL.chains[0].model_copy(update={"tower": "jack"})
    with pytest.raises(Refused, match="bears where its hook is"):
        seen_plan(request, jack, PlanSaid(school="outward", pulls=(PULL.model_copy(update={"chains": (itself,)}),)))
    with pytest.raises(Refused, match="Nothing is measured yet"):
        plan_request(DUNLIN.sheet, {}, SETTING, "outward")


def test_rules_that_a_persons_plan_breaks_are_told_pull_by_pull() -> None:
    request = plan_request(DUNLIN.sheet, PLACES, SETTING, "outward")
    chain = PULL.chains[0]
    near = WorkPull(chains=(chain.model_copy(update={"hook": "at F2R"}),))
    double = WorkPull(chains=(chain, chain.model_copy(update={"hook": "at F4R", "height_mm": 950.0})))
    seen = seen_plan(request, SETTING, PlanSaid(school="outward", pulls=(PULL, near, double)))
    assert seen.broken[0] == ()
    assert any("nearer to the middle" in tell(words) for words in seen.broken[1])
    assert any("One tower draws two" in tell(words) for words in seen.broken[2])
    assert any("does not reach 950 mm" in tell(words) for words in seen.broken[2])
    hooks = tuple(hook.model_copy(update={"capacity_n": None}) for hook in SETTING.hooks)
    loud = seen_plan(request, SETTING.model_copy(update={"hooks": hooks}), PLAN).broken[0]
    assert loud == ("NOBODY KNOWS WHAT AT F5R TAKES. Home-made or unknown gear: find its limit, or use another.",)


# ── room between letting go and the limit ────────────────────────────────────


@pytest.mark.parametrize("tolerance", [1.5, 3.0, 6.0])
@pytest.mark.parametrize("returned", [(2.0, 2.0), (8.0, 4.0), (20.0, 5.0), (68.0, 17.0)])
def test_it_is_let_go_below_what_it_must_not_pass_by_what_hand_and_readings_scatter(tolerance, returned) -> None:
    watched = FORWARD.model_copy(
        update={"tolerance_mm": tolerance, "return_mm": returned[0], "return_sigma_mm": returned[1]}
    )
    for now in (-30.0, -8.0, -tolerance - 0.4):
        for sigma in (0.2, 0.3, 1.0):
            said = advice_for(watched, now, (), sigma)
            assert said.pull_to_mm <= said.must_not_pass_mm - HAND_MM - 2 * sigma + 1e-9
            asked = next_pull(
                NextPull(
                    target_mm=watched.target_mm,
                    tolerance_mm=tolerance,
                    now_mm=now,
                    prior=Prior(return_mm=returned[0], sigma_mm=returned[1]),
                    reading_sigma_mm=sigma,
                    cycles=(),
                )
            )
            assert said.earlier_mm == pytest.approx(asked.pull_to_mm - said.pull_to_mm)
            assert said.expected_after_mm <= asked.expected_after_mm + 1e-9


def test_who_obeys_a_first_cycle_is_not_told_stop_but_rarely() -> None:
    """5000 hands that stop 0 to 1.5 mm late and read ± 0.3, as the scatter that the room is for says."""
    random = np.random.default_rng(18)
    watched = FORWARD.model_copy(update={"tolerance_mm": 1.5, "return_mm": 8.0, "return_sigma_mm": 4.0})
    said = advice_for(watched, -12.0, ())
    read = said.pull_to_mm + random.uniform(0, HAND_MM, 5000) + random.normal(0, 0.3, 5000)
    assert (read > said.must_not_pass_mm).mean() < 0.01


def test_room_that_is_not_there_is_learned_and_it_comes_home_all_the_same() -> None:
    """A structure that gives back 9 mm; nothing is known of it but 8 ± 4 mm."""
    watched = FORWARD.model_copy(update={"tolerance_mm": 1.5, "return_mm": 8.0, "return_sigma_mm": 4.0})
    now, cycles = -12.0, []
    for _ in range(6):
        said = advice_for(watched, now, tuple(cycles))
        if said.advice != "pull":
            break
        after = max(now, said.pull_to_mm - 9.0)
        cycles.append(PointCycle(code="F5R", before_mm=now, loaded_mm=said.pull_to_mm, after_mm=after))
        now = after
    assert said.advice == "done" and len(cycles) <= 3


# ── gear, words, drawings ────────────────────────────────────────────────────


@pytest.mark.parametrize(
    ("more", "days", "words"),
    [
        ({"capacity_n": 5e4}, 3, None),
        ({"capacity_n": 5e4}, None, "Never looked at."),
        ({"capacity_n": 5e4}, 120, "Last looked at 120 days ago."),
        ({}, 3, "Nobody knows what it takes."),
        ({"kind": "pump"}, 3, None),
        ({"made": "home"}, 3, "Home-made, and nobody knows what it takes."),
        ({"made": "home", "capacity_n": 5e4}, 3, "Home-made: what is written here is somebody's word, not a test."),
        ({"capacity_n": 5e4, "found": "hurt"}, 3, "Found hurt: do not pull with it."),
    ],
)
def test_what_is_said_of_a_piece(more, days, words) -> None:
    assert Gear(**({"id": 1, "name": "x", "kind": "chain"} | more)).caution(days) == words


@pytest.mark.parametrize(
    ("way", "words"),
    [((1.0, 0.0, 0.0), "forward"), ((-0.8, 0.0, -0.6), "back and down"), ((0.1, -0.9, 0.42), "to the right and up")],
)
def test_a_way_in_words(way, words) -> None:
    assert way_words(way) == words


def test_the_drawings_show_what_there_is() -> None:
    request = plan_request(DUNLIN.sheet, PLACES, SETTING, "outward")
    seen = seen_plan(request, SETTING, PLAN)
    drawn = pull_drawing(
        DUNLIN.sheet, request.skeleton, SETTING, {}, PULL, seen.held[0], seen.played.pulls[0].free, movable=True
    )
    assert drawn.count('class="tower used"') == 1 and drawn.count("data-tower=") == len(SETTING.towers)
    assert "40 kN" in drawn and "420 mm high" in drawn and "keep-clear" in drawn and "frame-ghost" in drawn
    ground = pull_drawing(DUNLIN.sheet, request.skeleton, SETTING, {}, PULL, seen.held[0], ground_only=True)
    assert ground.count('class="tower') == 1 and "from the side" not in ground
    assert cycles_drawing({"F5R": []}) is None
    cycle = PointCycle(code="F5R", before_mm=-9, loaded_mm=1.5, after_mm=-4)
    assert "+1.5, back 5.5" in cycles_drawing({"F5R": [cycle, cycle]})
    point = board_of(pulled(event(1, "cautions", watched=(FORWARD,)))).points[0]
    scale = scale_drawing(point)
    assert "was 21.4 short" in scale and "must not pass" in scale and "let go at" in scale


def test_the_upper_points_stand_on_the_two_nearest() -> None:
    skeleton = skeleton_of(TEAL.sheet, usual_boxes(TEAL.sheet), ["C1L", "C1R", "C3L", "C3R"])
    posts = sorted(member.id for member in skeleton.members if member.section == "uprights")
    assert posts == ["U1L R2L", "U1L R3L", "U1R R2R", "U1R R3R"]
