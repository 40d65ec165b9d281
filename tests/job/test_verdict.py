"""The word of the pull board: a void set-up before the gear, the gear before the points; STOP never hides."""

import pytest

from fairsquare.core.pull.job import Watched
from fairsquare.core.pull.springback import PullAdvised
from fairsquare.job.facts.setup import MovementFact
from fairsquare.job.pull.board import Board, WatchedNow, spoiled_points
from fairsquare.job.pull.full import Fullest
from fairsquare.job.pull.verdict import verdict_of
from fairsquare.stand_ins.vehicles import DUNLIN
from fairsquare.words.tell import tell
from tests.job.facts import movement


def point(code: str, now: float | None, *, loaded: bool = True, pull_to: float | None = 4.0, advice: str = "pull"):
    """A point to be pulled from −10 to 0 ± 1 mm, let go at `pull_to`, that must not pass 7."""
    watched = Watched(code=code, way=(1.0, 0.0, 0.0), target_mm=0.0, tolerance_mm=1.0, was_mm=-10.0)
    advised = PullAdvised(
        pull_to_mm=pull_to,
        must_not_pass_mm=7.0,
        expected_after_mm=0.0,
        return_mm=4.0,
        return_sigma_mm=0.5,
        advice=advice,
    )
    return WatchedNow(watched, now, loaded, None, None, advised, (), -10.0)


def board(state: str, *points: WatchedNow, spoiled: tuple[str, ...] = ()) -> Board:
    return Board(None, 1, state, 1, points, (), spoiled)


def said(
    state: str,
    *points: WatchedNow,
    gear: float | None = None,
    void: MovementFact | None = None,
    spoiled: tuple[str, ...] = (),
):
    return verdict_of(
        board(state, *points, spoiled=spoiled), None if gear is None else Fullest("front hook", gear), void
    )


A, B = point("A", 1.5), point("B", -2.0)


@pytest.mark.parametrize(
    ("found", "word", "why"),
    [
        (said("pulling", A, B), "PULL ON, SLOWLY", "6.0 mm to go at B"),
        (said("pulling", point("A", None)), "PULL ON, SLOWLY", "no reading under load yet"),
        (said("pulling", point("A", 4.1), point("B", 4.2)), "LET GO", "far enough"),
        (said("pulling", point("A", 6.9), B), "LET GO", "A may go no farther, B or not"),
        (said("pulling", point("A", 1.0, advice="relieve")), "RELIEVE", "two pulls brought nothing"),
        (said("pulling", point("A", 7.1), B), "STOP", "A past the limit: let go"),
        (said("stopped", A), "STOP", "say why, look"),
        (said("pulling", A, gear=0.97), "LET GO", "front hook is at 97% of what it takes: let go, then read free"),
        (said("pulling", point("A", 7.1), gear=0.97), "STOP", "A past the limit"),
        (said("hold", A, gear=1.01), "STOP", "front hook is at 101% of what it takes: no more, let go"),
        (said("hold", A, gear=0.97), "HOLD", "chains stay tight"),
        (said("look", A, void=movement("clamp")), "STOP", "the clamp was moved. Let go, look at every clamp"),
        (said("read_free", A, void=movement("clamp")), "SET UP AGAIN", "says nothing of where it stands"),
        (said("read_free", point("A", None)), "READ FREE", "read A free"),
        (said("read_free", point("A", -3.0, loaded=False)), "READ FREE", "A short, pull again"),
        (said("read_free", point("A", -3.0, loaded=False), gear=0.96), "READ FREE", "front hook can give no more"),
        (
            said("read_free", point("A", -3.0, loaded=False), point("B", 0.5, loaded=False)),
            "READ FREE",
            "but B would go past home",
        ),
        (said("read_free", point("A", 0.2, loaded=False)), "READ FREE", "close the cycle"),
        (
            said("read_free", point("A", -3.0, loaded=False), spoiled=("C", "D")),
            "READ FREE",
            "A short, but C, D were fair and are off now: end this pull, plan the rest",
        ),
        (said("cautions", A), "BEFORE TENSION", "tick each by hand"),
    ],
)
def test_the_word_and_why(found, word, why) -> None:
    assert found.word == word
    assert why in tell(found.why)


def test_stop_is_told_by_itself_and_goes_with_its_word() -> None:
    stops = [
        said("stopped", A),
        said("pulling", point("A", 7.1)),
        said("test", A, gear=1.2),
        said("hold", A, void=movement("clamp")),
    ]
    assert [(one.stop, one.word) for one in stops] == [(True, "STOP")] * 4
    goes_on = [said("pulling", A), said("read_free", A, gear=1.2), said("read_free", A, void=movement("clamp"))]
    assert not any(one.stop for one in goes_on)


def test_it_is_pulled_again_only_where_that_brings_something() -> None:
    short = point("A", -3.0, loaded=False)
    assert said("read_free", short).again
    assert not said("read_free", short, gear=0.96).again, "the gear can give no more"
    assert not said("read_free", short, point("B", 0.5, loaded=False)).again


def test_a_pull_that_took_a_fair_point_out_is_not_pulled_again() -> None:
    short = point("A", -3.0, loaded=False)
    assert said("read_free", short).again
    assert not said("read_free", short, spoiled=("C",)).again


@pytest.mark.parametrize(
    ("before", "now", "spoiled"),
    [
        ((0.0, 1.9, 0.0), (0.0, 3.1, 0.0), True),
        ((0.0, 2.9, 0.0), (0.0, 3.1, 0.0), False),
        ((0.0, 3.5, 0.0), (0.0, 5.5, 0.0), False),
        ((0.0, 0.0, 0.0), (1.0, 2.9, -2.9), False),
    ],
    ids=["out", "read anew", "off before", "moved, and fair"],
)
def test_a_point_is_spoiled_where_it_was_fair_and_is_off(before, now, spoiled) -> None:
    at = {one.code: one.xyz for one in DUNLIN.sheet.points}
    stood, stands = (({"F4L": tuple(map(sum, zip(at["F4L"], by, strict=True)))}) for by in (before, now))
    assert spoiled_points(DUNLIN.sheet, stood, stands) == (("F4L",) if spoiled else ())
