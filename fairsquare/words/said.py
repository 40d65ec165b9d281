"""How a code with its values becomes a sentence for one reader.

A kind has a template or, where the words hang on the values, a function. In a template `{name}` is a value, told by its name:
what ends with `_mm` is a length in the reader's units, what ends with `_at` a moment in the shop's time zone, a code within a
code is told in its turn, several are a row. `{name:point}` counts: "1 point", "3 points"; `{name:.1f}` and the like write a
number; `{name:+}` is a length with its sign, `{name:fine}` a small one in decimals, `{name:0}` one in whole millimetres,
`{name:bare}` one whose unit stands elsewhere; a row is joined with commas, by `{name:~}` with semicolons.
"""

import datetime
import re
from collections.abc import Callable, Iterable, Mapping
from typing import Any, NamedTuple
from zoneinfo import ZoneInfo

from fairsquare.core.said import Said
from fairsquare.words.lengths import Units, fine, in_units, length

LISTED = 8
"""So many names stand in a row; the others are counted."""
_FIELD = re.compile(r"\{(\w+)(?::([^{}]*))?\}")


class Reader(NamedTuple):
    """For whom something is told: the units of lengths, and the time zone."""

    units: Units = "mm"
    zone: ZoneInfo = ZoneInfo("UTC")

    def length(self, mm: float, *, signed: bool = False) -> str:
        """Return a length with its unit: "14.2 mm", or "9/16 in"."""
        text = length(mm, self.units)
        sign = "+" if signed and mm > 0 and text.strip("0.") else ""
        return f"{sign}{text} {self.units}"

    def fine(self, mm: float) -> str:
        """Return a small length with its unit, which a fraction of an inch is too coarse for: "0.30 mm", or "0.012 in"."""
        return fine(mm, self.units)

    def moment(self, at: str) -> str:
        """Return a moment with its date; UTC is named, a shop's own zone is not."""
        return self.at(at) + (" UTC" if self.zone.key == "UTC" else "")

    def at(self, moment: str, *, seconds: bool = False) -> str:
        """Return a moment with its date, for where the zone is said once."""
        local = datetime.datetime.fromisoformat(moment).astimezone(self.zone)
        return f"{local:%Y-%m-%d %H:%M:%S}" if seconds else f"{local:%Y-%m-%d %H:%M}"


METRIC = Reader()
"""Who reads JSON, and everybody of whom nothing is known."""
Words = str | Callable[[Mapping[str, Any], Reader], str]
Table = dict[str, Words]


def filled(template: str, values: Mapping[str, Any], reader: Reader, tell: Callable[[Said, Reader], str]) -> str:
    """Return a template with its values told."""

    def told(found: re.Match[str]) -> str:
        name, how = found.group(1), found.group(2) or ""
        if name not in values:
            return found.group(0)
        return _value(name, values[name], how, reader, tell)

    return _FIELD.sub(told, template)


def listed(names: Iterable[str], most: int = LISTED) -> str:
    """Return names in a row, the first `most` of them."""
    own = list(names)
    return ", ".join(own[:most]) + (f" and {len(own) - most} more" if len(own) > most else "")


def counted(many: int, noun: str) -> str:
    """Return how many there are: "1 point", "3 points"."""
    return f"{many} {noun}{'' if many == 1 else 's'}"


def _value(name: str, value: Any, how: str, reader: Reader, tell: Callable[[Said, Reader], str]) -> str:
    if isinstance(value, Said):
        return tell(value, reader)
    if how.isalpha() and not name.endswith("_mm"):
        return counted(len(value) if isinstance(value, list | tuple) else int(value), how)
    if isinstance(value, list | tuple):
        row = [tell(part, reader) if isinstance(part, Said) else str(part) for part in value]
        joined = {"~": "; ", "~~": " ", "&": " and "}.get(how)
        return joined.join(row) if joined else listed(row)
    return _plain(name, value, how, reader)


def _length(mm: float, how: str, reader: Reader) -> str:
    if how == "fine":
        return reader.fine(mm)
    if how in ("0", "bare"):
        return length(mm, reader.units, 0 if how == "0" else 1).removesuffix(".0") + (
            f" {reader.units}" if how == "0" else ""
        )
    return reader.length(mm, signed=how == "+")


def _plain(name: str, value: Any, how: str, reader: Reader) -> str:
    if name.endswith("_mm"):
        return _length(value, how, reader)
    if name.endswith("_at"):
        return reader.moment(value)
    if name == "told":
        return in_units(value, reader.units)
    return format(value, how) if how else f"{value:g}" if isinstance(value, float) else str(value)
