"""What can move in a job, and what each kind of move makes old: the set-up, readings of points, spans, gaps, and hold points.

Common practice, no source: whatever may shift metal makes everything old that was read before it.
"""

from collections.abc import Sequence
from typing import Literal, NamedTuple

from fairsquare.job.facts.setup import Moved


class MoveKind(NamedTuple):
    """A kind of move: what it is called, what is said of it where nobody says more, and what it makes old.

    `voids` the set-up in force; `points`, `spans`, `gaps` that were read before; `reopens` hold points that were signed before (of
    those that stand on readings).
    """

    title: str
    usual: str
    voids: bool = False
    points: bool = True
    spans: bool = True
    gaps: bool = True
    reopens: frozenset[str] = frozenset()


_FIT = frozenset({"fit_accepted", "released"})
_METAL = _FIT | {"pulls_done"}

MOVES: dict[Moved, MoveKind] = {
    "vehicle": MoveKind(
        "the vehicle was moved", "the vehicle was moved", voids=True, reopens=frozenset({"fit_accepted"})
    ),
    "bench": MoveKind(
        "the bench was moved",
        "the bench was moved",
        voids=True,
        spans=False,
        gaps=False,
        reopens=frozenset({"fit_accepted"}),
    ),
    "bridge": MoveKind(
        "the measuring bridge was moved",
        "the bridge was moved",
        voids=True,
        spans=False,
        gaps=False,
        reopens=frozenset({"fit_accepted"}),
    ),
    "structure": MoveKind("the structure was pulled or worked on", "the structure was worked on", reopens=_METAL),
    "heat": MoveKind("metal was heated", "metal was heated", reopens=_METAL),
    "cut": MoveKind("something was cut", "something was cut", reopens=_FIT),
    "clamp": MoveKind("a clamp was set or taken off", "a clamp was set or taken off", reopens=_FIT),
    "hinge": MoveKind("a hinge was moved", "a hinge was moved", reopens=_FIT),
    "heavy": MoveKind(
        "a heavy part or a brace came out or went in", "a heavy part or a brace came out or went in", reopens=_METAL
    ),
    "foam": MoveKind("foam was let in: it swells", "foam was let in", reopens=_FIT),
    "drop": MoveKind("the vehicle was dropped", "the vehicle was dropped", voids=True, reopens=_METAL),
    "lowered": MoveKind(
        "it was let down on its wheels", "it was let down on its wheels", points=False, spans=False, gaps=False
    ),
    "holder": MoveKind(
        "what only held the part came off, as planned",
        "what only held the part came off",
        points=False,
        spans=False,
        gaps=False,
    ),
    "welded": MoveKind("final welding is done", "final welding is done", reopens=frozenset({"released"})),
    "sight": MoveKind(
        "gauges or line were set anew", "gauges or line were set anew", points=False, spans=False, gaps=False
    ),
}
SIMPLE: tuple[Moved, ...] = (
    "structure",
    "clamp",
    "cut",
    "heat",
    "hinge",
    "heavy",
    "foam",
    "drop",
    "vehicle",
    "bench",
    "bridge",
    "sight",
)
"""What a person may simply record; `lowered`, `holder` and `welded` have conditions of their own."""
RESHAPES: frozenset[Moved] = frozenset({"structure", "heat"})
"""What changes the shape that the damage is read from: it is read from what was measured before."""
REFIT_NEEDED: frozenset[Moved] = frozenset(what for what, kind in MOVES.items() if kind.voids)
"""What, when moved, makes a set-up void."""


class Mark(NamedTuple):
    """When something last became old: the UTC moment, empty where it never did, and the last id that was there by then.

    The moment catches what was called out before and recorded after; the id what was recorded before, whatever the time was.
    """

    at: str = ""
    last: int = 0

    def is_past(self, at: str, number: int) -> bool:
        """Say whether something of that moment and id is from before the mark."""
        return (bool(self.at) and at <= self.at) or number <= self.last


class LastMoves(NamedTuple):
    """When points, spans and gaps last became old."""

    points: Mark
    spans: Mark
    gaps: Mark


class MoveMade(NamedTuple):
    """A move with its moment, and the last reading and gap before it."""

    what: Moved
    at: str
    after_reading: int
    after_gap: int


def last_moves(moves: Sequence[MoveMade]) -> LastMoves:
    """Return when what was read before became old, from every move."""

    def mark(field: Literal["points", "spans", "gaps"]) -> Mark:
        own = [move for move in moves if getattr(MOVES[move.what], field)]
        last = [move.after_gap if field == "gaps" else move.after_reading for move in own]
        return Mark(max((move.at for move in own), default=""), max(last, default=0))

    return LastMoves(mark("points"), mark("spans"), mark("gaps"))
