"""The square, which is the sign of a point's state: a shape first, a colour second.

Fair: upright, outline only. Close: upright, half filled. Off: filled, and leaning the way the point has moved, more for
more. Unread: dotted.
"""

import math

from markupsafe import Markup

from fairsquare.core.measure.conformity import State

HALF = 5.5
_MOST_LEAN = 9.0
_LEAN_OF_MM = 3.0


def square(x: float, y: float, half: float = HALF) -> str:
    """Return the path of an upright square about (x, y)."""
    return f"M{x - half:.1f} {y - half:.1f}h{2 * half:.1f}v{2 * half:.1f}h{-2 * half:.1f}z"


def prism(home: tuple[float, float], moved: tuple[float, float], half: float = HALF) -> str:
    """Return the path of the edges from an upright square about `home` to the one about `moved`."""
    edges = "".join(
        f"M{home[0] + sx:.1f} {home[1] + sy:.1f}L{moved[0] + sx:.1f} {moved[1] + sy:.1f}"
        for sx in (-half, half)
        for sy in (-half, half)
    )
    return square(*home, half) + edges


def marks(state: State, x: float, y: float) -> str:
    """Return the shape of a state about (x, y); an off point's prism is drawn apart."""
    if state == "close":
        half = f"M{x - HALF:.1f} {y + HALF:.1f}h{2 * HALF:.1f}v{-2 * HALF:.1f}z"
        return f'<path class="s-frame" d="{square(x, y)}"/><path class="s-half" d="{half}"/>'
    return f'<path class="s-frame" d="{square(x, y)}"/>'


def sign(state: State, right_mm: float = 0.0, down_mm: float = 0.0) -> Markup:
    """Return the sign for a line of text; an off point leans by its movement to the right and down on the page."""
    middle = 14.0
    body = marks(state, middle, 10.0)
    if state == "off":
        size = math.hypot(right_mm, down_mm)
        lean = _MOST_LEAN * (1 - math.exp(-size / (_LEAN_OF_MM * 4))) / size if size else 0.0
        moved = (middle + right_mm * lean, 10.0 + down_mm * lean * 0.45)
        body = f'<path class="s-prism" d="{prism((middle, 10.0), moved)}"/>' + marks(state, *moved)
    return Markup(  # noqa: S704 - numbers and our own words only
        f'<svg class="sign {state}" viewBox="0 0 28 20" width="28" height="20" aria-hidden="true" focusable="false">'
        f"{body}</svg>"
    )
