"""A template at true size: what is drawn on it, in mm, and how it is divided over sheets of paper.

`u` runs along the member with the stations, `v` across its unrolled width from the first edge of its first face.
"""

import math
from collections.abc import Mapping, Sequence
from typing import Literal, NamedTuple

from fairsquare.core.cut.lines import EdgeLine, LayerLines, Whose
from fairsquare.core.cut.section import FEATURES, StripLayer, StripSaid, WeldSaid, WeldsSaid
from fairsquare.core.cut.working import HOLED, mapped_welds
from fairsquare.core.errors import Refused

Pen = Literal["outline", "fold", "line", "edge", "blade", "drill", "feature", "datum", "check", "text"]
PENS: tuple[Pen, ...] = ("outline", "fold", "line", "edge", "blade", "drill", "feature", "datum", "check", "text")
PEN_WORDS: dict[Pen, str] = {
    "outline": "edge of the metal",
    "fold": "fold",
    "line": "the line that is drawn",
    "edge": "where the edge stands",
    "blade": "middle of the saw cut",
    "drill": "drill",
    "feature": "holes and brackets that are there",
    "datum": "datum",
    "check": "bar to check the printer by",
    "text": "words",
}
CHECK_MM = 100.0
USUAL_WIDTH_MM = 60.0
"""The unrolled width that is drawn where nobody said how wide the faces are."""
_BESIDE_MM = 120.0
_TICK_MM = 6.0
_UNDER_MM = 25.0
_SMALL_MM, _LETTER = 4.0, 0.5
_NAME_MM = 10.0
"""What is left on a sheet below the template, for its name."""
MOST_MM = 20_000.0
Point = tuple[float, float]


class Stroke(NamedTuple):
    """A straight line, from a to b."""

    pen: Pen
    a: Point
    b: Point


class Ring(NamedTuple):
    """A circle."""

    pen: Pen
    middle: Point
    radius: float


class Label(NamedTuple):
    """Words whose foot stands at a point; how high the letters are."""

    pen: Pen
    at: Point
    high: float
    words: str


class Template(NamedTuple):
    """What is drawn, and the rectangle that holds it: `low` and `high` in u and v."""

    title: str
    shapes: tuple[Stroke | Ring | Label, ...]
    low: Point
    high: Point

    @property
    def size(self) -> Point:
        """How long and wide it is, mm."""
        return self.high[0] - self.low[0], self.high[1] - self.low[1]


class Paper(NamedTuple):
    """A sheet of paper, lying: how wide and high it is, mm."""

    name: str
    width: float
    height: float


PAPERS: dict[str, Paper] = {"A4": Paper("A4", 297.0, 210.0), "Letter": Paper("Letter", 279.4, 215.9)}
MARGIN_MM = 12.0
OVERLAP_MM = 10.0
"""What a sheet shows of the next one, so that joining marks lie on both."""


class Tile(NamedTuple):
    """One sheet: its column and row, from 1, and the part of the template that it shows."""

    column: int
    row: int
    low: Point
    high: Point


def cut_template(
    strip: StripSaid, lines: LayerLines, layer: StripLayer, whose: Whose, welds: WeldsSaid | None, *, from_datum: bool
) -> Template:
    """Return the template of one layer of the vehicle or of the donor: round its cut, or all the way from the datum."""
    edge = lines.vehicle if whose == "vehicle" else lines.donor
    reach = [edge.line_mm, edge.edge_mm, edge.blade_mm, edge.line_mm + edge.skew_mm]
    low, high = min(reach) - _BESIDE_MM, max(reach) + _BESIDE_MM
    low, high = max(low, layer.start), min(high, layer.end)
    if from_datum:
        low, high = min(low, 0.0), max(high, 0.0)
    width = layer.width_mm or USUAL_WIDTH_MM
    name = f"{layer.id}, {whose}"
    shapes: list[Stroke | Ring | Label] = [*_outline(low, high, width), *_folds(layer, low, high)]
    shapes += _cut(strip, edge, width)
    shapes += _features(strip, layer, low, high, width)
    shapes += _drilled(layer, welds, whose, edge.moved_mm, low, high) if welds else []
    shapes += _datum(strip, low, high, width)
    return _with_check(f"{name}: cut {strip.station_words(edge.line_mm)}", shapes, (low, 0.0), (high, width))


def blank_template(
    title: str, length: float, width: float, folds: Sequence[float], holes: Sequence[tuple[float, float, float]]
) -> Template:
    """Return the template of a part that is made in the shop: its blank, its folds along it, and its holes (u, v, diameter)."""
    shapes: list[Stroke | Ring | Label] = [
        *_outline(0.0, length, width),
        *(Stroke("fold", (0.0, fold), (length, fold)) for fold in folds),
    ]
    for u, v, diameter in holes:
        shapes += _hole("drill", (u, v), diameter)
    return _with_check(title, shapes, (0.0, 0.0), (length, width))


def tiles_of(template: Template, paper: Paper) -> tuple[Tile, ...]:
    """Divide a template over sheets that overlap by `OVERLAP_MM`, row by row."""
    across, down = paper.width - 2 * MARGIN_MM, paper.height - 2 * MARGIN_MM - _NAME_MM
    columns = _many(template.size[0], across)
    rows = _many(template.size[1], down)
    tiles = []
    for row in range(rows):
        for column in range(columns):
            u = template.low[0] + column * (across - OVERLAP_MM)
            v = template.low[1] + row * (down - OVERLAP_MM)
            tiles.append(Tile(column + 1, row + 1, (u, v), (u + across, v + down)))
    return tuple(tiles)


def _many(length: float, one: float) -> int:
    return 1 if length <= one else math.ceil((length - OVERLAP_MM) / (one - OVERLAP_MM) - 1e-9)


def _with_check(title: str, shapes: list[Stroke | Ring | Label], low: Point, high: Point) -> Template:
    if high[0] - low[0] > MOST_MM or high[1] - low[1] > MOST_MM:
        raise Refused(
            "A template is at most 20 m long and wide: look for a slip.", field="layer", value=high[0] - low[0]
        )
    left, bar = low[0] + 2.0, low[1] - 14.0
    words = f"this bar is 100 mm: measure it before anything is cut · {title}"
    shapes += [
        Stroke("check", (left, bar), (left + CHECK_MM, bar)),
        *(
            Stroke("check", (left + at, bar - (3.0 if at % 50 else 5.0)), (left + at, bar + 5.0))
            for at in range(0, int(CHECK_MM) + 1, 10)
        ),
        Label("text", (left, low[1] - _UNDER_MM), _SMALL_MM, words),
    ]
    right = max(high[0], left + CHECK_MM, left + len(words) * _SMALL_MM * _LETTER)
    return Template(title, tuple(shapes), (low[0] - 4.0, low[1] - _UNDER_MM - 3.0), (right + 4.0, high[1] + 11.0))


def _outline(low: float, high: float, width: float) -> list[Stroke]:
    return [Stroke("outline", (low, 0.0), (high, 0.0)), Stroke("outline", (low, width), (high, width))]


def _folds(layer: StripLayer, low: float, high: float) -> list[Stroke | Label]:
    folds: list[Stroke | Label] = []
    v = 0.0
    for index, face in enumerate(layer.faces):
        folds.append(Label("text", (low + 3.0, v + face.width_mm / 2 - 1.5), 4.0, face.name))
        v += face.width_mm
        if index < len(layer.faces) - 1:
            folds.append(Stroke("fold", (low, v), (high, v)))
    return folds


def _cut(strip: StripSaid, edge: EdgeLine, width: float) -> list[Stroke | Label]:
    outline: list[Stroke | Label] = []
    drawn: Mapping[Pen, float] = {"line": edge.line_mm, "edge": edge.edge_mm, "blade": edge.blade_mm}
    for pen, u in drawn.items():
        outline.append(Stroke(pen, (u, -3.0), (u + edge.skew_mm, width + 3.0)))
    outline.append(Label("text", (edge.line_mm + 2.0, width + 5.0), 4.5, f"line {strip.station_words(edge.line_mm)}"))
    return outline


def _features(
    strip: StripSaid, layer: StripLayer, low: float, high: float, width: float
) -> list[Stroke | Ring | Label]:
    features: list[Stroke | Ring | Label] = []
    for feature in strip.features:
        if feature.layers is not None and layer.id not in feature.layers:
            continue
        middle = (feature.start + feature.end) / 2
        if not low <= middle <= high:
            continue
        v = width / 2 if feature.across_mm is None else feature.across_mm
        if feature.kind in ("hole", "nut"):
            features += _hole("feature", (middle, v), max(feature.end - feature.start, 3.0))
        else:
            features += [Stroke("feature", (u, v - 6.0), (u, v + 6.0)) for u in (feature.start, feature.end)]
        features.append(Label("text", (middle + 2.0, v + 8.0), 3.5, feature.words or FEATURES[feature.kind]))
    return features


def _drilled(
    layer: StripLayer, welds: WeldsSaid, whose: Whose, moved: float, low: float, high: float
) -> list[Stroke | Ring | Label]:
    """Return the welds on the faces of a layer: a ring only where the map has a tool go in on that side, else a cross."""
    foot: dict[str, float] = {}
    v = 0.0
    for face in layer.faces:
        foot[face.name.lower()] = v
        v += face.width_mm
    drilled: list[Stroke | Ring | Label] = []
    for weld in mapped_welds(welds):
        weld_said = weld.said
        at = foot.get(weld_said.flange.lower())
        if at is None or not isinstance(weld_said, WeldSaid) or not low <= weld_said.at_mm + moved <= high:
            continue
        u, v = weld_said.at_mm + moved, at + weld_said.across_mm
        if weld.step(whose).mark in HOLED:
            drilled += [*_hole("drill", (u, v), welds.hole_mm), Label("text", (u + 5.0, v + 3.0), 3.5, weld_said.id)]
        else:
            drilled += [
                *_cross("feature", (u, v), 4.0),
                Label("text", (u + 5.0, v + 3.0), 3.5, f"{weld_said.id}: no hole"),
            ]
    return drilled


def _hole(pen: Pen, middle: Point, diameter: float) -> list[Stroke | Ring]:
    return [Ring(pen, middle, diameter / 2), *_cross(pen, middle, diameter / 2 + 2.0)]


def _cross(pen: Pen, middle: Point, arm: float) -> list[Stroke]:
    u, v = middle
    return [Stroke(pen, (u - arm, v), (u + arm, v)), Stroke(pen, (u, v - arm), (u, v + arm))]


def _datum(strip: StripSaid, low: float, high: float, width: float) -> list[Stroke | Ring | Label]:
    name = strip.datum or "datum"
    if low <= 0.0 <= high:
        return [
            Stroke("datum", (0.0, -_TICK_MM), (0.0, width + _TICK_MM)),
            Label("text", (-4.0 - 2.6 * len(name) if low < -30.0 else 2.0, width + 5.0), 4.5, f"{name} 0"),
        ]
    station = math.ceil(low / 50.0) * 50.0
    datum: list[Stroke | Ring | Label] = []
    while station <= high:
        datum.append(Stroke("datum", (station, -_TICK_MM), (station, 0.0)))
        datum.append(Label("text", (station + 1.0, -_TICK_MM - 1.0), 4.0, f"{station:g} from {name}"))
        station += 50.0
    return datum
