"""One reading of a point by itself, before it is taken: where it would put the point, and how sure that is."""

import numpy as np

from fairsquare.core.axes import apply_pose, covariance_through_pose
from fairsquare.core.measure.conformity import JudgePoints, MeasuredPoint, PointJudgement, judge_points
from fairsquare.core.measure.setup import SetupFit
from fairsquare.core.model import Code, Row3
from fairsquare.core.sheet.model import Sheet


def judge_reading(sheet: Sheet, fit: SetupFit | None, sigma_mm: float, code: Code, xyz: Row3) -> PointJudgement | None:
    """Judge what one reading, mm in the instrument's axes, says of a point; None where the set-up has no pose.

    Its covariance is the instrument's, `sigma_mm` in every direction, and the share of the pose (J Σ Jᵀ, first order); other
    readings of the point are not in it.
    """
    if fit is None or fit.rotation is None or fit.translation is None or fit.pose_covariance is None:
        return None
    place = apply_pose(np.array(fit.rotation), np.array(fit.translation), np.array([xyz]))
    of_pose = covariance_through_pose(place, np.array(fit.pose_covariance))[0]
    covariance = of_pose + sigma_mm**2 * np.eye(3)
    measured = MeasuredPoint.model_validate({"xyz": place[0].tolist(), "covariance": covariance.tolist()})
    return judge_points(JudgePoints(sheet=sheet, points={code: measured})).points[code]
