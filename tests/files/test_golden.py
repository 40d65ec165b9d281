"""Records of every format that ever was verify: whole, their figures by the rules of today or, told apart, by those of then."""

import json
from pathlib import Path

import pytest
import rfc8785
from typer.testing import CliRunner

from fairsquare.cli import app
from fairsquare.core.catalogue import CATALOGUE
from fairsquare.files.job_file import check_file
from fairsquare.files.records import sealed
from fairsquare.job.release.record import FORMATS, JobRecord, recompute
from fairsquare.job.release.rules import CHANGES

GOLDEN = Path(__file__).parents[1] / "golden"
FILES = sorted(path for path in GOLDEN.glob("[0-9]*/*") if path.is_file())


def named(path: Path) -> str:
    return f"{path.parent.name}-{path.name}"


def record_of(path: Path) -> JobRecord:
    loaded = json.loads(path.read_text())
    return JobRecord.model_validate_json(json.dumps({k: v for k, v in loaded.items() if k != "integrity"}))


def test_every_format_is_here() -> None:
    assert {f"fairsquare-record/{one.name}" for one in GOLDEN.iterdir() if one.name.isdigit()} == set(FORMATS)
    for one in FILES:
        if one.name == "record.json":
            assert json.loads(one.read_text())["format"] == f"fairsquare-record/{one.parent.name}"


@pytest.mark.parametrize("path", FILES, ids=named)
def test_it_is_whole_and_follows(path) -> None:
    check = check_file(path.read_bytes())
    assert (check.whole, check.follows, check.findings) == (True, True, ())
    assert check.signed_by.signed == ("yes" if int(path.parent.name) >= 9 else "no")


@pytest.mark.parametrize("path", [one for one in FILES if one.suffix == ".json"], ids=named)
def test_only_what_was_written_down_as_changed_is_another_today(path) -> None:
    then = check_file(path.read_bytes()).then
    expected = {
        "7": (
            "/results/damage/ends/rear/onset/at_mm: by the rules of then -634.2983672810835, today -634.29836945",
            "(read-damage 2: where the damage begins is looked for to its end)",
        )
    }.get(path.parent.name)
    if expected is None:
        assert then == ()
    else:
        assert len(then) == 1
        assert then[0].startswith(expected[0])
        assert then[0].endswith(expected[1])


@pytest.mark.parametrize("of", ["7", "8", "9"])
def test_a_figure_that_no_change_explains_does_not_follow(of) -> None:
    record = record_of(GOLDEN / of / "record.json")
    assert record.results.damage is not None
    body = json.loads(record.model_dump_json())
    code, point = next((c, p) for c, p in body["results"]["points"].items() if p["after"] and p["after"]["deviation"])
    point["after"]["deviation"] = [0.0, 0.0, 0.0]
    text, _ = sealed(JobRecord.model_validate_json(json.dumps(body)))
    check = check_file(text.encode())
    assert (check.whole, check.follows) == (True, False), "sealed anew, it is whole; its figures do not follow"
    assert any(f"/results/points/{code}/after/deviation" in one for one in check.findings)


def test_a_change_explains_a_figure_in_its_own_formats_only() -> None:
    body = json.loads(record_of(GOLDEN / "8" / "record.json").model_dump_json())
    end = body["results"]["damage"]["ends"]["rear"]
    end["onset"]["at_mm"] += 1.0
    moved = JobRecord.model_validate_json(json.dumps(body))
    (found,) = recompute(moved)
    assert (found.where, found.since) == ("/results/damage/ends/rear/onset/at_mm", None)
    as_of_then = moved.model_copy(update={"format": "fairsquare-record/7"})
    assert [one.since for one in recompute(as_of_then)] == ["read-damage 2"]
    assert all(CATALOGUE[one.calculation].version >= one.version > 1 for one in CHANGES), "a change is a version"


@pytest.mark.parametrize(
    ("of", "named"),
    [("10", {"read-damage": 1}), ("10", {"hold-points": 1}), ("10", {"fit-setup": 99}), ("9", {"read-damage": 1})],
)
def test_a_record_cannot_name_versions_that_it_was_not_made_by(of, named) -> None:
    """Who lowers a version would have every figure that changed since explained."""
    record = record_of(GOLDEN / of / "record.json")
    forged = record.model_copy(update={"calculations": {**record.calculations, **named}})
    (name,) = named
    assert f"/calculations/{name}" in [one.where for one in recompute(forged) if one.since is None]


def test_verify_answers_as_json(tmp_path) -> None:
    def asked(path: Path) -> tuple[int, dict]:
        answer = CliRunner().invoke(app, ["verify", str(path), "--json", "--folder", str(tmp_path)])
        return answer.exit_code, json.loads(answer.stdout)

    status, told = asked(GOLDEN / "7" / "record.json")
    assert (status, told["good"], told["whole"], told["follows"], len(told["then"])) == (0, True, True, True, 1)
    assert told["signed_by"]["signed"] == "no"
    loaded = json.loads((GOLDEN / "9" / "record.json").read_text())
    loaded["number"] = "SL-9999"
    changed = tmp_path / "changed.json"
    changed.write_bytes(rfc8785.dumps(loaded))
    status, told = asked(changed)
    assert (status, told["good"], told["whole"]) == (1, False, False)
    assert told["findings"]
