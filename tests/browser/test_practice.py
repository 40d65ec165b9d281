"""A practice run in a browser by an apprentice: hidden damage, measured, planned, pulled on the board, ended, and the truth."""

import re

from playwright.sync_api import Page, expect

from fairsquare.actions import Desk
from tests.browser.conftest import sign_in
from tests.browser.test_pages import violations
from tests.browser.test_straightened import TOLD_MS, keep_best, pull_home


def test_an_apprentice_practises_from_the_hidden_blow_to_the_truth(page: Page, desk: Desk, persons) -> None:
    sign_in(page, "keahi", "first-season-1")
    page.click("nav a:has-text('Practice')")
    page.select_option("[name=vehicle]", "Turnstone island ambulance")
    page.fill("[name=seed]", "2")
    assert violations(page) == []
    page.click("button:has-text('Begin')")
    page.wait_for_url("**/measure")
    job = page.url.split("/")[-2]
    assert job.startswith("PRACTICE-")
    expect(page.locator(".practice-band")).to_contain_text("PRACTICE")
    expect(page.locator(".who")).to_contain_text("practising")
    assert page.locator("text=Supplement").count() == 0
    page.goto(f"/jobs/{job}/measure?seen=readings")
    page.click("text=read all that is missing with the instrument")
    expect(page.locator("#head-more")).to_contain_text(re.compile("16 of 16|Set-up 1"))
    for _ in range(120):
        if all(one.state != "unread" for one in desk.view(job).state.picture.judged.values()):
            break
        page.wait_for_timeout(250)
    page.goto(f"/jobs/{job}/damage")
    page.click("text=Plan the pulls")
    page.wait_for_url("**/pulls")
    page.click("summary:has-text('Or set the first pull yourself')")
    own = page.locator("form[action$='/pulls/change']")
    own.locator("[name=hook-0]").select_option("at R3L")
    own.locator("[name=tower-0]").select_option("rear")
    own.locator("[name=height-0]").fill("400")
    own.locator("[name=force-0]").fill("20")
    own.locator("button:has-text('Add the pull')").click()
    page.wait_for_selector(".pull-list", timeout=TOLD_MS)
    keep_best(page)
    pulls = page.locator(".pull-list > li").count()
    for number in range(1, pulls + 1):
        pull_home(page, job, number, dye_test="clear")
        expect(page.locator(".practice-band")).to_contain_text("PRACTICE")
    assert "Struck at" not in page.content()
    page.click(".practice-band a")
    page.wait_for_url("**/practice")
    page.click("button:has-text('End it and show the truth')")
    expect(page.locator(".score-figure")).to_be_visible(timeout=TOLD_MS)
    expect(page.locator("#desk")).to_contain_text("Struck at")
    assert violations(page) == []
    told = page.locator("#desk")
    # What the readings scatter decides which plan is found and how far it comes; who obeys the board overloads nothing, and read
    # all of it, loaded and free. That vehicles come home is tested without a clock, in tests/job/test_straightening.py.
    expect(told).to_contain_text(re.compile(r"how it was worked\s*(2[5-9]|30) of 40"))
    expect(told).to_contain_text(re.compile(r"overloaded\s*nothing"))
    home = re.search(r"(\d+) of (\d+) points that were off", told.inner_text())
    assert home and 2 * int(home[1]) >= int(home[2]), "it was pulled as the board said"
    page.goto("/")
    expect(page.locator("#jobs")).not_to_contain_text("PRACTICE")
    page.goto(f"/jobs/{job}/record")
    expect(page.locator("#desk")).to_contain_text("This is practice")
