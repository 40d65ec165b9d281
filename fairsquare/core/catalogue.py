"""Every calculation by name: its request, its result, and the pure function between them.

Python, the command line, the API and the pages all reach the same entry, so they give the same answer to the last digit.
"""

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from functools import cached_property
from importlib import import_module
from types import MappingProxyType
from typing import Any, cast

from pydantic import BaseModel, TypeAdapter, ValidationError

from fairsquare.core.errors import FairSquareError, Refused


@dataclass(frozen=True)
class Calculation:
    """One calculation: `function` takes a `request` model (or one of several) and returns a `result` model.

    What it needs is imported when it is first asked for: whoever only wants its name, or another one, does not wait for it. `at`
    says where in core that is, and what the three are called there. Whoever changes the figures of a calculation raises its
    `version`: tests/golden/figures/ holds them to it, and records say by which version they were made.
    """

    name: str
    at: str
    version: int = 1

    @cached_property
    def request(self) -> Any:
        """The model of a request, or the union of several."""
        return self._found(0)

    @cached_property
    def result(self) -> type[BaseModel]:
        """The model of a result."""
        return cast(type[BaseModel], self._found(1))

    @cached_property
    def function(self) -> Callable[[Any], BaseModel]:
        """The pure function between them."""
        return cast(Callable[[Any], BaseModel], self._found(2))

    def _found(self, place: int) -> Any:
        module, *names = self.at.split()
        return getattr(import_module(f"fairsquare.core.{module}"), names[place])

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
        import numpy as np

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
        faults = fault.errors(include_url=False, include_context=False)
        first = faults[0]
        field = ".".join(str(part) for part in first["loc"]) or None
        message = _in_words(first["type"], first["msg"])
        super().__init__(f"{field}: {message}" if field else message, field=field, value=_shown(first["input"]))
        self.found = [
            {
                "field": ".".join(str(part) for part in fault_found["loc"]),
                "value": _shown(fault_found["input"]),
                "message": _in_words(fault_found["type"], fault_found["msg"]),
            }
            for fault_found in faults[:20]
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


CATALOGUE: Mapping[str, Calculation] = MappingProxyType(
    {
        name: Calculation(name, at, *version)
        for name, at, *version in (
            ("parse-length", "lengths ParseLength ParsedLength parse_length"),
            ("compare-lengths", "lengths CompareLengths ComparedLengths compare_lengths"),
            ("check-sheet", "sheet.check CheckSheet SheetChecked check_sheet"),
            ("comparative-sheet", "measure.comparative ComparativeSheet SheetMade comparative_sheet"),
            ("sheet-spans", "sheet.spans SheetSpans SpansFound sheet_spans"),
            ("fit-setup", "measure.setup FitSetup SetupFit fit_setup"),
            ("adjust-network", "measure.adjust AdjustNetwork Adjusted adjust_network"),
            ("next-measurement", "measure.next_reading NextMeasurement ReadingsRanked next_measurement"),
            ("judge-points", "measure.conformity JudgePoints PointsJudged judge_points"),
            ("read-damage", "damage.read ReadDamage DamageRead read_damage", 2),
            ("decide-member", "damage.decide DecideMember MemberDecided decide_member"),
            ("pull-statics", "pull.statics PullStatics PullsHeld pull_statics"),
            ("hold-capacity", "pull.hold HoldCapacity HoldTakes hold_capacity"),
            ("simulate-frame", "structure.simulate SimulateFrame FrameSimulated simulate_frame"),
            ("next-pull", "pull.springback NextPull PullAdvised next_pull"),
            ("plan-pulls", "pull.plan PlanPulls PullsPlanned plan_pulls", 2),
            ("place-cuts", "cut.place PlaceCuts CutsPlaced place_cuts"),
            ("cut-budget", "cut.budget CutBudget CutBudgeted cut_budget"),
            ("drill-map", "cut.drill DrillMap WeldsMapped drill_map"),
            ("weld-order", "weld.order WeldOrder WeldsOrdered weld_order"),
            ("weld-settings", "weld.settings WeldSettings SettingsFound weld_settings"),
            ("bond-timeline", "weld.timeline BondTimeline TimelineFound bond_timeline"),
            ("hang-panel", "fit.hang HangPanel PanelHung hang_panel"),
            ("hang-panels", "fit.panels HangPanels PanelsHung hang_panels"),
            ("square-up", "fit.square SquareUp SquaredUp square_up"),
            ("check-tool", "measure.bar_check CheckTool ToolChecked check_tool"),
            ("job-hours", "plan.hours JobHours HoursFound job_hours"),
            ("day-plan", "plan.day DayPlan DayPlanned day_plan"),
        )
    }
)
