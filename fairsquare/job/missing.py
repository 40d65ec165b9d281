"""What a hold point demands: its evidence in words, or what is missing and what to do to get it."""

from collections.abc import Iterable

from fairsquare.core.model import Model


class Missing(Model):
    """One piece of evidence that is not there, in words, and the `page` of the job on which it is got.

    Some a lead may override with a reason; `todo`: what can be done instead, where that does not go without saying.
    """

    words: str
    overridable: bool = False
    page: str = ""
    todo: str = ""


class Demand(Model):
    """One thing that a hold point demands: the evidence that is there, or what is missing, what to do, and on which page."""

    name: str
    title: str
    evidence: str
    missing: tuple[Missing, ...] = ()
    todo: str = ""
    page: str = ""

    @property
    def met(self) -> bool:
        """Whether nothing of it is missing."""
        return not self.missing


def all_missing(demands: Iterable[Demand]) -> list[Missing]:
    """Return everything that is missing, in order."""
    return [missing for demand in demands for missing in demand.missing]


def ids(numbers: Iterable[int]) -> str:
    """Return ids as they stand in a hold's evidence."""
    return " ".join(str(one) for one in numbers)


def count(codes: list[str]) -> str:
    """Return how many points there are, in words."""
    return "1 point" if len(codes) == 1 else f"{len(codes)} points"


def listed(codes: Iterable[str], most: int = 8) -> str:
    """Return names in a row, the first `most` of them."""
    names = list(codes)
    return ", ".join(names[:most]) + (f" and {len(names) - most} more" if len(names) > most else "")
