"""What a hold point demands: its evidence, or what is missing and what to do to get it, as codes with values."""

from collections.abc import Iterable
from typing import Any

from fairsquare.core.errors import FairSquareError
from fairsquare.core.model import Model
from fairsquare.core.said import Said, say


class Missing(Model):
    """One piece of evidence that is not there, and the `page` of the job on which it is got.

    Some a lead may override with a reason; `todo`: what can be done instead, where that does not go without saying.
    """

    said: Said
    overridable: bool = False
    page: str = ""
    todo: Said | None = None


class Demand(Model):
    """One thing that a hold point demands: the evidence that is there, or what is missing, what to do, and on which page."""

    name: str
    title: Said
    evidence: Said | None = None
    missing: tuple[Missing, ...] = ()
    todo: Said | None = None
    page: str = ""

    @property
    def met(self) -> bool:
        """Whether nothing of it is missing."""
        return not self.missing


class Lacking(FairSquareError):
    """Something that is not done because evidence for it is missing."""

    def __init__(self, missing: Missing, *, field: str, value: Any) -> None:
        super().__init__(missing.said.kind, field=field, value=value)
        self.said = missing.said


def demand(
    name: str,
    evidence: Said | None,
    missing: tuple[Missing, ...] = (),
    *,
    title: Said | None = None,
    todo: Said | None = None,
    page: str = "",
) -> Demand:
    """Return a demand by its name, with the title and what to do that go with it, where they are not given."""
    named = title or say(f"demand.{name}")
    return Demand(
        name=name, title=named, evidence=evidence, missing=missing, todo=todo or say(f"todo.{name}"), page=page
    )


def all_missing(demands: Iterable[Demand]) -> list[Missing]:
    """Return everything that is missing, in order."""
    return [missing for demand in demands for missing in demand.missing]


def ids(numbers: Iterable[int]) -> str:
    """Return ids as they stand in a hold's evidence."""
    return " ".join(str(number) for number in numbers)


def lacks(kind: str, *, overridable: bool = False, page: str = "", todo: Said | None = None, **values: Any) -> Missing:
    """Return what is missing, by its code and values."""
    return Missing(said=say(kind, **values), overridable=overridable, page=page, todo=todo)
