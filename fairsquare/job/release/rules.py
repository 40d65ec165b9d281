"""By which rules the figures of a record were worked out: what changed in a calculation since, and where in a record that shows.

A record is good for as long as its vehicle is on the road. A calculation that is bettered works some of its figures out otherwise,
and nobody has tampered with them: such a figure is told with both values. What changes a figure is written down here, or the
records in tests/golden no longer follow.
"""

import re
from typing import NamedTuple


class Change(NamedTuple):
    """A change of a calculation: its `version` from then on, which formats of records were `before` it, the figures that it may
    change (`where`, a pattern of JSON pointers), and what it was."""

    calculation: str
    version: int
    before: frozenset[str]
    where: str
    what: str


CHANGES: tuple[Change, ...] = (
    Change(
        "read-damage",
        2,
        frozenset({"fairsquare-record/7"}),
        r"/results/damage/ends/(front|rear)/onset/at_mm",
        "where the damage begins is looked for to its end",
    ),
)


def changed_since(format: str, where: str) -> Change | None:
    """Return the change by which a figure of a record of that format may be another today; None where no change explains it."""
    known = (one for one in CHANGES if format in one.before and re.fullmatch(one.where, where))
    return next(known, None)
