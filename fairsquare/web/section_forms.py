"""The forms of a section: rows of layers, features, windows, welds, as they are typed and as they were said.

A bare number is mm; any other unit is typed with its name.
"""

import re
from collections.abc import Callable, Iterable, Mapping
from typing import Any, TypeVar

from pydantic import ValidationError

from fairsquare.core.cut.drill import SIDES, Side
from fairsquare.core.cut.section import (
    CLEARANCES,
    AccessCut,
    Behind,
    Face,
    LinesSaid,
    Reach,
    SeamSaid,
    StackPart,
    StripFeature,
    StripLayer,
    StripSaid,
    WeldSaid,
    WeldsSaid,
    Window,
)
from fairsquare.core.errors import Refused
from fairsquare.core.lengths import read_length
from fairsquare.core.model import Model

Row = dict[str, str]
M = TypeVar("M", bound=Model)
STRIP_ROWS: dict[str, tuple[str, ...]] = {
    "layer": ("id", "from", "to", "thick", "material", "hurt-from", "hurt-to", "joint", "faces", "maker"),
    "feature": ("kind", "from", "to", "layers", "across", "words"),
    "window": ("layer", "from", "to", "source"),
    "access": ("layer", "from", "to", "words"),
    "behind": ("kind", "from", "to", "words"),
    "opening": ("layer", "at", "words"),
}
WELD_ROWS: dict[str, tuple[str, ...]] = {
    "part": ("id", "fate", "material", "thick"),
    "weld": ("id", "kind", "flange", "at", "across", "stack", "vehicle", "donor", "after", "squeeze"),
    "seam": ("id", "flange", "from", "to", "stack", "how"),
}
_CHOSEN = frozenset({"kind", "fate", "material", "joint", "layer", "vehicle", "donor", "after", "squeeze"})
"""Fields of a row that are chosen from a list: a row in which nothing else is filled in is an empty one."""
REACHES: dict[str, tuple[Side, ...]] = {"both": SIDES, "top": ("top",), "bottom": ("bottom",), "none": ()}
_AT = re.compile(r"^(.+?)\s*[-–…]\s*(.+?)\s+by\s+(\d+)$")


_ROW_OF = {
    "layers": "layer",
    "features": "feature",
    "windows": "window",
    "access": "access",
    "behind": "behind",
    "access_cuts": "opening",
    "parts": "part",
    "seams": "seam",
}
_CELL_OF = {"thickness_mm": "thick", "damage": "hurt-from"}


def form_field(field: str | None, typed: Mapping[str, str]) -> str:
    """Return the field of a form that a fault of what was made of it is about: `features.2.from` is `feature-2-from`."""
    match (field or "").split("."):
        case [listed, number, *rest] if listed in _ROW_OF and number.isdigit():
            cell = rest[0] if rest else "from"
            return f"{_ROW_OF[listed]}-{number}-{_CELL_OF.get(cell, cell)}"
        case ["damage", *name]:
            rows = typed_rows(typed, STRIP_ROWS)["layer"]
            at = next((k for k, row in enumerate(rows) if row["id"] == ".".join(name)), 0)
            return f"layer-{at}-hurt-from"
        case ["welds", number, *rest] if number.isdigit():
            return f"weld-{_row_of_weld(int(number), typed)}-{rest[0] if rest else 'stack'}"
        case ["welds", "id"]:
            return "weld-0-id"
    return field or ""


def _row_of_weld(number: int, typed: Mapping[str, str]) -> int:
    """Return the row that a weld came from: a row may be many welds."""
    rows = typed_rows(typed, WELD_ROWS)["weld"]
    for index, row in enumerate(rows):
        run = _AT.fullmatch(row["at"])
        number -= int(run[3]) if run else 1
        if number < 0:
            return index
    return max(len(rows) - 1, 0)


def field_words(field: str) -> str:
    """Return a field of a form as it is said: `feature-2-from` is the third row of features, from."""
    match = re.fullmatch(r"([a-z]+)-(\d+)-([a-z-]+)", field)
    if match is None:
        return field.replace("-", " ").replace("_", " ")
    cell = {"hurt-from": "damage from", "hurt-to": "damage to", "thick": "thickness"}.get(match[3], match[3])
    return f"{match[1]} {int(match[2]) + 1}, {cell}"


def typed_rows(typed: Mapping[str, str], of: Mapping[str, tuple[str, ...]]) -> dict[str, list[Row]]:
    """Return the rows of a form as they were typed, by kind; empty ones are left out."""
    return {kind: list(_filled(typed, kind, fields).values()) for kind, fields in of.items()}


def row_names(typed: Mapping[str, str]) -> Callable[[str, int], str]:
    """Return how the row of a form is called in which the thing of a kind and number was typed: empty rows are not counted."""
    rows = {kind: list(_filled(typed, kind, fields)) for kind, fields in STRIP_ROWS.items()}

    def name(kind: str, number: int) -> str:
        own = rows.get(kind, [])
        return f"{kind}-{own[number] if number < len(own) else number}"

    return name


def _filled(typed: Mapping[str, str], kind: str, fields: tuple[str, ...]) -> dict[int, Row]:
    """Return the rows of a kind in which something was typed, by their numbers in the form."""
    numbers = sorted({int(m[1]) for name in typed if (m := re.fullmatch(rf"{kind}-(\d{{1,4}})-[a-z-]+", name))})
    rows = {
        number: {field: typed.get(f"{kind}-{number}-{field}", "").strip() for field in fields} for number in numbers
    }
    return {
        number: row
        for number, row in rows.items()
        if any(value for field, value in row.items() if field not in _CHOSEN)
    }


def strip_rows(strip: StripSaid | None) -> dict[str, list[Row]]:
    """Return a strip as rows of texts, in mm."""
    if strip is None:
        return {kind: [] for kind in STRIP_ROWS}
    return {
        "layer": [
            {
                "id": one.id,
                "from": _plain(one.start),
                "to": _plain(one.end),
                "thick": _plain(one.thickness_mm),
                "material": one.material,
                "hurt-from": _plain(one.damage[0]) if one.damage else "",
                "hurt-to": _plain(one.damage[1]) if one.damage else "",
                "joint": one.joint,
                "faces": ", ".join(f"{face.name} {_plain(face.width_mm)}" for face in one.faces),
                "maker": one.maker,
            }
            for one in strip.layers
        ],
        "feature": [
            {
                "kind": one.kind,
                "from": _plain(one.start),
                "to": _plain(one.end),
                "layers": "" if one.layers is None else ", ".join(one.layers),
                "across": "" if one.across_mm is None else _plain(one.across_mm),
                "words": one.words,
            }
            for one in strip.features
        ],
        "window": [
            {"layer": one.layer, "from": _plain(one.start), "to": _plain(one.end), "source": one.source}
            for one in strip.windows
        ],
        "access": [
            {"layer": one.layer, "from": _plain(one.start), "to": _plain(one.end), "words": one.words}
            for one in strip.access
        ],
        "behind": [
            {"kind": one.kind, "from": _plain(one.start), "to": _plain(one.end), "words": one.words}
            for one in strip.behind
        ],
        "opening": [{"layer": one.layer, "at": _plain(one.at_mm), "words": one.words} for one in strip.access_cuts],
    }


def strip_typed(typed: Mapping[str, str], now: StripSaid | None) -> StripSaid:
    """Return a strip as it was typed; cuts that a person put stay where their layers are still cut. Raises `Refused`."""
    rows = typed_rows(typed, STRIP_ROWS)
    layers = _made(rows["layer"], "layer", _layer)
    clearance = {
        kind: _length(typed.get(f"clear-{kind}", ""), f"clear-{kind}", usual) for kind, usual in CLEARANCES.items()
    }
    cut = {layer.id for layer in layers if layer.is_cut}
    chosen = {name: at for name, at in now.chosen.items() if name in cut} if now else {}
    return _model(
        StripSaid,
        "strip",
        datum=typed.get("datum", "").strip(),
        runs=typed.get("runs", "rearward"),
        keep=typed.get("keep", "low"),
        layers=layers,
        features=_made(rows["feature"], "feature", _feature),
        windows=_made(rows["window"], "window", lambda r, f: _stretch(Window, r, f, source=r["source"])),
        access=_made(rows["access"], "access", lambda r, f: _stretch(Reach, r, f, words=r["words"])),
        behind=_made(rows["behind"], "behind", _behind),
        access_cuts=_made(rows["opening"], "opening", _opening),
        clearance_mm=clearance,
        stagger_mm=_length(typed.get("stagger", ""), "stagger", 50.0),
        long_mm=_length(typed.get("long", ""), "long", 100.0),
        chosen=chosen,
        reason=now.reason if now and chosen else "",
    )


def _layer(row: Row, field: str) -> StripLayer:
    hurt = (row["hurt-from"], row["hurt-to"])
    if bool(hurt[0]) != bool(hurt[1]):
        raise Refused("Damage has two ends: from where to where.", field=f"{field}-hurt-to", value=hurt[1])
    damage = (_needed(hurt[0], f"{field}-hurt-from"), _needed(hurt[1], f"{field}-hurt-to")) if hurt[0] else None
    thick = _needed(row["thick"], f"{field}-thick")
    if thick <= 0:
        raise Refused("Metal has a thickness: above 0 mm, such as 1.2.", field=f"{field}-thick", value=row["thick"])
    if not row["id"]:
        raise Refused("Name the layer, such as outer.", field=f"{field}-id", value="")
    return _model(
        StripLayer,
        field,
        id=row["id"],
        start=_needed(row["from"], f"{field}-from"),
        end=_needed(row["to"], f"{field}-to"),
        thickness_mm=thick,
        material=row["material"] or "mild",
        damage=damage,
        joint=row["joint"] or "butt_backed",
        maker=row["maker"],
        faces=tuple(_faces(row["faces"], f"{field}-faces")),
    )


def _faces(text: str, field: str) -> Iterable[Face]:
    for said in (part.strip() for part in text.split(",") if part.strip()):
        name, _, width = said.rpartition(" ")
        if not name:
            raise Refused("Each face with its name and width, such as web 95, flange 18.", field=field, value=text)
        yield _model(Face, field, name=name.strip(), width_mm=_needed(width, field))


def _feature(row: Row, field: str) -> StripFeature:
    names = tuple(part.strip() for part in row["layers"].split(",") if part.strip())
    return _model(
        StripFeature,
        field,
        kind=row["kind"],
        start=_needed(row["from"], f"{field}-from"),
        end=_needed(row["to"] or row["from"], f"{field}-to"),
        layers=names or None,
        across_mm=_needed(row["across"], f"{field}-across") if row["across"] else None,
        words=row["words"],
    )


def _stretch(model: type[M], row: Row, field: str, **more: str) -> M:
    return _model(
        model,
        field,
        layer=row["layer"],
        start=_needed(row["from"], f"{field}-from"),
        end=_needed(row["to"], f"{field}-to"),
        **more,
    )


def _behind(row: Row, field: str) -> Behind:
    return _model(
        Behind,
        field,
        kind=row["kind"],
        start=_needed(row["from"], f"{field}-from"),
        end=_needed(row["to"], f"{field}-to"),
        words=row["words"],
    )


def _opening(row: Row, field: str) -> AccessCut:
    at = _needed(row["at"], f"{field}-at")
    return _model(AccessCut, field, layer=row["layer"], at_mm=at, words=row["words"])


def lines_typed(typed: Mapping[str, str]) -> LinesSaid:
    """Return how the lines are drawn, as it was typed. Raises `Refused`."""

    def some(name: str) -> float | None:
        text = typed.get(name, "").strip()
        return _needed(text, name) if text else None

    low, high = some("limit-low"), some("limit-high")
    if (low is None) != (high is None):
        raise Refused(
            "Limits of the gap come in pairs: the least and the most.",
            field="limit-high",
            value=typed.get("limit-high"),
        )
    limits = (low, high) if low is not None and high is not None else None
    usual = LinesSaid()
    return _model(
        LinesSaid,
        "",
        tool=typed.get("saw", "").strip(),
        marking=typed.get("marking", usual.marking),
        line_width_mm=some("line_width"),
        marks=int(typed.get("marks", "2")) if typed.get("marks", "2") in ("1", "2") else 0,
        kerf_mm=_length(typed.get("kerf", ""), "kerf", usual.kerf_mm),
        kerf_sigma_mm=_length(typed.get("kerf_sigma", ""), "kerf_sigma", usual.kerf_sigma_mm),
        trim_sigma_mm=_length(typed.get("trim_sigma", ""), "trim_sigma", usual.trim_sigma_mm),
        gap_mm=some("gap"),
        limits_mm=limits,
        overlap_mm=_length(typed.get("overlap", ""), "overlap", usual.overlap_mm),
        donor_sheet_mm=some("donor_sheet"),
        donor_read_mm=some("donor_read"),
        bend_mm=some("bend") or 0.0,
        bend_over_mm=some("bend_over") or 0.0,
    )


def weld_rows(said: WeldsSaid | None) -> dict[str, list[Row]]:
    """Return welds as rows of texts, in mm."""
    if said is None:
        return {kind: [] for kind in WELD_ROWS}
    words = {sides: name for name, sides in REACHES.items()}
    return {
        "part": [
            {"id": one.id, "fate": one.fate, "material": one.material, "thick": _plain(one.thickness_mm)}
            for one in said.parts
        ],
        "weld": [
            {
                "id": one.id,
                "kind": one.kind,
                "flange": one.flange,
                "at": _plain(one.at_mm),
                "across": _plain(one.across_mm),
                "stack": ", ".join(one.stack),
                **{name: words[_ordered(getattr(one, name))] for name in ("vehicle", "donor", "after")},
                "squeeze": "yes" if one.squeeze else "no",
            }
            for one in said.welds
        ],
        "seam": [
            {
                "id": one.id,
                "flange": one.flange,
                "from": _plain(one.start),
                "to": _plain(one.end),
                "stack": ", ".join(one.stack),
                "how": one.how,
            }
            for one in said.seams
        ],
    }


def _ordered(sides: Iterable[Side]) -> tuple[Side, ...]:
    return tuple(side for side in SIDES if side in set(sides))


def welds_typed(typed: Mapping[str, str]) -> WeldsSaid:
    """Return welds as they were typed; a row whose place reads `40-420 by 11` is that many welds, evenly. Raises `Refused`."""
    rows = typed_rows(typed, WELD_ROWS)
    part = typed.get("part", "")
    usual = WeldsSaid()
    welds = [weld for index, row in enumerate(rows["weld"]) for weld in _welds(row, f"weld-{index}")]
    return _model(
        WeldsSaid,
        "",
        donor=typed.get("donor", usual.donor),
        part=int(part) if part.isdigit() and len(part) < 18 else None,
        parts=_made(rows["part"], "part", _part),
        welds=tuple(_numbered(welds)),
        seams=_made(rows["seam"], "seam", _seam),
        pilot_mm=_length(typed.get("pilot", ""), "pilot", usual.pilot_mm),
        hole_mm=_length(typed.get("hole", ""), "hole", usual.hole_mm),
    )


def _part(row: Row, field: str) -> StackPart:
    return _model(
        StackPart,
        field,
        id=row["id"],
        fate=row["fate"],
        material=row["material"] or "mild",
        thickness_mm=_needed(row["thick"], f"{field}-thick") if row["thick"] else 1.0,
    )


def _stack(text: str) -> tuple[str, ...]:
    return tuple(part.strip() for part in re.split(r"[,/]", text) if part.strip())


def _welds(row: Row, field: str) -> Iterable[WeldSaid]:
    run = _AT.fullmatch(row["at"])
    many = int(run[3]) if run else 1
    if not 1 <= many <= 400:
        raise Refused("1 to 400 welds in a row, such as 40-420 by 11.", field=f"{field}-at", value=row["at"])
    first = _needed(run[1] if run else row["at"], f"{field}-at")
    last = _needed(run[2], f"{field}-at") if run else first
    for k in range(many):
        yield _model(
            WeldSaid,
            field,
            id=row["id"] if many == 1 and row["id"] else f"?{row['id']}",
            kind=row["kind"] or "spot",
            flange=row["flange"],
            at_mm=round(first + (last - first) * (k / (many - 1) if many > 1 else 0.0), 3),
            across_mm=_needed(row["across"], f"{field}-across") if row["across"] else 0.0,
            stack=_stack(row["stack"]),
            vehicle=REACHES.get(row["vehicle"], SIDES),
            donor=REACHES.get(row["donor"], SIDES),
            after=REACHES.get(row["after"], SIDES),
            squeeze=row["squeeze"] == "yes",
        )


def _numbered(welds: list[WeldSaid]) -> Iterable[WeldSaid]:
    """Return the welds with numbers for those that have none: the next free ones, behind the letters that were typed."""
    taken = {weld.id for weld in welds if not weld.id.startswith("?")}
    for weld in welds:
        if not weld.id.startswith("?"):
            yield weld
            continue
        letters = weld.id[1:].rstrip("0123456789")
        number = 1
        while f"{letters}{number}" in taken:
            number += 1
        taken.add(f"{letters}{number}")
        yield weld.model_copy(update={"id": f"{letters}{number}"})


def _seam(row: Row, field: str) -> SeamSaid:
    if not row["id"]:
        raise Refused("Give the seam a name, such as S1.", field=f"{field}-id", value="")
    return _model(
        SeamSaid,
        field,
        id=row["id"],
        flange=row["flange"],
        start=_needed(row["from"], f"{field}-from"),
        end=_needed(row["to"], f"{field}-to"),
        stack=_stack(row["stack"]),
        how=row["how"],
    )


def _made(rows: list[Row], kind: str, make: Callable[[Row, str], M]) -> tuple[M, ...]:
    return tuple(make(row, f"{kind}-{index}") for index, row in enumerate(rows))


def _needed(text: str, field: str) -> float:
    if not text.strip():
        raise Refused("A length is missing here.", field=field, value="")
    return float(read_length(text, "mm", field=field).mm)


def _length(text: str, field: str, usual: float) -> float:
    value = _needed(text, field) if text.strip() else usual
    if value < 0:
        raise Refused("This is 0 or more.", field=field, value=text)
    return value


def _plain(mm: float) -> str:
    return f"{mm:.10g}"


def _model(model: type[M], field: str, **values: Any) -> M:
    """Return a model of what was typed. Raises `Refused` that names the field of the form."""
    try:
        return model.model_validate(values)
    except ValidationError as fault:
        first = fault.errors(include_url=False)[0]
        name = str(first["loc"][0]) if first["loc"] else ""
        where = "-".join(part for part in (field, _FORM_NAMES.get(name, name)) if part)
        value = first["input"]
        raise Refused(
            f"{name.replace('_', ' ')}: {first['msg'][:1].lower()}{first['msg'][1:]}.",
            field=where,
            value=value if isinstance(value, str | int | float) else str(value)[:80],
        ) from None


_FORM_NAMES = {"tool": "saw", "from": "from", "to": "to", "thickness_mm": "thick", "at_mm": "at", "across_mm": "across"}
