"""A job that is decided, and one whose rail is planned, as they are typed: for the tests of cuts and of their papers."""

import pytest

from fairsquare.actions import deciding
from fairsquare.actions.deciding import DecisionSaid, MemberSaid
from fairsquare.core.damage.decide import MakersWord
from fairsquare.job.cut.job import section_states
from fairsquare.job.damage.choices import member_states
from tests.conftest import key
from tests.web.test_job import make_safe, new_job, read_all, sign, with_references, with_sheet

RAIL = "right front rail"
STRIP = {
    "datum": "f4r",
    "runs": "forward",
    "keep": "low",
    "layer-0-id": "outer",
    "layer-0-from": "-300",
    "layer-0-to": "40 cm",
    "layer-0-thick": "1.2",
    "layer-0-material": "high_strength",
    "layer-0-hurt-from": "4 in",
    "layer-0-hurt-to": "300",
    "layer-0-joint": "butt_backed",
    "layer-0-faces": "upper flange 18, web 96",
    "layer-1-id": "inner",
    "layer-1-from": "-300",
    "layer-1-to": "400",
    "layer-1-thick": "1",
    "layer-1-material": "mild",
    "layer-1-joint": "butt_backed",
    "feature-0-kind": "hole",
    "feature-0-from": "60",
    "feature-0-to": "80",
    "feature-0-words": "harness hole",
    "behind-0-kind": "harness",
    "behind-0-from": "0",
    "behind-0-to": "200",
    "version": "0",
}
WELDS = {
    "donor": "new",
    "part-0-id": "rail end",
    "part-0-fate": "donor",
    "part-0-material": "high_strength",
    "part-0-thick": "1.2",
    "part-1-id": "apron",
    "part-1-fate": "stays",
    "part-1-material": "mild",
    "part-1-thick": "1.5",
    "weld-0-flange": "upper flange",
    "weld-0-at": "120-280 by 3",
    "weld-0-across": "9",
    "weld-0-stack": "rail end, apron",
    "weld-0-vehicle": "top",
    "weld-0-after": "top",
    "version": "0",
}


@pytest.fixture
def decided(as_role, desk, persons):
    """A Dunlin that is straight, with its right front rail decided to be sectioned; signed."""
    ngozi = as_role("technician")
    job = new_job(ngozi)
    make_safe(ngozi, job)
    with_sheet(ngozi, job)
    with_references(ngozi, job)
    sign(ngozi, job, "setup_accepted")
    read_all(ngozi, job, {})
    technician = persons["technician"]
    kinked = MemberSaid(RAIL, "", "high_strength", "structural", ("kinked",), MakersWord(section=True), "the book")
    seen = deciding.see_member(desk, technician, key(), job, kinked)
    deciding.decide(desk, technician, key(), job, seen, DecisionSaid("section"))
    deciding.keep_what_is_fair(desk, technician, key(), job)
    assert not [state.name for state in member_states(desk.view(job).facts) if state.open]
    sign(ngozi, job, "decision_made")
    return job


def section(desk, job, number=1):
    return next(state for state in section_states(desk.view(job).facts) if state.fact.number == number)


@pytest.fixture
def planned(decided, as_role, desk):
    """That job with its strip and welds typed in."""
    ngozi = as_role("technician")
    ngozi.post(f"/jobs/{decided}/cuts", member=RAIL, how="cut")
    ngozi.post(f"/jobs/{decided}/cuts/1/strip", **STRIP)
    ngozi.post(f"/jobs/{decided}/cuts/1/welds", **WELDS)
    return decided
