"""Texts on a drawing, put where none lies on another, on a mark, or over the edge."""

from collections.abc import Iterable
from typing import Literal, NamedTuple

Anchor = Literal["start", "middle", "end"]
LETTER, IN_WORDS = 0.62, 0.46
"""How wide a letter is on the average, in sizes of its type: of codes and figures, and of sentences. Measured of the fonts that the
pages carry, rounded up."""
_ABOVE, _BELOW, _BETWEEN = 0.78, 0.22, 1.5


class Box(NamedTuple):
    """A rectangle on the page, px."""

    left: float
    top: float
    right: float
    bottom: float

    def shared(self, other: "Box") -> float:
        """Return the area that two boxes share, px²."""
        wide = min(self.right, other.right) - max(self.left, other.left)
        high = min(self.bottom, other.bottom) - max(self.top, other.top)
        return max(wide, 0.0) * max(high, 0.0)


class Spot(NamedTuple):
    """Where a text may stand: the point it is set at, on its foot line, and which part of it stands there."""

    x: float
    y: float
    anchor: Anchor = "middle"


def round_mark(x: float, y: float, half: float) -> Box:
    """Return the box of a mark."""
    return Box(x - half, y - half, x + half, y + half)


def text_box(spot: Spot, words: str, size: float, letter: float = LETTER) -> Box:
    """Return the box that words of a size (px) take at a spot."""
    wide = len(words) * size * letter
    left = spot.x - {"start": 0.0, "middle": wide / 2, "end": wide}[spot.anchor]
    return Box(
        left - _BETWEEN, spot.y - _ABOVE * size - _BETWEEN, left + wide + _BETWEEN, spot.y + _BELOW * size + _BETWEEN
    )


def _covered(box: Box, standing: Iterable[Box]) -> float:
    """Return the area of a box that others share with it, px². Nearly all lie apart: that is looked at first."""
    left, top, right, bottom = box
    return sum(
        (min(right, other_right) - max(left, other_left)) * (min(bottom, other_bottom) - max(top, other_top))
        for other_left, other_top, other_right, other_bottom in standing
        if other_left < right and other_right > left and other_top < bottom and other_bottom > top
    )


class Labels:
    """What stands on a drawing so far; each text is put where it shares the least with what stands, and stands there then."""

    def __init__(self, edge: Box, standing: Iterable[Box] = ()) -> None:
        self._edge, self._standing = edge, list(standing)

    def keep_off(self, box: Box) -> None:
        """Let no later text lie on a box."""
        self._standing.append(box)

    def put(self, words: str, size: float, spots: Iterable[Spot]) -> Spot:
        """Return the first of the spots at which the words are clear of all that stands, or the clearest of them. Raises
        `ValueError` where there is none."""
        best: tuple[float, Spot, Box] | None = None
        for spot in spots:
            box = text_box(spot, words, size)
            inside = box.shared(self._edge)
            lost = (box.right - box.left) * (box.bottom - box.top) - inside
            shared = lost + _covered(box, self._standing)
            if best is None or shared < best[0]:
                best = shared, spot, box
            if shared == 0:
                break
        if best is None:
            raise ValueError("a text needs a spot to stand at")
        self._standing.append(best[2])
        return best[1]
