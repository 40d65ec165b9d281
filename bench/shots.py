"""`./run shots`: one picture of each main view, 1280x800, from the demo data, into docs/screenshots/."""

import sys
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from bench import board
from bench.stage import Stage, stage
from fairsquare.demo.load import load
from fairsquare.demo.people import SIGN_INS, SignIn

FOLDER = Path("docs/screenshots")
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update"]
DUNLIN, HERON, TEAL = "SL-0005", "SL-0004", "SL-0003"
VIEWS = {
    "floor": "/",
    "take-in": f"/jobs/{DUNLIN}/take-in",
    "walk-round": f"/jobs/{TEAL}/walk-round",
    "sheet": f"/jobs/{DUNLIN}/sheet?a=F4L&b=C1R",
    "set-up": f"/jobs/{DUNLIN}/set-up",
    "measure": f"/jobs/{DUNLIN}/measure?point=F4R",
    "measure-gauges": f"/jobs/{HERON}/measure?seen=gauges&point=F2L",
    "measure-readings": f"/jobs/{HERON}/measure?seen=readings",
    "why": f"/jobs/{DUNLIN}/why/F4R",
    "damage": f"/jobs/{DUNLIN}/damage",
    "decide": f"/jobs/{DUNLIN}/decide?member=right+front+rail&layer=outer",
    "fit": f"/jobs/{DUNLIN}/fit",
    "hold": f"/jobs/{DUNLIN}/holds/fit_accepted",
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
            page.goto(path)
            take(page, name)
        page.goto(f"/jobs/{DUNLIN}/record")
        page.click("button:has-text('Make the record')")
        page.wait_for_url("**/records/*")
        take(page, "record")
        page.goto("/jobs/new")
        page.fill("[name=vehicle]", "Turnstone ambulance, second")
        page.click("text=Open the job")
        page.wait_for_url("**/take-in")
        page.goto(page.url.replace("take-in", "sheet"))
        page.fill("[name=table]", EXAMPLE)
        page.click("text=Show what it says")
        page.wait_for_selector(".lines")
        take(page, "sheet-import")
        page.goto(f"/jobs/{HERON}/sheet/comparative?basis=straight")
        for code in ("C1L", "C2L", "C3L", "R1L", "C1R", "C2R", "C3R", "R1R"):
            page.check(f"input[value={code}]")
        page.click("text=Show the sheet that it makes")
        page.wait_for_selector("text=points, straight through")
        take(page, "sheet-comparative")
        pulls(page, at)
        supplement(page)
        browser.close()
    return 0


def supplement(page: Page) -> None:
    """Raise two lines on the Teal, send them, and take the page that the payer sees."""
    for words, hours, amount in (
        ("rear panel inner torn behind the bumper, to be replaced", "3.5", "184.50"),
        ("silencer hanger torn off, welded on anew", "0.6", ""),
    ):
        page.goto(f"/jobs/{TEAL}/supplements?station=walk+round")
        page.fill("[name=words]", words)
        page.fill("[name=hours]", hours)
        page.fill("[name=amount]", amount)
        page.click("text=Add the line")
        page.wait_for_selector(f"text={words}")
    page.fill("[name=payer]", "Harbour Mutual, assessor")
    page.click("text=Send the supplement")
    page.goto(page.locator(".link-line code").inner_text())
    take(page, "supplement")


def pulls(page: Page, at: Stage) -> None:
    """Take the plan of the Teal, and the board in the middle of its pull."""
    board.begin(at)
    page.goto(f"/jobs/{TEAL}/pulls")
    take(page, "pulls")
    for code, moved in (("R3R", (6.5, 3.6, 6.0)), ("R2R", (3.1, 2.0, 2.6)), ("R3L", (1.2, 1.5, 0.6))):
        board.read_loaded(at, code, moved)
    board.read_force(at, "rear", 41_300.0)
    page.goto(f"/jobs/{TEAL}/board")
    take(page, "board")


EXAMPLE = """code;length;width;height;tolerance;reference
C1L;990;604;210;;yes
C1R;990;604 right;210;;yes
C2L;-60;610;210;;yes
C2R;-60;-610;8.27;;yes
R1L;-1604;540;330;;
R1R;-1640;-540;330;;
R2L;-2080;53 cm;420;3;
R2R;-2080;-530;16 17/32 in;3;

from;to;mode;distance
R1L;C1R;;2870.5
C2R;C1L;;1605.1
"""


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
