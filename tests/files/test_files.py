"""Sheets as files: separators, encodings, workbooks, formulas defused, and files that are something else."""

import io
import zipfile

import openpyxl
import pytest

from fairsquare.core.errors import Refused
from fairsquare.core.sheet.model import Point, Sheet
from fairsquare.core.sheet.table import ReadTable, read_table
from fairsquare.files.sheets import (
    defused,
    rows_from_file,
    rows_from_text,
    sheet_as_csv,
    sheet_as_json,
    sheet_as_xlsx,
    sheet_from_json,
    text_from_rows,
)

NAMED = Sheet(
    name="=1+1",
    construction="trailer",
    points=(
        Point(code="A1L", name="=HYPERLINK(1)", xyz=(1.25, -2.0, 3.0), member="-rail"),
        Point(code="A1R", name='with, "quotes"', xyz=(1.25, 2.0, 3.0), member="+x"),
    ),
)


@pytest.mark.parametrize("separator", [",", ";", "\t"])
def test_separators(separator) -> None:
    rows = (("code", "length"), ("A", "1"), ("B", 'x"y'))
    assert rows_from_text(text_from_rows(rows, separator)) == rows
    assert rows_from_text(text_from_rows(rows, separator).replace("\n", "\r\n")) == rows


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16"])
def test_encodings(encoding) -> None:
    rows, remarks = rows_from_file("x.csv", "code;name\nA;Türholm ⅜\n".encode(encoding))
    assert rows == (("code", "name"), ("A", "Türholm ⅜"))
    assert remarks == ()


def test_text_that_a_spreadsheet_would_run_is_defused_and_comes_back() -> None:
    written = sheet_as_csv(NAMED)
    assert ",=" not in written
    assert "'=HYPERLINK(1)" in written
    book = openpyxl.load_workbook(io.BytesIO(sheet_as_xlsx(NAMED)))
    assert all(cell.data_type != "f" for row in book.active.iter_rows() for cell in row)
    for content in (written.encode(), sheet_as_xlsx(NAMED), sheet_as_json(NAMED).encode()):
        rows, _ = rows_from_file("x", content)
        assert read_table(ReadTable(rows=rows)).sheet == NAMED


def test_numbers_stand_in_a_workbook_as_numbers() -> None:
    book = openpyxl.load_workbook(io.BytesIO(sheet_as_xlsx(NAMED)))
    values = [cell.value for row in book.active.iter_rows() for cell in row]
    assert 1.25 in values
    assert -2 in values


def test_a_formula_in_a_workbook_is_a_problem_of_its_line() -> None:
    book = openpyxl.Workbook()
    for row in (("code", "length", "width", "height"), ("A", "=1+2", 2, 3), ("B", 1, 2.5, 3)):
        book.active.append(row)
    out = io.BytesIO()
    book.save(out)
    draft = read_table(ReadTable(rows=rows_from_file("x.xlsx", out.getvalue())[0]))
    assert draft.sheet is None
    assert "“=1+2” is a formula" in draft.lines[1].troubles[0].words


def test_a_workbook_that_unpacks_to_a_mountain() -> None:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("xl/worksheets/sheet1.xml", b"0" * (45 * 1024 * 1024))
    with pytest.raises(Refused, match="unpacks to more than such a file ever holds"):
        rows_from_file("bomb.xlsx", out.getvalue())


@pytest.mark.parametrize(
    ("name", "content", "words"),
    [
        ("a.csv", b"", "the file is empty"),
        ("a.csv", b" \n ", "the file is empty"),
        ("a.xlsx", b"code,length", "named .xlsx but is no workbook"),
        ("a.csv", b"%PDF-1.7 \x00\x01", "neither text nor a workbook"),
        ("a.json", b"{", "the file"),
        ("a.json", b'{"name": "x", "construction": "boat", "points": []}', "construction"),
        ("a.json", b'{"name": "x", "construction": "trailer", "points": [], "more": 1}', "more"),
    ],
)
def test_what_is_no_sheet_is_refused_by_name(name, content, words) -> None:
    with pytest.raises(Refused, match=words) as caught:
        rows_from_file(name, content)
    assert caught.value.field == "file"
    assert name in caught.value.title


def test_json_is_the_shape_of_the_contract() -> None:
    assert sheet_from_json(sheet_as_json(NAMED)) == NAMED


@pytest.mark.parametrize(
    "cell", ["=1+2", "\t=1", "\r=1", "\n+1", " =1", "＝1+2", "＋1", "－1-", "＠SUM(1)", "@x", "-x"]
)
def test_no_cell_runs_as_a_formula(cell) -> None:
    assert defused(cell) == "'" + cell


@pytest.mark.parametrize("cell", ["", "F4R", "a=b", "4.5", "'=1"])
def test_other_cells_stay_as_they_are(cell) -> None:
    assert defused(cell) == cell


def test_a_cell_without_end_and_a_workbook_with_a_hole_are_refused() -> None:
    with pytest.raises(Refused, match="quotation mark that is never closed"):
        rows_from_text("code,length\nA," + "9" * 140_000)
    whole = sheet_as_xlsx(NAMED)
    with zipfile.ZipFile(io.BytesIO(whole)) as archive:
        members = {name: archive.read(name) for name in archive.namelist()}
    for name in members:
        for content in (b"", b"<", members[name][: len(members[name]) // 2]):
            out = io.BytesIO()
            with zipfile.ZipFile(out, "w") as archive:
                for other, own in members.items():
                    archive.writestr(other, content if other == name else own)
            try:
                assert rows_from_file("x.xlsx", out.getvalue())
            except Refused as refused:
                assert refused.field == "file"
