"""Templates at true size: SVG in millimetres, DXF (layers named, mm), and the sheets of paper that they are divided over."""

import io
from collections.abc import Iterable
from html import escape

from ezdxf import document, units
from markupsafe import Markup

from fairsquare.core.cut.template import MARGIN_MM, PENS, Label, Paper, Pen, Ring, Stroke, Template, Tile

_COLOURS: dict[Pen, int] = {
    "outline": 7,
    "fold": 8,
    "line": 5,
    "edge": 3,
    "blade": 1,
    "drill": 1,
    "feature": 8,
    "datum": 6,
    "check": 7,
    "text": 7,
}
"""Colours by AutoCAD's index, as `ezdxf` takes them."""
_STYLE = (
    "line,circle{fill:none;stroke:#000;stroke-width:.25}"
    ".fold{stroke-dasharray:6 2}.line{stroke-width:.35}.edge{stroke-dasharray:1.5 1.5}.blade{stroke-dasharray:8 1.5 1 1.5}"
    ".feature{stroke:#777}.outline{stroke-width:.5}.join{stroke-width:.2}"
    "text{font-family:'Barlow Semi Condensed',sans-serif;fill:#000}"
)


def template_svg(template: Template) -> str:
    """Return a template as an SVG file at true size."""
    (width, height), body = template.size, "".join(_shapes(template))
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" width="{width:.3f}mm" height="{height:.3f}mm" '
        f'viewBox="0 0 {width:.3f} {height:.3f}"><title>{escape(template.title)}</title><style>{_STYLE}</style>{body}</svg>\n'
    )


def template_dxf(template: Template) -> str:
    """Return a template as DXF: one layer for each pen, named as it is, in mm, with v upward."""
    drawing = document.Drawing.new("R2010")
    drawing.units = units.MM
    for pen in PENS:
        drawing.layers.add(pen.upper(), color=_COLOURS[pen])
    space = drawing.modelspace()
    for shape in template.shapes:
        own = {"layer": shape.pen.upper()}
        if isinstance(shape, Stroke):
            space.add_line(shape.a, shape.b, dxfattribs=own)
        elif isinstance(shape, Ring):
            space.add_circle(shape.middle, shape.radius, dxfattribs=own)
        else:
            space.add_text(shape.words, height=shape.high, dxfattribs=own).set_placement(shape.at)
    out = io.StringIO()
    drawing.write(out)
    return out.getvalue()


def tile_svg(template: Template, tile: Tile, paper: Paper, many: tuple[int, int]) -> Markup:
    """Return one sheet of a template: its part of the drawing, marks to join it by, and which sheet it is."""
    width, height = tile.high[0] - tile.low[0], tile.high[1] - tile.low[1]
    left = tile.low[0] - template.low[0]
    top = template.high[1] - tile.high[1]
    body = "".join(_shapes(template))
    marks = "".join(_joining(tile, many, width, height))
    name = f"sheet {tile.column + (tile.row - 1) * many[0]} of {many[0] * many[1]}"
    if many[1] > 1:
        name += f", column {tile.column}, row {tile.row}"
    return Markup(  # noqa: S704 - every text in it is escaped
        f'<svg xmlns="http://www.w3.org/2000/svg" class="tile" width="{width:.3f}mm" height="{height:.3f}mm" '
        f'viewBox="{left:.3f} {top:.3f} {width:.3f} {height:.3f}"><style>{_STYLE}</style>{body}'
        f'<g transform="translate({left:.3f} {top:.3f})">{marks}</g></svg>'
        f'<p class="tile-name">{escape(template.title)} · {name} · {paper.name}, print at 100 %, margins {MARGIN_MM:g} mm</p>'
    )


def _joining(tile: Tile, many: tuple[int, int], width: float, height: float) -> Iterable[str]:
    """Yield marks that lie on two sheets: 5 mm inside the edge where the next sheet begins, named by the two sheets they join."""
    for before, x, number in (
        (tile.column > 1, 5.0, tile.column - 1),
        (tile.column < many[0], width - 5.0, tile.column),
    ):
        if before:
            for y in (height * 0.12, height * 0.88):
                yield f'<line class="join" x1="{x - 4:.2f}" y1="{y:.2f}" x2="{x + 4:.2f}" y2="{y:.2f}"/>'
                yield f'<line class="join" x1="{x:.2f}" y1="{y - 4:.2f}" x2="{x:.2f}" y2="{y + 4:.2f}"/>'
                yield f'<text x="{x + 1:.2f}" y="{y - 1:.2f}" font-size="3.5">{number}{number + 1}</text>'
    for before, y, number in ((tile.row > 1, height - 5.0, tile.row - 1), (tile.row < many[1], 5.0, tile.row)):
        if before:
            for x in (width * 0.12, width * 0.88):
                yield f'<line class="join" x1="{x - 4:.2f}" y1="{y:.2f}" x2="{x + 4:.2f}" y2="{y:.2f}"/>'
                yield f'<line class="join" x1="{x:.2f}" y1="{y - 4:.2f}" x2="{x:.2f}" y2="{y + 4:.2f}"/>'
                yield f'<text x="{x + 1:.2f}" y="{y - 1:.2f}" font-size="3.5">row {number}/{number + 1}</text>'


def _shapes(template: Template) -> Iterable[str]:
    """Yield the shapes in SVG's axes: v downward, the upper edge of the template at 0."""
    left, top = template.low[0], template.high[1]
    for shape in template.shapes:
        if isinstance(shape, Stroke):
            (u1, v1), (u2, v2) = shape.a, shape.b
            yield (
                f'<line class="{shape.pen}" x1="{u1 - left:.3f}" y1="{top - v1:.3f}" x2="{u2 - left:.3f}" y2="{top - v2:.3f}"/>'
            )
        elif isinstance(shape, Ring):
            u, v = shape.middle
            yield f'<circle class="{shape.pen}" cx="{u - left:.3f}" cy="{top - v:.3f}" r="{shape.radius:.3f}"/>'
        else:
            yield _words(shape, left, top)


def _words(label: Label, left: float, top: float) -> str:
    u, v = label.at
    return f'<text x="{u - left:.3f}" y="{top - v:.3f}" font-size="{label.high:g}">{escape(label.words)}</text>'
