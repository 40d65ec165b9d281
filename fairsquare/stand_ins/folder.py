"""A watched folder: what can only write files writes its readings there as CSV, and they are posted to the API.

A line holds `job, setup, code, x, y, z` in mm, with `loaded` behind it where it was read under load and `reference` where
it is a reference point. Lines are taken as they are complete; a line that is only half written waits for its end. Each line is
posted once, in the order of the file, whatever is restarted: its key is made of the file's name, its number and its text.
A line that is no reading, or that the server refuses, goes into a file beside it, NAME.refused, with the reason.
"""

import csv
import time
from pathlib import Path
from typing import Any

import httpx

from fairsquare.core.errors import FairSquareError, Refused
from fairsquare.core.lengths import read_length
from fairsquare.stand_ins.client import Line

_PAUSE_S = 0.4
_HOW = "a line is: job, set-up, code, x, y, z, in mm; then loaded or reference"
_WORDS = frozenset({"loaded", "free", "reference", "point"})


class WatchedFolder:
    """One folder; `taken` counts, for each file, the lines that are done with."""

    def __init__(self, folder: Path, line: Line) -> None:
        self._folder, self._line = folder, line
        self.taken: dict[str, int] = {}

    def look(self) -> int:
        """Take every complete new line of every CSV file, in order, and return how many were posted."""
        posted = 0
        for file in sorted(self._folder.glob("*.csv")):
            posted += self._take(file)
        return posted

    def _take(self, file: Path) -> int:
        whole = file.read_bytes().decode("utf-8", errors="replace").removeprefix("\ufeff")
        lines = whole.split("\n")[:-1]
        posted = 0
        for number in range(self.taken.get(file.name, 0), len(lines)):
            text = lines[number].strip()
            if text and not (number == 0 and text.lower().startswith("job")):
                if not self._post(file, number, text):
                    return posted
                posted += 1
            self.taken[file.name] = number + 1
        return posted

    def _post(self, file: Path, number: int, text: str) -> bool:
        """Post one line; return whether it is done with."""
        try:
            job, setup, reading = reading_of_line(text)
        except FairSquareError as fault:
            _refuse(file, number, text, fault.title)
            return True
        already = len(self._line.refused)
        self._line.put_aside(job, setup, [reading], file.stem[:100], f"file {file.name} {number} {text}")
        if not self._line.send():
            self._line.waiting.clear()
            return False
        for _, why in self._line.refused[already:]:
            _refuse(file, number, text, why)
        return True


def reading_of_line(text: str) -> tuple[str, int, dict[str, Any]]:
    """Return the job, the set-up and the reading of a line. Raises `Refused` that says what a line should hold."""
    separator = ";" if text.count(";") >= 5 else "\t" if text.count("\t") >= 5 else ","
    cells = [cell.strip() for cell in next(csv.reader([text], delimiter=separator))]
    if len(cells) < 6 or not cells[1].isdigit():
        raise Refused(f"This is no reading: {_HOW}.", field="line", value=text[:200])
    words = {cell.lower() for cell in cells[6:] if cell}
    if words - _WORDS:
        raise Refused(f"“{min(words - _WORDS)}” is not understood: {_HOW}.", field="line", value=text[:200])
    xyz = [float(read_length(cell, "mm", field="line").mm) for cell in cells[3:6]]
    purpose = "reference" if "reference" in words else "point"
    return cells[0], int(cells[1]), {"code": cells[2], "xyz": xyz, "purpose": purpose, "loaded": "loaded" in words}


def _refuse(file: Path, number: int, text: str, why: str) -> None:
    """Write a line and why it was refused beside its file, once."""
    beside = file.with_suffix(".refused")
    told = f"line {number + 1}: {text}\n"
    if beside.exists() and told in beside.read_text(encoding="utf-8"):
        return
    with beside.open("a", encoding="utf-8") as refused:
        refused.write(f"{told}    {why}\n")


def run(folder: Path, server: str, name: str, password: str) -> int:
    """Watch a folder until it is stopped; keep trying while the server is away."""
    with httpx.Client(base_url=server, timeout=10) as client:
        watched = WatchedFolder(folder, Line(client, name, password))
        while True:
            watched.look()
            time.sleep(_PAUSE_S)
