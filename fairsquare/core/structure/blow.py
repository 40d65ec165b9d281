"""A blow on a frame: what it leaves, once it is over, of where the points were."""

from collections.abc import Iterable, Mapping

from fairsquare.core.model import Code, Row3
from fairsquare.core.structure.simulate import SimulateFrame, simulate_frame
from fairsquare.core.structure.skeleton import Leg, Skeleton

_STEPS, _STEPS_BACK = 40, 10
_SEEN_MM = 0.05


def left_by(skeleton: Skeleton, forces: Mapping[Code, Row3], steps: int = _STEPS) -> dict[Code, Row3] | None:
    """Return how far each node stays from where it was, mm, after forces (N) were put on at nodes and let go; None where the
    frame does not carry them. Nodes that stay within 0.05 mm are left out."""
    blow = Leg(to={code: (*force, 0.0, 0.0, 0.0) for code, force in forces.items()}, steps=steps)
    answer = simulate_frame(SimulateFrame(**dict(skeleton), path=(blow, Leg(to={}, steps=_STEPS_BACK))))
    if answer.collapse is not None:
        return None
    left = {code: (by[0], by[1], by[2]) for code, by in answer.legs[-1].displacements.items()}
    return {code: by for code, by in left.items() if max(map(abs, by)) >= _SEEN_MM}


def together(blows: Iterable[Mapping[Code, Row3]]) -> dict[Code, Row3]:
    """Return what several blows leave, each on a frame that had come to rest: their sum, to a tenth of a mm."""
    total: dict[Code, Row3] = {}
    for blow in blows:
        for code, by in blow.items():
            x, y, z = total.get(code, (0.0, 0.0, 0.0))
            total[code] = (x + by[0], y + by[1], z + by[2])
    return {code: (round(x, 1) + 0.0, round(y, 1) + 0.0, round(z, 1) + 0.0) for code, (x, y, z) in total.items()}
