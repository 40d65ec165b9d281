"""All panels at once in a real browser: by the keyboard alone, and by touch."""

from playwright.sync_api import Browser, Page, expect

from fairsquare.actions import Desk, finishing
from fairsquare.job.fit.face import face_of
from tests.browser.conftest import sign_in
from tests.browser.test_finishing import call
from tests.conftest import key
from tests.job.test_face import BENT, SIDE, read
from tests.web.fitting import ready_job


def listed(desk: Desk, persons) -> str:
    """A job with four panels that share their gaps, as they are listed."""
    job = ready_job(desk, persons)
    finishing.say_fit(desk, persons["technician"], key(), job, SIDE, 0)
    return job


def called(page: Page, job: str, gaps) -> None:
    page.goto(f"/jobs/{job}/fit")
    for one in gaps:
        call(page, f"{'flush' if 'flush' in one.place else 'gap'} {one.place} {one.mm}")


def tab_to(page: Page, words: str) -> None:
    """Move on by the keyboard until what has these words is in focus."""
    for _ in range(120):
        page.keyboard.press("Tab")
        if words in (page.evaluate("document.activeElement.innerText || document.activeElement.value || ''")):
            return
    raise AssertionError(f"{words} cannot be reached by the keyboard")


def test_one_bent_hinge_by_the_keyboard(page: Page, desk: Desk, persons) -> None:
    job = listed(desk, persons)
    sign_in(page)
    called(page, job, read(BENT))
    page.goto(f"/jobs/{job}/fit/panels")
    face = page.locator("#face")
    expect(face).to_contain_text("Loosen front door; leave rear door, wing, lid alone.")
    expect(face.locator(".face-drawing .face-panel.loosen")).to_have_count(1)
    expected = face_of(desk.view(job).facts, "rack").steps[0].gaps
    tab_to(page, "front door is set so")
    page.keyboard.press("Enter")
    expect(face).to_contain_text("front door, as it was set")
    own = [one.model_copy(update={"mm": round(expected[one.place], 1)}) for one in read(BENT, "front door")]
    called(page, job, own)
    page.goto(f"/jobs/{job}/fit/panels")
    expect(face).to_contain_text("It went as predicted.")
    expect(face).to_contain_text("leave all of them alone")


def test_one_bent_hinge_by_touch(browser: Browser, server: str, desk: Desk, persons) -> None:
    job = listed(desk, persons)
    with browser.new_context(base_url=server, viewport={"width": 800, "height": 1280}, has_touch=True) as context:
        page = context.new_page()
        sign_in(page)
        called(page, job, read(BENT))
        page.goto(f"/jobs/{job}/fit/panels")
        page.locator("button:has-text('front door is set so')").tap()
        expect(page.locator("#face")).to_contain_text("front door, as it was set")
        assert page.evaluate("document.documentElement.scrollWidth <= innerWidth"), "nothing runs out of the page"
