"""Hold points as they were signed."""

from typing import Literal

from fairsquare.core.model import Model
from fairsquare.core.who import Who

HoldName = Literal["made_safe", "setup_accepted", "decision_made", "pulls_done", "fit_accepted", "released"]


class SignatureFact(Model):
    """A signed hold point: `evidence` is what was seen, `reason` why what was missing was overridden."""

    id: int
    hold: HoldName
    evidence: dict[str, str]
    overridden: tuple[str, ...]
    reason: str | None
    by: Who
