"""What tests of the search for a plan share: begin it, wait for it, keep what it found."""

import re
import time


def found_plan(pages, job: str, school: str = "outward", version: str = "0", seconds: float = 60.0) -> str:
    """Begin a search and return its page once it is over, or once a plan that brings all home is there."""
    page = pages.post(f"/jobs/{job}/pulls/find", school=school, plan_version=version)
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        page = pages.get(f"/jobs/{job}/pulls/search")
        if "Brings every point home" in page or 'data-over="1"' in page:
            break
        time.sleep(0.2)
    return page


def kept_plan(pages, job: str, page: str, choice: int = 0, reason: str = "") -> str:
    """Keep a plan that a search found, and return the plan's page."""
    title = re.findall(r'name="title" value="([^"]*)"', page)[choice]
    return pages.post(f"/jobs/{job}/pulls/search/keep", choice=str(choice), title=title, overpull_reason=reason)
