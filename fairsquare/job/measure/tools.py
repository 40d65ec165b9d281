"""The measuring tools that a shop owns: what each reads, how well, and how far it reaches."""

from typing import Literal

from fairsquare.core.measure.next_reading import PointTool, SpanTool, Tool
from fairsquare.core.model import Model
from fairsquare.job.facts.measure import ReadingKind

ToolKind = Literal["instrument", "tape", "tram", "gauges", "line", "level", "square", "bar"]

TOOL_KINDS: dict[ToolKind, str] = {
    "instrument": "3-D instrument",
    "tape": "tape",
    "tram": "tram",
    "gauges": "set of centring gauges",
    "line": "laser or string line",
    "level": "level, rod from a datum bar",
    "square": "framing square",
    "bar": "reference bar, to check the others on",
}
READS_A_BAR: dict[ToolKind, int] = {"instrument": 2, "tape": 1, "tram": 1, "level": 1, "square": 1}
"""What can be checked on a reference bar, and how many of its ends it reads, each to its sigma."""
_READS: dict[ReadingKind, tuple[ToolKind, ...]] = {
    "span": ("tram", "tape"),
    "difference": ("square", "tape", "tram"),
    "height": ("level", "tape"),
    "offset": ("line", "tape"),
    "gauge": ("gauges",),
    "point": (),
}


class ShopTool(Model):
    """One tool. `sigma_mm` is how well one reading of it is known; a tram reaches from `from_mm` to `to_mm`.

    `pointer_mm` is how much longer one pointer of a tram can be set than the other, `pin_mm` how wide a gauge's pin is, `length_mm`
    how long a reference bar is, which is then known to `sigma_mm`.
    """

    id: int
    name: str
    kind: ToolKind
    sigma_mm: float
    from_mm: float | None = None
    to_mm: float | None = None
    pointer_mm: float | None = None
    pin_mm: float | None = None
    length_mm: float | None = None


def tools_that_read(kind: ReadingKind, tools: tuple[ShopTool, ...]) -> tuple[ShopTool, ...]:
    """Return the tools that read a kind of observation, those that are made for it first."""
    order = _READS[kind]
    return tuple(sorted((tool for tool in tools if tool.kind in order), key=lambda tool: order.index(tool.kind)))


def what_it_can_read(tool: ShopTool, sight: str | None) -> tuple[Tool, ...]:
    """Return a tool as `next-measurement` takes it; lines and levels need a `sight` that is set."""
    if tool.kind == "tape":
        return (SpanTool(kind="span", sigma=tool.sigma_mm, mode="point_to_point", from_mm=300.0, to_mm=tool.to_mm),)
    if tool.kind == "tram":
        return (
            SpanTool(
                kind="span",
                sigma=tool.sigma_mm,
                mode=None,
                from_mm=tool.from_mm or 0.0,
                to_mm=tool.to_mm,
                pointer_mm=tool.pointer_mm,
            ),
        )
    if tool.kind == "line" and sight:
        return (PointTool(kind="offset", setup=sight, sigma=tool.sigma_mm),)
    if tool.kind == "level" and sight:
        return (PointTool(kind="height", setup=sight, sigma=tool.sigma_mm),)
    return ()
