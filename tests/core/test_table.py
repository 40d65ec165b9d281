"""A sheet as a table: understood in any column order and unit, with every problem beside its line."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fairsquare.core.sheet.differences import differences
from fairsquare.core.sheet.model import Point, Sheet, Span
from fairsquare.core.sheet.table import ReadTable, read_table, table_of, with_suggestion
from fairsquare.files.sheets import rows_from_text
from fairsquare.stand_ins.vehicles import VEHICLES


def draft(text: str, **more):
    return read_table(ReadTable(rows=rows_from_text(text), **more))


def troubles(text: str, **more) -> str:
    found = draft(text, **more)
    return " | ".join(
        [t.words for t in found.troubles] + [f"{ln.line} {t.words}" for ln in found.lines for t in ln.troubles]
    )


HEAD = "code,length,width,height\n"
TWO = "A1L,100,50,10\nA1R,100,-50,10\n"


@pytest.mark.parametrize("vehicle", VEHICLES, ids=lambda v: v.name)
def test_a_sheet_written_as_a_table_reads_back_to_itself(vehicle) -> None:
    assert read_table(ReadTable(rows=table_of(vehicle.sheet))).sheet == vehicle.sheet


coordinate = st.floats(-9000, 9000, allow_subnormal=False).map(lambda v: round(v, 3) + 0.0)


@given(st.lists(st.tuples(coordinate, coordinate, coordinate), min_size=2, max_size=6), st.booleans())
def test_any_sheet_reads_back_to_itself(places, asymmetric) -> None:
    points = tuple(
        Point(code=f"P{i}", xyz=xyz, reference=i % 2 == 0, asymmetric=asymmetric, tolerance_mm=(1.5, 2.0, 3.25))
        for i, xyz in enumerate(places)
    )
    sheet = Sheet(
        name="any", construction="ladder", points=points, spans=(Span(a="P0", b="P1", mode="datum_parallel", mm=7.25),)
    )
    assert read_table(ReadTable(rows=table_of(sheet))).sheet == sheet


def test_any_column_order_units_and_sides() -> None:
    found = draft("H (mm);ref;W;code;L in\n180;yes;548;C1L;40\n18 cm;x;548 right;C1R;3 ft 4\n")
    assert [p.xyz for p in found.sheet.points] == [(1016.0, 548.0, 180.0), (1016.0, -548.0, 180.0)]
    assert all(p.reference for p in found.sheet.points)
    assert "read as cm, 180.00 mm" in found.lines[2].troubles[1].words + found.lines[2].troubles[0].words
    assert found.said["C1R"] == ("3 ft 4", "548 right", "18 cm")


def test_inches_as_the_files_unit() -> None:
    found = draft(HEAD + "A1L,40,21 3/8,7 1/16\nA1R,40,-21 3/8,7 1/16\n", unit="in")
    assert found.sheet.points[0].xyz == (1016.0, 542.925, 179.3875)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "nothing in it"),
        ("1,2,3\n", "should name the columns"),
        ("code,length,width\nA,1,2\n", "“height” is missing"),
        (HEAD + "A1L,100,50,10\n", "A sheet of one point"),
        (HEAD + TWO + "A1L,1,2,3\n", "4 code: A1L stands already on line 2"),
        (HEAD + TWO + "B,nan,2,3\n", "4 length: “nan” is not a length"),
        (HEAD + TWO + "B,1e308,2,3\n", "4 length: “1e308” is not a length"),
        (HEAD + TWO + "B,99999999999,2,3\n", "longer than any vehicle"),
        (HEAD + TWO + "B,=A1+1,2,3\n", "is a formula"),
        (HEAD + TWO + "B,100,5,50,10,5\n", "more cells than there are columns"),
        (HEAD + TWO + "B,,2,3\n", "4 length: the cell is empty"),
        (HEAD + TWO + ",1,2,3\n", "4 code: the cell is empty"),
        (HEAD + TWO + "B 2,1,2,3\n", "should be one short word"),
        (HEAD + TWO + "B,7 1/8,2,3\n", "a fraction without a unit"),
        (HEAD.replace("height", "height,tolerance") + "A,1,2,3,-1\nB,1,2,3,1\n", "must not be below nought"),
        (HEAD.replace("height", "height,ref") + "A,1,2,3,maybe\n", "should be yes or empty"),
        (HEAD + TWO + "from,to,mode,distance\nA1L,A9,,5\n", "5 to: A9 is not among the points"),
        (HEAD + TWO + "from,to,mode,distance\nA1L,A1R,sideways,5\n", "should be point_to_point"),
        (HEAD + TWO + "from,to,mode,distance\nA1L,A1R,,0\n", "above nought"),
        ("code,code,length,width,height\nA,B,1,2,3\n", "stands twice"),
    ],
)
def test_problems_stand_beside_their_lines(text, words) -> None:
    assert words in troubles(text)


def test_what_the_sheet_check_finds_stands_at_its_line_and_is_written_only_when_taken() -> None:
    text = (
        HEAD + "A1L,1599 mm,50,10\nA1R,62.9527559,50 right,10\nB,1,2,3\nfrom,to,distance\nA1L,B,1598.7\nA1R,B,1598.9\n"
    )
    request = ReadTable(rows=rows_from_text(text))
    found = read_table(request)
    (finding,) = found.findings
    assert (finding.kind, found.line_of(finding), found.blocking) == ("unit", 3, 0)
    mended = with_suggestion(request, finding.suggestion)
    assert mended[2] == ("A1R", "1599 mm", "50 right", "10")
    assert [row for n, row in enumerate(mended) if n != 2] == [row for n, row in enumerate(request.rows) if n != 2]
    assert read_table(ReadTable(rows=mended)).findings == ()


def test_a_span_is_mended_in_its_own_cells() -> None:
    text = HEAD + "A,0,0,0\nB,1000,0,900\nfrom,to,mode,distance\nA,B,point_to_point,1000\n"
    request = ReadTable(rows=rows_from_text(text))
    found = read_table(request)
    assert found.line_of(found.findings[0]) == 5
    mended = with_suggestion(request, found.findings[0].suggestion)
    assert mended[4] == ("A", "B", "datum_parallel", "1000 mm")


def test_warnings_do_not_block_and_problems_do() -> None:
    assert draft(HEAD + "A1L,100,50,10\nA1R,104,-50,10\n").sheet is not None
    assert draft(HEAD + TWO + "B,x,2,3\n").sheet is None


def test_markup_is_only_text() -> None:
    found = draft("code,name,length,width,height\nA1L,<b>bold</b>,1,2,3\nB1L,x,1,2,9\n")
    assert found.sheet.points[0].name == "<b>bold</b>"


def test_what_differs_between_two_versions() -> None:
    old = draft(HEAD + TWO).sheet
    new = draft(HEAD + "A1L,101,50,10\nB1L,1,2,3\n", tolerance_mm=2.0).sheet
    words = differences(old, new)
    assert "A1L: length 100 mm → 101 mm" in words
    assert "A1R: no longer on the sheet" in words
    assert "B1L: new on the sheet" in words
    assert any("tolerance" in one for one in words)
    assert differences(old, old) == ()
