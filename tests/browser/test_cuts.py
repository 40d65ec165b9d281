"""Cuts in a real browser: a rail of the Teal planned by keyboard, dragged by touch, printed; a map worked off by two people."""

import io

import pytest
from playwright.sync_api import Browser, Page, expect
from pypdf import PdfReader

from fairsquare.actions import Desk
from fairsquare.job.cut.job import section_states
from tests.browser.conftest import sign_in, watched
from tests.browser.test_pages import violations

JOB = "SL-0003"
RAIL, FLOOR = f"/jobs/{JOB}/cuts/1", f"/jobs/{JOB}/cuts/2"


pytestmark = pytest.mark.usefixtures("demo")


def cuts(desk: Desk, number: int = 1) -> dict[str, float]:
    state = next(one for one in section_states(desk.view(JOB).facts) if one.fact.number == number)
    return dict(state.placed.judged.cuts)


def fill(page: Page, name: str, text: str) -> None:
    """Go to a field by keyboard and type into it, as one does who has no mouse."""
    page.locator(f"[name='{name}']").focus()
    page.keyboard.press("Control+A")
    page.keyboard.type(text)


def test_the_teals_rail_is_planned_by_keyboard_alone(page: Page, desk: Desk) -> None:
    sign_in(page)
    page.goto(f"/jobs/{JOB}/cuts")
    fill(page, "member", "floor cross member")
    page.locator("[name=how]").focus()
    page.keyboard.press("Tab")
    page.keyboard.press("Enter")
    page.wait_for_url("**/cuts/3/strip")
    assert violations(page) == []
    fill(page, "datum", "R2L")
    for k, (name, thick, hurt) in enumerate((("outer", "1.2", ("92", "330")), ("inner", "1", ("105", "260")))):
        for field, value in (("id", name), ("from", "-330"), ("to", "43 cm"), ("thick", thick)):
            fill(page, f"layer-{k}-{field}", value)
        page.locator(f"[name=layer-{k}-material]").focus()
        page.keyboard.type("mild")
        fill(page, f"layer-{k}-hurt-from", hurt[0])
        fill(page, f"layer-{k}-hurt-to", hurt[1])
    fill(page, "feature-0-from", "40")
    fill(page, "feature-0-to", "3 in")
    page.keyboard.press("Enter")
    page.wait_for_url("**/cuts/3")
    expect(page.locator(".cut-verdict")).to_contain_text("Best place")
    assert violations(page) == []
    assert cuts(desk, 3) == {"outer": 25.0, "inner": 95.0}, (
        "the hole to 76.2 and the damage leave the outer no place nearer"
    )
    handle = page.locator("#strip [data-layer='outer']")
    handle.focus()
    for _ in range(3):
        page.keyboard.press("ArrowLeft")
    expect(page.locator("[name=cut-0]")).to_have_value("22")
    expect(page.locator(".cut-verdict")).to_contain_text("3.0 mm more")
    assert page.evaluate("document.activeElement.dataset.layer") == "outer", "the focus stays on the cut"
    fill(page, "reason", "room for the clamp")
    page.keyboard.press("Tab")
    page.keyboard.press("Enter")
    expect(page.locator(".cut-verdict")).to_contain_text("Put by hand")
    assert cuts(desk, 3)["outer"] == 22.0
    page.locator("text=Why here?").focus()
    page.keyboard.press("Enter")
    expect(page.locator(".strip-foot details.why")).to_contain_text("the least length off all layers together")


def test_the_teals_rail_is_dragged_by_touch_and_printed(tablet: Page, desk: Desk) -> None:
    sign_in(tablet)
    tablet.goto(RAIL)
    expect(tablet.locator(".cut-verdict")).to_contain_text("Best place")
    assert violations(tablet) == []
    assert tablet.evaluate("document.documentElement.scrollWidth <= innerWidth")
    handle = tablet.locator("#strip [data-layer='outer'] .cut-box")
    box = handle.bounding_box()
    drawing = tablet.locator("#strip svg")
    per_mm = float(drawing.get_attribute("data-per-mm")) * drawing.bounding_box()["width"]
    per_mm /= drawing.evaluate("svg => svg.viewBox.baseVal.width")
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    session = tablet.context.new_cdp_session(tablet)
    session.send("Input.dispatchTouchEvent", {"type": "touchStart", "touchPoints": [{"x": x, "y": y}]})
    for step in range(1, 9):
        point = {"x": x - 70 * per_mm * step / 8, "y": y}
        session.send("Input.dispatchTouchEvent", {"type": "touchMove", "touchPoints": [point]})
    session.send("Input.dispatchTouchEvent", {"type": "touchEnd", "touchPoints": []})
    expect(tablet.locator(".cut-verdict")).to_contain_text("Breaks")
    expect(tablet.locator(".strip-words")).to_contain_text("from the hole at −8")
    assert float(tablet.locator("[name=cut-0]").input_value()) == pytest.approx(10, abs=3)
    assert cuts(desk)["outer"] == 80, "nothing is kept until it is said so"
    tablet.fill("[name=cut-0]", "78")
    tablet.locator("[name=cut-0]").dispatch_event("change")
    expect(tablet.locator(".cut-verdict")).to_contain_text("Breaks 1 rule")
    tablet.fill("[name=cut-0]", "80")
    tablet.locator("[name=cut-0]").dispatch_event("change")
    expect(tablet.locator(".cut-verdict")).to_contain_text("Breaks nothing")

    answer = tablet.request.get(f"{RAIL}/sheet.pdf?paper=A4")
    text = " ".join(" ".join(one.extract_text() for one in PdfReader(io.BytesIO(answer.body())).pages).split())
    assert "80.0 mm behind R2R" in text
    assert "rear harness, in the rail" in text
    answer = tablet.request.get(f"{RAIL}/template.pdf?layer=outer&whose=vehicle&reach=cut&paper=Letter")
    assert answer.headers["content-type"] == "application/pdf"
    assert "80.0 mm behind R2R" in PdfReader(io.BytesIO(answer.body())).pages[0].extract_text()


def test_a_map_is_worked_off_on_tablets_by_two_people(tablet: Page, browser: Browser, server: str, desk: Desk) -> None:
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=server)
    other, faults = watched(context, server)
    sign_in(tablet)
    sign_in(other, "keahi", "first-season-1")
    for one in (tablet, other):
        one.goto(f"{FLOOR}/map")
    expect(tablet.locator("#tick")).to_have_text("Done: 1, cut flat")
    assert violations(tablet) == []
    size = tablet.locator("#tick").bounding_box()
    assert size["height"] >= 70, "for a glove"
    tablet.tap("#tick")
    expect(tablet.locator("#tick")).to_have_text("Done: 2, cut flat")
    expect(other.locator("#tick")).to_have_text("Done: 2, cut flat")
    other.click("#tick")
    expect(tablet.locator("#tick")).to_have_text("Done: 3, cut flat")
    expect(tablet.locator(".tabs a").first).to_contain_text("2 of 28")
    tablet.goto(f"{FLOOR}/map?whose=vehicle&weld=2")
    tablet.tap("#tick")
    expect(tablet.locator(".next-weld")).to_contain_text("Ticked by mistake: 2 (Ngozi Adeyemi")
    expect(other.locator(".tabs a").first).to_contain_text("1 of 28")
    ticks = [(tick.weld, tick.done, tick.by.name) for tick in desk.view(JOB).facts.weld_ticks]
    assert ticks == [("1", True, "Ngozi Adeyemi"), ("2", True, "Keahi Palakiko"), ("2", False, "Ngozi Adeyemi")]
    other.goto(f"{FLOOR}/map?whose=donor")
    expect(other.locator("#tick")).to_have_text("Done: 1, drill through")
    context.close()
    assert faults == []


def test_a_plan_with_no_place_for_the_cut_says_what_would_have_to_give(page: Page, desk: Desk) -> None:
    sign_in(page)
    page.goto(f"{RAIL}/strip")
    page.fill("[name=window-0-from]", "100")
    page.fill("[name=window-0-to]", "120")
    page.click("text=Keep the strip")
    expect(page.locator("#strip .loud")).to_contain_text("the damage of outer against the maker's window of outer")
    expect(page.locator("#strip .loud")).to_contain_text("Give up one of them")
    expect(page.locator("#made")).to_contain_text("There is no place for this cut")
    assert violations(page) == []
    for name, value in (("cut-0", "70"), ("cut-1", "20"), ("cut-2", "90")):
        page.fill(f"[name={name}]", value)
    page.click("text=Try it there")
    expect(page.locator(".strip-words")).to_contain_text("outside the maker")
    page.fill("[name=reason]", "the maker's letter allows 70 for this hit")
    page.click("text=Keep these cuts")
    expect(page.locator("#made")).not_to_contain_text("There is no place for this cut")
    expect(page.locator("#strip [data-layer='outer'].broken")).to_be_visible()
    page.click("text=Change the strip")
    page.fill("[name=window-0-from]", "-130")
    page.fill("[name=window-0-to]", "80")
    page.click("text=Keep the strip")
    page.click("text=Back to the best place")
    expect(page.locator(".cut-verdict")).to_contain_text("Best place")
    assert cuts(desk) == {"outer": 80, "stiffener": 30, "inner": 95}


def test_what_is_on_the_strip_is_dragged_and_the_fields_follow(page: Page, desk: Desk) -> None:
    sign_in(page)
    page.goto("/jobs/SL-0005/cuts/1/strip")
    preview = page.locator("#strip-preview")
    expect(preview).to_contain_text("skin 60.0")
    assert violations(page) == []
    page.fill("[name=feature-0-from]", "3 in")
    page.keyboard.press("Tab")
    expect(preview).to_contain_text("skin 76.2")
    per_mm = (
        float(preview.locator("svg").get_attribute("data-per-mm"))
        * preview.locator("svg").bounding_box()["width"]
        / preview.locator("svg").evaluate("svg => svg.viewBox.baseVal.width")
    )

    def drag(selector: str, at: float, by: float) -> None:
        """Take hold of a thing at a share of its width, and move it by so many mm."""
        preview.locator(selector).scroll_into_view_if_needed()
        box = preview.locator(selector).bounding_box()
        x, y = box["x"] + at * box["width"], box["y"] + box["height"] / 2
        page.mouse.move(x, y)
        page.mouse.down()
        page.mouse.move(x + by * per_mm / 2, y)
        page.mouse.move(x + by * per_mm, y)
        page.mouse.up()

    drag("[data-from='feature-0-from']", 0.5, 20)
    assert float(page.input_value("[name=feature-0-from]")) == pytest.approx(96, abs=2)
    expect(preview).not_to_contain_text("skin 76")
    drag("[data-from='layer-0-hurt-from']", 0.99, -60)
    assert float(page.input_value("[name=layer-0-hurt-to]")) == pytest.approx(500, abs=2)
    assert page.input_value("[name=layer-0-hurt-from]") == "118", "only the end that was held moves"
    page.fill("[name=layer-0-thick]", "0")
    page.keyboard.press("Tab")
    expect(preview).to_contain_text("Metal has a thickness")
    page.goto("/jobs/SL-0005/cuts/1")
    assert dict(section_states(desk.view("SL-0005").facts)[0].placed.judged.cuts)["skin"] == 60, "nothing was kept"
