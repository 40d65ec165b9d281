"""Every calculation by name: its request, its result, and the pure function between them.

Python, the command line, the API and the pages all reach the same entry, so they give the same answer to the last digit.
"""

import json
from collections.abc import Callable, Mapping
from types import MappingProxyType
from typing import Any, NamedTuple

import numpy as np
from pydantic import BaseModel, TypeAdapter, ValidationError

from fairsquare.core.cut.budget import CutBudget, CutBudgeted, cut_budget
from fairsquare.core.cut.drill import DrillMap, WeldsMapped, drill_map
from fairsquare.core.cut.place import CutsPlaced, PlaceCuts, place_cuts
from fairsquare.core.damage.decide import DecideMember, MemberDecided, decide_member
from fairsquare.core.damage.read import DamageRead, ReadDamage, read_damage
from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.fit.hang import HangPanel, PanelHung, hang_panel
from fairsquare.core.fit.square import SquaredUp, SquareUp, square_up
from fairsquare.core.lengths import (
    ComparedLengths,
    CompareLengths,
    ParsedLength,
    ParseLength,
    compare_lengths,
    parse_length,
)
from fairsquare.core.measure.adjust import Adjusted, AdjustNetwork, adjust_network
from fairsquare.core.measure.bar_check import CheckTool, ToolChecked, check_tool
from fairsquare.core.measure.conformity import JudgePoints, PointsJudged, judge_points
from fairsquare.core.measure.next_reading import NextMeasurement, ReadingsRanked, next_measurement
from fairsquare.core.measure.setup import FitSetup, SetupFit, fit_setup
from fairsquare.core.plan.asked import DayPlan, DayPlanned
from fairsquare.core.plan.day import day_plan
from fairsquare.core.plan.hours import HoursFound, JobHours, job_hours
from fairsquare.core.pull.hold import HoldCapacity, HoldTakes, hold_capacity
from fairsquare.core.pull.plan import PlanPulls, PullsPlanned, plan_pulls
from fairsquare.core.pull.springback import NextPull, PullAdvised, next_pull
from fairsquare.core.pull.statics import PullsHeld, PullStatics, pull_statics
from fairsquare.core.sheet.check import CheckSheet, SheetChecked, check_sheet
from fairsquare.core.sheet.comparative import ComparativeSheet, SheetMade, comparative_sheet
from fairsquare.core.sheet.spans import SheetSpans, SpansFound, sheet_spans
from fairsquare.core.structure.simulate import FrameSimulated, SimulateFrame, simulate_frame
from fairsquare.core.weld.order import WeldOrder, WeldsOrdered, weld_order
from fairsquare.core.weld.settings import SettingsFound, WeldSettings, weld_settings
from fairsquare.core.weld.timeline import BondTimeline, TimelineFound, bond_timeline


class Calculation(NamedTuple):
    """One calculation: `function` takes a `request` model (or one of several) and returns a `result` model."""

    name: str
    request: Any
    result: type[BaseModel]
    function: Callable[[Any], BaseModel]

    def __call__(self, request: BaseModel) -> BaseModel:
        """Return the result of a request."""
        return self.function(request)

    @property
    def summary(self) -> str:
        """The first line of the function's docstring."""
        return (self.function.__doc__ or self.name).strip().splitlines()[0]

    def schemas(self) -> dict[str, Any]:
        """Return the JSON Schemas of request and result."""
        return {
            "request": TypeAdapter(self.request).json_schema(mode="validation"),
            "result": self.result.model_json_schema(mode="serialization"),
        }

    def run_json(self, text: str | bytes) -> str:
        """Answer a JSON request with a JSON result. Raises `FairSquareError` for a request that is wrong."""
        request = self.read(text)
        try:
            with np.errstate(over="raise", invalid="raise", divide="raise"):
                return self.function(request).model_dump_json()
        except (ArithmeticError, np.linalg.LinAlgError, ValidationError) as fault:
            raise Refused("The numbers are too large or too small to be worked with: look for a slip.") from fault

    def read(self, text: str | bytes) -> BaseModel:
        """Read a request. Raises `BadRequest` that names the field, the value, and what would be right."""
        try:
            read: BaseModel = TypeAdapter(self.request).validate_json(text)
            return read
        except ValidationError as fault:
            raise BadRequest(fault) from None


class BadRequest(FairSquareError):
    """A request of the wrong shape: a missing or unknown field, a value of the wrong kind, NaN."""

    kind = "bad-request"

    def __init__(self, fault: ValidationError) -> None:
        found = fault.errors(include_url=False, include_context=False)
        first = found[0]
        field = ".".join(str(part) for part in first["loc"]) or None
        message = _in_words(first["type"], first["msg"])
        super().__init__(f"{field}: {message}" if field else message, field=field, value=_shown(first["input"]))
        self.found = [
            {
                "field": ".".join(str(part) for part in one["loc"]),
                "value": _shown(one["input"]),
                "message": _in_words(one["type"], one["msg"]),
            }
            for one in found[:20]
        ]

    def problem(self) -> dict[str, Any]:
        """Return the problem object; `errors` lists up to twenty faults."""
        return {**super().problem(), "errors": self.found}


def _in_words(kind: str, message: str) -> str:
    known = {
        "missing": "this field is needed",
        "extra_forbidden": "there is no such field",
        "finite_number": "must be a number, not NaN or infinity",
        "json_invalid": f"this is not JSON: {message.removeprefix('Invalid JSON: ')}",
    }
    return known.get(kind, message[:1].lower() + message[1:])


def _shown(value: Any) -> Any:
    """Return a value that can stand in a problem object: short, and JSON."""
    try:
        text = json.dumps(value, allow_nan=False)
    except (TypeError, ValueError):
        return repr(value)[:200]
    return value if len(text) <= 200 else text[:200] + "…"


def _catalogue(*calculations: Calculation) -> Mapping[str, Calculation]:
    return MappingProxyType({calculation.name: calculation for calculation in calculations})


CATALOGUE: Mapping[str, Calculation] = _catalogue(
    Calculation("parse-length", ParseLength, ParsedLength, parse_length),
    Calculation("compare-lengths", CompareLengths, ComparedLengths, compare_lengths),
    Calculation("check-sheet", CheckSheet, SheetChecked, check_sheet),
    Calculation("comparative-sheet", ComparativeSheet, SheetMade, comparative_sheet),
    Calculation("sheet-spans", SheetSpans, SpansFound, sheet_spans),
    Calculation("fit-setup", FitSetup, SetupFit, fit_setup),
    Calculation("adjust-network", AdjustNetwork, Adjusted, adjust_network),
    Calculation("next-measurement", NextMeasurement, ReadingsRanked, next_measurement),
    Calculation("judge-points", JudgePoints, PointsJudged, judge_points),
    Calculation("read-damage", ReadDamage, DamageRead, read_damage),
    Calculation("decide-member", DecideMember, MemberDecided, decide_member),
    Calculation("pull-statics", PullStatics, PullsHeld, pull_statics),
    Calculation("hold-capacity", HoldCapacity, HoldTakes, hold_capacity),
    Calculation("simulate-frame", SimulateFrame, FrameSimulated, simulate_frame),
    Calculation("next-pull", NextPull, PullAdvised, next_pull),
    Calculation("plan-pulls", PlanPulls, PullsPlanned, plan_pulls),
    Calculation("place-cuts", PlaceCuts, CutsPlaced, place_cuts),
    Calculation("cut-budget", CutBudget, CutBudgeted, cut_budget),
    Calculation("drill-map", DrillMap, WeldsMapped, drill_map),
    Calculation("weld-order", WeldOrder, WeldsOrdered, weld_order),
    Calculation("weld-settings", WeldSettings, SettingsFound, weld_settings),
    Calculation("bond-timeline", BondTimeline, TimelineFound, bond_timeline),
    Calculation("hang-panel", HangPanel, PanelHung, hang_panel),
    Calculation("square-up", SquareUp, SquaredUp, square_up),
    Calculation("check-tool", CheckTool, ToolChecked, check_tool),
    Calculation("job-hours", JobHours, HoursFound, job_hours),
    Calculation("day-plan", DayPlan, DayPlanned, day_plan),
)
