"""A network of observations solved: the minimum, every observation tested, and what contradicts the rest put aside."""

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Annotated

import numpy as np
from pydantic import Field

from fairsquare.core.errors import Refused
from fairsquare.core.measure.checking import Tests, check_residuals
from fairsquare.core.measure.network import Bools, Equations, Floats, Ints, Layout, State, equations_of, layout_of
from fairsquare.core.measure.observations import (
    NetworkSetup,
    Observation,
    Observations,
    PointRead,
    check_observation,
    setup_kinds,
)
from fairsquare.core.measure.settle import Linearised, Priors, settle
from fairsquare.core.measure.setup import fit_pose
from fairsquare.core.model import Code, Many, Model
from fairsquare.core.sheet.model import Point, Sheet, find_point, points_by_code

SUSPECT = 0.001
"""An observation whose p is under this contradicts the others."""
_SAME_FACTOR = 100.0
"""The readings cannot tell the worst from others whose p is at most this many times larger."""
_ASIDE_SHARE = 5
"""At most one in five may be put aside."""
_SIGHT_SIGMAS = (2000.0, 0.2, 2000.0, 0.2, 0.2)
_LEAST_BUILD_SIGMA = 1e-4
"""A sheet that claims to be exact is taken as good to a ten-thousandth of a millimetre, so that it can be reckoned with."""
_SHORT_AXIS = 1e-3
_STRAINED, _CAREFUL = 3.0, (0.1, 10.0)
"""A misfit of more than this per component says that something is grossly wrong, which can lead the search astray: it sets
out again with shorter steps, and the lowest counts."""


class Network(Model):
    """What a picture is made of: the sheet, the points whose sheet places are trusted, the set-ups, the observations.

    A trusted point stands at its sheet place with the sheet's build_sigma, any other with `displaced_sigma_mm`.
    With `snoop` observations that contradict the others are put aside.
    """

    sheet: Sheet
    trusted: Many[Code]
    displaced_sigma_mm: Annotated[float, Field(gt=0, le=1e7)] = 100.0
    setups: Many[NetworkSetup] = ()
    observations: Observations
    snoop: bool = True


@dataclass
class Solved:
    """A solved network, for those who go on reckoning with it. `covariance` is of all unknowns, (size, size).

    `now` are the tests of all observations at the answer; in `readings` and `places` what was put aside has those it had then.
    """

    request: Network
    points: dict[str, Point]
    layout: Layout
    equations: Equations
    in_use: Floats
    trusted: Bools
    priors: Priors
    state: State
    at: Linearised
    covariance: Floats
    readings: Tests
    places: Tests
    now: Tests
    suspects: list[tuple[str, ...]] = field(default_factory=list)


def solve_network(request: Network) -> Solved:
    """Check a network, solve it, and put aside what contradicts the rest if so asked. Raises `Refused`."""
    points = points_by_code(request.sheet)
    _check(request, points)
    layout = layout_of(list(points), request.setups)
    equations = equations_of(request.observations, layout)
    trusted = np.isin(list(points), list(request.trusted))
    state = _start(request, points, layout)
    solved = _solve(request, points, layout, equations, np.ones(len(equations)), trusted, [state])
    return _snoop(solved, state) if request.snoop else solved


def _check(request: Network, points: dict[str, Point]) -> None:
    kinds = setup_kinds(request.setups)
    for index, code in enumerate(request.trusted):
        find_point(points, code, f"trusted.{index}")
    seen: set[str] = set()
    for index, observation in enumerate(request.observations):
        where = f"observations.{index}"
        if observation.id in seen:
            raise Refused(
                f"The id {observation.id} stands twice: each observation needs its own.",
                field=f"{where}.id",
                value=observation.id,
            )
        seen.add(observation.id)
        check_observation(observation, points, kinds, where)
    for index, setup in enumerate(request.setups):
        if setup.kind == "instrument":
            _check_instrument(setup, request.observations, f"setups.{index}")


def _check_instrument(setup: NetworkSetup, observations: Sequence[Observation], where: str) -> None:
    own = [o for o in observations if isinstance(o, PointRead) and o.setup == setup.id]
    count = len({o.code for o in own})
    if count < 3:
        raise Refused(
            f"The instrument {setup.id} read {count} different points: three are needed to tell where it stands.",
            field=where,
            value=setup.id,
        )
    if _in_line(np.array([o.xyz for o in own])):
        raise Refused(
            f"All that the instrument {setup.id} read lies on one line: it could turn about it unseen. "
            "Read a point to the side of the line.",
            field=where,
            value=setup.id,
        )


def _in_line(places: Floats) -> bool:
    """Say whether places (n, 3) lie on a line: second singular value under a thousandth of the first."""
    if len(places) < 3:
        return True
    singular = np.linalg.svd(places - places.mean(axis=0), compute_uv=False)
    return bool(singular[1] <= _SHORT_AXIS * singular[0])


def _start(request: Network, points: dict[str, Point], layout: Layout) -> State:
    """Return where the search starts: the sheet, level sights, and each instrument fitted to what it read."""
    values = np.zeros(layout.size)
    values[: layout.coordinates] = np.array([point.xyz for point in points.values()], dtype=float).ravel()
    poses, centres = [], []
    for name in layout.instruments:
        own = [o for o in request.observations if isinstance(o, PointRead) and o.setup == name]
        relied = [o for o in own if o.code in request.trusted]
        if len({o.code for o in relied}) < 3 or _in_line(np.array([o.xyz for o in relied])):
            relied = own
        sheet = np.array([points[o.code].xyz for o in relied], dtype=float)
        poses.append(fit_pose(np.array([o.xyz for o in relied], dtype=float), sheet))
        centres.append(np.array([points[o.code].xyz for o in own], dtype=float).mean(axis=0))
    return State(
        layout=layout,
        values=values,
        rotations=np.array([pose[0] for pose in poses]).reshape(-1, 3, 3),
        translations=np.array([pose[1] for pose in poses]).reshape(-1, 3),
        centres=np.array(centres).reshape(-1, 3),
    )


def _place_sigmas(request: Network, points: dict[str, Point]) -> Floats:
    """Return how well a trusted point stands where the sheet says, per coordinate, mm, shape (n, 3)."""
    own = np.array([point.sigma_mm or (0.0, 0.0, 0.0) for point in points.values()], dtype=float).reshape(-1, 3)
    return np.asarray(np.maximum(np.hypot(own, request.sheet.build_sigma_mm), _LEAST_BUILD_SIGMA))


def priors_of(request: Network, points: dict[str, Point], layout: Layout, trusted: Bools) -> Priors:
    """Return what is taken of the unknowns before anything is read; `trusted` (n,) says which points stand as the sheet says."""
    values, weights = np.zeros(layout.size), np.zeros(layout.size)
    values[: layout.coordinates] = np.array([point.xyz for point in points.values()], dtype=float).ravel()
    sigmas = np.where(trusted[:, None], _place_sigmas(request, points), request.displaced_sigma_mm)
    weights[: layout.coordinates] = sigmas.ravel() ** -2.0
    for setup in request.setups:
        if setup.kind == "sight":
            first = layout.setups[setup.id]
            weights[first : first + 5] = np.power(_SIGHT_SIGMAS, -2.0)
    weights[layout.idle] = 1.0
    return Priors(values, weights)


def _solve(
    request: Network,
    points: dict[str, Point],
    layout: Layout,
    equations: Equations,
    in_use: Floats,
    trusted: Bools,
    starts: Sequence[State],
) -> Solved:
    """Solve from each start and keep the lowest: a gross error can draw the search into a valley of its own."""
    priors = priors_of(request, points, layout, trusted)
    settlings = [settle(equations, in_use, priors, state) for state in starts]
    if min(settled[1].cost for settled in settlings) > _STRAINED * equations.given.sum():
        settlings += [settle(equations, in_use, priors, starts[0], damping) for damping in _CAREFUL]
    state, at, covariance = min(settlings, key=lambda settled: settled[1].cost)
    readings = check_readings(equations, at, covariance)
    places = check_places(priors, state, covariance, trusted)
    return Solved(
        request, points, layout, equations, in_use, trusted, priors, state, at, covariance, readings, places, readings
    )


def check_readings(equations: Equations, at: Linearised, covariance: Floats) -> Tests:
    """Test every observation against the others."""
    own = covariance[equations.columns[:, :, None], equations.columns[:, None, :]]
    spread = np.eye(3) * equations.given[:, :, None] - at.slopes @ own @ np.swapaxes(at.slopes, 1, 2)
    return check_residuals(at.residuals, spread, equations.given.sum(axis=1))


def check_places(priors: Priors, state: State, covariance: Floats, trusted: Bools) -> Tests:
    """Test the sheet place of every trusted point against the readings."""
    count = state.layout.coordinates
    own = np.stack([covariance[first : first + 3, first : first + 3] for first in range(0, count, 3)] or [np.eye(3)])
    roots = np.sqrt(priors.weights[:count]).reshape(-1, 3)
    residuals = (priors.values - state.values)[:count].reshape(-1, 3) * roots
    spread = np.eye(3) - own * roots[:, :, None] * roots[:, None, :]
    tests = check_residuals(residuals, spread, np.full(len(roots), 3))
    return Tests(np.where(trusted, tests.log_p, 0.0), np.where(trusted, tests.p, np.nan), tests.redundancy)


def _snoop(solved: Solved, start: State) -> Solved:
    """Put aside the worst observation, and what the readings cannot tell from it, and solve again, while any is bad."""
    suspects: list[tuple[str, ...]] = []
    first_readings, first_places = solved.readings, solved.places
    most = len(solved.equations) // _ASIDE_SHARE
    while True:
        log_p = np.concatenate([solved.readings.log_p * solved.in_use, solved.places.log_p])
        least = float(log_p.min(initial=0.0))
        if least >= np.log(SUSPECT):
            break
        group = np.flatnonzero((log_p < np.log(SUSPECT)) & (log_p <= least + np.log(_SAME_FACTOR)))
        names = _names(solved, group)
        readings = group[group < len(solved.equations)]
        places = group[group >= len(solved.equations)] - len(solved.equations)
        in_use, trusted = solved.in_use.copy(), solved.trusted.copy()
        in_use[readings], trusted[places] = 0.0, False
        aside = np.sum(in_use == 0) + np.sum(solved.trusted & ~trusted) + _distrusted(solved)
        if aside > most or not _instruments_stand(solved, in_use):
            suspects.append(names)
            break
        if len(names) > 1:
            suspects.append(names)
        first_readings = _keep(first_readings, solved.readings, solved.in_use)
        first_places = _keep(first_places, solved.places, solved.trusted)
        starts = [start, solved.state]
        solved = _solve(solved.request, solved.points, solved.layout, solved.equations, in_use, trusted, starts)
    return replace(
        solved,
        suspects=suspects,
        readings=_keep(first_readings, solved.readings, solved.in_use),
        places=_keep(first_places, solved.places, solved.trusted),
    )


def _distrusted(solved: Solved) -> int:
    asked = np.isin(list(solved.points), list(solved.request.trusted))
    return int(np.sum(asked & ~solved.trusted))


def _names(solved: Solved, group: Ints) -> tuple[str, ...]:
    codes = list(solved.points)
    count = len(solved.equations)
    return tuple(
        solved.request.observations[int(row)].id if row < count else f"sheet:{codes[int(row) - count]}" for row in group
    )


def _instruments_stand(solved: Solved, in_use: Floats) -> bool:
    """Say whether every instrument keeps three different points."""
    kept: dict[str, set[str]] = {name: set() for name in solved.layout.instruments}
    for observation, used in zip(solved.request.observations, in_use, strict=True):
        if used and isinstance(observation, PointRead):
            kept[observation.setup].add(observation.code)
    return all(len(codes) >= 3 for codes in kept.values())


def _keep(before: Tests, now: Tests, in_use: Floats | Bools) -> Tests:
    """Return the tests of now where an observation is in use, and those it had when it was put aside elsewhere."""
    used = np.asarray(in_use, dtype=bool)
    return Tests(*(np.where(used, new, old) for old, new in zip(before, now, strict=True)))
