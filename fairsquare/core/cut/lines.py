"""The lines of a joint: where each edge and each saw cut stands on vehicle and donor, and what of the offcut becomes backing."""

import math
from collections.abc import Mapping
from typing import Literal

from fairsquare.core.cut.budget import cut_budget
from fairsquare.core.cut.section import LinesSaid, StripLayer, StripSaid
from fairsquare.core.model import Model

FACE_CLEAR_MM = 3.0
"""How much narrower a backing strip is than its face at each fold, for the radius inside. Common practice, no source."""
Whose = Literal["vehicle", "donor"]


class Backing(Model):
    """A backing strip: how long it is along the member, what it is cut from, and how wide for each face; mm.

    `from_offcut`: the sound part of what comes off is long enough for it.
    """

    length_mm: float
    thickness_mm: float
    widths_mm: dict[str, float]
    sound_mm: float
    from_offcut: bool


class EdgeLine(Model):
    """One edge: the station of its drawn line, of the edge itself and of the middle of the saw cut, mm from the datum.

    `skew_mm`: how much further along the line stands at the far edge of the unrolled width than at its first one. `moved_mm`: by
    how much stations of the strip are further along on this part: a donor that is longer has them there.
    """

    line_mm: float
    edge_mm: float
    blade_mm: float
    skew_mm: float
    moved_mm: float


class LayerLines(Model):
    """The two edges of a layer's joint, and its backing where it has one."""

    layer: str
    vehicle: EdgeLine
    donor: EdgeLine
    backing: Backing | None


def lines_of(strip: StripSaid, said: LinesSaid, cuts: Mapping[str, float]) -> tuple[LayerLines, ...]:
    """Return the lines of every layer that is cut at `cuts`, the donor's as stations from its own datum hole.

    Where only one edge is cut to a line, that is the vehicle's, and the donor's stands on the line itself. Waste lies beyond the
    cut on the vehicle, before it on the donor; offsets of the budget count into the waste. A donor that is longer between its datum
    and its far end is cut so much further along, so that its far end comes to stand as the sheet has it; one that is bent is cut
    askew by as much as its width turns.
    """
    onward = 1.0 if strip.keep == "low" else -1.0
    longer = donor_longer(said)
    lines = []
    for layer in strip.cut:
        at = cuts[layer.id]
        offsets = cut_budget(said.budget(backing=layer.backed)).cut_offsets
        lap = said.overlap_mm if layer.joint == "lap" else 0.0
        edge = 0.0 if lap else offsets.edge_mm
        moved = onward * longer
        own = at + moved - onward * lap
        lines.append(
            LayerLines(
                layer=layer.id,
                vehicle=_edge(at, onward, edge, said, 0.0, 0.0),
                donor=_edge(own, -onward, edge if said.marks == 2 else 0.0, said, _skew(said, layer), moved),
                backing=_backing(strip, said, layer, at) if layer.backed else None,
            )
        )
    return tuple(lines)


def _edge(line: float, into_waste: float, edge: float, said: LinesSaid, skew: float, moved: float) -> EdgeLine:
    blade = edge + said.kerf_mm / 2
    return EdgeLine(
        line_mm=line,
        edge_mm=line + into_waste * edge,
        blade_mm=line + into_waste * blade,
        skew_mm=skew,
        moved_mm=moved,
    )


def donor_longer(said: LinesSaid) -> float:
    """Return how much longer the donor is than the sheet has it, mm; 0 where it was not measured."""
    if said.donor_read_mm is None or said.donor_sheet_mm is None:
        return 0.0
    return said.donor_read_mm - said.donor_sheet_mm


def _skew(said: LinesSaid, layer: StripLayer) -> float:
    if not said.bend_over_mm or not layer.faces:
        return 0.0
    return layer.width_mm * math.tan(math.atan2(said.bend_mm, said.bend_over_mm))


def _backing(strip: StripSaid, said: LinesSaid, layer: StripLayer, at: float) -> Backing:
    low, high = layer.damage or (at, at)
    sound = low - at if strip.keep == "low" else at - high
    gap = cut_budget(said.budget(backing=True)).cut_offsets.edge_mm * -said.marks
    length = 2 * said.overlap_mm + gap
    widths = {face.name: max(face.width_mm - 2 * FACE_CLEAR_MM, 0.0) for face in layer.faces}
    return Backing(
        length_mm=length,
        thickness_mm=layer.thickness_mm,
        widths_mm=widths,
        sound_mm=max(sound, 0.0),
        from_offcut=sound >= length,
    )
