"""What holds the vehicle and slips under load: then the vehicle stands elsewhere, and the set-up is void at once."""

from functools import lru_cache
from typing import NamedTuple

import numpy as np

from fairsquare.core.axes import apply_pose
from fairsquare.core.model import Row3
from fairsquare.core.pull.job import UNDER_LOAD, WorkPull, will_hold
from fairsquare.core.pull.setting import Setting, frame_of_setting
from fairsquare.core.pull.statics import PullsHeld
from fairsquare.core.same import Same
from fairsquare.core.sheet.model import Sheet
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.facts.setup import MovementFact
from fairsquare.job.measure.counted import counting
from fairsquare.job.measure.picture import current_setup, picture_of
from fairsquare.job.pull.board import board_of, loaded_places, setting_of, under_way

SLIP_MM = 3.0
"""More than this beyond what its stiffness lets it move, and a clamp slips. Common practice, no source."""


class Crept(NamedTuple):
    """What holds the vehicle and has gone farther under load than it may by stiffness alone: its name, point, and how far, mm."""

    anchor: str
    code: str
    mm: float
    expected_mm: float


def voided_last(facts: JobFacts) -> MovementFact | None:
    """Return the move that made the last set-up void, until there is another; None where one is in force or none ever was."""
    if not facts.setups or current_setup(facts) is not None:
        return None
    return facts.setups[-1].voided


def held_as_planned(facts: JobFacts, work: WorkPull) -> tuple[PullsHeld | None, tuple[str, ...]]:
    """Return the statics of a pull at its planned forces, or None and why it is not held; worked out once for the same setting."""
    setting = setting_of(facts)
    if setting is None or facts.sheet is None:
        return None, ("There is no sheet.",)
    return _held(Same(facts.sheet), setting.model_dump_json(), work)


@lru_cache(maxsize=64)
def _held(held: Same[Sheet], setting_json: str, work: WorkPull) -> tuple[PullsHeld | None, tuple[str, ...]]:
    setting = Setting.model_validate_json(setting_json)
    return will_hold(frame_of_setting(held.held, setting), setting, work)


def slips_now(facts: JobFacts) -> tuple[Crept, ...]:
    """Return the anchors that slip in the pull under way; none while no chain is tight."""
    board = board_of(facts)
    if board is None or board.state not in UNDER_LOAD:
        return ()
    return slipped(facts, held_as_planned(facts, board.plan.plan.pulls[board.pull - 1])[0])


def slipped(facts: JobFacts, statics: PullsHeld | None) -> tuple[Crept, ...]:
    """Return the anchors that slip: read under load since the last cycle `SLIP_MM` farther from where they stood than at the
    planned force they would move by their stiffness."""
    events, setting = under_way(facts), setting_of(facts)
    codes = {anchor.code for anchor in setting.anchors} if setting else set()
    if not events or setting is None or not any(r.loaded and r.code in codes for r in facts.readings):
        return ()
    since = next((event.by.at for event in reversed(events) if event.cycles), events[0].by.at)
    loaded = loaded_places(facts, since)
    held = [anchor for anchor in setting.anchors if anchor.code in loaded]
    free = _last_free(facts, {anchor.code for anchor in held}) if held else {}
    crept = []
    for anchor in held:
        if anchor.code not in free:
            continue
        stood = np.array(free[anchor.code])
        mm = float(np.linalg.norm(np.array(loaded[anchor.code][-1][1]) - stood))
        moves = statics.movement if statics else None
        expected = (
            float(np.linalg.norm(np.array(moves.translation) + np.cross(moves.rotation_rad, stood))) if moves else 0.0
        )
        if mm > expected + SLIP_MM:
            crept.append(Crept(anchor.id, anchor.code, mm, expected))
    return tuple(crept)


def _last_free(facts: JobFacts, codes: set[str]) -> dict[str, Row3]:
    """Return where points were last read free in the set-up in force, by its fit alone: quick enough for every reading."""
    setup = current_setup(facts)
    fit = picture_of(facts, setup, facts.sheet, join=False).fit if setup and facts.sheet else None
    if setup is None or fit is None or fit.rotation is None or fit.translation is None:
        return {}
    last = {
        r.code: r.xyz
        for r in counting(facts.readings)
        if r.code in codes and r.xyz and not r.loaded and r.setup == setup.number
    }
    last_free: dict[str, Row3] = {}
    for code, xyz in last.items():
        x, y, z = apply_pose(np.array(fit.rotation), np.array(fit.translation), np.array([xyz]))[0]
        last_free[code] = (float(x), float(y), float(z))
    return last_free
