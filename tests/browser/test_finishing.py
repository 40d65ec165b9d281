"""From the dry fit to the payer's telephone, in a real browser: a door hung, a refused hold satisfied, a seam welded."""

import re
import sys
import time
from collections.abc import Iterator

import httpx
import pytest
from playwright.sync_api import Browser, Page, expect

from fairsquare.actions import Desk, clocking, finishing
from fairsquare.job.facts.done import Advice, LeftOut
from fairsquare.processes import free_port, start, stop
from tests.browser.conftest import sign_in, watched
from tests.browser.test_pages import violations
from tests.conftest import key
from tests.web.fitting import LID, PLACES, SEAM, SPANS, coupon, prove, read_points, ready_job, set_up, sign


@pytest.fixture(scope="module")
def job(desk: Desk, persons) -> str:
    return ready_job(desk, persons)


def call(page: Page, text: str) -> None:
    page.locator("#call").fill(text)
    page.keyboard.press("Enter")
    expect(page.locator("#call")).to_have_value("")
    for _ in range(100):
        if page.evaluate("(localStorage.getItem(`kept:${location.pathname}`) || '[]') === '[]'"):
            return
        page.wait_for_timeout(50)
    raise AssertionError(f"{text} was not recorded")


def span_calls() -> list[str]:
    return [
        f"{a} {b} {sum((x - y) ** 2 for x, y in zip(PLACES[a], PLACES[b], strict=True)) ** 0.5:.1f}" for a, b in SPANS
    ]


def test_a_door_is_hung(page: Page, desk: Desk, job) -> None:
    sign_in(page)
    page.goto(f"/jobs/{job}/fit")
    page.get_by_role("link", name="List panels and gaps").first.click()
    typed = {
        "panel-0-name": "door",
        "panel-0-drop": "2",
        "hinge-0-panel": "door",
        "hinge-0-id": "upper",
        "hinge-0-at": "1000 700 900",
        "hinge-1-panel": "door",
        "hinge-1-id": "lower",
        "hinge-1-at": "1000 700 400",
    }
    for k in range(2):
        typed |= {f"hinge-{k}-{axis}": "3" for axis in ("length", "width", "height")}
    for k, (place, at) in enumerate((("door rear top", "-60 700 900"), ("door rear bottom", "-60 700 350"))):
        typed |= {f"gap-{k}-place": place, f"gap-{k}-panel": "door", f"gap-{k}-at": at, f"gap-{k}-near": "C2L"}
        typed |= {f"gap-{k}-target": "4", f"gap-{k}-tolerance": "1"}
    for name, value in typed.items():
        page.locator(f"[name='{name}']").fill(value)
    for k in range(2):
        page.locator(f"[name='gap-{k}-way']").select_option("rearward")
    assert violations(page) == []
    page.get_by_role("button", name="Keep the list").click()
    page.wait_for_url("**/fit")
    page.locator("#call").fill("gap door rear top 6.5")
    expect(page.locator("#understood")).to_contain_text("wide")
    page.keyboard.press("Enter")
    expect(page.locator(".gaps tr", has_text="door rear top")).to_contain_text("6.5")
    call(page, "gap door rear bottom 6.1")
    expect(page.locator(".gaps tr", has_text="door rear bottom")).to_contain_text("6.1")
    assert violations(page) == []
    page.get_by_role("link", name="Hang the panels").click()
    expect(page.locator(".panel")).to_contain_text("Look at the hinges first: upper, lower")
    for k in range(2):
        page.locator(".panel tbody tr").nth(k).get_by_role("button", name="sound").click()
    expect(page.locator(".panel")).not_to_contain_text("Look at the hinges first")
    expect(page.locator(".verdict-adjust")).to_contain_text("Move the hinges as written")
    expect(page.locator(".panel tbody tr").first).to_contain_text("rearward")
    page.locator("#min-1").fill("20")
    page.get_by_role("button", name="It is hung").click()
    expect(page.locator(".panel h2")).to_contain_text("hangs, weatherstrip on, hung 1 time, 20 min")
    assert violations(page) == []
    page.goto(f"/jobs/{job}/fit")
    page.locator("[name=what]").last.select_option("hinge")
    page.get_by_role("button", name="Record it").click()
    expect(page.locator(".gaps")).not_to_contain_text("6.1")  # read before it was hung: of something else
    expect(page.locator(".gaps-pane details").first).to_contain_text("Read before")
    for text in ("gap door rear top 4.2", "gap door rear bottom 4"):
        call(page, text)
    page.goto(f"/jobs/{job}/fit/panels")
    expect(page.locator(".panel")).to_contain_text("It hangs right as it is.")


def test_the_refused_hold_and_how_it_is_satisfied(page: Page, desk: Desk, persons, job) -> None:
    sign_in(page, "solveig", "north-light-12")
    page.goto(f"/jobs/{job}/holds/fit_accepted")
    expect(page.locator(".refusal")).to_contain_text("Not yet")
    expect(page.locator(".demands .open", has_text="Read after the last time anything moved")).to_be_visible()
    assert page.locator("textarea[name=reason]").count() == 0, "no place for a reason: nobody overrides this"
    assert violations(page) == []
    read_points(desk, persons["technician"], job)
    page.reload()
    expect(page.locator(".demands .open", has_text="Read after")).to_have_count(0)
    page.locator(".demands .open a").first.click()
    page.goto(f"/jobs/{job}/measure")
    for text in span_calls():
        call(page, text)
    page.goto(f"/jobs/{job}/fit")
    page.get_by_role("button", name="It is let down on its wheels").click()
    expect(page.locator("#moved")).to_contain_text("Read the same spans again on the wheels")
    page.locator("#moved").get_by_role("link", name="Call spans").click()
    for text in span_calls():
        call(page, text)
    page.goto(f"/jobs/{job}/fit")
    expect(page.locator("#moved")).to_contain_text("proof stands on the wheels")
    for text in ("gap door rear top 4.4", "gap door rear bottom 4.1"):
        call(page, text)
    expect(page.locator("#hold-strip")).to_contain_text("All the evidence is there.")
    page.locator("#hold-strip").get_by_role("link").click()
    page.get_by_role("button", name="Sign “Fit accepted: weld”").click()
    page.wait_for_url("**/weld")
    assert desk.view(job).state.may_weld


def test_a_seam_is_welded_with_a_drift_in_the_middle(page: Page, desk: Desk, persons) -> None:
    technician, own = persons["technician"], ready_job(desk, persons)
    seam = finishing.say_seam(desk, technician, key(), own, 0, SEAM, 0)
    finishing.note(desk, persons["lead"], key(), own, coupon(seam))
    prove(desk, persons, own)
    set_up(desk, technician, own)
    read_points(desk, technician, own)
    sign(desk, persons["lead"], own, "fit_accepted")
    sign_in(page)
    page.goto(f"/jobs/{own}/seams/1")
    expect(page.locator(".weld-now")).to_have_text(re.compile("a|b"))
    page.locator("#heat-at").fill("3")
    expect(page.locator(".heat-words")).to_contain_text("3 s of")
    assert violations(page) == []
    first = page.locator(".weld-now").inner_text()
    page.get_by_role("button", name="It is in, and good").click()
    expect(page.locator(".weld-now")).not_to_have_text(first)
    read_points(desk, technician, own, "watch", ["F5R"], (2.4, 0.0, 0.0))
    expect(page.locator("#watch")).to_contain_text("drifts", timeout=8000)
    read_points(desk, technician, own, "watch", ["F5R"], (4.6, 0.0, 0.0))
    expect(page.locator("#watch")).to_contain_text("STOP: out of tolerance", timeout=8000)
    page.get_by_role("button", name="It is in, and good").click()
    expect(page.locator("[role=alert]").first).to_contain_text("nothing is welded for good")
    assert "F5R by 4.6 mm" in page.locator("[role=alert]").first.inner_text()
    read_points(desk, technician, own, "point", ["F5R"])
    sign(desk, persons["lead"], own, "fit_accepted")
    page.goto(f"/jobs/{own}/seams/1")
    page.get_by_role("button", name="It is in, and good").click()
    page.get_by_role("button", name="crack").click()
    page.get_by_role("button", name="It is in, and good").click()
    expect(page.locator(".weld-now")).to_have_text("3")
    looks = [one.what.look for one in desk.view(own).facts.done if one.kind == "weld"]
    assert looks == ["good", "good", "crack", "good"]
    page.goto(f"/jobs/{own}/weld")
    page.get_by_role("button", name="Final welding is done").click()
    page.wait_for_url("**/finish")
    expect(page.locator(".demands").first).to_contain_text("Older than the last move")
    assert violations(page) == []


@pytest.fixture
def mortal(url: str, persons, tmp_path) -> Iterator:
    """A server that can be stopped and started again on its port."""
    port, running = free_port(), []

    def go() -> str:
        log = (tmp_path / "log").open("ab")
        command = [sys.executable, "-m", "fairsquare", "start", "--port", str(port)]
        environment = {"FAIRSQUARE_DATABASE_URL": url, "FAIRSQUARE_DEMO": "1", "FAIRSQUARE_SIGN_IN_TRIES": "60"}
        running.append(start(command, log=log, environment=environment))
        until = time.monotonic() + 30
        while time.monotonic() < until:
            try:
                if httpx.get(f"http://127.0.0.1:{port}/readyz").status_code == 200:
                    break
            except httpx.HTTPError:
                time.sleep(0.05)
        return f"http://127.0.0.1:{port}"

    yield go, lambda: stop(running.pop())
    for one in running:
        stop(one)


def seconds(text: str) -> int:
    minutes, rest = text.lstrip("+").split(":")
    return int(minutes) * 60 + int(rest)


def test_a_clock_outlives_reload_restart_and_a_tablet_whose_time_is_wrong(browser: Browser, mortal, job) -> None:
    go, end = mortal
    server = go()
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=server)
    page, faults = watched(context, server)
    sign_in(page)
    page.goto(f"/jobs/{job}/bond")
    page.locator("[name=label]").last.fill("foam sets")
    page.locator("[name=minutes]").last.fill("0")
    page.get_by_role("button", name="Start it").click()
    expect(page.locator("#wrong-minutes")).to_contain_text("more than 0 minutes")
    page.locator("[name=minutes]").last.fill("15")
    page.get_by_role("button", name="Start it").click()
    strip = page.locator("#clocks [data-count]").first
    expect(strip).to_have_text(re.compile("14:5"))
    assert violations(page) == []
    page.goto("/tools")
    expect(strip).to_have_text(re.compile("14:"))
    before = seconds(strip.inner_text())
    end()
    go()
    page.reload()
    expect(strip).to_have_text(re.compile("14:"))
    assert before - 45 < seconds(strip.inner_text()) <= before
    page.add_init_script("const far = Date.now; Date.now = () => far() + 7200e3;")
    page.goto("/clocks")
    expect(page.locator(".wall-clock [data-count]")).to_have_text(re.compile("14:"))
    assert violations(page) == []
    context.close()
    assert faults == []


def test_a_clock_that_runs_out_sounds_and_says_so(page: Page, desk: Desk, persons) -> None:
    own = ready_job(desk, persons)
    sign_in(page)
    page.goto("/clocks")
    page.locator("h1").click()
    expect(page.locator("[data-sound]")).to_have_text("Sound is on.")
    clocking.start_clock(desk, persons["technician"], key(), own, "other", "", "two seconds", 2 / 60)
    page.reload()
    page.locator("h1").click()
    clock = page.locator(".wall-clock", has_text="two seconds")
    expect(clock).to_have_class(re.compile("over"))
    expect(clock).to_contain_text("over")
    expect(page.locator("body")).to_have_attribute("data-rang", re.compile(r"\d+"))


def test_the_record_by_the_payers_link_on_a_telephone(browser: Browser, server: str, desk: Desk, persons) -> None:
    own = ready_job(desk, persons)
    prove(desk, persons, own)
    lead = persons["lead"]
    finishing.note(desk, lead, key(), own, Advice(what="overload", broke="too heavy a load", keep="two crates at most"))
    left = LeftOut(what="dent in the sill", why="the owner does not mind it", consent="the ferry line", how="by letter")
    finishing.note(desk, lead, key(), own, left)
    office = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=server)
    page, faults = watched(office, server)
    sign_in(page, "solveig", "north-light-12")
    page.goto(f"/jobs/{own}/record")
    page.get_by_role("button", name="Make the record").click()
    page.wait_for_url("**/records/*")
    page.goto(f"/jobs/{own}/record")
    page.locator("[name=audience]").select_option("payer")
    page.locator("[name=named]").fill("Mutual of the Isles")
    page.get_by_role("button", name="Make a link").click()
    link = page.locator(".sent-link input").input_value()
    assert violations(page) == []
    office.close()
    phone = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True, base_url=server)
    page, more = watched(phone, server)
    page.goto(link)
    expect(page.locator("h1")).to_have_text("Dunlin post van")
    expect(page.locator("body")).to_contain_text("This record is whole, and its figures follow from its readings.")
    expect(page.locator("body")).to_contain_text("two crates at most")
    expect(page.locator("body")).to_contain_text(LID)
    assert page.evaluate("document.documentElement.scrollWidth - innerWidth") <= 0, "nothing hangs over the edge"
    assert violations(page) == []
    page.get_by_role("link", name="What was knowingly left").click()
    expect(page.locator("body")).to_contain_text("dent in the sill")
    assert violations(page) == []
    page.goto("/handover/not-a-code")
    expect(page.locator("body")).to_contain_text("This link leads nowhere")
    phone.close()
    assert faults == more == []
