"""The set-up: which reference points can be trusted, and the pose of the instrument that they give.

Least squares over the trusted points by singular value decomposition (Horn, J. Opt. Soc. Am. A 4, 1987; Arun, Huang and
Blostein, IEEE PAMI 9, 1987); trust by the χ² test of every subset; detectable movement after Baarda (A testing
procedure for use in geodetic networks, 1968).
"""

from collections.abc import Iterator
from functools import lru_cache
from itertools import combinations, islice
from typing import Annotated, Literal, NamedTuple

import numpy as np
import numpy.typing as npt
from pydantic import Field
from scipy.special import chdtrc, chdtri, chndtrinc

from fairsquare.core.axes import apply_pose, best_rotation, covariance_through_pose, pose_jacobian
from fairsquare.core.errors import Refused
from fairsquare.core.model import Code, Many, Matrix3, Model, Row3, Vector
from fairsquare.core.sheet.model import Point, Sheet, find_point, points_by_code, tolerances

Floats = npt.NDArray[np.float64]
Verdict = Literal["accepted", "ambiguous", "refused"]

FEWEST = 3
FEWEST_CHECKED = 4
CONFIDENCE = 0.999
POWER = 0.8
NOT_LESS_LIKELY = 10.0
"""A rival subset whose χ² is at most this much larger is not 150 times less likely."""
LINE_MM = 20.0
_SUBSETS_AT_ONCE = 20_000


class Reading(Model):
    """One reading of a point, `xyz` in the instrument's axes, mm."""

    code: Code
    xyz: Vector


class FitSetup(Model):
    """Readings of reference points; each of their coordinates scatters by `sigma_mm`."""

    sheet: Sheet
    readings: Many[Reading]
    sigma_mm: Annotated[float, Field(ge=0, le=1e4)] = 0.3


class Alternative(Model):
    """Another subset of the readings that fits about as well as the trusted one."""

    trusted: tuple[str, ...]
    chi2: float
    p: float


class Warned(Model):
    """Something the technician has to know before relying on the fit: in words, and the figures that they are made of."""

    kind: Literal["unchecked", "minority", "weak", "refused"]
    words: str = ""
    values: dict[str, int | float | str] = Field(default_factory=dict)


class SetupFit(Model):
    """The judgement of a set-up. Pose, χ² and covariance are null when it is refused.

    `pose_covariance` is 6×6 for (ω rad, τ mm), see `fairsquare.core.axes`; `residuals` are fitted minus sheet;
    `detectable_mm` is how far a trusted point could have moved unseen (null: nothing checks it).
    """

    verdict: Verdict
    trusted: tuple[str, ...]
    suspects: tuple[str, ...]
    alternatives: tuple[Alternative, ...]
    rotation: Matrix3 | None
    translation: Row3 | None
    residuals: dict[str, Row3]
    chi2: float | None
    dof: int | None
    p: float | None
    pose_covariance: tuple[tuple[float, ...], ...] | None
    detectable_mm: dict[str, float | None]
    warnings: tuple[Warned, ...]


class _Subset(NamedTuple):
    members: tuple[int, ...]
    chi2: float


def fit_setup(request: FitSetup) -> SetupFit:
    """Judge the references and fit the pose. Raises `Refused` for readings that cannot serve as references."""
    points = points_by_code(request.sheet)
    references = _references(request, points)
    variance = request.sigma_mm**2 + request.sheet.build_sigma_mm**2
    if variance == 0:
        raise Refused(
            "sigma_mm and the sheet's build_sigma_mm are both 0: nothing reads exactly. Give the instrument's sigma, such as 0.3.",
            field="sigma_mm",
            value=request.sigma_mm,
        )
    codes = [reading.code for reading in request.readings]
    read = np.array([reading.xyz for reading in request.readings], dtype=float)
    sheet = np.array([point.xyz for point in references], dtype=float)
    subsets = _trusted_subsets(read, sheet, variance)
    unchecked = [_unchecked()] if len(codes) == FEWEST else []
    if not subsets:
        return _refused(codes, unchecked)
    return _fitted(request, points, codes, read, sheet, variance, subsets, unchecked)


def fit_pose(read: Floats, sheet: Floats) -> tuple[Floats, Floats]:
    """Return the rotation (3, 3) and translation (3,) that bring `read` onto `sheet`, both (n, 3), by least squares."""
    middle_read, middle_sheet = read.mean(axis=0), sheet.mean(axis=0)
    rotation = best_rotation((sheet - middle_sheet).T @ (read - middle_read))
    return rotation, middle_sheet - rotation @ middle_read


def chi2_limit(dof: int) -> float:
    """Return the χ² that is passed by 0.999 of good fits with `dof` degrees of freedom."""
    return float(chdtri(dof, 1 - CONFIDENCE))


@lru_cache(maxsize=256)
def noncentrality(dof: int) -> float:
    """Return λ at which χ² of `dof` exceeds its 0.999 quantile with probability 0.8 (Baarda, 1968)."""
    return float(chndtrinc(chi2_limit(dof), dof, 1 - POWER))


def _references(request: FitSetup, points: dict[str, Point]) -> list[Point]:
    if len(request.readings) < FEWEST:
        raise Refused(
            f"{len(request.readings)} reference points were read: a set-up needs three at the least, better five or six.",
            field="readings",
            value=len(request.readings),
        )
    references, seen = [], set()
    for index, reading in enumerate(request.readings):
        field = f"readings.{index}.code"
        point = find_point(points, reading.code, field)
        if reading.code in seen:
            raise Refused(
                f"{reading.code} was read twice: keep one reading of each reference point.",
                field=field,
                value=reading.code,
            )
        if not point.reference:
            raise Refused(
                f"{reading.code} is not a reference point on the sheet: read points that are marked as reference.",
                field=field,
                value=reading.code,
            )
        seen.add(reading.code)
        references.append(point)
    return references


def _trusted_subsets(read: Floats, sheet: Floats, variance: float) -> list[_Subset]:
    """Return the largest subsets that fit, the least χ² first, with their rivals; none where nothing fits.

    Raises `Refused` when every subset stands on a line, which is when all of them together do: adding points never
    lowers the second singular value.
    """
    count = len(read)
    if _on_a_line(sheet, np.arange(count)[None]).all():
        raise Refused(
            "The reference points that were read lie on one line: the vehicle could turn about it unseen. "
            "Read points on both sides and apart along the vehicle.",
            field="readings",
            value=count,
        )
    for size in range(count, min(count, FEWEST_CHECKED) - 1, -1):
        limit = chi2_limit(3 * size - 6)
        passing: list[_Subset] = []
        for subsets in _in_batches(_candidates(read, sheet, variance, size, limit)):
            chosen = subsets[~_on_a_line(sheet, subsets)]
            chi2 = _chi2_of_subsets(read, sheet, chosen) / variance
            passing += [
                _Subset(tuple(int(i) for i in chosen[k]), float(chi2[k])) for k in np.flatnonzero(chi2 <= limit)
            ]
        if passing:
            passing.sort(key=lambda subset: subset.chi2)
            return [subset for subset in passing if subset.chi2 <= passing[0].chi2 + NOT_LESS_LIKELY]
    return []


def _candidates(read: Floats, sheet: Floats, variance: float, size: int, limit: float) -> Iterator[tuple[int, ...]]:
    """Yield the subsets of `size` that could pass: no pair in them may disagree on its distance by too much.

    Two readings whose distance is δ from the sheet's add at least δ²/2s² to χ², whatever the pose; that needs no set-up
    at all and rules out most subsets when there are many readings.
    """
    spread = np.linalg.norm(read[:, None] - read[None], axis=2) - np.linalg.norm(sheet[:, None] - sheet[None], axis=2)
    agree = spread**2 / (2 * variance) <= limit * (1 + 1e-9)
    count = len(read)
    if agree.all():
        yield from combinations(range(count), size)
        return

    def grow(chosen: tuple[int, ...], rest: list[int]) -> Iterator[tuple[int, ...]]:
        if len(chosen) == size:
            yield chosen
            return
        for place, index in enumerate(rest):
            if len(chosen) + len(rest) - place < size:
                return
            yield from grow((*chosen, index), [other for other in rest[place + 1 :] if agree[index, other]])

    yield from grow((), list(range(count)))


def _in_batches(subsets: Iterator[tuple[int, ...]]) -> Iterator[npt.NDArray[np.int64]]:
    while batch := list(islice(subsets, _SUBSETS_AT_ONCE)):
        yield np.array(batch, dtype=np.int64)


def _chi2_of_subsets(read: Floats, sheet: Floats, chosen: npt.NDArray[np.int64]) -> Floats:
    """Return the least Σ|residual|², mm², of each subset. Shapes: (n, 3), (n, 3), (k, m) -> (k,)."""
    if len(chosen) == 0:
        return np.zeros(0)
    p, q = sheet[chosen], read[chosen]
    p = p - p.mean(axis=1, keepdims=True)
    q = q - q.mean(axis=1, keepdims=True)
    rotation = best_rotation(np.swapaxes(p, 1, 2) @ q)
    residuals = q @ np.swapaxes(rotation, 1, 2) - p
    return np.asarray(np.sum(residuals**2, axis=(1, 2)))


def _on_a_line(sheet: Floats, chosen: npt.NDArray[np.int64]) -> npt.NDArray[np.bool_]:
    """Say of each subset (k, m) whether its sheet points lie on a line: second singular value under 20 mm."""
    places = sheet[chosen]
    centred = places - places.mean(axis=1, keepdims=True)
    second = np.linalg.svd(centred, compute_uv=False)[:, 1]
    return np.asarray(second < LINE_MM)


def _fitted(
    request: FitSetup,
    points: dict[str, Point],
    codes: list[str],
    read: Floats,
    sheet: Floats,
    variance: float,
    found: list[_Subset],
    warnings: list[Warned],
) -> SetupFit:
    best = found[0]
    members = list(best.members)
    rotation, translation = fit_pose(read[members], sheet[members])
    fitted = apply_pose(rotation, translation, read)
    dof = 3 * len(members) - 6
    jacobian = pose_jacobian(fitted[members])
    normal_inverse = np.linalg.inv(np.einsum("nki,nkj->ij", jacobian, jacobian))
    pose_covariance = variance * normal_inverse
    minority = 2 * len(members) <= len(codes)
    in_all = set(members).intersection(*(subset.members for subset in found))
    if minority:
        warnings = [*warnings, _minority(len(members), len(codes))]
    weak = _weak(request.sheet, points, pose_covariance)
    return SetupFit(
        verdict="ambiguous" if len(found) > 1 or minority else "accepted",
        trusted=_named(codes, best),
        suspects=tuple(code for index, code in enumerate(codes) if index not in in_all),
        alternatives=tuple(
            Alternative(trusted=_named(codes, subset), chi2=subset.chi2, p=float(chdtrc(dof, subset.chi2)))
            for subset in found[1:]
        ),
        rotation=_row3s(rotation),
        translation=_row3(translation),
        residuals={code: _row3(fitted[index] - sheet[index]) for index, code in enumerate(codes)},
        chi2=best.chi2,
        dof=dof,
        p=float(chdtrc(dof, best.chi2)),
        pose_covariance=tuple(tuple(float(value) for value in row) for row in pose_covariance),
        detectable_mm=_detectable(codes, members, jacobian, normal_inverse, variance, dof, len(codes)),
        warnings=(*warnings, *weak),
    )


def _detectable(
    codes: list[str],
    members: list[int],
    jacobian: Floats,
    normal_inverse: Floats,
    variance: float,
    dof: int,
    count: int,
) -> dict[str, float | None]:
    """Return √(λ s²/w) of each trusted point, mm; w is the least eigenvalue of its block of I − J(ΣJᵀJ)⁻¹Jᵀ."""
    if count == FEWEST:
        return {}
    hidden: dict[str, float | None] = {}
    for place, member in enumerate(members):
        block = np.eye(3) - jacobian[place] @ normal_inverse @ jacobian[place].T
        weight = float(np.linalg.eigvalsh(block)[0])
        hidden[codes[member]] = float(np.sqrt(noncentrality(dof) * variance / weight)) if weight > 1e-9 else None
    return hidden


def _named(codes: list[str], subset: _Subset) -> tuple[str, ...]:
    return tuple(codes[index] for index in subset.members)


def _row3(values: Floats) -> tuple[float, float, float]:
    return float(values[0]), float(values[1]), float(values[2])


def _row3s(rows: Floats) -> tuple[Row3, Row3, Row3]:
    return _row3(rows[0]), _row3(rows[1]), _row3(rows[2])


def _unchecked() -> Warned:
    return Warned(
        kind="unchecked",
        words="Three references carry the set-up and nothing checks them: if one of them was hit, "
        "every figure is wrong with it. Read a fourth, better a fifth.",
    )


def _minority(trusted: int, count: int) -> Warned:
    return Warned(
        kind="minority",
        words=f"Only {trusted} of {count} references agree. No more than half: the others may be the sound ones. "
        "Read more references, or say with a reason which to trust.",
        values={"agree": trusted, "many": count},
    )


def _refused(codes: list[str], warnings: list[Warned]) -> SetupFit:
    words = (
        f"No {'three' if len(codes) == FEWEST else 'four'} of the {len(codes)} references agree with the sheet. "
        "Look for a wrong sheet, swapped codes or left and right exchanged; read them again."
    )
    return SetupFit(
        verdict="refused",
        trusted=(),
        suspects=tuple(codes),
        alternatives=(),
        rotation=None,
        translation=None,
        residuals={},
        chi2=None,
        dof=None,
        p=None,
        pose_covariance=None,
        detectable_mm={},
        warnings=(*warnings, Warned(kind="refused", words=words, values={"many": len(codes)})),
    )


def _weak(sheet: Sheet, points: dict[str, Point], pose_covariance: Floats) -> list[Warned]:
    """Warn where the pose alone gives a coordinate of the sheet a sigma of more than a third of its tolerance."""
    places = np.array([point.xyz for point in points.values()], dtype=float)
    limits = np.array([tolerances(sheet, point) for point in points.values()], dtype=float)
    sigmas = np.sqrt(np.einsum("nkk->nk", covariance_through_pose(places, pose_covariance)))
    excess = sigmas - limits / 3
    if not (excess > 0).any():
        return []
    share = np.divide(sigmas, limits, out=np.full_like(sigmas, np.inf), where=limits > 0)
    row, axis = np.unravel_index(np.argmax(np.where(excess > 0, share, -1.0)), share.shape)
    turning = int(np.argmax(np.abs(pose_jacobian(places[row])[axis, :3]) * np.sqrt(np.diag(pose_covariance)[:3])))
    angle = np.degrees(np.sqrt(pose_covariance[turning, turning]))
    code = list(points)[int(row)]
    return [
        Warned(
            kind="weak",
            words=f"The references hold the turn about the {('length', 'width', 'height')[turning]} axis only to "
            f"± {angle:.3f}°: at {code} that alone is ± {sigmas[row, axis]:.1f} mm in "
            f"{('length', 'width', 'height')[int(axis)]}, more than a third of its tolerance of "
            f"{limits[row, axis]:g} mm. Read references farther apart.",
            values={
                "about": ("length", "width", "height")[turning],
                "turn_deg": float(angle),
                "code": code,
                "at_mm": float(sigmas[row, axis]),
                "along": ("length", "width", "height")[int(axis)],
                "limit_mm": float(limits[row, axis]),
            },
        )
    ]
