"""Words of how a vehicle stands on its wheels."""

from fairsquare.words.said import Table

WORDS: Table = {
    "demand.stance": "It stands level on its wheels",
    "todo.stance": "read both wheel arches of each axle, from the ground up",
    "stance.level": "both axles read, and level",
    "stance.unread": "The {axle} axle’s stance is not read.",
    "stance.leans": "The {axle} axle stands {by_mm} higher on the {side}; at most {most_mm} are let go.",
}
