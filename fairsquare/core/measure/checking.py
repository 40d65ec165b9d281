"""Is one observation wrong? Each is tested against all the others (Baarda, A testing procedure for geodetic networks, 1968)."""

from typing import NamedTuple

import numpy as np
from scipy.special import log_ndtr

from fairsquare.core.measure.network import Floats, Ints

_CHECKED = 0.01
"""A direction of which less than this share of the residual's variance is left is not checked by the others."""


class Tests(NamedTuple):
    """Tests of m observations or places: ln p (0 where unchecked), p (nan where unchecked) and redundancy, each (m,)."""

    log_p: Floats
    p: Floats
    redundancy: Floats


def check_residuals(residuals: Floats, spread: Floats, components: Ints) -> Tests:
    """Test residuals (m, 3) whose covariances are `spread` (m, 3, 3); only directions that the others check count."""
    size, axes = np.linalg.eigh((spread + np.swapaxes(spread, 1, 2)) / 2)
    along = np.einsum("mij,mi->mj", axes, residuals)
    checked = size > _CHECKED
    total = np.sum(np.divide(along**2, size, out=np.zeros_like(size), where=checked), axis=1)
    directions = checked.sum(axis=1)
    log_p = log_upper_tail(total, directions)
    redundancy = np.einsum("mii->m", spread) / components
    return Tests(log_p, np.where(directions > 0, np.exp(log_p), np.nan), redundancy)


def log_upper_tail(chi2: Floats, dof: Ints) -> Floats:
    """Return ln of the upper tail of χ² with 1, 2 or 3 degrees of freedom (0 for none), which does not underflow.

    Closed forms: erfc √(χ²/2) for one, exp(−χ²/2) for two, and for three the first plus √(2χ²/π)·exp(−χ²/2)
    (Abramowitz and Stegun, 26.4.4 and 26.4.5).
    """
    root = np.sqrt(chi2)
    one_dof = np.log(2.0) + log_ndtr(-root)
    with np.errstate(divide="ignore"):
        three = np.logaddexp(one_dof, 0.5 * np.log(2 * chi2 / np.pi) - chi2 / 2)
    return np.asarray(np.select([dof == 1, dof == 2, dof == 3], [one_dof, -chi2 / 2, np.minimum(three, 0.0)], 0.0))
