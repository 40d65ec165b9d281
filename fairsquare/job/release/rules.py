"""By which rules the figures of a record were worked out: what changed in a calculation since, and where in a record that shows.

A record is good for as long as its vehicle is on the road. A calculation that is bettered works some of its figures out otherwise,
and nobody has tampered with them: such a figure is told with both values. What changes a figure is written down here, or the
records in tests/golden no longer follow.
"""

import re
from collections.abc import Mapping
from types import MappingProxyType
from typing import NamedTuple

from fairsquare.core.catalogue import CATALOGUE

HOLD_POINTS = 2
"""Version of the rules by which hold points demand their evidence."""
SENTENCES = frozenset({"words", "detail", "title"})
"""What results call a sentence. Records from format 10 on have none of them."""
IN_SENTENCES = frozenset({"fairsquare-record/7", "fairsquare-record/8", "fairsquare-record/9"})
"""The formats whose results were told in sentences, and that name no versions."""
_USED = ("fit-setup", "adjust-network", "judge-points", "read-damage")


def versions() -> dict[str, int]:
    """Return the version of each calculation that a record's results rest on."""
    return {name: CATALOGUE[name].version for name in _USED} | {"hold-points": HOLD_POINTS}


_FIRST: Mapping[str, int] = MappingProxyType(dict.fromkeys((*_USED, "hold-points"), 1))
VERSIONS_OF_FORMAT: Mapping[str, Mapping[str, int]] = MappingProxyType(
    {
        "fairsquare-record/7": _FIRST,
        "fairsquare-record/8": MappingProxyType({**_FIRST, "read-damage": 2}),
        "fairsquare-record/9": MappingProxyType({**_FIRST, "read-damage": 2}),
        "fairsquare-record/10": MappingProxyType({**_FIRST, "read-damage": 2, "hold-points": 2}),
    }
)
"""By which versions records of a format were made; from 10 on they say so themselves, and these are the oldest they can name."""


def impossible_versions(format: str, named: Mapping[str, int]) -> list[str]:
    """Return the calculations of which a record names a version that it cannot have been made by: none, one from before its format
    began, or one that is not there yet."""
    oldest = VERSIONS_OF_FORMAT[format]
    if format in IN_SENTENCES:
        return sorted(named)
    newest = versions()
    return sorted(
        name for name in newest | dict(named) if not oldest.get(name, 1) <= named.get(name, 0) <= newest.get(name, 0)
    )


class Change(NamedTuple):
    """A change of a calculation: its `version` from then on, the figures that it may change (`where`, a pattern of JSON pointers),
    and what it was."""

    calculation: str
    version: int
    where: str
    what: str


CHANGES: tuple[Change, ...] = (
    Change(
        "read-damage",
        2,
        r"/results/damage/ends/(front|rear)/onset/at_mm",
        "where the damage begins is looked for to its end",
    ),
)


def changed_since(then: Mapping[str, int], where: str) -> Change | None:
    """Return the change by which a figure made by those versions may be another today; None where none explains it."""
    known = (
        change
        for change in CHANGES
        if then.get(change.calculation, 1) < change.version and re.fullmatch(change.where, where)
    )
    return next(known, None)
