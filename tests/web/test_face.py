"""All panels at once by page: listed with their neighbours, gaps called once, one panel named, set, and told how it went."""

import pytest

from fairsquare.job.fit.face import face_of
from fairsquare.web.fit_forms import fit_rows
from tests.job.test_face import BENT, NAMES, SIDE, read
from tests.web.fitting import ready_job


@pytest.fixture(scope="module")
def rows() -> dict[str, str]:
    """The fields of the list of panels, hinges and gaps."""
    return {
        f"{kind}-{k}-{field}": value
        for kind, listed in fit_rows(SIDE).items()
        for k, row in enumerate(listed)
        for field, value in row.items()
    }


def called(pages, job, gaps) -> None:
    for one in gaps:
        how = "flush" if "flush" in one.place else "gap"
        pages.post(f"/jobs/{job}/gaps", call=f"{how} {one.place} {one.mm}", unit="mm")


def test_four_panels_out_by_one_bent_hinge(as_role, desk, persons, rows) -> None:
    job, ngozi = ready_job(desk, persons), as_role("technician")
    listing, panels = f"/jobs/{job}/fit/list", f"/jobs/{job}/fit/panels"
    wrong = ngozi.post(listing, 422, **{**rows, "gap-3-beside": "boot", "version": "0"})
    assert "boot is not among the panels" in wrong
    itself = ngozi.post(listing, 422, **{**rows, "gap-3-beside": "front door", "version": "0"})
    assert "between a panel and another one" in itself
    ngozi.post(listing, **rows, version="0")
    assert "Read the gaps: then which panel to loosen" in ngozi.get(panels)
    called(ngozi, job, read(BENT))
    page = ngozi.get(panels)
    assert "Loosen front door; leave rear door, wing, lid alone." in page
    assert "The fewest panels that bring every gap in." in page
    assert "turns or" in page
    assert "shims" in page
    assert page.count("Leave it alone: its gaps come in when front door is set.") == 2, "rear door and wing"
    for name in set(NAMES) - {"front door"}:
        assert "comes first" in ngozi.post(panels, 422, do="set", panel=name)
    assert "0 or more" in ngozi.post(panels, 422, do="set", panel="front door", minutes="-3")
    before = face_of(desk.view(job).facts, "rack")
    ngozi.post(panels, do="set", panel="front door", minutes="25")
    after = ngozi.get(panels)
    assert "front door, as it was set" in after
    assert "Every gap that was read is in. Read the others" in after
    assert "hung 1 time, 25 min of work" in after, "a trial is work"
    expected = before.steps[0].gaps
    own = [one for one in read(BENT, "front door") if one.place in expected]
    called(ngozi, job, [one.model_copy(update={"mm": round(expected[one.place] + 0.1, 1)}) for one in own])
    home = ngozi.get(panels)
    assert "It went as predicted." in home
    assert "7 of 7 gaps read." in home
    assert "Every gap is in: leave all of them alone." in home
    called(ngozi, job, own)
    slipped = ngozi.get(panels)
    assert "A hinge that is bent or slips is likelier" in slipped
    assert "by these gaps upper: look at it" in slipped


def test_turns_and_shims_are_the_shops_own(as_role, desk, persons, rows) -> None:
    job, lead = ready_job(desk, persons), as_role("lead")
    lead.post(f"/jobs/{job}/fit/list", **rows, version="0")
    called(lead, job, read(BENT))
    thick = face_of(desk.view(job).facts, "rack", thread_mm=None, shim_mm=1.0)
    assert all(move.turns is None for move in thick.steps[0].moves)
    assert all(move.shims == pytest.approx(move.mm) for move in thick.steps[0].moves)
    assert "Hinge bolts rise a turn, mm" in lead.get("/shop")
