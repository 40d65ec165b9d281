"""What is said of parts that came in, and of spans taken on them."""

from fairsquare.words.said import Table

WORDS: Table = {
    "part.none": "No part is checked in: nothing is cut for a part that is not here.",
    "part.faults": "{part}: {faults:~}.",
    "part.checked_in": lambda values, _reader: "{many} checked in" if values["many"] else "no new part",
    "part.fewer": "{item}: {new} of {old}",
    "part.still_on": "{item} is still on it",
    "part.too_long": "{a} to {b} is {by_mm} too long",
    "part.too_short": "{a} to {b} is {by_mm} too short",
    "part.uncounted": "not counted off against the old part",
    "part.unmeasured": "a donor can be bent too: measure it",
    "part.layers": "its layers are not counted",
    "part.identity": "the number of the vehicle that it was cut from is not written down",
    "demand.parts": "Parts are complete",
    "todo.parts": "Move the brackets over, or say what is done about them.",
    "todo.check_in": "Check it in",
    "todo.look_at_part": "Look at the part",
}
