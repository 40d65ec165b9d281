"""How much room a page's drawings have: they are laid out for the width of the window, not shrunk to it.

The page's script says how wide its window is (cookie `window_px`) and asks for the drawings anew where that changes.
"""

from fastapi import Request

COOKIE = "window_px"
DESK_PX = 1280
_LEAST, _BESIDE, _MOST = 280.0, 560.0, 760.0
_TELEPHONE_PX, _TABLET_PX = 640, 1000
_TELEPHONE_EDGE, _TABLET_EDGE, _DESK_EDGE = 56, 232, 662


def window_px(request: Request) -> int:
    """Return how wide the window is that asks, px; that of a desk where it has not said so."""
    kept = request.cookies.get(COOKIE, "")
    plain = kept.isascii() and kept.isdigit() and len(kept) <= 4
    return min(max(int(kept), 240), 4000) if plain else DESK_PX


def whole_px(request: Request) -> float:
    """Return how wide a drawing is that has a page to itself, px: what the spine leaves."""
    window = window_px(request)
    return max(float(window - (_TELEPHONE_EDGE if window <= _TELEPHONE_PX else _TABLET_EDGE)), _LEAST)


def beside_px(request: Request) -> float:
    """Return how wide a drawing is between two others at the foot of a page without a spine, px."""
    window = window_px(request)
    return max(float(window - _TELEPHONE_EDGE), _LEAST) if window <= _TELEPHONE_PX else _BESIDE


def drawing_px(request: Request) -> float:
    """Return how wide a drawing in the main column of a page is, px: what the spine and, on a desk, the column beside it leave."""
    window = window_px(request)
    edge = _TELEPHONE_EDGE if window <= _TELEPHONE_PX else _TABLET_EDGE if window <= _TABLET_PX else _DESK_EDGE
    return min(max(float(window - edge), _LEAST), _MOST)
