"""What the shop pulls with: each piece with what it takes and when it was last looked at."""

import datetime
from typing import Literal

from pydantic import Field

from fairsquare.core.model import Model

GearKind = Literal["tower", "post", "ram", "pump", "chain", "clamp", "hook", "tab", "stand", "strap", "puller", "jack"]
GEAR: dict[GearKind, str] = {
    "tower": "tower",
    "post": "post",
    "ram": "ram",
    "pump": "pump",
    "chain": "chain",
    "clamp": "clamp",
    "hook": "hook",
    "tab": "pull tab",
    "stand": "stand",
    "strap": "strap",
    "puller": "portable puller",
    "jack": "jack",
}
LOOK_EVERY_DAYS = 90
"""How old the last look at a piece may be before the page says so. Common practice, no source: the maker's word comes first."""


class Gear(Model):
    """A piece of the rig. `capacity_n` None: nobody knows what it takes. `area_mm2` of a ram; `looked_at` UTC, ISO 8601."""

    id: int
    name: str
    kind: GearKind
    capacity_n: float | None = Field(default=None, gt=0)
    area_mm2: float | None = Field(default=None, gt=0)
    made: Literal["maker", "home"] = "maker"
    words: str = ""
    looked_at: str | None = None
    found: Literal["sound", "hurt"] | None = None

    def caution_at(self, now: datetime.datetime) -> str | None:
        """Return what is to be said loudly of it at a moment (aware of its zone), or None."""
        if self.looked_at is None:
            return self.caution(None)
        return self.caution((now - datetime.datetime.fromisoformat(self.looked_at)).days)

    def caution(self, days_ago: int | None) -> str | None:
        """Return what is to be said loudly of it, or None; `days_ago` is how long ago it was last looked at."""
        if self.found == "hurt":
            return "Found hurt: do not pull with it."
        if self.made == "home" and self.capacity_n is None:
            return "Home-made, and nobody knows what it takes."
        if self.capacity_n is None and self.kind not in ("pump", "ram"):
            return "Nobody knows what it takes."
        if self.made == "home":
            return "Home-made: what is written here is somebody's word, not a test."
        if days_ago is None:
            return "Never looked at."
        return f"Last looked at {days_ago} days ago." if days_ago > LOOK_EVERY_DAYS else None
