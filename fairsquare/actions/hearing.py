"""From what was called out to a reading that can be recorded: the tool that read it, and how well."""

from collections.abc import Sequence

from fairsquare.job.facts.measure import NewReading, Purpose, ReadingKind
from fairsquare.job.measure.calls import Call
from fairsquare.job.measure.tools import ShopTool, tools_that_read

USUAL_SIGMA_MM = 1.5
"""Taken where the shop has not said how well its tools read (common practice, no source)."""
USUAL_TOOLS: dict[ReadingKind, str] = {
    "span": "tape",
    "difference": "tape",
    "height": "level",
    "offset": "line and tape",
    "gauge": "centring gauges",
}


def tool_for(kind: ReadingKind, tools: Sequence[ShopTool], chosen: int | None = None) -> ShopTool | None:
    """Return the tool that reads a kind: the one chosen, if it can, or the first of the shop's that is made for it."""
    fitting = tools_that_read(kind, tuple(tools))
    return next((tool for tool in fitting if tool.id == chosen), fitting[0] if fitting else None)


def reading_of(
    call: Call,
    said: str,
    tools: Sequence[ShopTool],
    *,
    purpose: Purpose = "point",
    chosen: int | None = None,
    loaded: bool = False,
    replaces: int | None = None,
    called_ago_s: float | None = None,
) -> NewReading:
    """Return a call as a reading. A point's sigma is its set-up's; any other's is its tool's."""
    tool = tool_for(call.kind, tools, chosen)
    return NewReading(
        **call.read,
        purpose=purpose,
        said=said,
        loaded=call.loaded if call.loaded is not None else loaded,
        instrument=tool.name if tool else USUAL_TOOLS.get(call.kind),
        sigma_mm=None if call.kind == "point" else (tool.sigma_mm if tool else USUAL_SIGMA_MM) * call.share,
        replaces=replaces,
        called_ago_s=called_ago_s,
    )
