"""Everything that stands in the way leads to the page that clears it, and goes when its cause goes: holds, demands, findings."""

import ast
import html
import re
from pathlib import Path

import numpy as np

import fairsquare.job
from fairsquare.job.damage.job import damage_of, open_findings
from fairsquare.words.tell import tell
from tests.web.test_damage import MOVED
from tests.web.test_job import call, make_safe, new_job, read_all, sign, with_references, with_sheet

JOB = Path(fairsquare.job.__file__).parent
SPOILT = {**MOVED, "F4L": np.zeros(3)}
"""A Dunlin as struck, but for one station that reads fair between two that are off."""


def calls(tree: ast.AST, *names: str) -> list[ast.Call]:
    return [
        n for n in ast.walk(tree) if isinstance(n, ast.Call) and isinstance(n.func, ast.Name) and n.func.id in names
    ]


def has_page(one: ast.Call) -> bool:
    return any(keyword.arg == "page" for keyword in one.keywords)


def test_nothing_is_said_to_be_missing_without_a_page() -> None:
    """Everything that is said to be missing names its page, or is part of a demand that does."""
    homeless, seen = [], 0
    for file in JOB.rglob("*.py"):
        for function in (n for n in ast.walk(ast.parse(file.read_text())) if isinstance(n, ast.FunctionDef)):
            if function.name in ("lacks", "demand"):
                continue
            paged = [one for one in calls(function, "demand") if has_page(one)]
            for missing in calls(function, "Missing", "lacks"):
                seen += 1
                if not has_page(missing) and not paged:
                    homeless.append(f"{file.name}: {ast.unparse(missing)[:80]}")
            bare = [one for one in calls(function, "demand") if len(one.args) > 2 and not has_page(one)]
            homeless += [f"{file.name}: {ast.unparse(one)[:80]}" for one in bare]
    assert homeless == []
    assert seen > 60


def test_what_is_missing_in_the_demo_leads_to_a_page_that_is_there(demo, as_role, desk) -> None:
    lead, walked = as_role("lead"), 0
    for number in demo:
        for hold in desk.view(number).state.holds:
            demands = [(demand.page, demand.missing) for demand in hold.demands if demand.missing]
            for missing in [*hold.missing, *(one for _, own in demands for one in own)]:
                page = missing.page or next((page for page, own in demands if missing in own), "")
                assert page, f"{number}, {hold.title}: {tell(missing.said)}"
                way, _, mark = page.partition("#")
                shown = lead.get(f"/jobs/{number}/{way}")
                assert not mark or f'id="{mark}"' in shown, f"{number}: {page}"
                walked += 1
            if hold.missing:
                shown = html.unescape(lead.get(f"/jobs/{number}/holds/{hold.name}"))
                pages = [missing.page for missing in hold.missing if missing.page]
                assert all(f"/jobs/{number}/{page}" in shown for page in pages), "the hold point links there"
    assert walked > 20


def test_the_floor_leads_to_what_clears_what_blocks(demo, as_role) -> None:
    lead = as_role("lead")
    floor = html.unescape(lead.get("/"))
    links = re.findall(r'<li class="floor-job blocked">\s*<a href="([^"]+)"', floor)
    assert links
    for link in links:
        assert "/holds/" not in link, "not to what says that it is missing, but to where it is got"
        lead.get(link.partition("#")[0])


def test_a_contradiction_is_read_again_then_settled_and_goes(as_role, desk) -> None:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    make_safe(ngozi, job)
    with_sheet(ngozi, job)
    with_references(ngozi, job)
    sign(ngozi, job, "setup_accepted")
    read_all(ngozi, job, SPOILT)

    def found() -> tuple[str, ...]:
        facts = desk.view(job).facts
        return tuple(one.kind for one in open_findings(facts, damage_of(facts).findings))

    assert found() == ("between",)
    page = ngozi.get(f"/jobs/{job}/damage")
    assert "F4L reads fair between" in page and "was read again" not in page
    assert f"/jobs/{job}/measure?point=F4L" in page
    ngozi.post(f"/jobs/{job}/readings", setup="1", purpose="point", call=call("F4L", SPOILT["F4L"]))
    page = ngozi.get(f"/jobs/{job}/damage")
    assert "F4L was read again and stays so." in page and re.search(r"<details open><summary>Settle it", page)
    ngozi.post(f"/jobs/{job}/damage/settle", finding="between:F4L", reason="a stiffener stands there, seen and felt")
    assert found() == ()
    assert "Nothing contradicts" in ngozi.get(f"/jobs/{job}/damage")


def test_a_contradiction_goes_by_a_reading_that_takes_its_cause_away(as_role, desk) -> None:
    ngozi = as_role("technician")
    job = new_job(ngozi)
    make_safe(ngozi, job)
    with_sheet(ngozi, job)
    with_references(ngozi, job)
    sign(ngozi, job, "setup_accepted")
    read_all(ngozi, job, SPOILT)
    last = max(one.id for one in desk.view(job).facts.readings if one.code == "F4L")
    ngozi.post(f"/jobs/{job}/take-back", reading=str(last))
    ngozi.post(f"/jobs/{job}/readings", setup="1", purpose="point", call=call("F4L", MOVED["F4L"]))
    facts = desk.view(job).facts
    assert open_findings(facts, damage_of(facts).findings) == ()
