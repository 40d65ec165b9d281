"""What the pull board says: the one word that is read from five metres, and why. Page, API and whoever stands in read the same."""

from typing import NamedTuple

from fairsquare.core.pull.job import BOARD_WORDS, UNDER_LOAD
from fairsquare.job.facts.setup import MovementFact
from fairsquare.job.pull.board import Board
from fairsquare.job.pull.full import Fullest


class Verdict(NamedTuple):
    """The word of the board and what stands small beside it.

    `stop`: let go at once, whatever else is so. `again`: another cycle of this pull may follow.
    """

    word: str
    why: str
    stop: bool
    again: bool


def verdict_of(board: Board, gear: Fullest | None, void: MovementFact | None) -> Verdict:
    """Return what the board says: first of a set-up that is `void`, then of the gear that is full, then of the points."""
    word, why = _void_say(board, void) or _full_say(board, gear) or _say(board, gear)
    under_load = board.state in UNDER_LOAD
    stop = (
        board.state == "stopped"
        or (under_load and gear is not None and gear.full)
        or (under_load and void is not None)
        or any(point.passed for point in board.points)
    )
    return Verdict(word, why, stop, board.again and not (gear and gear.let_go))


def _full_say(board: Board, gear: Fullest | None) -> tuple[str, str] | None:
    """Return what is said when the force as read nearly fills the weakest link, or fills it: no more, whatever the points say."""
    if gear is None or board.state not in UNDER_LOAD or board.state == "stopped":
        return None
    if gear.full:
        return "STOP", f"{gear.name} is at {gear.use:.0%} of what it takes: no more, let go"
    passed = any(point.passed for point in board.points)
    if gear.let_go and board.state == "pulling" and not passed:
        return "LET GO", f"{gear.name} is at {gear.use:.0%} of what it takes: let go, then read free"
    return None


def _void_say(board: Board, void: MovementFact | None) -> tuple[str, str] | None:
    """Return what is said when the set-up is void in the middle of a pull, by a clamp that slipped or by any other move."""
    if void is None:
        return None
    if board.state in UNDER_LOAD:
        return "STOP", f"{void.words}. Let go, look at every clamp"
    return "SET UP AGAIN", f"{void.words}: what was read with the old set-up says nothing of where it stands"


def _why_let_go(board: Board) -> str:
    """Return why it is let go now: all are far enough, or one may go no farther while others are short."""
    aims = [point for point in board.points if point.advice and point.advice.pull_to_mm is not None]
    short = [point.watched.code for point in aims if not point.reached]
    full = [point.watched.code for point in board.points if point.full]
    if not short or not full:
        return "far enough: let go, then read free"
    return f"{', '.join(full)} may go no farther, {', '.join(short)} or not: let go, then read free"


def _onward(board: Board, gear: Fullest | None) -> str:
    """Return what to do after a cycle, as its points stand free."""
    short = [point.watched.code for point in board.points if point.short]
    home = [point.watched.code for point in board.points if point.at_home]
    if not short:
        return "close the cycle"
    if board.spoiled:
        were = "was fair and is" if len(board.spoiled) == 1 else "were fair and are"
        return f"{', '.join(short)} short, but {', '.join(board.spoiled)} {were} off now: end this pull, plan the rest"
    if not home and gear and gear.let_go:
        return f"{', '.join(short)} short, and {gear.name} can give no more: end this pull, plan the rest"
    if not home:
        return f"{', '.join(short)} short, pull again"
    return f"{', '.join(short)} short, but {', '.join(home)} would go past home: end this pull, plan the rest"


def _say(board: Board, gear: Fullest | None) -> tuple[str, str]:
    """Return the word of the board, and what stands small beside it."""
    if any(point.passed for point in board.points) or board.state == "stopped":
        passed = [point.watched.code for point in board.points if point.passed]
        return (
            "STOP",
            f"{', '.join(passed)} past the limit: let go" if passed else "say why, look, then go on or let go",
        )
    advice = [point.advice.advice for point in board.points if point.advice]
    if board.state == "pulling":
        if board.let_go:
            return "LET GO", _why_let_go(board)
        if "relieve" in advice:
            return "RELIEVE", "two pulls brought nothing: stress-relieve, look at the anchors, before more force"
        left = [
            (point.advice.pull_to_mm - point.now_mm, point.watched.code)
            for point in board.points
            if point.advice and point.advice.pull_to_mm is not None and point.now_mm is not None
        ]
        return (
            "PULL ON, SLOWLY",
            f"{max(left)[0]:.1f} mm to go at {max(left)[1]}" if left else "no reading under load yet",
        )
    if board.state == "read_free":
        unread = [point.watched.code for point in board.points if point.now_mm is None]
        return (
            "READ FREE",
            f"read {', '.join(unread)} free" if unread else f"all watched points are read: {_onward(board, gear)}",
        )
    return {
        "cautions": ("BEFORE TENSION", "tick each by hand, each time"),
        "test": ("LIGHT TEST PULL", "pump, ram and chain move, oil is high enough; then look at every clamp"),
        "look": ("LOOK AT EVERY CLAMP", "again, now that there was tension on them"),
        "hold": ("HOLD", "chains stay tight; nobody in line with one"),
        "relieve": ("RELIEVE", "hammer with a dolly round the buckle, under tension"),
    }.get(board.state, (BOARD_WORDS[board.state].upper(), ""))
