"""A datum sheet as a table of text cells: understood line by line, with each problem beside its line.

A table is made of blocks. A block begins with a row of column names, in any order, and ends where the next begins:
points (code, length, width, height ...), spans (from, to, distance ...), and the sheet's own values (sheet name ...).
"""

from typing import Annotated

from pydantic import Field, ValidationError

from fairsquare.core.errors import FairSquareError
from fairsquare.core.lengths import Unit
from fairsquare.core.model import Model
from fairsquare.core.sheet.cells import (
    Columns,
    LineRead,
    Trouble,
    heading_line,
    looks_numeric,
    no_heading,
    read_line,
    trouble_at,
)
from fairsquare.core.sheet.check import CheckSheet, Finding, Suggestion, check_sheet
from fairsquare.core.sheet.model import Construction, Sheet, points_by_code

MOST_ROWS = 5000

Rows = tuple[tuple[str, ...], ...]


class ReadTable(Model):
    """A table of text, and what its cells mean where it does not say so itself."""

    rows: Rows
    unit: Unit = "mm"
    name: str = "Datum sheet"
    construction: Construction = "unibody"
    tolerance_mm: Annotated[float, Field(gt=0, le=1000)] = 3.0
    build_sigma_mm: Annotated[float, Field(ge=0, le=100)] = 0.5


class SheetDraft(Model):
    """A table as understood; `sheet` is there when nothing blocks it, and what `check-sheet` finds on it."""

    lines: tuple[LineRead, ...]
    troubles: tuple[Trouble, ...]
    sheet: Sheet | None
    findings: tuple[Finding, ...] = ()
    said: dict[str, tuple[str, str, str]]

    @property
    def blocking(self) -> int:
        """How many problems stand in the way of accepting the sheet."""
        everywhere = [*self.troubles, *(trouble for line in self.lines for trouble in line.troubles)]
        return sum(trouble.blocks for trouble in everywhere)

    def line_of(self, finding: Finding) -> int | None:
        """Return the line that a finding is about: its first point's, or its first span's."""
        spans = [line.line for line in self.lines if line.span]
        if finding.points:
            return next((ln.line for ln in self.lines if ln.point and ln.point.code == finding.points[0]), None)
        return spans[finding.spans[0]] if finding.spans and finding.spans[0] < len(spans) else None


def read_table(request: ReadTable) -> SheetDraft:
    """Understand a table line by line. Never raises for what stands in the cells: every problem is in the draft."""
    lines: list[LineRead] = []
    troubles: list[Trouble] = []
    columns: Columns | None = None
    values = {
        "name": request.name,
        "construction": request.construction,
        "tolerance_mm": request.tolerance_mm,
        "build_sigma_mm": request.build_sigma_mm,
    }
    if len(request.rows) > MOST_ROWS:
        troubles.append(trouble_at("table", f"{len(request.rows)} lines: a sheet has at most {MOST_ROWS}."))
    for number, cells in enumerate(request.rows[:MOST_ROWS], start=1):
        if not any(cell.strip() for cell in cells):
            continue
        heading = Columns(cells, request.unit)
        if heading.kind is not None and not any(looks_numeric(cell) for cell in cells):
            columns = heading
            lines.append(heading_line(number, cells, heading))
        elif columns is None:
            troubles.append(no_heading(number))
            break
        else:
            line, more = read_line(number, cells, columns)
            lines.append(line)
            values |= more
    if not troubles:
        lines = _across_lines(lines)
        troubles += _of_the_whole(lines)
    draft = SheetDraft(lines=tuple(lines), troubles=tuple(troubles), sheet=None, said=_said(lines))
    return draft if draft.blocking else _with_sheet(draft, values)


def table_of(sheet: Sheet, said: dict[str, tuple[str, str, str]] | None = None) -> Rows:
    """Return the sheet as a table that reads back to itself; lengths in mm."""
    own = [("sheet name", "construction", "tolerance mm", "build sigma mm")]
    own.append((sheet.name, sheet.construction, _number(sheet.tolerance_mm), _number(sheet.build_sigma_mm)))
    points: list[tuple[str, ...]] = [
        (
            *("code", "name", "length mm", "width mm", "height mm"),
            *("tolerance length mm", "tolerance width mm", "tolerance height mm", "reference", "member", "partner"),
            *("feature", "asymmetric", "sigma length mm", "sigma width mm", "sigma height mm"),
        )
    ]
    for point in sheet.points:
        limits = [_number(value) for value in point.tolerance_mm] if point.tolerance_mm else ["", "", ""]
        sigmas = [_number(value) for value in point.sigma_mm] if point.sigma_mm else ["", "", ""]
        typed = (said or {}).get(point.code)
        points.append(
            (
                *(point.code, point.name or ""),
                *(typed or [_number(value) for value in point.xyz]),
                *limits,
                *("yes" if point.reference else "", point.member or "", point.partner or "", point.feature or ""),
                *("yes" if point.asymmetric else "", *sigmas),
            )
        )
    spans = [("from", "to", "mode", "distance mm", "tolerance mm")] if sheet.spans else []
    spans += [
        (s.a, s.b, s.mode, _number(s.mm), _number(s.tolerance_mm) if s.tolerance_mm is not None else "")
        for s in sheet.spans
    ]
    return (*own, (), *points, *(((),) if spans else ()), *spans)


def with_suggestion(request: ReadTable, suggestion: Suggestion) -> Rows:
    """Return the table with a suggestion written into its cells, each with its unit; all other cells stay as typed."""
    draft = read_table(request)
    places = {point.code: point.xyz for point in suggestion.points}
    spans = {span.index: span for span in suggestion.spans}
    numbers = {line.line: index for index, line in enumerate(line for line in draft.lines if line.span)}
    written: dict[int, dict[str, str]] = {}
    for line in draft.lines:
        if line.point and line.point.code in places:
            new = places[line.point.code]
            changed = zip(("length", "width", "height"), line.point.xyz, new, strict=True)
            written[line.line] = {name: _in_mm(mm) for name, old, mm in changed if old != mm}
        elif line.line in numbers and numbers[line.line] in spans:
            span = spans[numbers[line.line]]
            written[line.line] = {"mode": span.mode, "distance": _in_mm(span.mm)}
    return tuple(
        columns.written(cells, written[number]) if columns and number in written else cells
        for number, cells, columns in _with_columns(request)
    )


def _with_columns(request: ReadTable) -> list[tuple[int, tuple[str, ...], Columns | None]]:
    """Return each row with its number and the columns of its block."""
    columns: Columns | None = None
    with_columns = []
    for number, cells in enumerate(request.rows, start=1):
        heading = Columns(cells, request.unit)
        if heading.kind is not None and not any(looks_numeric(cell) for cell in cells):
            columns = heading
        with_columns.append((number, cells, columns))
    return with_columns


def _in_mm(value: float) -> str:
    return f"{_number(round(value, 2))} mm"


def _number(value: float) -> str:
    return repr(value).removesuffix(".0")


def _across_lines(lines: list[LineRead]) -> list[LineRead]:
    """Return the lines with what only shows between them: codes that stand twice, partners that disagree, span ends."""
    first: dict[str, LineRead] = {}
    for line in lines:
        if line.point:
            first.setdefault(line.point.code, line)
    return [line.model_copy(update={"troubles": (*line.troubles, *_against_others(line, first))}) for line in lines]


def _against_others(line: LineRead, first: dict[str, LineRead]) -> list[Trouble]:
    if line.span:
        ends = (("from", line.span.a), ("to", line.span.b))
        missing = [
            trouble_at(name, f"{name}: {code} is not among the points.") for name, code in ends if code not in first
        ]
        same = line.span.a == line.span.b
        return [*missing, *([trouble_at("to", "to: a span needs two different points.")] if same else [])]
    point = line.point
    if point is None:
        return []
    if first[point.code] is not line:
        return [trouble_at("code", f"code: {point.code} stands already on line {first[point.code].line}.")]
    return []


def _of_the_whole(lines: list[LineRead]) -> list[Trouble]:
    points = [line.point for line in lines if line.point]
    if not lines:
        return [
            trouble_at("table", "There is nothing in it: the first line names the columns, then a line for each point.")
        ]
    if any(trouble.blocks for line in lines for trouble in line.troubles):
        return []
    if len(points) < 2:
        count = "one point" if points else "no point"
        return [trouble_at("table", f"A sheet of {count} proves nothing: at least two points are needed.")]
    references = sum(point.reference for point in points)
    if references < 4:
        words = f"{references} reference points are marked: a set-up needs three, and four before anything checks it."
        return [trouble_at("reference", words, blocks=False)]
    return []


def _said(lines: list[LineRead]) -> dict[str, tuple[str, str, str]]:
    return {line.point.code: line.said for line in lines if line.point and line.said}


def _with_sheet(draft: SheetDraft, values: dict[str, object]) -> SheetDraft:
    try:
        sheet = Sheet.model_validate(
            {
                **values,
                "points": tuple(line.point for line in draft.lines if line.point),
                "spans": tuple(line.span for line in draft.lines if line.span),
            }
        )
        points_by_code(sheet)
    except (ValidationError, FairSquareError) as fault:
        return draft.model_copy(update={"troubles": (*draft.troubles, trouble_at("sheet", str(fault)))})
    return draft.model_copy(update={"sheet": sheet, "findings": check_sheet(CheckSheet(sheet=sheet)).findings})
