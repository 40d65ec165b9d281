"""The dry fit of a job: what was said of it, its gaps as last read on the rack and on the wheels, and how each panel is to move."""

import math
from typing import Literal, NamedTuple

from fairsquare.core.errors import FairSquareError
from fairsquare.core.fit.hang import HangPanel, PanelGap, PanelHung, hang_panel
from fairsquare.core.fit.hanging import Hinge, HingeRange
from fairsquare.core.fit.said import WAYS, FitSaid, GapSaid, PanelSaid
from fairsquare.core.model import Row3
from fairsquare.core.said import Said, say
from fairsquare.core.sheet.model import Sheet
from fairsquare.job.facts.done import HingeLooked, Hung
from fairsquare.job.facts.finishing import JobSaidFact
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.setup import Stand
from fairsquare.job.facts.walk_round import GapFact
from fairsquare.job.measure.picture import Picture

NEAR_MM = 400.0
"""A point that speaks of a gap stands no farther from it, where nobody named one: common practice, no source."""
STANDS: dict[Stand, str] = {"rack": "on the rack", "wheels": "on the wheels"}
FindingKind = Literal["home_by_eye", "home_by_reading"]


class GapState(NamedTuple):
    """A place with what it should be, and how it was last read on the rack and on the wheels."""

    place: str
    said: GapSaid | None
    rack: GapFact | None
    wheels: GapFact | None

    def read(self, stand: Stand) -> GapFact | None:
        """Return the last reading on rack or wheels."""
        return self.rack if stand == "rack" else self.wheels

    @property
    def last(self) -> GapFact | None:
        """The last reading that still speaks, on the wheels before the rack."""
        return next((check for check in (self.wheels, self.rack) if check is not None and not check.stale), None)


class PanelState(NamedTuple):
    """A panel: its hinges as they were looked at, how often it was hung, whether it hangs (on its weatherstrip), how it is to move.

    `first`: a panel that is set before it and is not right yet, whose gaps it shares.
    """

    said: PanelSaid
    hinges: dict[str, HingeLooked]
    trials: int
    minutes: float
    hangs: bool
    strip: bool
    gaps: tuple[GapState, ...]
    hung: PanelHung | None
    fault: str
    first: str

    @property
    def waits(self) -> str:
        """What comes before the panel is judged by its gaps, in words; empty where nothing does."""
        if self.first:
            return f"Set {self.first} first: panels that share gaps are set in their order."
        unseen = [hinge.id for hinge in self.said.hinges if hinge.id not in self.hinges]
        if unseen:
            return f"Look at the hinges first: {', '.join(unseen)}. A bent one looks like a moved structure."
        bad = [f"{name} is {hinge.state}" for name, hinge in self.hinges.items() if hinge.state != "sound"]
        return f"{', '.join(bad)}: put that right, then read the gaps." if bad else ""


class FitFinding(NamedTuple):
    """A gap and the readings that contradict each other: home by eye and out by reading, or the reverse."""

    key: str
    kind: FindingKind
    place: str
    codes: tuple[str, ...]
    said: Said


def gap_fits(gap: GapFact) -> bool:
    """Say whether a gap is within its tolerance, ends included."""
    return abs(gap.mm - gap.target_mm) <= gap.tolerance_mm * (1 + 1e-12)


def fit_said(facts: JobFacts) -> FitSaid | None:
    """Return what was last said of the fit."""
    fact = fit_fact(facts)
    return fact.fit if fact else None


def fit_fact(facts: JobFacts) -> JobSaidFact | None:
    """Return the fact in which the fit was last said."""
    return next((statement for statement in facts.said if statement.topic == "fit"), None)


def gap_states(facts: JobFacts) -> tuple[GapState, ...]:
    """Return every gap that is listed or was read, in order. What is listed is judged by what the list says, whatever was said of
    it when it was read. What was read before its panel was last recorded as hung does not count: it was of something else."""
    fit = fit_said(facts) or FitSaid()
    names: dict[str, str] = {gap.place.casefold(): gap.place for gap in fit.gaps}
    for gap in facts.gaps:
        names.setdefault(gap.place.casefold(), gap.place)
    last: dict[tuple[str, Stand], GapFact] = {(gap.place.casefold(), gap.stand): gap for gap in facts.gaps}
    states = []
    for key, place in names.items():
        listed = fit.gap(place)
        since = max(hung_since(facts, listed.panel), hung_since(facts, listed.beside)) if listed else ""
        counting = (
            None if checked and checked.by.at <= since else checked
            for stand in _STANDS
            for checked in [last.get((key, stand))]
        )
        rack, wheels = (_by_list(gap, listed) for gap in counting)
        states.append(GapState(place, listed, rack, wheels))
    return tuple(states)


_MOST_NAMED = 4
_STANDS: tuple[Stand, Stand] = ("rack", "wheels")


def _by_list(gap: GapFact | None, listed: GapSaid | None) -> GapFact | None:
    if gap is None or listed is None:
        return gap
    return gap.model_copy(update={"target_mm": listed.target_mm, "tolerance_mm": listed.tolerance_mm})


def hung_work(facts: JobFacts, panel: str) -> list[Hung]:
    """Return every trial hanging of a panel, and every taking off."""
    return [
        deed.what
        for deed in facts.done
        if isinstance(deed.what, Hung) and deed.what.panel == panel and not deed.taken_back
    ]


def hung_since(facts: JobFacts, panel: str) -> str:
    """Return the moment at which a panel was last recorded as hung; empty where it never was."""
    return max(
        (
            deed.by.at
            for deed in facts.done
            if isinstance(deed.what, Hung) and deed.what.panel == panel and not deed.what.off and not deed.taken_back
        ),
        default="",
    )


def hangs_on_strip(facts: JobFacts, panel: str) -> bool:
    """Say whether a panel hangs, with its weatherstrip on."""
    trials = hung_work(facts, panel)
    return bool(trials) and trials[-1].strip and not trials[-1].off


def panel_states(facts: JobFacts, stand: Stand, *, weight_on: bool = True) -> tuple[PanelState, ...]:
    """Return every panel in the order in which it is set, with what its gaps on rack or wheels say of its hinges.

    Without its weight the panel was held up when its gaps were read: it will drop, and that is allowed for.
    """
    fit = fit_said(facts) or FitSaid()
    states = gap_states(facts)
    found: list[PanelState] = []
    for panel in fit.panels:
        own = tuple(
            state for state in states if state.said is not None and panel.name in (state.said.panel, state.said.beside)
        )
        trials = hung_work(facts, panel.name)
        looked = {
            deed.what.hinge: deed.what
            for deed in facts.done
            if isinstance(deed.what, HingeLooked) and deed.what.panel == panel.name and not deed.taken_back
        }
        hung, fault = _hang(panel, own, stand, weight_on=weight_on)
        found.append(
            PanelState(
                panel,
                looked,
                sum(not trial.off for trial in trials),
                sum(trial.minutes for trial in trials),
                bool(trials) and not trials[-1].off,
                hangs_on_strip(facts, panel.name),
                own,
                hung,
                fault,
                next(
                    (panel.said.name for panel in found if panel.hung is not None and panel.hung.verdict != "as_is"), ""
                ),
            )
        )
    return tuple(found)


def _hang(
    panel: PanelSaid, gaps: tuple[GapState, ...], stand: Stand, *, weight_on: bool
) -> tuple[PanelHung | None, str]:
    read = [(gap.said, gap.read(stand)) for gap in gaps]
    usable = [(said, gap) for said, gap in read if said is not None and gap is not None and not gap.stale]
    if not panel.hinges or not usable:
        return None, ""
    drop = 0.0 if weight_on else panel.drop_mm
    try:
        return (
            hang_panel(
                HangPanel(
                    hinges=hinges_of(panel),
                    gaps=tuple(
                        PanelGap(
                            id=said.place[:40],
                            at=said.at,
                            normal=way_from(said, panel.name),
                            mm=gap.mm + drop * way_from(said, panel.name)[2],
                            target_mm=gap.target_mm,
                            tolerance_mm=gap.tolerance_mm,
                        )
                        for said, gap in usable
                    ),
                )
            ),
            "",
        )
    except FairSquareError as fault:
        return None, fault.title


def hinges_of(panel: PanelSaid) -> tuple[Hinge, ...]:
    """Return a panel's hinges as they are calculated with."""
    return tuple(
        Hinge(id=hinge.id, at=hinge.at, range=HingeRange(length=hinge.length, width=hinge.width, height=hinge.height))
        for hinge in panel.hinges
    )


def way_from(said: GapSaid, panel: str) -> Row3:
    """Return the way a gap opens from one of its panels: from the neighbour it is the other way round."""
    x, y, z = WAYS[said.way]
    return (x, y, z) if panel != said.beside else (-x, -y, -z)


def fit_findings(facts: JobFacts, picture: Picture | None) -> tuple[FitFinding, ...]:
    """Return where the gaps and the readings contradict each other."""
    if picture is None or facts.sheet is None:
        return ()
    states = {code: judged.state for code, judged in picture.judged.items()}
    findings = []
    for gap_state in gap_states(facts):
        gap = gap_state.last
        if gap is None:
            continue
        near = near_points(facts.sheet, gap_state.said) or tuple(states)
        known = [code for code in near if states.get(code, "unread") != "unread"]
        off = tuple(code for code in known if states[code] == "off")
        fits = gap_fits(gap)
        if fits and off and gap_state.said is not None and near_points(facts.sheet, gap_state.said):
            told = say("fit.home_by_eye", place=gap_state.place, points=off[:_MOST_NAMED], many=len(off))
            findings.append(FitFinding(_key("home_by_eye", gap), "home_by_eye", gap_state.place, off, told))
        elif not fits and known and len(known) == len(near) and not off:
            told = say(
                "fit.home_by_reading",
                place=gap_state.place,
                wide=gap.mm > gap.target_mm,
                points=known[:_MOST_NAMED],
                many=len(known),
                every=len(known) == len(states),
            )
            findings.append(
                FitFinding(_key("home_by_reading", gap), "home_by_reading", gap_state.place, tuple(known), told)
            )
    return tuple(findings)


def _key(kind: FindingKind, gap: GapFact) -> str:
    return f"fit {kind} {gap.id}"


def near_points(sheet: Sheet, said: GapSaid | None) -> tuple[str, ...]:
    """Return the points that speak of a gap: the one that was named, else the nearest that is near enough."""
    if said is None:
        return ()
    if said.near is not None:
        return tuple(point.code for point in sheet.points if point.code.casefold() == said.near.casefold())
    if said.at == (0.0, 0.0, 0.0) or not sheet.points:
        return ()
    nearest = min(sheet.points, key=lambda point: math.dist(point.xyz, said.at))
    return (nearest.code,) if math.dist(nearest.xyz, said.at) <= NEAR_MM else ()


def open_fit_findings(facts: JobFacts, picture: Picture | None) -> tuple[FitFinding, ...]:
    """Return the contradictions of gaps and readings that nobody has settled."""
    settled = {settlement.finding for settlement in facts.settlements}
    return tuple(fit_finding for fit_finding in fit_findings(facts, picture) if fit_finding.key not in settled)


def hangings(facts: JobFacts) -> dict[str, tuple[int, float]]:
    """Return how often each panel was hung, and the minutes that hanging and taking off took."""
    hinges_of: dict[str, tuple[int, float]] = {}
    for deed in facts.done:
        if isinstance(deed.what, Hung) and deed.taken_back is None:
            many, minutes = hinges_of.get(deed.what.panel, (0, 0.0))
            hinges_of[deed.what.panel] = many + (not deed.what.off), minutes + deed.what.minutes
    return hinges_of
