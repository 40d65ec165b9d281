"""The forms of the dry fit: panels, hinges and gaps as rows, the spans of an opening."""

import re
from collections.abc import Mapping

from fairsquare.core.errors import Refused
from fairsquare.core.fit.said import FitSaid, GapSaid, HingeSaid, PanelSaid
from fairsquare.core.fit.square import SPAN_NAMES, Spans
from fairsquare.core.lengths import read_length
from fairsquare.core.model import Row3
from fairsquare.core.sheet.model import Sheet, points_by_code
from fairsquare.web.rows import Row, length_or, made, made_of, needed, plain, typed_rows

FIT_ROWS: dict[str, tuple[str, ...]] = {
    "panel": ("name", "drop"),
    "hinge": ("panel", "id", "at", "length", "width", "height"),
    "gap": ("place", "panel", "beside", "way", "flush", "at", "target", "tolerance", "near"),
}
_RANGE = re.compile(r"^\s*(?P<low>[-−+]?.+?)\s*(?:to|…|\.\.)\s*(?P<high>[-−+]?.+?)\s*$")


def fit_typed(typed: Mapping[str, str], sheet: Sheet | None) -> FitSaid:
    """Return panels and gaps as they were typed. Raises `Refused` that names the field."""
    rows = typed_rows(typed, FIT_ROWS)
    hinges = [(row["panel"], _hinge(row, f"hinge-{k}", sheet)) for k, row in enumerate(rows["hinge"])]
    names = {row["name"] for row in rows["panel"]}
    for k, (panel, _) in enumerate(hinges):
        if panel not in names:
            raise Refused("Of which panel is this hinge? List the panel first.", field=f"hinge-{k}-panel", value=panel)

    def panel_of(row: Row, field: str) -> PanelSaid:
        own = tuple(hinge for name, hinge in hinges if name == row["name"])
        return made_of(
            PanelSaid, field, name=row["name"], drop_mm=length_or(row["drop"], f"{field}-drop", 0.0), hinges=own
        )

    return made_of(
        FitSaid,
        "",
        panels=made(rows["panel"], "panel", panel_of),
        gaps=made(rows["gap"], "gap", lambda row, field: _gap(row, field, sheet)),
        none_hung=" ".join(typed.get("none_hung", "").split()),
    )


def _hinge(row: Row, field: str, sheet: Sheet | None) -> HingeSaid:
    return made_of(
        HingeSaid,
        field,
        id=row["id"],
        at=place_of(row["at"], f"{field}-at", sheet),
        **{axis: range_of(row[axis], f"{field}-{axis}") for axis in ("length", "width", "height")},
    )


def _gap(row: Row, field: str, sheet: Sheet | None) -> GapSaid:
    if not row["target"].strip():
        raise Refused("What should this gap be? Without a target it says nothing.", field=f"{field}-target", value="")
    if not row["tolerance"].strip():
        raise Refused("By how much may it be out?", field=f"{field}-tolerance", value="")
    flush = row["flush"] == "yes"
    return made_of(
        GapSaid,
        field,
        place=" ".join(row["place"].split()),
        panel=row["panel"],
        beside=row["beside"],
        at=place_of(row["at"], f"{field}-at", sheet) if row["at"].strip() else (0.0, 0.0, 0.0),
        way=row["way"] or "rearward",
        flush=flush,
        target_mm=needed(row["target"], f"{field}-target"),
        tolerance_mm=needed(row["tolerance"], f"{field}-tolerance"),
        near=row["near"].strip() or None,
    )


def place_of(text: str, field: str, sheet: Sheet | None) -> Row3:
    """Return a place as it was typed: three lengths, or a code of the sheet. Raises `Refused`."""
    plain_text = text.strip()
    points = {code.casefold(): point for code, point in points_by_code(sheet).items()} if sheet else {}
    if plain_text.casefold() in points:
        return points[plain_text.casefold()].xyz
    parts = [part for part in re.split(r"[;\s]+", plain_text) if part]
    if len(parts) != 3:
        raise Refused(
            "Length, width and height, such as 1210 -740 655, or a code of the sheet.", field=field, value=text[:60]
        )
    x, y, z = (float(read_length(part, "mm", field=field).mm) for part in parts)
    return x, y, z


def range_of(text: str, field: str) -> tuple[float, float]:
    """Return a range as it was typed: “-2 to 3”, or “3” for 3 either way; nothing is no range. Raises `Refused`."""
    plain_text = text.strip()
    if not plain_text:
        return 0.0, 0.0
    match = _RANGE.match(plain_text)
    if match is None:
        far = abs(needed(plain_text.lstrip("±"), field))
        return -far, far
    low, high = needed(match["low"].replace("−", "-"), field), needed(match["high"].replace("−", "-"), field)
    if low > high:
        raise Refused("From the least to the most, such as -2 to 3.", field=field, value=text[:40])
    return low, high


def fit_rows(said: FitSaid) -> dict[str, list[Row]]:
    """Return panels and gaps as rows of texts, in mm."""
    return {
        "panel": [{"name": panel.name, "drop": plain(panel.drop_mm)} for panel in said.panels],
        "hinge": [
            {
                "panel": panel.name,
                "id": hinge.id,
                "at": " ".join(plain(v) for v in hinge.at),
                **{axis: _range_words(getattr(hinge, axis)) for axis in ("length", "width", "height")},
            }
            for panel in said.panels
            for hinge in panel.hinges
        ],
        "gap": [
            {
                "place": gap.place,
                "panel": gap.panel,
                "beside": gap.beside,
                "way": gap.way,
                "flush": "yes" if gap.flush else "no",
                "at": "" if gap.at == (0.0, 0.0, 0.0) else " ".join(plain(v) for v in gap.at),
                "target": plain(gap.target_mm),
                "tolerance": plain(gap.tolerance_mm),
                "near": gap.near or "",
            }
            for gap in said.gaps
        ],
    }


def _range_words(of: tuple[float, float]) -> str:
    low, high = of
    if low == high == 0:
        return ""
    return plain(high) if low == -high else f"{plain(low)} to {plain(high)}"


def spans_typed(typed: Mapping[str, str], which: str) -> Spans:
    """Return the six spans of an opening as they were typed under `which`. Raises `Refused` that names the field."""
    return made_of(
        Spans, which, **{name: needed(typed.get(f"{which}-{name}", ""), f"{which}-{name}") for name in SPAN_NAMES}
    )
