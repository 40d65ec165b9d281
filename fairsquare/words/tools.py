"""What is said of the shop's tools: how far each is to be trusted, and how a check on the bar came out."""

from collections.abc import Mapping
from typing import Any

from fairsquare.words.said import Table

WORDS: Table = {
    "tool.no_calibration": "no calibration is on file",
    "tool.overdue": "calibration overdue since {since}",
    "tool.calibrated": lambda values, _reader: (
        "calibrated {day}" + (", good until {until}" if values["until"] else ", nobody said until when it is good")
    ),
    "tool.unlisted": "not on the shop's list of tools: nothing is known of it",
    "tool.found_bad": lambda values, _reader: (
        f"{'since ' if values['since'] else ''}found bad: check of {{day}} on {{bar}}, {{check}}"
    ),
    "check.good": lambda values, _reader: f"{_reads(values)}, within the {{allowed_mm:fine}} that chance allows",
    "check.again": lambda values, _reader: f"{_reads(values)}, near the limit of {{allowed_mm:fine}}",
    "check.bad": lambda values, _reader: f"{_reads(values)}, more than the {{allowed_mm:fine}} that chance allows",
    "check.scatters": "its readings scatter by {scatter_mm:fine}, more than the {limit_mm:fine} that chance allows",
}


def _reads(values: Mapping[str, Any]) -> str:
    return f"reads {{by_mm:fine}} {'long' if values['long'] else 'short'}"
