"""What can move in a job, and what each kind of move makes old: the set-up, readings of points, spans, gaps, and hold points.

Common practice, no source: whatever may shift metal makes everything old that was read before it.
"""

from typing import Literal, NamedTuple

Moved = Literal[
    "vehicle",
    "bench",
    "bridge",
    "structure",
    "sight",
    "clamp",
    "cut",
    "heat",
    "hinge",
    "heavy",
    "foam",
    "drop",
    "lowered",
    "holder",
    "welded",
]


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


class LastMoves(NamedTuple):
    """When points, spans and gaps last became old: UTC moments, empty where they never did."""

    points: str
    spans: str
    gaps: str


def last_moves(moves: list[tuple[Moved, str]]) -> LastMoves:
    """Return when what was read before became old, from every move and its moment."""

    def last(field: Literal["points", "spans", "gaps"]) -> str:
        return max((at for what, at in moves if getattr(MOVES[what], field)), default="")

    return LastMoves(last("points"), last("spans"), last("gaps"))
