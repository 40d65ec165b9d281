"""What is said of seams, coupons, welds and products."""

from fairsquare.words.said import Table

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
    "bond.waits": lambda values, _reader: (
        "{told}" if "told" in values else "Products are not ready, or the steps do not fit in their time."
    ),
}
