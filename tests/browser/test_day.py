"""A day of the demo's shop from opening to closing, with a part that comes late; two people's clocks; by keyboard, on a tablet."""

import datetime
import re

import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import sign_in, watched

TEAL, DUNLIN_TWO = "SL-0003", "SL-0006"
LEAD, ESTIMATOR, MATEUS = ("solveig", "north-light-12"), ("tomasz", "paper-lantern-3"), ("mateus", "slipway-rope-7")


@pytest.fixture
def other(browser, server):
    """Another person, at another screen."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=server)
    page, faults = watched(context, server)
    yield page
    context.close()
    assert faults == []


def row(page: Page, operation: str):
    return page.locator(".hours-table tr", has=page.locator(f"th:has-text('{operation}')")).first


def test_two_people_clock_their_work_with_one_touch_each(page: Page, other: Page, demo) -> None:
    sign_in(page)
    sign_in(other, *MATEUS)
    for one, operation in ((page, "Measure"), (other, "Dry fit and gaps")):
        one.goto(f"/jobs/{DUNLIN_TWO}/hours")
        row(one, operation).get_by_role("button", name="Start").click()
        expect(row(one, operation).get_by_role("button", name="Stop")).to_be_visible()
    page.reload()
    expect(row(page, "Dry fit and gaps")).to_contain_text("Mateus Figueira since")
    page.goto("/tools")
    strip = page.locator("#work .work-now")
    expect(strip).to_contain_text("Measure")
    before = strip.locator("[data-count]").inner_text()
    page.wait_for_timeout(1500)
    assert strip.locator("[data-count]").inner_text() != before, "it counts up"
    page.goto("/")
    expect(page.locator(f".floor-job:has-text('{DUNLIN_TWO}')")).to_contain_text("Ngozi Adeyemi: Measure")
    page.goto(f"/jobs/{TEAL}/hours")
    row(page, "Read and decide").get_by_role("button", name="Start").click()
    expect(page.locator("#work .work-now")).to_contain_text("Read and decide")
    other.reload()
    expect(other.locator(".hours-table")).not_to_contain_text("Ngozi")
    for one in (page, other):
        one.locator("#work").get_by_role("button", name="Stop work").click()
        expect(one.locator("#work .work-now")).to_have_count(0)


def test_a_day_with_a_part_that_comes_late(page: Page, other: Page, demo) -> None:
    sign_in(page, *LEAD)
    sign_in(other, *ESTIMATOR)
    page.goto("/day")
    told = "setTimeout(() => sessionStorage.setItem('told', document.querySelector('.busy-words')?.textContent), 60)"
    page.evaluate(f"document.addEventListener('submit', () => {told})")
    page.get_by_role("button", name="Plan the day").click(timeout=30_000)
    page.wait_for_selector(".day-board", timeout=30_000)
    assert "may be left" in page.evaluate("sessionStorage.getItem('told')")
    assert page.locator(".d-piece").count() > 20
    chain = page.locator("details:has-text('What sets the finish')")
    chain.locator("summary").click()
    links = chain.locator("li").all_inner_texts()
    assert links, "something sets the finish"
    finish = re.search(r"all done (\S+ \S+|\S+),", page.locator("main").inner_text())
    assert finish and finish[1] in chain.locator("summary").inner_text()
    other.goto(f"/jobs/{TEAL}/waits")
    other.select_option("[name=kind]", "part")
    other.fill("[name=words]", "tailgate hinge")
    other.fill("[name=asked_of]", "Ines Quillfeather")
    late = datetime.datetime.now(datetime.UTC) + datetime.timedelta(days=9)
    other.fill("[name=due]", f"{late:%Y-%m-%d}T09:00")
    other.select_option("[name=station]", "pulls")
    other.get_by_role("button", name="Note it").click()
    expect(other.locator(".wait")).to_contain_text("tailgate hinge")
    expect(other.locator(".stop-wait")).to_contain_text("asked: Ines Quillfeather")
    page.reload()
    expect(page.locator(".day-head")).to_contain_text(f"Something was recorded since in {TEAL}")
    page.get_by_role("button", name="Plan anew, moving little").click()
    page.wait_for_function("!document.body.innerText.includes('Something was recorded since')", timeout=40_000)
    expect(page.locator(".day-head")).to_contain_text("moved against the plan before")
    expect(page.locator("main")).to_contain_text("promises missed by")
    later = page.locator("details:has-text('All that comes later')")
    later.locator("summary").click()
    held = later.locator("li", has_text="Straighten left rear rail").filter(has_text=TEAL)
    begins = datetime.datetime.fromisoformat(held.locator("b").inner_text())
    assert begins >= late.replace(hour=9, minute=0, second=0, microsecond=0, tzinfo=None)
    fix = page.get_by_role("button", name=re.compile("^Fix:")).first
    name = fix.get_attribute("aria-label")
    fix.click()
    expect(page.get_by_role("button", name=name.replace("Fix", "Let go", 1), exact=True)).to_be_visible()
    expect(page.locator(".d-piece.fixed").first).to_be_attached()
    other.goto(f"/jobs/{TEAL}/waits")
    other.get_by_role("button", name="It came: tailgate hinge").click()
    expect(other.locator("main")).to_contain_text("Nothing.")
    page.goto("/day?days=1")
    who = page.locator(".day-table tbody td:nth-child(2)").all_inner_texts()
    with_work = {name.strip() for text in who for name in re.split("\nwith |, |\n", text) if name.strip()}
    assert with_work, "somebody has work while the shop is open"
    page.goto("/day/print")
    expect(page.locator("main")).to_contain_text("planned")
    assert set(page.locator("main h2").all_inner_texts()) == with_work, "what each has to do, by name"


def test_hours_and_waits_by_keyboard_and_on_a_tablet(tablet: Page, demo) -> None:
    sign_in(tablet, *ESTIMATOR)
    for path in (f"/jobs/{TEAL}/hours", f"/jobs/{TEAL}/hours/list", f"/jobs/{TEAL}/waits", "/day", "/shop", "/"):
        tablet.goto(path)
        tablet.wait_for_load_state("networkidle")
        wide = tablet.evaluate("document.documentElement.scrollWidth - innerWidth")
        assert wide <= 0, f"{path} runs over by {wide}"
        small = tablet.evaluate(
            """[...document.querySelectorAll('main button, main .btn, main select')]
                 .filter(e => e.offsetParent && e.getBoundingClientRect().height < 43 && !e.classList.contains('quiet'))
                 .map(e => e.textContent.trim())"""
        )
        assert small == [], path
    tablet.goto(f"/jobs/{TEAL}/waits")
    tablet.focus("[name=words]")
    tablet.keyboard.type("x")
    tablet.keyboard.press("Enter")
    expect(tablet.locator("#wrong-words")).to_contain_text("Say what it waits for")
    expect(tablet.locator("[name=words]")).to_have_value("x")


def test_a_piece_is_dragged_and_moved_by_keys_and_the_plan_moves_round_it(page: Page, demo) -> None:
    sign_in(page, *LEAD)
    page.goto("/day?days=3")
    page.get_by_role("button", name=re.compile("^Plan (the day|anew)")).click()
    page.wait_for_load_state("networkidle")
    page.wait_for_selector(".d-piece[data-what]", timeout=40_000)
    piece = page.locator(".d-piece[data-what]").first
    what, form = piece.get_attribute("data-what"), page.locator("#board-move")
    expect(form).to_be_hidden()
    box = piece.locator("rect").first.bounding_box()
    x, y = box["x"] + min(box["width"] / 2, 12), box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x + 30, y + 46, steps=4)
    page.mouse.up()
    expect(form).to_be_visible()
    dragged = page.locator("#board-move-words").inner_text()
    assert what in dragged and re.search(r"at \d\d:\d\d", dragged)
    page.keyboard.press("Escape")
    expect(form).to_be_hidden()
    assert piece.get_attribute("transform") is None, "it is put back"
    piece.focus()
    for _ in range(2):
        page.keyboard.press("ArrowRight")
    expect(page.locator("#board-move-words")).to_contain_text(what)
    at = form.locator("[name=at]").input_value()
    page.keyboard.press("Enter")
    page.keyboard.press("Enter")
    page.wait_for_selector("#cost", timeout=40_000)
    moved = page.locator(f".d-piece.fixed[data-what='{what}']").first
    moved.focus()
    page.keyboard.press("ArrowRight")
    then = form.locator("[name=at]").input_value()
    minutes = [int(text[:2]) * 60 + int(text[3:]) for text in (at, then)]
    assert minutes[1] - minutes[0] == 15, "it begins where it was put"
