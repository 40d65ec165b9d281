"""A real browser against a real server. Any request to another host fails the test that made it."""

from collections.abc import Iterator
from urllib.parse import urlsplit

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, sync_playwright

CHROMIUM = "/usr/bin/chromium"
FLAGS = ["--no-sandbox", "--disable-gpu", "--disable-background-networking", "--disable-component-update"]


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=FLAGS)
        yield browser
        browser.close()


def watched(context: BrowserContext, server: str) -> tuple[Page, list[str]]:
    """Return a page, and the list that its faults and its requests to other hosts are written to."""
    faults: list[str] = []
    host = urlsplit(server).netloc

    def look(request) -> None:
        if urlsplit(request.url).scheme not in ("data", "blob") and urlsplit(request.url).netloc != host:
            faults.append(f"left the machine: {request.url}")

    page = context.new_page()
    page.set_default_timeout(30_000)
    context.on("request", look)
    page.on("pageerror", lambda fault: faults.append(f"script: {fault}"))
    page.on("console", lambda m: faults.append(f"console: {m.text}") if "Content Security Policy" in m.text else None)
    return page, faults


@pytest.fixture
def page(browser: Browser, server: str) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=server, accept_downloads=True)
    page, faults = watched(context, server)
    yield page
    context.close()
    assert faults == []


@pytest.fixture
def tablet(browser: Browser, server: str) -> Iterator[Page]:
    context = browser.new_context(
        viewport={"width": 800, "height": 1280}, has_touch=True, is_mobile=True, base_url=server, accept_downloads=True
    )
    page, faults = watched(context, server)
    yield page
    context.close()
    assert faults == []


def sign_in(page: Page, name: str = "ngozi", password: str = "tide-tables-40") -> None:
    page.goto("/sign-in")
    page.fill("[name=name]", name)
    page.fill("[name=password]", password)
    page.press("[name=password]", "Enter")
    page.wait_for_url("**/")
