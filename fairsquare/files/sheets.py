"""Sheets to and from files. Every kind of file becomes the same table of text cells, which core then understands."""

import csv
import io
import json
from collections.abc import Iterable, Sequence

import openpyxl
from pydantic import ValidationError

from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.lengths import read_length
from fairsquare.core.sheet.model import Sheet
from fairsquare.core.sheet.table import MOST_ROWS, Rows, table_of
from fairsquare.files.archives import ArchiveFault, Limits, is_archive, unpacked

LARGEST_FILE = 2 * 1024 * 1024
MOST_COLUMNS = 60
_BLANK, _FORMULA = "\t\r\n\x00", ("=", "+", "-", "@", "＝", "＋", "－", "＠")
_WORKBOOK = Limits(members=2_000, bytes=40 * 1024 * 1024)


def rows_from_file(name: str, content: bytes) -> tuple[Rows, tuple[str, ...]]:
    """Return the cells of a file and remarks about how it was read. Raises `Refused` that names `file`."""
    if not content.strip():
        raise _bad(name, "the file is empty. Choose a CSV, XLSX or JSON file with a line for each point")
    if len(content) > LARGEST_FILE:
        raise _bad(name, f"the file is larger than {LARGEST_FILE // 2**20} MB: a sheet of 400 points has some 40 kB")
    ending = name.lower().rpartition(".")[2]
    if is_archive(content):
        return _rows_from_xlsx(name, content), ()
    if ending in ("xlsx", "xlsm"):
        raise _bad(name, "it is named .xlsx but is no workbook. Save it again as XLSX, or choose a CSV file")
    if b"\x00" in content and not content.startswith((b"\xff\xfe", b"\xfe\xff")):
        raise _bad(name, "it is neither text nor a workbook. Choose a CSV, XLSX or JSON file")
    text, remarks = _decoded(content)
    if ending == "json" or text.lstrip().startswith("{"):
        return _defused(table_of(sheet_from_json(text, name))), remarks
    return rows_from_text(text), remarks


def rows_from_text(text: str) -> Rows:
    """Return the cells of a text whose separator is a tab, a semicolon or a comma, whichever its first line has most of."""
    lines = text.replace("\r\n", "\n").replace("\r", "\n")
    first = next((line for line in lines.split("\n") if line.strip()), "")
    separator = max(("\t", ";", ","), key=first.count)
    try:
        return tuple(tuple(cells) for cells in csv.reader(io.StringIO(lines), delimiter=separator, strict=False))
    except csv.Error as fault:
        raise Refused(
            f"The table cannot be read ({fault}): look for a quotation mark that is never closed.", field="table"
        ) from None


def text_from_rows(rows: Iterable[Sequence[str]], separator: str = ",") -> str:
    """Return the cells as CSV text."""
    out = io.StringIO()
    csv.writer(out, delimiter=separator, lineterminator="\n").writerows(rows)
    return out.getvalue()


def sheet_from_json(text: str, name: str = "JSON") -> Sheet:
    """Read a sheet in the shape of the contract. Raises `Refused` that names the field."""
    try:
        return Sheet.model_validate_json(text)
    except ValidationError as fault:
        first = fault.errors(include_url=False)[0]
        where = ".".join(str(part) for part in first["loc"])
        raise _bad(name, f"{where or 'the file'}: {first['msg'][:1].lower()}{first['msg'][1:]}") from None


def sheet_as_csv(sheet: Sheet, said: dict[str, tuple[str, str, str]] | None = None) -> str:
    """Return the sheet as CSV that reads back to itself; text that a spreadsheet would run as a formula is defused."""
    return text_from_rows(_defused(table_of(sheet, said)))


def sheet_as_json(sheet: Sheet) -> str:
    """Return the sheet as JSON in the shape of the contract."""
    return json.dumps(sheet.model_dump(mode="json"), ensure_ascii=False, indent=1)


def sheet_as_xlsx(sheet: Sheet) -> bytes:
    """Return the sheet as a workbook; coordinates stand in it as numbers."""
    book = openpyxl.Workbook()
    page = book.active
    page.title = "datum sheet"
    for row in _defused(table_of(sheet)):
        page.append([_number_or_text(cell) for cell in row])
    out = io.BytesIO()
    book.save(out)
    return out.getvalue()


def _bad(name: str, words: str) -> Refused:
    return Refused(f"{name}: {words}.", field="file", value=name)


def _decoded(content: bytes) -> tuple[str, tuple[str, ...]]:
    if content.startswith((b"\xff\xfe", b"\xfe\xff")):
        return content.decode("utf-16", errors="replace"), ()
    try:
        return content.decode("utf-8-sig"), ()
    except UnicodeDecodeError:
        remark = "The file is not UTF-8; it was read as Windows-1252 (Latin-1): look whether names came out right."
        return content.decode("cp1252", errors="replace"), (remark,)


def _rows_from_xlsx(name: str, content: bytes) -> Rows:
    try:
        unpacked(content, _WORKBOOK, archives_within=True)
        rows = _cells_of(openpyxl.load_workbook(io.BytesIO(content), read_only=True, data_only=False, keep_links=False))
    except ArchiveFault as fault:
        raise _bad(name, f"the workbook cannot be opened: {fault}. Save it again as XLSX, or as CSV") from None
    except Exception as fault:  # openpyxl raises whatever the damaged part led it to
        raise _bad(name, "the workbook cannot be opened. Save it again as XLSX, or as CSV") from fault
    if not any(rows):
        raise _bad(name, "the workbook holds nothing")
    return tuple(rows)


def _cells_of(book: openpyxl.Workbook) -> list[tuple[str, ...]]:
    rows: list[tuple[str, ...]] = []
    for page in book.worksheets:
        cells = page.iter_rows(values_only=True, max_row=MOST_ROWS + 1, max_col=MOST_COLUMNS)
        rows += [_trimmed([_cell_text(value) for value in row]) for row in cells]
        rows.append(())
        if len(rows) > MOST_ROWS:
            break
    return rows


def _cell_text(value: object) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return repr(value).removesuffix(".0")
    return str(value)


def _trimmed(cells: list[str]) -> tuple[str, ...]:
    while cells and not cells[-1]:
        cells.pop()
    return tuple(cells)


def _number_or_text(cell: str) -> str | float:
    try:
        return float(cell)
    except ValueError:
        return cell


def defused(cell: str) -> str:
    """Return a cell that no spreadsheet runs as a formula: one that begins as a formula does is marked as text.

    Spreadsheets look past blanks, tabs and line ends, and take the full-width signs for the plain ones (OWASP, CSV injection).
    """
    runs = cell[:1] in _BLANK or cell.lstrip(_BLANK + " ")[:1] in _FORMULA
    return "'" + cell if cell and runs else cell


def _defused(rows: Rows) -> Rows:
    return tuple(tuple(cell if _is_number(cell) else defused(cell) for cell in row) for row in rows)


def _is_number(cell: str) -> bool:
    """Return whether a cell is a length and so may begin with a sign: "-3", "+3.5 mm"."""
    try:
        read_length(cell)
    except FairSquareError:
        return cell == ""
    return True
