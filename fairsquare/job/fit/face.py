"""The panels of a job as one face: which to loosen and which to leave alone, step by step, and whether each went as predicted."""

from collections.abc import Mapping
from typing import NamedTuple

from fairsquare.core.errors import FairSquareError
from fairsquare.core.fit.after import AfterSetting, GapAgain, after_setting
from fairsquare.core.fit.panels import HangPanels, HungPanel, PanelsHung, SharedGap, hang_panels
from fairsquare.core.fit.said import FitSaid, PanelSaid
from fairsquare.core.model import Row3
from fairsquare.job.facts.done import Hung
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.setup import Stand
from fairsquare.job.facts.walk_round import GapFact
from fairsquare.job.fit.job import GapState, fit_said, gap_states, hinges_of, hung_work, way_from

_LEAST_MOVE_MM = 0.1
_NAME = 40


class HingeMove(NamedTuple):
    """How far a hinge is moved along one axis: mm, + forward, left, up, and what that is in turns of its thread and in shims."""

    hinge: str
    axis: str
    mm: float
    turns: float | None
    shims: float | None


class Step(NamedTuple):
    """A panel that is to be set: its hinges' moves, and its own gaps then, by their places."""

    panel: str
    moves: tuple[HingeMove, ...]
    gaps: Mapping[str, float]
    within: Mapping[str, bool]


class AsItWent(NamedTuple):
    """A panel that was set, and how it went by the gaps that were read since; None: not one was read yet."""

    panel: str
    predicted: Mapping[str, float]
    read: Mapping[str, float]
    after: AfterSetting | None


class Face(NamedTuple):
    """All panels at once: what was worked out, the steps, who is left alone, which gaps are not read, and how what was set went.

    `hung` is None where it cannot be worked out: `why` says so.
    """

    hung: PanelsHung | None
    why: str
    steps: tuple[Step, ...]
    alone: tuple[str, ...]
    unread: tuple[str, ...]
    went: tuple[AsItWent, ...]

    def moves(self, panel: str) -> Mapping[str, Row3] | None:
        """Return how the hinges of a panel are to be moved, None where it is left alone or nothing was worked out."""
        if self.hung is None or panel not in {step.panel for step in self.steps}:
            return None
        return (self.hung.touch.moves if self.hung.touch else self.hung.moves)[panel]

    def gap(self, place: str) -> tuple[float, bool] | None:
        """Return what a gap becomes when all of it is done, and whether it is in then."""
        told = self.hung.touch.gaps if self.hung and self.hung.touch else self.hung.gaps if self.hung else ()
        return next(((gap.predicted_mm, gap.within) for gap in told if gap.id == place[:_NAME]), None)


def face_of(
    facts: JobFacts,
    stand: Stand,
    *,
    weight_on: bool = True,
    thread_mm: float | None = None,
    shim_mm: float | None = None,
) -> Face | None:
    """Return the panels as one face, by their gaps as read on rack or wheels; None where no panel with a hinge is listed.

    `thread_mm` is the pitch of the shop's hinge bolts, `shim_mm` how thick its shims are. Without its weight a panel was held up
    when its gaps were read: it drops, and that is allowed for.
    """
    fit = fit_said(facts) or FitSaid()
    panels = [panel for panel in fit.panels if panel.hinges]
    if not panels:
        return None
    names = {panel.name for panel in panels}
    states = [state for state in gap_states(facts) if state.said and {state.said.panel, state.said.beside} & names]
    drops = {panel.name: 0.0 if weight_on else panel.drop_mm for panel in panels}
    read = [(state, gap) for state in states if (gap := state.read(stand)) is not None and not gap.stale]
    unread = tuple(state.place for state in states if state.place not in {state.place for state, _ in read})
    went = tuple(_as_it_went(facts, panel, states, stand) for panel in panels if _set(facts, panel.name))
    if not read:
        return Face(
            None,
            "Read the gaps: then which panel to loosen, and which to leave alone, is worked out.",
            (),
            (),
            unread,
            went,
        )
    try:
        hung = hang_panels(
            HangPanels(
                panels=tuple(HungPanel(id=panel.name, hinges=hinges_of(panel)) for panel in panels),
                gaps=tuple(_shared(state, gap, names, drops) for state, gap in read),
            )
        )
    except FairSquareError as fault:
        return Face(None, fault.title, (), (), unread, went)
    return Face(hung, "", _steps(fit, hung, thread_mm, shim_mm), _alone(hung), unread, went)


def _shared(state: GapState, gap: GapFact, names: set[str], drops: Mapping[str, float]) -> SharedGap:
    """Return a gap between two panels, or a panel and the body: where only its neighbour hangs on hinges, seen from there."""
    said = state.said
    assert said is not None
    a, b = said.panel, said.beside if said.beside in names else ""
    if a not in names:
        a, b = b or said.beside, ""
    normal = way_from(said, a)
    return SharedGap(
        id=state.place[:_NAME],
        a=a,
        b=b or None,
        at=said.at,
        normal=normal,
        mm=gap.mm + (drops[a] - drops.get(b, 0.0)) * normal[2],
        target_mm=gap.target_mm,
        tolerance_mm=gap.tolerance_mm,
    )


def _steps(fit: FitSaid, hung: PanelsHung, thread_mm: float | None, shim_mm: float | None) -> tuple[Step, ...]:
    moves = hung.touch.moves if hung.touch else hung.moves
    steps = []
    for step in hung.steps:
        own = {gap.place[:_NAME] for gap in fit.gaps_of(step.panel)}
        told = [gap for gap in step.gaps if gap.id in own]
        steps.append(
            Step(
                step.panel,
                tuple(
                    HingeMove(hinge, axis, mm, mm / thread_mm if thread_mm else None, mm / shim_mm if shim_mm else None)
                    for hinge, move in moves[step.panel].items()
                    for axis, mm in zip(("length", "width", "height"), move, strict=True)
                    if abs(mm) >= _LEAST_MOVE_MM
                ),
                {gap.id: gap.predicted_mm for gap in told},
                {gap.id: gap.within for gap in told},
            )
        )
    return tuple(steps)


def _alone(hung: PanelsHung) -> tuple[str, ...]:
    """Return the panels that are left as they hang."""
    moved = {step.panel for step in hung.steps}
    return tuple(panel for panel in hung.moves if panel not in moved)


def _set(facts: JobFacts, panel: str) -> Hung | None:
    """Return how a panel was last set on its hinges, unless it was taken off or hung anew since."""
    trials = hung_work(facts, panel)
    return trials[-1] if trials and trials[-1].predicted else None


def _as_it_went(facts: JobFacts, panel: PanelSaid, states: list[GapState], stand: Stand) -> AsItWent:
    """Return how a panel that was set went, by its gaps as read since."""
    was = _set(facts, panel.name)
    predicted = dict(was.predicted) if was else {}
    read: dict[str, float] = {}
    again: list[GapAgain] = []
    for state in states:
        gap, said = state.read(stand), state.said
        place = state.place[:_NAME]
        if gap is None or gap.stale or said is None or place not in predicted:
            continue
        read[place] = gap.mm
        again.append(GapAgain(place, said.at, way_from(said, panel.name), predicted[place], gap.mm))
    return AsItWent(panel.name, predicted, read, after_setting(hinges_of(panel), again) if again else None)


def outline(fit: FitSaid, panel: PanelSaid) -> list[Row3]:
    """Return the places that a panel's outline runs through: its gaps and its hinges."""
    at = [gap.at for gap in fit.gaps_of(panel.name) if gap.at != (0.0, 0.0, 0.0)]
    return [*at, *(hinge.at for hinge in panel.hinges)]
