"""What the pull board says: the one word that is read from five metres, and why. Page, API and whoever stands in read the same."""

from typing import NamedTuple

from fairsquare.core.pull.job import BOARD_WORDS, UNDER_LOAD
from fairsquare.core.said import Said, say
from fairsquare.job.facts.setup import MovementFact
from fairsquare.job.pull.board import Board
from fairsquare.job.pull.full import Fullest


class Verdict(NamedTuple):
    """The word of the board and what stands small beside it.

    `stop`: let go at once, whatever else is so. `again`: another cycle of this pull may follow.
    """

    word: str
    why: Said
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


def _full_say(board: Board, gear: Fullest | None) -> tuple[str, Said] | None:
    """Return what is said when the force as read nearly fills the weakest link, or fills it: no more, whatever the points say."""
    if gear is None or board.state not in UNDER_LOAD or board.state == "stopped":
        return None
    if gear.full:
        return "STOP", say("board.full", gear=gear.name, use=gear.use)
    passed = any(point.passed for point in board.points)
    if gear.let_go and board.state == "pulling" and not passed:
        return "LET GO", say("board.nearly_full", gear=gear.name, use=gear.use)
    return None


def _void_say(board: Board, void: MovementFact | None) -> tuple[str, Said] | None:
    """Return what is said when the set-up is void in the middle of a pull, by a clamp that slipped or by any other move."""
    if void is None:
        return None
    if board.state in UNDER_LOAD:
        return "STOP", say("board.void_under_load", cause=void.words)
    return "SET UP AGAIN", say("board.void", cause=void.words)


def _why_let_go(board: Board) -> Said:
    """Return why it is let go now: all are far enough, or one may go no farther while others are short."""
    aims = [point for point in board.points if point.advice and point.advice.pull_to_mm is not None]
    short = [point.watched.code for point in aims if not point.reached]
    full = [point.watched.code for point in board.points if point.full]
    if not short or not full:
        return say("board.far_enough")
    return say("board.no_farther", full=full, short=short)


def _onward(board: Board, gear: Fullest | None) -> Said:
    """Return what to do after a cycle, as its points stand free."""
    short = [point.watched.code for point in board.points if point.short]
    home = [point.watched.code for point in board.points if point.at_home]
    if not short:
        return say("board.close")
    if board.spoiled:
        return say("board.spoiled", short=short, spoiled=board.spoiled)
    if not home and gear and gear.let_go:
        return say("board.gives_no_more", short=short, gear=gear.name)
    if not home:
        return say("board.again", short=short)
    return say("board.past_home", short=short, home=home)


def _say(board: Board, gear: Fullest | None) -> tuple[str, Said]:
    """Return the word of the board, and what stands small beside it."""
    if any(point.passed for point in board.points) or board.state == "stopped":
        passed = [point.watched.code for point in board.points if point.passed]
        return "STOP", say("board.past_limit", passed=passed) if passed else say("board.stopped")
    advice = [point.advice.advice for point in board.points if point.advice]
    if board.state == "pulling":
        if board.let_go:
            return "LET GO", _why_let_go(board)
        if "relieve" in advice:
            return "RELIEVE", say("board.brought_nothing")
        left = [
            (point.advice.pull_to_mm - point.now_mm, point.watched.code)
            for point in board.points
            if point.advice and point.advice.pull_to_mm is not None and point.now_mm is not None
        ]
        return "PULL ON, SLOWLY", say("board.to_go", left_mm=max(left)[0], code=max(left)[1]) if left else say(
            "board.unread"
        )
    if board.state == "read_free":
        unread = [point.watched.code for point in board.points if point.now_mm is None]
        read = say("board.read_free", codes=unread) if unread else say("board.all_read", onward=_onward(board, gear))
        return "READ FREE", read
    named = {
        "cautions": "BEFORE TENSION",
        "test": "LIGHT TEST PULL",
        "look": "LOOK AT EVERY CLAMP",
        "hold": "HOLD",
        "relieve": "RELIEVE",
    }.get(board.state)
    return (named, say(f"board.{board.state}")) if named else (BOARD_WORDS[board.state].upper(), say("board.nothing"))
