"""One line of a sheet's table: which cell is what, in which unit, and what is wrong with it."""

from collections.abc import Mapping, Sequence
from typing import Literal

from pydantic import ValidationError

from fairsquare.core.errors import FairSquareError
from fairsquare.core.lengths import Unit, read_length
from fairsquare.core.model import LARGEST_MM, Model, Row3
from fairsquare.core.sheet.model import Point, Span, SpanMode

_COLUMNS: dict[str, frozenset[str]] = {
    "code": frozenset({"code", "point", "datum", "id", "no", "nr"}),
    "name": frozenset({"name", "description", "what", "where"}),
    "length": frozenset({"length", "x", "l", "long", "lengthx"}),
    "width": frozenset({"width", "y", "w", "b", "wide", "widthy"}),
    "height": frozenset({"height", "z", "h", "high", "heightz"}),
    "tolerance": frozenset({"tolerance", "tol", "limit"}),
    "tolerancelength": frozenset({"tolerancelength", "tollength", "tolx", "toll"}),
    "tolerancewidth": frozenset({"tolerancewidth", "tolwidth", "toly", "tolw"}),
    "toleranceheight": frozenset({"toleranceheight", "tolheight", "tolz", "tolh"}),
    "sigmalength": frozenset({"sigmalength", "sigmax"}),
    "sigmawidth": frozenset({"sigmawidth", "sigmay"}),
    "sigmaheight": frozenset({"sigmaheight", "sigmaz"}),
    "reference": frozenset({"reference", "ref"}),
    "member": frozenset({"member", "part"}),
    "partner": frozenset({"partner", "opposite"}),
    "feature": frozenset({"feature", "kind", "type"}),
    "asymmetric": frozenset({"asymmetric", "asym"}),
    "from": frozenset({"from", "a"}),
    "to": frozenset({"to", "b2", "until"}),
    "mode": frozenset({"mode", "measured"}),
    "distance": frozenset({"distance", "span", "dist"}),
    "sheet": frozenset({"sheet", "sheetname", "vehicle"}),
    "construction": frozenset({"construction"}),
    "build": frozenset({"buildsigma", "build"}),
}
_UNITS: tuple[Unit, ...] = ("mm", "cm", "in", "ft", "m")
_YES = frozenset({"yes", "y", "true", "1", "x", "ref", "reference"})
_NO = frozenset({"", "no", "n", "false", "0", "-"})
_FEATURES = frozenset({"hole", "slot", "stud", "bolt", "edge"})
_CONSTRUCTIONS = frozenset({"unibody", "ladder", "truck", "aluminium", "trailer"})
_MODES: dict[str, SpanMode] = {
    "": "point_to_point",
    "point_to_point": "point_to_point",
    "point to point": "point_to_point",
    "in space": "point_to_point",
    "datum_parallel": "datum_parallel",
    "datum parallel": "datum_parallel",
    "from above": "datum_parallel",
}
_SIDES = {"l": 1, "left": 1, "r": -1, "right": -1}


class Trouble(Model):
    """A problem at one line and column of the table; one that does not `block` is a warning to look at."""

    column: str
    words: str
    blocks: bool = True


class LineRead(Model):
    """One line as it was understood. `said` are the three coordinates as they were typed."""

    line: int
    cells: tuple[str, ...]
    kind: Literal["point", "span", "sheet", "columns"]
    words: str
    point: Point | None = None
    span: Span | None = None
    said: tuple[str, str, str] | None = None
    troubles: tuple[Trouble, ...] = ()


class Columns:
    """The columns of one block: which cell is what, and in which unit."""

    def __init__(self, cells: Sequence[str], default: Unit) -> None:
        self.place: dict[str, int] = {}
        self.unit: dict[str, Unit] = {}
        self.unknown: list[str] = []
        self.twice: list[str] = []
        for index, cell in enumerate(cells):
            if not cell.strip():
                continue
            name, unit = _column(cell)
            if name is None:
                self.unknown.append(cell.strip())
            elif name in self.place:
                self.twice.append(cell.strip())
            else:
                self.place[name] = index
                self.unit[name] = unit or default
        self.count = len(cells)

    @property
    def kind(self) -> Literal["point", "span", "sheet"] | None:
        """What the rows below are, or none where the cells name no columns."""
        if {"from", "to"} <= set(self.place):
            return "span"
        if "code" in self.place:
            return "point"
        return "sheet" if "sheet" in self.place else None

    def cell(self, cells: Sequence[str], name: str) -> str:
        """Return the cell of a column, without spaces round it; empty where there is none."""
        index = self.place.get(name)
        return cells[index].strip() if index is not None and index < len(cells) else ""

    def written(self, cells: Sequence[str], values: Mapping[str, str]) -> tuple[str, ...]:
        """Return a row with other texts in some of its columns; a mode is written only where there is a column for it."""
        row = list(cells)
        for name, text in values.items():
            index = self.place.get(name)
            if index is None:
                continue
            row += [""] * (index + 1 - len(row))
            row[index] = text
        return tuple(row)


def _column(cell: str) -> tuple[str | None, Unit | None]:
    words = "".join(c if c.isalnum() else " " for c in cell.lower()).split()
    unit = next((known for known in _UNITS if words and words[-1] == known), None)
    if unit and len(words) > 1:
        words = words[:-1]
    else:
        unit = None
    plain = "".join(words)
    return next((name for name, spellings in _COLUMNS.items() if plain in spellings), None), unit


def looks_numeric(cell: str) -> bool:
    """Say whether a cell is a number: a row with one names no columns."""
    return any(character.isdigit() for character in cell) and not any(c.isalpha() for c in cell)


def trouble_at(column: str, words: str, *, blocks: bool = True) -> Trouble:
    """Return a problem at a column, in words."""
    return Trouble(column=column, words=words, blocks=blocks)


def no_heading(number: int) -> Trouble:
    """Return the problem of a table that begins without the names of its columns."""
    return trouble_at(
        "columns",
        f"Line {number} should name the columns: code, length, width and height at least "
        "(also tolerance, reference, name, member, partner).",
    )


def heading_line(number: int, cells: Sequence[str], columns: Columns) -> LineRead:
    """Return a row of column names as understood, with what is missing, unknown or there twice."""
    troubles = [trouble_at(name, f"The column “{name}” stands twice: remove one.") for name in columns.twice]
    troubles += [
        trouble_at(name, f"The column “{name}” is not known and was left out.", blocks=False)
        for name in columns.unknown
    ]
    needed = {"point": ("length", "width", "height"), "span": ("distance",), "sheet": ()}[columns.kind or "sheet"]
    troubles += [
        trouble_at(name, f"The column “{name}” is missing: add it to the line of column names.")
        for name in needed
        if name not in columns.place
    ]
    known = ", ".join(f"{name} ({unit})" if name in needed else name for name, unit in columns.unit.items())
    words = f"columns of {columns.kind}s: {known}"
    return LineRead(line=number, cells=tuple(cells), kind="columns", words=words, troubles=tuple(troubles))


class _LineReader:
    """Reads the cells of one line and gathers what is wrong with them."""

    def __init__(self, cells: Sequence[str], columns: Columns) -> None:
        self.cells, self.columns = cells, columns
        self.troubles: list[Trouble] = []
        if len(cells) > columns.count and any(cell.strip() for cell in cells[columns.count :]):
            self.blame(
                "line", "This line has more cells than there are columns: decimal commas between commas? Use ; or tabs."
            )
        for cell in cells:
            if cell.lstrip().startswith("="):
                self.blame("line", f"“{cell.strip()[:40]}” is a formula, not a value: paste the value it gives.")

    def blame(self, column: str, words: str, *, blocks: bool = True) -> None:
        self.troubles.append(trouble_at(column, words, blocks=blocks))

    def text(self, name: str) -> str:
        return self.columns.cell(self.cells, name)

    def length(self, name: str, *, needed: bool = True) -> float | None:
        text = self.text(name)
        if not text:
            if needed and name in self.columns.place:
                self.blame(name, f"{name}: the cell is empty; give a length, such as 543 or 21 3/8 in.")
            return None
        if text.lstrip().startswith("="):
            return None
        side = 0
        if name == "width":
            text, side = _without_side(text)
        try:
            length = read_length(text, self.columns.unit[name], field=name)
        except FairSquareError as fault:
            self.blame(name, f"{name}: {fault.title}")
            return None
        mm = _nearest(length.mm)
        if abs(mm) > LARGEST_MM:
            self.blame(name, f"{name}: {text} is longer than any vehicle.")
            return None
        if length.unit != self.columns.unit[name]:
            self.blame(name, f"{name}: “{text}” was read as {length.unit}, {mm:.2f} mm.", blocks=False)
        if side and mm and (mm < 0):
            self.blame(name, f"{name}: “{self.text(name)}” has a side and a minus: keep one of them.")
        return mm * side if side else mm

    def flag(self, name: str) -> bool:
        text = self.text(name).lower()
        if text not in _YES | _NO:
            self.blame(name, f"{name}: “{text[:40]}” should be yes or empty.")
        return text in _YES

    def triple(self, stem: str, common: str | None = None) -> Row3 | None:
        names = [f"{stem}{axis}" for axis in ("length", "width", "height")]
        values = [self.length(name, needed=False) for name in names]
        if common is not None and all(value is None for value in values):
            same = self.length(common, needed=False)
            values = [same, same, same]
        given = [value for value in values if value is not None]
        if any(value < 0 for value in given):
            self.blame(stem, f"{stem}: must not be below nought.")
            return None
        if given and len(given) < 3:
            self.blame(stem, f"{stem}: give it for length, width and height, or for none of them.")
        return (given[0], given[1], given[2]) if len(given) == 3 else None


def _without_side(text: str) -> tuple[str, int]:
    words = text.split()
    for place in (0, -1):
        if len(words) > 1 and words[place].lower() in _SIDES:
            side = _SIDES[words.pop(place).lower()]
            return " ".join(words), side
    return text, 0


def _nearest(exact: object) -> float:
    try:
        return float(exact)  # type: ignore[arg-type]
    except OverflowError:
        return float("inf")


def read_line(number: int, cells: Sequence[str], columns: Columns) -> tuple[LineRead, dict[str, object]]:
    """Understand one row; also return the sheet's own values where it holds them."""
    reader = _LineReader(cells, columns)
    more: dict[str, object] = {}
    point, span, texts, words = None, None, None, ""
    kind = columns.kind or "sheet"
    if kind == "point":
        point = _read_point(reader)
        texts = (reader.text("length"), reader.text("width"), reader.text("height"))
        words = _point_words(point) if point else ""
    elif kind == "span":
        span = _read_span(reader)
        words = f"{span.a} to {span.b} {span.mm:.1f} mm, {span.mode.replace('_', ' ')}" if span else ""
    else:
        more = _read_own(reader)
        words = ", ".join(f"{name.replace('_mm', '').replace('_', ' ')} {value}" for name, value in more.items())
    line = LineRead(
        line=number,
        cells=tuple(cells),
        kind=kind,
        words=words,
        point=point,
        span=span,
        said=texts,
        troubles=tuple(reader.troubles),
    )
    return line, more


def _point_words(point: Point) -> str:
    x, y, z = point.xyz
    side = "" if y == 0 else f" {'left' if y > 0 else 'right'}"
    return f"length {x:.1f}, width {abs(y):.1f}{side}, height {z:.1f}"


def _read_point(reader: _LineReader) -> Point | None:
    code = reader.text("code")
    if not code:
        reader.blame("code", "code: the cell is empty; every point needs a code, such as F1L.")
    if len(code) > 40 or any(character.isspace() for character in code):
        reader.blame("code", f"code: “{code[:50]}” should be one short word, such as F1L.")
    values = [reader.length(name) for name in ("length", "width", "height")]
    limits = reader.triple("tolerance", "tolerance")
    sigmas = reader.triple("sigma")
    reference, asymmetric = reader.flag("reference"), reader.flag("asymmetric")
    feature = reader.text("feature").lower()
    if feature and feature not in _FEATURES:
        reader.blame("feature", f"feature: “{feature[:40]}” should be one of {', '.join(sorted(_FEATURES))}.")
    given = [value for value in values if value is not None]
    if len(given) < 3 or any(trouble.blocks for trouble in reader.troubles):
        return None
    try:
        return Point.model_validate(
            {
                "code": code,
                "name": reader.text("name").removeprefix("'") or None,
                "xyz": (given[0], given[1], given[2]),
                "tolerance_mm": limits,
                "sigma_mm": sigmas,
                "reference": reference,
                "member": reader.text("member").removeprefix("'") or None,
                "partner": reader.text("partner") or None,
                "feature": feature or None,
                "asymmetric": asymmetric,
            }
        )
    except ValidationError as fault:
        for error in fault.errors():
            reader.blame(str(error["loc"][0]), f"{error['loc'][0]}: {error['msg']}.")
        return None


def _read_span(reader: _LineReader) -> Span | None:
    a, b = reader.text("from"), reader.text("to")
    for name, code in (("from", a), ("to", b)):
        if not code:
            reader.blame(name, f"{name}: the cell is empty; name the point.")
    mode = _MODES.get(reader.text("mode").lower())
    if mode is None:
        reader.blame("mode", f"mode: “{reader.text('mode')[:40]}” should be point_to_point or datum_parallel.")
    mm, limit = reader.length("distance"), reader.length("tolerance", needed=False)
    if mm is not None and mm <= 0:
        reader.blame("distance", "distance: must be above nought.")
    if mm is None or mode is None or any(trouble.blocks for trouble in reader.troubles):
        return None
    return Span(a=a, b=b, mode=mode, mm=mm, tolerance_mm=limit)


def _read_own(reader: _LineReader) -> dict[str, object]:
    own: dict[str, object] = {}
    if name := reader.text("sheet").removeprefix("'"):
        own["name"] = name[:200]
    if construction := reader.text("construction").lower():
        if construction in _CONSTRUCTIONS:
            own["construction"] = construction
        else:
            reader.blame("construction", f"construction: should be one of {', '.join(sorted(_CONSTRUCTIONS))}.")
    for column, field in (("tolerance", "tolerance_mm"), ("build", "build_sigma_mm")):
        value = reader.length(column, needed=False)
        if value is not None and value < 0:
            reader.blame(column, f"{column}: must not be below nought.")
        elif value is not None:
            own[field] = value
    return own
