"""`./run shots`: one picture of each main view, 1280x800, from the demo data, into docs/screenshots/."""

import sys
from pathlib import Path

from playwright.sync_api import Browser, Page, sync_playwright

from bench import board
from bench.stage import Stage, stage
from fairsquare.demo.load import load
from fairsquare.demo.past import load_past
from fairsquare.demo.people import SIGN_INS, SignIn
from fairsquare.stand_ins.vehicles import TEAL as TEAL_VAN

FOLDER = Path("docs/screenshots")
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update"]
DUNLIN, TEAL, LATE = "SL-0005", "SL-0003", "SL-0006"
VIEWS = {
    "floor": "/",
    "walk-round": f"/jobs/{TEAL}/walk-round",
    "sheet": f"/jobs/{DUNLIN}/sheet?a=F4L&b=C1R",
    "measure": f"/jobs/{DUNLIN}/measure?point=F4R",
    "damage": f"/jobs/{DUNLIN}/damage",
    "decide": f"/jobs/{DUNLIN}/decide?member=right+front+rail&layer=outer",
    "cuts": f"/jobs/{TEAL}/cuts/1",
    "fit": f"/jobs/{LATE}/fit",
    "hours": f"/jobs/{TEAL}/hours",
    "weld": f"/jobs/{LATE}/seams/1?t=8",
}


def main() -> int:
    """Take the pictures."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    with stage() as at, sync_playwright() as playwright:
        load(at.desk)
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=at.address)
        page = context.new_page()
        page.goto("/sign-in")
        sign_in(page, SIGN_INS[2])
        for name, path in VIEWS.items():
            if name == "fit":
                clocks_and_gaps(page)
            page.goto(path)
            take(page, name)
        page.goto(f"/jobs/{DUNLIN}/record")
        page.click("button:has-text('Make the record')")
        page.wait_for_url("**/records/*")
        take(page, "record")
        handover(page, browser, at)
        drill_map(page)
        pulls(page, at)
        practice(page)
        day(browser, at)
        past(browser, at)
        browser.close()
    return 0


def day(browser: Browser, at: Stage) -> None:
    """Plan the day as a lead, and take its board."""
    page = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=at.address).new_page()
    page.goto("/sign-in")
    sign_in(page, next(one for one in SIGN_INS if one.role == "lead"))
    page.goto("/day")
    page.click("button:has-text('Plan the day')")
    page.wait_for_selector(".day-board", timeout=60_000)
    take(page, "day")
    page.context.close()


def past(browser: Browser, at: Stage) -> None:
    """Load the demo's past, and take what it says of the next; then a tool that is overdue."""
    load_past(at.desk)
    page = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=at.address).new_page()
    page.goto("/sign-in")
    sign_in(page, next(one for one in SIGN_INS if one.role == "lead"))
    page.goto("/past")
    take(page, "past")
    page.goto("/tools")
    page.click("text=Long tram")
    page.wait_for_selector(".tool-history")
    take(page, "tool")
    page.context.close()


def clocks_and_gaps(page: Page) -> None:
    """Start a clock of the second Dunlin, and call its gaps on the rack, two of them wide."""
    page.goto(f"/jobs/{LATE}/bond")
    page.click("text=sealer is opened")
    page.goto(f"/jobs/{LATE}/fit")
    for text in ("left front 4.3", "left rear 4.1", "right front 5.6", "right rear 5.4"):
        page.fill("#call", f"gap lid {text}")
        page.press("#call", "Enter")
        page.wait_for_selector(f".gaps tr:has-text('{text[:-4]}'):has-text('{text[-3:]}')")


def handover(page: Page, browser: Browser, at: Stage) -> None:
    """Make a record of the second Dunlin and a link to it, and take the page on a telephone."""
    page.goto(f"/jobs/{LATE}/record")
    page.click("button:has-text('Make the record')")
    page.wait_for_url("**/records/*")
    page.goto(f"/jobs/{LATE}/record")
    page.fill("[name=named]", "the ferry line")
    page.click("button:has-text('Make a link')")
    link = page.locator(".sent-link input").input_value()
    phone = browser.new_context(viewport={"width": 390, "height": 844}, base_url=at.address)
    shown = phone.new_page()
    shown.goto(link)
    take(shown, "handover")
    phone.close()


def drill_map(page: Page) -> None:
    """Tick the first welds of the Teal's floor off, and take its map."""
    page.goto(f"/jobs/{TEAL}/cuts/2/map")
    for weld in range(1, 8):
        page.wait_for_selector(f"#tick:has-text('Done: {weld},')")
        page.click("#tick")
    page.wait_for_selector("#tick:has-text('Done: 8,')")
    page.mouse.move(0, 0)
    take(page, "drill-map")


def pulls(page: Page, at: Stage) -> None:
    """Take the plan of the Teal, and the board in the middle of its pull."""
    board.begin(at)
    page.goto(f"/jobs/{TEAL}/pulls")
    take(page, "pulls")
    for code, past in (("R3R", -0.45), ("R2R", -0.4), ("U1R", -0.35)):
        x, y, z = TEAL_VAN.moved[code]
        board.read_loaded(at, code, (past * x, past * y, past * z))
    board.read_force(at, "rear", 51_300.0)
    page.goto(f"/jobs/{TEAL}/board")
    take(page, "board")


def practice(page: Page) -> None:
    """Begin a practice, look, give it up, and take what is told then."""
    page.goto("/practice")
    page.select_option("[name=vehicle]", "Dunlin post van")
    page.fill("[name=seed]", "3")
    page.click("button:has-text('Begin')")
    page.wait_for_url("**/measure")
    page.goto(page.url.replace("/measure", "/practice"))
    page.click("button:has-text('End it and show the truth')")
    page.wait_for_selector(".score-figure")
    take(page, "practice")


def sign_in(page: Page, who: SignIn) -> None:
    """Sign in by the page."""
    page.fill("[name=name]", who.name)
    page.fill("[name=password]", who.password)
    page.press("[name=password]", "Enter")
    page.wait_for_url("**/")


def take(page: Page, name: str) -> None:
    """Take one picture, once fonts are there."""
    page.evaluate("document.fonts.ready.then(() => true)")
    page.wait_for_timeout(250)
    page.screenshot(path=FOLDER / f"{name}.png")


if __name__ == "__main__":
    sys.exit(main())
