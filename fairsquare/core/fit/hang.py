"""Hanging a panel: how far to move which hinge so that its gaps come right, and when no adjustment can help."""

from typing import Annotated

import numpy as np
from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.fit.hanging import (
    GapPredicted,
    Hanging,
    HangVerdict,
    Hinge,
    Ranges,
    check_hinges,
    check_normals,
    check_once,
    gaps_told,
    hinges_at,
    moves_at,
    moves_told,
    ranges_told,
    units_of,
)
from fairsquare.core.model import Code, Many, Millimetres, Model, Vector


class PanelGap(Model):
    """A gap at a place: its `normal` points from the panel to its neighbour. Flushness is a gap out of the surface, target 0."""

    id: Code
    at: Vector
    normal: Vector
    mm: Millimetres
    target_mm: Millimetres
    tolerance_mm: Annotated[float, Field(gt=0, le=1e6)]


class HangPanel(Model):
    """A panel on its hinges, and its gaps as they were read."""

    hinges: Many[Hinge]
    gaps: Many[PanelGap]


class PanelHung(Model):
    """How far each hinge is moved (length, width, height), what the gaps become, and what would be needed where that is not enough.

    `needed`: the ranges, each holding the given one, that would let every gap in with the least widening.
    """

    moves: dict[Code, tuple[float, float, float]]
    gaps: tuple[GapPredicted, ...]
    verdict: HangVerdict
    needed: Ranges | None = None
    needed_mm: float | None = None


def hang_panel(request: HangPanel) -> PanelHung:
    """Say how to move a panel's hinges. Raises `Refused` for a range that does not hold 0, a zero normal, no hinge, no gap."""
    check_hinges(request.hinges, "A panel", "hinges")
    if not request.gaps:
        raise Refused("Without a gap there is nothing to hang it by.", field="gaps", value=[])
    check_once([gap.id for gap in request.gaps], "gaps")
    check_normals([gap.normal for gap in request.gaps])
    middle, hinges, low, high = hinges_at(request.hinges)
    arms = np.array([gap.at for gap in request.gaps], dtype=float) - middle
    panel = Hanging(
        hinges,
        low,
        high,
        np.einsum("gi,gij->gj", units_of([gap.normal for gap in request.gaps]), moves_at(arms)),
        np.array([gap.mm for gap in request.gaps]),
        np.array([gap.target_mm for gap in request.gaps]),
        np.array([gap.tolerance_mm for gap in request.gaps]),
    )
    verdict, x = panel.hung()
    needed = panel.widened() if verdict == "structure" else None
    return PanelHung(
        moves=moves_told(request.hinges, panel.moved(x)),
        gaps=gaps_told(panel, [gap.id for gap in request.gaps], panel.predicted(x)),
        verdict=verdict,
        needed=ranges_told(request.hinges, needed.low, needed.high) if needed else None,
        needed_mm=needed.by_mm if needed else None,
    )
