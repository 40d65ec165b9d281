"""The four doors: Python, the command line (one, and a line at a time), and the schemas; the API's is in tests/web."""

import json
import subprocess
import sys
from typing import Annotated, get_args, get_origin, get_type_hints

import jsonschema
import pytest
from typer.testing import CliRunner

from fairsquare.cli import app
from fairsquare.core.catalogue import CATALOGUE, BadRequest
from fairsquare.core.intake.vin import check_digit, check_vin
from fairsquare.stand_ins.vehicles import DUNLIN
from tests.core.frames import BAR
from tests.job.facts import REFERENCES, readings

SHEET = DUNLIN.sheet.model_dump(mode="json")
READ = [{"code": r.code, "xyz": list(r.xyz)} for r in readings(REFERENCES)]
NOUGHT = [[0.1, 0, 0], [0, 0.1, 0], [0, 0, 0.1]]
SPAN = {"id": "1", "kind": "span", "a": "F4L", "b": "C1L", "mode": "point_to_point", "mm": 1120, "sigma": 1}
BENT = {
    "nodes": {"a": [0, 0, 0], "b": [1000, 0, 0]},
    "members": [{"id": "m", "i": "a", "j": "b", "section": "s"}],
    "sections": {"s": BAR.model_dump()},
    "supports": {"a": [True] * 6},
    "path": [{"to": {"b": [0, 0, -7500, 0, 0, 0]}}],
}
REQUESTS = {
    "parse-length": {"text": "21 3/8 in"},
    "compare-lengths": {"a": "8 mm", "b": "3/8 in"},
    "sheet-spans": {"sheet": SHEET, "pairs": [["F4L", "C1R"]]},
    "fit-setup": {"sheet": SHEET, "readings": READ},
    "check-sheet": {"sheet": SHEET},
    "comparative-sheet": {
        "basis": "mirror",
        "sheet": SHEET,
        "side": "L",
        "points": {"F4L": {"xyz": [2110, 478, 402], "covariance": NOUGHT}},
    },
    "adjust-network": {"sheet": SHEET, "trusted": ["C1L"], "setups": [], "observations": [SPAN], "joint": ["F4L"]},
    "next-measurement": {
        "sheet": SHEET,
        "trusted": ["C1L"],
        "setups": [],
        "observations": [SPAN],
        "tools": [{"kind": "span", "sigma": 1, "to_mm": 2000}],
        "goal": ["F4L"],
    },
    "place-cuts": {
        "layers": [{"id": "outer", "from": 0, "to": 900, "thickness_mm": 1.2, "material": "mild"}],
        "features": [{"kind": "hole", "from": 395, "to": 405, "layers": None}],
        "damage": {"outer": [400, 800]},
        "keep": "low",
        "clearance_mm": {"hole": 15},
    },
    "cut-budget": {"marking": "tape", "kerf_mm": 1.2, "kerf_sigma_mm": 0.15, "trim_sigma_mm": 0.3},
    "drill-map": {
        "welds": [
            {
                "id": "1",
                "stack": [{"part": "outer", "stays": False}, {"part": "inner", "stays": True}],
                "reach_before": {"vehicle": ["top"]},
                "reach_after": ["top"],
            }
        ],
        "donor": "new",
    },
    "weld-order": {
        "welds": [
            {"id": "1", "at": [0, 0, 0], "energy_j": 3000, "seconds": 2},
            {"id": "2", "at": [30, 0, 0], "energy_j": 3000, "seconds": 2, "after": ["1"]},
        ],
        "plate": {"thickness_mm": 1.2, "conductivity": 45, "density": 7850, "heat_capacity": 500, "loss": 25},
    },
    "weld-settings": {"process": "squeeze", "metal": "steel", "thickness_mm": [1.2, 0.9]},
    "bond-timeline": {
        "temperature_c": 21,
        "products": [{"id": "adhesive", "open_min": 90, "at_c": 23}],
        "steps": [
            {"id": "squeeze out", "minutes": 8, "opens": ["adhesive"]},
            {"id": "clamp", "minutes": 20, "closes": ["adhesive"]},
        ],
    },
    "hang-panel": {
        "hinges": [{"id": "h", "at": [0, 0, 0], "range": {"length": [-2, 2], "width": [-2, 2], "height": [-2, 2]}}],
        "gaps": [{"id": "g", "at": [500, 0, 0], "normal": [1, 0, 0], "mm": 6, "target_mm": 4, "tolerance_mm": 1}],
    },
    "hang-panels": {
        "panels": [
            {
                "id": name,
                "hinges": [
                    {"id": "h", "at": at, "range": {"length": [-2, 2], "width": [-2, 2], "height": [-2, 2]}},
                ],
            }
            for name, at in (("door", [0, 0, 0]), ("wing", [1000, 0, 0]))
        ],
        "gaps": [
            {
                "id": "g",
                "a": "door",
                "b": "wing",
                "at": [500, 0, 0],
                "normal": [1, 0, 0],
                "mm": 6,
                "target_mm": 4,
                "tolerance_mm": 1,
            }
        ],
    },
    "check-tool": {
        "sigma_mm": 0.3,
        "ends": 2,
        "bar_mm": 1000.02,
        "bar_sigma_mm": 0.01,
        "readings_mm": [1000.3, 999.9, 1000.1],
    },
    "job-hours": {
        "operations": [{"id": "rail", "hours": 4, "needs_off": ["wing"]}],
        "parts": [{"id": "wing", "off_h": 0.8, "on_h": 1.1, "trials": 2}],
    },
    "day-plan": {
        "operations": [
            {"id": "pull", "minutes": 90, "skill": "structure"},
            {"id": "cut", "minutes": 30, "after": ["pull"]},
        ],
        "people": [{"id": "P1", "skills": ["structure"]}],
        "hours": [[480, 720], [760, 1020]],
    },
    "square-up": {
        "spans_mm": {"ab": 1000, "bc": 800, "cd": 1000, "da": 800, "ac": 1285, "bd": 1276},
        "target_mm": {"ab": 1000, "bc": 800, "cd": 1000, "da": 800, "ac": 1280.6, "bd": 1280.6},
    },
    "judge-points": {"sheet": SHEET, "points": {"F4L": {"xyz": [2110, 478, 402], "covariance": NOUGHT}}},
    "read-damage": {
        "sheet": SHEET,
        "points": {"F4L": {"xyz": [2110, 478, 402], "covariance": NOUGHT}},
        "hit": {"from_deg": 20},
    },
    "pull-statics": {
        "vehicle": {"mass_kg": 1200, "cg": [0, 0, 500]},
        "pulls": [{"id": "p", "hook": [2000, 0, 400], "tower": [4000, 0, 500], "force_n": 20000}],
        "anchors": [
            {"id": f"c{k}", "at": [x, y, 200], "kind": "clamp", "stiffness": 6000}
            for k, (x, y) in enumerate(((700, 600), (700, -600), (-700, 600)))
        ],
    },
    "hold-capacity": {"kind": "tab_weld", "sheet": {"thickness_mm": 2, "rm_mpa": 400}, "weld": {"length_mm": 50}},
    "simulate-frame": BENT,
    "next-pull": {
        "target_mm": 12,
        "tolerance_mm": 3,
        "now_mm": 0,
        "prior": {"return_mm": 8, "sigma_mm": 4},
        "cycles": [],
    },
    "plan-pulls": {
        "sheet": {"name": "s", "construction": "ladder", "points": [{"code": "A", "xyz": [1000, 0, 0]}]},
        "points": {"A": {"xyz": [1004, 0, 0]}},
        "skeleton": {name: BENT[name] for name in ("nodes", "members", "sections", "supports")} | {"codes": {"b": "A"}},
        "rig": {"towers": [], "hooks": [], "anchors": []},
        "school": "outward",
    },
    "decide-member": {"member": {"material": "mild", "role": "structural", "signs": ["bent"]}},
}


def run(*arguments: str, sent: str = ""):
    return CliRunner().invoke(app, ["compute", *arguments], input=sent)


@pytest.mark.parametrize("name", list(CATALOGUE))
def test_the_same_answer_to_the_last_digit(name) -> None:
    calculation, text = CATALOGUE[name], json.dumps(REQUESTS[name])
    by_python = calculation.function(calculation.read(text)).model_dump_json()
    assert run(name, sent=text).stdout.strip() == by_python
    assert run(name, "--jsonl", sent=text + "\n" + text + "\n").stdout.splitlines() == [by_python] * 2


@pytest.mark.parametrize("name", list(CATALOGUE))
def test_schemas_describe_request_and_result(name) -> None:
    schemas = json.loads(run("--schema", name).stdout)
    jsonschema.validate(REQUESTS[name], schemas["request"])
    jsonschema.validate(json.loads(run(name, sent=json.dumps(REQUESTS[name])).stdout), schemas["result"])
    assert run("--list").stdout.split() == list(CATALOGUE)


def test_a_bad_line_gives_an_error_and_the_run_goes_on() -> None:
    answer = run("parse-length", "--jsonl", sent='{"text": "5"}\n{"text": "x"}\nnonsense\n{"text": "6"}\n')
    lines = [json.loads(line) for line in answer.stdout.splitlines()]
    assert answer.exit_code == 1
    assert [line.get("mm") for line in lines] == [5, None, None, 6]
    assert lines[1]["error"]["at"] == 0
    assert "not JSON" in lines[2]["error"]["title"]


@pytest.mark.parametrize(
    ("sent", "field", "words"),
    [
        ('{"text": "5", "more": 1}', "more", "no such field"),
        ("{}", "text", "needed"),
        ('{"text": 5}', "text", "string"),
        ('{"text": "5", "unit": "yard"}', "unit", "mm"),
    ],
)
def test_a_wrong_request_is_refused_whole(sent, field, words) -> None:
    answer = run("parse-length", sent=sent)
    assert answer.exit_code == 2
    problem = json.loads(answer.stderr)
    assert problem["errors"][0]["field"] == field
    assert words in problem["errors"][0]["message"]
    assert problem["status"] == 422


@pytest.mark.parametrize("value", ["NaN", "Infinity", "-Infinity", "1e999"])
def test_nan_and_infinity_are_refused(value) -> None:
    text = json.dumps(REQUESTS["judge-points"]).replace("2110", value)
    with pytest.raises(BadRequest):
        CATALOGUE["judge-points"].run_json(text)


def test_an_unknown_calculation_is_named() -> None:
    answer = run("fit-everything")
    assert answer.exit_code == 2
    assert "choose one of" in json.loads(answer.stderr)["title"]


def test_check_digits() -> None:
    """The VIN of all ones has check digit 1: the sum of the weights without the ninth is 89, and 89 mod 11 is 1."""
    assert check_digit("11111111111111111") == "1"
    assert check_vin("1m8gdm9axkp042788").verdict == "fits", "the worked example of 49 CFR 565, from memory"
    assert check_vin("1M8GDM9A1KP042788").verdict == "does_not_fit"
    assert "many regions" in check_vin("1M8GDM9A1KP042788").words.lower()
    assert check_vin("1M8GDM9AXKP04278").verdict == "malformed"
    assert "look for 1 and 0" in check_vin("OM8GDM9AXKP042788").words
    assert check_vin("  ").verdict == "none"


def test_numbers_that_overflow_are_refused_in_words() -> None:
    request = json.loads(json.dumps(REQUESTS["judge-points"]))
    request["points"]["F4L"]["covariance"] = [[1e308, 1e308, 0], [1e308, 1e308, 0], [0, 0, 1e308]]
    answer = run("judge-points", sent=json.dumps(request))
    assert answer.exit_code in (0, 2)
    if answer.exit_code == 2:
        assert "too large or too small" in json.loads(answer.stderr)["title"]
    else:
        assert all(abs(v) < 1e200 for v in json.loads(answer.stdout)["points"]["F4L"]["expanded"])


@pytest.mark.parametrize("name", list(CATALOGUE))
def test_a_calculation_goes_from_its_request_to_its_result(name) -> None:
    calculation = CATALOGUE[name]
    hints = list(get_type_hints(calculation.function).values())
    annotated = get_origin(calculation.request) is Annotated
    request = get_args(calculation.request)[0] if annotated else calculation.request
    assert (hints[0], hints[-1]) == (request, calculation.result)


def test_names_are_listed_without_what_calculations_need() -> None:
    asked = "import sys; from fairsquare.core.catalogue import CATALOGUE; print(len(CATALOGUE), 'numpy' in sys.modules)"
    told = subprocess.run([sys.executable, "-c", asked], capture_output=True, text=True, check=True).stdout.split()
    assert told == [str(len(CATALOGUE)), "False"]
