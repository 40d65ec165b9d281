"""The call line: what is called out, in the order in which people say it, and what was understood.

F4R 2162.4 -504.1 351                    a point in the instrument's axes
F2L C1R 1523            (or … flat)      a span in space, or seen from above
F2L 512 left                             an offset from the line
F2L 315 high                             a height above the level plane
gauge F1L F1R pin 6 right level 2 left high arms 120 120
F1L F1R 4 ahead         (or … higher)    a difference: the first less the second
F1L F1R square 3 over 600 left ahead     a framing square's gap over its blade
"""

import re
from collections.abc import Sequence
from itertools import combinations
from typing import NamedTuple

from fairsquare.core.errors import FairSquareError, Refused, UnknownCode
from fairsquare.core.lengths import Unit, read_length
from fairsquare.core.measure.observations import Axis
from fairsquare.core.model import LARGEST_MM, Row3
from fairsquare.core.sheet.model import SpanMode, nearest_codes
from fairsquare.job.facts.measure import Read

HOW = (
    "Call a point and three numbers (F4R 2162 -504 351), two points and a span (F2L C1R 1523), a point with left, right or high "
    "(F2L 512 left), or a gauge (gauge F1L F1R pin 6 right level 2 left high)."
)
_LOADED_WORDS = {"loaded": True, "load": True, "free": False}
_MODES: dict[str, SpanMode] = {
    "space": "point_to_point",
    "point-to-point": "point_to_point",
    "flat": "datum_parallel",
    "above": "datum_parallel",
    "datum-parallel": "datum_parallel",
}
_SIDES = {"left": 1, "l": 1, "right": -1, "r": -1}
_HIGH = {"high": 1, "up": 1, "low": -1, "down": -1, "height": 1}
_DIFFERENCES: dict[str, tuple[Axis, int]] = {
    "ahead": ("length", 1),
    "behind": ("length", -1),
    "higher": ("height", 1),
    "lower": ("height", -1),
    "lefter": ("width", 1),
    "righter": ("width", -1),
}
_PINS = {"half": 0.5, "quarter": 0.25, "one": 1.0, "a": 1.0, "two": 2.0}
_AFTER_CODE = re.compile(r"(?<=[A-Za-z0-9]),(?=\s)")
"""A comma behind a word, as people write it between codes and numbers; a decimal comma has a digit behind it."""
_SAME_ARM_MM = 0.5
_LONGEST_SPAN_MM = 30_000.0
_ACROSS_MM = 100.0
_MOST_WORDS = 24
_LONGEST_CODE = 12


class Call(Read):
    """A call as understood. `loaded` is None where it was not said.

    `share` is what the tool's sigma is to be multiplied by: a square's gap counts for more across the vehicle.
    """

    loaded: bool | None = None
    share: float = 1.0


class Context(NamedTuple):
    """What a call is understood by: the sheet's places under their codes, the unit of bare numbers, the gauges' pin width, mm.

    `mode` is how a span is meant that does not say.
    """

    places: dict[str, Row3]
    unit: Unit = "mm"
    pin_mm: float | None = None
    mode: SpanMode = "point_to_point"


def understand_call(text: str, context: Context) -> Call:
    """Understand what was called out: codes in any case, lengths in any unit.

    A trailing `loaded` or `free` says how it was read. Raises `UnknownCode` that proposes the nearest codes, and
    `Refused` or `NotALength` that say what would be right; their field is `call`.
    """
    words = _AFTER_CODE.sub(" ", text).replace(";", " ; ").split()
    loaded = None
    if words and words[-1].lower() in _LOADED_WORDS:
        loaded = _LOADED_WORDS[words.pop().lower()]
    if not words:
        raise Refused(HOW, field="call", value=text)
    if len(words) > _MOST_WORDS:
        raise Refused(f"That is too much for one call. {HOW}", field="call", value=text)
    if words[0].lower() == "gauge":
        call = _gauge(words[1:], context, text)
    else:
        code = _code(words[0], context)
        rest = words[1:]
        if len(rest) > 1 and not rest[0][0].isdigit() and _is_code(rest[0], rest[1:]):
            call = _between(code, _code(rest[0], context), rest[1:], context, text)
        elif rest and rest[-1].lower() in _SIDES | _HIGH:
            call = _off_line(code, rest, context, text)
        else:
            call = Call(kind="point", code=code, xyz=_three_lengths(code, rest, context.unit, text))
    return call.model_copy(update={"loaded": loaded})


def understand_point(text: str, codes: Sequence[str], unit: Unit = "mm") -> Call:
    """Understand a point with three numbers. Raises `Refused` for any other call: its field is `call`."""
    call = understand_call(text, Context(dict.fromkeys(codes, (0.0, 0.0, 0.0)), unit))
    if call.kind != "point":
        raise Refused("Here a point and its three numbers are called.", field="call", value=text)
    return call


def _is_code(word: str, rest: Sequence[str]) -> bool:
    """Say whether a word behind a code is meant as another code: it begins with a letter, and numbers follow."""
    return word[0].isalpha() and any(any(c.isdigit() for c in word_left) for word_left in rest)


def _code(said: str, context: Context) -> str:
    """Return the sheet's code that was said; without a sheet, whatever begins with a letter."""
    codes = list(context.places)
    if not codes and said[0].isalpha() and said.isalnum() and len(said) <= _LONGEST_CODE:
        return said.upper()
    if said in codes:
        return said
    same = [code for code in codes if code.upper() == said.upper()]
    if len(same) == 1:
        return same[0]
    nearest = same or nearest_codes(said, codes)
    hint = f"Did you mean {' or '.join(nearest)}?" if nearest else HOW
    raise UnknownCode(f"{said} is not on the sheet. {hint}", field="call", value=said, details={"nearest": nearest})


def _between(code: str, b: str, words: list[str], context: Context, text: str) -> Call:
    """Understand what was read between two points: a span, a difference or a square."""
    if code == b:
        raise Refused(f"{code} against itself reads nothing: name two different points.", field="call", value=text)
    if words[0].lower() == "square":
        return _square(code, b, words[1:], context, text)
    last = words[-1].lower()
    if last in _DIFFERENCES:
        axis, sign = _DIFFERENCES[last]
        return Call(kind="difference", code=code, b=b, axis=axis, mm=sign * _length(words[:-1], context, text))
    mode = context.mode
    if last in _MODES:
        mode, words = _MODES[last], words[:-1]
    mm = _length(words, context, text)
    if not 0 < mm <= _LONGEST_SPAN_MM:
        raise Refused(
            f"{mm:g} mm is no span: it is above 0 mm and at most {_LONGEST_SPAN_MM:g} mm.",
            field="call",
            value=text,
        )
    return Call(kind="span", code=code, b=b, mode=mode, mm=mm)


def _square(code: str, b: str, words: list[str], context: Context, text: str) -> Call:
    """Understand "3 over 600 left ahead": laid across the vehicle, a square's gap over its blade is a skew of left to right."""
    _need_sheet(context, text)
    low = [word.lower() for word in words]
    if "over" not in low or low[-1:] not in (["ahead"], ["behind"]) or low[-2:-1] not in (["left"], ["right"]):
        raise Refused("Call a square as: F1L F1R square 3 over 600 left ahead.", field="call", value=text)
    at = low.index("over")
    gap, blade = _length(words[:at], context, text), _length(words[at + 1 : -2], context, text)
    if blade <= 0 or abs(gap) > blade:
        raise Refused("A square's gap is smaller than its blade is long.", field="call", value=text)
    apart = context.places[code][1] - context.places[b][1]
    if abs(apart) < _ACROSS_MM:
        raise Refused(
            f"{code} and {b} do not stand across the vehicle: a square says nothing.", field="call", value=text
        )
    ahead = (1 if low[-1] == "ahead" else -1) * _SIDES[low[-2]]
    share = abs(apart) / blade
    return Call(
        kind="difference", code=code, b=b, axis="length", mm=ahead * (1 if apart > 0 else -1) * gap * share, share=share
    )


def _off_line(code: str, words: list[str], context: Context, text: str) -> Call:
    word = words[-1].lower()
    mm = _length(words[:-1], context, text)
    if word in _HIGH:
        return Call(kind="height", code=code, mm=_HIGH[word] * mm)
    return Call(kind="offset", code=code, mm=_SIDES[word] * mm)


def _gauge(words: list[str], context: Context, text: str) -> Call:
    """Understand "F1L F1R pin 6 right level 2 left high arms 120 120": parts in any order, each once."""
    _need_sheet(context, text)
    if len(words) < 3:
        raise Refused(f"A gauge hangs on two points and has a pin or a level. {HOW}", field="call", value=text)
    a, b = _code(words[0], context), _code(words[1], context)
    if a == b:
        raise Refused(f"A gauge cannot hang on {a} twice: name the points it hangs on.", field="call", value=text)
    parts = _parts(words[2:], text)
    if not parts.keys() & {"pin", "level"}:
        raise Refused("Say the pin, the level, or both: pin 6 right, level 2 left high.", field="call", value=text)
    return Call(
        kind="gauge",
        code=a,
        b=b,
        pin_mm=_pin(parts["pin"], context, text) if "pin" in parts else None,
        level_mm=_level(parts["level"], a, b, context, text) if "level" in parts else None,
        arm_mm=_arms(parts["arms"], context, text) if "arms" in parts else None,
    )


def _need_sheet(context: Context, text: str) -> None:
    if not context.places:
        raise Refused(
            "There is no sheet yet: until then only spans between two points are read.", field="call", value=text
        )


def _parts(words: list[str], text: str) -> dict[str, list[str]]:
    parts: dict[str, list[str]] = {}
    name = ""
    for word in words:
        low = word.lower().rstrip(",")
        key = "arms" if low == "arm" else low
        if key in ("pin", "level", "arms") and key != name and not (key == "pin" and name == "pin"):
            if key in parts:
                raise Refused(f"{key} is said twice.", field="call", value=text)
            name = key
            parts[name] = []
        elif not name:
            raise Refused(f"Behind the two points comes pin, level or arms, not “{word}”.", field="call", value=text)
        else:
            parts[name].append(word.rstrip(","))
    return parts


def _pin(words: list[str], context: Context, text: str) -> float:
    """Return how far the pin stands left (+) of the line: "6 right", "half left", "1.5 pins left", "centre"."""
    low = [word.lower() for word in words]
    if low in (["centre"], ["center"], ["0"]):
        return 0.0
    if not low or low[-1] not in _SIDES:
        raise Refused(
            "Say to which side the pin stands: pin 6 right, pin half left, or pin centre.", field="call", value=text
        )
    side, amount = _SIDES[low[-1]], low[:-1]
    in_pins = bool(amount) and (amount[-1] in ("pin", "pins") or amount[0] in _PINS)
    amount = [word for word in amount if word not in ("pin", "pins", "a") or (word == "a" and len(amount) == 1)]
    if not in_pins:
        return side * _length(amount, context, text)
    if context.pin_mm is None:
        raise Refused("How wide is a pin? The gauges' pin width is not known: say it in mm.", field="call", value=text)
    if len(amount) > 1:
        raise Refused("Say the pin once, and to which side: pin half left.", field="call", value=text)
    share = _PINS.get(amount[0]) if amount else 1.0
    if share is None:
        try:
            share = float(amount[0].replace(",", "."))
        except ValueError:
            raise Refused(f"“{' '.join(words)}” is no number of pins.", field="call", value=text) from None
    return side * share * context.pin_mm


def _level(words: list[str], a: str, b: str, context: Context, text: str) -> float:
    """Return how much higher a hangs than b: "2 left high", "1.5 right low", "level", "0"."""
    low = [word.lower() for word in words]
    if low in ([], ["0"], ["level"]):
        return 0.0
    if len(low) < 3 or low[-1] not in ("high", "low") or low[-2] not in _SIDES:
        raise Refused("Say which side hangs high or low: level 2 left high, or level 0.", field="call", value=text)
    mm = _length(words[:-2], context, text)
    a_is_left = context.places[a][1] >= context.places[b][1]
    high = (1 if low[-1] == "high" else -1) * _SIDES[low[-2]]
    return mm * high * (1 if a_is_left else -1)


def _arms(words: list[str], context: Context, text: str) -> float:
    """Return the mark at which both arms hang. Raises `Refused` where they hang at different ones."""
    arm = next(
        (
            (left, right)
            for cut in range(1, len(words))
            if (left := _maybe(words[:cut], context)) is not None
            and (right := _maybe(words[cut:], context)) is not None
        ),
        None,
    )
    if arm is None:
        raise Refused("Say the mark of each arm: arms 120 120.", field="call", value=text)
    if abs(arm[0] - arm[1]) > _SAME_ARM_MM:
        raise Refused(
            f"The arms hang at {arm[0]:g} and {arm[1]:g}: a gauge with unequal arms shows a twist that is not there. "
            "Hang both at the same mark and read again.",
            field="call",
            value=text,
        )
    return arm[0]


def _maybe(words: Sequence[str], context: Context) -> float | None:
    try:
        return float(read_length(" ".join(words), context.unit, field="call").mm)
    except FairSquareError:
        return None


def _length(words: Sequence[str], context: Context, text: str) -> float:
    if not words:
        raise Refused(f"A number is missing. {HOW}", field="call", value=text)
    mm = float(read_length(" ".join(words), context.unit, field="call").mm)
    if abs(mm) > LARGEST_MM:
        raise Refused("This number is longer than any vehicle.", field="call", value=text)
    return mm


def _three_lengths(code: str, words: list[str], unit: Unit, text: str) -> Row3:
    groups = _groups(words)
    readable = [group for group in groups if all(_readable(part, unit) for part in group)]
    if len(readable) > 1:
        raise Refused(
            f"“{' '.join(words)}” can be parted in {len(readable)} ways: put ; between the three numbers.",
            field="call",
            value=text,
        )
    if not readable:
        return _say_what_is_wrong(code, words, unit, text)
    return _in_mm(readable[0], unit, text)


def _groups(words: list[str]) -> list[tuple[str, str, str]]:
    """Return every way to part the words into three runs; a ; parts where it stands."""
    if ";" in words:
        parts = [" ".join(part.split()) for part in " ".join(words).split(";") if part.strip()]
        return [(parts[0], parts[1], parts[2])] if len(parts) == 3 else []
    cuts = combinations(range(1, len(words)), 2)
    return [(" ".join(words[:a]), " ".join(words[a:b]), " ".join(words[b:])) for a, b in cuts]


def _readable(part: str, unit: Unit) -> bool:
    try:
        read_length(part, unit)
    except FairSquareError:
        return False
    return True


def _in_mm(parts: tuple[str, str, str], unit: Unit, text: str) -> Row3:
    exact = [read_length(part, unit, field="call").mm for part in parts]
    if any(abs(value) > LARGEST_MM for value in exact):
        raise Refused("One of these numbers is longer than any vehicle.", field="call", value=text)
    return float(exact[0]), float(exact[1]), float(exact[2])


def _say_what_is_wrong(code: str, words: list[str], unit: Unit, text: str) -> Row3:
    """Raise the fault that helps most: how many numbers were heard, or which one is no length."""
    if len(words) == 3:
        for word in words:
            read_length(word, unit, field="call")
    heard = len(words)
    if heard < 3:
        raise Refused(f"{code} needs three numbers: {heard} heard so far.", field="call", value=text)
    raise Refused(f"“{' '.join(words)}” cannot be read as three lengths. {HOW}", field="call", value=text)
