"""The form of the shop: hours and holidays, places, what people can do, what stations take; products, units, time zone."""

from collections.abc import Mapping

from fairsquare.core.errors import Refused
from fairsquare.core.plan.shop_said import (
    DAYS,
    HandSaid,
    Holiday,
    PlaceSaid,
    ShopSaid,
    StationTakes,
    read_stretches,
)
from fairsquare.web.forms import figures, number_of, whole
from fairsquare.web.product_forms import PRODUCT, product_of, product_row
from fairsquare.web.rows import Row, length_or, made, made_of, typed_rows

SHOP_ROWS: dict[str, tuple[str, ...]] = {
    "place": ("name", "many"),
    "hand": ("name", "skills", "away"),
    "takes": ("station", "skill", "place"),
    "holiday": ("day", "name"),
    "product": PRODUCT,
}


def shop_typed(typed: Mapping[str, str]) -> ShopSaid:
    """Return the shop as it was typed. Raises `Refused` that names the field."""
    rows = typed_rows(typed, SHOP_ROWS)
    return made_of(
        ShopSaid,
        "",
        week=tuple(read_stretches(typed.get(f"week-{k}", ""), f"week-{k}") for k in range(len(DAYS))),
        places=made(rows["place"], "place", _place),
        hands=made(rows["hand"], "hand", _hand),
        takes=made(rows["takes"], "takes", lambda row, field: made_of(StationTakes, field, **row)),
        holidays=made(rows["holiday"], "holiday", lambda row, field: made_of(Holiday, field, **row)),
        products=made(rows["product"], "product", product_of),
        units="in" if typed.get("units") == "in" else "mm",
        time_zone=typed.get("time_zone", "").strip(),
        leads_second_factor=typed.get("leads_second_factor") == "yes",
        most_chains=whole(typed.get("most_chains") or "2", "most_chains"),
        thread_mm=length_or(typed.get("thread", ""), "thread", 1.25),
        shim_mm=length_or(typed.get("shim", ""), "shim", 0.5),
        chain_sets_n=1000.0 * (number_of(typed.get("chain_sets") or "5", "chain_sets") or 0.0),
    )


def shop_rows(said: ShopSaid) -> dict[str, list[Row]]:
    """Return the rows of the form as they were said."""
    return {
        "place": [{"name": place.name, "many": str(place.many)} for place in said.places],
        "hand": [
            {"name": hand.name, "skills": ", ".join(hand.skills), "away": ", ".join(hand.away)} for hand in said.hands
        ],
        "takes": [{"station": take.station, "skill": take.skill, "place": take.place} for take in said.takes],
        "holiday": [{"day": holiday.day, "name": holiday.name} for holiday in said.holidays],
        "product": [product_row(product) for product in said.products],
    }


def week_rows(said: ShopSaid, typed: Mapping[str, str] | None) -> list[tuple[str, str, str]]:
    """Return field, name and hours of each day, as they were typed or else said."""
    return [
        (
            f"week-{k}",
            day,
            typed[f"week-{k}"]
            if typed and f"week-{k}" in typed
            else ", ".join(f"{shift.since}-{shift.until}" for shift in (said.week[k] if k < len(said.week) else ())),
        )
        for k, day in enumerate(DAYS)
    ]


def _place(row: Row, field: str) -> PlaceSaid:
    many = figures(row["many"].strip() or "1", 2)
    if not many:
        raise Refused(
            "A place with none of it is no place: how many are there, 1 or more?",
            field=f"{field}-many",
            value=row["many"][:20],
        )
    return made_of(PlaceSaid, field, name=row["name"], many=many)


def _hand(row: Row, field: str) -> HandSaid:
    return made_of(HandSaid, field, name=row["name"], skills=_words(row["skills"]), away=_words(row["away"]))


def _words(text: str) -> tuple[str, ...]:
    return tuple(dict.fromkeys(word for piece in text.split(",") if (word := " ".join(piece.split()))))
