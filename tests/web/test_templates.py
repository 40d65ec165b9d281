"""Templates are written to be read: no line is wider than a screen, and none is indented with tabs."""

from pathlib import Path

import pytest

import fairsquare.web

WIDEST = 120
TEMPLATES = sorted(Path(fairsquare.web.__file__).parent.joinpath("templates").rglob("*.html"))


@pytest.mark.parametrize("template", TEMPLATES, ids=lambda path: path.name)
def test_no_line_is_wider_than_a_screen(template: Path) -> None:
    lines = template.read_text(encoding="utf-8").splitlines()
    assert [number for number, line in enumerate(lines, start=1) if len(line) > WIDEST or "\t" in line] == []
