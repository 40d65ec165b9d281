"""`./run test [what]`: format, lint, types and imports, then the tests; or one part of them; or what of core and job they reach.

Tests run on all processors, each module on one of them; those in the browser after the others. Their order is by chance; its
seed is printed, and `--randomly-seed=N` repeats it.
"""

import os
import secrets
import subprocess
import sys

from tests import mutants

LINT = (
    ("ruff", "format", "--check", "."),
    ("ruff", "check", "."),
    ("mypy",),
    ("importlinter",),
)
COVERED = (
    *("--cov=fairsquare.core", "--cov=fairsquare.job", "--cov=fairsquare.words", "--cov-branch"),
    "--cov-report=term:skip-covered",
)
PARTS = ("core", "job", "words", "files", "drawings", "store", "web", "browser")


def main() -> int:
    """Run what was asked and return the exit status of the first that failed."""
    what, rest = (sys.argv[1], sys.argv[2:]) if len(sys.argv) > 1 else ("all", [])
    if what not in (*PARTS, "all", "lint", "coverage", "mutants"):
        sys.stderr.write(
            f"There is no part {what}: choose {', '.join(PARTS)}, lint, coverage, mutants or nothing for all.\n"
        )
        return 2
    if what == "coverage":
        return tested(["core", "job", "words"], [*COVERED, *rest])
    if what == "mutants":
        return mutants.main(*rest)
    failed = 0
    if what in ("all", "lint"):
        for tool in LINT:
            sys.stderr.write(f"· {' '.join(tool)}\n")
            name = ["importlinter.cli"] if tool[0] == "importlinter" else list(tool)
            command = [sys.executable, "-c", "from importlinter.cli import lint_imports_command as c; c()"]
            failed |= subprocess.run(
                command if tool[0] == "importlinter" else [sys.executable, "-m", *name], check=False
            ).returncode
    if what != "lint":
        parts = PARTS if what == "all" else (what,)
        for own in ([part for part in parts if part != "browser"], [part for part in parts if part == "browser"]):
            failed |= tested(own, rest) if own else 0
    return 1 if failed else 0


def tested(parts: list[str], more: list[str]) -> int:
    """Run the tests of some parts, and return the exit status."""
    many = ("-n", str(os.cpu_count() or 1), "--dist", "loadfile", "--no-loadscope-reorder") if "-n" not in more else ()
    folders = [f"tests/{part}" for part in parts]
    order = () if any("randomly" in one for one in more) else (f"--randomly-seed={secrets.randbelow(2**31)}",)
    command = ["pytest", *many, *order, "--durations=20", *folders, *more]
    sys.stderr.write(f"· {' '.join(command)}\n")
    return subprocess.run([sys.executable, "-m", *command], check=False).returncode


if __name__ == "__main__":
    sys.exit(main())
