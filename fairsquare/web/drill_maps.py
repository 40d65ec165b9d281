"""What pages show of a drill map: its bands as drawn, the signs that are used, and what comes next."""

from typing import NamedTuple
from urllib.parse import urlencode

from markupsafe import Markup

from fairsquare.core.cut.lines import Whose
from fairsquare.core.cut.working import MARKS, MappedWeld, Mark, mapped_welds
from fairsquare.drawings.drill import WIDTH, bands_of, drill_drawing, mark_sign
from fairsquare.job.cut.job import SIDES, SectionState
from fairsquare.words.lengths import Units, measure

DONORS = {"used": "used part", "new": "new part"}


class Sign(NamedTuple):
    """A sign of the legend: its drawing, its word, and what is said beside it."""

    mark: Mark
    sign: Markup
    words: str
    more: str


def bands(
    state: SectionState, number: str, whose: Whose | None = None, *, linked: bool = True, width: float = WIDTH
) -> list[tuple[str, Markup]]:
    """Return the flanges of a section, each drawn in bands for a page of a width, px; the next weld of `whose` is marked."""
    if state.welds is None:
        return []
    left = state.open(whose) if whose else ()
    at = (whose, left[0].said.id) if whose and left else None

    def link(side: Whose, weld: str) -> str:
        query = urlencode({"whose": side, "weld": weld})
        return f"/jobs/{number}/cuts/{state.fact.number}/map?{query}"

    titles = ("as it stands", DONORS[state.welds.donor])
    return [
        (
            flange or "flange",
            drill_drawing(welds, state.is_done, titles, at=at, link=link if linked else None, width=width),
        )
        for flange, welds in bands_of(mapped_welds(state.welds), width)
    ]


def legend(state: SectionState, units: Units = "mm") -> list[Sign]:
    """Return the signs that a section's map uses, with what goes with each."""
    if state.welds is None:
        return []
    used = {step.mark for weld in mapped_welds(state.welds) for step in (weld.vehicle, weld.donor)}
    said = state.welds
    pilot, hole = (measure(mm, units) for mm in (said.pilot_mm, said.hole_mm))
    sizes = f"{pilot}, then {hole}"
    more: dict[Mark, str] = {
        "drill": sizes,
        "flat": f"pilot {pilot}, cutter {hole}",
        "grind": "no hole",
        "plug_hole": hole,
        "never": "stays whole",
        "rivet": "head only, then punch",
        "leave": "nothing to do",
        "cannot": "see its words",
    }
    return [Sign(mark, mark_sign(mark), words, more.get(mark, "")) for mark, words in MARKS.items() if mark in used]


def any_never(state: SectionState) -> bool:
    """Say whether a tool stops above a layer that stays whole, somewhere on the map."""
    mapped = mapped_welds(state.welds) if state.welds else ()
    return any(step.never and step.work for weld in mapped for step in (weld.vehicle, weld.donor))


def counts(state: SectionState) -> dict[Whose, tuple[int, int]]:
    """Return for each side how many welds are opened, of how many."""
    return {whose: (len(state.to_do(whose)) - len(state.open(whose)), len(state.to_do(whose))) for whose in SIDES}


def cannot(state: SectionState) -> tuple[MappedWeld, ...]:
    """Return the welds that cannot be done as they lie."""
    return tuple(weld for weld in mapped_welds(state.welds) if weld.fault) if state.welds else ()
