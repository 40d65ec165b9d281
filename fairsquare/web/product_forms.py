"""Products as rows of a form: what the label says, in a job's bonding and in the shop's own list."""

from fairsquare.core.errors import Refused
from fairsquare.core.weld.bonding import USUAL_OPEN_MIN, ProductSaid
from fairsquare.web.forms import number_of
from fairsquare.web.rows import Row, made_of, plain

PRODUCT = ("id", "kind", "open", "at", "q10", "cure", "from", "to")


def product_of(row: Row, field: str) -> ProductSaid:
    """Return a product as it was typed. Raises `Refused` that names the field."""
    kind = row["kind"] or "adhesive"
    usual = USUAL_OPEN_MIN.get(kind, 30)  # type: ignore[call-overload]
    opened = number_of(row["open"], f"{field}-open")
    if opened is not None and opened <= 0:
        raise Refused("A working time is above 0 minutes.", field=f"{field}-open", value=row["open"])
    return made_of(
        ProductSaid,
        field,
        id=row["id"],
        kind=kind,
        open_min=usual if opened is None else opened,
        at_c=_number(row, field, "at", 20.0),
        q10=_number(row, field, "q10", 2.0),
        cure_min=minutes_of(row["cure"], f"{field}-cure") if row["cure"] else None,
        range_c=(_number(row, field, "from", 5.0), _number(row, field, "to", 35.0)),
        batch=row.get("batch", ""),
        best_before=row.get("before", ""),
    )


def product_row(product: ProductSaid) -> Row:
    """Return a product as a row of texts."""
    return {
        "id": product.id,
        "kind": product.kind,
        "open": plain(product.open_min),
        "at": plain(product.at_c),
        "q10": plain(product.q10),
        "cure": "" if product.cure_min is None else plain(product.cure_min),
        "from": plain(product.range_c[0]),
        "to": plain(product.range_c[1]),
        "batch": product.batch,
        "before": product.best_before,
    }


def minutes_of(text: str, field: str) -> float:
    """Return minutes of 0 or more. Raises `Refused` that names the field."""
    value = number_of(text, field)
    if value is None or value < 0:
        raise Refused("Minutes of 0 or more.", field=field, value=text[:40])
    return value


def _number(row: Row, field: str, name: str, usual: float) -> float:
    value = number_of(row[name], f"{field}-{name}")
    return usual if value is None else value
