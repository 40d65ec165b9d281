"""The forms of a section: rows of layers, features, windows, welds, as they are typed and as they were said.

A bare number is mm; any other unit is typed with its name.
"""

import re
from collections.abc import Callable, Iterable, Mapping

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
from fairsquare.job.damage.choices import MemberState, member_states
from fairsquare.job.facts.job import JobFacts
from fairsquare.web.forms import figures
from fairsquare.web.rows import M, Row, filled, length_or, made, made_of, needed, plain, typed_rows

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
        case [listed, number, *rest] if listed in _ROW_OF and figures(number) is not None:
            cell = rest[0] if rest else "from"
            return f"{_ROW_OF[listed]}-{number}-{_CELL_OF.get(cell, cell)}"
        case ["damage", *name]:
            rows = typed_rows(typed, STRIP_ROWS)["layer"]
            at = next((k for k, row in enumerate(rows) if row["id"] == ".".join(name)), 0)
            return f"layer-{at}-hurt-from"
        case ["welds", number, *rest] if figures(number) is not None:
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


def row_names(typed: Mapping[str, str]) -> Callable[[str, int], str]:
    """Return how the row of a form is called in which the thing of a kind and number was typed: empty rows are not counted."""
    rows = {kind: list(filled(typed, kind, fields)) for kind, fields in STRIP_ROWS.items()}

    def name(kind: str, number: int) -> str:
        own = rows.get(kind, [])
        return f"{kind}-{own[number] if number < len(own) else number}"

    return name


def strip_rows(strip: StripSaid) -> dict[str, list[Row]]:
    """Return a strip as rows of texts, in mm."""
    return {
        "layer": [
            {
                "id": layer.id,
                "from": plain(layer.start),
                "to": plain(layer.end),
                "thick": plain(layer.thickness_mm),
                "material": layer.material,
                "hurt-from": plain(layer.damage[0]) if layer.damage else "",
                "hurt-to": plain(layer.damage[1]) if layer.damage else "",
                "joint": layer.joint,
                "faces": ", ".join(f"{face.name} {plain(face.width_mm)}" for face in layer.faces),
                "maker": layer.maker,
            }
            for layer in strip.layers
        ],
        "feature": [
            {
                "kind": feature.kind,
                "from": plain(feature.start),
                "to": plain(feature.end),
                "layers": "" if feature.layers is None else ", ".join(feature.layers),
                "across": "" if feature.across_mm is None else plain(feature.across_mm),
                "words": feature.words,
            }
            for feature in strip.features
        ],
        "window": [
            {"layer": window.layer, "from": plain(window.start), "to": plain(window.end), "source": window.source}
            for window in strip.windows
        ],
        "access": [
            {"layer": reach.layer, "from": plain(reach.start), "to": plain(reach.end), "words": reach.words}
            for reach in strip.access
        ],
        "behind": [
            {"kind": thing.kind, "from": plain(thing.start), "to": plain(thing.end), "words": thing.words}
            for thing in strip.behind
        ],
        "opening": [
            {"layer": access_cut.layer, "at": plain(access_cut.at_mm), "words": access_cut.words}
            for access_cut in strip.access_cuts
        ],
    }


def strip_known(facts: JobFacts, member: str) -> dict[str, list[Row]]:
    """Return the rows of a strip to begin with: its layers and their materials, as they stand on Decide."""
    own = [state for state in member_states(facts) if state.member == member and (state.layer or state.seen)]
    rows: list[Row] = [
        {"id": state.layer or member, "material": _told_material(state), "joint": "butt_backed"} for state in own
    ]
    blank = dict.fromkeys(STRIP_ROWS["layer"], "")
    return {kind: [] for kind in STRIP_ROWS} | {"layer": [blank | row for row in rows]}


def welds_known(facts: JobFacts, member: str, strip: StripSaid | None) -> dict[str, list[Row]]:
    """Return the rows of a map to begin with: what comes in, of the metal that its strip, or Decide, says already."""
    rows: list[Row] = [
        {"id": layer.id, "fate": "donor", "material": layer.material, "thick": plain(layer.thickness_mm)}
        for layer in (strip.layers if strip else ())
    ]
    if not rows:
        own = [state for state in member_states(facts) if state.member == member]
        rows = [
            {"id": state.layer or member, "fate": "donor", "material": _told_material(state), "thick": ""}
            for state in own
        ]
    return {kind: [] for kind in WELD_ROWS} | {"part": rows}


def _told_material(state: MemberState) -> str:
    said = state.seen.material if state.seen else "unknown"
    return "" if said == "unknown" else said


def strip_typed(typed: Mapping[str, str], now: StripSaid | None) -> StripSaid:
    """Return a strip as it was typed; cuts that a person put stay where their layers are still cut. Raises `Refused`."""
    rows = typed_rows(typed, STRIP_ROWS)
    layers = made(rows["layer"], "layer", _layer)
    clearance = {
        kind: length_or(typed.get(f"clear-{kind}", ""), f"clear-{kind}", usual) for kind, usual in CLEARANCES.items()
    }
    cut = {layer.id for layer in layers if layer.is_cut}
    chosen = {name: at for name, at in now.chosen.items() if name in cut} if now else {}
    return made_of(
        StripSaid,
        "strip",
        datum=typed.get("datum", "").strip(),
        runs=typed.get("runs", "rearward"),
        keep=typed.get("keep", "low"),
        layers=layers,
        features=made(rows["feature"], "feature", _feature),
        windows=made(rows["window"], "window", lambda r, f: _stretch(Window, r, f, source=r["source"])),
        access=made(rows["access"], "access", lambda r, f: _stretch(Reach, r, f, words=r["words"])),
        behind=made(rows["behind"], "behind", _behind),
        access_cuts=made(rows["opening"], "opening", _opening),
        clearance_mm=clearance,
        stagger_mm=length_or(typed.get("stagger", ""), "stagger", 50.0),
        long_mm=length_or(typed.get("long", ""), "long", 100.0),
        chosen=chosen,
        reason=now.reason if now and chosen else "",
    )


def _layer(row: Row, field: str) -> StripLayer:
    hurt = (row["hurt-from"], row["hurt-to"])
    if bool(hurt[0]) != bool(hurt[1]):
        raise Refused("Damage has two ends: from where to where.", field=f"{field}-hurt-to", value=hurt[1])
    damage = (needed(hurt[0], f"{field}-hurt-from"), needed(hurt[1], f"{field}-hurt-to")) if hurt[0] else None
    thick = _thick(row, field)
    if not row["id"]:
        raise Refused("Name the layer, such as outer.", field=f"{field}-id", value="")
    return made_of(
        StripLayer,
        field,
        id=row["id"],
        start=needed(row["from"], f"{field}-from"),
        end=needed(row["to"], f"{field}-to"),
        thickness_mm=thick,
        material=_material(row, field),
        damage=damage,
        joint=row["joint"] or "butt_backed",
        maker=row["maker"],
        faces=tuple(_faces(row["faces"], f"{field}-faces")),
    )


def _thick(row: Row, field: str) -> float:
    """Return how thick the metal of a row is, mm: it is drilled, and welded, by that."""
    thick = needed(row["thick"], f"{field}-thick")
    if thick <= 0:
        raise Refused("Metal has a thickness: above 0 mm, such as 1.2.", field=f"{field}-thick", value=row["thick"])
    return thick


def _material(row: Row, field: str) -> str:
    """Return of what a row is made; never a material that nobody said: a drill does not go through every one."""
    if not row["material"]:
        raise Refused("Of what is it made? Ask the maker’s book, or a magnet.", field=f"{field}-material", value="")
    return row["material"]


def _faces(text: str, field: str) -> Iterable[Face]:
    for said in (part.strip() for part in text.split(",") if part.strip()):
        name, _, width = said.rpartition(" ")
        if not name:
            raise Refused("Each face with its name and width, such as web 95, flange 18.", field=field, value=text)
        yield made_of(Face, field, name=name.strip(), width_mm=needed(width, field))


def _feature(row: Row, field: str) -> StripFeature:
    names = tuple(part.strip() for part in row["layers"].split(",") if part.strip())
    return made_of(
        StripFeature,
        field,
        kind=row["kind"],
        start=needed(row["from"], f"{field}-from"),
        end=needed(row["to"] or row["from"], f"{field}-to"),
        layers=names or None,
        across_mm=needed(row["across"], f"{field}-across") if row["across"] else None,
        words=row["words"],
    )


def _stretch(model: type[M], row: Row, field: str, **more: str) -> M:
    return made_of(
        model,
        field,
        layer=row["layer"],
        start=needed(row["from"], f"{field}-from"),
        end=needed(row["to"], f"{field}-to"),
        **more,
    )


def _behind(row: Row, field: str) -> Behind:
    return made_of(
        Behind,
        field,
        kind=row["kind"],
        start=needed(row["from"], f"{field}-from"),
        end=needed(row["to"], f"{field}-to"),
        words=row["words"],
    )


def _opening(row: Row, field: str) -> AccessCut:
    at = needed(row["at"], f"{field}-at")
    return made_of(AccessCut, field, layer=row["layer"], at_mm=at, words=row["words"])


def lines_typed(typed: Mapping[str, str]) -> LinesSaid:
    """Return how the lines are drawn, as it was typed. Raises `Refused`."""

    def some(name: str) -> float | None:
        text = typed.get(name, "").strip()
        return needed(text, name) if text else None

    low, high = some("limit-low"), some("limit-high")
    if (low is None) != (high is None):
        raise Refused(
            "Limits of the gap come in pairs: the least and the most.",
            field="limit-high",
            value=typed.get("limit-high"),
        )
    limits = (low, high) if low is not None and high is not None else None
    usual = LinesSaid()
    return made_of(
        LinesSaid,
        "",
        tool=typed.get("saw", "").strip(),
        marking=typed.get("marking", usual.marking),
        line_width_mm=some("line_width"),
        marks=int(typed.get("marks", "2")) if typed.get("marks", "2") in ("1", "2") else 0,
        kerf_mm=length_or(typed.get("kerf", ""), "kerf", usual.kerf_mm),
        kerf_sigma_mm=length_or(typed.get("kerf_sigma", ""), "kerf_sigma", usual.kerf_sigma_mm),
        trim_sigma_mm=length_or(typed.get("trim_sigma", ""), "trim_sigma", usual.trim_sigma_mm),
        gap_mm=some("gap"),
        limits_mm=limits,
        overlap_mm=length_or(typed.get("overlap", ""), "overlap", usual.overlap_mm),
        donor_sheet_mm=some("donor_sheet"),
        donor_read_mm=some("donor_read"),
        bend_mm=some("bend") or 0.0,
        bend_over_mm=some("bend_over") or 0.0,
    )


def weld_rows(said: WeldsSaid) -> dict[str, list[Row]]:
    """Return welds as rows of texts, in mm."""
    words = {sides: name for name, sides in REACHES.items()}
    return {
        "part": [
            {"id": part.id, "fate": part.fate, "material": part.material, "thick": plain(part.thickness_mm)}
            for part in said.parts
        ],
        "weld": [
            {
                "id": weld.id,
                "kind": weld.kind,
                "flange": weld.flange,
                "at": plain(weld.at_mm),
                "across": plain(weld.across_mm),
                "stack": ", ".join(weld.stack),
                **{name: words[_ordered(getattr(weld, name))] for name in ("vehicle", "donor", "after")},
                "squeeze": "yes" if weld.squeeze else "no",
            }
            for weld in said.welds
        ],
        "seam": [
            {
                "id": seam.id,
                "flange": seam.flange,
                "from": plain(seam.start),
                "to": plain(seam.end),
                "stack": ", ".join(seam.stack),
                "how": seam.how,
            }
            for seam in said.seams
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
    return made_of(
        WeldsSaid,
        "",
        donor=typed.get("donor", usual.donor),
        part=figures(part),
        parts=made(rows["part"], "part", _part),
        welds=tuple(_numbered(welds)),
        seams=made(rows["seam"], "seam", _seam),
        pilot_mm=length_or(typed.get("pilot", ""), "pilot", usual.pilot_mm),
        hole_mm=length_or(typed.get("hole", ""), "hole", usual.hole_mm),
    )


def _part(row: Row, field: str) -> StackPart:
    return made_of(
        StackPart,
        field,
        id=row["id"],
        fate=row["fate"],
        material=_material(row, field),
        thickness_mm=_thick(row, field),
    )


def _stack(text: str) -> tuple[str, ...]:
    return tuple(part.strip() for part in re.split(r"[,/]", text) if part.strip())


def _welds(row: Row, field: str) -> Iterable[WeldSaid]:
    run = _AT.fullmatch(row["at"])
    many = int(run[3]) if run else 1
    if not 1 <= many <= 400:
        raise Refused("1 to 400 welds in a row, such as 40-420 by 11.", field=f"{field}-at", value=row["at"])
    first = needed(run[1] if run else row["at"], f"{field}-at")
    last = needed(run[2], f"{field}-at") if run else first
    for k in range(many):
        yield made_of(
            WeldSaid,
            field,
            id=row["id"] if many == 1 and row["id"] else f"?{row['id']}",
            kind=row["kind"] or "spot",
            flange=row["flange"],
            at_mm=round(first + (last - first) * (k / (many - 1) if many > 1 else 0.0), 3),
            across_mm=needed(row["across"], f"{field}-across") if row["across"] else 0.0,
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
    return made_of(
        SeamSaid,
        field,
        id=row["id"],
        flange=row["flange"],
        start=needed(row["from"], f"{field}-from"),
        end=needed(row["to"], f"{field}-to"),
        stack=_stack(row["stack"]),
        how=row["how"],
    )
