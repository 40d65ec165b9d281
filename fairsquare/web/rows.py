"""Rows and fields of forms as they are typed: read into models, and shown again as they were typed beside what is wrong.

A bare number is mm; any other unit is typed with its name.
"""

import re
from collections.abc import Callable, Mapping
from typing import Any, TypeVar

from pydantic import ValidationError

from fairsquare.core.errors import Refused
from fairsquare.core.lengths import read_length
from fairsquare.core.model import Model

Row = dict[str, str]
M = TypeVar("M", bound=Model)
CHOSEN = frozenset(
    [
        "kind",
        "fate",
        "material",
        "joint",
        "layer",
        "vehicle",
        "donor",
        "after",
        "squeeze",
        "panel",
        "way",
        "flush",
        "stage",
        "gets",
        "left",
        "scrap",
    ]
)
"""Fields of a row that are chosen from a list: a row in which nothing else is filled in is an empty one."""


def typed_rows(typed: Mapping[str, str], of: Mapping[str, tuple[str, ...]]) -> dict[str, list[Row]]:
    """Return the rows of a form as they were typed, by kind; empty ones are left out."""
    return {kind: list(filled(typed, kind, fields).values()) for kind, fields in of.items()}


def filled(typed: Mapping[str, str], kind: str, fields: tuple[str, ...]) -> dict[int, Row]:
    """Return the rows of a kind in which something was typed, by their numbers in the form."""
    numbers = sorted({int(m[1]) for name in typed if (m := re.fullmatch(rf"{kind}-(\d{{1,4}})-[a-z-]+", name))})
    rows = {
        number: {field: typed.get(f"{kind}-{number}-{field}", "").strip() for field in fields} for number in numbers
    }
    return {
        number: row for number, row in rows.items() if any(value for field, value in row.items() if field not in CHOSEN)
    }


def field_words(field: str) -> str:
    """Return a field of a form as it is said: `feature-2-from` is the third row of features, from."""
    match = re.fullmatch(r"([a-z]+)-(\d+)-([a-z-]+)", field)
    if match is None:
        return field.replace("-", " ").replace("_", " ")
    cell = {"hurt-from": "damage from", "hurt-to": "damage to", "thick": "thickness"}.get(match[3], match[3])
    return f"{match[1]} {int(match[2]) + 1}, {cell}"


def made(rows: list[Row], kind: str, make: Callable[[Row, str], M]) -> tuple[M, ...]:
    """Return what is made of each row; `make` is told the row and how its fields begin."""
    return tuple(make(row, f"{kind}-{index}") for index, row in enumerate(rows))


def needed(text: str, field: str) -> float:
    """Return a length in mm. Raises `Refused` that names the field, also where nothing was typed."""
    if not text.strip():
        raise Refused("A length is missing here.", field=field, value="")
    return float(read_length(text, "mm", field=field).mm)


def length_or(text: str, field: str, usual: float) -> float:
    """Return a length of 0 or more, mm; the usual one where nothing was typed. Raises `Refused`."""
    value = needed(text, field) if text.strip() else usual
    if value < 0:
        raise Refused("This is 0 or more.", field=field, value=text)
    return value


def plain(mm: float) -> str:
    """Return a figure as it would be typed."""
    return f"{mm:.10g}"


def made_of(model: type[M], field: str, **values: Any) -> M:
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
