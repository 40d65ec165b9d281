"""What relaxes: a propped cantilever by hand, and the share by scipy's least squares with a prior."""

import numpy as np
import pytest
from scipy import optimize

from fairsquare.core.pull.game import Chain, Game, Rig
from fairsquare.core.pull.relaxing import PRIOR, Relaxed, fitted_share, relaxed_all, taken_along, takes_back
from fairsquare.core.structure.frame import frame_of
from fairsquare.core.structure.skeleton import FrameMember, Skeleton
from tests.core.frames import ALL, bending_only

L, MP = 2000.0, 7e6
SECTION = bending_only(MP)


def propped():
    """A beam of two members, clamped at one end and on a roller at the other, pushed down in the middle until its clamp yields."""
    skeleton = Skeleton(
        nodes={"a": (0.0, 0.0, 0.0), "m": (L / 2, 0.0, 0.0), "b": (L, 0.0, 0.0)},
        members=(
            FrameMember(id="am", i="a", j="m", section="s"),
            FrameMember(id="mb", i="m", j="b", section="s"),
        ),
        sections={"s": SECTION},
        supports={"a": ALL, "b": (False, True, True, True, False, False)},
    )
    rig = Rig(
        towers={"up": ((L / 2, 1.0), (1e6, 1e6), 1e9)},
        hooks={"h": ("m", 1e9)},
        anchors={"a": ("a", 1e12), "b": ("b", 1e12)},
    )
    return Game(frame_of(skeleton), ("M",), ("m",), (None,), ((0.0, 0.0, 0.0),), ((1.0, 1.0, 1.0),), rig)


def test_the_residual_moment_of_a_propped_cantilever_relaxes_by_hand() -> None:
    """Elastic clamp moment 3PL/16: P past 16Mp/3L leaves R = 3PL/16 − Mp at the clamp, falling evenly to the roller. Relaxed as if
    held it turns by R·(L/2)/(4EI); a turn θ at the clamp of a propped beam moves its middle by 3θL/16."""
    game = propped()
    force = 1.08 * 16 * MP / (3 * L)
    played = game.pulled(game.begun(), (Chain("h", "up", 1e6, force),))
    residual = 3 * force * L / 16 - MP
    ei = SECTION.e * SECTION.iy
    turn = residual * (L / 2) / (4 * ei)
    assert played.deviations[0][2] > 0, "drawn up, it stays up"
    back = relaxed_all(game, played)[0]
    assert back[2] == pytest.approx(-3 * turn * L / 16, rel=1e-3)
    assert taken_along(game, played)["M"] == pytest.approx(-back[2], rel=1e-6)


def test_what_never_yielded_keeps_nothing() -> None:
    game = propped()
    played = game.pulled(game.begun(), (Chain("h", "up", 1e6, 0.5 * 16 * MP / (3 * L)),))
    assert np.abs(relaxed_all(game, played)).max() < 1e-9
    assert taken_along(game, played) == {}


def test_the_share_is_least_squares_with_a_prior() -> None:
    random = np.random.default_rng(3)
    would = random.uniform(1, 8, 12)
    did = 0.35 * would + random.normal(0, 0.7, 12)
    found = fitted_share(zip(would, did, strict=True))
    best = optimize.minimize_scalar(
        lambda s: float((((did - s * would) / 0.7) ** 2).sum() + ((s - PRIOR.mean) / PRIOR.sigma) ** 2)
    )
    assert found.mean == pytest.approx(best.x, abs=1e-6)
    assert found.points == 12
    assert abs(found.mean - 0.35) < 3 * found.sigma < 3 * PRIOR.sigma
    assert fitted_share(()) == pytest.approx(PRIOR)
    assert fitted_share([(5.0, -9.0)] * 9).mean == 0.0, "nothing goes on by being driven"


def test_how_sure_what_is_taken_back_is() -> None:
    back = takes_back(5.0, Relaxed(0.3, 0.1, 4))
    assert back.mm == pytest.approx(1.5)
    assert back.sigma_mm == pytest.approx(np.hypot(0.5, 0.4))
