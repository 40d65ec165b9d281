"""The forms of seams and of the bonding, as they are typed and as they were said."""

import re
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from fairsquare.core.cut.section import StripLayer, WeldSaid, WeldsSaid
from fairsquare.core.cut.working import mapped_welds
from fairsquare.core.errors import Refused
from fairsquare.core.weld.bonding import BondSaid, SurfaceSaid
from fairsquare.core.weld.gauge import read_thickness
from fairsquare.core.weld.seam import MOST_WELDED, Holder, JoinWeld, SeamPlan
from fairsquare.core.weld.settings import Composition, Metal
from fairsquare.core.weld.timeline import BondStep
from fairsquare.job.cut.job import SectionState
from fairsquare.web.forms import figures, number_of
from fairsquare.web.product_forms import PRODUCT, minutes_of, product_of, product_row
from fairsquare.web.rows import Row, length_or, made, made_of, needed, plain, typed_rows

SEAM_ROWS: dict[str, tuple[str, ...]] = {
    "weld": ("id", "along", "across", "length", "stage", "follows"),
    "holder": ("id", "kind", "welds"),
}
BOND_ROWS: dict[str, tuple[str, ...]] = {
    "product": (*PRODUCT, "batch", "before"),
    "step": ("id", "minutes", "opens", "closes", "needs"),
    "surface": ("place", "kind", "gets"),
}
ELEMENTS = ("c", "mn", "cr", "mo", "v", "ni", "cu")
_RUN = re.compile(r"^(.+?)\s*[-–…]\s*(.+?)\s+by\s+(\d+)$")


def _listed(text: str) -> tuple[str, ...]:
    return tuple(part for part in re.split(r"[,;\s]+", text.strip()) if part)


def seam_typed(typed: Mapping[str, str]) -> SeamPlan:
    """Return a seam as it was typed; a row whose place reads `40-420 by 11` is that many welds. Raises `Refused`."""
    rows = typed_rows(typed, SEAM_ROWS)
    metal: Metal = "aluminium" if typed.get("metal") == "aluminium" else "steel"
    thicknesses = [part.strip() for part in re.split(r"[+;]", typed.get("sheets", "")) if part.strip()]
    if not 2 <= len(thicknesses) <= 3:
        raise Refused(
            "Two or three sheets from the side that is welded, such as 1.2 + 0.8, or 18 ga + 16 ga.", field="sheets"
        )
    sheets = [read_thickness(thickness, metal, field="sheets") for thickness in thicknesses]
    squeeze = typed.get("process") == "squeeze"
    section = typed.get("section", "")
    welds = list(_numbered(weld for k, row in enumerate(rows["weld"]) for weld in _welds(row, f"weld-{k}")))
    return made_of(
        SeamPlan,
        "",
        name=" ".join(typed.get("name", "").split()),
        section=figures(section),
        process=typed.get("process", "plug"),
        metal=metal,
        sheets_mm=tuple(sheet.mm for sheet in sheets),
        sheets_said=" + ".join(
            f"{text} ({sheet.table})" if sheet.table else text for text, sheet in zip(thicknesses, sheets, strict=True)
        ),
        method=None if squeeze else typed.get("method") or None,
        composition=_composition(typed),
        hydrogen_ml_100g=number_of(typed.get("hydrogen", ""), "hydrogen") or 5.0,
        maker=typed.get("maker", "").strip(),
        filler=typed.get("filler", "").strip(),
        ambient_c=_number(typed, "ambient_c", 20.0),
        limit_c=_number(typed, "limit_c", 150.0),
        max_wait_s=_number(typed, "max_wait_s", 120.0),
        welds=welds,
        watch=_listed(typed.get("watch", "")),
        holders=made(rows["holder"], "holder", _holder),
        **{name: _above(typed, name) for name in ("volts", "amperes", "seconds", "speed_mm_s", "energy_j")},
    )


def _number(typed: Mapping[str, str], name: str, usual: float) -> float:
    value = number_of(typed.get(name, ""), name)
    return usual if value is None else value


def _above(typed: Mapping[str, str], name: str) -> float | None:
    value = number_of(typed.get(name, ""), name)
    if value is not None and value <= 0:
        raise Refused("This is above 0.", field=name, value=value)
    return value


def _composition(typed: Mapping[str, str]) -> Composition | None:
    given = {name: number_of(typed.get(f"el-{name}", ""), f"el-{name}") for name in ELEMENTS}
    known = {name: value for name, value in given.items() if value is not None}
    return made_of(Composition, "el", **known) if known else None


def _welds(row: Row, field: str) -> Iterable[JoinWeld]:
    run = _RUN.fullmatch(row["along"])
    many = int(run[3]) if run else 1
    if not 1 <= many <= 60:
        raise Refused("1 to 60 welds in a row, such as 40-420 by 11.", field=f"{field}-along", value=row["along"])
    first = needed(run[1] if run else row["along"], f"{field}-along")
    last = needed(run[2], f"{field}-along") if run else first
    stage = row["stage"] or "1"
    for k in range(many):
        yield made_of(
            JoinWeld,
            field,
            id=row["id"] if many == 1 and row["id"] else f"?{row['id']}",
            along_mm=round(first + (last - first) * (k / (many - 1) if many > 1 else 0.0), 3),
            across_mm=needed(row["across"], f"{field}-across") if row["across"] else 0.0,
            length_mm=length_or(row["length"], f"{field}-length", 0.0),
            stage=figures(stage, 1) or 0,
            after=_listed(row["follows"]),
        )


def _numbered(welds: Iterable[JoinWeld]) -> Iterable[JoinWeld]:
    """Return the welds with numbers for those that have none, behind the letters that were typed."""
    every = list(welds)
    taken = {weld.id for weld in every if not weld.id.startswith("?")}
    for weld in every:
        if not weld.id.startswith("?"):
            yield weld
            continue
        letters, number = weld.id[1:].rstrip("0123456789"), 1
        while f"{letters}{number}" in taken:
            number += 1
        taken.add(f"{letters}{number}")
        yield weld.model_copy(update={"id": f"{letters}{number}"})


def _holder(row: Row, field: str) -> Holder:
    after = figures(row["welds"], 4)
    if after is None:
        raise Refused("After how many welds may it come off?", field=f"{field}-welds", value=row["welds"])
    return made_of(Holder, field, id=row["id"], kind=row["kind"] or "clamp", after_welds=after)


def seam_field(field: str, typed: Mapping[str, str]) -> str:
    """Return the field of the form that a fault of the plan is about: a row may be many welds, so the row is counted."""
    match = re.fullmatch(r"welds?[.-](\d+)[.-](\w+)", field)
    if match is None:
        return "sheets" if field.startswith("thickness_mm") else field.removeprefix("arc.")
    left, cell = int(match[1]), {"after": "follows"}.get(match[2], match[2])
    for k, row in enumerate(typed_rows(typed, SEAM_ROWS)["weld"]):
        run = _RUN.fullmatch(row["along"])
        left -= int(run[3]) if run else 1
        if left < 0:
            return f"weld-{k}-{cell}"
    return field


def seam_rows(plan: SeamPlan) -> dict[str, list[Row]]:
    """Return the rows of a seam as texts, in mm."""
    return {
        "weld": [
            {
                "id": weld.id,
                "along": plain(weld.along_mm),
                "across": plain(weld.across_mm),
                "length": plain(weld.length_mm) if weld.length_mm else "",
                "stage": str(weld.stage),
                "follows": ", ".join(weld.after),
            }
            for weld in plan.welds
        ],
        "holder": [{"id": holder.id, "kind": holder.kind, "welds": str(holder.after_welds)} for holder in plan.holders],
    }


def seam_fields(plan: SeamPlan) -> dict[str, str]:
    """Return the other fields of a seam as texts."""
    numbers = ("volts", "amperes", "seconds", "speed_mm_s", "energy_j", "ambient_c", "limit_c", "max_wait_s")
    shown: dict[str, Any] = {name: getattr(plan, name) for name in numbers}
    elements = {
        f"el-{name}": plain(getattr(plan.composition, name))
        for name in ELEMENTS
        if plan.composition is not None and getattr(plan.composition, name)
    }
    return {
        **{name: "" if value is None else plain(value) for name, value in shown.items()},
        **elements,
        "name": plan.name,
        "section": "" if plan.section is None else str(plan.section),
        "process": plan.process,
        "metal": plan.metal,
        "sheets": " + ".join(plain(mm) for mm in plan.sheets_mm),
        "method": plan.method or "",
        "hydrogen": plain(plan.hydrogen_ml_100g),
        "maker": plan.maker,
        "filler": plan.filler,
        "watch": ", ".join(plan.watch),
    }


def seam_of_section(state: SectionState, watch: Sequence[str] = ()) -> dict[str, Any]:
    """Return the rows and the fields of a seam to begin with, from what was said of a section: the welds of its map that are welded
    again, where they were, and the sheets that lie there. Sheets that nobody said are left empty."""
    joined = _welded_again(state.welds)
    sheets = sheets_of_section(state)
    metals = {part.material for part in state.welds.parts} if state.welds else {part.material for part in _cut(state)}
    plan = SeamPlan(
        name=state.fact.member,
        section=state.fact.number,
        process="plug" if joined or not _cut(state) else "seam",
        metal="aluminium" if metals == {"aluminium"} else "steel",
        sheets_mm=sheets or (1.0, 1.0),
        method="mag",
        volts=17.0,
        amperes=75.0,
        seconds=2.0,
        welds=tuple(
            JoinWeld(id=weld.id, along_mm=weld.at_mm, across_mm=weld.across_mm) for weld in joined[:MOST_WELDED]
        ),
        watch=tuple(watch),
    )
    fields = seam_fields(plan)
    return {"rows": seam_rows(plan), "fields": fields if sheets else {**fields, "sheets": ""}}


def _welded_again(said: WeldsSaid | None) -> list[WeldSaid]:
    return [
        weld.said
        for weld in (mapped_welds(said) if said else ())
        if isinstance(weld.said, WeldSaid)
        and weld.said.kind == "spot"
        and weld.rejoin.kind not in ("rejoin.unknown", "rejoin.nothing_to_weld")
    ]


def _cut(state: SectionState) -> tuple[StripLayer, ...]:
    return tuple(state.strip.cut) if state.strip else ()


def sheets_of_section(state: SectionState) -> tuple[float, ...]:
    """Return how thick the sheets are that a section's seam joins, mm, from the side that is welded; none where nobody said.

    Those of the stack that most welds of its map go through; else the layer that is cut, on itself.
    """
    said = state.welds
    joined = _welded_again(said)
    if said and joined:
        stack, _ = Counter(weld.stack for weld in joined).most_common(1)[0]
        sizes = {part.id: part.thickness_mm for part in said.parts}
        below = all(weld.after == ("bottom",) for weld in joined if weld.stack == stack)
        thicknesses = [sizes[name] for name in (reversed(stack) if below else stack) if name in sizes]
        return tuple(thicknesses[:3]) if len(thicknesses) > 1 else ()
    cut = _cut(state)
    return (cut[0].thickness_mm, cut[0].thickness_mm) if cut else ()


def bond_typed(typed: Mapping[str, str]) -> BondSaid:
    """Return products, steps and surfaces as they were typed. Raises `Refused` that names the field."""
    rows = typed_rows(typed, BOND_ROWS)
    return made_of(
        BondSaid,
        "",
        temperature_c=_number(typed, "temperature_c", 20.0),
        products=made(rows["product"], "product", product_of),
        steps=made(rows["step"], "step", _step),
        surfaces=made(rows["surface"], "surface", _surface),
    )


def _step(row: Row, field: str) -> BondStep:
    return made_of(
        BondStep,
        field,
        id=row["id"],
        minutes=minutes_of(row["minutes"], f"{field}-minutes"),
        opens=_listed(row["opens"]),
        closes=_listed(row["closes"]),
        needs_cured=_listed(row["needs"]),
    )


def _surface(row: Row, field: str) -> SurfaceSaid:
    gets = tuple(part.strip().replace(" ", "_").replace("-", "_") for part in row["gets"].split(",") if part.strip())
    names = {"weld_through_primer": "weld_primer", "bare_metal": "bare", "seam_sealer": "sealer", "cavity_wax": "wax"}
    return made_of(
        SurfaceSaid,
        field,
        place=row["place"],
        kind=row["kind"] or "flange",
        gets=tuple(names.get(product, "foam" if product == "panel_foam" else product) for product in gets),
    )


def bond_rows(said: BondSaid) -> dict[str, list[Row]]:
    """Return products, steps and surfaces as rows of texts."""
    return {
        "product": [product_row(product) for product in said.products],
        "step": [
            {
                "id": step.id,
                "minutes": plain(step.minutes),
                "opens": ", ".join(step.opens),
                "closes": ", ".join(step.closes),
                "needs": ", ".join(step.needs_cured),
            }
            for step in said.steps
        ],
        "surface": [
            {"place": surface.place, "kind": surface.kind, "gets": ", ".join(surface.gets).replace("_", " ")}
            for surface in said.surfaces
        ],
    }
