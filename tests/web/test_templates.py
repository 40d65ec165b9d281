"""Templates and style sheets are written to be read: no line is wider than a screen, and none is indented with tabs."""

from pathlib import Path

import pytest

import fairsquare.web
from fairsquare.web.page import STYLES

WIDEST = 120
WEB = Path(fairsquare.web.__file__).parent
SHEETS = WEB / "static" / "style"


@pytest.mark.parametrize(
    "file", [*sorted(WEB.glob("templates/**/*.html")), *sorted(SHEETS.glob("*.css"))], ids=lambda p: p.name
)
def test_no_line_is_wider_than_a_screen(file: Path) -> None:
    lines = file.read_text(encoding="utf-8").splitlines()
    assert [number for number, line in enumerate(lines, start=1) if len(line) > WIDEST or "\t" in line] == []


def test_every_style_sheet_is_linked_once_and_the_tokens_first() -> None:
    assert sorted(STYLES) == sorted(sheet.stem for sheet in SHEETS.glob("*.css"))
    assert STYLES[0] == "tokens"
