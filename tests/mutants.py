"""`./run test mutants [MINUTES] [SEED]`: what measures and what signs is changed in small ways, to see that tests notice.

mutmut makes the changes and runs the tests that reach them. Which functions it is, is by chance: as many as the time allows, 20
minutes where nothing is said; the seed is printed. What no test noticed is shown as a difference. It fails where one of
these is not explained in `tests/survivors.txt`, line by line: the function, a piece of the line as it was changed (both with * for
whatever stands there), and why that is no fault.
"""

import ast
import json
import secrets
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Iterator
from fnmatch import fnmatchcase
from pathlib import Path
from random import Random
from typing import NamedTuple

HERE = Path(__file__).parents[1]
CHANGED = ("fairsquare/core/measure", "fairsquare/job/release")
MUTMUT = str(Path(sys.executable).with_name("mutmut"))
AT_ONCE, LEAST_S = 6, 60.0
KILLED, SURVIVED, UNREACHED = frozenset({1, 3}), frozenset({0}), frozenset({5, 33})


class Survivor(NamedTuple):
    """A change that no test noticed: the function, and the line as it was changed."""

    function: str
    line: str


def functions() -> Iterator[str]:
    """Yield what mutmut calls the changes of each function."""
    for file in sorted(one for folder in CHANGED for one in (HERE / folder).glob("*.py")):
        module = ".".join(file.relative_to(HERE).with_suffix("").parts)
        for node in ast.parse(file.read_text(encoding="utf-8")).body:
            if isinstance(node, ast.FunctionDef):
                yield f"{module}.x_{node.name}__mutmut_*"


def results() -> dict[str, int]:
    """Return how each change fared that was tried."""
    found: dict[str, int] = {}
    for file in (HERE / "mutants").rglob("*.meta"):
        tried = json.loads(file.read_text(encoding="utf-8"))["exit_code_by_key"]
        found |= {name: code for name, code in tried.items() if code is not None}
    return found


def survivor(name: str) -> Survivor:
    """Return a change that no test noticed, as its difference has it."""
    shown = subprocess.run([MUTMUT, "show", name], cwd=HERE, capture_output=True, text=True, check=False).stdout
    sys.stderr.write(shown)
    changed = [line[1:].strip() for line in shown.splitlines() if line.startswith("+") and not line.startswith("+++")]
    return Survivor(name.split("__mutmut_", maxsplit=1)[0].replace(".x_", "."), " ".join(changed))


def explained() -> list[Survivor]:
    """Return the patterns of changes of which it is said why they are no fault."""
    lines = (HERE / "tests" / "survivors.txt").read_text(encoding="utf-8").splitlines()
    return [Survivor(*line.split(" | ")[:2]) for line in lines if line.count(" | ") == 2]


def fits(change: Survivor, pattern: Survivor) -> bool:
    """Say whether a change is one that is explained."""
    return fnmatchcase(change.function, pattern.function) and fnmatchcase(change.line, f"*{pattern.line}*")


def main(minutes: str = "20", seed: str = "") -> int:
    """Try changes for as long as was said; return 1 where one survived that is not explained."""
    until, seed = time.monotonic() + 60 * float(minutes), seed or str(secrets.randbelow(10**6))
    sys.stderr.write(f"· functions by chance, seed {seed}\n")
    names = sorted(functions())
    Random(seed).shuffle(names)
    while names and (left := until - time.monotonic()) > LEAST_S:
        now, names = names[:AT_ONCE], names[AT_ONCE:]
        try:
            subprocess.run([MUTMUT, "run", *now], cwd=HERE, check=False, timeout=left, stdout=subprocess.DEVNULL)
        except subprocess.TimeoutExpired:
            break
    tried = results()
    counts = Counter(tried.values())
    survivors = [survivor(name) for name, code in sorted(tried.items()) if code in SURVIVED]
    unknown = [one for one in survivors if not any(fits(one, pattern) for pattern in explained())]
    killed, unreached = (sum(counts[code] for code in codes) for codes in (KILLED, UNREACHED))
    sys.stderr.write(
        f"· {len(tried)} changes: {killed} noticed, {len(survivors)} not ({len(unknown)} of them not explained), "
        f"{unreached} that no test reaches, {len(tried) - killed - unreached - len(survivors)} without an end\n"
    )
    sys.stderr.writelines(f"  {one.function} | {one.line} | why?\n" for one in unknown)
    return 1 if unknown else 0
