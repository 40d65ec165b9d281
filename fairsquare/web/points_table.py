"""The rows of the table of points beside the drawing. Like the drawing they are made anew with every reading, by the hundred."""

from collections.abc import Mapping
from html import escape
from urllib.parse import quote

from markupsafe import Markup

from fairsquare.core.measure.conformity import PointJudgement, State
from fairsquare.core.model import Row3
from fairsquare.core.sheet.model import Point
from fairsquare.drawings.sign import sign
from fairsquare.words.lengths import Units, length, short_word, size

_NOT_READ = '<td class="n">–</td>' * 3 + '<td class="n u"></td>'


def table_rows(
    judged: Mapping[str, PointJudgement], points: Mapping[str, Point], chosen: str | None, link: str, units: Units
) -> Markup:
    """Return a row for every point that is judged, in the order of the sheet; `link` is what a code is put behind."""
    start = escape(link)
    rows = (_row(code, judgement, points[code], code == chosen, start, units) for code, judgement in judged.items())
    return Markup("\n".join(rows))  # noqa: S704 - codes are escaped, the rest is numbers and our own words


def _row(code: str, found: PointJudgement, point: Point, chosen: bool, link: str, units: Units) -> str:
    moved, name = found.deviation, escape(code)
    shape, cells = sign(found.state), _NOT_READ
    if moved is not None and found.expanded is not None:
        shape = sign(found.state, -moved[0], moved[1])
        known = [wide for wide, state in zip(found.expanded, found.states, strict=True) if state != "unread"]
        cells = "".join(_cell(state, moved, point.xyz, axis, units) for axis, state in enumerate(found.states))
        cells += f'<td class="n u">{length(max(known, default=None), units)}</td>'
    return (
        f'<tr data-code="{name}" class="{found.state}{" chosen" if chosen else ""}"><td>{shape}</td>'
        f'<th scope="row"><a href="{link}{escape(quote(code, safe=""))}">{name}'
        f'<span class="visually-hidden">, {found.state}</span></a></th>{cells}</tr>'
    )


def _cell(state: State, moved: Row3, place: Row3, axis: int, units: Units) -> str:
    if state == "unread":
        return '<td class="n axis-unread" title="not determined">?<small></small></td>'
    word = short_word(moved, place, axis, units)
    return f'<td class="n axis-{state}">{size(moved[axis], units)}<small>{word}</small></td>'
