"""Does a measuring tool still read as well as it is said to? A bar of known length, read several times, tells.

Limits are those of a control chart (ISO 7870-2: warning at two, action at three standard deviations, the tool's own as it is said);
the scatter of a normal sample follows chi-squared (any handbook of statistics).
"""

import math
from typing import Annotated, Literal

import numpy as np
from pydantic import Field
from scipy.stats import chi2

from fairsquare.core.errors import Refused
from fairsquare.core.model import Many, Model

Verdict = Literal["good", "again", "bad"]
FEWEST = 3
WARN, ACT = 2.0, 3.0
_BEYOND = 0.99865
"""As rare as three standard deviations on one side."""


class CheckTool(Model):
    """A tool of `sigma_mm` reads a bar of `bar_mm` (known to `bar_sigma_mm`) several times, mm.

    `ends`: how many ends of the bar it reads: 1 for what reads a length in one go, 2 for an instrument that reads a point at each
    end, each to sigma along the bar.
    """

    sigma_mm: Annotated[float, Field(gt=0, le=1e3)]
    ends: Annotated[int, Field(ge=1, le=2)] = 1
    bar_mm: Annotated[float, Field(gt=0, le=1e5)]
    bar_sigma_mm: Annotated[float, Field(ge=0, le=1e3)] = 0.0
    readings_mm: Annotated[Many[float], Field(max_length=1000)]


class ToolChecked(Model):
    """How the tool reads, mm: `error_mm` is the mean less the bar, known to `error_sigma_mm`.

    `scatter_mm` is the standard deviation of the readings, which a good tool keeps below `scatter_limit_mm`.

    `good`: the error is within two of its sigma; `again`: within three, read it again; `bad`: beyond, or the readings scatter too
    much.
    """

    mean_mm: float
    error_mm: float
    error_sigma_mm: float
    scatter_mm: float
    scatter_limit_mm: float
    verdict: Verdict
    words: str


def check_tool(request: CheckTool) -> ToolChecked:
    """Judge a tool by its readings of a bar. Raises `Refused` for fewer than three, and for one that is no reading of it."""
    read = np.asarray(request.readings_mm, dtype=float)
    if len(read) < FEWEST:
        raise Refused(
            f"Read the bar {FEWEST} times or more, taking the tool off between: {len(read)} "
            f"{'is' if len(read) == 1 else 'are'} there.",
            field="readings_mm",
            value=list(request.readings_mm),
        )
    far = next((k for k, mm in enumerate(read) if abs(mm - request.bar_mm) > 0.1 * request.bar_mm), None)
    if far is not None:
        raise Refused(
            f"{read[far]:g} mm is no reading of a bar of {request.bar_mm:g} mm: a slip of the pen?",
            field=f"readings_mm.{far}",
            value=float(read[far]),
        )
    own = request.sigma_mm * math.sqrt(request.ends)
    mean, scatter = float(read.mean()), float(read.std(ddof=1))
    error = mean - request.bar_mm
    sigma = math.hypot(own / math.sqrt(len(read)), request.bar_sigma_mm)
    limit = own * math.sqrt(float(chi2.ppf(_BEYOND, len(read) - 1)) / (len(read) - 1))
    scattered = scatter > limit
    verdict: Verdict = (
        "bad" if scattered or abs(error) > ACT * sigma else "again" if abs(error) > WARN * sigma else "good"
    )
    return ToolChecked(
        mean_mm=mean,
        error_mm=error,
        error_sigma_mm=sigma,
        scatter_mm=scatter,
        scatter_limit_mm=limit,
        verdict=verdict,
        words=_words(error, sigma, scatter, limit, verdict),
    )


def _words(error: float, sigma: float, scatter: float, limit: float, verdict: Verdict) -> str:
    reads = f"reads {abs(error):.2f} mm {'long' if error > 0 else 'short'}"
    if verdict == "good":
        return f"{reads}, within the {WARN * sigma:.2f} mm that chance allows"
    if scatter > limit:
        return f"its readings scatter by {scatter:.2f} mm, more than the {limit:.2f} mm that chance allows"
    if verdict == "again":
        return f"{reads}, near the limit of {ACT * sigma:.2f} mm"
    return f"{reads}, more than the {ACT * sigma:.2f} mm that chance allows"
