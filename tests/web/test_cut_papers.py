"""Templates and cards as they leave the printer: read back, rasterised and measured."""

import io
import time

import numpy as np
import pypdfium2
import pytest
from PIL import Image
from pypdf import PdfReader

import fairsquare.web.paper as paper_module
from fairsquare.web.paper import PaperFault
from tests.web.cutting import STRIP


def rasterised(pdf: bytes, page: int, dpi: float) -> np.ndarray:
    """A page as grey levels, (rows, columns)."""
    image: Image.Image = pypdfium2.PdfDocument(pdf)[page].render(scale=dpi / 72).to_pil()
    return np.array(image.convert("L"))


@pytest.mark.parametrize(("paper", "size"), [("A4", (297.0, 210.0)), ("Letter", (279.4, 215.9))])
def test_a_printed_template_measures_what_it_says(planned, as_role, paper, size) -> None:
    """The page rasterised at 600 dots an inch: the check bar is 100 mm, the line stands where it should from the datum."""
    query = f"layer=outer&whose=vehicle&reach=datum&paper={paper}"
    answer = as_role("technician").http.get(f"/jobs/{planned}/cuts/1/template.pdf?{query}")
    assert answer.headers["content-type"] == "application/pdf"
    reader = PdfReader(io.BytesIO(answer.content))
    box = reader.pages[0].mediabox
    assert (float(box.width) / 72 * 25.4, float(box.height) / 72 * 25.4) == pytest.approx(size, abs=0.05)
    dark = rasterised(answer.content, 0, 600) < 140
    mm = 25.4 / 600
    row = longest_run_row(dark, 100 / mm)
    ticks = [(a + b) / 2 * mm for a, b in runs(dark[row + round(2 / mm)])][:11]
    assert len(ticks) == 11, "a tick each ten millimetres"
    assert ticks[-1] - ticks[0] == pytest.approx(100.0, abs=0.05)
    assert np.diff(ticks) == pytest.approx(np.full(10, 10.0), abs=0.05)
    web = dark[row - round(70 / mm)]
    strokes = [(a + b) / 2 * mm for a, b in runs(web)]
    apart = {round(b - a, 2) for a in strokes for b in strokes if b > a}
    assert min(abs(one - 45.0) for one in apart) <= 0.05, "from the datum to the line"
    assert "45.0 mm ahead of F4R" in reader.pages[0].extract_text()


def runs(row):
    edges = np.flatnonzero(np.diff(np.concatenate(([0], row.astype(int), [0]))))
    return list(zip(edges[::2], edges[1::2], strict=True))


def longest_run_row(dark, wanted):
    """The row with an unbroken run nearest to `wanted` pixels that is no outline: the check bar."""
    best = (1e9, 0)
    for index in range(dark.shape[0]):
        for a, b in runs(dark[index]):
            best = min(best, (abs((b - a) - wanted), index))
    return best[1]


def test_templates_come_as_files_of_their_kinds(planned, as_role) -> None:
    http = as_role("technician").http
    base = f"/jobs/{planned}/cuts/1"
    for kind, start in (("svg", b"<svg"), ("dxf", b"  0\n"), ("pdf", b"%PDF")):
        answer = http.get(f"{base}/template.{kind}?layer=outer&whose=donor")
        assert answer.status_code == 200
        assert answer.content.startswith(start) or kind == "dxf", answer.content[:20]
    assert http.get(f"{base}/template.stl?layer=outer").status_code == 422
    assert http.get(f"{base}/template.svg?layer=roof").status_code == 422
    assert http.get(f"{base}/template?layer=outer&paper=A0").status_code == 422


def test_a_template_of_forty_sheets_is_made_with_its_page_waiting(planned, as_role, desk) -> None:
    ngozi = as_role("technician")
    long = {**STRIP, "layer-0-from": "-11900", "version": "1", "feature-0-kind": "hole"}
    ngozi.post(f"/jobs/{planned}/cuts/1/strip", **long)
    ngozi.post(f"/jobs/{planned}/cuts/1/put", do="keep", reason="far away", **{"cut-0": "-11700", "version": "2"})
    address = f"/jobs/{planned}/cuts/1/template?layer=outer&whose=vehicle&reach=datum&paper=A4"
    first = ngozi.http.get(address, follow_redirects=False)
    assert first.status_code in (200, 303)
    if first.status_code == 200:
        assert "sheets of A4" in first.text
        assert "You may leave this page" in first.text
    pdf = ngozi.http.get(address.replace("/template?", "/template.pdf?"))
    reader = PdfReader(io.BytesIO(pdf.content))
    assert len(reader.pages) >= 40
    assert f"sheet 40 of {len(reader.pages)}" in reader.pages[39].extract_text()
    assert ngozi.http.get(address, follow_redirects=False).status_code == 303


@pytest.mark.parametrize("paper", ["A4", "Letter"])
def test_the_cut_sheet_goes_under_the_car(planned, as_role, paper) -> None:
    pdf = as_role("technician").http.get(f"/jobs/{planned}/cuts/1/sheet.pdf?paper={paper}").content
    reader = PdfReader(io.BytesIO(pdf))
    width, height = float(reader.pages[0].mediabox.width), float(reader.pages[0].mediabox.height)
    assert (width, height) == pytest.approx((595.3, 841.9) if paper == "A4" else (612.0, 792.0), abs=0.5)
    text = " ".join(" ".join(page.extract_text() for page in reader.pages).split())
    for words in (
        "45.0 mm ahead of F4R",
        "wiring harness",
        "AT THE CUT of outer",
        "cut flat from the top",
        "DO NOT DRILL APRON",
        "rail end goes over apron",
        "Fire watch",
        "closes on the saw",
    ):
        assert words in text, words


def test_a_page_that_waits_tells_that_no_pdf_came_of_it_and_makes_it_again(planned, as_role, monkeypatch) -> None:
    ngozi = as_role("technician")
    address = f"/jobs/{planned}/cuts/1/template?layer=outer&whose=donor&reach=datum&paper=Letter"

    def fails(page: str, running: set) -> bytes:
        raise PaperFault("The PDF could not be made: it took too long.")

    monkeypatch.setattr(paper_module, "pdf_of", fails)
    page = ngozi.get(address)
    assert "it took too long" in page and "Make it again" in page and 'hx-trigger="every 1s"' not in page
    polled = ngozi.http.get(address, headers={"hx-request": "true"})
    assert polled.headers["hx-retarget"] == "#making", "the page that waits is told"
    assert "it took too long" in polled.text
    monkeypatch.undo()
    until = time.monotonic() + 60
    again = ngozi.http.get(address)
    while again.headers["content-type"] != "application/pdf" and time.monotonic() < until:
        assert "is being made" in again.text, "on a slow machine it is waited for"
        again = ngozi.http.get(address)
    assert again.headers["content-type"] == "application/pdf"
