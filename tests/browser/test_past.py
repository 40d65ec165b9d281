"""Tools, how jobs went, the shop and a job's file, on the screen: no violation that axe-core finds, a tablet, the keyboard, a file
that goes out and is refused where it comes from."""

import pytest
from playwright.sync_api import Page, expect

from fairsquare.actions import Desk
from fairsquare.demo.past import load_past
from tests.browser.conftest import sign_in
from tests.browser.test_pages import ALL_RULES, OF_COLOURS, violations

LEAD = ("solveig", "north-light-12")
VAN, HERON, LATE = "SL-0007", "SL-0004", "SL-0006"
PAGES = ("/tools", "/tools/1", "/tools/7", "/past", f"/jobs/{VAN}/went", f"/jobs/{VAN}/record", "/jobs/new", "/shop")
MORE = (
    f"/jobs/{LATE}/bond/plan",
    f"/jobs/{HERON}/holds/setup_accepted",
    f"/jobs/{HERON}/why/F2L",
    f"/jobs/{HERON}/waits",
)


@pytest.fixture(scope="module", autouse=True)
def past(demo: list[str], desk: Desk) -> None:
    assert load_past(desk)[0] == VAN


@pytest.mark.parametrize("mode", ["light", "shop"])
def test_axe_finds_nothing(page: Page, server: str, mode) -> None:
    sign_in(page, *LEAD)
    page.context.add_cookies([{"name": "mode", "value": mode, "url": server}])
    found = {}
    for path in (*PAGES, *MORE):
        page.goto(path)
        found[path] = violations(page, OF_COLOURS if mode == "shop" else ALL_RULES)
    assert {path: faults for path, faults in found.items() if faults} == {}


def test_on_a_tablet_nothing_runs_over_and_everything_can_be_touched(tablet: Page) -> None:
    sign_in(tablet, *LEAD)
    for path in (*PAGES, *MORE):
        tablet.goto(path)
        tablet.wait_for_load_state("networkidle")
        wide = tablet.evaluate("document.documentElement.scrollWidth - innerWidth")
        assert wide <= 0, f"{path} runs over by {wide}"
        small = tablet.evaluate(
            """[...document.querySelectorAll('main button, main .btn, main select')]
                 .filter(e => e.offsetParent && e.getBoundingClientRect().height < 43
                              && !e.classList.contains('quiet') && !e.classList.contains('visually-hidden'))
                 .map(e => e.textContent.trim())"""
        )
        assert small == [], path


def test_a_tool_is_checked_by_keyboard_and_overdue_is_said_where_it_read(page: Page) -> None:
    sign_in(page)
    page.goto("/tools")
    expect(page.locator("tr:has-text('Long tram')")).to_contain_text("calibration overdue since")
    page.click("text=Long tram")
    expect(page.locator(".tool-verdict")).to_contain_text("Overdue")
    before = page.locator(".tool-history .sign").count()
    page.focus("[name=readings]")
    page.keyboard.type("1000.3\n999.6\nabout a metre")
    page.keyboard.press("Tab")
    page.get_by_role("button", name="Judge and keep it").press("Enter")
    expect(page.locator("main")).to_contain_text("Reading 3")
    expect(page.locator("[name=readings]")).to_have_value("1000.3\n999.6\nabout a metre")
    page.fill("[name=readings]", "1000.3\n999.6\n1000.2")
    page.get_by_role("button", name="Judge and keep it").press("Enter")
    expect(page.locator(".tool-log tbody tr").first).to_contain_text("1000.3; 999.6; 1000.2")
    assert page.locator(".tool-history .sign").count() == before + 1
    page.goto(f"/jobs/{HERON}/measure")
    expect(page.locator(".tool-doubt")).to_contain_text("Long tram: calibration overdue since")
    page.goto(f"/jobs/{HERON}/holds/fit_accepted")
    expect(page.locator(".demands")).to_contain_text("NB calibration overdue since")


def test_a_product_of_the_shop_is_added_with_one_touch_and_enter_keeps_the_plan(page: Page) -> None:
    sign_in(page)
    page.goto(f"/jobs/{LATE}/bond/plan")
    page.fill("[name=step-0-id]", "adhesive all round")
    page.get_by_role("button", name="Add wax").click()
    expect(page.locator("[name=step-0-id]")).to_have_value("adhesive all round")
    expect(page.locator("[name=product-2-id]")).to_have_value("wax")
    expect(page.get_by_role("button", name="Add wax")).to_have_count(0)
    page.press("[name=step-0-id]", "Enter")
    expect(page.locator(".wrong")).to_contain_text("wax is never opened")
    for field, text in (("id", "wax in the rail"), ("minutes", "6"), ("opens", "wax"), ("closes", "wax")):
        page.fill(f"[name=step-3-{field}]", text)
    page.press("[name=step-3-closes]", "Enter")
    page.wait_for_url(f"**/jobs/{LATE}/bond")
    expect(page.locator("main")).to_contain_text("adhesive all round")
    expect(page.locator("main")).to_contain_text("wax")


def test_a_job_goes_out_as_one_file_and_is_not_taken_where_it_is(page: Page, tmp_path) -> None:
    sign_in(page)
    page.goto(f"/jobs/{VAN}/record")
    with page.expect_download() as coming:
        page.click("text=The whole job as one file")
    file = tmp_path / coming.value.suggested_filename
    coming.value.save_as(file)
    assert file.name.startswith(VAN)
    page.goto("/jobs/new")
    page.set_input_files("[name=file]", file)
    page.get_by_role("button", name="Read it in").click()
    expect(page.locator("main")).to_contain_text(f"This job is here already: {VAN} has a record of it")
    broken = tmp_path / "broken.job.zip"
    broken.write_bytes(file.read_bytes()[:-100])
    page.set_input_files("[name=file]", broken)
    page.get_by_role("button", name="Read it in").click()
    expect(page.locator("main")).to_contain_text("This job file is not taken: it is damaged or cut off")


def test_how_a_van_went_leads_to_how_all_did(page: Page) -> None:
    sign_in(page)
    page.goto("/?closed=1")
    page.click("text=Dunlin library van")
    page.goto(page.url.rsplit("/", 1)[0] + "/record")
    page.click("text=How it went")
    expect(page.locator(".went-figures")).to_contain_text("2 → 0")
    page.click("text=How all jobs went")
    expect(page.locator("h1")).to_have_text("How jobs went")
    assert page.locator(".w-dot").count() > 8
