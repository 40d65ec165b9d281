"""What is said of seams, coupons, welds and products."""

from collections.abc import Mapping
from typing import Any

from fairsquare.core.weld.bonding import TREATMENTS
from fairsquare.words.said import Reader, Table

_ON = {
    "weld": "where a weld goes",
    "flange": "on a mating flange",
    "bonded": "on a bonded flange",
    "outside": "on the outside",
    "cavity": "in a cavity",
}
_NEVER = {
    ("weld", "adhesive"): "adhesive burns there and spoils the weld",
    ("weld", "sealer"): "sealer burns there and spoils the weld",
    ("weld", "primer"): "common primer is not welded through",
    ("weld", "foam"): "foam burns",
    ("weld", "wax"): "wax burns",
    ("flange", "primer"): "common primer between flanges is not welded through: weld-through primer goes there",
    ("flange", "foam"): "foam holds flanges apart",
    ("flange", "wax"): "wax goes in after welding and paint",
    ("bonded", "weld_primer"): "adhesive does not hold on weld-through primer",
    ("bonded", "wax"): "adhesive does not hold on wax",
    ("bonded", "sealer"): "sealer is not adhesive, and they do not mix",
    ("bonded", "foam"): "foam holds flanges apart",
    ("outside", "weld_primer"): "weld-through primer is for flanges, and paint does not hold on it",
}
_NOT_TOGETHER = {
    ("weld_primer", "adhesive"): "adhesive does not hold on weld-through primer",
    ("wax", "adhesive"): "adhesive does not hold on wax",
    ("wax", "sealer"): "sealer does not hold on wax: it goes on first",
    ("foam", "wax"): "foam does not hold on wax: it goes in first",
    ("bare", "primer"): "it is either left bare or primed",
}


def _never(values: Mapping[str, Any], _reader: Reader) -> str:
    why = _NEVER.get((values["on"], values["what"]))
    return f"{{place}}: no {TREATMENTS[values['what']]} {_ON[values['on']]}{': ' + why if why else ''}."


def _exclude(values: Mapping[str, Any], _reader: Reader) -> str:
    a, b = values["a"], values["b"]
    return f"{{place}}: {TREATMENTS[a]} and {TREATMENTS[b]} exclude each other: {_NOT_TOGETHER[a, b]}."


WORDS: Table = {
    "weld.nothing": "nothing is welded",
    "weld.open": "{seam}: not in, or to be made again: {welds}.",
    "weld.unrecorded": "Final welding is not recorded as done.",
    "weld.done": "{many} welds, done {done_at}",
    "demand.welds": "Every weld is in",
    "todo.welds": "Make the welds in their order, log each, then record that welding is done.",
    "seam.unplanned": "{member}: no seam is planned for it.",
    "seam.no_welds": "{seam}: its welds are not planned.",
    "seam.no_settings": "{seam}: its settings cannot be worked out.",
    "seam.no_coupon": lambda values, _reader: (
        "{seam}: no accepted coupon for these sheets, "
        + ("the last one was not accepted." if values["refused"] else "none is made.")
    ),
    "seam.accepted": "{seam}: accepted by {by}",
    "demand.coupons": "Welds are planned, and their coupons accepted",
    "todo.coupons": "Plan the seam, make the coupon, pull it apart, photograph it.",
    "demand.products": "Products are ready, and the steps fit in their time",
    "todo.products": "Change the steps, the product or the temperature.",
    "bond.products": lambda values, _reader: "{products}" if values["products"] else "listed: none",
    "bond.nothing": "nothing is bonded",
    "bond.never": _never,
    "bond.exclude": _exclude,
    "bond.cold": "{product}: {at_c} °C is outside its {low_c} to {high_c} °C.",
    "bond.too_long": "{product}: the steps take {used_min:.0f} min, it stays workable for {open_min:.0f} min.",
    "bond.past": "{product}: past its date, {day}.",
    "bond.waits": lambda values, _reader: (
        "{told}" if "told" in values else "Products are not ready, or the steps do not fit in their time."
    ),
}
