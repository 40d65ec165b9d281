"""A reading before it is taken: as the picture says of it once it is taken, where it is the only one of its point."""

import numpy as np
import pytest

from fairsquare.core.measure.one_reading import judge_reading
from fairsquare.job.measure.picture import picture_of
from tests.job.facts import facts


def test_it_says_beforehand_what_the_picture_says_afterwards() -> None:
    job = facts()
    setup = job.setups[0]
    picture = picture_of(job, setup, job.sheet)
    once = [r for r in job.readings if r.purpose == "point" and len(picture.used[r.code]) == 1]
    assert len(once) > 5
    for reading in once:
        before = judge_reading(job.sheet, picture.fit, setup.sigma_mm, reading.code, reading.xyz)
        after = picture.judged[reading.code]
        assert before is not None
        assert before.states == after.states
        assert before.deviation == pytest.approx(after.deviation, abs=1e-3)
        assert before.expanded == pytest.approx(after.expanded, rel=1e-3)


def test_near_the_limit_it_is_close_and_without_a_pose_it_is_nothing() -> None:
    job = facts()
    picture = picture_of(job, job.setups[0], job.sheet)
    reading = next(r for r in job.readings if r.purpose == "point")
    fit, place = picture.fit, next(p for p in job.sheet.points if p.code == reading.code)
    at = np.array(fit.rotation).T @ (np.array(place.xyz) + np.array((2.9, 0.0, 0.0)) - np.array(fit.translation))
    judged = judge_reading(job.sheet, fit, 0.3, reading.code, tuple(at))
    assert (judged.states[0], judged.state) == ("close", "close"), "2.9 of 3 mm, known to ± 0.6 and more"
    assert judged.expanded[0] > 0.6
    sharp = fit.model_copy(update={"pose_covariance": tuple((0.0,) * 6 for _ in range(6))})
    assert judge_reading(job.sheet, sharp, 0.3, reading.code, tuple(at)).expanded == pytest.approx((0.6, 0.6, 0.6))
    assert judge_reading(job.sheet, fit.model_copy(update={"rotation": None}), 0.3, reading.code, tuple(at)) is None
    assert judge_reading(job.sheet, None, 0.3, reading.code, tuple(at)) is None
