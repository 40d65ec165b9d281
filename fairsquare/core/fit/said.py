"""What people say of the dry fit: the panels that are hung, their hinges, the gaps round them and what each should be."""

from typing import Annotated, Literal

from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.fit.hanging import Reach
from fairsquare.core.model import Code, Many, Millimetres, Model, NotNegative, Vector

Way = Literal["forward", "rearward", "left", "right", "up", "down"]
WAYS: dict[Way, tuple[float, float, float]] = {
    "forward": (1.0, 0.0, 0.0),
    "rearward": (-1.0, 0.0, 0.0),
    "left": (0.0, 1.0, 0.0),
    "right": (0.0, -1.0, 0.0),
    "up": (0.0, 0.0, 1.0),
    "down": (0.0, 0.0, -1.0),
}
"""The normal of a gap, from the panel to its neighbour, as it is said."""
MOST_PANELS, MOST_GAPS = 20, 200
FARTHEST_GAP_MM = 1000.0


class HingeSaid(Model):
    """A hinge or bolt that holds a panel: where it is, and how far it may be moved, mm."""

    id: Code
    at: Vector
    length: Reach
    width: Reach
    height: Reach


class PanelSaid(Model):
    """A panel that is hung: its hinges, and by how much it drops when its weight comes on, mm."""

    name: Code
    drop_mm: NotNegative = 0.0
    hinges: Many[HingeSaid] = ()


class GapSaid(Model):
    """A gap round a panel, or the flushness there: which way the neighbour lies, what it should be, and by how much it may be out.

    `panel` is empty where nothing that is hung moves it, as at a lamp. `beside` is the panel on its other side, empty where that is
    the body: both panels have the gap, and it is called once.
    """

    place: Annotated[str, Field(min_length=1, max_length=120)]
    panel: str = ""
    beside: str = ""
    at: Vector = (0.0, 0.0, 0.0)
    way: Way = "rearward"
    flush: bool = False
    target_mm: Millimetres
    tolerance_mm: Annotated[float, Field(gt=0, le=100)]
    near: Code | None = None


class FitSaid(Model):
    """Panels in the order in which they are set, the gaps that are read, or why nothing is hung on what was repaired."""

    panels: Many[PanelSaid] = ()
    gaps: Many[GapSaid] = ()
    none_hung: Annotated[str, Field(max_length=2000)] = ""

    def gaps_of(self, panel: str) -> tuple[GapSaid, ...]:
        """Return the gaps that a panel has, with a neighbour or with the body."""
        return tuple(gap for gap in self.gaps if panel in (gap.panel, gap.beside))

    def gap(self, place: str) -> GapSaid | None:
        """Return the gap of that place, whatever its capitals."""
        wanted = place.casefold()
        return next((gap for gap in self.gaps if gap.place.casefold() == wanted), None)


def check_fit_said(said: FitSaid) -> None:
    """Raise `Refused` for names that repeat, a hinge that cannot move, a panel that is not listed, a gap over a metre."""
    if len(said.panels) > MOST_PANELS or len(said.gaps) > MOST_GAPS:
        raise Refused(f"At most {MOST_PANELS} panels and {MOST_GAPS} gaps.", field="gaps", value=len(said.gaps))
    if said.none_hung and said.gaps:
        raise Refused("Gaps are listed: then something is hung.", field="none_hung", value=said.none_hung[:80])
    _unlike([panel.name for panel in said.panels], "panel", "name")
    _unlike([gap.place for gap in said.gaps], "gap", "place")
    names = {panel.name for panel in said.panels}
    for k, panel in enumerate(said.panels):
        _unlike([hinge.id for hinge in panel.hinges], f"panel-{k}-hinge", "id")
        for h, hinge in enumerate(panel.hinges):
            _check_hinge(panel, hinge, f"hinge-{_nth(said, k, h)}")
    for k, gap in enumerate(said.gaps):
        if gap.panel and gap.panel not in names:
            raise Refused(f"{gap.panel} is not among the panels.", field=f"gap-{k}-panel", value=gap.panel)
        if gap.beside and gap.beside not in names:
            raise Refused(f"{gap.beside} is not among the panels.", field=f"gap-{k}-beside", value=gap.beside)
        if gap.beside and gap.beside == gap.panel:
            raise Refused(
                "A gap is between a panel and another one, or the body.", field=f"gap-{k}-beside", value=gap.beside
            )
        if gap.beside and not gap.panel:
            raise Refused(
                "Of which panel is this gap? Its neighbour alone does not say.", field=f"gap-{k}-panel", value=""
            )
        if abs(gap.target_mm) > FARTHEST_GAP_MM:
            raise Refused("A gap over a metre is none.", field=f"gap-{k}-target", value=gap.target_mm)


def _nth(said: FitSaid, panel: int, hinge: int) -> int:
    return sum(len(hung.hinges) for hung in said.panels[:panel]) + hinge


def _check_hinge(panel: PanelSaid, hinge: HingeSaid, field: str) -> None:
    for axis in ("length", "width", "height"):
        low, high = getattr(hinge, axis)
        if not low <= 0 <= high:
            raise Refused(
                f"{panel.name}, {hinge.id}: the range of {axis} should hold 0, such as −3 to 3.",
                field=f"{field}-{axis}",
                value=[low, high],
            )
    if all(getattr(hinge, axis) == (0.0, 0.0) for axis in ("length", "width", "height")):
        raise Refused(
            f"{panel.name}, {hinge.id} has no range: say how far it may be moved along one axis at least, such as −3 to 3.",
            field=f"{field}-length",
            value=[0, 0],
        )


def _unlike(names: list[str], kind: str, field: str) -> None:
    seen: set[str] = set()
    for k, name in enumerate(names):
        if name.casefold() in seen:
            raise Refused(f"{name} stands there twice.", field=f"{kind}-{k}-{field}", value=name)
        seen.add(name.casefold())
