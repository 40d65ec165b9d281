"""All panels of a job at once: which to loosen, which to leave alone, what to expect, and whether it went so."""

import numpy as np
import pytest

from fairsquare.core.errors import Refused
from fairsquare.core.fit.after import GapAgain, after_setting
from fairsquare.core.fit.said import WAYS, FitSaid, GapSaid, HingeSaid, PanelSaid, check_fit_said
from fairsquare.drawings.face import face_drawing
from fairsquare.job.facts.done import Hung
from fairsquare.job.facts.finishing import DoneFact
from fairsquare.job.fit.face import face_of
from fairsquare.job.fit.job import gap_states, hinges_of, panel_states
from tests.job.facts import facts, who
from tests.job.test_finishing import said

WIDE = (-5.0, 5.0)
NAMES = ("rear door", "front door", "wing", "lid")


def hinge(name, at) -> HingeSaid:
    return HingeSaid(id=name, at=at, length=WIDE, width=WIDE, height=WIDE)


def gap(place, panel, beside, at, way, flush=False) -> GapSaid:
    return GapSaid(
        place=place,
        panel=panel,
        beside=beside,
        at=at,
        way=way,
        flush=flush,
        target_mm=0.0 if flush else 4.0,
        tolerance_mm=1.0,
    )


SIDE = FitSaid(
    panels=(
        PanelSaid(
            name="rear door", hinges=(hinge("lower", (-150.0, 720.0, 420.0)), hinge("upper", (-150.0, 720.0, 760.0)))
        ),
        PanelSaid(
            name="front door", hinges=(hinge("lower", (850.0, 720.0, 420.0)), hinge("upper", (850.0, 720.0, 760.0)))
        ),
        PanelSaid(name="wing", hinges=(hinge("front", (1800.0, 660.0, 860.0)), hinge("rear", (1000.0, 640.0, 880.0)))),
        PanelSaid(name="lid", hinges=(hinge("left", (930.0, 560.0, 900.0)), hinge("right", (930.0, -560.0, 900.0)))),
    ),
    gaps=(
        gap("rear door quarter low", "rear door", "", (-1000.0, 720.0, 450.0), "rearward"),
        gap("rear door quarter high", "rear door", "", (-1000.0, 720.0, 950.0), "rearward"),
        gap("rear door sill", "rear door", "", (-600.0, 720.0, 250.0), "down"),
        gap("doors low", "front door", "rear door", (-140.0, 720.0, 400.0), "rearward"),
        gap("doors high", "front door", "rear door", (-140.0, 720.0, 950.0), "rearward"),
        gap("doors flush", "front door", "rear door", (-140.0, 730.0, 700.0), "left", flush=True),
        gap("front door sill", "front door", "", (300.0, 720.0, 240.0), "down"),
        gap("front door roof", "front door", "", (200.0, 690.0, 1300.0), "up"),
        gap("wing door low", "wing", "front door", (870.0, 720.0, 420.0), "rearward"),
        gap("wing door high", "wing", "front door", (870.0, 700.0, 850.0), "rearward"),
        gap("wing lamp", "wing", "", (1900.0, 640.0, 700.0), "forward"),
        gap("lid wing front", "lid", "wing", (1700.0, 620.0, 900.0), "left"),
        gap("lid wing rear", "lid", "wing", (1000.0, 600.0, 920.0), "left"),
        gap("lid nose", "lid", "", (1950.0, 0.0, 800.0), "forward"),
        gap("lid right", "lid", "", (1500.0, -610.0, 900.0), "right"),
    ),
)


def turned(panel, about, way, mm):
    """How places of one panel move where it turned about one hinge so that its other hinge went `mm` (3)."""
    hinges = {one.id: np.array(one.at) for one in next(p for p in SIDE.panels if p.name == panel).hinges}
    other = next(name for name in hinges if name != about)
    arm = hinges[other] - hinges[about]
    turn = np.cross(arm, np.array(mm)) / float(arm @ arm)
    del way
    return lambda place: np.cross(turn, np.array(place) - hinges[about])


def read(moves, only=None, first=100):
    """Every gap as it is read where panels were moved (by name, a place to its movement)."""
    base, found = facts().gaps[0], []
    for k, one in enumerate(SIDE.gaps):
        if only is not None and only not in (one.panel, one.beside):
            continue
        by = sum(
            (sign * moves[name](one.at) for name, sign in ((one.panel, 1.0), (one.beside, -1.0)) if name in moves),
            np.zeros(3),
        )
        mm = round(one.target_mm - float(np.array(WAYS[one.way]) @ by), 1)
        found.append(
            base.model_copy(
                update={
                    "id": first + k,
                    "place": one.place,
                    "mm": mm,
                    "target_mm": one.target_mm,
                    "tolerance_mm": 1.0,
                    "by": who(first),
                }
            )
        )
    return tuple(found)


BENT = {"front door": turned("front door", "lower", "", (-2.2, 0.0, 0.0))}
"""The upper hinge of the front door is bent rearward."""


def bent():
    return facts(gaps=read(BENT), said=(said(SIDE),))


def test_panels_out_by_one_bent_hinge_name_that_panel_alone() -> None:
    states = gap_states(bent())
    out = {
        name
        for s in states
        if s.last and abs(s.last.mm - s.said.target_mm) > 1
        for name in (s.said.panel, s.said.beside)
    }
    assert {"rear door", "front door", "wing"} <= out, "its neighbours' gaps are out with it"
    face = face_of(bent(), "rack", thread_mm=1.25, shim_mm=0.5)
    assert [step.panel for step in face.steps] == ["front door"]
    assert set(face.alone) == {"rear door", "wing", "lid"}
    assert face.hung.touch.proven
    assert all(face.steps[0].within.values())
    (move,) = (one for one in face.steps[0].moves if one.hinge == "upper" and one.axis == "length")
    assert 1.0 < move.mm < 4.0
    assert move.turns == pytest.approx(move.mm / 1.25)
    assert move.shims == pytest.approx(move.mm / 0.5)
    assert face.steps[0].gaps["doors high"] == pytest.approx(face.gap("doors high")[0])


def test_a_gap_that_two_panels_share_is_called_once_and_both_have_it() -> None:
    states = {panel.said.name: panel for panel in panel_states(bent(), "rack")}
    for name in ("front door", "rear door"):
        assert "doors low" in {state.place for state in states[name].gaps}
    together = {gap.id: gap for gap in states["rear door"].hung.gaps}
    assert together["doors high"].predicted_mm == pytest.approx(4.0, abs=3.0)


def set_so(job, moves, again):
    """The job after the first step was set and its gaps read again."""
    face = face_of(job, "rack")
    step = face.steps[0]
    deed = DoneFact(
        id=1,
        kind="hung",
        what=Hung(panel=step.panel, moves=face.moves(step.panel), predicted=dict(step.gaps)),
        by=who(200),
    )
    return facts(gaps=(*job.gaps, *read(moves, again, first=300)), said=(said(SIDE),), done=(deed,))


def test_after_a_step_it_says_whether_it_went_as_predicted() -> None:
    face = face_of(bent(), "rack")
    moved = hinges_moved("front door", face)
    both = {"front door": lambda place: BENT["front door"](place) + moved(place)}
    went = face_of(set_so(bent(), both, "front door"), "rack")
    assert went.hung.verdict == "as_is"
    assert [one.after.went for one in went.went] == ["as_predicted"]
    waits = face_of(set_so(bent(), both, "lid"), "rack")
    assert waits.went[0].after is None
    assert "doors high" in waits.unread


def hinges_moved(panel, face):
    """How places of a panel move where it is set as its step says: the rigid motion of its hinges' moves and its gaps' change."""
    hinges = {one.id: np.array(one.at) for one in next(p for p in SIDE.panels if p.name == panel).hinges}
    middle = np.mean(list(hinges.values()), axis=0)

    def moves(place):
        return np.hstack([np.eye(3), np.cross(np.eye(3), np.array(place) - middle).T])

    rows, wanted = [moves(at) for at in hinges.values()], [face.moves(panel)[name] for name in hinges]
    stands = {state.place: state.rack.mm for state in gap_states(bent())}
    for one in SIDE.gaps:
        if panel in (one.panel, one.beside):
            normal = (1.0 if one.panel == panel else -1.0) * np.array(WAYS[one.way])
            rows.append((normal @ moves(one.at))[None])
            wanted.append([stands[one.place] - face.steps[0].gaps[one.place]])
    x = np.linalg.lstsq(np.vstack(rows), np.concatenate(wanted), rcond=None)[0]
    return lambda place: moves(place) @ x


def again(panel, by_place):
    """Gaps of a panel read `by_place` otherwise than predicted."""
    own = [one for one in SIDE.gaps if panel in (one.panel, one.beside)]
    random, found = np.random.default_rng(4), []
    for one in own:
        sign = 1.0 if one.panel == panel else -1.0
        normal = sign * np.array(WAYS[one.way])
        off = by_place(one, normal) + float(random.normal(0, 0.2))
        found.append(GapAgain(one.place, one.at, tuple(normal), one.target_mm, one.target_mm + off))
    return found


@pytest.mark.parametrize("bad", ["lower", "upper"])
def test_a_hinge_that_gave_is_told_from_a_structure_that_is_out(bad) -> None:
    panel = next(one for one in SIDE.panels if one.name == "front door")
    stays = "upper" if bad == "lower" else "lower"
    gave = turned("front door", stays, "", (2.5, 0.0, 0.0))
    found = after_setting(hinges_of(panel), again("front door", lambda one, normal: -float(normal @ gave(one.at))))
    assert (found.went, found.hinge) == ("hinge", bad)
    assert found.chance > 0.9
    out = after_setting(
        hinges_of(panel), again("front door", lambda one, normal: -2.8 if abs(normal[0]) > 0.5 else 0.0)
    )
    assert out.went == "structure", "narrower fore and aft: no turn of the panel does that"
    assert out.hinge is None
    quiet = after_setting(hinges_of(panel), again("front door", lambda one, normal: 0.0))
    assert quiet.went == "as_predicted"


def test_the_face_is_drawn_with_what_is_out_by_sign_and_word() -> None:
    drawn = face_drawing(SIDE, gap_states(bent()), "rack", ["front door"])
    assert "from the left" in drawn and "from above" in drawn
    assert drawn.count('class="face-panel loosen"') == 1 and drawn.count('class="face-panel alone"') == 3
    assert "wide" in drawn and "tight" in drawn
    assert "front door: loosen" in drawn
    assert face_drawing(FitSaid(), (), "rack", []) == ""


def test_without_hinges_there_is_no_face_and_without_readings_it_says_what_to_read() -> None:
    bare = SIDE.model_copy(update={"panels": tuple(p.model_copy(update={"hinges": ()}) for p in SIDE.panels)})
    assert face_of(facts(said=(said(bare),)), "rack") is None
    unread = face_of(facts(gaps=(), said=(said(SIDE),)), "rack")
    assert unread.hung is None and "Read the gaps" in unread.why
    assert len(unread.unread) == len(SIDE.gaps)


@pytest.mark.parametrize(
    ("change", "field"),
    [({"beside": "boot"}, "gap-3-beside"), ({"beside": "front door"}, "gap-3-beside"), ({"panel": ""}, "gap-3-panel")],
)
def test_a_neighbour_that_cannot_be_is_refused_beside_its_field(change, field) -> None:
    gaps = list(SIDE.gaps)
    gaps[3] = gaps[3].model_copy(update=change)
    with pytest.raises(Refused) as refused:
        check_fit_said(SIDE.model_copy(update={"gaps": tuple(gaps)}))
    assert refused.value.field == field
