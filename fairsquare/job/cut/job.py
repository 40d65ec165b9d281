"""The sections of a job: what was said of each, where its cuts go, which welds are open yet, and whether it is done."""

from functools import lru_cache
from typing import NamedTuple

from fairsquare.core.cut.judge import StripPlaced, placed_strip
from fairsquare.core.cut.lines import LayerLines, Whose, lines_of
from fairsquare.core.cut.section import LinesSaid, StripLayer, StripSaid, Topic, WeldsSaid
from fairsquare.core.cut.working import MappedWeld, mapped_welds, working_order
from fairsquare.core.errors import FairSquareError
from fairsquare.core.said import Said, say
from fairsquare.core.same import Same
from fairsquare.job.damage.choices import MemberState, member_states
from fairsquare.job.facts.cuts import CutMadeFact, SectionFact, SectionSaidFact, WeldTickFact
from fairsquare.job.facts.job import JobFacts

SIDES: tuple[Whose, Whose] = ("vehicle", "donor")
_OFF = frozenset({"section", "replace_at_seams", "straighten_then_replace"})


class SectionState(NamedTuple):
    """A section as it stands. `ticks` are the last of each weld and side; `cuts` those that count."""

    fact: SectionFact
    said: dict[Topic, SectionSaidFact]
    placed: StripPlaced | None
    ticks: dict[tuple[Whose, str], WeldTickFact]
    cuts: tuple[CutMadeFact, ...]

    @property
    def strip(self) -> StripSaid | None:
        """The strip, where it was described."""
        strip_said = self.said.get("strip")
        return strip_said.strip if strip_said else None

    @property
    def lines(self) -> LinesSaid:
        """How the lines are drawn, as was said or as is usual."""
        lines_said = self.said.get("lines")
        return lines_said.lines if lines_said and lines_said.lines else LinesSaid()

    @property
    def welds(self) -> WeldsSaid | None:
        """The welds of its flanges, where they were described."""
        welds_said = self.said.get("welds")
        return welds_said.welds if welds_said else None

    def version(self, topic: Topic) -> int:
        """Return the version of what was said of a topic; 0 where nothing was."""
        return self.said[topic].version if topic in self.said else 0

    @property
    def drawn(self) -> tuple[LayerLines, ...]:
        """The lines of all layers that are cut; none where there is no place for the cuts or the gap makes no sense.

        Where a layer is cut already, its lines follow that cut, whatever the plan says by now.
        """
        if self.strip is None or self.placed is None or self.placed.judged is None:
            return ()
        made = {cut.layer: cut.at_mm for cut in self.cuts if cut.kind == "final"}
        try:
            return lines_of(self.strip, self.lines, {**self.placed.judged.cuts, **made})
        except FairSquareError:
            return ()

    def layer(self, name: str) -> StripLayer | None:
        """Return a layer of the strip that is cut."""
        return next((layer for layer in self.strip.cut if layer.id == name), None) if self.strip else None

    def final(self, layer: str) -> CutMadeFact | None:
        """Return the final cut of a layer, where it was made."""
        return next((cut for cut in self.cuts if cut.layer == layer and cut.kind == "final"), None)

    def to_do(self, whose: Whose) -> tuple[MappedWeld, ...]:
        """Return what is to be opened on a side, in a working order."""
        return working_order(mapped_welds(self.welds), whose) if self.welds else ()

    def is_done(self, whose: Whose, weld: str) -> bool:
        """Say whether a weld is ticked off on a side."""
        tick = self.ticks.get((whose, weld))
        return tick is not None and tick.done

    def done_otherwise(self, whose: Whose, weld: MappedWeld) -> str:
        """Return what was done to a weld where the map says something else by now; empty where it does not."""
        tick = self.ticks.get((whose, weld.said.id))
        return tick.did if tick is not None and tick.done and tick.did != weld.step(whose).words else ""

    def open(self, whose: Whose) -> tuple[MappedWeld, ...]:
        """Return what is not ticked off yet on a side."""
        return tuple(weld for weld in self.to_do(whose) if not self.is_done(whose, weld.said.id))

    @property
    def wanting(self) -> tuple[Said, ...]:
        """What is to be done yet; none when the section is done."""
        name = self.fact.member
        if self.fact.how == "bolts":
            return ()
        lacks = []
        if self.fact.how == "cut":
            if self.strip is None:
                lacks.append(say("cut.layers", member=name))
            elif self.placed is None or self.placed.judged is None:
                lacks.append(say("cut.no_place", member=name))
            else:
                left = [layer.id for layer in self.strip.cut if self.final(layer.id) is None]
                if left:
                    lacks.append(say("cut.uncut", member=name, layers=left))
        if self.welds is None:
            if self.fact.how == "seams":
                lacks.append(say("cut.unmapped", member=name))
            return tuple(lacks)
        stuck = [mapped_weld.said.id for mapped_weld in mapped_welds(self.welds) if mapped_weld.fault]
        if stuck:
            lacks.append(say("cut.stuck", member=name, welds=stuck))
        for whose in SIDES:
            many = len(self.open(whose))
            if many:
                lacks.append(say("cut.welds", member=name, many=many, whose=whose))
        return tuple(lacks)


def section_states(facts: JobFacts) -> tuple[SectionState, ...]:
    """Return the sections of a job as they stand, worked out once for the same facts."""
    return _section_states(Same(facts))


@lru_cache(maxsize=64)
def _section_states(held: Same[JobFacts]) -> tuple[SectionState, ...]:
    return tuple(_state(held.held, fact) for fact in held.held.sections)


def _state(facts: JobFacts, fact: SectionFact) -> SectionState:
    said: dict[Topic, SectionSaidFact] = {}
    for statement in facts.section_said:
        if statement.section == fact.number:
            said[statement.topic] = statement
    strip = said["strip"].strip if "strip" in said else None
    ticks = {(tick.whose, tick.weld): tick for tick in facts.weld_ticks if tick.section == fact.number}
    cuts = tuple(cut for cut in facts.cuts_made if cut.section == fact.number and cut.taken_back is None)
    return SectionState(fact, said, _placed(Same(strip)) if strip else None, ticks, cuts)


@lru_cache(maxsize=256)
def _placed(held: Same[StripSaid]) -> StripPlaced:
    return placed_strip(held.held.place, held.held.chosen)


def members_off(facts: JobFacts) -> tuple[MemberState, ...]:
    """Return the members and layers that were decided to come off, whole or in part."""
    return tuple(state for state in member_states(facts) if state.decision and state.decision.decision in _OFF)


def cuts_want(facts: JobFacts) -> tuple[Said, ...]:
    """Return what is to be planned, cut and opened yet in a job."""
    planned = [lack for state in section_states(facts) for lack in state.wanting]
    return (*(say("cut.plan", member=member) for member in unplanned(facts)), *planned)


def unplanned(facts: JobFacts) -> tuple[str, ...]:
    """Return the members that come off and have no section yet."""
    planned = {section.member for section in facts.sections}
    return tuple(dict.fromkeys(state.member for state in members_off(facts) if state.member not in planned))


def kerf_caution(lines: LinesSaid, gap_mm: float) -> Said | None:
    """Return that one stroke through both sides leaves them too far apart, where the saw cut is wider than the gap."""
    return say("cut.kerf_wide", kerf_mm=lines.kerf_mm, gap_mm=gap_mm) if lines.kerf_mm > gap_mm else None
