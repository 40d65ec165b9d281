"""The faults that core reports. Each carries a message for a technician: what was wrong, and what would be right."""

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from fairsquare.core.said import Said


class FairSquareError(Exception):
    """Base of every fault that is the input's, not the program's.

    `title` says what was wrong and what would be right; `field` names the part of the request (``readings.2.code``);
    `value` is what stood there; `details` are further members of the problem (`at`, `conflict`, `free` ...).
    """

    status = 422
    kind = "refused"
    said: "Said | None" = None
    """What it is as a code with values, where it has one: pages tell it in their reader's units."""

    def __init__(
        self,
        title: str,
        *,
        field: str | None = None,
        value: Any = None,
        details: Mapping[str, Any] | None = None,
    ) -> None:
        super().__init__(title)
        self.title = title
        self.field = field
        self.value = value
        self.details = dict(details or {})

    def problem(self) -> dict[str, Any]:
        """Return the fault as a problem object (RFC 9457)."""
        shown: dict[str, Any] = {
            "type": f"urn:fairsquare:problem:{self.kind}",
            "title": self.title,
            "status": self.status,
            "detail": self.title,
        }
        if self.field is not None:
            shown["errors"] = [{"field": self.field, "value": self.value, "message": self.title}]
        return {**shown, **self.details}


class Refused(FairSquareError):
    """A request that cannot be computed as it stands."""


class NotALength(Refused):
    """A text that is not a length; `details["at"]` is the index of the first character that could not be part of one."""

    kind = "not-a-length"


class UnknownCode(Refused):
    """A code that is not on the sheet; `details["nearest"]` lists the codes that look most like it."""

    kind = "unknown-code"
