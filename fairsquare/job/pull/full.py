"""How full the rig is while it pulls: what works hardest is let go before it is full, as a point is before its limit."""

from collections.abc import Mapping
from typing import NamedTuple

from fairsquare.core.pull.job import WorkPull, works_hardest
from fairsquare.core.pull.setting import Setting
from fairsquare.core.pull.statics import PullsHeld
from fairsquare.job.facts.job import JobFacts
from fairsquare.job.pull.board import Board
from fairsquare.job.pull.slip import held_as_planned

WORKING_SHARE = 0.95
"""Of what a piece of the rig takes, what is planned with and let go at: a stroke of the pump carries on by some hundredths of the
force, and a load cell or gauge is right to some hundredths. Common practice, no source."""


class Fullest(NamedTuple):
    """What works hardest in the pull under way, by the forces as read, and its use: 1 is all that it takes."""

    name: str
    use: float

    @property
    def full(self) -> bool:
        """Whether it is loaded beyond what it takes: STOP."""
        return self.use > 1.0

    @property
    def let_go(self) -> bool:
        """Whether the next stroke could take it beyond what it takes: it is let go, whatever the points say."""
        return self.use >= WORKING_SHARE


def fullest(facts: JobFacts, board: Board, forces: Mapping[str, float]) -> Fullest | None:
    """Return what works hardest in the pull under way at forces as read at each tower, N. None where no force or limit is known."""
    work = board.plan.plan.pulls[board.pull - 1]
    return fullest_of(held_as_planned(facts, work)[0], work, forces)


def fullest_of(statics: PullsHeld | None, work: WorkPull, forces: Mapping[str, float]) -> Fullest | None:
    """Return what works hardest in a pull of which the statics at planned forces are known, at forces as read, N."""
    hardest = works_hardest(statics, work)
    shares = [forces[chain.tower] / chain.force_n for chain in work.chains if chain.tower in forces]
    return Fullest(hardest[0], max(shares) * hardest[1]) if hardest and shares else None


def within_working(setting: Setting) -> Setting:
    """Return a setting in which every piece takes only what it is let go at: a plan made with it needs no more than that."""

    def less(capacity_n: float | None) -> float | None:
        return None if capacity_n is None else WORKING_SHARE * capacity_n

    return setting.model_copy(
        update={
            name: tuple(
                part.model_copy(update={"capacity_n": less(part.capacity_n)}) for part in getattr(setting, name)
            )
            for name in ("towers", "hooks", "anchors")
        }
        | {
            "machines": tuple(
                machine.model_copy(
                    update={
                        "capacity_n": less(machine.capacity_n),
                        "bears_capacity_n": less(machine.bears_capacity_n),
                    }
                )
                for machine in setting.machines
            )
        }
    )
